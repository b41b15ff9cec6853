//! The groups in the settings, each looked up by itself: shared by the strategies that do not read member lists.

use super::group_entry::{Expected, Members, members, unlisted};
use super::strategy::Nests;
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use std::collections::HashSet;
use std::ops::ControlFlow;
use webtaxon_core::graph::{Foreign, NodeId, Roll};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::{Filter, Item};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::{Ended, Part, ReadingBuilder};
use webtaxon_core::settings::GroupPurpose;
use webtaxon_wire::entry::ReceivedEntry;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// A group in the settings.
pub(super) struct NamedGroup {
    name: Dn,
    pub(super) dn: String,
    pub(super) key: DnKey,
    purposes: Vec<GroupPurpose>,
    pub(super) sid: Option<Vec<u8>>,
    /// The groups that it claims to be in.
    pub(super) claims: Vec<String>,
    /// Whether it is a container, whose members are everybody below it.
    pub(super) is_unit: bool,
    /// Why its members cannot be known.
    pub(super) fault: Option<Shortcoming>,
}

/// Looks up the named groups; and indexes the people by primary group.
pub(super) async fn look_up(nests: &mut Nests<'_>) -> Result<(Vec<NamedGroup>, Roll), DirectoryError> {
    let roll = Roll::of(nests.builder.people(), nests.connection.root().kind, None);
    let mut named: Vec<NamedGroup> = Vec::new();
    for (groups, purpose) in &nests.request.nests {
        for dn in groups {
            let key = dn.key();
            match named.iter_mut().find(|group| group.key == key) {
                Some(group) => group.purposes.push(*purpose),
                None => named.push(NamedGroup::new(dn, key, *purpose)),
            }
        }
    }
    let attributes = ["objectClass", "primaryGroupToken", "objectSid", "memberOf"];
    let queries: Vec<Query> = named.iter().map(|group| Query::base(&group.dn, &attributes)).collect();
    let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
        if let Some(group) = named.get_mut(number) {
            group.take(&found, &result);
        }
    };
    nests.connection.pipeline(&queries, answer).await?;
    Ok((named, roll))
}

impl NamedGroup {
    fn new(name: &Dn, key: DnKey, purpose: GroupPurpose) -> Self {
        let (name, dn, purposes) = (name.clone(), name.to_string(), vec![purpose]);
        Self { name, dn, key, purposes, sid: None, claims: Vec::new(), is_unit: false, fault: None }
    }

    fn take(&mut self, found: &[SearchItem], result: &LdapResult) {
        let entry = first_entry(found).filter(|_| result.code == ResultCode::SUCCESS);
        let Some(entry) = entry else {
            self.fault = Some(Shortcoming::of_lookup(&self.dn, result));
            return;
        };
        match members(entry, 0, &Expected::default()) {
            Members::Unit => self.is_unit = true,
            Members::None => self.fault = Some(Shortcoming::NotAGroup),
            Members::Unreadable(why) => self.fault = Some(why),
            Members::Listed(listed) => self.sid = listed.sid.map(<[u8]>::to_vec),
        }
        match claimed_groups(entry) {
            Ok(claims) => self.claims = claims,
            Err(why) => self.fault = Some(why),
        }
    }
}

/// Adds those of the named groups that are containers to the graph.
pub(super) fn put_units(builder: &mut ReadingBuilder, named: &[NamedGroup]) {
    for group in named.iter().filter(|group| group.is_unit) {
        let node = builder.graph_mut().node(group.key.clone(), &group.dn);
        put_unit(builder, node);
    }
}

/// Closes the part of each named group; `missing` applies to all of them.
pub(super) fn close(
    builder: &mut ReadingBuilder,
    named: Vec<NamedGroup>,
    roll: &Roll,
    missing: Option<&Shortcoming>,
) {
    let part = builder.open(Part::PrimaryGroups);
    builder.close(part, shown(roll));
    for NamedGroup { name, purposes, is_unit, fault, .. } in named {
        let why = fault.or_else(|| missing.filter(|_| !is_unit).cloned());
        for purpose in purposes {
            let part = builder.open_group(&name, purpose);
            builder.close(part, Shortcoming::ended(why.clone()));
        }
    }
}

/// The values of an attribute that are text.
pub(super) fn texts(entry: &ReceivedEntry, attribute: &str) -> Vec<String> {
    let own = entry.attributes_as_text().filter(|(name, _)| name.eq_ignore_ascii_case(attribute));
    own.flat_map(|(_, values)| values.filter_map(|value| std::str::from_utf8(value).ok()).map(str::to_owned))
        .collect()
}

