//! Reading nests through member lists, from the named groups downwards, with many look-ups at once.
//!
//! Level by level: the members of all groups of a level, except people, are looked up together, or taken from a bulk
//! search ([`Swept`]). Each name is looked up once, so cycles end. A group whose members a server returns in ranges
//! ([MS-ADTS] §3.1.1.3.1.3.3) is read to its last range; the searches of a dynamic group (`memberURL`) are made.

use super::bulk::{Known, Swept};
use super::group_entry::{Listing, Members, Met, members, not_the_rest};
use super::named_groups::{shown, unit};
use crate::directory::client::{Connection, Found, Query, first_entry};
use crate::directory::{DirectoryError, DirectoryErrorKind};
use crate::progress::Progress;
use foldhash::HashSet;
use std::ops::ControlFlow;
use webtaxon_core::graph::{Graph, NodeId, Roll};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::ldap::url::{LdapUrl, UrlScope};
use webtaxon_core::reading::{Ended, Part, PartId, ReadingBuilder};
use webtaxon_core::settings::Intake;
use webtaxon_wire::message::{LdapResult, ResultCode, Scope};

/// Maximum members of a group, so that a server with endless ranges is abandoned.
const MOST: usize = 50_000_000;

struct Lookup {
    group: NodeId,
    part: PartId,
    /// A group in the settings must exist and be a group; a member need not.
    named: bool,
    /// Its members so far.
    said: Listing,
    /// The attribute to request a range of, and the first value wanted.
    range: Option<(String, usize)>,
}

impl Lookup {
    fn new(group: NodeId, part: PartId, named: bool) -> Self {
        Self { group, part, named, said: Listing::default(), range: None }
    }

    fn query(&self, graph: &Graph, kind: ServerKind) -> Query {
        let dn = graph.dn(self.group);
        if let Some((attribute, from)) = &self.range {
            return Query::base(dn, &[&format!("{attribute};range={from}-*")]);
        }
        Query::base(dn, &wanted(kind))
    }
}

/// The attributes of groups that determine their members.
fn wanted(kind: ServerKind) -> Vec<&'static str> {
    let mut wanted = vec!["objectClass", "member", "uniqueMember", "memberUid", "memberURL"];
    match kind {
        // The primary group number is computed, and returned only on request.
        ServerKind::Controller => wanted.extend(["primaryGroupToken", "objectSid"]),
        _ => wanted.push("gidNumber"),
    }
    wanted
}

/// How groups may list people other than by name.
struct Logins<'r> {
    roll: &'r Roll,
    /// The attribute that `memberUid` refers to, if known.
    attribute: Option<&'r str>,
    /// Whether the settings give it.
    is_said: bool,
}

