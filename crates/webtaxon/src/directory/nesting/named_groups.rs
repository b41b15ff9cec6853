//! The groups in the settings, each looked up by itself: shared by the strategies that do not read member lists.

use super::group_entry::{Members, members};
use crate::directory::client::{Connection, Found, Query, first_entry};
use crate::directory::{DirectoryError, DirectoryErrorKind};
use std::ops::ControlFlow;
use webtaxon_core::graph::{Foreign, NodeId, Roll};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::{Filter, Item};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::{Ended, Part, ReadingBuilder};
use webtaxon_core::settings::GroupPurpose;
use webtaxon_core::settings::Intake;
use webtaxon_wire::entry::ReceivedEntry;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// A group in the settings.
pub(crate) struct Root {
    name: Dn,
    pub(crate) dn: String,
    pub(crate) key: DnKey,
    /// Its purposes.
    purposes: Vec<GroupPurpose>,
    pub(crate) sid: Option<Vec<u8>>,
    /// The groups that it claims to be in.
    pub(crate) above: Vec<String>,
    /// Whether it is a container, whose members are everybody below it.
    pub(crate) is_unit: bool,
    /// Why its members cannot be known.
    pub(crate) fault: Option<String>,
}

/// Looks up the named groups, and the people who have them as primary group.
pub(crate) async fn look_up(
    connection: &mut Connection,
    builder: &ReadingBuilder,
    intake: &Intake,
) -> Result<(Vec<Root>, Roll), DirectoryError> {
    let roll = Roll::of(builder.people(), connection.root().kind, None);
    let mut roots: Vec<Root> = Vec::new();
    for (groups, purpose) in intake.nests() {
        for dn in groups {
            let key = dn.key();
            match roots.iter_mut().find(|root| root.key == key) {
                Some(root) => root.purposes.push(purpose),
                None => roots.push(Root::new(dn, key, purpose)),
            }
        }
    }
    let attributes = ["objectClass", "primaryGroupToken", "objectSid", "memberOf"];
    let queries: Vec<Query> = roots.iter().map(|root| Query::base(&root.dn, &attributes)).collect();
    let answer = |number: usize, found: Vec<Found>, result: LdapResult| {
        if let Some(root) = roots.get_mut(number) {
            root.take(&found, &result);
        }
    };
    connection.pipeline(&queries, answer).await?;
    Ok((roots, roll))
}

impl Root {
    fn new(name: &Dn, key: DnKey, purpose: GroupPurpose) -> Self {
        let (name, dn, purposes) = (name.clone(), name.to_string(), vec![purpose]);
        Self { name, dn, key, purposes, sid: None, above: Vec::new(), is_unit: false, fault: None }
    }

    fn take(&mut self, found: &[Found], result: &LdapResult) {
        let entry = first_entry(found);
        let Some(entry) = entry.filter(|_| result.code == ResultCode::SUCCESS) else {
            self.fault = Some(not_shown(&self.dn, result));
            return;
        };
        match members(entry, 0, false) {
            Members::Unit => self.is_unit = true,
            Members::None => self.fault = Some("it is not a group".to_owned()),
            Members::Unreadable(why) => self.fault = Some(why),
            Members::Listed(listed) => self.sid = listed.sid.map(<[u8]>::to_vec),
        }
        match said(entry) {
            Ok(above) => self.above = above,
            Err(why) => self.fault = Some(why),
        }
    }
}

/// Adds those of the named groups that are containers to the graph.
pub(crate) fn put_units(builder: &mut ReadingBuilder, roots: &[Root]) {
    for root in roots.iter().filter(|root| root.is_unit) {
        let group = builder.graph_mut().node(root.key.clone(), &root.dn);
        unit(builder, group);
    }
}

