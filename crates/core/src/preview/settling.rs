//! From drafts to changes: whose claims take effect, who waits, and who clashes.
//!
//! A clash freezes the one value that two claim; everything else that a person gets or loses goes on. A new account,
//! or one that a rule adopts, comes with all of its values or not at all.

use super::change::FieldChanges;
use super::claims::{Claim, Claims, Contest, Fate, Rank};
use super::clash::{Holder, Who, listed};
use super::draft::{Draft, Idle, Leaver, Leaving};
use super::matching::{Decisions, Matching, change};
use super::memory::Grace;
use super::situation::drawn;
use super::{Action, Change, ChangeKind, Clash, Wait};
use crate::account::{Account, folded};
use crate::graph::GroupPath;
use foldhash::HashMap;
use jiff::civil::Date;
use std::ops::Range;

/// Everything that decides about claims.
pub(super) struct Settlement<'m, 'a> {
    pub(super) matching: &'m Matching<'a>,
    pub(super) claims: Claims<'m>,
    contests: Vec<Option<Contest>>,
    /// `login` and the unique fields.
    names: Vec<&'a str>,
    /// The accounts without a candidate, by index.
    leavers: HashMap<usize, &'m Leaver>,
    /// Accounts made by hand that a rule gives to a candidate.
    pub(super) adopted: HashMap<usize, usize>,
}

/// The outcome of a claim that does not take effect.
enum Stopped {
    Clash(Clash),
    Await(Action),
}

impl<'a> Matching<'a> {
    /// Decides which drafts become changes.
    pub(super) fn settle(&self, drafts: Vec<Draft<'a>>, leavers: Vec<Leaver>, decisions: &mut Decisions) {
        let names: Vec<&str> = self.unique_names().collect();
        let (mut claims, mut theirs) = (Vec::new(), Vec::new());
        for draft in &drafts {
            let start = claims.len();
            claims.extend(self.claims_of(draft, &names));
            theirs.push(start..claims.len());
        }
        for leaver in &leavers {
            let start = claims.len();
            claims.extend(self.claims_of_leaver(leaver, &names));
            theirs.push(start..claims.len());
        }
        let by_account: HashMap<usize, &Leaver> = leavers.iter().map(|one| (one.at, one)).collect();
        let fate = |at: usize| by_account.get(&at).map_or(Fate::Stays, |leaver| leaver.fate);
        let claims = Claims::of(claims, &names, self.accounts, fate);
        let is_adopted = |draft: &&Draft<'_>| draft.idle.is_none() && self.linked(draft.index).is_none();
        let adopted =
            drafts.iter().filter(is_adopted).filter_map(|draft| Some((draft.account?, draft.index)));
        let settlement = Settlement {
            matching: self,
            contests: claims.contests(fate),
            claims,
            names,
            leavers: by_account,
            adopted: adopted.collect(),
        };
        let mut ranges = theirs.into_iter();
        for draft in &drafts {
            settlement.emit(draft, ranges.next().unwrap_or_default(), decisions);
        }
        for (leaver, range) in leavers.iter().zip(ranges) {
            settlement.emit_leaver(leaver, range, decisions);
        }
    }

    /// The claims of a candidate.
    fn claims_of<'d>(&self, draft: &'d Draft<'a>, names: &[&'a str]) -> Vec<Claim<'d>> {
        let (part, candidate) = draft.chosen;
        let linked = self.linked(draft.index).is_some();
        let rank = match (&draft.idle, linked) {
            (Some(_), _) => Rank::Idle,
            (None, true) => Rank::Own,
            (None, false) => Rank::Together,
        };
        let claim = |(field, name): (usize, &&'a str)| {
            let changed = draft.fields.get(*name).map(|change| change.new.as_deref().unwrap_or_default());
            // Somebody who takes over an account claims what it has already, too.
            let value = match changed {
                Some(value) => value,
                None if linked => return None,
                None => drawn(part, candidate, name),
            };
            let is_claim = !value.trim().is_empty() || (changed.is_some() && draft.account.is_some());
            let (person, account, value) = (draft.index, draft.account, folded(value));
            is_claim.then_some(Claim { person, account, field, value, rank })
        };
        names.iter().enumerate().filter_map(claim).collect()
    }

    /// The claims of somebody who is out.
    fn claims_of_leaver<'d>(&self, leaver: &'d Leaver, names: &[&'a str]) -> Vec<Claim<'d>> {
        if leaver.fate == Fate::Goes {
            return Vec::new();
        }
        let claim = |(field, name): (usize, &&'a str)| {
            let value = folded(leaver.refresh.get(*name)?.new.as_deref().unwrap_or_default());
            let person = self.candidates.len() + leaver.at;
            Some(Claim { person, account: Some(leaver.at), field, value, rank: Rank::Out })
        };
        names.iter().enumerate().filter_map(claim).collect()
    }
}