/// Reads the named groups and all groups in them.
///
/// # Errors
/// The connection is unusable; the reading records what is missing.
pub(crate) async fn read(
    connection: &mut Connection,
    builder: &mut ReadingBuilder,
    intake: &Intake,
) -> Result<(), DirectoryError> {
    let nests = builder.nests(intake);
    let kind = connection.root().kind;
    let attribute = intake.member_login_attribute(kind);
    let roll = Roll::of(builder.people(), kind, attribute);
    let logins = Logins { roll: &roll, attribute, is_said: intake.member_login.is_some() };
    let part = builder.open(Part::PrimaryGroups);
    builder.close(part, shown(&roll));
    let group_bases: Vec<DnKey> = intake.group_bases.iter().map(Dn::key).collect();
    let mut looked_up: HashSet<NodeId> = HashSet::default();
    let mut met = Met::default();
    let mut swept = Swept::new(intake, connection.root().tops(), attribute.is_some());
    // Excluding groups come first: a group in several nests counts as excluding, so that a gap in it is known to hide
    // people who must stay out.
    for (roots, purpose) in nests {
        let mut level = Vec::new();
        let mut again = Vec::new();
        for dn in roots {
            let group = builder.graph_mut().named(&dn);
            let part = builder.open(Part::Group { group, purpose });
            if looked_up.insert(group) {
                level.push(Lookup::new(group, part, true));
            } else {
                again.push((group, part));
            }
        }
        while !level.is_empty() {
            let names = level.iter().map(|lookup| lookup.group);
            swept.read_for(connection, builder, names, &wanted(kind)).await?;
            level.retain_mut(|lookup| {
                let ended = match swept.take(builder.graph(), lookup.group) {
                    Some(Known::Group(said)) => {
                        lookup.said = said;
                        heard(builder, lookup, &logins, &mut met)
                    }
                    Some(Known::NoGroup) if !lookup.named => Some(Ended::Complete),
                    Some(Known::NoGroup) | None => return true,
                };
                let is_open = ended.is_none();
                ended.into_iter().for_each(|ended| builder.close(lookup.part, ended));
                is_open
            });
            // Groups with further ranges are asked again until they end.
            while !level.is_empty() {
                let query = |lookup: &Lookup| lookup.query(builder.graph(), kind);
                let queries: Vec<Query> = level.iter().map(query).collect();
                let answer = |number: usize, found: Vec<Found>, result: LdapResult| {
                    if let Some(lookup) = level.get_mut(number) {
                        lookup.range = None;
                        if let Some(ended) = take(builder, lookup, &logins, &found, result, &mut met) {
                            builder.close(lookup.part, ended);
                        }
                    }
                };
                connection.pipeline(&queries, answer).await?;
                let is_dynamic =
                    |lookup: &&mut Lookup| lookup.range.is_none() && !lookup.said.urls.is_empty();
                for lookup in level.iter_mut().filter(is_dynamic) {
                    let ended = match searched(connection, builder, lookup).await? {
                        None => listed(builder, lookup, &logins, &mut met),
                        Some(why) => Ended::Short(why),
                    };
                    builder.close(lookup.part, ended);
                }
                level.retain(|lookup| lookup.range.is_some());
            }
            connection.watch.tell(|| Progress::Groups { read: builder.graph().groups() });
            let next = met.take_new(builder.graph());
            let within =
                |key: &DnKey| group_bases.is_empty() || group_bases.iter().any(|base| key.is_within(base));
            for group in next {
                if builder.graph().key(group).is_some_and(within) && looked_up.insert(group) {
                    let part = builder.open(Part::Group { group, purpose });
                    level.push(Lookup::new(group, part, false));
                }
            }
        }
        // A group named twice, or read with another nest, is complete if it was read as a group there.
        for (group, part) in again {
            if builder.graph().is_group_node(group) {
                builder.close(part, Ended::Complete);
            }
        }
    }
    Ok(())
}

/// Makes the searches of a dynamic group; returns the reason if one is incomplete.
async fn searched(
    connection: &mut Connection,
    builder: &mut ReadingBuilder,
    lookup: &mut Lookup,
) -> Result<Option<String>, DirectoryError> {
    for url in std::mem::take(&mut lookup.said.urls) {
        let place = match LdapUrl::parse(&url) {
            Ok(LdapUrl { server: None, base: Some(base), scope, filter }) => (base, scope, filter),
            Ok(_) => {
                return Ok(Some(format!(
                    "its members are found by {url}, at another server or without a base"
                )));
            }
            Err(why) => {
                return Ok(Some(format!("its members are found by {url}, which cannot be read: {why}")));
            }
        };
        let (base, scope, filter) = place;
        let filter = filter.unwrap_or_else(|| Filter::present("objectClass"));
        let scope = match scope {
            Some(UrlScope::Subtree) => Scope::Subtree,
            Some(UrlScope::One) => Scope::One,
            // RFC 4516 §2
            Some(UrlScope::Base) | None => Scope::Base,
        };
        let query = Query { scope, ..Query::subtree(&base.to_string(), filter, &["1.1"]) };
        let take = |entry: Entry<'_>| {
            lookup.said.put(builder.graph_mut(), entry.dn());
            ControlFlow::Continue(())
        };
        let why = match connection.each(query, take).await {
            Ok(short) if short.limit.is_none() && short.references.is_empty() => continue,
            Ok(short) => short.limit.unwrap_or_else(|| "a part of it is held by another server".to_owned()),
            Err(error) if error.is_fatal() => return Err(error),
            Err(error) => error.to_string(),
        };
        return Ok(Some(format!("its members are found by {url}: {why}")));
    }
    Ok(None)
}

