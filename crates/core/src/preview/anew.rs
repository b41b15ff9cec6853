//! People whose entry was made anew: the old one is gone, and a new one has the login and another unique value of the
//! account.

use super::Cause;
use super::matching::Matching;
use super::origins;
use super::situation::drawn;
use crate::account::folded;
use crate::settings::Anew;
use foldhash::HashMap;

impl Matching<'_> {
    /// For each candidate without an account whose entry seems to be made anew, the account of the old one.
    pub(super) fn made_anew(&self) -> HashMap<usize, usize> {
        let mut found: HashMap<usize, usize> = HashMap::default();
        let mut people: HashMap<usize, usize> = HashMap::default();
        if self.whole().is_none() || self.unique_names().count() < 2 {
            return found;
        }
        for index in (0..self.candidates.len()).filter(|index| self.linked(*index).is_none()) {
            if let Some(at) = self.named(index).filter(|at| self.is_made_anew(index, *at)) {
                *people.entry(at).or_default() += 1;
                found.insert(index, at);
            }
        }
        // Two new entries with one login cannot both be the person's.
        found.retain(|_, at| people.get(at) == Some(&1));
        found
    }

    fn is_made_anew(&self, index: usize, at: usize) -> bool {
        let (Some(account), Some((part, _))) = (self.accounts.get(at), self.candidates.get(index)) else {
            return false;
        };
        let Some(link) = &account.link else { return false };
        let directory = &part.intake.directory;
        self.holder(at).is_none()
            && !self.says(account, link)
            && !self.is_untouchable(account)
            && !self.dropped().contains_key(link)
            && matches!(self.whereabouts(link), (Some(Cause::Gone), _))
            && origins::other(self.settings, self.memory, Some(account), link, directory).is_none()
            && self.same_values(index, at).len() > 1
    }

    /// The login and the unique fields that have the same value in an account and for a candidate.
    pub(super) fn same_values(&self, index: usize, at: usize) -> Vec<String> {
        let (Some(account), Some((part, candidate))) = (self.accounts.get(at), self.candidates.get(index))
        else {
            return Vec::new();
        };
        let is_same = |name: &&str| {
            let value = folded(drawn(*part, candidate, name));
            !value.is_empty() && value == folded(account.field(name))
        };
        self.unique_names().filter(is_same).map(str::to_owned).collect()
    }

    /// Gives the accounts to new entries, if the settings have a rule for it, and remembers those that an
    /// administrator decides about.
    pub(super) fn tie_again(&mut self) {
        let rule = self.settings.accounts.anew;
        for (index, at) in self.made_anew() {
            let is_ruled = rule == Anew::SameLoginAndEmail
                && self.same_values(index, at).iter().any(|name| name == "email");
            if is_ruled {
                self.give(index, at);
                self.tied_again.insert(index);
            } else {
                self.anew.insert(index, at);
                self.asked_about.insert(at);
            }
        }
    }
}
