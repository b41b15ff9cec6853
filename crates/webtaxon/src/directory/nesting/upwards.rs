//! Nested membership from the people upwards: by the groups that people, and then their groups, claim to be in
//! (`memberOf`), level by level, with many look-ups at once.
//!
//! No member list is read, however long. The primary group, which `memberOf` omits, is found by its SID ([MS-ADTS]
//! §3.1.1.6.1.1). Members who are not people of the reading are not seen.

use super::group_entry::unlisted;
use super::named_groups::{self, Root, add_primary, not_shown, said};
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Found, Query, first_entry};
use crate::progress::Progress;
use std::collections::{HashMap, HashSet};
use webtaxon_core::graph::{Foreign, NodeId, Roll};
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::ldap::value;
use webtaxon_core::reading::ReadingBuilder;
use webtaxon_core::settings::{Intake, Strategy};
use webtaxon_wire::message::{LdapResult, ResultCode};

/// The groups and memberships met so far.
#[derive(Default)]
struct Climb {
    /// The known members of each group.
    members: HashMap<NodeId, Vec<NodeId>>,
    /// Groups to look up next.
    next: Vec<(NodeId, DnKey, String)>,
    seen: HashSet<DnKey>,
    /// Entries that claim no groups.
    silent: Vec<String>,
    /// Why memberships cannot be known.
    missing: Option<String>,
}

impl Climb {
    /// Adds the groups that an entry claims to be in.
    fn is_in(
        &mut self,
        builder: &mut ReadingBuilder,
        member: NodeId,
        groups: &[String],
        within: &impl Fn(&DnKey) -> bool,
    ) {
        if groups.is_empty() {
            self.silent.push(builder.graph_mut().dn(member).to_owned());
        }
        for text in groups {
            let Ok(group) = builder.graph_mut().member(text) else {
                self.miss(&format!("{text} is not a distinguished name"));
                continue;
            };
            let Some(key) = builder.graph_mut().key(group).cloned() else { continue };
            if within(&key) {
                self.members.entry(group).or_default().push(member);
                if self.seen.insert(key.clone()) {
                    self.next.push((group, key, text.clone()));
                }
            }
        }
    }

    fn miss(&mut self, why: &str) {
        self.missing.get_or_insert_with(|| why.to_owned());
    }
}

/// Maximum number of people for which this strategy is chosen automatically, and minimum length of a named group's
/// list: reading that list and looking up its members then takes longer than asking every person.
const FEW: usize = 1_000;
const LONG: usize = 20_000;

/// Reads the groups of the people, and closes the part of each named group. False, without closing any, if the
/// strategy is left open and this one is not the cheapest that sees everything.
///
/// # Errors
/// The connection is unusable; the reading records what is missing.
pub(crate) async fn read(
    connection: &mut Connection,
    builder: &mut ReadingBuilder,
    intake: &Intake,
) -> Result<bool, DirectoryError> {
    let kind = connection.root().kind;
    let is_choice = intake.strategy == Strategy::Auto;
    let long = if is_choice { long_list(connection, builder, intake).await? } else { None };
    if is_choice && long.is_none() {
        return Ok(false);
    }
    let doubt = named_groups::doubt(connection).await?;
    if is_choice && doubt.is_some() {
        return Ok(false);
    }
    let (roots, roll) = named_groups::look_up(connection, builder, intake).await?;
    let named: HashSet<DnKey> = roots.iter().map(|root| root.key.clone()).collect();
    let bases: Vec<DnKey> = intake.group_bases.iter().map(Dn::key).collect();
    let within =
        |key: &DnKey| bases.is_empty() || named.contains(key) || bases.iter().any(|base| key.is_within(base));
    let mut climb = Climb { missing: doubt, ..Climb::default() };
    for root in &roots {
        climb.seen.insert(root.key.clone());
    }
    let said = match is_choice {
        true => asked(connection, builder.people(), &mut climb).await?,
        false => as_read(builder.people(), &mut climb),
    };
    if is_choice && (said.iter().all(Vec::is_empty) || roll.hidden() > 0) {
        return Ok(false); // what they are in is hidden, as it seems
    }
    for (person, groups) in said.into_iter().enumerate() {
        if let Some(node) = builder.node_of(person) {
            climb.is_in(builder, node, &groups, &within);
        }
    }
    for root in &roots {
        let node = builder.graph_mut().node(root.key.clone(), &root.dn);
        climb.is_in(builder, node, &root.above, &within);
    }
    let mut strangers = Vec::new();
    if kind == ServerKind::Controller {
        let (foreign, short) = named_groups::foreign(connection).await?;
        short.iter().for_each(|why| climb.miss(why));
        for (stranger, dn, above) in foreign {
            let Ok(node) = builder.graph_mut().member(&dn) else { continue };
            if !above.is_empty() {
                climb.is_in(builder, node, &above, &within);
            }
            strangers.push((stranger, node));
        }
        let group = roots.iter().find_map(|root| root.sid.as_deref());
        let sids = roll.primary_groups(builder.people(), group);
        primary(connection, builder, &roll, sids, &mut climb, &within).await?;
    }
    up(connection, builder, &mut climb, &within).await?;
    if kind == ServerKind::Controller
        && let Some(why) = named_groups::unsaid(connection, &climb.silent).await?
    {
        climb.miss(&why);
    }
    let fault = roots.iter().find_map(|root| root.fault.as_ref()).or(climb.missing.as_ref());
    if is_choice && fault.is_some() {
        tracing::debug!(fault, "member lists are read: memberOf does not show everything");
        return Ok(false);
    }
    finish(builder, roots, &roll, climb, &strangers, long.as_deref());
    Ok(true)
}

