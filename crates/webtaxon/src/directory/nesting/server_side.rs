//! Nested membership as computed by a domain controller: by its matching rule for chains, or as the groups of each
//! person (`tokenGroups`).
//!
//! The groups in between are not known, so that a path contains the named group alone. Only the controller's own
//! domain counts; `tokenGroups` omits distribution groups ([MS-ADTS] §3.1.1.4.5.19).

use super::group_entry::unlisted;
use super::named_groups::{self, Root, Stranger, add_primary, rule, texts};
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Found, Query, first_entry};
use crate::progress::Progress;
use std::collections::HashSet;
use std::ops::ControlFlow;
use webtaxon_core::graph::{Foreign, NodeId};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::ReadingBuilder;
use webtaxon_core::settings::{Intake, Strategy};
use webtaxon_wire::message::{LdapResult, ResultCode};

/// The matching rule for chains ([MS-ADTS] §3.1.1.3.4.4.3).
const CHAIN: &str = "1.2.840.113556.1.4.1941";

/// A bit of `groupType`: a security group, not a distribution group ([MS-ADTS] §2.2.12).
const SECURITY: u32 = 0x8000_0000;

/// Reads the members of each named group, and closes its parts.
///
/// # Errors
/// The connection is unusable; the reading records what is missing.
pub(crate) async fn read(
    connection: &mut Connection,
    builder: &mut ReadingBuilder,
    intake: &Intake,
) -> Result<(), DirectoryError> {
    let kind = connection.root().kind;
    let (mut roots, roll) = named_groups::look_up(connection, builder, intake).await?;
    named_groups::put_units(builder, &roots);
    if kind != ServerKind::Controller {
        // Other servers support neither, and would answer as if the groups were empty.
        let why =
            "only a domain controller computes nested membership; strategy = \"lists\" reads member lists";
        named_groups::close(builder, roots, &roll, Some(why));
        return Ok(());
    }
    let mut doubt = named_groups::doubt(connection).await?;
    if intake.strategy == Strategy::Chain {
        // The rule does not match people whose memberOf the bind account cannot read.
        let people = builder.people().iter().filter(|person| person.values("memberOf").next().is_none());
        let silent: Vec<String> = people.map(|person| person.dn().to_owned()).collect();
        doubt = doubt.or(named_groups::unsaid(connection, &silent).await?);
    }
    let (strangers, short) = named_groups::foreign(connection).await?;
    doubt = doubt.or(short);
    let tokens = match intake.strategy {
        Strategy::Tokens => Some(tokens(connection, builder).await?),
        _ => None,
    };
    for (number, root) in roots.iter_mut().enumerate() {
        if root.is_unit || root.fault.is_some() {
            continue;
        }
        let mut list = Vec::new();
        let inner = inner_groups(connection, &root.dn, &strangers).await?;
        let ended = match &tokens {
            Some(tokens) => by_tokens(builder, root, tokens, &inner, &mut list),
            None => {
                let ended = by_chain(connection, builder, intake, root, &mut list).await?;
                for (number, sid) in &inner.groups {
                    add_primary(builder, &roll, *number, sid.as_deref(), &mut list);
                }
                ended
            }
        };
        root.fault = inner.fault.or(ended);
        let graph = builder.graph_mut();
        let group = graph.node(root.key.clone(), &root.dn);
        graph.set_members(group, list);
        connection.watch.tell(|| Progress::Groups { read: number + 1 });
    }
    builder.note(match intake.strategy {
        Strategy::Tokens => "the server computed the groups of each person (tokenGroups)".to_owned(),
        _ => "the server computed the members of each group (chain rule)".to_owned(),
    });
    named_groups::close(builder, roots, &roll, doubt.as_deref());
    Ok(())
}

/// A named group, and all groups in it.
#[derive(Default)]
struct Inner {
    /// The primary group number of each, and its SID.
    groups: Vec<(Option<u32>, Option<Vec<u8>>)>,
    /// A distribution group among them.
    for_mail: Option<String>,
    /// Why their members cannot be known.
    fault: Option<String>,
}

