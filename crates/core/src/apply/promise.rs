//! Edits that are forbidden wherever they come from: a preview, a saved one, or the undoing of a run.

use super::Edit;
use crate::account::{Account, folded};
use crate::preview::ChangeKind;
use std::collections::HashSet;

/// Logins that nothing may touch, in the form for comparison.
#[derive(Clone, Debug, Default)]
pub struct Untouchable(HashSet<String>);

impl Untouchable {
    /// These logins.
    #[must_use]
    pub fn new(protected: &[String]) -> Self {
        Self(protected.iter().map(|login| folded(login).into_owned()).collect())
    }

    /// The reason why an edit is forbidden, in words; `None` if it is allowed.
    #[must_use]
    pub fn forbids(&self, edit: &Edit) -> Option<String> {
        let sides = || [&edit.before, &edit.after].into_iter().flatten();
        let is_protected = |account: &&Account| self.0.contains(folded(&account.login).as_ref());
        if let Some(account) = sides().find(is_protected) {
            return Some(format!("the account {} is protected", account.login));
        }
        let hand_made = edit.before.as_ref().filter(|before| before.link.is_none());
        // Adopted, or adopted again by undoing an undo.
        let is_adopted = edit.after.as_ref().is_some_and(|after| after.link.is_some());
        if let Some(account) = hand_made.filter(|_| !is_adopted) {
            return Some(format!("the account {} was made by hand", account.login));
        }
        let takes = matches!(edit.kind, ChangeKind::Suspend | ChangeKind::Remove);
        let comes_in = edit.before.is_none() && edit.after.as_ref().is_some_and(|after| after.link.is_none());
        let removes = edit.before.is_some() && edit.after.is_none();
        if comes_in || (removes && !takes) {
            return Some("the edit does something else than its kind says".to_owned());
        }
        None
    }
}
