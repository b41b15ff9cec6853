//! The direct and nested members of groups, each with a shortest path.
//!
//! Breadth first, so it ends in a cycle too. No recursion; linear in groups and members.

use super::{Graph, GroupPath, LONGEST_PATH, NodeId};
use crate::ldap::name::DnKey;
use fixedbitset::FixedBitSet;

impl Graph {
    /// Everything in `roots`, directly or nested.
    #[must_use]
    pub fn reach<'k>(&self, roots: impl IntoIterator<Item = &'k DnKey>) -> Reach {
        let mut reached = FixedBitSet::with_capacity(self.names.len());
        let mut steps = vec![Hop::default(); self.names.len()];
        let mut line: std::collections::VecDeque<NodeId> = std::collections::VecDeque::new();
        let mut is_root = FixedBitSet::with_capacity(self.names.len());
        for root in roots {
            if let Some(id) = self.find(root)
                && !is_root.put(id.index())
            {
                line.push_back(id);
            }
        }
        let mut inner = Vec::new();
        while let Some(group) = line.pop_front() {
            let is_first = is_root.contains(group.index());
            let step = match steps.get(group.index()).filter(|_| !is_first) {
                Some(outer) => Hop { through: group, depth: outer.depth + 1, root: outer.root },
                None => Hop { through: group, depth: 1, root: group },
            };
            for &member in self.members(group).unwrap_or_default() {
                if reached.put(member.index()) {
                    continue;
                }
                if let Some(slot) = steps.get_mut(member.index()) {
                    *slot = step;
                }
                if self.is_group_node(member) && !is_root.contains(member.index()) {
                    inner.push(member);
                }
            }
            // The path chosen among several must not depend on the server's order.
            inner.sort_by_key(|id| self.key(*id));
            line.extend(inner.drain(..));
        }
        Reach { reached, steps, is_root }
    }
}

/// A member that is not a group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Leaf<'g> {
    /// The name's key.
    pub key: &'g DnKey,
    /// The name as the directory wrote it.
    pub dn: &'g str,
    /// The group that lists it.
    pub group: &'g str,
}

/// The members of some groups, with their paths.
#[derive(Clone, Debug)]
pub struct Reach {
    reached: FixedBitSet,
    /// For each name's number, the last step of its path.
    steps: Vec<Hop>,
    is_root: FixedBitSet,
}

/// The last step of a path.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Hop {
    pub(super) through: NodeId,
    /// Number of groups on the path, and the first of them.
    depth: u32,
    root: NodeId,
}

impl Reach {
    /// Whether `key` is a member, directly or nested.
    #[must_use]
    pub fn contains(&self, graph: &Graph, key: &DnKey) -> bool {
        graph.find(key).is_some_and(|id| self.reached.contains(id.index()))
    }

    /// The last step of the path to a name; `None` if it is not a member.
    pub(super) fn step(&self, id: NodeId) -> Option<Hop> {
        self.steps.get(id.index()).filter(|_| self.reached.contains(id.index())).copied()
    }

    /// Whether the name with this number is a member, directly or nested.
    pub(crate) fn has(&self, id: NodeId) -> bool {
        self.reached.contains(id.index())
    }

    /// The group that lists a member on its path; `None` if it is not a member.
    pub(crate) fn last_group(&self, id: NodeId) -> Option<NodeId> {
        Some(self.step(id)?.through)
    }

    /// The path to `key`: the named group first, the group that lists it last. Empty if it is not a member.
    #[must_use]
    pub fn path(&self, graph: &Graph, key: &DnKey) -> GroupPath {
        let Some((id, step)) = graph.find(key).and_then(|id| Some((id, self.step(id)?))) else {
            return GroupPath::default();
        };
        let (mut groups, mut at) = (Vec::new(), Some(id));
        while groups.len() < LONGEST_PATH
            && let Some(Hop { through, .. }) = at.and_then(|id| self.step(id))
        {
            groups.push(graph.dn(through).to_owned());
            at = Some(through).filter(|id| !self.is_root.contains(id.index()));
        }
        groups.reverse();
        let left_out = (step.depth as usize).saturating_sub(groups.len());
        if left_out > 0 {
            groups.first_mut().into_iter().for_each(|first| graph.dn(step.root).clone_into(first));
        }
        GroupPath { groups, left_out }
    }

    /// The members that are not groups, each with the group that lists it, sorted by name.
    pub fn leaves<'g>(&'g self, graph: &'g Graph) -> impl Iterator<Item = Leaf<'g>> {
        let leaf = |id: NodeId| {
            let group = self.step(id)?.through;
            Some(Leaf { key: graph.key(id)?, dn: graph.dn(id), group: graph.dn(group) })
        };
        let others = graph.ids().filter(|id| !graph.is_group_node(*id));
        let mut leaves: Vec<Leaf<'g>> = others.filter_map(leaf).collect();
        leaves.sort_by_key(|leaf| leaf.key);
        leaves.into_iter()
    }

    /// Number of members, groups included.
    #[must_use]
    pub fn len(&self) -> usize {
        self.reached.count_ones(..)
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.reached.is_clear()
    }
}
