//! Entries of a reading other than people: those that a field follows, and groups to be imported.

use crate::ldap::entry::{Entries, Entry};
use crate::ldap::name::DnKey;
use indexmap::IndexSet;
use std::collections::HashMap;

/// The outcome of following a field to another entry.
#[derive(Clone, Copy, Debug)]
pub enum Followed<'r> {
    /// The entry.
    Entry(Entry<'r>),
    /// No entry has this name.
    Gone,
    /// The name was not read.
    Unknown,
}

/// Entries other than people that fields refer to.
#[derive(Debug, Default)]
pub(super) struct FollowedEntries {
    pub(super) entries: Entries,
    /// The index of each among the entries; `None` if it does not exist.
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

    /// Records that no entry has this name.
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

/// Groups to be imported, with their keys.
#[derive(Debug, Default)]
pub(super) struct ApplicationGroups {
    pub(super) entries: Entries,
    pub(super) keys: IndexSet<DnKey>,
    /// The attribute of their lasting identity.
    pub(super) identity: String,
}

impl ApplicationGroups {
    /// Adds a group; false for a repeat.
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
