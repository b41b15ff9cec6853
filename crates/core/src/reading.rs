//! Everything one run read from a directory, and the proof that it is whole.
//!
//! A [`Sweep`] is told what is being read and how each part ended; [`Sweep::finish`] turns it into
//! a [`Reading`]. It is the only place that makes a [`Whole`], and only if every base, every group
//! and every look-up that the intake needs ended with the server's final success. Whatever would
//! take an account away asks for that proof, so an interrupted reading removes nobody.

mod part;
mod people;

use part::SNAPSHOT;
pub use part::{Part, Purpose};
use people::People;

use crate::entry::{Entries, Entry, Names};
use crate::identity::{Identity, LASTING, Lasting};
use crate::membership::{Graph, NodeId, Reach};
use crate::name::{Dn, DnKey, KeyReader};
use crate::schema::Schema;
use crate::settings::Intake;
use foldhash::HashSet;
use indexmap::IndexSet;
use jiff::Timestamp;
use serde::Serialize;
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

/// Proof that a sweep saw everything it asked for (every base, page, group and look-up).
///
/// Only [`Sweep::finish`] makes one, and it cannot be copied out of its [`Reading`].
#[derive(Debug)]
pub struct Whole(());

/// What kind of server answers, as far as it matters for defaults.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ServerKind {
    /// A domain controller (Active Directory, Samba).
    Controller,
    /// Anything else that speaks LDAPv3.
    #[default]
    Plain,
}

/// How the reading of a part ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ended {
    /// With the server's final success, and nothing left out.
    Complete,
    /// With a result code other than success, a reference that was not followed, a cut connection:
    /// in words, for people.
    Short(String),
}

/// One thing that was not read to its end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Gap {
    /// What was being read.
    pub part: String,
    /// Why it is not whole.
    pub reason: String,
    /// Whether the people who must stay out may be incomplete through it.
    #[serde(skip)]
    pub hides_excluded: bool,
    /// Whose members may not be known through it.
    #[serde(skip)]
    pub hides_members: Hidden,
}

/// Groups whose members may not be known.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Hidden {
    /// Of none.
    #[default]
    None,
    /// Of this group, and of every group that it is in.
    Of(DnKey),
    /// Of any.
    Any,
}

impl fmt::Display for Gap {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        // What an earlier reading lacks names the part itself.
        if self.part == SNAPSHOT {
            return out.write_str(&self.reason);
        }
        write!(out, "{}: {}", self.part, self.reason)
    }
}

/// Names one part of a [`Sweep`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PartId(usize);

/// A reading under way.
#[derive(Debug, Default)]
pub struct Sweep {
    parts: Vec<(Part, Option<Ended>)>,
    people: People,
    /// Reads the people's names.
    names: KeyReader,
    /// The names of people and of groups, and who is in which.
    graph: Graph,
    followed: OtherEntries,
    /// Groups that come into the application.
    brought: Brought,
    found: HashMap<Identity, String>,
    /// Why the reading ended before everything was begun.
    cut: Option<String>,
    source: Source,
    /// Whether groups will be read, which list people.
    reads_groups: bool,
}

/// Entries that fields of people name, and that are none of the people.
#[derive(Debug, Default)]
struct OtherEntries {
    entries: Entries,
    /// The place of each among the entries; none for one that does not exist.
    places: HashMap<DnKey, Option<usize>>,
}

/// Groups that come into the application, and their names for comparing.
#[derive(Debug, Default)]
struct Brought {
    entries: Entries,
    keys: IndexSet<DnKey>,
    /// The attribute that holds their lasting identity.
    identity: String,
}

/// What is known of an entry that a field names.
#[derive(Clone, Copy, Debug)]
pub enum Followed<'r> {
    /// It was read.
    Entry(Entry<'r>),
    /// There is none of this name.
    Gone,
    /// It was not read.
    Unknown,
}

/// Where a reading comes from.
#[derive(Clone, Debug, Default)]
pub struct Source {
    /// The directory's name in the settings.
    pub directory: String,
    /// The server that answered, as the settings name it.
    pub server: String,
    /// What kind of server it is.
    pub kind: ServerKind,
    /// The attribute that holds the lasting identity.
    pub identity: String,
    /// The tops of the directory's trees.
    pub tops: Vec<Dn>,
    /// What happened on the way that did no harm: another server, a second look.
    pub notes: Vec<String>,
    /// When it was read, to tell whose account has expired.
    pub at: Timestamp,
    /// What the server itself says of attributes; none where only its kind is known.
    pub schema: Option<Arc<Schema>>,
}

