//! Everything that one run read from a directory, and the proof that it is whole.
//!
//! A [`ReadingBuilder`] records what is being read and how each part ended; [`ReadingBuilder::finish`] turns it into
//! a [`Reading`]. Only there a [`Whole`] is made, and only if every base, group and look-up that the intake needs
//! ended with the server's final success. A change that takes an account away requires that proof, so an interrupted
//! reading removes nobody.

mod again;
mod builder;
mod counting;
mod entries;
mod footprint;
mod parts;
mod people;
mod request;
pub mod snapshot;
#[cfg(test)]
mod tests;

pub use again::Again;
pub use builder::ReadingBuilder;
pub use entries::Followed;
pub use footprint::{ChangeMark, Counted, Fall, Footprint};
pub use parts::{Ended, Gap, Hidden, Part, PartId, Whole};
pub use request::{GroupRequest, PlacePurpose, Request};

use crate::graph::{Graph, NodeId, Reach};
use crate::ldap::entry::{Entries, Entry, Names};
use crate::ldap::identity::Identity;
use crate::ldap::name::{Dn, DnKey};
use crate::ldap::schema::{Schema, ServerKind};
use entries::{ApplicationGroups, FollowedEntries};
use jiff::Timestamp;
use people::{Elsewhere, People};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// The origin of a reading.
#[derive(Clone, Debug, Default)]
pub struct Source {
    /// The directory's name in the settings.
    pub directory: String,
    /// The server that answered, as the settings name it.
    pub server: String,
    /// The server's own name, if it tells.
    pub own_name: Option<String>,
    /// The server's change mark when the reading began, if it tells.
    pub mark: Option<ChangeMark>,
    /// The bind account; `None` if a snapshot answered.
    pub bound: Option<String>,
    /// The server was a domain controller's global catalog, which holds only some attributes and members.
    pub is_catalog: bool,
    /// What kind of server it is.
    pub kind: ServerKind,
    /// The attribute that holds the lasting identity.
    pub identity: String,
    /// The naming contexts of the directory.
    pub tops: Vec<Dn>,
    /// Remarks on harmless events: another server, a second look.
    pub notes: Vec<String>,
    /// The time of the reading, which decides whether an account has expired.
    pub at: Timestamp,
    /// The schema that the server published; `None` if only its kind is known.
    pub schema: Option<Arc<Schema>>,
}

/// A single reading, where one for each intake is expected.
impl AsRef<[Reading]> for Reading {
    fn as_ref(&self) -> &[Reading] {
        std::slice::from_ref(self)
    }
}

/// The place of a person whom no base contains.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whereabouts {
    /// The entry exists, under this name.
    Elsewhere(String),
    /// The directory shows no such entry.
    Nowhere,
}

/// Everything that one run read.
#[derive(Debug)]
pub struct Reading {
    source: Source,
    people: People,
    graph: Graph,
    followed: FollowedEntries,
    application_groups: ApplicationGroups,
    whereabouts: HashMap<Identity, Whereabouts>,
    elsewhere: Elsewhere,
    /// The identities that two people have.
    shared: HashSet<Identity>,
    /// Those who changed again and again while they were read.
    moving: HashSet<Identity>,
    just_changed: HashSet<Identity>,
    /// Those whom the server judges otherwise by a condition.
    doubted: HashSet<Identity>,
    doubts: Vec<String>,
    /// The places in the settings that were not shown.
    hidden_places: Vec<DnKey>,
    /// Attributes that people had at the last apply, and nobody shows now.
    hidden_attributes: HashSet<String>,
    gaps: Vec<Gap>,
    whole: Option<Whole>,
    /// True if it is about one person.
    is_of_one: bool,
    /// The footprint of this reading, and that of the last apply.
    footprint: Option<Footprint>,
    before: Option<Footprint>,
}

impl Reading {
    /// True for a reading of what one person depends on. It says nothing of others, however whole it is.
    #[must_use]
    pub fn is_of_one(&self) -> bool {
        self.is_of_one
    }

    /// The server that answered, by its own name, or as the settings name it.
    #[must_use]
    pub fn server(&self) -> &str {
        self.source.own_name.as_deref().unwrap_or(&self.source.server)
    }

    /// Its origin.
    #[must_use]
    pub fn source(&self) -> &Source {
        &self.source
    }

    /// The attributes known there.
    #[must_use]
    pub fn schema(&self) -> &Schema {
        self.source.schema.as_deref().unwrap_or_else(|| Schema::of(self.source.kind))
    }

    /// The people: entries under the bases that match the filter.
    #[must_use]
    pub fn people(&self) -> &Entries {
        &self.people.entries
    }

    /// The key of the person at `index` of [`Reading::people`].
    #[must_use]
    pub fn key(&self, index: usize) -> Option<&DnKey> {
        self.graph.key(self.people.node(index)?)
    }

    /// Whether a name is one of the people.
    #[must_use]
    pub fn is_person(&self, key: &DnKey) -> bool {
        self.graph.find(key).is_some_and(|id| self.is_person_node(id))
    }

    /// The index of a name in [`Reading::people`].
    #[must_use]
    pub fn index_of(&self, key: &DnKey) -> Option<usize> {
        self.people.place(self.graph.find(key)?)
    }

    /// Whether the name with this number is one of the people.
    pub(crate) fn is_person_node(&self, id: NodeId) -> bool {
        self.people.has(id)
    }

