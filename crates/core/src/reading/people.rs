//! The people of a reading, and their numbers among all names.

use crate::graph::NodeId;
use crate::ldap::entry::Entries;
use crate::ldap::identity::Identity;
use crate::ldap::name::DnKey;
use fixedbitset::FixedBitSet;
use std::collections::HashMap;

/// The people of linked accounts who are in no base.
#[derive(Debug, Default)]
pub(super) struct Elsewhere {
    pub(super) entries: Entries,
    pub(super) keys: Vec<DnKey>,
    pub(super) places: HashMap<Identity, usize>,
}

impl Elsewhere {
    pub(super) fn add<'v, A, V>(&mut self, identity: Identity, key: DnKey, dn: &str, attributes: A)
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        self.places.insert(identity, self.keys.len());
        self.keys.push(key);
        self.entries.push(dn, attributes);
    }
}

#[derive(Debug, Default)]
pub(super) struct People {
    pub(super) entries: Entries,
    /// The number of each person, by index.
    nodes: Vec<NodeId>,
    /// The index of each person, by number; other names have none.
    places: Vec<u32>,
    /// The numbers of people: a compact set, since it is consulted for every member of every group.
    theirs: FixedBitSet,
}

impl People {
    /// Adds a person; false for a repeat.
    pub(super) fn add<'v, A, V>(&mut self, id: NodeId, dn: &str, attributes: A) -> bool
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        if id.index() >= self.theirs.len() {
            self.theirs.grow((id.index() + 1).next_power_of_two());
        }
        if self.theirs.put(id.index()) {
            return false;
        }
        self.places.resize(self.places.len().max(id.index() + 1), 0);
        if let Some(place) = self.places.get_mut(id.index()) {
            *place = u32::try_from(self.nodes.len()).unwrap_or(u32::MAX);
        }
        self.nodes.push(id);
        self.entries.push(dn, attributes);
        true
    }

    /// Another name of a person.
    pub(super) fn also(&mut self, id: NodeId, person: usize) {
        if id.index() >= self.theirs.len() {
            self.theirs.grow((id.index() + 1).next_power_of_two());
        }
        self.theirs.insert(id.index());
        self.places.resize(self.places.len().max(id.index() + 1), 0);
        if let Some(place) = self.places.get_mut(id.index()) {
            *place = u32::try_from(person).unwrap_or(u32::MAX);
        }
    }

    pub(super) fn node(&self, person: usize) -> Option<NodeId> {
        self.nodes.get(person).copied()
    }

    pub(super) fn place(&self, id: NodeId) -> Option<usize> {
        let place = self.places.get(id.index()).filter(|_| self.has(id))?;
        Some(*place as usize)
    }

    /// Whether a number belongs to a person.
    pub(super) fn has(&self, id: NodeId) -> bool {
        self.theirs.contains(id.index())
    }
}
