//! A reading under way: [`ReadingBuilder`] is told what is being read and how each part ended.

use super::entries::{ApplicationGroups, FollowedEntries};
use super::parts::{Ended, Part, PartId, Parts};
use super::people::People;
use super::{Reading, Source, Whereabouts};
use crate::graph::{Graph, NodeId};
use crate::ldap::entry::Entries;
use crate::ldap::identity::{Identity, LASTING, Lasting};
use crate::ldap::name::{Dn, DnKey, KeyReader, ParseError};
use crate::ldap::schema::{Schema, ServerKind};
use crate::settings::{GroupPurpose, Intake};
use std::collections::HashMap;
use std::sync::Arc;

/// A reading under way: each part is opened and closed, and what it brings is put in.
#[derive(Debug, Default)]
pub struct ReadingBuilder {
    parts: Parts,
    people: People,
    /// Reads the people's names.
    names: KeyReader,
    /// The names of people and of groups, and who is in which.
    graph: Graph,
    followed: FollowedEntries,
    /// Groups that come into the application.
    application_groups: ApplicationGroups,
    found: HashMap<Identity, String>,
    source: Source,
    /// Whether groups will be read, which list people.
    reads_groups: bool,
}

impl ReadingBuilder {
    /// Nothing read yet.
    #[must_use]
    pub fn new(source: Source) -> Self {
        Self { source, ..Self::default() }
    }

    /// Begins a part. Until it is closed as [`Ended::Complete`], there is no proof.
    pub fn open(&mut self, part: Part) -> PartId {
        self.parts.open(part)
    }

    /// Begins a group that is named, as [`ReadingBuilder::open`] does.
    pub fn open_group(&mut self, dn: &Dn, purpose: GroupPurpose) -> PartId {
        let group = self.graph.named(dn);
        self.open(Part::Group { group, purpose })
    }

    /// Ends a part. The first ending counts.
    pub fn close(&mut self, part: PartId, ended: Ended) {
        self.parts.close(part, ended);
    }

    /// Ends every part that is still open, and what was not begun, for one reason.
    pub fn cut_short(&mut self, reason: &str) {
        self.parts.cut_short(reason);
    }

    /// Keeps one person; one that came already (bases may overlap) is kept once. False if so.
    ///
    /// # Errors
    /// The name is not a distinguished name.
    pub fn person<'v, A, V>(&mut self, dn: &str, attributes: A) -> Result<bool, ParseError>
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
        self.followed.add(name, dn, attributes);
    }

    /// Says that there is no entry of a name that a field of somebody has.
    pub fn followed_gone(&mut self, name: DnKey) {
        self.followed.add_gone(name);
    }

    /// Keeps a group that comes into the application, once. False if it came already.
    ///
    /// # Errors
    /// The name is not a distinguished name.
    pub fn application_group<'v, A, V>(&mut self, dn: &str, attributes: A) -> Result<bool, ParseError>
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        Ok(self.application_groups.add(Dn::parse(dn)?.key(), dn, attributes))
    }

    /// Decides which attribute holds the lasting identity of the groups that come into the application; how many
    /// of them do not show it.
    pub fn identify_groups(&mut self) -> (String, usize) {
        let entries = &self.application_groups.entries;
        let usual = if self.source.kind == ServerKind::Controller { "objectGUID" } else { "entryUUID" };
        let present = LASTING.into_iter().find(|name| entries.names().find(name).is_some());
        let attribute = present.unwrap_or(usual).to_owned();
        let lasting = Lasting::new(&attribute, entries.names());
        let hidden = entries.iter().filter(|entry| lasting.of(*entry).is_none()).count();
        self.application_groups.identity.clone_from(&attribute);
        (attribute, hidden)
    }

    /// The groups whose nests must be read, and what for: those that the intake names, and those that come into
    /// the application.
    #[must_use]
    pub fn nests(&self, intake: &Intake) -> Vec<(Vec<Dn>, GroupPurpose)> {
        let named = intake.nests().into_iter();
        let brought = self.application_groups.entries.iter().filter_map(|entry| Dn::parse(entry.dn()).ok());
        named
            .map(|(groups, purpose)| (groups.into_iter().cloned().collect(), purpose))
            .chain([(brought.collect(), GroupPurpose::Import)])
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

    /// Keeps where a person is whom no base showed. False if that was known already.
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

    /// Ends the reading: with the proof if everything that `intake` needs was read to its end.
    #[must_use]
    pub fn finish(mut self, intake: &Intake) -> Reading {
        let needed = self.needed(intake);
        let absent: Vec<Identity> =
            self.parts.looked_up().filter(|person| !self.found.contains_key(*person)).cloned().collect();
        let mut whereabouts: HashMap<_, _> =
            self.found.into_iter().map(|(person, dn)| (person, Whereabouts::Elsewhere(dn))).collect();
        whereabouts.extend(absent.into_iter().map(|person| (person, Whereabouts::Nowhere)));
        let (gaps, whole) = self.parts.finish(&needed, &self.graph, intake);
        Reading {
            source: self.source,
            people: self.people,
            graph: self.graph,
            followed: self.followed,
            application_groups: self.application_groups,
            whereabouts,
            gaps,
            whole,
        }
    }
}
