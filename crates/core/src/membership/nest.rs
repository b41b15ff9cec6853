//! The nest of one group: its members with their paths, the groups in groups, and what is broken.
//!
//! No I/O, no recursion. Memory is linear in the nest; counting each group's people takes one pass over the nest for
//! every 64 groups.

use crate::graph::{Foreign, Graph, GroupPath, NodeId, Reach};
use crate::ldap::name::{self, DnKey};
use crate::reading::Reading;
use serde::Serialize;
use std::collections::{HashMap, HashSet};

/// A member of a group, directly or nested.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Member {
    /// The entry's name.
    pub dn: String,
    /// The person's display name.
    pub name: String,
    /// The path to the member.
    #[serde(flatten)]
    pub path: GroupPath,
    /// Whether membership comes from outside the last group's list: its primary group number or a login.
    pub unlisted: bool,
}

/// How a group appears at one place of the tree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Place {
    /// In full, with its content.
    Here,
    /// As a cycle: it contains itself.
    Cycle,
    /// As a reference: it was shown in full earlier.
    Again,
}

/// One line of the tree of groups.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Branch {
    /// The group's name.
    pub dn: String,
    /// Depth in the tree; 0 for the named group.
    pub depth: usize,
    /// Direct members who are people.
    pub direct: usize,
    /// Members who are people, directly or nested.
    pub people: usize,
    /// How it appears here.
    pub place: Place,
}

/// A member that does not count, and the group that lists it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Stray {
    /// The member's name.
    pub dn: String,
    /// The group.
    pub group: String,
}

/// A member that stands for an identity outside the domain.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct ForeignMember {
    /// The SID of that identity.
    pub sid: String,
    /// Its well-known name, if it has one.
    pub called: Option<&'static str>,
    /// Whether it stands for people whom no list shows.
    pub unlisted: bool,
    /// The group.
    pub group: String,
}

/// What is broken or surprising in a nest.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Broken {
    /// Groups that contain one another, each cycle as a list of names.
    pub cycles: Vec<Vec<String>>,
    /// Groups without any member.
    pub empty: Vec<String>,
    /// Members whose entries no longer exist.
    pub gone: Vec<Stray>,
    /// Members who are not among the intake's people.
    pub outside: Vec<Stray>,
    /// Members that stand for accounts of another domain, or for everybody who has signed in.
    pub foreign: Vec<ForeignMember>,
    /// People whose only membership is by primary group or login.
    pub unlisted: Vec<Stray>,
}

impl Broken {
    /// Whether nothing is broken or surprising.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// The nest of one group in a reading.
#[derive(Debug)]
pub struct Nest<'r> {
    pub(super) reading: &'r Reading,
    pub(super) root: NodeId,
    reach: Reach,
}

impl<'r> Nest<'r> {
    /// The nest of the group with this name; `None` if it was not read as a group.
    #[must_use]
    pub fn of(reading: &'r Reading, group: &DnKey) -> Option<Self> {
        let graph = reading.graph();
        let root = graph.find(group).filter(|_| graph.is_group(group))?;
        Some(Self { reading, root, reach: graph.reach([group]) })
    }