async fn inner_groups(
    connection: &mut Connection,
    root: &str,
    strangers: &[Stranger],
) -> Result<Inner, DirectoryError> {
    let mut inner = Inner::default();
    let Some(top) = connection.root().default_naming_context.clone() else { return Ok(inner) };
    let inside = rule("memberOf", CHAIN, root.as_bytes());
    let groups = Filter::all([Filter::equal("objectClass", "group"), inside]);
    // Not one search: some servers return computed attributes for single entries only.
    let mut names = Vec::new();
    let take = |entry: Entry<'_>| {
        names.push(entry.dn().to_owned());
        ControlFlow::Continue(())
    };
    let short = connection.each(Query::subtree(&top.to_string(), groups, &["1.1"]), take).await?;
    inner.fault = short.limit;
    let attributes = ["objectClass", "primaryGroupToken", "objectSid", "groupType"];
    let names: Vec<String> = names.into_iter().chain([root.to_owned()]).collect();
    let key = |name: &String| Dn::parse(name).ok().map(|dn| dn.key());
    let keys: HashSet<DnKey> = names.iter().filter_map(key).collect();
    for (stranger, _, groups) in strangers {
        if let Foreign::Unlisted(sid, called) = stranger
            && groups.iter().filter_map(key).any(|group| keys.contains(&group))
        {
            inner.fault = Some(unlisted(sid, *called));
        }
    }
    let queries: Vec<Query> = names.iter().map(|dn| Query::base(dn, &attributes)).collect();
    let answer = |number: usize, found: Vec<Found>, result: LdapResult| {
        let dn = names.get(number).map_or("", String::as_str);
        let entry = first_entry(&found);
        let Some(entry) = entry.filter(|_| result.code == ResultCode::SUCCESS) else {
            inner.fault =
                Some(format!("{dn} inside it cannot be read: {}", named_groups::not_shown(dn, &result)));
            return;
        };
        let one = |attribute: &str| texts(entry, attribute).into_iter().next();
        let sid = entry.attributes_as_text().find(|(name, _)| name.eq_ignore_ascii_case("objectSid"));
        let sid = sid.and_then(|(_, mut values)| values.next().map(<[u8]>::to_vec));
        inner.groups.push((one("primaryGroupToken").and_then(|text| text.parse().ok()), sid));
        let kind = one("groupType").and_then(|text| text.parse::<i64>().ok());
        // The number is signed there.
        let is_for_mail = kind.is_some_and(|kind| kind & i64::from(SECURITY) == 0);
        inner.for_mail = inner.for_mail.take().or_else(|| is_for_mail.then(|| dn.to_owned()));
    };
    connection.pipeline(&queries, answer).await?;
    Ok(inner)
}

/// Searches for the people in a group, directly or nested; returns why the result is incomplete, if it is.
async fn by_chain(
    connection: &mut Connection,
    builder: &mut ReadingBuilder,
    intake: &Intake,
    root: &Root,
    list: &mut Vec<NodeId>,
) -> Result<Option<String>, DirectoryError> {
    for base in &intake.bases {
        let filter = Filter::all([intake.filter.clone(), rule("memberOf", CHAIN, root.dn.as_bytes())]);
        let mut names = Vec::new();
        let take = |entry: Entry<'_>| {
            names.push(entry.dn().to_owned());
            ControlFlow::Continue(())
        };
        match connection.each(Query::subtree(&base.to_string(), filter, &["1.1"]), take).await {
            Ok(short) if short.limit.is_some() => return Ok(short.limit),
            Ok(_) => {}
            Err(error) if error.is_fatal() => return Err(error),
            Err(error) => return Ok(Some(error.to_string())),
        }
        let keys = names.iter().filter_map(|name| Some((Dn::parse(name).ok()?.key(), name)));
        let people: Vec<_> = keys.filter(|(key, _)| builder.is_person(key)).collect();
        list.extend(people.into_iter().map(|(key, name)| builder.graph_mut().node(key, name)));
    }
    Ok(None)
}

/// The SIDs of each person's groups, or why they are hidden.
type Tokens = Vec<Result<Vec<Vec<u8>>, String>>;

/// Reads each person's groups.
async fn tokens(connection: &mut Connection, builder: &ReadingBuilder) -> Result<Tokens, DirectoryError> {
    let names = (0..builder.people().len()).filter_map(|person| builder.name_of(person));
    let names: Vec<&str> = names.map(|(_, dn)| dn).collect();
    let queries: Vec<Query> = names.iter().map(|dn| Query::base(dn, &["tokenGroups"])).collect();
    let mut tokens: Tokens = vec![Err(String::new()); queries.len()];
    let answer = |number: usize, found: Vec<Found>, result: LdapResult| {
        let Some(slot) = tokens.get_mut(number) else { return };
        let mut sids = Vec::new();
        for found in &found {
            if let Found::Entry(entry) = found {
                for (name, values) in entry.attributes_as_text() {
                    if name.eq_ignore_ascii_case("tokenGroups") {
                        sids.extend(values.map(<[u8]>::to_vec));
                    }
                }
            }
        }
        // Every account has at least a primary group.
        *slot = if sids.is_empty() {
            Err(named_groups::not_shown(names.get(number).map_or("", |dn| dn), &result))
        } else {
            Ok(sids)
        };
    };
    connection.pipeline(&queries, answer).await?;
    Ok(tokens)
}

/// The people whose groups include a named one; and why the result is incomplete, if it is.
fn by_tokens(
    builder: &mut ReadingBuilder,
    root: &Root,
    tokens: &Tokens,
    inner: &Inner,
    list: &mut Vec<NodeId>,
) -> Option<String> {
    let Some(sid) = root.sid.as_deref() else {
        return Some(
            "it does not show its objectSid; the bind account may lack the right to read it".to_owned(),
        );
    };
    let mut unknown = None;
    for (person, groups) in tokens.iter().enumerate() {
        match groups {
            Ok(groups) if groups.iter().any(|group| group == sid) => list.extend(builder.node_of(person)),
            Ok(_) => {}
            Err(why) => {
                let dn = builder.name_of(person).map_or("", |(_, dn)| dn);
                unknown
                    .get_or_insert_with(|| format!("the groups of {dn} (tokenGroups) are not shown: {why}"));
            }
        }
    }
    let for_mail = inner.for_mail.as_ref().map(|dn| {
        format!(
            "{dn} is a distribution group, which tokenGroups omits; strategy = \"lists\" reads member lists"
        )
    });
    unknown.or(for_mail)
}
