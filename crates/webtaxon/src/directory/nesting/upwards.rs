//! Nested membership from the people upwards: by the groups that people, and then their groups, claim to be in
//! (`memberOf`), level by level, with many look-ups at once.
//!
//! No member list is read, however long. The primary group, which `memberOf` omits, is found by its SID ([MS-ADTS]
//! §3.1.1.6.1.1). Members who are not people of the reading are not seen.

use super::group_entry::unlisted;
use super::named_groups::{self, NamedGroup, add_primary, claimed_groups};
use super::strategy::{Attempt, NestStrategy, Nests};
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use crate::progress::Progress;
use std::collections::{HashMap, HashSet};
use webtaxon_core::graph::{Foreign, NodeId, Roll};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::ldap::value;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Maximum number of people for which this strategy is chosen automatically, and minimum length of a named group's
/// list: reading that list and looking up its members then takes longer than asking every person.
const FEW: usize = 1_000;
const LONG: usize = 20_000;

/// The strategy that reads the groups of people.
pub(super) struct Upwards {
    /// Whether to decline unless this is the cheapest strategy, and sees everything.
    pub(super) only_if_cheaper: bool,
}

impl NestStrategy for Upwards {
    async fn read(&self, nests: &mut Nests<'_>) -> Result<Attempt, DirectoryError> {
        let long = if self.only_if_cheaper { long_list(nests).await? } else { None };
        if self.only_if_cheaper && long.is_none() {
            return Ok(Attempt::Declined);
        }
        let doubt = named_groups::doubt(nests.connection).await?;
        if self.only_if_cheaper && doubt.is_some() {
            return Ok(Attempt::Declined);
        }
        let (named, roll) = named_groups::look_up(nests).await?;
        let mut climb = Climb::new(nests, &named, doubt);
        let claims = match self.only_if_cheaper {
            true => climb.ask_people().await?,
            false => climb.claims_as_read(),
        };
        if self.only_if_cheaper && (claims.iter().all(Vec::is_empty) || roll.hidden() > 0) {
            return Ok(Attempt::Declined); // memberOf seems to be hidden
        }
        let foreign = climb.first_level(claims, &named, &roll).await?;
        climb.up().await?;
        if climb.is_controller() {
            let hidden = named_groups::hidden_member_of(climb.nests.connection, &climb.silent).await?;
            hidden.into_iter().for_each(|why| climb.miss(why));
        }
        let fault = named.iter().find_map(|group| group.fault.as_ref()).or(climb.missing.as_ref());
        if self.only_if_cheaper && fault.is_some() {
            tracing::debug!(?fault, "member lists are read: memberOf does not show everything");
            return Ok(Attempt::Declined);
        }
        climb.finish(named, &roll, &foreign, long.as_deref());
        Ok(Attempt::Read)
    }
}

/// A named group whose list takes longer to read than asking every person.
async fn long_list(nests: &mut Nests<'_>) -> Result<Option<String>, DirectoryError> {
    let is_controller = nests.connection.root().kind == ServerKind::Controller;
    let needs_lists = nests.request.application_groups.is_some();
    if !is_controller || needs_lists || nests.builder.people().len() > FEW {
        return Ok(None);
    }
    let names: Vec<String> = nests.request.groups().map(Dn::to_string).collect();
    let range = format!("member;range={LONG}-{LONG}");
    let queries: Vec<Query> = names.iter().map(|name| Query::base(name, &[&range])).collect();
    let mut long = None;
    let answer = |number: usize, found: Vec<SearchItem>, _: LdapResult| {
        let is_long = found.iter().any(|found| match found {
            SearchItem::Entry(entry) => {
                entry.attributes_as_text().any(|(_, mut values)| values.next().is_some())
            }
            SearchItem::Reference(_) => false,
        });
        if is_long && long.is_none() {
            long = names.get(number).cloned();
        }
    };
    nests.connection.pipeline(&queries, answer).await?;
    Ok(long)
}

/// The last entry of a search, with the groups that it claims to be in.
async fn last_group(
    connection: &mut Connection,
    query: Query,
) -> Result<Option<(String, Result<Vec<String>, Shortcoming>)>, DirectoryError> {
    let mut search = connection.search(query).await?;
    let mut group = None;
    while let Some(found) = search.next().await? {
        if let SearchItem::Entry(entry) = found {
            let dn = std::str::from_utf8(entry.name()).ok();
            group = dn.map(|dn| (dn.to_owned(), claimed_groups(&entry)));
        }
    }
    Ok(group)
}

/// The name of a group, and its key.
type GroupName = (NodeId, DnKey, String);

/// Reading upwards: the groups and memberships met so far.
struct Climb<'n, 'r> {
    nests: &'n mut Nests<'r>,
    /// Where groups count: the named ones, and those in the intake's bases.
    named: HashSet<DnKey>,
    bases: Vec<DnKey>,
    /// The known members of each group.
    members: HashMap<NodeId, Vec<NodeId>>,
    /// Groups to look up next.
    next: Vec<GroupName>,
    seen: HashSet<DnKey>,
    /// Entries that claim no groups.
    silent: Vec<String>,
    /// Why memberships cannot be known.
    missing: Option<Shortcoming>,
}

