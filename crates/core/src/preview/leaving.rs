//! What happens to linked accounts that no candidate claims: decided by cause, and only with the proof that every
//! reading is whole.

use super::fresh::may_lag;
use super::matching::{Decisions, Matching, changed};
use super::origins;
use super::situation::Selected;
use super::{Action, Cause, Change, ChangeKind, Departure, FieldChange, Held, HeldReason, Wait};
use crate::account::{Account, State};
use crate::graph::GroupPath;
use crate::ldap::identity::Identity;
use crate::ldap::name::short;
use crate::reading::{Reading, Whereabouts, Whole};
use crate::selection::{Dropped, Reason, Step};
use crate::settings::{Intake, LeavingAction, LeavingRule};
use fixedbitset::FixedBitSet;
use foldhash::HashMap;
use indexmap::IndexMap;
use std::collections::hash_map::Entry as Slot;

/// Linked accounts so many that their people cannot all have left while others are there.
const MANY: usize = 20;

/// A person who dropped out of an intake.
type Left<'a> = (Selected<'a>, &'a Dropped);

impl Matching<'_> {
    /// Decides for every linked account that no candidate claims.
    pub(super) fn leaving(&self, claimed: &FixedBitSet, decisions: &mut Decisions) {
        let dropped = self.dropped();
        let whole = self.whole();
        let is_other = self.are_other_links(&dropped);
        for (at, account) in self.accounts.iter().enumerate() {
            let Some(link) = account.link.as_ref().filter(|_| !claimed.contains(at)) else { continue };
            if is_other {
                let (login, reason) = (account.login.clone(), HeldReason::OtherLinks);
                let held = Held { login, dn: None, cause: None, would: None, reason, about: None };
                decisions.held.push(held);
                continue;
            }
            self.leave_one(account, link, dropped.get(link).copied(), whole, decisions);
        }
    }

    /// Whether many accounts are linked, and none of them to anybody whom a directory shows: then the links are not
    /// of this attribute, or not of these directories.
    fn are_other_links(&self, dropped: &HashMap<Identity, Left<'_>>) -> bool {
        let links = || self.accounts.iter().filter_map(|account| account.link.as_ref());
        let is_somebodys =
            |link| dropped.contains_key(link) || matches!(self.whereabouts(link), (Some(Cause::Outside), _));
        links().count() >= MANY
            && self.parts.iter().any(|part| !part.reading.people().is_empty())
            && !self.has_links()
            && !links().any(is_somebodys)
    }

    /// The people who dropped out. If several intakes know a person, the one counts in which they got furthest.
    fn dropped(&self) -> HashMap<Identity, Left<'_>> {
        let mut dropped: HashMap<Identity, Left<'_>> = HashMap::default();
        let origin = self.settings.accounts.origin.as_ref();
        let linked = self.accounts.iter().filter(|_| origin.is_some());
        let by_link: HashMap<&Identity, &Account> =
            linked.filter_map(|account| Some((account.link.as_ref()?, account))).collect();
        for part in self.parts {
            let (people, attribute) = (part.reading.people(), &part.reading.source().identity);
            for one in &part.selection.dropped {
                let entry = people.get(one.person);
                let Some(identity) = entry.and_then(|entry| Identity::of(entry, attribute)) else { continue };
                // Another directory's word does not count.
                let directory = &part.intake.directory;
                let account = by_link.get(&identity).copied();
                if origins::other(self.settings, self.memory, account, &identity, directory).is_some() {
                    continue;
                }
                match dropped.entry(identity) {
                    Slot::Vacant(slot) => drop(slot.insert((*part, one))),
                    Slot::Occupied(mut slot) if slot.get().1.step < one.step => {
                        slot.insert((*part, one));
                    }
                    Slot::Occupied(_) => {}
                }
            }
        }
        dropped
    }

    fn leave_one(
        &self,
        account: &Account,
        link: &Identity,
        known: Option<Left<'_>>,
        whole: Option<&Whole>,
        decisions: &mut Decisions,
    ) {
        let (cause, dn) = match known {
            Some((part, dropped)) => (
                Some(cause_of(dropped.step)),
                part.reading.people().get(dropped.person).map(|one| one.dn().to_owned()),
            ),
            None => self.whereabouts(link),
        };
        let Some(proof) = whole else {
            // A partial reading cannot even give the cause: the missing part may be the reason.
            let (login, reason) = (account.login.clone(), HeldReason::NotWhole);
            decisions.held.push(Held { login, dn, cause: None, would: None, reason, about: None });
            return;
        };
        let held = |would, reason| Held {
            login: account.login.clone(),
            dn: dn.clone(),
            cause,
            would,
            reason,
            about: None,
        };
        let rule = cause.map(|cause| self.leaving_rule(known.map(|(part, _)| part), cause));
        let would = rule.and_then(|rule| action(rule, account));
        if self.is_protected(account) {
            decisions.held.push(held(would, HeldReason::Protected));
            return;
        }
        if let Some(reason) = self.uncertain(link, would.is_some()) {
            decisions.held.push(held(would, reason));
            return;
        }
        let Some((cause, rule)) = cause.zip(rule) else {
            decisions.held.push(held(None, HeldReason::NotLookedUp));
            return;
        };
        match would {
            Some(then) => {
                let since = self.memory.missed.get(link).copied().unwrap_or(self.memory.today);
                decisions.missed.insert(link.clone(), since);
                let grace = self.memory.grace(link, rule.after_days);
                let evidence = self.evidence(known.map(|(part, _)| part), cause);
                let departure = Departure { cause, detail: detail(known, cause), evidence };
                let action = match (grace, then) {
                    (Some(grace), then) => Action::Wait(departure, Wait { grace, then }),
                    (None, ChangeKind::Suspend) => Action::Suspend(departure),
                    (None, _) => Action::Remove(departure),
                };
                let fields = self.lost(&action, account);
                decisions.changes.push(Change { dn, ..leave(proof, action, account, fields) });
            }
            None if rule.action == LeavingAction::Keep => decisions.held.push(held(None, HeldReason::Kept)),
            None => decisions.unchanged += 1, // suspended already
        }
    }

    /// The reason to leave a person alone though the reading is whole.
    fn uncertain(&self, link: &Identity, would_leave: bool) -> Option<HeldReason> {
        let any = |is: fn(&Reading, &Identity) -> bool| self.parts.iter().any(|part| is(part.reading, link));
        if any(Reading::is_shared) {
            return Some(HeldReason::SharedIdentity);
        }
        if any(Reading::is_moving) && self.lacks_a_group(link) {
            return Some(HeldReason::Moving);
        }
        if would_leave && any(Reading::is_doubted) {
            return Some(HeldReason::JudgedOtherwise);
        }
        (would_leave && may_lag(self.parts, self.memory, link)).then_some(HeldReason::Lagging)
    }

    /// Whether an intake leaves a person out as a member of none of its groups.
    fn lacks_a_group(&self, link: &Identity) -> bool {
        self.parts.iter().any(|part| {
            let (people, attribute) = (part.reading.people(), &part.reading.source().identity);
            let of = |one: &Dropped| Identity::of(people.get(one.person)?, attribute);
            let dropped = &part.selection.dropped;
            dropped.iter().any(|one| one.step == Step::Groups && of(one).as_ref() == Some(link))
        })
    }

    /// The proof that every intake's reading is whole; `None` if one was not read at all.
    fn whole(&self) -> Option<&Whole> {
        let proofs: Option<Vec<&Whole>> = self.parts.iter().map(|part| part.reading.whole()).collect();
        proofs.filter(|all| all.len() == self.settings.intakes.count())?.first().copied()
    }

    /// The place of a person whom no intake found: gone only if each directory says so.
    fn whereabouts(&self, link: &Identity) -> (Option<Cause>, Option<String>) {
        let mut is_known = true;
        for part in self.parts {
            match part.reading.whereabouts(link) {
                Some(Whereabouts::Elsewhere(dn)) => return (Some(Cause::Outside), Some(dn.clone())),
                Some(Whereabouts::Nowhere) => {}
                None => is_known = false,
            }
        }
        (is_known.then_some(Cause::Gone), None)
    }

    /// The evidence that a person leaves, in words.
    fn evidence(&self, known: Option<Selected<'_>>, cause: Cause) -> String {
        let seen = match (known, cause) {
            (Some(_), _) => "the entry was shown".to_owned(),
            (None, Cause::Gone) => {
                let first = self.parts.first().map_or("", |part| part.reading.source().identity.as_str());
                format!("a search by {first} finds other people's entries, and not this one")
            }
            (None, _) => "the entry was shown outside the bases or the filter".to_owned(),
        };
        let counts = |part: &Selected<'_>| {
            let (now, before) = part.reading.footprint().zip(part.reading.footprint_before())?;
            Some(format!("{} people now, {} at the last apply", now.all_people(), before.all_people()))
        };
        let before = match known {
            Some(part) => counts(&part),
            None => self.parts.iter().find_map(counts),
        };
        let before = before.unwrap_or_else(|| "no earlier apply to compare with".to_owned());
        format!("everything was read to its end; {seen}; {before}")
    }

    /// The fields of a leaving account afterwards: none, or another state.
    fn lost(&self, action: &Action, account: &Account) -> IndexMap<String, FieldChange> {
        match action {
            Action::Wait(..) => return IndexMap::new(),
            Action::Suspend(_) => {
                return IndexMap::from([("state".to_owned(), changed("active", "suspended"))]);
            }
            _ => {}
        }
        let names = self.settings.account_fields().into_iter();
        let gone = |name: &str| FieldChange { old: Some(account.field(name).to_owned()), new: None };
        names.map(|name| (name.to_owned(), gone(name))).collect()
    }

    /// The rule for a cause: of the intake that knows the person, or else the most cautious one.
    fn leaving_rule(&self, part: Option<Selected<'_>>, cause: Cause) -> LeavingRule {
        let own = |intake: &Intake| match cause {
            Cause::Gone => intake.leaving.gone,
            Cause::Outside => intake.leaving.outside,
            Cause::Disabled => intake.leaving.disabled,
            Cause::Incomplete => intake.leaving.incomplete,
        };
        let careful = |rule: &LeavingRule| {
            let weight = match rule.action {
                LeavingAction::Keep => 2,
                LeavingAction::Suspend => 1,
                LeavingAction::Remove => 0,
            };
            (weight, rule.after_days)
        };
        match part {
            Some(part) => own(part.intake),
            None => {
                let rules = self.settings.intakes.iter().map(own);
                rules.max_by_key(careful).unwrap_or_else(|| own(&self.settings.intakes.first))
            }
        }
    }
}

