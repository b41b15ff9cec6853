//! What happens to linked accounts that no candidate claims: decided by cause, and only with the proof that every
//! reading is whole.

use super::change::{FieldChange, FieldChanges};
use super::claims::Fate;
use super::draft::{Leaver, Leaving, Left};
use super::fresh::may_lag;
use super::matching::{Decisions, Matching};
use super::origins;
use super::situation::Selected;
use super::{Action, Cause, Change, ChangeKind, Departure, Held, HeldReason, Wait};
use crate::account::{Account, Effect, State, counted_rows};
use crate::graph::GroupPath;
use crate::ldap::identity::Identity;
use crate::ldap::name::short;
use crate::reading::{Reading, Whereabouts, Whole};
use crate::selection::{Dropped, Reason, Step};
use crate::settings::{Intake, LeavingAction, LeavingRule};
use fixedbitset::FixedBitSet;
use foldhash::HashMap;
use smallvec::SmallVec;

/// Linked accounts so many that their people cannot all have left while others are there.
const MANY: usize = 20;

impl<'a> Matching<'a> {
    /// Decides for every linked account without a candidate.
    pub(super) fn leavers(&self, claimed: &FixedBitSet, decisions: &mut Decisions) -> Vec<Leaver> {
        let whole = self.whole();
        let is_other = self.are_other_links();
        let mut leavers = Vec::new();
        for (at, account) in self.accounts.iter().enumerate() {
            let Some(link) = account.link.as_ref().filter(|_| !claimed.contains(at)) else { continue };
            if self.is_of_others(link) {
                continue;
            }
            let leaver = |outcome| Leaver {
                at,
                dn: None,
                cause: None,
                since: self.memory.missed.get(link).copied(),
                fate: Fate::Stays,
                outcome,
                refresh: FieldChanges::new(),
            };
            if is_other {
                let (login, reason) = (account.login.clone(), HeldReason::OtherLinks);
                let held = Held { login, dn: None, cause: None, would: None, reason, about: None };
                leavers.push(leaver(Leaving::Held(held)));
                continue;
            }
            let left = self.dropped().get(link).map(SmallVec::as_slice).unwrap_or_default();
            leavers.push(self.leave_one(link, left, whole, leaver(Leaving::Unchanged), decisions));
        }
        leavers
    }

    fn is_of_one(&self) -> bool {
        self.parts.iter().any(|part| part.reading.is_of_one())
    }

    /// True for the account of somebody whom a reading of one person is not about.
    fn is_of_others(&self, link: &Identity) -> bool {
        self.is_of_one()
            && !self.dropped().contains_key(link)
            && self.parts.iter().all(|part| part.reading.whereabouts(link).is_none())
    }

    /// Whether many accounts are linked, and none of them to anybody whom a directory shows: then the links are not
    /// of this attribute, or not of these directories.
    fn are_other_links(&self) -> bool {
        let links = || self.accounts.iter().filter_map(|account| account.link.as_ref());
        let is_somebodys = |link| {
            self.dropped().contains_key(link) || matches!(self.whereabouts(link), (Some(Cause::Outside), _))
        };
        !self.is_of_one()
            && links().count() >= MANY
            && self.parts.iter().any(|part| !part.reading.people().is_empty())
            && !self.has_links()
            && !links().any(is_somebodys)
    }