impl<'n, 'r> Climb<'n, 'r> {
    fn new(nests: &'n mut Nests<'r>, named: &[NamedGroup], missing: Option<Shortcoming>) -> Self {
        let named: HashSet<DnKey> = named.iter().map(|group| group.key.clone()).collect();
        Self {
            bases: nests.request.group_bases.iter().map(Dn::key).collect(),
            seen: named.clone(),
            named,
            members: HashMap::new(),
            next: Vec::new(),
            silent: Vec::new(),
            missing,
            nests,
        }
    }

    fn is_controller(&self) -> bool {
        self.nests.connection.root().kind == ServerKind::Controller
    }

    fn is_within(&self, key: &DnKey) -> bool {
        self.bases.is_empty() || self.named.contains(key) || self.bases.iter().any(|base| key.is_within(base))
    }

    fn miss(&mut self, why: Shortcoming) {
        self.missing.get_or_insert(why);
    }

    /// Adds the groups that an entry claims to be in.
    fn add(&mut self, member: NodeId, groups: &[String]) {
        if groups.is_empty() {
            self.silent.push(self.nests.builder.graph().dn(member).to_owned());
        }
        for text in groups {
            let Ok(group) = self.nests.builder.graph_mut().member(text) else {
                self.miss(Shortcoming::GroupNotAName(text.clone()));
                continue;
            };
            let Some(key) = self.nests.builder.graph().key(group).cloned() else { continue };
            if self.is_within(&key) {
                self.members.entry(group).or_default().push(member);
                if self.seen.insert(key.clone()) {
                    self.next.push((group, key, text.clone()));
                }
            }
        }
    }

    /// Adds the groups that an entry claims to be in, or the reason why they are unknown.
    fn add_or_miss(&mut self, member: NodeId, whose: &str, groups: Result<Vec<String>, Shortcoming>) {
        match groups {
            Ok(groups) => self.add(member, &groups),
            Err(why) => {
                self.miss(Shortcoming::GroupsUnread { whose: whose.to_owned(), why: Box::new(why) });
            }
        }
    }

