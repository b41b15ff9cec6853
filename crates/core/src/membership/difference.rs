//! The differences between two readings of one group: members gained and lost, and in which group's own list.
//!
//! An entry renamed or moved in between counts as the same entry, if both readings have its lasting identity. No I/O,
//! no recursion; linear in the members of both, apart from sorting.

use super::{Member, Nest};
use crate::graph::GroupDifference;
use crate::ldap::identity::{Identity, Lasting};
use crate::ldap::name::{Dn, DnKey};
use crate::reading::Reading;
use serde::Serialize;
use std::collections::{BTreeSet, HashMap};

/// The differences between a nest and its earlier state.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// Members gained, with their paths.
    pub came: Vec<Member>,
    /// Members lost, with their former paths.
    pub went: Vec<Member>,
    /// The groups of either nest that differ, sorted by name.
    pub groups: Vec<GroupDifference>,
}

impl Nest<'_> {
    /// The differences from `earlier`, the same group in an earlier reading.
    #[must_use]
    pub fn since(&self, earlier: &Nest<'_>) -> Difference {
        let moved = moved(earlier.reading, self.reading);
        let (then, now) = (earlier.people(), self.people());
        let key = |reading: &Reading, member: &Member| -> Option<DnKey> {
            let key = Dn::parse(&member.dn).ok()?.key();
            Some(reading.is_person(&key).then(|| moved.get(&key).cloned()).flatten().unwrap_or(key))
        };
        let was: BTreeSet<DnKey> = then.iter().filter_map(|one| key(earlier.reading, one)).collect();
        let own = |member: &Member| Dn::parse(&member.dn).ok().map(|dn| dn.key());
        let is: BTreeSet<DnKey> = now.iter().filter_map(own).collect();
        Difference {
            came: now.into_iter().filter(|one| own(one).is_none_or(|key| !was.contains(&key))).collect(),
            went: then
                .into_iter()
                .filter(|one| key(earlier.reading, one).is_none_or(|key| !is.contains(&key)))
                .collect(),
            groups: earlier.reading.graph().differences(self.reading.graph(), &moved),
        }
    }
}

/// The people with a new name in the later reading, by lasting identity.
fn moved(earlier: &Reading, later: &Reading) -> HashMap<DnKey, DnKey> {
    let named = |reading: &Reading| -> HashMap<Identity, DnKey> {
        let lasting = Lasting::new(&reading.source().identity, reading.people().names());
        let people = reading.people().iter().enumerate();
        people.filter_map(|(at, entry)| Some((lasting.of(entry)?, reading.key(at)?.clone()))).collect()
    };
    let now = named(later);
    let then = named(earlier).into_iter();
    then.filter_map(|(identity, key)| Some((key, now.get(&identity)?.clone())))
        .filter(|(old, new)| old != new)
        .collect()
}