/// One reading, where one is wanted for each intake.
impl AsRef<[Reading]> for Reading {
    fn as_ref(&self) -> &[Reading] {
        std::slice::from_ref(self)
    }
}

impl Sweep {
    /// Nothing read yet.
    #[must_use]
    pub fn new(source: Source) -> Self {
        Self { source, ..Self::default() }
    }

    /// Begins a part. Until it is closed as [`Ended::Complete`], there is no proof.
    pub fn open(&mut self, part: Part) -> PartId {
        self.parts.push((part, None));
        PartId(self.parts.len() - 1)
    }

    /// Begins a group that is named, as [`Sweep::open`] does.
    pub fn open_group(&mut self, dn: &Dn, purpose: Purpose) -> PartId {
        let group = self.graph.named(dn);
        self.open(Part::Group { group, purpose })
    }

    /// Ends a part. The first ending counts.
    pub fn close(&mut self, part: PartId, ended: Ended) {
        if let Some((_, slot @ None)) = self.parts.get_mut(part.0) {
            *slot = Some(ended);
        }
    }

    /// Ends every part that is still open, and what was not begun, for one reason.
    pub fn cut_short(&mut self, reason: &str) {
        self.cut.get_or_insert_with(|| reason.to_owned());
        for (_, slot) in self.parts.iter_mut().filter(|(_, slot)| slot.is_none()) {
            *slot = Some(Ended::Short(reason.to_owned()));
        }
    }

