//! Which of many groups each name is in: one pass over the members for 64 groups.
//!
//! Groups are gone through from the outer ones to the inner ones, component by component, and each
//! hands the bits of the groups that it lies in to its members. No recursion; a pass is linear in
//! the members, and its memory in the names.

use super::{Graph, NodeId};
use crate::ldap::name::DnKey;

/// Groups in one pass.
const PASS: usize = u64::BITS as usize;

/// The groups inside some roots, the outer ones first.
#[derive(Clone, Debug)]
pub struct Nesting<'g> {
    graph: &'g Graph,
    /// Each component's groups; those of a cycle stand in one.
    components: Vec<(Vec<NodeId>, bool)>,
}

/// Which of some roots each name is in, directly or through groups.
#[derive(Clone, Debug)]
pub struct Inclusion<'g> {
    graph: &'g Graph,
    /// For each 64 roots, the bits of each name.
    bits: Vec<Vec<u64>>,
}

impl Graph {
    /// These groups and all inside them, put in order: linear in the members.
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
    /// Which of these roots each name is in. A root that was not among those of the nesting, nor
    /// inside them, has nobody.
    #[must_use]
    pub fn inclusion<'k>(&self, roots: impl IntoIterator<Item = &'k DnKey>) -> Inclusion<'g> {
        let roots: Vec<Option<NodeId>> = roots.into_iter().map(|key| self.graph.find(key)).collect();
        Inclusion { graph: self.graph, bits: roots.chunks(PASS).map(|roots| self.pass(roots, 0)).collect() }
    }

    /// The groups of each component, the outer ones first, and whether they are in one another.
    pub(crate) fn components(&self) -> &[(Vec<NodeId>, bool)] {
        &self.components
    }

    /// How many names that count are in each group, in the order in which the groups are kept.
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
            // What stands further out is not reached.
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

    /// For each name, the bits of the roots that it is in; components in front of `from` have none.
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

/// The places of the bits that are set.
fn ones(mut bits: u64) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        let at = (bits != 0).then(|| bits.trailing_zeros() as usize);
        bits &= bits.wrapping_sub(1);
        at
    })
}

impl Inclusion<'_> {
    /// The roots that a name is in, by their places in the list of roots.
    pub fn of(&self, key: &DnKey) -> impl Iterator<Item = usize> {
        let index = self.graph.find(key).map_or(usize::MAX, NodeId::index);
        self.bits.iter().enumerate().flat_map(move |(pass, bits)| {
            ones(bits.get(index).copied().unwrap_or(0)).map(move |at| pass * PASS + at)
        })
    }

    /// How many names are in one root at least, groups among them.
    #[must_use]
    pub fn len(&self) -> usize {
        (0..self.graph.names.len())
            .filter(|index| self.bits.iter().any(|bits| bits.get(*index).is_some_and(|own| *own != 0)))
            .count()
    }

    /// Whether nothing is in any root.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.bits.iter().flatten().all(|own| *own == 0)
    }
}