/// Adds one response to the graph; returns how the group ended, or `None` if it goes on with another range or with
/// its searches.
fn take(
    builder: &mut ReadingBuilder,
    lookup: &mut Lookup,
    logins: &Logins<'_>,
    found: &[Found],
    result: LdapResult,
    met: &mut Met,
) -> Option<Ended> {
    let begun = lookup.said.given;
    if result.code == ResultCode::NO_SUCH_OBJECT && !lookup.named && begun == 0 {
        builder.graph_mut().mark_gone(lookup.group);
        return Some(Ended::Complete); // a deleted member
    }
    if result.code != ResultCode::SUCCESS {
        let base = builder.graph().dn(lookup.group).to_owned();
        let error = DirectoryErrorKind::Search { base, result: Box::new(result) };
        return Some(Ended::Short(error.to_string()));
    }
    let entry = first_entry(found);
    let Some(entry) = entry else {
        return Some(Ended::Short(
            "the server does not show it; the bind account may lack the right to read it".to_owned(),
        ));
    };
    match members(entry, begun, logins.attribute.is_some()) {
        Members::Unit if lookup.named => {
            unit(builder, lookup.group);
            return Some(Ended::Complete);
        }
        Members::None | Members::Unit if begun > 0 => return Some(Ended::Short(not_the_rest(begun))),
        Members::None | Members::Unit if lookup.named => {
            return Some(Ended::Short("it is not a group".to_owned()));
        }
        Members::None | Members::Unit => return Some(Ended::Complete),
        Members::Unreadable(why) => return Some(Ended::Short(why)),
        Members::Listed(listed) => lookup.said.add(builder.graph_mut(), &listed),
    }
    if lookup.said.more.as_ref().is_some_and(|(_, from)| *from <= begun) {
        return Some(endless());
    }
    heard(builder, lookup, logins, met)
}

/// How a group ended after a response; `None` if it goes on with another range or with its searches.
fn heard(
    builder: &mut ReadingBuilder,
    lookup: &mut Lookup,
    logins: &Logins<'_>,
    met: &mut Met,
) -> Option<Ended> {
    if let Some(more) = lookup.said.more.take() {
        if lookup.said.given > MOST {
            return Some(endless());
        }
        lookup.range = Some(more);
        return None;
    }
    lookup.said.urls.is_empty().then(|| listed(builder, lookup, logins, met))
}

fn endless() -> Ended {
    Ended::Short("the server returns ranges of its members without end".to_owned())
}

/// Adds a group with its complete members to the graph.
fn listed(builder: &mut ReadingBuilder, lookup: &mut Lookup, logins: &Logins<'_>, met: &mut Met) -> Ended {
    let said = std::mem::take(&mut lookup.said);
    let mut list = said.members;
    met.list(builder, &list);
    let everybody = list.iter().find_map(|member| met.stranger(*member));
    let people = builder.people();
    let by_login = said.logins.iter().flat_map(|login| logins.roll.with_login(people, login));
    let by_login: Vec<usize> = by_login.copied().collect();
    // Logins that nobody has may mean that the assumed attribute is wrong.
    let doubtful = by_login.is_empty() && !said.logins.is_empty() && !logins.is_said;
    let roll = logins.roll;
    let by_number = said.number.into_iter();
    let by_number = by_number.flat_map(|one| roll.with_primary_group(people, one, said.sid.as_deref()));
    let unlisted: Vec<usize> = by_login.into_iter().chain(by_number).collect();
    let unlisted: Vec<NodeId> = unlisted.into_iter().filter_map(|person| builder.node_of(person)).collect();
    let listed: HashSet<NodeId> = list.iter().filter(|_| !unlisted.is_empty()).copied().collect();
    // If no person shows a primary group number, the group's people may be hidden.
    let nobody = list.is_empty() && unlisted.is_empty() && said.number.is_some() && roll.shows_no_number();
    list.extend(&unlisted);
    let graph = builder.graph_mut();
    graph.set_members(lookup.group, list);
    let only = unlisted.into_iter().filter(|person| !listed.contains(person));
    only.for_each(|person| graph.mark_unlisted(lookup.group, person));
    if said.is_strange {
        Ended::Short("it lists a member that is not a distinguished name".to_owned())
    } else if let Some(everybody) = everybody {
        Ended::Short(everybody)
    } else if nobody {
        Ended::Short("it has no members, unless by gidNumber, which none of the people shows".to_owned())
    } else if doubtful {
        Ended::Short(format!(
            "none of its logins (memberUid) is the {} of anybody; set member_login to the attribute of people that it refers to",
            logins.attribute.unwrap_or("login")
        ))
    } else {
        Ended::Complete
    }
}
