//! Edits of the rows of a table, be they accounts or groups.

use super::super::Terms;
use super::super::groups::as_edits;
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;
use webtaxon_core::account::Account;
use webtaxon_core::apply::{Edit, GroupEdit, Standing, standings};

/// Edits of the rows of a table.
#[derive(Clone)]
pub(in super::super) enum RowEdits {
    Accounts(Arc<[Edit]>),
    Groups(Arc<[GroupEdit]>),
}

impl RowEdits {
    /// The logins of the edited accounts, if no other row needs to be read: no account is created, and no unique
    /// field changes.
    pub(in super::super) fn logins(&self, terms: &Terms) -> Option<Vec<&str>> {
        let Self::Accounts(edits) = self else { return None };
        let is_unique =
            |name: &str| ["login", "link"].contains(&name) || terms.unique.iter().any(|one| one == name);
        let is_alone = |edit: &Edit| edit.after.is_none() || !edit.changed().any(is_unique);
        let alone = edits.iter().map(|edit| edit.before.as_ref().filter(|_| is_alone(edit)));
        alone.map(|before| before.map(|before| before.login.as_str())).collect()
    }

    /// Whether these are all accounts of the edits, as they were known. If not, the whole list is read.
    pub(in super::super) fn are_of(&self, rows: &[Account]) -> bool {
        let Self::Accounts(edits) = self else { return false };
        let by_login: HashMap<&str, &Account> = rows.iter().map(|one| (one.login.as_str(), one)).collect();
        let is_there = |edit: &Edit| {
            edit.before.as_ref().is_some_and(|before| {
                by_login.get(before.login.as_str()).is_some_and(|there| there.link == before.link)
            })
        };
        rows.len() == edits.len() && by_login.len() == edits.len() && edits.iter().all(is_there)
    }

    /// The edits of these rows, with their standings.
    pub(in super::super) fn standings(
        &self,
        rows: &[Account],
        terms: &Terms,
    ) -> (Cow<'_, [Edit]>, Vec<Standing>) {
        match self {
            Self::Accounts(edits) => (Cow::Borrowed(edits), standings(edits, rows, &terms.unique)),
            Self::Groups(edits) => {
                let (edits, standings) = as_edits(edits, rows);
                (Cow::Owned(edits), standings)
            }
        }
    }
}
