//! Clashes as questions to an administrator: both sides, field by field.

use super::situation::{Chosen, Selected, Situation};
use super::{Change, Clash, Preview};
use crate::account::Account;
use crate::ldap::identity::Identity;
use serde::Serialize;
use std::collections::HashMap;

/// A clash with both sides.
#[derive(Clone, Debug, Serialize)]
pub struct Question {
    /// The clash.
    pub change: Change,
    /// The other side: the login of an account, or the name of another person's entry; `None` if there are several.
    pub other: Option<String>,
    /// Each field on both sides, in the order of the settings.
    pub sides: Vec<Side>,
}

/// One field on both sides of a clash.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Side {
    /// The field.
    pub field: String,
    /// The person's value; empty if there is none.
    pub person: String,
    /// The other side's value; empty if there is none.
    pub other: String,
}

impl Question {
    /// The questions of a preview, in its order.
    #[must_use]
    pub fn all(situation: Situation<'_>, preview: &Preview) -> Vec<Self> {
        let selections = situation.selections();
        let parts: Vec<Selected<'_>> = situation.selected(&selections).collect();
        let people = parts.iter().flat_map(|part| {
            let dn = |person: usize| part.reading.people().get(person).map(|entry| entry.dn());
            part.selection.candidates.iter().filter_map(move |one| Some((dn(one.person)?, (*part, one))))
        });
        let people: HashMap<&str, Chosen<'_>> = people.collect();
        let accounts: HashMap<&str, &Account> =
            situation.accounts.iter().map(|account| (account.login.as_str(), account)).collect();
        let question = |change: &Change| {
            let clash = change.clash()?;
            let chosen = people.get(change.dn.as_deref()?)?;
            let account = clash.account().and_then(|login| accounts.get(login)).copied();
            let person = match clash {
                Clash::SameDrawn { others, .. } if others.len() == 1 => others.first(),
                Clash::SameIdentity { other } => Some(other),
                _ => None,
            };
            let rival = person.and_then(|dn| people.get(dn.as_str()));
            let other = account.map(|account| account.login.clone()).or_else(|| person.cloned());
            Some(Self { change: change.clone(), other, sides: sides(*chosen, account, rival.copied()) })
        };
        preview.changes.iter().filter_map(question).collect()
    }
}

/// Each field of a person beside the other side's.
fn sides((part, person): Chosen<'_>, account: Option<&Account>, rival: Option<Chosen<'_>>) -> Vec<Side> {
    let value = |name: &str| match (account, rival) {
        (Some(account), _) => account.field(name).to_owned(),
        (None, Some((part, rival))) => super::situation::drawn(part, rival, name).to_owned(),
        (None, None) => String::new(),
    };
    let fields = part.intake.fields.keys().enumerate().map(|(at, name)| Side {
        field: name.clone(),
        person: person.proposal.value(at).to_owned(),
        other: value(name),
    });
    let link = |link: Option<&Identity>| link.map(ToString::to_string).unwrap_or_default();
    let other = match (account, rival) {
        (Some(account), _) => link(account.link.as_ref()),
        (None, rival) => link(rival.map(|(_, rival)| &rival.identity)),
    };
    let links = Side { field: "link".to_owned(), person: link(Some(&person.identity)), other };
    fields.chain([links]).collect()
}