    fn graph(&self) -> &'r Graph {
        self.reading.graph()
    }

    /// The group's own name.
    #[must_use]
    pub fn group(&self) -> &'r str {
        self.graph().dn(self.root)
    }

    /// The groups of the nest, including the named one, sorted by name.
    fn groups(&self) -> Vec<NodeId> {
        let graph = self.graph();
        let is_inside = |id: &NodeId| *id == self.root || self.reach.has(*id);
        let mut groups: Vec<NodeId> = graph.group_ids().filter(is_inside).collect();
        groups.sort_by_key(|id| graph.key(*id));
        groups
    }

    /// Number of groups inside the named one.
    #[must_use]
    pub fn inner_groups(&self) -> usize {
        self.groups().len() - 1
    }

    /// Whether a member exists, but is neither a group nor one of the people.
    pub(super) fn is_outside(&self, id: NodeId) -> bool {
        let graph = self.graph();
        !self.is_person(id) && !graph.is_gone(id) && !graph.is_group_node(id)
    }

    pub(super) fn is_person(&self, id: NodeId) -> bool {
        self.reading.is_person_node(id)
    }

    /// All members who are people, sorted by path, then by name.
    #[must_use]
    pub fn people(&self) -> Vec<Member> {
        let graph = self.graph();
        let mut people: Vec<Member> = self
            .reading
            .people()
            .iter()
            .enumerate()
            .filter_map(|(index, entry)| {
                let id = self.reading.node(index).filter(|id| self.reach.has(*id))?;
                let key = self.reading.key(index)?;
                let called = entry.text("displayName").or_else(|| entry.text("cn"));
                let last = self.reach.last_group(id)?;
                Some(Member {
                    dn: entry.dn().to_owned(),
                    name: called.map_or_else(|| name::short(entry.dn()), |name| name.trim().to_owned()),
                    path: self.reach.path(graph, key),
                    unlisted: graph.is_unlisted(last, id),
                })
            })
            .collect();
        people.sort_by(|one, other| {
            (one.path.len().cmp(&other.path.len()))
                .then_with(|| one.path.groups.cmp(&other.path.groups))
                .then_with(|| one.name.to_lowercase().cmp(&other.name.to_lowercase()))
                .then_with(|| one.dn.cmp(&other.dn))
        });
        people
    }

    /// The groups as a tree, each shown in full at its first place.
    #[must_use]
    pub fn tree(&self) -> Vec<Branch> {
        let graph = self.graph();
        let nesting = graph.nesting(graph.key(self.root));
        let counts: HashMap<NodeId, usize> = nesting.counts(|id| self.is_person(id)).into_iter().collect();
        let mut tree = Vec::new();
        let mut shown: HashSet<NodeId> = HashSet::new();
        let mut line: Vec<NodeId> = Vec::new();
        let mut on_line: HashSet<NodeId> = HashSet::new();
        let mut open = vec![(self.root, 0)];
        while let Some((group, depth)) = open.pop() {
            line.drain(depth.min(line.len())..).for_each(|left| {
                on_line.remove(&left);
            });
            let place = if on_line.contains(&group) {
                Place::Cycle
            } else if !shown.insert(group) {
                Place::Again
            } else {
                Place::Here
            };
            if place == Place::Here {
                line.push(group);
                on_line.insert(group);
            }
            let members = graph.members_by_name(group);
            let direct = members.iter().filter(|id| self.is_person(**id)).count();
            let people = counts.get(&group).copied().unwrap_or(0);
            tree.push(Branch { dn: graph.dn(group).to_owned(), depth, direct, people, place });
            if place == Place::Here {
                let inner = members.iter().rev().filter(|id| graph.is_group_node(**id));
                open.extend(inner.map(|id| (*id, depth + 1)));
            }
        }
        tree
    }

    /// What is broken or surprising.
    #[must_use]
    pub fn broken(&self) -> Broken {
        let graph = self.graph();
        let groups = self.groups();
        let named = |id: NodeId| graph.dn(id).to_owned();
        let mut broken = Broken { cycles: self.cycles(), ..Broken::default() };
        let mut listed: HashSet<NodeId> = HashSet::new();
        let mut unlisted: Vec<(NodeId, NodeId)> = Vec::new();
        for &group in &groups {
            let members = graph.members_by_name(group);
            if members.is_empty() {
                broken.empty.push(named(group));
            }
            for member in members {
                let stray = || Stray { dn: named(member), group: named(group) };
                if graph.is_unlisted(group, member) {
                    unlisted.push((group, member));
                } else if self.is_person(member) {
                    listed.insert(member);
                } else if let Some(foreign) = self.foreign(group, member) {
                    broken.foreign.push(foreign);
                } else if graph.is_gone(member) {
                    broken.gone.push(stray());
                } else if self.is_outside(member) {
                    broken.outside.push(stray());
                }
            }
        }
        let only = unlisted.into_iter().filter(|(_, member)| !listed.contains(member));
        broken.unlisted =
            only.map(|(group, member)| Stray { dn: named(member), group: named(group) }).collect();
        broken
    }

    fn foreign(&self, group: NodeId, member: NodeId) -> Option<ForeignMember> {
        let (called, unlisted, sid) = match Foreign::of(self.graph().dn(member))? {
            Foreign::Unlisted(sid, called) => (called, true, sid),
            Foreign::OtherDomain(sid) | Foreign::System(sid) => (None, false, sid),
        };
        Some(ForeignMember { sid, called, unlisted, group: self.graph().dn(group).to_owned() })
    }

    /// The groups that contain one another: components of several groups, and groups that list themselves. Sorted by
    /// name, the components by their first.
    fn cycles(&self) -> Vec<Vec<String>> {
        let graph = self.graph();
        let mut cycles: Vec<Vec<NodeId>> = graph.components([self.root]);
        cycles.retain(|component| graph.is_cycle(component));
        cycles.iter_mut().for_each(|component| component.sort_by_key(|id| graph.key(*id)));
        cycles.sort_by_key(|component| component.first().and_then(|id| graph.key(*id)));
        let named = |component: &Vec<NodeId>| component.iter().map(|id| graph.dn(*id).to_owned()).collect();
        cycles.iter().map(named).collect()
    }
}