/// A named group whose list takes longer to read than asking every person.
async fn long_list(
    connection: &mut Connection,
    builder: &ReadingBuilder,
    intake: &Intake,
) -> Result<Option<String>, DirectoryError> {
    let is_open = connection.root().kind == ServerKind::Controller && intake.application_groups.is_none();
    if !is_open || builder.people().len() > FEW {
        return Ok(None);
    }
    let names: Vec<String> =
        intake.nests().into_iter().flat_map(|(groups, _)| groups).map(Dn::to_string).collect();
    let range = format!("member;range={LONG}-{LONG}");
    let queries: Vec<Query> = names.iter().map(|name| Query::base(name, &[&range])).collect();
    let mut long = None;
    let answer = |number: usize, found: Vec<Found>, _: LdapResult| {
        let is_long = found.iter().any(|found| match found {
            Found::Entry(entry) => entry.attributes_as_text().any(|(_, mut values)| values.next().is_some()),
            Found::Reference(_) => false,
        });
        if is_long && long.is_none() {
            long = names.get(number).cloned();
        }
    };
    connection.pipeline(&queries, answer).await?;
    Ok(long)
}

/// The groups that each person claims to be in, as read with the people.
fn as_read(people: &Entries, climb: &mut Climb) -> Vec<Vec<String>> {
    let is_ranged =
        |(_, name): (_, &str)| name.get(..9).is_some_and(|start| start.eq_ignore_ascii_case("memberOf;"));
    if people.names().iter().any(is_ranged) {
        climb.miss("somebody is in more groups than the server returns at once");
    }
    let said = |entry: Entry<'_>| {
        let texts = entry.values("memberOf").map(|value| std::str::from_utf8(value).map(str::to_owned));
        texts.collect::<Result<Vec<String>, _>>().unwrap_or_else(|_| {
            climb.miss("a name in somebody's memberOf is not UTF-8");
            Vec::new()
        })
    };
    people.iter().map(said).collect()
}

/// The groups that each person claims to be in, read now.
async fn asked(
    connection: &mut Connection,
    people: &Entries,
    climb: &mut Climb,
) -> Result<Vec<Vec<String>>, DirectoryError> {
    let queries: Vec<Query> =
        people.iter().map(|person| Query::base(person.dn(), &["objectClass", "memberOf"])).collect();
    let mut groups = vec![Vec::new(); queries.len()];
    for (number, above) in above(connection, &queries).await?.into_iter().enumerate() {
        match (above, groups.get_mut(number)) {
            (Ok(above), Some(slot)) => *slot = above,
            (Err(why), _) => climb.miss(&format!("the groups of somebody cannot be read: {why}")),
            (Ok(_), None) => {}
        }
    }
    Ok(groups)
}

/// The groups that these entries claim to be in, in the order of the entries; and why they cannot be known, if so.
async fn above(
    connection: &mut Connection,
    queries: &[Query],
) -> Result<Vec<Result<Vec<String>, String>>, DirectoryError> {
    let mut above: Vec<Result<Vec<String>, String>> = vec![Ok(Vec::new()); queries.len()];
    let answer = |number: usize, found: Vec<Found>, result: LdapResult| {
        let entry = first_entry(&found);
        let dn = queries.get(number).map_or("", |query| &query.base);
        if let Some(slot) = above.get_mut(number) {
            let entry = entry.filter(|_| result.code == ResultCode::SUCCESS);
            *slot = entry.map_or_else(|| Err(not_shown(dn, &result)), said);
        }
    };
    connection.pipeline(queries, answer).await?;
    Ok(above)
}

