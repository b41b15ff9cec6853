//! Groups and their members as a graph over dense numbers, independent of any directory.
//!
//! Directories nest groups, and may do so in cycles. [`Graph`] stores each name once, and the members of each group
//! as numbers. [`Graph::reach`] searches it once, breadth first, so it ends on any graph, and the path that it keeps
//! for each member is a shortest one. No I/O, no recursion; memory is linear in names and members.

mod above;
mod components;
mod difference;
mod foreign;
mod inclusion;
mod names;
mod path;
mod reach;
mod roll;
#[cfg(test)]
mod tests;

pub use above::Above;
pub(crate) use components::components;
pub use difference::GroupDifference;
pub use foreign::Foreign;
pub use inclusion::{Inclusion, Nesting};
pub use names::NodeId;
pub use path::{GroupPath, LONGEST_PATH};
pub use reach::{Leaf, Reach};
pub use roll::{Roll, primary_group, without_uid};

use crate::ldap::name::{Dn, DnError, DnKey};
use fixedbitset::FixedBitSet;
use names::NameTable;
use std::collections::{HashMap, HashSet};

/// Groups and their members.
#[derive(Clone, Debug, Default)]
pub struct Graph {
    names: NameTable,
    /// For each name's number, its direct members, sorted by number.
    lists: Vec<Box<[NodeId]>>,
    /// The names that are groups; a compact set, since it is consulted for every member.
    groups: FixedBitSet,
    /// Their number, consulted at each level of a nest.
    count: usize,
    /// Groups with members outside their list.
    unlisted: HashSet<(NodeId, NodeId)>,
    /// Listed names whose entries no longer exist.
    gone: HashSet<NodeId>,
}

impl Graph {
    /// An empty graph.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// The number of a name, assigned if it is new.
    pub fn node(&mut self, key: DnKey, dn: &str) -> NodeId {
        let id = self.names.number(key, dn);
        if id.index() >= self.lists.len() {
            self.lists.push(Box::default());
        }
        id
    }

    /// The number of a name from the settings.
    pub fn named(&mut self, dn: &Dn) -> NodeId {
        self.node(dn.key(), &dn.to_string())
    }

    /// Adds a group with its direct members: names as keys, and as the directory wrote them.
    pub fn add_group<'m>(
        &mut self,
        key: DnKey,
        dn: &str,
        members: impl IntoIterator<Item = (DnKey, &'m str)>,
    ) {
        let list = members.into_iter().map(|(key, dn)| self.node(key, dn)).collect();
        let group = self.node(key, dn);
        self.set_members(group, list);
    }

    /// Marks a name as a group, with its direct members; repeats are dropped.
    pub fn set_members(&mut self, group: NodeId, mut members: Vec<NodeId>) {
        members.sort_unstable();
        members.dedup();
        if let Some(list) = self.lists.get_mut(group.index()) {
            *list = members.into();
            self.groups.grow(self.lists.len());
            self.count += usize::from(!self.groups.put(group.index()));
        }
    }

    /// The number of a member as written in a group. A spelling seen before is not parsed again.
    ///
    /// # Errors
    /// It is not a distinguished name.
    pub fn member(&mut self, text: &str) -> Result<NodeId, DnError> {
        if let Some(id) = self.names.spelled(text) {
            return Ok(id);
        }
        let id = self.node(Dn::parse(text)?.key(), text);
        self.remember(text, id);
        Ok(id)
    }

