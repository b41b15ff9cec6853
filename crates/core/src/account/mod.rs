//! The application's list of accounts, as an account store returns it.

mod fields;
mod group;
mod habits;
mod replies;

pub use fields::Fields;
pub use group::{Group, Groups};
pub use habits::Habits;
pub use replies::{Dependents, Effect, Form, Inquiry, Replies, counted_rows};

use crate::ldap::identity::Identity;
use serde::{Deserialize, Serialize};
use smol_str::SmolStr;
use std::borrow::Cow;

/// A text in the form in which case and surrounding blanks do not matter; most texts are in it already.
#[must_use]
pub fn folded(text: &str) -> Cow<'_, str> {
    let text = text.trim();
    let is_folded = text.bytes().all(|byte| byte.is_ascii() && !byte.is_ascii_uppercase());
    if is_folded { Cow::Borrowed(text) } else { Cow::Owned(text.to_lowercase()) }
}

/// Whether an account can be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// The person may sign in.
    Active,
    /// The account is kept, but nobody can sign in to it. It takes no seat.
    Suspended,
    /// Neither, as far as the settings tell: the account is left alone. The field `state` holds the store's word.
    Other,
}

/// One account of the application.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Account {
    /// The login. Unique, ignoring case.
    pub login: String,
    /// The link to a directory entry. An account without one was made by hand and is never changed.
    pub link: Option<Identity>,
    /// Active or suspended. If the store has several words for a state, and this account has another than the usual
    /// one, it is the field `state`.
    pub state: State,
    /// The other fields, by name; an empty text is an empty field.
    pub fields: Fields,
}

impl State {
    /// The state in words.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Active => "active",
            Self::Suspended => "suspended",
            Self::Other => "other",
        }
    }
}

impl Account {
    /// The form in which equal logins are equal texts.
    #[must_use]
    pub fn login_key(login: &str) -> String {
        folded(login).into_owned()
    }

    /// The value of a field as the store has it, with `login`, `link` and `state` among the names; `None` if it has
    /// none, which is not the same as an empty text.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&str> {
        match name {
            "login" => Some(&self.login),
            "link" if let Some(link) = &self.link => Some(link.as_str()),
            "state" => Some(self.state_word()),
            name => self.fields.get(name).map(SmolStr::as_str),
        }
    }

    /// Sets a field, or clears it, with `login`, `link` and `state` among the names.
    pub fn set(&mut self, name: &str, value: Option<&str>) {
        match (name, value) {
            ("login", value) => value.unwrap_or_default().clone_into(&mut self.login),
            ("link", value) => self.link = value.and_then(Identity::from_link),
            ("state", value) => {
                self.fields.remove("state");
                self.state = match value {
                    None => State::Active,
                    Some(word) if word == State::Active.name() => State::Active,
                    Some(word) if word == State::Suspended.name() => State::Suspended,
                    Some(word) => {
                        self.fields.insert("state".into(), word.into());
                        State::Other
                    }
                };
            }
            (name, Some(value)) => drop(self.fields.insert(name.into(), value.into())),
            (name, None) => drop(self.fields.remove(name)),
        }
    }

    /// The value of a field, `login` included; empty if it does not exist.
    #[must_use]
    pub fn field(&self, name: &str) -> &str {
        if name == "login" {
            return &self.login;
        }
        self.fields.get(name).map_or("", SmolStr::as_str)
    }

    /// As [`Account::field`], with `link` and `state` among the names.
    #[must_use]
    pub fn value(&self, name: &str) -> &str {
        match name {
            "link" => self.link.as_ref().map_or("", Identity::as_str),
            "state" => self.state_word(),
            name => self.field(name),
        }
    }

    /// The state: `active` or `suspended`, or the store's own word if it has another.
    #[must_use]
    pub fn state_word(&self) -> &str {
        self.fields.get("state").map_or(self.state.name(), SmolStr::as_str)
    }
}