/// The groups that an entry claims to be in (`memberOf`), which was requested with its `objectClass`.
///
/// # Errors
/// They cannot be read completely.
pub(super) fn claimed_groups(entry: &ReceivedEntry) -> Result<Vec<String>, Shortcoming> {
    let (mut groups, mut is_known) = (Vec::new(), false);
    for (name, values) in entry.attributes_as_text() {
        is_known |= name.eq_ignore_ascii_case("objectClass");
        if name.get(..9).is_some_and(|start| start.eq_ignore_ascii_case("memberOf;")) {
            return Err(Shortcoming::TooManyGroups);
        }
        if name.eq_ignore_ascii_case("memberOf") {
            for value in values {
                let text = std::str::from_utf8(value).map_err(|_| Shortcoming::GroupNotUtf8)?;
                groups.push(text.to_owned());
            }
        }
    }
    if is_known { Ok(groups) } else { Err(Shortcoming::KindHidden) }
}

/// Whether one of these entries, which show no `memberOf`, is listed in a group all the same: then the attribute is
/// hidden, and possibly for others, too.
pub(super) async fn hidden_member_of(
    connection: &mut Connection,
    silent: &[String],
) -> Result<Option<Shortcoming>, DirectoryError> {
    let Some(top) = connection.root().default_naming_context.clone() else { return Ok(None) };
    let lists = |names: &[String]| {
        let lists = names.iter().map(|name| Filter::equal("member", name));
        let filter = Filter::all([Filter::equal("objectClass", "group"), Filter::any(lists)]);
        Query::subtree(&top.to_string(), filter, &["1.1"])
    };
    let queries: Vec<Query> = silent.chunks(LISTED_AT_ONCE).map(lists).collect();
    let mut short = None;
    let answer = |_: usize, found: Vec<SearchItem>, result: LdapResult| {
        let group = first_entry(&found).map(|entry| String::from_utf8_lossy(entry.name()).into_owned());
        if let Some(group) = group {
            short.get_or_insert(Shortcoming::HiddenMemberOf(group));
        } else if result.code != ResultCode::SUCCESS {
            let why = Shortcoming::of_lookup(&top.to_string(), &result);
            short.get_or_insert(Shortcoming::MemberOfUnknown(Box::new(why)));
        }
    };
    connection.pipeline(&queries, answer).await?;
    Ok(short)
}

/// Names searched for in groups with one search.
const LISTED_AT_ONCE: usize = 50;

/// Why a server's own computation of membership is no proof of absence; `None` on a domain controller whose forest
/// has no other domain.
pub(super) async fn doubt(connection: &mut Connection) -> Result<Option<Shortcoming>, DirectoryError> {
    if connection.root().kind != ServerKind::Controller {
        return Ok(Some(Shortcoming::MemberOfNotMaintained));
    }
    let Some(top) = connection.root().default_naming_context.clone() else {
        return Ok(Some(Shortcoming::NoDomain));
    };
    let partitions = format!("CN=Partitions,CN=Configuration,{top}");
    let query = Query::subtree(&partitions, Filter::present("objectClass"), &["objectClass", "systemFlags"]);
    let domains = match connection.entries(query).await {
        Ok((references, _)) => references.iter().filter(|one| is_domain(*one)).count(),
        Err(error) if error.is_fatal() => return Err(error),
        Err(error) => return Ok(Some(Shortcoming::DomainsUnread(error.to_string()))),
    };
    Ok(match domains {
        1 => None,
        0 => Some(Shortcoming::DomainsHidden),
        many => Some(Shortcoming::OtherDomains(many)),
    })
}

/// Whether a cross reference is a domain's ([MS-ADTS] §6.1.1.2.1.1.4).
fn is_domain(reference: Entry<'_>) -> bool {
    let flags = reference.text("systemFlags").and_then(|flags| flags.parse::<i64>().ok());
    reference.values("objectClass").any(|class| class.eq_ignore_ascii_case(b"crossRef"))
        && flags.is_some_and(|flags| flags & 2 != 0)
}

/// A principal from another domain, or one that stands for people whom no list shows.
pub(super) struct ForeignPrincipal {
    pub(super) identity: Foreign,
    pub(super) dn: String,
    /// The groups that list it.
    pub(super) groups: Vec<String>,
}