    /// The numbers of many members at once, each as from [`Graph::member`]; `None` for a text that is not a
    /// distinguished name.
    pub fn all_members<'t>(
        &mut self,
        texts: &'t [&'t str],
    ) -> impl Iterator<Item = Option<NodeId>> + use<'_, 't> {
        let known = self.names.all_spelled(texts);
        texts.iter().zip(known).map(|(text, known)| known.or_else(|| self.member(text).ok()))
    }

    /// Remembers a spelling of a name.
    pub(crate) fn remember(&mut self, text: &str, id: NodeId) {
        self.names.spell(text, id);
    }

    /// Records a member outside the group's list: by primary group or by login.
    pub fn mark_unlisted(&mut self, group: NodeId, member: NodeId) {
        self.unlisted.insert((group, member));
    }

    /// Records that a listed name no longer exists in the directory.
    pub fn mark_gone(&mut self, name: NodeId) {
        self.gone.insert(name);
    }

    /// Forgets the groups; names keep their numbers.
    pub(crate) fn forget_groups(&mut self) {
        self.lists.iter_mut().for_each(|list| *list = Box::default());
        self.groups.clear();
        self.count = 0;
        self.unlisted.clear();
        self.gone.clear();
    }

    /// Makes everybody a member of what lists an earlier name of theirs.
    pub(crate) fn join(&mut self, earlier: &HashMap<NodeId, NodeId>) {
        if earlier.is_empty() {
            return;
        }
        for list in &mut self.lists {
            let more: Vec<NodeId> = list.iter().filter_map(|member| earlier.get(member).copied()).collect();
            if !more.is_empty() {
                let mut all: Vec<NodeId> = list.iter().copied().chain(more).collect();
                all.sort_unstable();
                all.dedup();
                *list = all.into();
            }
        }
    }

    /// The groups without members.
    pub fn empty_groups(&self) -> impl Iterator<Item = NodeId> {
        self.group_ids().filter(|id| self.members(*id).is_some_and(<[NodeId]>::is_empty))
    }

    /// The listed names whose entries no longer exist.
    pub(crate) fn all_gone(&self) -> impl Iterator<Item = NodeId> {
        self.gone.iter().copied()
    }

    pub(crate) fn is_unlisted(&self, group: NodeId, member: NodeId) -> bool {
        self.unlisted.contains(&(group, member))
    }

    pub(crate) fn is_gone(&self, name: NodeId) -> bool {
        self.gone.contains(&name)
    }

    /// A name's key.
    #[must_use]
    pub fn key(&self, id: NodeId) -> Option<&DnKey> {
        self.names.key(id)
    }

    /// The name's number, if it occurs.
    #[must_use]
    pub fn find(&self, key: &DnKey) -> Option<NodeId> {
        self.names.find(key)
    }

    /// Whether a name is a group.
    #[must_use]
    pub fn is_group(&self, key: &DnKey) -> bool {
        self.find(key).is_some_and(|id| self.is_group_node(id))
    }

    /// Whether the name with this number is a group.
    #[must_use]
    pub fn is_group_node(&self, id: NodeId) -> bool {
        self.groups.contains(id.index())
    }

    /// Number of groups.
    #[must_use]
    pub fn groups(&self) -> usize {
        self.count
    }

    /// Every group, with the names of its direct members as the directory wrote them.
    pub fn all_groups(&self) -> impl Iterator<Item = (&str, impl Iterator<Item = &str>)> {
        self.group_ids().map(|id| (self.dn(id), self.members_by_name(id).into_iter().map(|id| self.dn(id))))
    }

    /// The direct members of a group, sorted by number (an arbitrary order); `None` if it is not a group.
    pub(crate) fn members(&self, id: NodeId) -> Option<&[NodeId]> {
        self.lists.get(id.index()).filter(|_| self.is_group_node(id)).map(AsRef::as_ref)
    }

    /// The direct members of a group, sorted by name: output and paths must not depend on a server's order.
    pub(crate) fn members_by_name(&self, id: NodeId) -> Vec<NodeId> {
        let mut members = self.members(id).unwrap_or_default().to_vec();
        members.sort_by_key(|id| self.key(*id));
        members
    }

    /// Every name.
    fn ids(&self) -> impl Iterator<Item = NodeId> + use<> {
        self.names.ids()
    }

    /// Every name that is a group.
    pub(crate) fn group_ids(&self) -> impl Iterator<Item = NodeId> {
        self.ids().filter(|id| self.is_group_node(*id))
    }

    /// The direct members of a group, in no particular order; `None` if it is not a group.
    pub(crate) fn direct_members(&self, group: &DnKey) -> impl Iterator<Item = &DnKey> {
        let members = self.find(group).and_then(|id| self.members(id)).unwrap_or_default();
        members.iter().filter_map(|id| self.key(*id))
    }

    /// The name as the directory wrote it.
    #[must_use]
    pub fn dn(&self, id: NodeId) -> &str {
        self.names.text(id)
    }
}
