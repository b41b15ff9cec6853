//! The members of some groups at any depth, each with a shortest path to it.
//!
//! Breadth first, so it ends in a cycle too. No recursion; linear in the groups and their members.

use super::{Graph, GroupPath, LONGEST_PATH, NodeId};
use crate::ldap::name::DnKey;
use fixedbitset::FixedBitSet;

impl Graph {
    /// Everything that lies in one of `roots`, at any depth.
    #[must_use]
    pub fn reach<'k>(&self, roots: impl IntoIterator<Item = &'k DnKey>) -> Reach {
        let mut reached = FixedBitSet::with_capacity(self.names.len());
        let mut steps = vec![Step::default(); self.names.len()];
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
                Some(outer) => Step { through: group, depth: outer.depth + 1, root: outer.root },
                None => Step { through: group, depth: 1, root: group },
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
            // By which of several groups somebody is in must not depend on the server's order.
            inner.sort_by_key(|id| self.key(*id));
            line.extend(inner.drain(..));
        }
        Reach { reached, steps, is_root }
    }
}

/// A member that is no group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Leaf<'g> {
    /// The name for comparing.
    pub key: &'g DnKey,
    /// The name as the directory wrote it.
    pub dn: &'g str,
    /// The group that lists it.
    pub group: &'g str,
}

/// What lies in some groups, and through which groups.
#[derive(Clone, Debug)]
pub struct Reach {
    reached: FixedBitSet,
    /// By the numbers of the names that are reached.
    steps: Vec<Step>,
    is_root: FixedBitSet,
}

/// The last step of a path.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Step {
    pub(super) through: NodeId,
    /// How many groups the path has, and the first of them.
    depth: u32,
    root: NodeId,
}

impl Reach {
    /// Whether `key` is a member, directly or nested.
    #[must_use]
    pub fn contains(&self, graph: &Graph, key: &DnKey) -> bool {
        graph.find(key).is_some_and(|id| self.reached.contains(id.index()))
    }

    /// The last step of the path by which a name is in; none if it is not.
    pub(super) fn step(&self, id: NodeId) -> Option<Step> {
        self.steps.get(id.index()).filter(|_| self.reached.contains(id.index())).copied()
    }

    /// Whether the name of this number is a member, directly or nested.
    pub(crate) fn has(&self, id: NodeId) -> bool {
        self.reached.contains(id.index())
    }

    /// The group that lists a member, on the path by which it is in; none for others.
    pub(crate) fn last_group(&self, id: NodeId) -> Option<NodeId> {
        Some(self.step(id)?.through)
    }

    /// The groups by which `key` is in: the named group first, the one that lists it last. Empty
    /// if it is not in.
    #[must_use]
    pub fn path(&self, graph: &Graph, key: &DnKey) -> GroupPath {
        let Some((id, step)) = graph.find(key).and_then(|id| Some((id, self.step(id)?))) else {
            return GroupPath::default();
        };
        let (mut groups, mut at) = (Vec::new(), Some(id));
        while groups.len() < LONGEST_PATH
            && let Some(Step { through, .. }) = at.and_then(|id| self.step(id))
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

    /// The members that were not read as groups, each with the group that lists it, in the order
    /// of their names.
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

    /// How many members there are, groups among them.
    #[must_use]
    pub fn len(&self) -> usize {
        self.reached.count_ones(..)
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.reached.is_clear()
    }
}
