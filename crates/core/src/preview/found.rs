//! Finding a person or account by login, mail, name, link or DN; and which intake's story to tell if several find the
//! person.

use super::situation::Situation;
use crate::account::Account;
use crate::draw::Drawer;
use crate::ldap::identity::{CALLED, Identity};
use crate::ldap::name::Dn;
use crate::reading::Reading;
use crate::selection::{Selection, Step};
use std::collections::HashMap;

/// One possible match.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Found {
    /// The index of the intake, and the index in its reading's [`Reading::people`].
    pub person: Option<(usize, usize)>,
    /// The index of the account.
    pub account: Option<usize>,
}

/// The fields of an account in which a text is looked for.
const FIELDS: [&str; 3] = ["login", "name", "email"];

/// Everybody who matches a login, mail, name, link or DN: exact matches, or else those whose names contain the text.
#[must_use]
pub fn find(situation: Situation<'_>, text: &str) -> Vec<Found> {
    let Situation { readings, accounts, .. } = situation;
    let key = Dn::parse(text).ok().filter(|dn| dn.depth() > 0).map(|dn| dn.key());
    let identity = Identity::from_link(text);
    let by_link: HashMap<&Identity, usize> =
        accounts.iter().enumerate().filter_map(|(at, one)| Some((one.link.as_ref()?, at))).collect();
    let mut matches = Matches { wanted: text.trim().to_lowercase(), exact: Vec::new(), partly: Vec::new() };
    let mut seen = vec![false; accounts.len()];
    let tellers = match readings.len() {
        0 | 1 => HashMap::new(),
        _ => tellers(readings, &situation.selections()),
    };
    let parts = readings.iter().enumerate();
    let everybody = parts
        .flat_map(|(part, reading)| reading.people().iter().enumerate().map(move |one| (part, reading, one)));
    for (part, reading, (person, entry)) in everybody {
        let own = Identity::of(entry, &reading.source().identity);
        if own.as_ref().and_then(|own| tellers.get(own)).is_some_and(|teller| *teller != part) {
            continue;
        }
        let account = own.as_ref().and_then(|own| by_link.get(own)).copied();
        if let Some(slot) = account.and_then(|at| seen.get_mut(at)) {
            *slot = true;
        }
        let theirs = account.and_then(|at| accounts.get(at));
        let in_application = theirs.into_iter().flat_map(|one| FIELDS.map(|name| one.field(name)));
        let called = CALLED.into_iter().flat_map(|name| entry.values(name));
        let called = called.filter_map(|value| std::str::from_utf8(value).ok());
        let is_same =
            (key.is_some() && reading.key(person) == key.as_ref()) || (own.is_some() && own == identity);
        matches.add(Found { person: Some((part, person)), account }, called.chain(in_application), is_same);
    }
    for (at, account) in accounts.iter().enumerate().filter(|(at, _)| seen.get(*at) != Some(&true)) {
        let is_same = account.link.is_some() && account.link == identity;
        let values = FIELDS.into_iter().map(|name| account.field(name));
        matches.add(Found { person: None, account: Some(at) }, values, is_same);
    }
    let mut found = if matches.exact.is_empty() { matches.partly } else { matches.exact };
    if found.len() > 1 {
        prefer_logins(situation, text, &mut found);
        join_hand_made(situation, &mut found);
    }
    found
}

/// The matches of a text.
struct Matches {
    wanted: String,
    exact: Vec<Found>,
    partly: Vec<Found>,
}

impl Matches {
    fn add<'v>(&mut self, found: Found, values: impl Iterator<Item = &'v str>, is_same: bool) {
        let values: Vec<String> = values.map(str::to_lowercase).collect();
        if is_same || values.contains(&self.wanted) {
            self.exact.push(found);
        } else if !self.wanted.is_empty() && values.iter().any(|value| value.contains(&self.wanted)) {
            self.partly.push(found);
        }
    }
}

/// Keeps those whose login is the text, if there are any: others may have it as a name.
fn prefer_logins(situation: Situation<'_>, text: &str, found: &mut Vec<Found>) {
    let read = situation.settings.intakes.iter().zip(situation.readings);
    let drawers: Vec<_> = read.map(|(intake, reading)| Drawer::new(intake, reading)).collect();
    let wanted = Account::login_key(text);
    let is_called = |one: &Found| {
        let account = one.account.and_then(|at| situation.accounts.get(at));
        let drawn = one.person.and_then(|(part, person)| drawers.get(part)?.login(person));
        drawn.as_ref() == Some(&wanted) || account.is_some_and(|one| Account::login_key(&one.login) == wanted)
    };
    if found.iter().any(is_called) {
        found.retain(is_called);
    }
}

/// Joins each account made by hand with the person whose future login it has: it is part of that person's story.
fn join_hand_made(situation: Situation<'_>, found: &mut Vec<Found>) {
    let read = situation.settings.intakes.iter().zip(situation.readings);
    let drawers: Vec<_> = read.map(|(intake, reading)| Drawer::new(intake, reading)).collect();
    let login_of = |(part, person): (usize, usize)| drawers.get(part)?.login(person);
    for at in (0..found.len()).rev() {
        let Some(Found { person: None, account: Some(account) }) = found.get(at).copied() else {
            continue;
        };
        let login = situation.accounts.get(account).map(|one| Account::login_key(&one.login));
        let theirs =
            found.iter().position(|one| one.account.is_none() && one.person.and_then(login_of) == login);
        if let Some(one) = theirs.and_then(|theirs| found.get_mut(theirs)) {
            one.account = Some(account);
            found.remove(at);
        }
    }
}

/// For each person found by several intakes, the one whose story is told: the selecting one, or the first in which
/// they got furthest.
fn tellers(readings: &[Reading], selections: &[Selection<'_>]) -> HashMap<Identity, usize> {
    let mut best: HashMap<Identity, (usize, u8)> = HashMap::new();
    for (at, (reading, selection)) in readings.iter().zip(selections).enumerate() {
        let candidates = selection.candidates.iter().map(|one| (one.person, u8::MAX));
        let dropped = selection.dropped.iter().map(|one| match one.step {
            Step::Earlier => (one.person, 0),
            step => (one.person, step as u8 + 1),
        });
        for (person, far) in candidates.chain(dropped) {
            let entry = reading.people().get(person);
            let Some(own) = entry.and_then(|entry| Identity::of(entry, &reading.source().identity)) else {
                continue;
            };
            if best.get(&own).is_none_or(|(_, known)| *known < far) {
                best.insert(own, (at, far));
            }
        }
    }
    best.into_iter().map(|(own, (at, _))| (own, at)).collect()
}
