//! The settings' `whose` lines: accounts that an administrator has given to a person.

use super::idle::{IdleReason, IdleWord};
use super::leaving::cause_of;
use super::matching::Matching;
use crate::account::State;
use crate::ldap::identity::Identity;
use foldhash::HashMap;

impl Matching<'_> {
    /// Gives each account in the `whose` lines to its candidate, unless the candidate already has an account, or the
    /// account another person; returns the entries that cannot apply.
    pub(super) fn take_words(&mut self) -> Vec<IdleWord> {
        let settings = self.settings;
        let mut idle = Vec::new();
        if settings.accounts.whose.is_empty() {
            return idle;
        }
        let mut people: HashMap<Identity, usize> = HashMap::default();
        for (index, (_, candidate)) in self.candidates.iter().enumerate() {
            people.entry(candidate.identity.clone()).or_insert(index);
        }
        for (login, link) in &settings.accounts.whose {
            match self.judge_word(login, link, people.get(link).copied()) {
                Ok(Some((index, at))) => self.give(index, at),
                Ok(None) => {}
                Err(reason) => idle.push(IdleWord { account: login.clone(), link: link.clone(), reason }),
            }
        }
        idle
    }

    /// The candidate and the account that an entry names; `None` if the account is theirs already.
    fn judge_word(
        &self,
        login: &str,
        link: &Identity,
        index: Option<usize>,
    ) -> Result<Option<(usize, usize)>, IdleReason> {
        let own = index.and_then(|index| self.linked(index)).and_then(|at| self.accounts.get(at));
        let Some((at, account)) =
            self.account_called(login).and_then(|at| Some((at, self.accounts.get(at)?)))
        else {
            // Somebody with an account took it over, most likely, and it was renamed then.
            return if own.is_some() { Ok(None) } else { Err(IdleReason::NoAccount) };
        };
        if account.link.as_ref() == Some(link) {
            return Ok(None);
        }
        if self.is_protected(account) {
            return Err(IdleReason::Protected);
        }
        if account.state == State::Other {
            return Err(IdleReason::OtherState);
        }
        let Some(index) = index else {
            let left = self.dropped().get(link).and_then(|left| left.first());
            return Err(left.map_or(IdleReason::Nobody, |(_, one)| IdleReason::Out(cause_of(one.step))));
        };
        if let Some(own) = own {
            return Err(IdleReason::HasAccount(own.login.clone()));
        }
        match self.holder(at).and_then(|holder| self.dn_of(holder)) {
            Some(dn) => Err(IdleReason::Taken(dn)),
            None => Ok(Some((index, at))),
        }
    }
}
