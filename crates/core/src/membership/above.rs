//! All groups of one person, and every path by which they are in one: the graph gone through
//! upwards, breadth first. No recursion; time and memory are linear in the groups and their members,
//! and bounded for the paths, of which there may be very many.

use super::{Graph, NodeId};
use crate::name::DnKey;
use crate::reading::Reading;
use serde::Serialize;
use std::collections::{HashMap, HashSet, VecDeque};

/// A group that somebody is in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Above {
    /// The group's name.
    pub dn: String,
    /// The groups by which they are in it: this one first, the one that has them last.
    pub path: Vec<String>,
    /// Whether the last one does not list them: it is their primary group, or knows their login.
    pub unlisted: bool,
}

/// The ways by which somebody is in one group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Ways {
    /// For each, the groups from the named one down to the one that has them.
    pub ways: Vec<Way>,
    /// Whether there are no others.
    pub all: bool,
}

/// One of them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Way {
    /// The groups: the named one first, the one that has them last.
    pub path: Vec<String>,
    /// Whether the last one does not list them: it is their primary group, or knows their login.
    pub unlisted: bool,
}

impl Ways {
    /// The shortest ways first, at most so many.
    #[must_use]
    pub fn of(reading: &Reading, group: &DnKey, person: &DnKey, most: usize) -> Self {
        let graph = reading.graph();
        let (paths, all) = graph.paths(group, person, most);
        let way = |path: Vec<NodeId>| Way {
            unlisted: path
                .last()
                .zip(graph.find(person))
                .is_some_and(|(last, id)| graph.is_unlisted(*last, id)),
            path: path.iter().map(|id| graph.dn(*id).to_owned()).collect(),
        };
        Self { ways: paths.into_iter().map(way).collect(), all }
    }
}

/// Steps that are tried at most to find every path.
const MOST_STEPS: usize = 200_000;

impl Graph {
    /// Every group that has a name in it, directly or through groups inside, by a shortest path; the
    /// direct ones first, then in the order of names.
    #[must_use]
    pub fn above(&self, key: &DnKey) -> Vec<Above> {
        let Some(person) = self.find(key) else { return Vec::new() };
        let has = self.holders();
        let mut below: HashMap<NodeId, NodeId> = HashMap::new();
        let mut found: Vec<NodeId> = Vec::new();
        let mut seen: HashSet<NodeId> = HashSet::new();
        let mut line = VecDeque::from([person]);
        while let Some(at) = line.pop_front() {
            for &group in has.get(&at).into_iter().flatten() {
                if seen.insert(group) {
                    below.insert(group, at);
                    found.push(group);
                    line.push_back(group);
                }
            }
        }
        let told = |group: &NodeId| {
            let mut path = vec![*group];
            while let Some(next) =
                path.last().and_then(|last| below.get(last)).filter(|next| **next != person)
            {
                path.push(*next);
            }
            let last = path.last().copied().unwrap_or(*group);
            Above {
                dn: self.dn(*group).to_owned(),
                path: path.iter().map(|id| self.dn(*id).to_owned()).collect(),
                unlisted: self.is_unlisted(last, person),
            }
        };
        found.iter().map(told).collect()
    }

    /// For each name, the groups that have it themselves, in the order of names.
    fn holders(&self) -> HashMap<NodeId, Vec<NodeId>> {
        let mut groups: Vec<NodeId> = self.group_ids().collect();
        groups.sort_by_key(|id| self.key(*id));
        let mut has: HashMap<NodeId, Vec<NodeId>> = HashMap::new();
        for &group in &groups {
            for member in self.members(group).unwrap_or_default() {
                has.entry(*member).or_default().push(group);
            }
        }
        has
    }

    /// Every path by which a name is in a group, with no group twice in one, the shortest first: at
    /// most so many; and whether that is all. Each begins with the group and ends with the group that
    /// has the name itself.
    pub(super) fn paths(&self, root: &DnKey, name: &DnKey, most: usize) -> (Vec<Vec<NodeId>>, bool) {
        let mut paths = Vec::new();
        let (Some(top), Some(bottom)) = (self.find(root), self.find(name)) else { return (paths, true) };
        let inside = self.reach([root]).reached;
        let has = self.holders();
        // Each step is a group, and the step that it stands above.
        let mut steps: Vec<(NodeId, Option<usize>)> = Vec::new();
        let mut at = 0;
        let mut below = None;
        loop {
            let (id, is_start) = match below.and_then(|below: usize| steps.get(below)) {
                Some((id, _)) => (*id, false),
                None => (bottom, true),
            };
            for &group in has.get(&id).into_iter().flatten().filter(|_| is_start || id != top) {
                let line = std::iter::successors(below, |step| steps.get(*step)?.1);
                let is_twice = line.filter_map(|step| steps.get(step)).any(|(known, _)| *known == group);
                if is_twice || !(group == top || inside.contains(group.index())) {
                    continue;
                }
                if steps.len() == MOST_STEPS {
                    return (paths, false);
                }
                steps.push((group, below));
            }
            let Some((id, _)) = steps.get(at) else { return (paths, true) };
            if *id == top {
                if paths.len() == most {
                    return (paths, false);
                }
                let line = std::iter::successors(Some(at), |step| steps.get(*step)?.1);
                paths.push(line.filter_map(|step| steps.get(step)).map(|(id, _)| *id).collect());
            }
            below = Some(at);
            at += 1;
        }
    }
}