/// Closes the part of each named group; `missing` applies to all of them.
pub(crate) fn close(builder: &mut ReadingBuilder, roots: Vec<Root>, roll: &Roll, missing: Option<&str>) {
    let part = builder.open(Part::PrimaryGroups);
    builder.close(part, shown(roll));
    for Root { name, purposes, is_unit, fault, .. } in roots {
        let why = fault.or_else(|| missing.filter(|_| !is_unit).map(str::to_owned));
        for purpose in purposes {
            let part = builder.open_group(&name, purpose);
            builder.close(part, why.clone().map_or(Ended::Complete, Ended::Short));
        }
    }
}

/// The values of an attribute that are text.
pub(crate) fn texts(entry: &ReceivedEntry, attribute: &str) -> Vec<String> {
    let own = entry.attributes_as_text().filter(|(name, _)| name.eq_ignore_ascii_case(attribute));
    own.flat_map(|(_, values)| values.filter_map(|value| std::str::from_utf8(value).ok()).map(str::to_owned))
        .collect()
}

/// The groups that an entry claims to be in (`memberOf`).
///
/// # Errors
/// They cannot be read completely; in words.
pub(crate) fn said(entry: &ReceivedEntry) -> Result<Vec<String>, String> {
    let mut groups = Vec::new();
    for (name, values) in entry.attributes_as_text() {
        if name.get(..9).is_some_and(|start| start.eq_ignore_ascii_case("memberOf;")) {
            return Err("it is in more groups than the server returns at once".to_owned());
        }
        if name.eq_ignore_ascii_case("memberOf") {
            for value in values {
                let text = std::str::from_utf8(value).map_err(|_| "a name in its memberOf is not UTF-8")?;
                groups.push(text.to_owned());
            }
        }
    }
    Ok(groups)
}

/// Whether an entry without `memberOf` is listed in a group all the same: then the attribute is hidden, and possibly
/// for others, too. In words.
pub(crate) async fn unsaid(
    connection: &mut Connection,
    silent: &[String],
) -> Result<Option<String>, DirectoryError> {
    let Some(top) = connection.root().default_naming_context.clone() else { return Ok(None) };
    let lists = |names: &[String]| {
        let lists = names.iter().map(|name| Filter::equal("member", name));
        let filter = Filter::all([Filter::equal("objectClass", "group"), Filter::any(lists)]);
        Query::subtree(&top.to_string(), filter, &["1.1"])
    };
    let queries: Vec<Query> = silent.chunks(LISTED_AT_ONCE).map(lists).collect();
    let mut why = None;
    let answer = |_: usize, found: Vec<Found>, result: LdapResult| {
        let group = found.iter().find_map(|found| match found {
            Found::Entry(entry) => Some(String::from_utf8_lossy(entry.name()).into_owned()),
            Found::Reference(_) => None,
        });
        if let Some(group) = group {
            why.get_or_insert_with(|| {
                format!("{group} lists a member whose memberOf does not show it; the bind account may lack the right to read memberOf")
            });
        } else if result.code != ResultCode::SUCCESS {
            let told = not_shown(&top.to_string(), &result);
            why.get_or_insert_with(|| format!("it is not known whether memberOf is visible: {told}"));
        }
    };
    connection.pipeline(&queries, answer).await?;
    Ok(why)
}

/// Names searched for in groups with one search.
const LISTED_AT_ONCE: usize = 50;

/// Why an entry was not returned by its look-up.
pub(crate) fn not_shown(dn: &str, result: &LdapResult) -> String {
    match result.code {
        ResultCode::SUCCESS => {
            "the server does not show it; the bind account may lack the right to read it".to_owned()
        }
        _ => {
            let (base, result) = (dn.to_owned(), Box::new(result.clone()));
            DirectoryErrorKind::Search { base, result }.to_string()
        }
    }
}