impl<'a> Settlement<'_, 'a> {
    /// The changes that come of a draft.
    fn emit(&self, draft: &Draft<'a>, range: Range<usize>, decisions: &mut Decisions) {
        let mut stopped = range.clone().filter_map(|claim| Some((claim, self.stopped(draft, claim)?)));
        let mut fields = draft.fields.clone();
        match &draft.idle {
            Some(Idle::Held(held)) => {
                decisions.held.push(held.clone());
                return;
            }
            Some(Idle::Clash(clash)) => {
                let is_drawn = |stopped: &Stopped| matches!(stopped, Stopped::Clash(Clash::SameDrawn { .. }));
                let drawn = stopped.find(|(_, stopped)| is_drawn(stopped)).map(|(_, stopped)| stopped);
                let stopped = drawn.unwrap_or_else(|| Stopped::Clash(clash.clone()));
                decisions.changes.push(self.stop(draft, stopped, range));
                return;
            }
            None if self.matching.linked(draft.index).is_none() => {
                let mut all: Vec<Stopped> = stopped.map(|(_, stopped)| stopped).collect();
                // A clash goes before a wait, and the longest wait before others.
                let until = |stopped: &Stopped| match stopped {
                    Stopped::Await(Action::Await { wait, .. }) => wait.grace.until,
                    _ => Date::MAX,
                };
                let last = (0..all.len()).rev().max_by_key(|at| all.get(*at).map(until));
                if let Some(at) = last {
                    decisions.changes.push(self.stop(draft, all.swap_remove(at), range));
                    return;
                }
            }
            None => {
                for (claim, stopped) in stopped {
                    let field = self.claims.all().get(claim).and_then(|claim| self.names.get(claim.field));
                    field.into_iter().for_each(|field| drop(fields.shift_remove(*field)));
                    decisions.changes.push(self.stop(draft, stopped, range.clone()));
                }
            }
        }
        if !fields.is_empty() {
            let login = self.login(draft);
            decisions.changes.push(change(draft.chosen, self.action(draft), login, fields));
        }
    }

    /// The login of a draft's account, current or future.
    fn login(&self, draft: &Draft<'_>) -> String {
        let account = draft.account.and_then(|at| self.matching.accounts.get(at));
        account.map_or(draft.chosen.1.proposal.login(), |account| &account.login).to_owned()
    }

    fn action(&self, draft: &Draft<'_>) -> Action {
        let candidate = draft.chosen.1;
        match draft.kind {
            ChangeKind::Import => {
                Action::Import { had: self.matching.memory.known.get(&candidate.identity).cloned() }
            }
            ChangeKind::Adopt => {
                let account = draft.account.and_then(|at| self.matching.accounts.get(at));
                let former = account.filter(|account| account.link.is_some());
                Action::Adopt { former: former.map(|account| self.former(account)) }
            }
            ChangeKind::Restore => Action::Restore,
            _ => Action::Update,
        }
    }

    /// The former owner of an account that gets another link.
    fn former(&self, account: &Account) -> Who {
        let link = account.link.as_ref();
        let left = link.and_then(|link| self.matching.dropped().get(link)?.first());
        let place = || link.map(|link| self.matching.whereabouts(link)).unwrap_or_default();
        let (cause, dn) = match left {
            Some((part, one)) => (
                Some(super::leaving::cause_of(one.step)),
                part.reading.people().get(one.person).map(|entry| entry.dn().to_owned()),
            ),
            None => place(),
        };
        match (cause, link) {
            (Some(cause), _) => Who::Out { dn, cause, since: None },
            (None, Some(link)) => Who::Unknown { link: link.clone() },
            (None, None) => Who::ByHand,
        }
    }

    /// The change that stands for something that does not happen.
    fn stop(&self, draft: &Draft<'a>, stopped: Stopped, range: Range<usize>) -> Change {
        let action = match stopped {
            Stopped::Await(action) => action,
            Stopped::Clash(clash) => {
                let ways = self.ways(draft, &clash, range);
                Action::Clash(clash, ways)
            }
        };
        change(draft.chosen, action, self.login(draft), FieldChanges::new())
    }

    /// The outcome of a claim; `None` if it takes effect, or if only another claim of the person is in the way.
    fn stopped(&self, draft: &Draft<'a>, claim: usize) -> Option<Stopped> {
        let field = *self.names.get(self.claims.all().get(claim)?.field)?;
        let (part, candidate) = draft.chosen;
        let value = match draft.fields.get(field) {
            Some(change) => change.new.clone().unwrap_or_default(),
            None => drawn(part, candidate, field).to_owned(),
        };
        let same = |others: Vec<String>| {
            Stopped::Clash(Clash::SameDrawn { field: field.to_owned(), value: value.clone(), others })
        };
        let at = match self.contests.get(claim)?.as_ref()? {
            Contest::Rivals(rivals) => {
                let people = rivals.iter().filter_map(|rival| Some(self.claims.all().get(*rival)?.person));
                return Some(same(listed(people.filter_map(|person| self.matching.dn_of(person)))));
            }
            Contest::Kept(at) | Contest::Until(at, _) => *at,
        };
        let holder = self.holder(at, field)?;
        if self.matching.anew.get(&draft.index) == Some(&at) {
            let same = self.matching.same_values(draft.index, at);
            return Some(Stopped::Clash(Clash::MadeAnew { holder, same }));
        }
        let owner = self.matching.holder(at).or_else(|| self.adopted.get(&at).copied());
        let owner = owner.and_then(|index| Some((index, self.matching.candidates.get(index)?)));
        if let Some((index, (part, other))) = owner
            && folded(drawn(*part, other, field)) == folded(&value)
        {
            return Some(same(self.matching.dn_of(index).into_iter().collect()));
        }
        Some(match self.contests.get(claim)?.as_ref()? {
            Contest::Until(_, until) => {
                let since = self.leavers.get(&at).and_then(|leaver| leaver.since);
                let grace = Grace { since: since.unwrap_or(self.matching.memory.today), until: *until };
                let wait = Wait { grace, then: draft.kind };
                Stopped::Await(Action::Await { field: field.to_owned(), holder, wait })
            }
            _ => Stopped::Clash(Clash::Taken { field: field.to_owned(), value, holder }),
        })
    }

    /// The account that has the value of `field`, with its owner.
    pub(super) fn holder(&self, at: usize, field: &str) -> Option<Holder> {
        let account = self.matching.accounts.get(at)?;
        let owner = self.matching.holder(at).or_else(|| self.adopted.get(&at).copied());
        let who = match (
            owner.and_then(|index| self.matching.dn_of(index)),
            &account.link,
            self.leavers.get(&at),
        ) {
            _ if self.matching.is_protected(account) => Who::Protected,
            (Some(dn), _, _) => {
                let field = self.names.iter().position(|name| *name == field);
                Who::In { dn, is_stuck: field.is_some_and(|field| self.claims.is_stuck(at, field)) }
            }
            (None, None, _) => Who::ByHand,
            (None, Some(link), leaver) => match leaver.map(|leaver| (leaver, leaver.cause)) {
                Some((leaver, Some(cause))) => Who::Out { dn: leaver.dn.clone(), cause, since: leaver.since },
                _ => Who::Unknown { link: link.clone() },
            },
        };
        Some(Holder { account: account.login.clone(), who })
    }

    /// The changes to the account of somebody who is out.
    fn emit_leaver(&self, leaver: &Leaver, range: Range<usize>, decisions: &mut Decisions) {
        let mut refresh = leaver.refresh.clone();
        for claim in range.filter(|claim| !self.claims.is_free(*claim)) {
            let field = self.claims.all().get(claim).and_then(|claim| self.names.get(claim.field));
            field.into_iter().for_each(|field| drop(refresh.shift_remove(*field)));
        }
        let mut is_refreshed = false;
        if let (Some(account), Some(cause), false) = (
            self.matching.accounts.get(leaver.at),
            leaver.cause,
            leaver.fate == Fate::Goes || refresh.is_empty(),
        ) {
            is_refreshed = true;
            match &leaver.outcome {
                Leaving::Change(change) if change.kind() == ChangeKind::Suspend => {
                    let mut change = (**change).clone();
                    change.fields.extend(refresh);
                    decisions.changes.push(change);
                    return;
                }
                _ => decisions.changes.push(Change {
                    action: Action::Refresh(cause),
                    login: account.login.clone(),
                    dn: leaver.dn.clone(),
                    link: account.link.clone(),
                    fields: refresh,
                    path: GroupPath::default(),
                }),
            }
        }
        match &leaver.outcome {
            Leaving::Change(change) => decisions.changes.push((**change).clone()),
            Leaving::Held(held) => decisions.held.push(held.clone()),
            Leaving::Unchanged => decisions.unchanged += usize::from(!is_refreshed),
        }
    }
}