    /// Keeps one person; one that came already (bases may overlap) is kept once. False if so.
    ///
    /// # Errors
    /// The name is not a distinguished name.
    pub fn person<'v, A, V>(&mut self, dn: &str, attributes: A) -> Result<bool, crate::name::ParseError>
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        let id = self.graph.node(self.names.key(dn)?, dn);
        let new = self.people.add(id, dn, attributes);
        if new && self.reads_groups {
            self.graph.remember(dn, id);
        }
        Ok(new)
    }

    /// Says that groups will be read: how people's names are written is remembered while they are read, when there
    /// is time.
    pub fn expect_groups(&mut self) {
        self.reads_groups = true;
    }

    /// The name of the person at this place, for comparing and as the directory wrote it.
    #[must_use]
    pub fn name_of(&self, person: usize) -> Option<(&DnKey, &str)> {
        Some((self.graph.key(self.people.node(person)?)?, self.people.entries.get(person)?.dn()))
    }

    /// A person's number in the graph of groups.
    #[must_use]
    pub fn node_of(&self, person: usize) -> Option<NodeId> {
        self.people.node(person)
    }

    /// Whether a number of the graph is one of the people read so far.
    #[must_use]
    pub fn is_person_node(&self, id: NodeId) -> bool {
        self.people.has(id)
    }

    /// Says what happened on the way that did no harm.
    pub fn note(&mut self, note: String) {
        self.source.notes.push(note);
    }

    /// Whether a name is one of the people read so far.
    #[must_use]
    pub fn is_person(&self, key: &DnKey) -> bool {
        self.graph.find(key).is_some_and(|id| self.is_person_node(id))
    }

    /// The people read so far.
    #[must_use]
    pub fn people(&self) -> &Entries {
        &self.people.entries
    }

    /// The groups read so far.
    pub fn graph_mut(&mut self) -> &mut Graph {
        &mut self.graph
    }

    /// The groups read so far, to look at.
    #[must_use]
    pub fn graph(&self) -> &Graph {
        &self.graph
    }

    /// Keeps an entry that a field of somebody names.
    pub fn followed<'v, A, V>(&mut self, name: DnKey, dn: &str, attributes: A)
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        self.followed.places.insert(name, Some(self.followed.entries.len()));
        self.followed.entries.push(dn, attributes);
    }

    /// Says that there is no entry of a name that a field of somebody has.
    pub fn followed_gone(&mut self, name: DnKey) {
        self.followed.places.insert(name, None);
    }

    /// Keeps a group that comes into the application, once. False if it came already.
    ///
    /// # Errors
    /// The name is not a distinguished name.
    pub fn application_group<'v, A, V>(
        &mut self,
        dn: &str,
        attributes: A,
    ) -> Result<bool, crate::name::ParseError>
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        let new = self.brought.keys.insert(Dn::parse(dn)?.key());
        if new {
            self.brought.entries.push(dn, attributes);
        }
        Ok(new)
    }

    /// Decides which attribute holds the lasting identity of the groups that come into the application; how many
    /// of them do not show it.
    pub fn identify_groups(&mut self) -> (String, usize) {
        let entries = &self.brought.entries;
        let usual = if self.source.kind == ServerKind::Controller { "objectGUID" } else { "entryUUID" };
        let present = LASTING.into_iter().find(|name| entries.names().find(name).is_some());
        let attribute = present.unwrap_or(usual).to_owned();
        let lasting = Lasting::new(&attribute, entries.names());
        let hidden = entries.iter().filter(|entry| lasting.of(*entry).is_none()).count();
        self.brought.identity.clone_from(&attribute);
        (attribute, hidden)
    }

    /// The groups whose nests must be read, and what for: those that the intake names, and those that come into
    /// the application.
    #[must_use]
    pub fn nests(&self, intake: &Intake) -> Vec<(Vec<Dn>, Purpose)> {
        let named = intake.nests().into_iter();
        let brought = self.brought.entries.iter().filter_map(|entry| Dn::parse(entry.dn()).ok());
        named
            .map(|(groups, purpose)| (groups.into_iter().cloned().collect(), purpose))
            .chain([(brought.collect(), Purpose::Bring)])
            .collect()
    }

    /// Says which attribute turned out to hold the lasting identity.
    pub fn set_identity(&mut self, attribute: &str) {
        attribute.clone_into(&mut self.source.identity);
    }

    /// Says what the server itself says of attributes.
    pub fn set_schema(&mut self, schema: Schema) {
        self.source.schema = Some(Arc::new(schema));
    }

    /// The attribute that holds the lasting identity.
    #[must_use]
    pub fn identity(&self) -> &str {
        &self.source.identity
    }

    /// Keeps where a person is whom the sweep did not meet. False if that was known already.
    pub fn found(&mut self, identity: Identity, dn: &str) -> bool {
        self.found.insert(identity, dn.to_owned()).is_none()
    }

    /// The parts without which there is no proof, whether they were begun or not.
    fn needed(&mut self, intake: &Intake) -> Vec<Part> {
        let mut needed: Vec<Part> =
            intake.bases.iter().map(|base| Part::People { base: base.clone() }).collect();
        for (groups, purpose) in self.nests(intake) {
            for dn in groups {
                needed.push(Part::Group { group: self.graph.named(&dn), purpose });
            }
        }
        let brought = intake.application_groups.iter().flat_map(|groups| &groups.bases);
        needed.extend(brought.map(|base| Part::ApplicationGroups { base: base.clone() }));
        let follows = intake.fields.values().any(|rule| rule.followed().next().is_some());
        needed.extend(follows.then_some(Part::FollowedNames));
        needed
    }

    /// Ends the sweep: with the proof if everything that `intake` needs was read to its end.
    #[must_use]
    pub fn finish(mut self, intake: &Intake) -> Reading {
        let needed = self.needed(intake);
        let is_complete = |(_, ended): &&(Part, Option<Ended>)| *ended == Some(Ended::Complete);
        let complete: HashSet<&Part> = self.parts.iter().filter(is_complete).map(|(part, _)| part).collect();
        let mut gaps = Vec::new();
        for (part, ended) in &self.parts {
            let reason = match ended {
                Some(Ended::Complete) => continue,
                Some(Ended::Short(reason)) => reason.clone(),
                None => "it was not read to its end".to_owned(),
            };
            gaps.push(part.gap(reason, &self.graph, intake));
        }
        let mut told: HashMap<String, usize> =
            gaps.iter().enumerate().map(|(at, gap)| (gap.part.clone(), at)).collect();
        for part in needed.iter().filter(|part| !complete.contains(part)) {
            let why = self.cut.as_ref().map_or_else(String::new, |reason| format!(": {reason}"));
            let gap = part.gap(format!("it was not read{why}"), &self.graph, intake);
            // A group may be needed for several purposes; its name is told once.
            match told.get(&gap.part).and_then(|at| gaps.get_mut(*at)) {
                Some(known) => known.hides_excluded |= gap.hides_excluded,
                None => {
                    told.insert(gap.part.clone(), gaps.len());
                    gaps.push(gap);
                }
            }
        }
        let mut absent = Vec::new();
        for (part, ended) in &self.parts {
            if let (Part::Lookup { people }, Some(Ended::Complete)) = (part, ended) {
                absent.extend(people.iter().filter(|person| !self.found.contains_key(person)).cloned());
            }
        }
        let mut whereabouts: HashMap<_, _> =
            self.found.into_iter().map(|(person, dn)| (person, Whereabouts::Elsewhere(dn))).collect();
        whereabouts.extend(absent.into_iter().map(|person| (person, Whereabouts::Nowhere)));
        Reading {
            source: self.source,
            people: self.people,
            graph: self.graph,
            followed: self.followed,
            brought: self.brought,
            whereabouts,
            whole: gaps.is_empty().then_some(Whole(())),
            gaps,
        }
    }
}