/// Why the person is outside, in words.
fn detail(known: Option<(Selected<'_>, &Dropped)>, cause: Cause) -> Option<String> {
    let Some((part, dropped)) = known else {
        let words = "the entry is under no base, or the filter does not match it";
        return (cause == Cause::Outside).then(|| words.to_owned());
    };
    match (&dropped.reason, dropped.step) {
        (Reason::NotActive(Some(otherwise)), _) => Some((*otherwise).to_owned()),
        (_, Step::Listed) => Some("not in only, or in except, in the settings".to_owned()),
        (_, Step::Groups) => Some("in none of the groups".to_owned()),
        (_, Step::NotInGroup) => {
            let path = part.selection.excluding_path(part.reading, dropped.person);
            Some(format!("in {}", path.told(short).join(" > ")))
        }
        _ => None,
    }
}

/// What a rule does to an account; `None` if nothing.
fn action(rule: LeavingRule, account: &Account) -> Option<ChangeKind> {
    match rule.action {
        LeavingAction::Remove => Some(ChangeKind::Remove),
        LeavingAction::Suspend if account.state == State::Active => Some(ChangeKind::Suspend),
        LeavingAction::Suspend | LeavingAction::Keep => None,
    }
}

fn cause_of(step: Step) -> Cause {
    match step {
        Step::Active => Cause::Disabled,
        Step::Complete => Cause::Incomplete,
        Step::Found | Step::Listed | Step::Groups | Step::NotInGroup | Step::Earlier => Cause::Outside,
    }
}

/// The only place that takes an account away; it cannot be called without the proof.
fn leave(_proof: &Whole, action: Action, account: &Account, fields: IndexMap<String, FieldChange>) -> Change {
    let (login, link) = (account.login.clone(), account.link.clone());
    Change { action, login, dn: None, link, fields, path: GroupPath::default() }
}
