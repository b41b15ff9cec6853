//! Groups and their members as a graph over dense numbers; nothing here knows a directory.
//!
//! Directories nest groups, in cycles too. [`Graph`] keeps each name once and each group's members
//! as numbers. [`Graph::reach`] walks it once, breadth first, so it ends on any graph and the path
//! it keeps for each member is a shortest one. No I/O, no recursion; memory is linear in names and
//! members.

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
pub use difference::GroupDifference;
pub use foreign::Foreign;
pub use inclusion::{Inclusion, Nesting};
pub use names::NodeId;
pub use path::{GroupPath, LONGEST_PATH};
pub use reach::{Leaf, Reach};
pub use roll::{Roll, primary_group, without_uid};

use crate::ldap::name::{Dn, DnKey, ParseError};
use fixedbitset::FixedBitSet;
use names::Names;
use std::collections::HashSet;

/// Groups and their members.
#[derive(Clone, Debug, Default)]
pub struct Graph {
    names: Names,
    /// By the names' numbers: direct members, in the order of their numbers.
    lists: Vec<Box<[NodeId]>>,
    /// The names that were read as groups: what is asked of every member stays near the processor.
    groups: FixedBitSet,
    /// How many those are: it is asked at each level of a nest.
    count: usize,
    /// Groups with members that no list of theirs shows.
    unlisted: HashSet<(NodeId, NodeId)>,
    /// Names that are listed and are no entry any more.
    gone: HashSet<NodeId>,
}

impl Graph {
    /// No groups.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// The number of a name, new if it was not met before.
    pub fn node(&mut self, key: DnKey, dn: &str) -> NodeId {
        let id = self.names.number(key, dn);
        if id.index() >= self.lists.len() {
            self.lists.push(Box::default());
        }
        id
    }

    /// The number of a name as the settings write it.
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

    /// Says that a name is a group, and which its direct members are: each is kept once.
    pub fn set_members(&mut self, group: NodeId, mut members: Vec<NodeId>) {
        members.sort_unstable();
        members.dedup();
        if let Some(list) = self.lists.get_mut(group.index()) {
            *list = members.into();
            self.groups.grow(self.lists.len());
            self.count += usize::from(!self.groups.put(group.index()));
        }
    }

    /// The number of a member as a group writes it. A name that is written as it was before need not be read again.
    ///
    /// # Errors
    /// It is not a distinguished name.
    pub fn member(&mut self, text: &str) -> Result<NodeId, ParseError> {
        if let Some(id) = self.names.spelled(text) {
            return Ok(id);
        }
        let id = self.node(Dn::parse(text)?.key(), text);
        self.remember(text, id);
        Ok(id)
    }

    /// The numbers of many members at once, as [`Graph::member`] gives them; none for what is not a distinguished
    /// name.
    pub fn all_members<'t>(
        &mut self,
        texts: &'t [&'t str],
    ) -> impl Iterator<Item = Option<NodeId>> + use<'_, 't> {
        let known = self.names.all_spelled(texts);
        texts.iter().zip(known).map(|(text, known)| known.or_else(|| self.member(text).ok()))
    }

    /// Remembers how a name was written.
    pub(crate) fn remember(&mut self, text: &str, id: NodeId) {
        self.names.spell(text, id);
    }

    /// Says that a group has a member that no list of its shows: by primary group, or by login.
    pub fn mark_unlisted(&mut self, group: NodeId, member: NodeId) {
        self.unlisted.insert((group, member));
    }

    /// Says that a name is listed and is no entry of the directory any more.
    pub fn mark_gone(&mut self, name: NodeId) {
        self.gone.insert(name);
    }

    pub(crate) fn is_unlisted(&self, group: NodeId, member: NodeId) -> bool {
        self.unlisted.contains(&(group, member))
    }

    pub(crate) fn is_gone(&self, name: NodeId) -> bool {
        self.gone.contains(&name)
    }

    /// A name for comparing.
    #[must_use]
    pub fn key(&self, id: NodeId) -> Option<&DnKey> {
        self.names.key(id)
    }

    /// The name's number, if the name occurs.
    #[must_use]
    pub fn find(&self, key: &DnKey) -> Option<NodeId> {
        self.names.find(key)
    }

    /// Whether a name was read as a group.
    #[must_use]
    pub fn is_group(&self, key: &DnKey) -> bool {
        self.find(key).is_some_and(|id| self.is_group_node(id))
    }

    /// Whether the name of this number was read as a group.
    #[must_use]
    pub fn is_group_node(&self, id: NodeId) -> bool {
        self.groups.contains(id.index())
    }

    /// How many groups were read.
    #[must_use]
    pub fn groups(&self) -> usize {
        self.count
    }

    /// Every group that was read, with the names of its direct members, as the directory wrote them.
    pub fn all_groups(&self) -> impl Iterator<Item = (&str, impl Iterator<Item = &str>)> {
        self.group_ids().map(|id| (self.dn(id), self.members_by_name(id).into_iter().map(|id| self.dn(id))))
    }

    /// The direct members of a group, in the order of their numbers, which says nothing; none if it was not read as
    /// a group.
    pub(crate) fn members(&self, id: NodeId) -> Option<&[NodeId]> {
        self.lists.get(id.index()).filter(|_| self.is_group_node(id)).map(AsRef::as_ref)
    }

    /// The direct members of a group in the order of their names: what is shown, and paths, must not depend on the
    /// order in which a server gives anything.
    pub(crate) fn members_by_name(&self, id: NodeId) -> Vec<NodeId> {
        let mut members = self.members(id).unwrap_or_default().to_vec();
        members.sort_by_key(|id| self.key(*id));
        members
    }

    /// Every name.
    fn ids(&self) -> impl Iterator<Item = NodeId> + use<> {
        self.names.ids()
    }

    /// Every name that was read as a group.
    pub(crate) fn group_ids(&self) -> impl Iterator<Item = NodeId> {
        self.ids().filter(|id| self.is_group_node(*id))
    }

    /// The names that a group has itself, in no order; none if it was not read as a group.
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