    /// The groups that each person claims to be in, as read with the people.
    fn claims_as_read(&mut self) -> Vec<Vec<String>> {
        let mut short = None;
        let people = self.nests.builder.people();
        let is_ranged =
            |(_, name): (_, &str)| name.get(..9).is_some_and(|start| start.eq_ignore_ascii_case("memberOf;"));
        if people.names().iter().any(is_ranged) {
            short = Some(Shortcoming::SomebodyInTooManyGroups);
        }
        let claims = |entry: Entry<'_>| {
            let texts = entry.values("memberOf").map(|value| std::str::from_utf8(value).map(str::to_owned));
            texts.collect::<Result<Vec<String>, _>>().unwrap_or_else(|_| {
                short.get_or_insert(Shortcoming::SomebodysGroupNotUtf8("memberOf".to_owned()));
                Vec::new()
            })
        };
        let claims = people.iter().map(claims).collect();
        short.into_iter().for_each(|why| self.miss(why));
        claims
    }

    /// The groups that each person claims to be in, read now.
    async fn ask_people(&mut self) -> Result<Vec<Vec<String>>, DirectoryError> {
        let names: Vec<String> =
            self.nests.builder.people().iter().map(|person| person.dn().to_owned()).collect();
        let mut claims = Vec::new();
        for groups in self.ask(&names).await? {
            claims.push(groups.unwrap_or_else(|why| {
                self.miss(Shortcoming::GroupsUnread { whose: "somebody".to_owned(), why: Box::new(why) });
                Vec::new()
            }));
        }
        Ok(claims)
    }

    /// The groups that these entries claim to be in, in order, or why they are unknown.
    async fn ask(
        &mut self,
        names: &[String],
    ) -> Result<Vec<Result<Vec<String>, Shortcoming>>, DirectoryError> {
        let queries: Vec<Query> =
            names.iter().map(|name| Query::base(name, &["objectClass", "memberOf"])).collect();
        let mut claims = vec![Ok(Vec::new()); queries.len()];
        let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
            let entry = first_entry(&found).filter(|_| result.code == ResultCode::SUCCESS);
            let dn = names.get(number).map_or("", String::as_str);
            if let Some(slot) = claims.get_mut(number) {
                *slot = entry.map_or_else(|| Err(Shortcoming::of_lookup(dn, &result)), claimed_groups);
            }
        };
        self.nests.connection.pipeline(&queries, answer).await?;
        Ok(claims)
    }

    /// Adds the groups of people, of named groups and, on a domain controller, of foreign principals and by primary
    /// group; returns the foreign principals.
    async fn first_level(
        &mut self,
        claims: Vec<Vec<String>>,
        named: &[NamedGroup],
        roll: &Roll,
    ) -> Result<Vec<(Foreign, NodeId)>, DirectoryError> {
        for (person, groups) in claims.into_iter().enumerate() {
            if let Some(node) = self.nests.builder.node_of(person) {
                self.add(node, &groups);
            }
        }
        for group in named {
            let node = self.nests.builder.graph_mut().node(group.key.clone(), &group.dn);
            self.add(node, &group.claims);
        }
        let mut foreign = Vec::new();
        if !self.is_controller() {
            return Ok(foreign);
        }
        let (principals, short) = named_groups::foreign(self.nests.connection).await?;
        short.into_iter().for_each(|why| self.miss(why));
        for principal in principals {
            let Ok(node) = self.nests.builder.graph_mut().member(&principal.dn) else { continue };
            if !principal.groups.is_empty() {
                self.add(node, &principal.groups);
            }
            foreign.push((principal.identity, node));
        }
        let group = named.iter().find_map(|group| group.sid.as_deref());
        let sids = roll.primary_groups(self.nests.builder.people(), group);
        self.primary_groups(roll, sids).await?;
        Ok(foreign)
    }

    /// Adds the people's primary groups, which `memberOf` omits.
    async fn primary_groups(&mut self, roll: &Roll, sids: Vec<Vec<u8>>) -> Result<(), DirectoryError> {
        let Some(top) = self.nests.connection.root().default_naming_context.clone() else { return Ok(()) };
        for sid in sids {
            let filter = Filter::equal("objectSid", &sid);
            let query = Query::subtree(&top.to_string(), filter, &["objectClass", "memberOf"]);
            let Some((dn, claims)) = last_group(self.nests.connection, query).await? else {
                self.miss(Shortcoming::PrimaryGroupNotShown(value::sid(&sid).unwrap_or_default()));
                continue;
            };
            let builder = &mut *self.nests.builder;
            let Ok(node) = builder.graph_mut().member(&dn) else { continue };
            let Some(key) = builder.graph().key(node).cloned() else { continue };
            if !self.is_within(&key) {
                continue;
            }
            let builder = &mut *self.nests.builder;
            let list = self.members.entry(node).or_default();
            let people = add_primary(builder, roll, value::relative_id(&sid), Some(&sid), list);
            people.into_iter().for_each(|person| builder.graph_mut().mark_unlisted(node, person));
            if self.seen.insert(key) {
                self.add_or_miss(node, &dn, claims);
            }
        }
        Ok(())
    }

    /// Looks up the groups that groups are in, until no new ones appear.
    async fn up(&mut self) -> Result<(), DirectoryError> {
        let mut read = 0;
        while !self.next.is_empty() {
            let mut level = std::mem::take(&mut self.next);
            // Sorted by name, so that the order of responses does not matter.
            level.sort_by(|(_, one, _), (_, other, _)| one.cmp(other));
            let names: Vec<String> = level.iter().map(|(_, _, dn)| dn.clone()).collect();
            let claims = self.ask(&names).await?;
            read += level.len();
            self.nests.connection.watch.tell(|| Progress::Groups { read });
            for ((node, _, dn), claims) in level.into_iter().zip(claims) {
                self.add_or_miss(node, &dn, claims);
            }
        }
        Ok(())
    }

    /// Adds everything to the graph, and closes the part of each named group.
    fn finish(
        self,
        mut named: Vec<NamedGroup>,
        roll: &Roll,
        foreign: &[(Foreign, NodeId)],
        long: Option<&str>,
    ) {
        let builder = &mut *self.nests.builder;
        named_groups::put_units(builder, &named);
        let mut lists: Vec<(NodeId, Vec<NodeId>)> = self.members.into_iter().collect();
        for group in named.iter().filter(|group| !group.is_unit && group.fault.is_none()) {
            let node = builder.graph_mut().node(group.key.clone(), &group.dn);
            if !lists.iter().any(|(known, _)| *known == node) {
                lists.push((node, Vec::new()));
            }
        }
        lists.sort_by_key(|(node, _)| *node);
        let graph = builder.graph_mut();
        for (node, list) in lists {
            // A container has everybody below it already.
            if !graph.is_group_node(node) {
                graph.set_members(node, list);
            }
        }
        for group in named.iter_mut().filter(|group| group.fault.is_none()) {
            let reach = graph.reach([&group.key]);
            group.fault = foreign.iter().find_map(|(identity, node)| {
                unlisted(identity).filter(|_| graph.key(*node).is_some_and(|key| reach.contains(graph, key)))
            });
        }
        let why = long.map_or_else(String::new, |long| {
            format!(
                ", since {long} lists more than {LONG} members; strategy = \"lists\" shows its other members"
            )
        });
        builder.note(format!(
            "membership was read upwards, from the groups that people and groups claim to be in (memberOf){why}"
        ));
        named_groups::close(builder, named, roll, self.missing.as_ref());
    }
}
