//! The application's list of accounts, as an account store returns it.

mod fields;
mod group;

pub use fields::Fields;
pub use group::{Group, Groups};

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
}

/// One account of the application.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Account {
    /// The login. Unique, ignoring case.
    pub login: String,
    /// The link to a directory entry. An account without one was made by hand and is never changed.
    pub link: Option<Identity>,
    /// Active or suspended.
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
        }
    }
}

impl Account {
    /// The form in which equal logins are equal texts.
    #[must_use]
    pub fn login_key(login: &str) -> String {
        folded(login).into_owned()
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
            "state" => self.state.name(),
            name => self.field(name),
        }
    }
}
