//! Which person an unlinked account is given to: as the settings say for one account, or for all.

use super::clash::{Clash, listed};
use super::matching::Matching;
use super::situation::{Chosen, drawn};
use crate::settings::{Adopt, MatchBy};
use foldhash::HashMap;

/// The account made by hand that is given to a candidate, if any, or the clash over it.
type Match = Result<Option<usize>, Clash>;

impl Matching<'_> {
    /// For each candidate without a linked account: the account made by hand that becomes theirs, or the clash over
    /// it. No account is given to two people.
    pub(super) fn adoptions(&self) -> HashMap<usize, Match> {
        let mut wanted: HashMap<usize, Vec<usize>> = HashMap::default();
        let mut matched = HashMap::default();
        for (index, chosen) in self.candidates.iter().enumerate() {
            if self.linked(index).is_none() {
                let (found, possible) = self.by_hand(*chosen, self.named(index));
                for account in possible {
                    wanted.entry(account).or_default().push(index);
                }
                matched.insert(index, found);
            }
        }
        for (account, people) in wanted.iter().filter(|(_, people)| people.len() > 1) {
            let account = self.accounts.get(*account).map(|one| one.login.clone()).unwrap_or_default();
            for person in people {
                let Some(found @ Ok(_)) = matched.get_mut(person) else { continue };
                let others = people.iter().filter(|other| *other != person);
                let others = listed(others.filter_map(|other| self.dn_of(*other)));
                *found = Err(Clash::SeveralPeople { account: account.clone(), others });
            }
        }
        matched
    }

    /// The account made by hand that the settings give to a candidate, or a clash if an administrator must decide;
    /// and all accounts that may be theirs.
    fn by_hand(&self, (part, candidate): Chosen<'_>, named: Option<usize>) -> (Match, Vec<usize>) {
        let intake = part.intake;
        let mut found: Vec<(usize, &MatchBy)> = Vec::new();
        for by in &intake.matching {
            let at: Vec<usize> = match by {
                MatchBy::Link => Vec::new(),
                MatchBy::Login => named.into_iter().collect(),
                MatchBy::Field(field) => {
                    let unique = self.unique.iter().find(|unique| unique.field == field);
                    let value = drawn(part, candidate, field);
                    let with = unique.filter(|_| !value.trim().is_empty());
                    with.map(|unique| self.having(unique, value).to_vec()).unwrap_or_default()
                }
            };
            // An account that the settings give to a particular person is theirs already.
            let is_free = |at: &usize| {
                self.holder(*at).is_none()
                    && self
                        .accounts
                        .get(*at)
                        .is_some_and(|one| one.link.is_none() && !self.is_untouchable(one))
            };
            found.extend(at.into_iter().filter(is_free).map(|at| (at, by)));
        }
        if let Adopt::Same(ways) = &intake.adopt {
            found.retain(|(_, by)| ways.contains(by));
        }
        let Some((first, by)) = found.first().copied() else { return (Ok(None), Vec::new()) };
        let login = |at: usize| self.accounts.get(at).map(|one| one.login.clone()).unwrap_or_default();
        let mut possible: Vec<usize> = found.iter().map(|(at, _)| *at).collect();
        possible.sort_unstable();
        possible.dedup();
        let matched = match &intake.adopt {
            Adopt::Never => return (Ok(None), Vec::new()),
            Adopt::Ask => {
                let by = match by {
                    MatchBy::Field(field) => field.clone(),
                    MatchBy::Link | MatchBy::Login => "login".to_owned(),
                };
                Err(Clash::MayBeTheirs { account: login(first), by })
            }
            Adopt::Same(_) => match found.iter().find(|(at, _)| *at != first) {
                Some((other, _)) => {
                    Err(Clash::SeveralAccounts { accounts: vec![login(first), login(*other)] })
                }
                None => Ok(Some(first)),
            },
        };
        (matched, possible)
    }
}