/// Whether one of these names is among the keys.
pub(super) fn is_in_any(names: &[String], keys: &HashSet<DnKey>) -> bool {
    names.iter().filter_map(|name| Some(Dn::parse(name).ok()?.key())).any(|key| keys.contains(&key))
}

/// Foreign principals that stand for people whom no list shows; and why some may be missing. Their `memberOf` is not
/// used, since a Samba controller omits it for some.
pub(super) async fn foreign(
    connection: &mut Connection,
) -> Result<(Vec<ForeignPrincipal>, Option<Shortcoming>), DirectoryError> {
    let mut all: Vec<ForeignPrincipal> = Vec::new();
    let Some(top) = connection.root().default_naming_context.clone() else { return Ok((all, None)) };
    let top = top.to_string();
    let mut take = |entry: Entry<'_>| {
        let identity = Foreign::of(entry.dn()).filter(|identity| unlisted(identity).is_some());
        let dn = || entry.dn().to_owned();
        all.extend(identity.map(|identity| ForeignPrincipal { identity, dn: dn(), groups: Vec::new() }));
        ControlFlow::Continue(())
    };
    let filter = Filter::equal("objectClass", "foreignSecurityPrincipal");
    let mut limit = connection.each(Query::subtree(&top, filter.clone(), &["1.1"]), &mut take).await?.limit;
    // The same principals may be listed by their entries in the configuration partition.
    let is_configuration = |top: &&Dn| top.first().is_some_and(|first| first.text() == "Configuration");
    let configuration = connection.root().naming_contexts.iter().find(is_configuration);
    if let Some(configuration) = configuration.map(|top| format!("CN=WellKnown Security Principals,{top}")) {
        match connection.each(Query::subtree(&configuration, filter, &["1.1"]), &mut take).await {
            Ok(short) => limit = limit.or(short.limit),
            Err(error) if error.is_fatal() => return Err(error),
            Err(_) => {} // no such container
        }
    }
    for principal in &mut all {
        let (groups, short) = groups_that_list(connection, &top, &principal.dn).await?;
        principal.groups = groups;
        limit = limit.or(short);
    }
    Ok((all, limit.map(Shortcoming::Failed)))
}

/// The groups that list this name; and the limit at which the server ended the search, if it did.
pub(super) async fn groups_that_list(
    connection: &mut Connection,
    top: &str,
    name: &str,
) -> Result<(Vec<String>, Option<String>), DirectoryError> {
    let lists = Filter::all([Filter::equal("objectClass", "group"), Filter::equal("member", name)]);
    let mut groups = Vec::new();
    let take = |entry: Entry<'_>| {
        groups.push(entry.dn().to_owned());
        ControlFlow::Continue(())
    };
    let short = connection.each(Query::subtree(top, lists, &["1.1"]), take).await?;
    Ok((groups, short.limit))
}

/// A comparison by a matching rule.
pub(super) fn rule(attribute: &str, rule: &str, value: &[u8]) -> Filter {
    Filter::Item(Item::Extensible {
        attribute: Some(attribute.into()),
        rule: Some(rule.into()),
        dn: false,
        value: value.into(),
    })
}

/// Adds the people who have a group as their primary group to its members.
pub(super) fn add_primary(
    builder: &mut ReadingBuilder,
    roll: &Roll,
    number: Option<u32>,
    sid: Option<&[u8]>,
    list: &mut Vec<NodeId>,
) -> Vec<NodeId> {
    let Some(number) = number else { return Vec::new() };
    let people: Vec<usize> = roll.with_primary_group(builder.people(), number, sid).collect();
    let people: Vec<NodeId> = people.into_iter().filter_map(|person| builder.node_of(person)).collect();
    list.extend(&people);
    people
}

/// Whether everybody shows their primary group.
pub(super) fn shown(roll: &Roll) -> Ended {
    let hidden = Some(roll.hidden()).filter(|hidden| *hidden > 0);
    Shortcoming::ended(hidden.map(Shortcoming::HiddenPrimaryGroup))
}

/// Adds a container to the graph, with everybody below it.
pub(super) fn put_unit(builder: &mut ReadingBuilder, unit: NodeId) {
    let Some(top) = builder.graph().key(unit).cloned() else { return };
    let is_below = |id: &NodeId| builder.graph().key(*id).is_some_and(|key| key.is_within(&top));
    let people = (0..builder.people().len()).filter_map(|person| builder.node_of(person));
    let below: Vec<NodeId> = people.filter(is_below).collect();
    builder.graph_mut().set_members(unit, below);
}