/// The people's primary groups, which `memberOf` omits.
async fn primary(
    connection: &mut Connection,
    builder: &mut ReadingBuilder,
    roll: &Roll,
    sids: Vec<Vec<u8>>,
    climb: &mut Climb,
    within: &impl Fn(&DnKey) -> bool,
) -> Result<(), DirectoryError> {
    let Some(top) = connection.root().default_naming_context.clone() else { return Ok(()) };
    for sid in sids {
        let query =
            Query::subtree(&top.to_string(), Filter::equal("objectSid", &sid), &["objectClass", "memberOf"]);
        let mut search = connection.search(query).await?;
        let mut group = None;
        while let Some(found) = search.next().await? {
            if let Found::Entry(entry) = found {
                group = std::str::from_utf8(entry.name()).ok().map(|dn| (dn.to_owned(), said(&entry)));
            }
        }
        let Some((dn, above)) = group else {
            let sid = value::sid(&sid).unwrap_or_default();
            climb.miss(&format!("the primary group {sid} of some of them is not shown"));
            continue;
        };
        let Ok(node) = builder.graph_mut().member(&dn) else { continue };
        let Some(key) = builder.graph_mut().key(node).cloned() else { continue };
        if !within(&key) {
            continue;
        }
        let list = climb.members.entry(node).or_default();
        let people = add_primary(builder, roll, value::relative_id(&sid), Some(&sid), list);
        people.into_iter().for_each(|person| builder.graph_mut().mark_unlisted(node, person));
        if climb.seen.insert(key) {
            match above {
                Ok(above) => climb.is_in(builder, node, &above, within),
                Err(why) => climb.miss(&format!("the groups of {dn} cannot be read: {why}")),
            }
        }
    }
    Ok(())
}

/// Looks up the groups that groups are in, until no new ones appear.
async fn up(
    connection: &mut Connection,
    builder: &mut ReadingBuilder,
    climb: &mut Climb,
    within: &impl Fn(&DnKey) -> bool,
) -> Result<(), DirectoryError> {
    let mut read = 0;
    while !climb.next.is_empty() {
        let mut level = std::mem::take(&mut climb.next);
        // Sorted by name, so that the order of responses does not matter.
        level.sort_by(|(_, one, _), (_, other, _)| one.cmp(other));
        let queries: Vec<Query> =
            level.iter().map(|(_, _, dn)| Query::base(dn, &["objectClass", "memberOf"])).collect();
        let above = above(connection, &queries).await?;
        read += level.len();
        connection.watch.tell(|| Progress::Groups { read });
        for ((node, _, dn), above) in level.into_iter().zip(above) {
            match above {
                Ok(above) => climb.is_in(builder, node, &above, within),
                Err(why) => climb.miss(&format!("the groups of {dn} cannot be read: {why}")),
            }
        }
    }
    Ok(())
}

/// Adds everything to the graph, and closes the part of each named group.
fn finish(
    builder: &mut ReadingBuilder,
    mut roots: Vec<Root>,
    roll: &Roll,
    climb: Climb,
    strangers: &[(Foreign, NodeId)],
    long: Option<&str>,
) {
    named_groups::put_units(builder, &roots);
    let mut lists: Vec<(NodeId, Vec<NodeId>)> = climb.members.into_iter().collect();
    for root in roots.iter().filter(|root| !root.is_unit && root.fault.is_none()) {
        let node = builder.graph_mut().node(root.key.clone(), &root.dn);
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
    for root in roots.iter_mut().filter(|root| root.fault.is_none()) {
        let reach = graph.reach([&root.key]);
        root.fault = strangers.iter().find_map(|(stranger, node)| match stranger {
            Foreign::Unlisted(sid, called) if reach.contains(graph, graph.key(*node)?) => {
                Some(unlisted(sid, *called))
            }
            _ => None,
        });
    }
    let why = long.map_or_else(String::new, |long| {
        format!(", since {long} lists more than {LONG} members; strategy = \"lists\" shows its other members")
    });
    builder.note(format!(
        "membership was read upwards, from the groups that people and groups claim to be in (memberOf){why}"
    ));
    named_groups::close(builder, roots, roll, climb.missing.as_deref());
}
