//! All groups of one person: the graph gone through upwards, breadth first. No recursion; time and
//! memory are linear in the groups and their members.

use super::{Graph, NodeId};
use crate::name::DnKey;
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

impl Graph {
    /// Every group that has a name in it, directly or through groups inside, by a shortest path; the
    /// direct ones first, then in the order of names.
    #[must_use]
    pub fn above(&self, key: &DnKey) -> Vec<Above> {
        let Some(person) = self.find(key) else { return Vec::new() };
        let mut groups: Vec<NodeId> = (0..self.nodes.len())
            .filter_map(|index| Some(NodeId(u32::try_from(index).ok()?)))
            .filter(|id| self.members(*id).is_some())
            .collect();
        groups.sort_by_key(|id| self.key(*id));
        let mut has: HashMap<NodeId, Vec<NodeId>> = HashMap::new();
        for &group in &groups {
            for member in self.members(group).unwrap_or_default() {
                has.entry(*member).or_default().push(group);
            }
        }
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
}
