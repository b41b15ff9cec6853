//! The explanation of one person from readings of their own, where it is the same as from a reading of everybody: of
//! somebody whose account stays as it is but for plain values, and of somebody who has none and is not selected.
//!
//! It costs by the person. Whoever claims something that others may claim as well, or loses something, is explained by a
//! reading of everybody.

use super::shared::Shared;
use super::tried::{Person, Tried};
use crate::error::Error;
use crate::setup::Setup;
use std::sync::Arc;
use webtaxon_core::account::{Account, State};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::preview::ChangeKind;
use webtaxon_core::preview::why::Why;
use webtaxon_core::settings::{Settings, SignIn};
use webtaxon_core::sign_in::SignInName;

/// The explanation of the person with a login or the name of their entry, with additional attributes of people; `None` if
/// only a reading of everybody can tell.
pub(crate) async fn why(setup: &Setup, text: &str, more: &[String]) -> Result<Option<Why>, Error> {
    if setup.snapshot.is_some() || setup.settings.brings_groups() {
        return Ok(None);
    }
    let mut setup = setup.clone();
    // Here people are called by their logins, whatever they type at a sign-in.
    setup.settings.sign_in = SignIn::default();
    let shared = Shared::new(Arc::new(setup), more).await?;
    let Some(person) = person(&shared, text).await? else { return Ok(None) };
    let settings = &shared.setup.settings;
    let accounts = shared.setup.accounts().await?;
    let own = accounts.iter().find(|one| one.link.is_some() && one.link == person.identity);
    let claims = own.map(|own| claims(settings, own)).unwrap_or_default();
    if is_somebody_elses(&accounts, text, own) || !shared.nobody_else_draws(&claims, &person).await? {
        return Ok(None);
    }
    let mut tried = Tried::default();
    shared.judge(&person, &mut tried).await?;
    let why = tried.judged.map(|judged| *judged.why);
    Ok(why.filter(|why| why.whole && is_plain(why, settings, person.identity.as_ref())))
}

/// The only person with a login or a name, as the intakes' filters find them.
async fn person(shared: &Shared, text: &str) -> Result<Option<Person>, Error> {
    // A reading of everybody tells the fault of a search.
    let none = |error: Error| match &error {
        Error::Directory(answer) if !answer.is_fatal() => Ok(None),
        _ => Err(error),
    };
    match Dn::parse(text).ok().filter(|dn| dn.depth() > 0) {
        Some(dn) => shared.entry(&dn).await.or_else(none),
        None => match SignInName::new(text) {
            Ok(name) => shared.find(&name, &mut Tried::default()).await.or_else(none),
            Err(_) => Ok(None),
        },
    }
}

/// True if the text is the login, name or mail of somebody else's account.
fn is_somebody_elses(accounts: &[Account], text: &str, own: Option<&Account>) -> bool {
    let is = |account: &&Account| {
        ["login", "name", "email"].iter().any(|field| account.field(field).eq_ignore_ascii_case(text))
    };
    accounts.iter().filter(is).any(|account| own.is_none_or(|own| own.login != account.login))
}

/// The login and the unique values of an account.
fn claims(settings: &Settings, account: &Account) -> Vec<(String, String)> {
    let names = ["login"].into_iter().chain(settings.unique_fields());
    let values = names.map(|field| (field.to_owned(), account.field(field).to_owned()));
    values.filter(|(_, value)| !value.is_empty()).collect()
}

/// True if nothing in an explanation depends on others.
fn is_plain(why: &Why, settings: &Settings, identity: Option<&Identity>) -> bool {
    if why.held.is_some() || !why.also.is_empty() || !why.claims.is_empty() {
        return false;
    }
    let own = why.account.as_ref();
    if !why.selected {
        return own.is_none() && why.change.is_none();
    }
    let is_theirs = own
        .is_some_and(|own| own.link.is_some() && own.link.as_ref() == identity && own.state == State::Active);
    let is_unique =
        |name: &str| name == "login" || settings.unique_fields().into_iter().any(|one| one == name);
    let is_plain_value =
        |(name, new): (&String, Option<&str>)| !is_unique(name) && new.is_some_and(|new| !new.is_empty());
    let is_plain_change = why.change.as_ref().is_none_or(|change| {
        let mut fields = change.fields.iter().map(|(name, field)| (name, field.new.as_deref()));
        change.kind() == ChangeKind::Update && fields.all(is_plain_value)
    });
    is_theirs && is_plain_change
}
