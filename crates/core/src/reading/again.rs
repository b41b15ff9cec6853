//! Reading again what changed meanwhile: people as they are by now take the place of what was read before, and keep every
//! name that they had.

use super::ReadingBuilder;
use super::entries::{ApplicationGroups, FollowedEntries};
use super::people::People;
use super::request::Request;
use crate::graph::NodeId;
use crate::ldap::entry::{Entries, Entry};
use crate::ldap::identity::{Identity, Lasting};
use crate::ldap::name::{Dn, DnKey};
use crate::settings::GroupPurpose;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// Groups that are asked for again because they list a name that was not found.
const MOST_GROUPS: usize = 64;

/// The changes that a second look found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Again {
    /// Number of people with other values or another name.
    pub changed: usize,
    /// Number of people not seen before.
    pub more: usize,
    /// Somebody has another name, or other values by which groups list members.
    pub joins: bool,
    /// Those who changed.
    pub who: Vec<Identity>,
    /// Those who are as they were: their change came before they were read, or was undone since.
    pub same: Vec<Identity>,
}

impl Again {
    /// Adds another look.
    pub fn add(&mut self, other: &Self) {
        self.changed += other.changed;
        self.more += other.more;
        self.joins |= other.joins;
        self.who.extend(other.who.iter().cloned());
        self.same.extend(other.same.iter().cloned());
    }

    /// True if nothing changed.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.changed + self.more == 0
    }

    /// True if members of groups must be joined with people anew.
    #[must_use]
    pub fn joins_anew(&self) -> bool {
        self.more > 0 || self.joins
    }
}

impl ReadingBuilder {
    /// The parts so far, to come back to.
    #[must_use]
    pub fn checkpoint(&self) -> usize {
        self.parts.count()
    }

    /// Forgets groups, followed entries, and every part opened since a checkpoint, so that they can be read again.
    pub fn back_to(&mut self, checkpoint: usize) {
        self.parts.back_to(checkpoint);
        self.graph.forget_groups();
        self.followed = FollowedEntries::default();
        self.application_groups = ApplicationGroups::default();
    }

