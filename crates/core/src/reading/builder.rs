//! A reading in progress: [`ReadingBuilder`] collects entries and records how each part ended.

use super::entries::{ApplicationGroups, FollowedEntries};
use super::parts::{Ended, Part, PartId, Parts};
use super::people::{Elsewhere, People};
use super::{ChangeMark, Reading, Request, Source, Whereabouts};
use crate::graph::{Graph, NodeId};
use crate::ldap::entry::Entries;
use crate::ldap::filter::Filter;
use crate::ldap::identity::{self, Identity, Lasting};
use crate::ldap::name::{Dn, DnError, DnKey, KeyReader, short};
use crate::ldap::schema::{Schema, ServerKind};
use crate::settings::GroupPurpose;
use std::collections::{HashMap, HashSet};
use std::hash::BuildHasher as _;
use std::sync::Arc;

/// People named in a remark.
const NAMED: usize = 5;

/// A reading in progress: parts are opened and closed, and entries added.
#[derive(Debug, Default)]
pub struct ReadingBuilder {
    pub(super) parts: Parts,
    pub(super) people: People,
    /// Computes the keys of people's names.
    pub(super) names: KeyReader,
    /// The names of people and groups, and the memberships.
    pub(super) graph: Graph,
    pub(super) followed: FollowedEntries,
    /// The groups to be imported into the application.
    pub(super) application_groups: ApplicationGroups,
    found: HashMap<Identity, String>,
    elsewhere: Elsewhere,
    pub(super) moving: HashSet<Identity>,
    /// Those whom groups that admit people may list by other names.
    pub(super) just_changed: HashSet<Identity>,
    doubted: HashSet<Identity>,
    /// The conditions that they are judged by, in words.
    doubts: Vec<String>,
    /// Names that people had meanwhile, each with their present one.
    pub(super) earlier: HashMap<NodeId, NodeId>,
    source: Source,
    /// Whether groups will be read as well.
    reads_groups: bool,
    /// True if it is about one person.
    is_of_one: bool,
}

impl ReadingBuilder {
    /// An empty reading.
    #[must_use]
    pub fn new(source: Source) -> Self {
        Self { source, ..Self::default() }
    }

    /// Announces that only what one person depends on is read: nobody else is known to be missing.
    pub fn of_one(&mut self) {
        self.is_of_one = true;
    }

    /// True if only what one person depends on is read.
    #[must_use]
    pub fn is_of_one(&self) -> bool {
        self.is_of_one
    }

    /// Opens a part. Until it is closed as [`Ended::Complete`], there is no proof.
    pub fn open(&mut self, part: Part) -> PartId {
        self.parts.open(part)
    }

    /// Opens a named group, like [`ReadingBuilder::open`].
    pub fn open_group(&mut self, dn: &Dn, purpose: GroupPurpose) -> PartId {
        let group = self.graph.named(dn);
        self.open(Part::Group { group, purpose })
    }

    /// Closes a part. Only the first call counts.
    pub fn close(&mut self, part: PartId, ended: Ended) {
        self.parts.close(part, ended);
    }

    /// Closes every open part, and those not yet opened, for one reason.
    pub fn cut_short(&mut self, reason: &str) {
        self.parts.cut_short(reason);
    }

