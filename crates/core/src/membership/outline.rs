//! The groups of a nest in layers, for drawing: each once, on a level after all groups that contain it.
//!
//! No I/O, no recursion; linear in the nest, apart from the counts.

use super::Nest;
use crate::graph::{Graph, NodeId};
use std::collections::{HashMap, HashSet, VecDeque};

/// One group of a nest.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Outlined {
    /// The group's name.
    pub dn: String,
    /// Length of the longest path from the named group, which has 0. The groups of a cycle come after the one that is
    /// reached first.
    pub level: usize,
    /// Direct members who are people.
    pub direct: usize,
    /// Members who are people, directly or nested.
    pub people: usize,
    /// Direct members outside its list: by primary group, or by login.
    pub unlisted: usize,
    /// Members whose entries no longer exist.
    pub gone: usize,
    /// Members who are not among the intake's people.
    pub outside: usize,
    /// Whether it is part of a cycle.
    pub in_cycle: bool,
    /// The groups that it lists, by index in the outline, sorted by name.
    pub inside: Vec<usize>,
}

impl Nest<'_> {
    /// The groups of the nest, the named one first, outer groups before inner ones.
    #[must_use]
    pub fn outline(&self) -> Vec<Outlined> {
        let graph = self.reading.graph();
        let nesting = graph.nesting(graph.key(self.root));
        let counts = nesting.counts(|id| self.is_person(id));
        let levels = self.levels(nesting.components());
        let in_cycle: HashSet<NodeId> = nesting
            .components()
            .iter()
            .filter(|(_, cycle)| *cycle)
            .flat_map(|(groups, _)| groups)
            .copied()
            .collect();
        let mut ordered = counts;
        let level = |id: &NodeId| levels.get(id).copied().unwrap_or(0);
        ordered.sort_by_key(|(id, _)| (level(id), *id != self.root, graph.key(*id)));
        let places: HashMap<NodeId, usize> =
            ordered.iter().enumerate().map(|(place, (id, _))| (*id, place)).collect();
        let outlined = |(id, people): &(NodeId, usize)| {
            let members = graph.members_by_name(*id);
            let count = |is: &dyn Fn(NodeId) -> bool| members.iter().filter(|member| is(**member)).count();
            Outlined {
                dn: graph.dn(*id).to_owned(),
                level: level(id),
                direct: count(&|member| self.is_person(member)),
                people: *people,
                unlisted: count(&|member| graph.is_unlisted(*id, member)),
                gone: count(&|member| graph.is_gone(member)),
                outside: count(&|member| self.is_outside(member)),
                in_cycle: in_cycle.contains(id),
                inside: members.iter().filter_map(|member| places.get(member).copied()).collect(),
            }
        };
        ordered.iter().map(outlined).collect()
    }

    /// The level of each group; the components are sorted outermost first.
    fn levels(&self, components: &[(Vec<NodeId>, bool)]) -> HashMap<NodeId, usize> {
        let graph: &Graph = self.reading.graph();
        let mut levels: HashMap<NodeId, usize> = HashMap::from([(self.root, 0)]);
        for (groups, _) in components {
            let own: HashSet<NodeId> = groups.iter().copied().collect();
            let met = |id: &NodeId| levels.get(id).map_or((true, 0), |level| (false, *level));
            let Some(first) = groups.iter().min_by_key(|id| (met(id), graph.key(**id))).copied() else {
                continue;
            };
            // Within a cycle, levels count from the group that is reached first.
            let mut line = VecDeque::from([first]);
            let mut seen = HashSet::from([first]);
            while let Some(group) = line.pop_front() {
                let next = levels.get(&group).copied().unwrap_or(0) + 1;
                for member in graph.members_by_name(group) {
                    if own.contains(&member) && seen.insert(member) {
                        let level = levels.entry(member).or_insert(next);
                        *level = next.max(*level);
                        line.push_back(member);
                    }
                }
            }
            for group in groups {
                let next = levels.get(group).copied().unwrap_or(0) + 1;
                for member in graph.members(*group).unwrap_or_default() {
                    if !own.contains(member) && graph.is_group_node(*member) {
                        let level = levels.entry(*member).or_insert(next);
                        *level = next.max(*level);
                    }
                }
            }
        }
        levels
    }
}
