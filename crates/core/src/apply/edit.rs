//! An account before and after a change.

use crate::account::{Account, Fields, State};
use crate::preview::{Cause, Change, ChangeKind, FieldChange};
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use smol_str::SmolStr;
use std::borrow::Cow;

/// An account before and after a change: what is carried out, checked and undone.
///
/// If the account remains, both sides have only the fields that differ; if it is created or deleted, the one side has
/// all of them. A field without a value is left out; one with an empty text is as the store has it, so that undoing
/// restores it exactly.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Edit {
    /// The kind of change, as in the preview.
    pub kind: ChangeKind,
    /// The person's entry, where one is known.
    pub dn: Option<String>,
    /// Why the person leaves.
    pub cause: Option<Cause>,
    /// The account before; `None` if it is created.
    pub before: Option<Account>,
    /// The account after; `None` if it is deleted.
    pub after: Option<Account>,
    /// Of a new account, the fields that the store filled otherwise than it was asked to, such as a column's default.
    #[serde(default, skip_serializing_if = "Fields::is_empty")]
    pub added: Fields,
}

impl Edit {
    /// An edit of nobody known, for no known reason.
    #[must_use]
    pub fn new(kind: ChangeKind, before: Option<Account>, after: Option<Account>) -> Self {
        Self { kind, dn: None, cause: None, before, after, added: Fields::default() }
    }

    /// What a change does to its account; `None` for a change that does nothing yet (a wait, a clash), or that is
    /// about another account.
    #[must_use]
    pub fn of(change: &Change, account: Option<&Account>) -> Option<Self> {
        let edit = |before, after| {
            let dn = change.dn.clone();
            Some(Self { dn, cause: change.cause(), ..Self::new(change.kind(), before, after) })
        };
        match change.kind() {
            ChangeKind::Wait | ChangeKind::Clash => None,
            ChangeKind::Import => {
                let mut account = Account {
                    login: change.login.clone(),
                    link: change.link.clone(),
                    state: State::Active,
                    fields: Fields::default(),
                };
                for (name, field) in change.fields.iter().filter(|(name, _)| *name != "login") {
                    let new = field.new.clone().filter(|new| !new.is_empty());
                    account.fields.extend(new.map(|new| (name.into(), new.into())));
                }
                edit(None, Some(account))
            }
            ChangeKind::Remove => edit(Some(account?.clone()), None),
            ChangeKind::Adopt | ChangeKind::Update | ChangeKind::Restore | ChangeKind::Suspend => {
                let account = account?;
                let mut before = Account { fields: Fields::default(), ..account.clone() };
                let mut after = before.clone();
                for (name, field) in &change.fields {
                    let new = field.new.clone().unwrap_or_default();
                    let old = account.fields.get(name.as_str()).cloned();
                    before.fields.extend(old.map(|old| (name.into(), old)));
                    match name.as_str() {
                        "login" => after.login = new,
                        "link" => after.link.clone_from(&change.link),
                        "state" if new == "suspended" => after.state = State::Suspended,
                        "state" => after.state = State::Active,
                        _ if new.is_empty() => {}
                        _ => drop(after.fields.insert(name.into(), new.into())),
                    }
                }
                edit(Some(before), Some(after))
            }
        }
    }

    /// The suspension in place of a removal that is refused; `None` for another edit, or if nobody can sign in anyway.
    #[must_use]
    pub fn suspension(&self) -> Option<Self> {
        let whole =
            self.before.as_ref().filter(|before| self.after.is_none() && before.state == State::Active)?;
        let mut before = Account { fields: Fields::default(), ..whole.clone() };
        let after = Account { state: State::Suspended, ..before.clone() };
        before.fields.extend(whole.fields.get("state").map(|word| ("state".into(), word.clone())));
        Some(Self { kind: ChangeKind::Suspend, before: Some(before), after: Some(after), ..self.clone() })
    }

    /// The edit with what the store added to the new account, which is now there; `None` if it added nothing.
    #[must_use]
    pub fn with_added(&self, there: &Account) -> Option<Self> {
        let asked = self.after.as_ref().filter(|_| self.before.is_none())?;
        let is_added = |name: &str, value: &str| !value.is_empty() && asked.value(name) != value;
        let added = there.fields.iter().filter(|(name, value)| is_added(name, value));
        let mut fields = Fields::default();
        fields.extend(added.map(|(name, value)| (name.clone(), value.clone())));
        (!fields.is_empty()).then(|| Self { added: fields, ..self.clone() })
    }

    /// The edit that undoes this one.
    #[must_use]
    pub fn back(&self) -> Self {
        let kind = match self.kind {
            ChangeKind::Import => ChangeKind::Remove,
            ChangeKind::Remove => ChangeKind::Import,
            ChangeKind::Suspend => ChangeKind::Restore,
            ChangeKind::Restore => ChangeKind::Suspend,
            ChangeKind::Adopt | ChangeKind::Update | ChangeKind::Wait | ChangeKind::Clash => {
                ChangeKind::Update
            }
        };
        let mut made = self.after.clone();
        if let Some(made) = &mut made {
            made.fields.extend(self.added.iter().map(|(name, value)| (name.clone(), value.clone())));
        }
        Self { dn: self.dn.clone(), ..Self::new(kind, made, self.before.clone()) }
    }

    /// The edit as it may be shown, and the number of fields left out: a whole account, which comes or goes, may have
    /// columns of the application's own, and these may be secret. `names` are the fields that the settings write.
    #[must_use]
    pub fn shown(&self, names: &[&str]) -> (Cow<'_, Self>, usize) {
        let is_other = |name: &str| name != "state" && !names.contains(&name);
        let side = match (&self.before, &self.after) {
            (None, Some(account)) | (Some(account), None) => account,
            _ => return (Cow::Borrowed(self), 0),
        };
        let others = side.fields.iter().filter(|(name, value)| is_other(name) && !value.is_empty()).count();
        let mut shown = self.clone();
        for account in [&mut shown.before, &mut shown.after].into_iter().flatten() {
            account.fields.retain(|name, _| !is_other(name));
        }
        (Cow::Owned(shown), others)
    }

    /// The login of the account: the current one, or the future one of a new account.
    #[must_use]
    pub fn login(&self) -> &str {
        self.before.as_ref().or(self.after.as_ref()).map_or("", |account| &account.login)
    }

    /// The differences, including `login`, `link` and `state`.
    #[must_use]
    pub fn fields(&self) -> IndexMap<String, FieldChange> {
        let change = |name: &str| {
            let value = |side: &Option<Account>| side.as_ref().map(|one| one.value(name).to_owned());
            FieldChange { old: value(&self.before), new: value(&self.after) }
        };
        self.changed().map(|name| (name.to_owned(), change(name))).collect()
    }

    /// The names of the fields that differ, including `login`, `link` and `state`.
    pub fn changed(&self) -> impl Iterator<Item = &str> {
        let (before, after) = (self.before.as_ref(), self.after.as_ref());
        let old = before.into_iter().flat_map(|account| account.fields.keys());
        let is_new = move |name: &&SmolStr| before.is_none_or(|before| !before.fields.contains_key(name));
        let new = after.into_iter().flat_map(|account| account.fields.keys()).filter(is_new);
        let differs = move |name: &&str| match (before, after) {
            (Some(before), Some(after)) => before.value(name) != after.value(name),
            (before, after) => before.is_some() != after.is_some(),
        };
        let own = ["login", "link", "state"].into_iter();
        // A state with a word of its own is among the fields, too.
        let fields = old.chain(new).map(SmolStr::as_str).filter(|name| *name != "state");
        own.chain(fields).filter(differs)
    }
}
