//! Nested membership by an attribute of people that the settings name (`isMemberOf`), and of the groups that they are in,
//! level by level.
//!
//! No member list is read, and groups need no entries. The settings say that the server maintains the attribute: whoever
//! has no value is in no group.

use super::group_entry::GROUP_CLASSES;
use super::named_groups::texts;
use super::strategy::{Attempt, NestStrategy, Nests};
use crate::directory::DirectoryError;
use crate::directory::client::{Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use crate::progress::Progress;
use foldhash::{HashMap, HashSet};
use std::collections::BTreeSet;
use webtaxon_core::account::folded;
use webtaxon_core::graph::NodeId;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::reading::Part;
use webtaxon_core::settings::MemberAttributeKind;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// The strategy that believes what people, and their groups, say about their groups.
pub(super) struct Claims;

impl NestStrategy for Claims {
    async fn read(&self, nests: &mut Nests<'_>) -> Result<Attempt, DirectoryError> {
        let Some(attribute) = nests.request.member_attribute.clone().filter(|one| one.is_on_people()) else {
            return Ok(Attempt::Declined);
        };
        let (named, bases) = (nests.request.groups(), &nests.request.group_bases);
        let mut climb = Climb {
            attribute: &attribute.name,
            by_name: attribute.kind == MemberAttributeKind::NamesOfGroups,
            named: named.cloned().collect(),
            bases: bases.iter().map(Dn::key).collect(),
            called: HashMap::default(),
            members: HashMap::default(),
            shown: HashSet::default(),
            missing: None,
            nests,
        };
        climb.read().await?;
        climb.finish();
        Ok(Attempt::Read)
    }
}

/// The memberships met so far.
struct Climb<'n, 'r> {
    nests: &'n mut Nests<'r>,
    attribute: &'n str,
    /// Values are names of groups; otherwise they are the `cn` of groups.
    by_name: bool,
    named: Vec<Dn>,
    bases: Vec<DnKey>,
    /// The groups with each `cn` met.
    called: HashMap<String, Vec<String>>,
    /// The members of each group met.
    members: HashMap<NodeId, Vec<NodeId>>,
    /// Groups whose entries were shown.
    shown: HashSet<NodeId>,
    /// Why memberships cannot be known.
    missing: Option<Shortcoming>,
}

impl Climb<'_, '_> {
    async fn read(&mut self) -> Result<(), DirectoryError> {
        let people = self.nests.builder.people();
        let mut claims: Vec<(NodeId, Vec<String>)> = Vec::new();
        for (person, entry) in people.iter().enumerate() {
            let values = entry.values(self.attribute).map(std::str::from_utf8);
            let Ok(values) = values.collect::<Result<Vec<&str>, _>>() else {
                self.missing.get_or_insert(Shortcoming::SomebodysGroupNotUtf8(self.attribute.to_owned()));
                continue;
            };
            let node = self.nests.builder.node_of(person).filter(|_| !values.is_empty());
            claims.extend(node.map(|node| (node, values.into_iter().map(str::to_owned).collect())));
        }
        if claims.is_empty() && !people.is_empty() {
            self.missing.get_or_insert(Shortcoming::NobodyShows(self.attribute.to_owned()));
        }
        let named = self.named.clone();
        let named: Vec<NodeId> = named.iter().map(|dn| self.nests.builder.graph_mut().named(dn)).collect();
        let (mut next, mut seen, mut read) = (named, HashSet::default(), 0);
        loop {
            next.extend(self.add(claims).await?);
            next.retain(|group| seen.insert(*group));
            if next.is_empty() {
                return Ok(());
            }
            read += next.len();
            self.nests.connection.watch.tell(|| Progress::Groups { read });
            claims = self.ask(std::mem::take(&mut next)).await?;
        }
    }

    /// Adds members to the groups that they claim to be in; returns these groups.
    async fn add(&mut self, claims: Vec<(NodeId, Vec<String>)>) -> Result<Vec<NodeId>, DirectoryError> {
        if !self.by_name {
            let values = claims.iter().flat_map(|(_, values)| values);
            let new: BTreeSet<String> =
                values.filter(|value| !self.called.contains_key(*value)).cloned().collect();
            self.find(new).await?;
        }
        let mut groups = Vec::new();
        for (member, values) in claims {
            for value in values {
                let names = match self.by_name {
                    true => vec![value],
                    false => self.called.get(&value).cloned().unwrap_or_default(),
                };
                for name in names {
                    let Ok(group) = self.nests.builder.graph_mut().member(&name) else {
                        self.missing.get_or_insert(Shortcoming::GroupNotAName(name));
                        continue;
                    };
                    if self.is_within(group) {
                        self.members.entry(group).or_default().push(member);
                        groups.push(group);
                    }
                }
            }
        }
        groups.sort_unstable();
        groups.dedup();
        Ok(groups)
    }

    /// Looks for the groups with these values of `cn`. A named group without an entry has the `cn` of its name.
    async fn find(&mut self, names: BTreeSet<String>) -> Result<(), DirectoryError> {
        let request = self.nests.request;
        let root = self.nests.connection.root();
        let bases = if request.group_bases.is_empty() { root.tops() } else { &request.group_bases };
        let bases: Vec<String> = bases.iter().map(ToString::to_string).collect();
        let names: Vec<String> = names.into_iter().collect();
        let mut queries = Vec::new();
        for name in &names {
            let classes = Filter::any(GROUP_CLASSES.map(|class| Filter::equal("objectClass", class)));
            let filter = Filter::all([classes, Filter::equal("cn", name)]);
            queries.extend(bases.iter().map(|base| Query::subtree(base, filter.clone(), &["1.1"])));
        }
        let mut found: Vec<Vec<String>> = vec![Vec::new(); names.len()];
        let missing = &mut self.missing;
        let answer = |number: usize, items: Vec<SearchItem>, result: LdapResult| {
            let (name, base) = (number / bases.len().max(1), bases.get(number % bases.len().max(1)));
            if result.code != ResultCode::SUCCESS && result.code != ResultCode::NO_SUCH_OBJECT {
                missing.get_or_insert(Shortcoming::of_lookup(base.map_or("", String::as_str), &result));
            }
            let entries = items.iter().filter_map(|item| match item {
                SearchItem::Entry(entry) => std::str::from_utf8(entry.name()).ok().map(str::to_owned),
                SearchItem::Reference(_) => None,
            });
            found.get_mut(name).into_iter().for_each(|found| found.extend(entries.clone()));
        };
        self.nests.connection.pipeline(&queries, answer).await?;
        for (name, mut groups) in names.into_iter().zip(found) {
            if groups.len() > 1 {
                self.missing.get_or_insert(Shortcoming::SeveralGroupsCalled(name.clone()));
            }
            if groups.is_empty() {
                let is_it = |dn: &&Dn| dn.first().is_some_and(|first| folded(&first.text()) == folded(&name));
                groups = self.named.iter().filter(is_it).map(ToString::to_string).collect();
            }
            self.called.insert(name, groups);
        }
        Ok(())
    }

    /// The groups that these groups claim to be in. A group without an entry claims nothing.
    async fn ask(&mut self, groups: Vec<NodeId>) -> Result<Vec<(NodeId, Vec<String>)>, DirectoryError> {
        let names: Vec<String> =
            groups.iter().map(|group| self.nests.builder.graph().dn(*group).to_owned()).collect();
        let queries: Vec<Query> =
            names.iter().map(|name| Query::base(name, &["objectClass", self.attribute])).collect();
        let mut claims = Vec::new();
        let (attribute, shown, missing) = (self.attribute, &mut self.shown, &mut self.missing);
        let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
            let (Some(group), Some(name)) = (groups.get(number), names.get(number)) else { return };
            match first_entry(&found) {
                Some(entry) => {
                    shown.insert(*group);
                    claims.push((*group, texts(entry, attribute)));
                }
                None if [ResultCode::SUCCESS, ResultCode::NO_SUCH_OBJECT].contains(&result.code) => {}
                None => drop(missing.get_or_insert(Shortcoming::of_lookup(name, &result))),
            }
        };
        self.nests.connection.pipeline(&queries, answer).await?;
        claims.sort_unstable();
        Ok(claims)
    }

    fn is_within(&self, group: NodeId) -> bool {
        let Some(key) = self.nests.builder.graph().key(group) else { return false };
        self.bases.is_empty()
            || self.bases.iter().any(|base| key.is_within(base))
            || self.named.iter().any(|named| named.key() == *key)
    }

    /// Adds everything to the graph, and closes the part of each named group.
    fn finish(self) {
        let Self { nests, attribute, mut members, shown, missing, .. } = self;
        nests.builder.note(format!("people and groups tell the groups that they are in ({attribute})"));
        for (groups, purpose) in &nests.request.nests {
            for dn in groups {
                let node = nests.builder.graph_mut().named(dn);
                let is_known = shown.contains(&node) || members.contains_key(&node);
                let nobodys = (!is_known).then(|| Shortcoming::NobodysGroup(attribute.to_owned()));
                let part = nests.builder.open(Part::Group { group: node, purpose: *purpose });
                nests.builder.close(part, Shortcoming::ended(missing.clone().or(nobodys)));
                members.entry(node).or_default();
            }
        }
        let mut lists: Vec<(NodeId, Vec<NodeId>)> = members.into_iter().collect();
        lists.sort_by_key(|(node, _)| *node);
        for (node, list) in lists {
            nests.builder.graph_mut().set_members(node, list);
        }
    }
}
