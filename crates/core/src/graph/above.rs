//! All groups that one person is in, and every path into one of them: the graph searched upwards, breadth first. No
//! recursion; time and memory are linear in groups and members, and bounded for paths, which can be very many.

use super::{Graph, GroupPath, LONGEST_PATH, NodeId};
use crate::ldap::name::DnKey;
use serde::Serialize;
use std::collections::{HashMap, VecDeque};

/// A group that contains a person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Above {
    /// The group's name.
    pub dn: String,
    /// The path from the group to the person.
    #[serde(flatten)]
    pub path: GroupPath,
    /// Whether membership comes from outside the last group's list: its primary group number or a login.
    pub unlisted: bool,
}

/// A group's next step on the way down to the person.
#[derive(Clone, Copy)]
struct Below {
    next: NodeId,
    /// Number of groups on the path.
    depth: usize,
    /// The group from which the path is shown in full.
    shown: NodeId,
}

/// Maximum steps tried in the search for every path.
const MOST_STEPS: usize = 200_000;
/// Maximum checks of whether a group is already on a path.
const MOST_LOOKS: usize = 20_000_000;

impl Graph {
    /// Every group that contains a name, directly or nested, with a shortest path; direct groups first, then by name.
    #[must_use]
    pub fn above(&self, key: &DnKey) -> Vec<Above> {
        let Some(person) = self.find(key) else { return Vec::new() };
        let has = self.holders();
        let mut below: HashMap<NodeId, Below> = HashMap::new();
        let mut found: Vec<NodeId> = Vec::new();
        let mut line = VecDeque::from([person]);
        while let Some(at) = line.pop_front() {
            let inner = below.get(&at).copied().filter(|_| at != person);
            for &group in has.get(&at).into_iter().flatten() {
                if below.contains_key(&group) {
                    continue;
                }
                let depth = inner.map_or(1, |inner| inner.depth + 1);
                let shown = inner.filter(|_| depth >= LONGEST_PATH).map_or(group, |inner| inner.shown);
                found.push(group);
                line.push_back(group);
                below.insert(group, Below { next: at, depth, shown });
            }
        }
        let told = |group: &NodeId| {
            let Below { depth, shown, .. } = below.get(group).copied()?;
            let next = |group: &NodeId| Some(below.get(group)?.next).filter(|next| *next != person);
            let path = std::iter::successors(Some(shown), next);
            let path: Vec<NodeId> =
                Some(*group).filter(|group| *group != shown).into_iter().chain(path).collect();
            let groups: Vec<String> = path.iter().map(|id| self.dn(*id).to_owned()).collect();
            Some(Above {
                dn: self.dn(*group).to_owned(),
                unlisted: self.is_unlisted(path.last().copied()?, person),
                path: GroupPath { left_out: depth - groups.len(), groups },
            })
        };
        found.iter().filter_map(told).collect()
    }

    /// The groups that list each name directly, sorted by name.
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

    /// Every path from a group to a name, without repeated groups, shortest first; at most `most`, and whether these
    /// are all. Each begins with the group and ends with the group that lists the name.
    pub(crate) fn paths(&self, root: &DnKey, name: &DnKey, most: usize) -> (Vec<Vec<NodeId>>, bool) {
        let mut paths = Vec::new();
        let (Some(top), Some(bottom)) = (self.find(root), self.find(name)) else { return (paths, true) };
        let inside = self.reach([root]);
        let has = self.holders();
        // Each step is a group and the step above it.
        let mut steps: Vec<(NodeId, Option<usize>)> = Vec::new();
        let (mut at, mut looks) = (0, 0);
        let mut below = None;
        loop {
            let (id, is_start) = match below.and_then(|below: usize| steps.get(below)) {
                Some((id, _)) => (*id, false),
                None => (bottom, true),
            };
            for &group in has.get(&id).into_iter().flatten().filter(|_| is_start || id != top) {
                let line = std::iter::successors(below, |step| steps.get(*step)?.1);
                let is_twice = line.filter_map(|step| steps.get(step)).any(|(known, _)| {
                    looks += 1;
                    *known == group
                });
                if is_twice || !(group == top || inside.has(group)) {
                    continue;
                }
                if steps.len() == MOST_STEPS || looks > MOST_LOOKS {
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
