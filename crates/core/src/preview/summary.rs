//! The figures of a preview: accounts before and after, seats, people with missing values.

use super::situation::Selected;
use super::{Change, ChangeKind, Held};
use crate::account::{Account, State};
use crate::draw::Open;
use crate::graph::Leaf;
use crate::ldap::name::DnKey;
use crate::selection::Reason;
use serde::Serialize;
use std::collections::HashSet;

/// The number of accounts, now and after the changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct AccountCounts {
    /// Accounts in the application's list.
    pub now: usize,
    /// Accounts after the changes.
    pub after: usize,
    /// Active accounts now; each takes a seat.
    pub active_now: usize,
    /// Active accounts after the changes.
    pub active_after: usize,
    /// The number of seats, if the settings give it.
    pub seats: Option<u64>,
}

impl AccountCounts {
    pub(super) fn new(accounts: &[Account], changes: &[Change], seats: Option<u64>) -> Self {
        let now = accounts.len();
        let active = || accounts.iter().filter(|account| account.state == State::Active);
        let removed = changes.iter().filter(|change| change.kind() == ChangeKind::Remove);
        let removed: HashSet<&str> = removed.map(|change| change.login.as_str()).collect();
        let active_now = active().count();
        let (mut after, mut active_after) = (now, active_now);
        for change in changes {
            match change.kind() {
                ChangeKind::Import => {
                    after += 1;
                    active_after += 1;
                }
                ChangeKind::Restore => active_after += 1,
                ChangeKind::Adopt if change.fields.contains_key("state") => active_after += 1,
                ChangeKind::Suspend => active_after -= 1,
                ChangeKind::Remove => after -= 1,
                ChangeKind::Adopt | ChangeKind::Update | ChangeKind::Wait | ChangeKind::Clash => {}
            }
        }
        if !removed.is_empty() {
            active_after -= active().filter(|account| removed.contains(account.login.as_str())).count();
        }
        Self { now, after, active_now, active_after, seats }
    }
}

/// Accounts that would get no seat. Seats go first to active accounts, then to restored and adopted ones, then to new
/// ones.
pub(super) fn unseated(changes: &[Change], counts: &AccountCounts) -> Vec<String> {
    let Some(seats) = counts.seats.and_then(|seats| usize::try_from(seats).ok()) else { return Vec::new() };
    let comes = |kind: ChangeKind| {
        changes.iter().filter(move |change| match kind {
            ChangeKind::Adopt => change.kind() == kind && change.fields.contains_key("state"),
            _ => change.kind() == kind,
        })
    };
    let coming = [ChangeKind::Restore, ChangeKind::Adopt, ChangeKind::Import].into_iter().flat_map(comes);
    let coming: Vec<&Change> = coming.collect();
    let staying = counts.active_after - coming.len();
    coming.into_iter().skip(seats.saturating_sub(staying)).map(|change| change.login.clone()).collect()
}

/// A group member who is not among the people found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Stranger {
    /// The member's name, as written in the group.
    pub dn: String,
    /// The group that lists it.
    pub group: String,
}

/// Empty unless the reading is whole, since a group that was not read would look like a stranger. A person found by
/// any intake is not a stranger.
pub(super) fn strangers(parts: &[Selected<'_>]) -> Vec<Stranger> {
    if parts.iter().any(|part| part.reading.whole().is_none()) {
        return Vec::new();
    }
    let mut seen = HashSet::new();
    let mut strangers = Vec::new();
    for part in parts {
        let is_found = |key: &DnKey| parts.iter().any(|other| other.reading.is_person(key));
        let leaves = part.selection.strangers(part.reading).filter(|leaf| !is_found(leaf.key));
        strangers.extend(leaves.filter(|leaf| seen.insert(leaf.key.clone())).map(own));
    }
    strangers
}

fn own(leaf: Leaf<'_>) -> Stranger {
    Stranger { dn: leaf.dn.to_owned(), group: leaf.group.to_owned() }
}

/// A person who is left out only because a required value is missing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Incomplete {
    /// The person's entry.
    pub dn: String,
    /// The fault, in words.
    pub missing: String,
}

pub(super) fn incomplete(part: &Selected<'_>) -> Vec<Incomplete> {
    let (reading, selection) = (part.reading, part.selection);
    selection
        .dropped
        .iter()
        .filter_map(|dropped| {
            let missing = match &dropped.reason {
                Reason::Missing(missing) => format!("{} {}", missing.field, missing.why),
                Reason::NoIdentity => format!("no {}", reading.source().identity),
                _ => return None,
            };
            let dn = reading.people().get(dropped.person)?.dn().to_owned();
            Some(Incomplete { dn, missing })
        })
        .collect()
}

/// A field without a reliable value: the account keeps its current one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct OpenField {
    /// The person's entry.
    pub dn: String,
    /// The login.
    pub login: String,
    /// The field.
    pub field: String,
    /// The reason, in words.
    pub why: String,
    /// Whether the store has no room for the value.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub is_unfit: bool,
}

/// The fields that keep their value, of people who have an account or get one.
pub(super) fn open_fields(parts: &[Selected<'_>], held: &[Held]) -> Vec<OpenField> {
    let is_held = |held: &&Held| held.would == Some(ChangeKind::Import);
    let without: HashSet<&str> = held.iter().filter(is_held).filter_map(|held| held.dn.as_deref()).collect();
    let all = parts.iter().flat_map(open_fields_of);
    all.filter(|open| !without.contains(open.dn.as_str())).collect()
}

fn open_fields_of(part: &Selected<'_>) -> Vec<OpenField> {
    let (reading, selection) = (part.reading, part.selection);
    let mut list = Vec::new();
    for candidate in &selection.candidates {
        let open = candidate.proposal.all_open().filter(|(_, open)| !matches!(open, Open::Kept));
        for (at, open) in open {
            let name = part.intake.fields.get_index(at).map(|(name, _)| name.clone());
            let entry = reading.people().get(candidate.person);
            if let (Some(field), Some(entry)) = (name, entry) {
                let (dn, login) = (entry.dn().to_owned(), candidate.proposal.login().to_owned());
                let is_unfit = matches!(open, Open::Unfit(_));
                list.push(OpenField { dn, login, field, why: open.in_words(), is_unfit });
            }
        }
    }
    list.sort_by(|one, other| {
        (&one.field, &one.login, &one.dn).cmp(&(&other.field, &other.login, &other.dn))
    });
    list
}