    /// The number in the graph of the person at `index` of [`Reading::people`].
    pub(crate) fn node(&self, index: usize) -> Option<NodeId> {
        self.people.node(index)
    }

    /// The entry with this name that a field follows, other than people.
    #[must_use]
    pub fn followed(&self, key: &DnKey) -> Followed<'_> {
        self.followed.find(key)
    }

    /// All entries that fields of people follow, other than people.
    #[must_use]
    pub fn all_followed(&self) -> &Entries {
        &self.followed.entries
    }

    /// The attributes of those entries.
    #[must_use]
    pub fn followed_names(&self) -> &Names {
        self.followed.entries.names()
    }

    /// The groups to be imported.
    #[must_use]
    pub fn application_groups(&self) -> &Entries {
        &self.application_groups.entries
    }

    /// The group to be imported that has this name.
    #[must_use]
    pub fn application_group(&self, key: &DnKey) -> Option<Entry<'_>> {
        self.application_groups.entries.get(self.application_groups.keys.get_index_of(key)?)
    }

    /// The attribute of the groups' lasting identity.
    #[must_use]
    pub fn group_identity(&self) -> &str {
        &self.application_groups.identity
    }

    /// The key of the group at `index` of [`Reading::application_groups`].
    #[must_use]
    pub fn application_group_key(&self, index: usize) -> Option<&DnKey> {
        self.application_groups.keys.get_index(index)
    }

    /// Whether a group may have members that were not seen; `reach` holds its known members.
    #[must_use]
    pub fn hides_members_of(&self, group: &DnKey, reach: &Reach) -> bool {
        self.gaps.iter().any(|gap| match &gap.hides_members {
            Hidden::None => false,
            Hidden::Of(hidden) => hidden == group || reach.contains(&self.graph, hidden),
            Hidden::Any => true,
        })
    }

    /// [`is_moving`](Self::is_moving), by the entry.
    pub(crate) fn is_entry_moving(&self, entry: Entry<'_>) -> bool {
        (!self.moving.is_empty() || !self.just_changed.is_empty())
            && Identity::of(entry, &self.source.identity).is_some_and(|identity| self.is_moving(&identity))
    }

    /// Whether two of the people have this identity, so that it tells neither from the other.
    #[must_use]
    pub fn is_shared(&self, identity: &Identity) -> bool {
        !self.shared.is_empty() && self.shared.contains(identity)
    }

    /// True for a person who changed a moment ago, and whom groups may list by another name. Membership of a group is
    /// certain then; its absence is not.
    #[must_use]
    pub fn is_moving(&self, identity: &Identity) -> bool {
        self.may_be_excluded(identity)
            || (!self.just_changed.is_empty() && self.just_changed.contains(identity))
    }

    /// True for such a person whom excluding groups may list.
    #[must_use]
    pub fn may_be_excluded(&self, identity: &Identity) -> bool {
        !self.moving.is_empty() && self.moving.contains(identity)
    }

    /// The conditions of the settings that the server judges otherwise for some people, in words.
    #[must_use]
    pub fn doubts(&self) -> &[String] {
        &self.doubts
    }

    /// True for a person whom the server judges otherwise by a condition of the settings.
    #[must_use]
    pub fn is_doubted(&self, identity: &Identity) -> bool {
        !self.doubted.is_empty() && self.doubted.contains(identity)
    }

    /// People of linked accounts who are in no base, as far as they were looked up.
    #[must_use]
    pub fn elsewhere(&self) -> &Entries {
        &self.elsewhere.entries
    }

    /// The index of such a person in [`Reading::elsewhere`], and the key of their name.
    #[must_use]
    pub fn elsewhere_of(&self, identity: &Identity) -> Option<(usize, &DnKey)> {
        let at = *self.elsewhere.places.get(identity)?;
        Some((at, self.elsewhere.keys.get(at)?))
    }

    /// Whether a place that the settings name was not shown, so that nobody is known to be elsewhere.
    #[must_use]
    pub fn hides_place(&self, place: &DnKey) -> bool {
        self.hidden_places.contains(place)
    }

    /// True for an attribute that people had at the last apply, and that nobody shows now.
    #[must_use]
    pub fn hides_attribute(&self, name: &str) -> bool {
        !self.hidden_attributes.is_empty() && self.hidden_attributes.contains(&name.to_ascii_lowercase())
    }

    /// The footprint; `None` before [`Reading::hold_against`].
    #[must_use]
    pub fn footprint(&self) -> Option<&Footprint> {
        self.footprint.as_ref()
    }

    /// The footprint that the last apply remembers, if any.
    #[must_use]
    pub fn footprint_before(&self) -> Option<&Footprint> {
        self.before.as_ref()
    }

    /// The groups and memberships.
    #[must_use]
    pub fn graph(&self) -> &Graph {
        &self.graph
    }

    /// The place of a person whom no base contains; `None` if the look-up was not made or failed.
    #[must_use]
    pub fn whereabouts(&self, identity: &Identity) -> Option<&Whereabouts> {
        self.whereabouts.get(identity)
    }

    /// Every person looked up, with their place.
    pub fn all_whereabouts(&self) -> impl Iterator<Item = (&Identity, &Whereabouts)> {
        self.whereabouts.iter()
    }

    /// Parts that were not read to their end; empty exactly when there is a proof.
    #[must_use]
    pub fn gaps(&self) -> &[Gap] {
        &self.gaps
    }

    /// The proof that nothing is missing.
    #[must_use]
    pub fn whole(&self) -> Option<&Whole> {
        self.whole.as_ref()
    }
}
