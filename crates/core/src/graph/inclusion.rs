//! Which of many groups contain each name: one pass over the members for every 64 groups.
//!
//! Groups are visited from the outermost inwards, component by component, and each passes the bits of the groups that
//! contain it to its members. No recursion; a pass is linear in the members, its memory in the names.

use super::{Graph, NodeId};
use crate::ldap::name::DnKey;

/// Groups handled in one pass.
const PASS: usize = u64::BITS as usize;

/// The groups inside some roots, outermost first.
#[derive(Clone, Debug)]
pub struct Nesting<'g> {
    graph: &'g Graph,
    /// The groups of each component; those of a cycle share one.
    components: Vec<(Vec<NodeId>, bool)>,
}

/// For each name, the roots that contain it, directly or nested.
#[derive(Clone, Debug)]
pub struct Inclusion<'g> {
    graph: &'g Graph,
    /// For every 64 roots, the bits of each name.
    bits: Vec<Vec<u64>>,
}

impl Graph {
    /// The roots and all groups in them, ordered: linear in the members.
    #[must_use]
    pub fn nesting<'k>(&self, roots: impl IntoIterator<Item = &'k DnKey>) -> Nesting<'_> {
        let roots = roots.into_iter().filter_map(|key| self.find(key));
        let mut components = self.components(roots);
        components.reverse();
        let is_cycle = |groups: Vec<NodeId>| (self.is_cycle(&groups), groups);
        let components = components.into_iter().map(is_cycle).map(|(cycle, groups)| (groups, cycle));
        Nesting { graph: self, components: components.collect() }
    }
}

impl<'g> Nesting<'g> {
    /// The roots that contain each name. A root outside the nesting contains nobody.
    #[must_use]
    pub fn inclusion<'k>(&self, roots: impl IntoIterator<Item = &'k DnKey>) -> Inclusion<'g> {
        let roots: Vec<Option<NodeId>> = roots.into_iter().map(|key| self.graph.find(key)).collect();
        Inclusion { graph: self.graph, bits: roots.chunks(PASS).map(|roots| self.pass(roots, 0)).collect() }
    }

    /// The groups of each component, outermost first, and whether they contain one another.
    pub(crate) fn components(&self) -> &[(Vec<NodeId>, bool)] {
        &self.components
    }

    /// The number of counted names in each group, in storage order of the groups.
    pub(crate) fn counts(&self, counts: impl Fn(NodeId) -> bool) -> Vec<(NodeId, usize)> {
        let groups: Vec<(usize, NodeId)> = self
            .components
            .iter()
            .enumerate()
            .flat_map(|(at, (groups, _))| groups.iter().map(move |group| (at, *group)))
            .collect();
        let counted: Vec<usize> = self.graph.ids().filter(|id| counts(*id)).map(NodeId::index).collect();
        let mut all = Vec::with_capacity(groups.len());
        for chunk in groups.chunks(PASS) {
            let roots: Vec<Option<NodeId>> = chunk.iter().map(|(_, group)| Some(*group)).collect();
            // Components further out are not reached.
            let bits = self.pass(&roots, chunk.first().map_or(0, |(at, _)| *at));
            let mut sums = vec![0; chunk.len()];
            for index in &counted {
                for at in ones(bits.get(*index).copied().unwrap_or(0)) {
                    sums.iter_mut().skip(at).take(1).for_each(|sum| *sum += 1);
                }
            }
            all.extend(chunk.iter().map(|(_, group)| *group).zip(sums));
        }
        all
    }

    /// For each name, the bits of the roots that contain it; components before `from` get none.
    fn pass(&self, roots: &[Option<NodeId>], from: usize) -> Vec<u64> {
        let count = self.graph.names.len();
        let (mut bits, mut own) = (vec![0_u64; count], vec![0_u64; count]);
        for (at, root) in roots.iter().enumerate() {
            if let Some(own) = root.and_then(|root| own.get_mut(root.index())) {
                *own |= 1 << at;
            }
        }
        let read = |list: &[u64], id: NodeId| list.get(id.index()).copied().unwrap_or(0);
        for (groups, cycle) in self.components.iter().skip(from) {
            let all = groups.iter().fold(0, |all, id| all | read(&bits, *id) | read(&own, *id));
            if all == 0 {
                continue;
            }
            for group in groups {
                if let Some(slot) = bits.get_mut(group.index()).filter(|_| *cycle) {
                    *slot = all;
                }
                for member in self.graph.members(*group).unwrap_or_default() {
                    if let Some(slot) = bits.get_mut(member.index()) {
                        *slot |= all;
                    }
                }
            }
        }
        bits
    }
}

/// Positions of the set bits.
fn ones(mut bits: u64) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        let at = (bits != 0).then(|| bits.trailing_zeros() as usize);
        bits &= bits.wrapping_sub(1);
        at
    })
}

impl Inclusion<'_> {
    /// The roots that contain a name, by position in the list of roots.
    pub fn of(&self, key: &DnKey) -> impl Iterator<Item = usize> {
        let index = self.graph.find(key).map_or(usize::MAX, NodeId::index);
        self.bits.iter().enumerate().flat_map(move |(pass, bits)| {
            ones(bits.get(index).copied().unwrap_or(0)).map(move |at| pass * PASS + at)
        })
    }

    /// Number of names in at least one root, groups included.
    #[must_use]
    pub fn len(&self) -> usize {
        (0..self.graph.names.len())
            .filter(|index| self.bits.iter().any(|bits| bits.get(*index).is_some_and(|own| *own != 0)))
            .count()
    }

    /// Whether the roots contain nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.bits.iter().flatten().all(|own| *own == 0)
    }
}