    /// The people who dropped out, with the intake in which they got furthest first.
    pub(super) fn dropped(&self) -> &HashMap<Identity, SmallVec<[Left<'a>; 1]>> {
        self.dropped.get_or_init(|| {
            let mut dropped: HashMap<Identity, SmallVec<[Left<'a>; 1]>> = HashMap::default();
            let origin = self.settings.accounts.origin.as_ref();
            let linked = self.accounts.iter().filter(|_| origin.is_some());
            let by_link: HashMap<&Identity, &Account> =
                linked.filter_map(|account| Some((account.link.as_ref()?, account))).collect();
            for part in self.parts {
                let (people, attribute) = (part.reading.people(), &part.reading.source().identity);
                for one in &part.selection.dropped {
                    let entry = people.get(one.person);
                    let Some(identity) = entry.and_then(|entry| Identity::of(entry, attribute)) else {
                        continue;
                    };
                    // Another directory's word does not count.
                    let directory = &part.intake.directory;
                    let account = by_link.get(&identity).copied();
                    if origins::other(self.settings, self.memory, account, &identity, directory).is_some() {
                        continue;
                    }
                    let all = dropped.entry(identity).or_default();
                    let further = all.iter().position(|(_, known)| known.step < one.step);
                    all.insert(further.unwrap_or(all.len()), (*part, one));
                }
            }
            dropped
        })
    }

    fn leave_one(
        &self,
        link: &Identity,
        left: &[Left<'_>],
        whole: Option<&Whole>,
        leaver: Leaver,
        decisions: &mut Decisions,
    ) -> Leaver {
        let Some(account) = self.accounts.get(leaver.at) else { return leaver };
        let known = left.first().copied();
        let (cause, dn) = match known {
            Some((part, dropped)) => (
                Some(cause_of(dropped.step)),
                part.reading.people().get(dropped.person).map(|one| one.dn().to_owned()),
            ),
            None => self.whereabouts(link),
        };
        let held = |cause, would, reason, about| {
            let (login, dn) = (account.login.clone(), dn.clone());
            Leaving::Held(Held { login, dn, cause, would, reason, about })
        };
        let Some(proof) = whole else {
            // A partial reading cannot even give the cause: the missing part may be the reason.
            let outcome = held(None, None, HeldReason::NotWhole, None);
            return Leaver { outcome, dn, ..leaver };
        };
        let rule = cause.map(|cause| self.leaving_rule(known.map(|(part, _)| part), cause));
        let would = rule.and_then(|rule| action(rule, account));
        let reason = match account.state {
            _ if self.is_protected(account) => Some((HeldReason::Protected, None)),
            State::Other => Some((HeldReason::OtherState, Some(account.state_word().to_owned()))),
            _ => self.uncertain(link, would.is_some()).map(|reason| (reason, None)),
        };
        if let Some((reason, about)) = reason {
            let outcome = held(cause, would, reason, about);
            return Leaver { outcome, dn, cause, ..leaver };
        }
        let Some((cause, rule)) = cause.zip(rule) else {
            let outcome = held(None, None, HeldReason::NotLookedUp, None);
            return Leaver { outcome, dn, ..leaver };
        };
        let refresh = self.refreshed(account, link, left);
        let leaver = Leaver { cause: Some(cause), refresh, ..leaver };
        let Some(then) = would else {
            // Suspended already, or kept.
            let outcome = match rule.action {
                LeavingAction::Keep => held(Some(cause), None, HeldReason::Kept, None),
                _ => Leaving::Unchanged,
            };
            return Leaver { outcome, dn, ..leaver };
        };
        let since = leaver.since.unwrap_or(self.memory.today);
        decisions.missed.insert(link.clone(), since);
        let grace = self.memory.grace(link, rule.after_days);
        if grace.is_none() && then == ChangeKind::Remove && self.asked_about.contains(&leaver.at) {
            let outcome = held(Some(cause), Some(then), HeldReason::MadeAnew, None);
            return Leaver { outcome, dn, ..leaver };
        }
        let evidence = self.evidence(known.map(|(part, _)| part), cause);
        let departure = Departure::of(cause, detail(known, cause), evidence);
        let leaver = Leaver { dn, ..leaver };
        match grace {
            Some(grace) => self.waiting(leaver, proof, (departure, Wait { grace, then })),
            None if then == ChangeKind::Suspend => self.suspended(leaver, proof, departure),
            None => self.removed(leaver, proof, departure, rule),
        }
    }

    /// An account whose days of grace are running.
    fn waiting(&self, leaver: Leaver, proof: &Whole, (departure, wait): (Departure, Wait)) -> Leaver {
        let fate = match wait.then {
            ChangeKind::Remove => Fate::GoesOn(wait.grace.until),
            _ => Fate::Stays,
        };
        self.going(leaver, proof, Action::Wait(departure, wait), fate)
    }

    fn suspended(&self, leaver: Leaver, proof: &Whole, departure: Departure) -> Leaver {
        self.going(leaver, proof, Action::Suspend(departure), Fate::Stays)
    }

    /// An account that is to be deleted, unless rows of other tables forbid it.
    fn removed(&self, leaver: Leaver, proof: &Whole, departure: Departure, rule: LeavingRule) -> Leaver {
        let Some(account) = self.accounts.get(leaver.at) else { return leaver };
        let dependents = self.replies.map(|replies| replies.dependents(&account.login)).unwrap_or_default();
        let refusing = dependents.iter().filter(|rows| rows.effect == Effect::Refused);
        let refusing = counted_rows(refusing);
        match rule.refused {
            _ if refusing.is_empty() => {
                let or_suspended = rule.refused == Some(LeavingAction::Suspend);
                let departure = Departure { dependents: dependents.to_vec(), or_suspended, ..departure };
                self.going(leaver, proof, Action::Remove(departure), Fate::Goes)
            }
            // Suspended already: there is nothing else to do.
            Some(_) if account.state == State::Suspended => Leaver { outcome: Leaving::Unchanged, ..leaver },
            Some(_) => {
                let detail = format!("the database refuses to remove it: referred to by {refusing}");
                self.suspended(leaver, proof, Departure { detail: Some(detail), ..departure })
            }
            None => {
                let (login, dn, cause) = (account.login.clone(), leaver.dn.clone(), Some(departure.cause));
                let (would, reason) = (Some(ChangeKind::Remove), HeldReason::Dependents);
                let held = Held { login, dn, cause, would, reason, about: Some(refusing) };
                Leaver { outcome: Leaving::Held(held), ..leaver }
            }
        }
    }

    /// The change to the account of somebody who leaves.
    fn going(&self, leaver: Leaver, proof: &Whole, action: Action, fate: Fate) -> Leaver {
        let Some(account) = self.accounts.get(leaver.at) else { return leaver };
        let fields = self.lost(&action, account);
        let change = Change { dn: leaver.dn.clone(), ..leave(proof, action, account, fields) };
        Leaver { outcome: Leaving::Change(Box::new(change)), fate, ..leaver }
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
    pub(super) fn whole(&self) -> Option<&Whole> {
        let proofs: Option<Vec<&Whole>> = self.parts.iter().map(|part| part.reading.whole()).collect();
        proofs.filter(|all| all.len() == self.settings.intakes.count())?.first().copied()
    }

    /// The place of a person whom no intake found: gone only if each directory says so.
    pub(super) fn whereabouts(&self, link: &Identity) -> (Option<Cause>, Option<String>) {
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
    fn lost(&self, action: &Action, account: &Account) -> FieldChanges {
        match action {
            Action::Wait(..) => return FieldChanges::new(),
            Action::Suspend(_) => {
                return FieldChanges::from([("state".to_owned(), FieldChange::of("active", "suspended"))]);
            }
            _ => {}
        }
        let names = self.settings.account_fields().into_iter();
        let gone = |name: &str| FieldChange { old: Some(account.field(name).to_owned()), new: None };
        names.map(|name| (name.to_owned(), gone(name))).collect()
    }

    /// The rule for a cause: of the intake that knows the person, or else the most cautious one.
    pub(super) fn leaving_rule(&self, part: Option<Selected<'_>>, cause: Cause) -> LeavingRule {
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

pub(super) fn cause_of(step: Step) -> Cause {
    match step {
        Step::Active => Cause::Disabled,
        Step::Complete => Cause::Incomplete,
        Step::Found | Step::Listed | Step::Groups | Step::NotInGroup | Step::Earlier => Cause::Outside,
    }
}

/// The only place that takes an account away; it cannot be called without the proof.
fn leave(_proof: &Whole, action: Action, account: &Account, fields: FieldChanges) -> Change {
    let (login, link) = (account.login.clone(), account.link.clone());
    Change { action, login, dn: None, link, fields, path: GroupPath::default() }
}
