//! First values of secret fields, on their way to the store: in no edit, so in no journal, report, copy or message.

use secrecy::{ExposeSecret as _, SecretString};
use smol_str::SmolStr;
use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;
use webtaxon_core::account::Account;

/// Secret fields with their values; or why there are none.
pub(crate) type Values = Result<Vec<(SmolStr, SecretString)>, String>;

/// The secret fields of accounts to be created: written once, and never read.
#[derive(Clone, Default)]
pub struct Secrets(Arc<HashMap<String, Values>>);

impl Secrets {
    /// By login, in the form for comparison.
    pub(crate) fn new(values: HashMap<String, Values>) -> Self {
        Self(Arc::new(values))
    }

    /// The secret fields of a new account, by name.
    pub fn of(&self, account: &Account) -> impl Iterator<Item = (&str, &SecretString)> {
        let values = self.values(account).and_then(|values| values.as_ref().ok());
        values.into_iter().flatten().map(|(name, value)| (name.as_str(), value))
    }

    /// A new account with its secret fields.
    #[must_use]
    pub fn complete<'a>(&self, account: &'a Account) -> Cow<'a, Account> {
        let mut complete = Cow::Borrowed(account);
        for (name, value) in self.of(account) {
            complete.to_mut().fields.insert(name.into(), value.expose_secret().into());
        }
        complete
    }

    /// The reason why a new account would lack a secret field that it must have.
    pub(crate) fn lack(&self, account: &Account) -> Option<&str> {
        self.values(account)?.as_ref().err().map(String::as_str)
    }

    /// A message about an account with its secrets starred out: a database may repeat what it refuses.
    pub(crate) fn starred(&self, account: &Account, words: String) -> String {
        self.of(account).fold(words, |words, (_, value)| without(words, value))
    }

    /// A message with all secrets starred out.
    pub(crate) fn all_starred(&self, words: String) -> String {
        self.0.values().flatten().flatten().fold(words, |words, (_, value)| without(words, value))
    }

    /// True if there are none.
    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    fn values(&self, account: &Account) -> Option<&Values> {
        if self.0.is_empty() { None } else { self.0.get(&Account::login_key(&account.login)) }
    }
}

fn without(words: String, secret: &SecretString) -> String {
    match secret.expose_secret() {
        "" => words,
        secret => words.replace(secret, "***"),
    }
}

impl fmt::Debug for Secrets {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "secrets of {} accounts", self.0.len())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use webtaxon_core::account::{Fields, State};

    #[test]
    fn a_secret_is_in_the_new_account_alone() {
        let account = |login: &str| Account {
            login: login.to_owned(),
            link: None,
            state: State::Active,
            fields: Fields::default(),
        };
        let given =
            Ok(vec![("pin".into(), SecretString::from("geheim")), ("empty".into(), SecretString::from(""))]);
        let none = Err("pin has no value in the directory".to_owned());
        let secrets = Secrets::new(HashMap::from([("ada".to_owned(), given), ("ben".to_owned(), none)]));
        assert_eq!(secrets.complete(&account("Ada")).field("pin"), "geheim", "logins ignore case");
        assert!(
            secrets.complete(&account("ben")).fields.is_empty() && secrets.lack(&account("ben")).is_some()
        );
        assert!(
            secrets.complete(&account("cleo")).fields.is_empty() && secrets.lack(&account("cleo")).is_none()
        );
        let words = || "Key (pin)=(geheim) exists".to_owned();
        assert_eq!(secrets.starred(&account("ada"), words()), "Key (pin)=(***) exists");
        assert_eq!(secrets.all_starred(words()), "Key (pin)=(***) exists");
        assert!(!format!("{secrets:?}").contains("geheim"));
    }
}