    /// Adds a person; a repeated one (bases may overlap) is kept once. False for a repeat.
    ///
    /// # Errors
    /// The name is not a distinguished name.
    pub fn person<'v, A, V>(&mut self, dn: &str, attributes: A) -> Result<bool, DnError>
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        Ok(self.person_below(None, dn, attributes)? == Some(true))
    }

    /// Adds a person found below a base, like [`ReadingBuilder::person`]; `None` if the name does not lie there.
    ///
    /// # Errors
    /// The name is not a distinguished name.
    pub fn person_below<'v, A, V>(
        &mut self,
        base: Option<&DnKey>,
        dn: &str,
        attributes: A,
    ) -> Result<Option<bool>, DnError>
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        let key = self.names.key(dn)?;
        if base.is_some_and(|base| !key.is_within(base)) {
            return Ok(None);
        }
        let id = self.graph.node(key, dn);
        let new = self.people.add(id, dn, attributes);
        if new && self.reads_groups {
            self.graph.remember(dn, id);
        }
        Ok(Some(new))
    }

    /// Announces that groups will be read: spellings of people's names are then remembered while there is time.
    pub fn expect_groups(&mut self) {
        self.reads_groups = true;
    }

    /// The name of the person at this index: the key, and as the directory wrote it.
    #[must_use]
    pub fn name_of(&self, person: usize) -> Option<(&DnKey, &str)> {
        Some((self.graph.key(self.people.node(person)?)?, self.people.entries.get(person)?.dn()))
    }

    /// The number of the person at this index in the graph.
    #[must_use]
    pub fn node_of(&self, person: usize) -> Option<NodeId> {
        self.people.node(person)
    }

    /// Whether the name with this number is one of the people so far.
    #[must_use]
    pub fn is_person_node(&self, id: NodeId) -> bool {
        self.people.has(id)
    }

    /// Adds a remark about a harmless event.
    pub fn note(&mut self, note: String) {
        self.source.notes.push(note);
    }

    /// Whether a name is one of the people so far.
    #[must_use]
    pub fn is_person(&self, key: &DnKey) -> bool {
        self.graph.find(key).is_some_and(|id| self.is_person_node(id))
    }

    /// The people so far.
    #[must_use]
    pub fn people(&self) -> &Entries {
        &self.people.entries
    }

    /// The groups so far, to be extended.
    pub fn graph_mut(&mut self) -> &mut Graph {
        &mut self.graph
    }

    /// The groups so far.
    #[must_use]
    pub fn graph(&self) -> &Graph {
        &self.graph
    }

    /// Adds an entry that a field of a person refers to.
    pub fn followed<'v, A, V>(&mut self, name: DnKey, dn: &str, attributes: A)
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        self.followed.add(name, dn, attributes);
    }

    /// Records that an entry which a field refers to does not exist.
    pub fn followed_gone(&mut self, name: DnKey) {
        self.followed.add_gone(name);
    }

    /// Adds a group to be imported; false for a repeat.
    ///
    /// # Errors
    /// The name is not a distinguished name.
    pub fn application_group<'v, A, V>(&mut self, dn: &str, attributes: A) -> Result<bool, DnError>
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        Ok(self.application_groups.add(Dn::parse(dn)?.key(), dn, attributes))
    }

    /// Chooses the attribute for the lasting identity of imported groups; returns it with the number of groups that
    /// lack it.
    pub fn identify_groups(&mut self) -> (String, usize) {
        let entries = &self.application_groups.entries;
        let usual = if self.source.kind == ServerKind::Controller { "objectGUID" } else { "entryUUID" };
        let attribute = identity::usual(entries).unwrap_or(usual).to_owned();
        let lasting = Lasting::new(&attribute, entries.names());
        let hidden = entries.iter().filter(|entry| lasting.of(*entry).is_none()).count();
        self.application_groups.identity.clone_from(&attribute);
        (attribute, hidden)
    }

    /// The groups whose nests must be read, by purpose: those that the request names, and those to be imported.
    #[must_use]
    pub fn nests(&self, request: &Request) -> Vec<(Vec<Dn>, GroupPurpose)> {
        let brought = self.application_groups.entries.iter().filter_map(|entry| Dn::parse(entry.dn()).ok());
        request.nests.iter().cloned().chain([(brought.collect(), GroupPurpose::Import)]).collect()
    }

    /// Sets how far the server had come when the reading began.
    pub fn set_mark(&mut self, mark: Option<ChangeMark>) {
        self.source.mark = mark;
    }

    /// True if a global catalog is read.
    #[must_use]
    pub fn is_catalog(&self) -> bool {
        self.source.is_catalog
    }

    /// Sets the attribute that holds the lasting identity of people.
    pub fn set_identity(&mut self, attribute: &str) {
        attribute.clone_into(&mut self.source.identity);
    }

    /// The schema that the server published, if it did.
    #[must_use]
    pub fn schema(&self) -> Option<&Schema> {
        self.source.schema.as_deref()
    }

    /// Sets the schema that the server published.
    pub fn set_schema(&mut self, schema: Schema) {
        self.source.schema = Some(Arc::new(schema));
    }

    /// Sets the schema that the server published, which many readings share.
    pub fn share_schema(&mut self, schema: &Arc<Schema>) {
        self.source.schema = Some(Arc::clone(schema));
    }

    /// The attribute that holds the lasting identity.
    #[must_use]
    pub fn identity(&self) -> &str {
        &self.source.identity
    }

    /// The name of a person outside the bases, if it was found.
    #[must_use]
    pub fn place_of(&self, identity: &Identity) -> Option<&str> {
        self.found.get(identity).map(String::as_str)
    }

    /// Records where a person outside the bases is, with the attributes of people that were read. False if that was
    /// known already.
    ///
    /// # Errors
    /// `dn` is not a name.
    pub fn found<'v, A, V>(&mut self, identity: Identity, dn: &str, attributes: A) -> Result<bool, DnError>
    where
        A: IntoIterator<Item = (&'v str, V)>,
        V: IntoIterator<Item = &'v [u8]>,
    {
        let key = Dn::parse(dn)?.key();
        let is_new = self.found.insert(identity.clone(), dn.to_owned()).is_none();
        if is_new {
            self.elsewhere.add(identity, key, dn, attributes);
        }
        Ok(is_new)
    }

    /// The parts required for the proof, opened or not.
    fn needed(&mut self, request: &Request) -> Vec<Part> {
        let mut needed: Vec<Part> =
            request.bases.iter().map(|base| Part::People { base: base.clone() }).collect();
        for (groups, purpose) in self.nests(request) {
            for dn in groups {
                needed.push(Part::Group { group: self.graph.named(&dn), purpose });
            }
        }
        let brought = request.application_groups.iter().flat_map(|groups| &groups.bases);
        needed.extend(brought.map(|base| Part::ApplicationGroups { base: base.clone() }));
        needed.extend((!request.followed.is_empty()).then_some(Part::FollowedNames));
        needed.extend(request.places().map(|(place, purpose)| Part::Place { place: place.clone(), purpose }));
        needed
    }

    /// Records for each place of the request whether it was shown.
    pub fn places(&mut self, request: &Request, mut shown: impl FnMut(&Dn) -> Ended) {
        for (place, purpose) in request.places() {
            let part = self.open(Part::Place { place: place.clone(), purpose });
            self.close(part, shown(place));
        }
    }

    /// Records the people whom the server judges otherwise by a condition.
    pub fn doubt(&mut self, condition: &Filter, people: &[usize]) {
        let entries = || people.iter().filter_map(|person| self.people.entries.get(*person));
        let names: Vec<String> = entries().take(NAMED).map(|entry| short(entry.dn())).collect();
        if names.is_empty() {
            return;
        }
        let lasting = Lasting::new(&self.source.identity, self.people.entries.names());
        let doubted: Vec<Identity> = entries().filter_map(|entry| lasting.of(entry)).collect();
        self.doubted.extend(doubted);
        let more = people.len().saturating_sub(names.len());
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        self.doubts.push(format!(
            "the server judges {condition} in a way of its own, and otherwise than Webtaxon for {}{more}: they are left as they are",
            names.join(", ")
        ));
    }

    /// Ends a reading that was not read from a server, for example in a test: its places count as shown.
    #[must_use]
    pub fn finish_shown(mut self, request: &Request) -> Reading {
        self.places(request, |_| Ended::Complete);
        self.finish(request)
    }

    /// Ends the reading of an intake that cannot know the one person who is asked about: there was nothing to read.
    #[must_use]
    pub fn finish_of_nobody(mut self, request: &Request) -> Reading {
        self.of_one();
        for part in self.needed(request) {
            let part = self.open(part);
            self.close(part, Ended::Complete);
        }
        self.finish(request)
    }

    /// Ends the reading, with the proof if every part of the request is complete.
    #[must_use]
    pub fn finish(mut self, request: &Request) -> Reading {
        let needed = self.needed(request);
        self.graph.join(&self.earlier_names());
        let absent: Vec<Identity> =
            self.parts.looked_up().filter(|person| !self.found.contains_key(*person)).cloned().collect();
        let mut whereabouts: HashMap<_, _> =
            self.found.into_iter().map(|(person, dn)| (person, Whereabouts::Elsewhere(dn))).collect();
        whereabouts.extend(absent.into_iter().map(|person| (person, Whereabouts::Nowhere)));
        let hidden_places = self.parts.hidden_places();
        let shared = shared(&self.people.entries, &self.source.identity);
        let (gaps, whole) = self.parts.finish(&needed, &self.graph, request);
        Reading {
            source: self.source,
            people: self.people,
            graph: self.graph,
            followed: self.followed,
            application_groups: self.application_groups,
            whereabouts,
            elsewhere: self.elsewhere,
            shared,
            moving: self.moving,
            just_changed: self.just_changed,
            doubted: self.doubted,
            doubts: self.doubts,
            hidden_places,
            hidden_attributes: HashSet::new(),
            gaps,
            whole,
            is_of_one: self.is_of_one,
            footprint: None,
            before: None,
        }
    }
}

/// The identities that two people have.
fn shared(people: &Entries, attribute: &str) -> HashSet<Identity> {
    let lasting = Lasting::new(attribute, people.names());
    let identities = || people.iter().filter_map(|entry| lasting.of(entry));
    // Most readings have none, and a list of hashes shows that.
    let state = foldhash::quality::RandomState::default();
    let mut hashes: Vec<u64> = identities().map(|identity| state.hash_one(&identity)).collect();
    hashes.sort_unstable();
    if hashes.is_sorted_by(|one, next| one < next) {
        return HashSet::new();
    }
    let mut seen = HashSet::new();
    identities().filter(|identity| !seen.insert(identity.clone())).collect()
}