    /// Puts people as they are by now in the place of what was read; `attribute` holds their identity, and `joining`
    /// are the attributes by which groups may list them.
    pub fn again(&mut self, found: &Entries, attribute: &str, joining: &[String]) -> Again {
        let mut again = Again::default();
        let mut people = self.known(found, attribute);
        let mut nodes: Vec<Option<NodeId>> = Vec::new();
        for (at, entry) in found.iter().enumerate() {
            let node = self.names.key(entry.dn()).ok().map(|key| self.graph.node(key, entry.dn()));
            nodes.push(node);
            // Without an identity, only the name tells who it is.
            if let Some(person) = node.and_then(|node| self.people.place(node))
                && Identity::of(entry, attribute).is_none()
            {
                people.insert(person, at);
            }
        }
        let mut instead: BTreeMap<usize, usize> = BTreeMap::new();
        for (person, at) in &people {
            let (Some(old), Some(new)) = (self.people.entries.get(*person), found.get(*at)) else { continue };
            let is_renamed = nodes.get(*at).copied().flatten() != self.people.node(*person);
            if is_renamed || values(old) != values(new) {
                let of = |entry: Entry<'_>, name: &String| -> BTreeSet<Vec<u8>> {
                    entry.values(name).map(<[u8]>::to_vec).collect()
                };
                again.joins |= is_renamed || joining.iter().any(|name| of(old, name) != of(new, name));
                again.changed += 1;
                again.who.extend(Identity::of(new, attribute));
                instead.insert(*person, *at);
            } else {
                again.same.extend(Identity::of(new, attribute));
            }
        }
        let known: HashSet<usize> = people.values().copied().collect();
        let more: Vec<usize> = (0..found.len())
            .filter(|at| !known.contains(at) && nodes.get(*at).copied().flatten().is_some())
            .filter(|at| nodes.get(*at).copied().flatten().is_some_and(|node| !self.people.has(node)))
            .collect();
        again.more = more.len();
        if !again.is_nothing() {
            self.rebuild(found, &nodes, &instead, &more);
        }
        again
    }

    /// Of these entries, those whose identity is that of somebody read: the index of the person and of the entry.
    fn known(&self, found: &Entries, attribute: &str) -> HashMap<usize, usize> {
        let wanted = Lasting::new(attribute, found.names());
        let wanted: HashMap<Identity, usize> =
            found.iter().enumerate().filter_map(|(at, entry)| Some((wanted.of(entry)?, at))).collect();
        if wanted.is_empty() {
            return HashMap::new();
        }
        let lasting = Lasting::new(attribute, self.people.entries.names());
        let people = self.people.entries.iter().enumerate();
        people.filter_map(|(person, entry)| Some((person, *wanted.get(&lasting.of(entry)?)?))).collect()
    }

    /// The people with some replaced, and more of them.
    fn rebuild(
        &mut self,
        found: &Entries,
        nodes: &[Option<NodeId>],
        instead: &BTreeMap<usize, usize>,
        more: &[usize],
    ) {
        let before = std::mem::take(&mut self.people);
        let mut people = People::default();
        let put = |people: &mut People, node: Option<NodeId>, entry: Option<Entry<'_>>| {
            if let (Some(node), Some(entry)) = (node, entry) {
                people.add(node, entry.dn(), entry.attributes());
            }
        };
        for (person, entry) in before.entries.iter().enumerate() {
            let own = before.node(person);
            match instead.get(&person) {
                None => put(&mut people, own, Some(entry)),
                Some(at) => {
                    let node = nodes.get(*at).copied().flatten();
                    put(&mut people, node, found.get(*at));
                    if let (Some(own), Some(node)) = (own, node)
                        && own != node
                    {
                        self.earlier.values_mut().filter(|name| **name == own).for_each(|name| *name = node);
                        self.earlier.remove(&node);
                        self.earlier.insert(own, node);
                    }
                }
            }
        }
        for at in more {
            put(&mut people, nodes.get(*at).copied().flatten(), found.get(*at));
        }
        for (earlier, name) in &self.earlier {
            if let Some(person) = people.place(*name).filter(|_| !people.has(*earlier)) {
                people.also(*earlier, person);
            }
        }
        self.people = people;
    }

    /// The names that people had and nobody has now, each with its person's present one.
    pub(super) fn earlier_names(&self) -> HashMap<NodeId, NodeId> {
        let is_somebodys = |id: NodeId| {
            let person = self.people.place(id).and_then(|person| self.people.node(person));
            person == Some(id)
        };
        let free = self.earlier.iter().filter(|(earlier, _)| !is_somebodys(**earlier));
        free.map(|(earlier, name)| (*earlier, *name)).collect()
    }

    /// Listed names that are neither people nor groups, and exist as far as is known.
    #[must_use]
    pub fn strangers(&self) -> Vec<String> {
        let mut seen = HashSet::new();
        let listed = self.graph.group_ids().flat_map(|group| self.graph.members(group).unwrap_or_default());
        let is_one =
            |id: &NodeId| !self.people.has(*id) && !self.graph.is_group_node(*id) && !self.graph.is_gone(*id);
        let strangers = listed.copied().filter(is_one).filter(|id| seen.insert(*id));
        strangers.map(|id| self.graph.dn(id).to_owned()).collect()
    }

    /// Those of these entries that are people who were read, perhaps under another name.
    #[must_use]
    pub fn only_known(&self, found: &Entries, attribute: &str) -> Entries {
        let known: BTreeSet<usize> = self.known(found, attribute).into_values().collect();
        let mut only = Entries::new();
        for entry in known.into_iter().filter_map(|at| found.get(at)) {
            only.push(entry.dn(), entry.attributes());
        }
        only
    }

    /// The people below any of these places; `attribute` holds their identity.
    #[must_use]
    pub fn people_below(&self, places: &[DnKey], attribute: &str) -> Vec<Identity> {
        let is_below = |person: usize| {
            let key = self.name_of(person).map(|(key, _)| key);
            key.is_some_and(|key| places.iter().any(|place| key.is_within(place)))
        };
        let people = self.people.entries.iter().enumerate().filter(|_| !places.is_empty());
        let below = people.filter(|(person, _)| is_below(*person));
        below.filter_map(|(_, entry)| Identity::of(entry, attribute)).collect()
    }

    /// The names of these entries that people do not have so far.
    #[must_use]
    pub fn renamed(&self, found: &Entries, attribute: &str) -> Vec<String> {
        let is_new = |entry: &Entry<'_>| {
            let key = Dn::parse(entry.dn()).ok().map(|dn| dn.key());
            key.is_some_and(|key| !self.is_person(&key)) && Identity::of(*entry, attribute).is_some()
        };
        found.iter().filter(is_new).map(|entry| entry.dn().to_owned()).collect()
    }

    /// Records listed names whose entries a look-up did not find.
    pub fn not_found(&mut self, names: &[String]) {
        for name in names {
            if let Some(node) = Dn::parse(name).ok().and_then(|dn| self.graph.find(&dn.key())) {
                self.graph.mark_gone(node);
            }
        }
    }

    /// Records people who changed a short while before, when names in lists are nobody's: groups may list them by
    /// these, excluding groups too if one of the names is in them.
    pub fn just_changed(&mut self, who: Vec<Identity>, request: &Request) {
        let excluding: Vec<DnKey> = request.excluding().map(Dn::key).collect();
        let excluded = self.graph.reach(&excluding);
        let is_among = self.graph.all_gone().any(|name| excluded.has(name));
        if is_among {
            self.moving.extend(who);
        } else {
            self.just_changed.extend(who);
        }
    }

    /// Whether a group lists a name whose entry was not found, and which the settings do not call deleted.
    #[must_use]
    pub fn lists_gone(&self, request: &Request) -> bool {
        let deleted: HashSet<DnKey> = request.deleted.iter().map(Dn::key).collect();
        self.graph.all_gone().any(|name| self.graph.key(name).is_none_or(|key| !deleted.contains(key)))
    }

    /// Groups that list names whose entries were not found, each with these names.
    #[must_use]
    pub fn gone_members(&self) -> Vec<(String, Vec<DnKey>)> {
        let gone: HashSet<NodeId> = self.graph.all_gone().collect();
        if gone.is_empty() {
            return Vec::new();
        }
        let listed = |group: NodeId| {
            let members = self.graph.members(group).unwrap_or_default();
            let names = members.iter().filter(|member| gone.contains(member));
            let names: Vec<DnKey> = names.filter_map(|member| self.graph.key(*member).cloned()).collect();
            (!names.is_empty()).then(|| (self.graph.dn(group).to_owned(), names))
        };
        self.graph.group_ids().filter_map(listed).take(MOST_GROUPS).collect()
    }

    /// Listed names that were not found, each with what its group is read for, except those that the settings call
    /// deleted, and, unless lists still changed at the last look, those in a container that has people and no groups.
    #[must_use]
    pub fn vanished(&mut self, request: &Request, lists_changed: bool) -> Vec<(NodeId, GroupPurpose)> {
        let gone: Vec<NodeId> = self.graph.all_gone().collect();
        if gone.is_empty() {
            return Vec::new();
        }
        let deleted: HashSet<DnKey> = request.deleted.iter().map(Dn::key).collect();
        let above = |id: NodeId| self.graph.key(id).and_then(DnKey::parent);
        let of_people: HashSet<DnKey> =
            (0..self.people.entries.len()).filter_map(|person| above(self.people.node(person)?)).collect();
        let of_groups: HashSet<DnKey> = self.graph.group_ids().filter_map(above).collect();
        let may_be_group = |id: &NodeId| {
            let parent = above(*id);
            let is_among = |places: &HashSet<DnKey>| parent.as_ref().is_some_and(|at| places.contains(at));
            let is_deleted = self.graph.key(*id).is_some_and(|key| deleted.contains(key));
            !is_deleted && (lists_changed || is_among(&of_groups) || !is_among(&of_people))
        };
        let excluding: Vec<DnKey> = request.excluding().map(Dn::key).collect();
        let excluded = self.graph.reach(&excluding);
        let purpose = |id: NodeId| match excluded.has(id) {
            true => GroupPurpose::Exclude,
            false => GroupPurpose::Admit,
        };
        let mut vanished: Vec<(NodeId, GroupPurpose)> =
            gone.into_iter().filter(may_be_group).map(|id| (id, purpose(id))).collect();
        vanished.sort_by(|(one, _), (other, _)| self.graph.key(*one).cmp(&self.graph.key(*other)));
        vanished
    }

    /// Records people who may have had other names when groups were read.
    pub fn moving(&mut self, who: impl IntoIterator<Item = Identity>) {
        self.moving.extend(who);
    }
}

/// The values of an entry, in no particular order.
fn values(entry: Entry<'_>) -> BTreeMap<String, BTreeSet<Vec<u8>>> {
    let mut all: BTreeMap<String, BTreeSet<Vec<u8>>> = BTreeMap::new();
    for (name, values) in entry.attributes() {
        all.entry(name.to_ascii_lowercase()).or_default().extend(values.map(<[u8]>::to_vec));
    }
    all
}
