//! Telling what a store made of new accounts before they are committed: a journal that knows it from then on can undo
//! them to the field, even if the program dies right after.

use std::collections::HashMap;
use std::fmt;
use std::ops::ControlFlow;
use std::sync::Arc;
use webtaxon_core::account::Account;
use webtaxon_core::apply::{Edit, Outcome};

type Tell = dyn Fn(Vec<(usize, Account)>) -> ControlFlow<()> + Send + Sync;

/// Receives new accounts as a transaction has made them, by the index of their edits.
#[derive(Clone, Default)]
pub struct NewAccounts(Option<Arc<Tell>>);

impl fmt::Debug for NewAccounts {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_tuple("NewAccounts").field(&self.0.is_some()).finish()
    }
}

impl NewAccounts {
    /// A receiver; if it breaks, they could not be recorded, and nothing may be committed.
    pub fn new(tell: impl Fn(Vec<(usize, Account)>) -> ControlFlow<()> + Send + Sync + 'static) -> Self {
        Self(Some(Arc::new(tell)))
    }

    /// The receiver for a part of the edits; `number` tells the index among all of them.
    pub(crate) fn of_part(self, number: impl Fn(usize) -> Option<usize> + Send + Sync + 'static) -> Self {
        let Some(tell) = self.0 else { return self };
        Self::new(move |accounts| {
            tell(accounts.into_iter().filter_map(|(at, account)| Some((number(at)?, account))).collect())
        })
    }

    /// The logins of the accounts to be told of.
    #[must_use]
    pub fn logins<'e>(&self, edits: &'e [Edit]) -> Vec<&'e str> {
        let made = edits.iter().filter(|edit| self.0.is_some() && edit.before.is_none());
        made.filter_map(|edit| Some(edit.after.as_ref()?.login.as_str())).collect()
    }

    /// Tells of the accounts that were made, as they stand in the list now.
    pub fn tell(&self, edits: &[Edit], outcomes: &[(usize, Outcome)], list: Vec<Account>) -> ControlFlow<()> {
        let Some(tell) = &self.0 else { return ControlFlow::Continue(()) };
        let mut by_login: HashMap<String, Account> =
            list.into_iter().map(|account| (account.login.clone(), account)).collect();
        let made = outcomes.iter().filter(|(_, outcome)| *outcome == Outcome::Done).filter_map(|(at, _)| {
            let edit = edits.get(*at).filter(|edit| edit.before.is_none())?;
            Some((*at, by_login.remove(&edit.after.as_ref()?.login)?))
        });
        let made: Vec<(usize, Account)> = made.collect();
        if made.is_empty() { ControlFlow::Continue(()) } else { tell(made) }
    }
}
