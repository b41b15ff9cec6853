//! Entries of a reading beside the people: those that a field follows, and the application's groups.

use crate::ldap::entry::{Entries, Entry};
use crate::ldap::name::DnKey;
use indexmap::IndexSet;
use std::collections::HashMap;

/// An entry that a field follows, as far as this reading knows it.
#[derive(Clone, Copy, Debug)]
pub enum Followed<'r> {
    /// It was read.
    Entry(Entry<'r>),
    /// There is none of this name.
    Gone,
    /// It was not read.
    Unknown,
}

/// Entries that fields of people name, and that are none of the people.
#[derive(Debug, Default)]
pub(super) struct FollowedEntries {
    pub(super) entries: Entries,
    /// The place of each among the entries; none for one that does not exist.
    places: HashMap<DnKey, Option<usize>>,
}

impl FollowedEntries {
    pub(super) fn add<'v, A, V>(&mut self, name: DnKey, dn: &str, attributes: A)
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        self.places.insert(name, Some(self.entries.len()));
        self.entries.push(dn, attributes);
    }

    /// Notes that there is no entry of this name.
    pub(super) fn add_gone(&mut self, name: DnKey) {
        self.places.insert(name, None);
    }

    pub(super) fn find(&self, name: &DnKey) -> Followed<'_> {
        match self.places.get(name) {
            Some(Some(at)) => self.entries.get(*at).map_or(Followed::Unknown, Followed::Entry),
            Some(None) => Followed::Gone,
            None => Followed::Unknown,
        }
    }
}

/// Groups that come into the application, with their names for comparing.
#[derive(Debug, Default)]
pub(super) struct ApplicationGroups {
    pub(super) entries: Entries,
    pub(super) keys: IndexSet<DnKey>,
    /// The attribute that holds their lasting identity.
    pub(super) identity: String,
}

impl ApplicationGroups {
    /// Keeps a group, once. False if it came already.
    pub(super) fn add<'v, A, V>(&mut self, key: DnKey, dn: &str, attributes: A) -> bool
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        let new = self.keys.insert(key);
        if new {
            self.entries.push(dn, attributes);
        }
        new
    }
}
