//! The values of secret fields for new accounts: made or drawn once the apply has been approved, and part of no edit.

use super::{Origin, Work};
use crate::directory::KnownLinks;
use crate::error::Error;
use crate::secure::{fetch_password, random_secret};
use crate::setup::Setup;
use crate::store::{SecretValues, Secrets};
use secrecy::{ExposeSecret as _, SecretString};
use std::collections::HashMap;
use std::time::Duration;
use webtaxon_core::account::Account;
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::selection::Selection;
use webtaxon_core::settings::rules::FieldRule;
use webtaxon_core::settings::{Intake, SecretRule};

/// Time limit for a program that tells a secret.
const WAIT: Duration = Duration::from_secs(30);

/// The index of a person's intake, and the values drawn from the entry, in the order of its secret fields that are
/// drawn.
type Drawn = (usize, Vec<SecretString>);

/// The secret fields of the accounts that the work creates.
pub(super) async fn secrets(setup: &Setup, work: &Work) -> Result<Secrets, Error> {
    let new = work.edits.iter().filter(|edit| edit.before.is_none()).filter_map(|edit| edit.after.as_ref());
    let new: Vec<&Account> = new.collect();
    let intakes = &setup.settings.intakes;
    if new.is_empty() || intakes.iter().all(|intake| intake.secrets.is_empty()) {
        return Ok(Secrets::default());
    }
    let shared = shared(setup).await?;
    let is_drawn = |intake: &Intake| intake.drawn_secrets().next().is_some();
    let are_equal = intakes.iter().all(|intake| intake.secrets == intakes.first.secrets);
    // An undoing does not depend on the directory.
    let drawn = match work.origin == Origin::Preview && (!are_equal || intakes.iter().any(is_drawn)) {
        true => Some(draw(setup).await?),
        false => None,
    };
    let of = |account: &&Account| {
        let own = account.link.as_ref().zip(drawn.as_ref()).and_then(|(link, drawn)| drawn.get(link));
        let intake = own.map_or(Some(&intakes.first), |(at, _)| intakes.iter().nth(*at))?;
        let values = values(intake, own.map(|(_, values)| values.as_slice()), drawn.is_some(), &shared);
        Some((Account::login_key(&account.login), values))
    };
    Ok(Secrets::new(new.iter().filter_map(of).collect()))
}

/// The secret fields of one new account.
fn values(
    intake: &Intake,
    drawn: Option<&[SecretString]>,
    must_be_drawn: bool,
    shared: &HashMap<&str, SecretString>,
) -> SecretValues {
    let mut drawn = drawn.unwrap_or_default().iter();
    let mut values = Vec::new();
    for (name, rule) in &intake.secrets {
        let value = match rule {
            SecretRule::Random => Some(random_secret()?),
            SecretRule::Shared(_) => shared.get(name.as_str()).cloned(),
            SecretRule::Drawn(rule) => {
                let value = drawn.next().filter(|value| !value.expose_secret().is_empty());
                if value.is_none() && rule.required && must_be_drawn {
                    return Err(format!("{name} has no value in the directory"));
                }
                value.cloned()
            }
        };
        values.extend(value.map(|value| (name.into(), value)));
    }
    Ok(values)
}

/// The secrets that all accounts share, by field.
async fn shared(setup: &Setup) -> Result<HashMap<&str, SecretString>, Error> {
    let mut shared = HashMap::new();
    for (name, rule) in setup.settings.intakes.iter().flat_map(|intake| &intake.secrets) {
        let SecretRule::Shared(source) = rule else { continue };
        let prompt = setup.prompt.as_deref();
        let whose = format!("new accounts ({name})");
        let value = fetch_password(source, &whose, &setup.folder, WAIT, prompt).await;
        shared.insert(name.as_str(), value.map_err(crate::directory::DirectoryError::from)?);
    }
    Ok(shared)
}

/// Reads people with the attributes of secret fields, by link.
async fn draw(setup: &Setup) -> Result<HashMap<Identity, Drawn>, Error> {
    let mut setup = setup.clone();
    for intake in setup.settings.intakes.iter_mut() {
        let secrets = intake.drawn_secrets().map(|(name, rule)| (name.clone(), rule.clone()));
        // A person without one is told then, not left out here.
        let secrets = secrets.map(|(name, rule)| (name, FieldRule { required: false, ..rule }));
        let secrets: Vec<(String, FieldRule)> = secrets.collect();
        intake.fields.extend(secrets);
    }
    let accesses = setup.accesses().await?;
    let readings = setup.readings(&accesses, &KnownLinks::known(&[]), &[]).await?;
    let mut drawn = HashMap::new();
    for (at, selection) in Selection::all(&setup.settings, &readings).iter().enumerate() {
        let Some(intake) = setup.settings.intakes.iter().nth(at) else { continue };
        let own = intake.fields.len() - intake.drawn_secrets().count();
        for candidate in &selection.candidates {
            let values = own..intake.fields.len();
            let values = values.map(|field| SecretString::from(candidate.proposal.value(field)));
            drawn.insert(candidate.identity.clone(), (at, values.collect()));
        }
    }
    Ok(drawn)
}