/// Why a server's own computation of membership is no proof of absence; `None` on a domain controller whose forest
/// has no other domain.
pub(crate) async fn doubt(connection: &mut Connection) -> Result<Option<String>, DirectoryError> {
    if connection.root().kind != ServerKind::Controller {
        return Ok(Some(
            "this kind of server need not maintain memberOf; strategy = \"lists\" reads member lists"
                .to_owned(),
        ));
    }
    let Some(top) = connection.root().default_naming_context.clone() else {
        return Ok(Some("the server does not show its domain".to_owned()));
    };
    let partitions = format!("CN=Partitions,CN=Configuration,{top}");
    let query = Query::subtree(&partitions, Filter::present("objectClass"), &["objectClass", "systemFlags"]);
    let unseen = "groups of another one would be missed";
    let domains = match connection.entries(query).await {
        Ok((references, _)) => references.iter().filter(|one| is_domain(*one)).count(),
        Err(error) if error.is_fatal() => return Err(error),
        Err(error) => {
            return Ok(Some(format!("the domains of the forest could not be read, and {unseen}: {error}")));
        }
    };
    Ok(match domains {
        1 => None,
        0 => Some(format!("the server does not show which domains the forest has, and {unseen}")),
        many => Some(format!(
            "the forest has {many} domains, and groups of the others are not seen; strategy = \"lists\" reads member lists"
        )),
    })
}

/// Whether a cross reference is a domain's ([MS-ADTS] §6.1.1.2.1.1.4).
fn is_domain(reference: Entry<'_>) -> bool {
    let flags = reference.text("systemFlags").and_then(|flags| flags.parse::<i64>().ok());
    reference.values("objectClass").any(|class| class.eq_ignore_ascii_case(b"crossRef"))
        && flags.is_some_and(|flags| flags & 2 != 0)
}

/// A principal from another domain, its entry's name, and the groups that list it.
pub(crate) type Stranger = (Foreign, String, Vec<String>);

/// Foreign principals that stand for people whom no list shows; and why some may be missing. Their `memberOf` is not
/// used, since a Samba controller omits it for some.
pub(crate) async fn foreign(
    connection: &mut Connection,
) -> Result<(Vec<Stranger>, Option<String>), DirectoryError> {
    let mut all: Vec<Stranger> = Vec::new();
    let Some(top) = connection.root().default_naming_context.clone() else { return Ok((all, None)) };
    let top = top.to_string();
    let take = |entry: Entry<'_>| {
        let foreign = Foreign::of(entry.dn());
        if let Some(foreign @ Foreign::Unlisted(..)) = foreign {
            all.push((foreign, entry.dn().to_owned(), Vec::new()));
        }
        ControlFlow::Continue(())
    };
    let filter = Filter::equal("objectClass", "foreignSecurityPrincipal");
    let mut short = connection.each(Query::subtree(&top, filter, &["1.1"]), take).await?.limit;
    for (_, dn, groups) in &mut all {
        let lists = Filter::all([Filter::equal("objectClass", "group"), Filter::equal("member", &*dn)]);
        let take = |entry: Entry<'_>| {
            groups.push(entry.dn().to_owned());
            ControlFlow::Continue(())
        };
        let limit = connection.each(Query::subtree(&top, lists, &["1.1"]), take).await?.limit;
        short = short.or(limit);
    }
    Ok((all, short))
}

/// A comparison by a matching rule.
pub(crate) fn rule(attribute: &str, rule: &str, value: &[u8]) -> Filter {
    Filter::Item(Item::Extensible {
        attribute: Some(attribute.into()),
        rule: Some(rule.into()),
        dn: false,
        value: value.into(),
    })
}

/// Adds the people who have a group as their primary group to its members.
pub(crate) fn add_primary(
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
pub(crate) fn shown(roll: &Roll) -> Ended {
    match roll.hidden() {
        0 => Ended::Complete,
        hidden => Ended::Short(format!(
            "{hidden} of them do not show it; the bind account may lack the right to read primaryGroupID"
        )),
    }
}

/// Adds a container to the graph, with everybody below it.
pub(crate) fn unit(builder: &mut ReadingBuilder, unit: NodeId) {
    let Some(top) = builder.graph().key(unit).cloned() else { return };
    let is_below = |id: &NodeId| builder.graph().key(*id).is_some_and(|key| key.is_within(&top));
    let people = (0..builder.people().len()).filter_map(|person| builder.node_of(person));
    let below: Vec<NodeId> = people.filter(is_below).collect();
    builder.graph_mut().set_members(unit, below);
}