/// Where a person is whom the sweep of the bases did not meet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whereabouts {
    /// The entry exists, under this name.
    Elsewhere(String),
    /// No such entry, as far as the directory shows.
    Nowhere,
}

/// Everything one run read.
#[derive(Debug)]
pub struct Reading {
    source: Source,
    people: People,
    graph: Graph,
    followed: OtherEntries,
    brought: Brought,
    whereabouts: HashMap<Identity, Whereabouts>,
    gaps: Vec<Gap>,
    whole: Option<Whole>,
}

impl Reading {
    /// Where it comes from.
    #[must_use]
    pub fn source(&self) -> &Source {
        &self.source
    }

    /// What is known of attributes there.
    #[must_use]
    pub fn schema(&self) -> &Schema {
        self.source.schema.as_deref().unwrap_or_else(|| Schema::of(self.source.kind))
    }

    /// The entries under the bases that the filter found.
    #[must_use]
    pub fn people(&self) -> &Entries {
        &self.people.entries
    }

    /// The comparable name of the person at `index` of [`Reading::people`].
    #[must_use]
    pub fn key(&self, index: usize) -> Option<&DnKey> {
        self.graph.key(self.people.node(index)?)
    }

    /// Whether a name is one of the people.
    #[must_use]
    pub fn is_person(&self, key: &DnKey) -> bool {
        self.graph.find(key).is_some_and(|id| self.is_person_node(id))
    }

    /// The place of a name in [`Reading::people`].
    #[must_use]
    pub fn index_of(&self, key: &DnKey) -> Option<usize> {
        self.people.place(self.graph.find(key)?)
    }

    /// Whether a number of the graph is one of the people.
    pub(crate) fn is_person_node(&self, id: NodeId) -> bool {
        self.people.has(id)
    }

    /// The number in the graph of the person at `index` of [`Reading::people`].
    pub(crate) fn node(&self, index: usize) -> Option<NodeId> {
        self.people.node(index)
    }

    /// What is known of an entry that a field of somebody names, and that is none of the people.
    #[must_use]
    pub fn followed(&self, key: &DnKey) -> Followed<'_> {
        match self.followed.places.get(key) {
            Some(Some(at)) => self.followed.entries.get(*at).map_or(Followed::Unknown, Followed::Entry),
            Some(None) => Followed::Gone,
            None => Followed::Unknown,
        }
    }

    /// The entries that fields of people name, and that are none of the people.
    #[must_use]
    pub fn all_followed(&self) -> &Entries {
        &self.followed.entries
    }

    /// The attributes of those entries.
    #[must_use]
    pub fn followed_names(&self) -> &Names {
        self.followed.entries.names()
    }

    /// The groups that come into the application.
    #[must_use]
    pub fn application_groups(&self) -> &Entries {
        &self.brought.entries
    }

    /// The one of them that has this name.
    #[must_use]
    pub fn application_group(&self, key: &DnKey) -> Option<Entry<'_>> {
        self.brought.entries.get(self.brought.keys.get_index_of(key)?)
    }

    /// The attribute that holds their lasting identity.
    #[must_use]
    pub fn group_identity(&self) -> &str {
        &self.brought.identity
    }

    /// The comparable name of the group at `index` of [`Reading::application_groups`].
    #[must_use]
    pub fn application_group_key(&self, index: usize) -> Option<&DnKey> {
        self.brought.keys.get_index(index)
    }

    /// Whether somebody may be in a group without its being known; `reach` is what lies in it.
    #[must_use]
    pub fn hides_members_of(&self, group: &DnKey, reach: &Reach) -> bool {
        self.gaps.iter().any(|gap| match &gap.hides_members {
            Hidden::None => false,
            Hidden::Of(hidden) => hidden == group || reach.contains(&self.graph, hidden),
            Hidden::Any => true,
        })
    }

    /// The groups that were read.
    #[must_use]
    pub fn graph(&self) -> &Graph {
        &self.graph
    }

    /// Where a person is whom the sweep did not meet; none if nobody looked, or could look.
    #[must_use]
    pub fn whereabouts(&self, identity: &Identity) -> Option<&Whereabouts> {
        self.whereabouts.get(identity)
    }

    /// Everybody who was looked for, and where they are.
    pub fn all_whereabouts(&self) -> impl Iterator<Item = (&Identity, &Whereabouts)> {
        self.whereabouts.iter()
    }

    /// What was not read to its end; empty exactly when there is a proof.
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

#[cfg(test)]
mod tests;
