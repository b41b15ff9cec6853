//! The nest of groups, read from the named groups downwards, many look-ups at once.
//!
//! Level by level: the members of every group of a level that are not people are looked up
//! together. Each name is looked up once, so cycles end.

use super::connection::Connection;
use super::search::{Found, Query};
use super::{DirectoryError, DirectoryErrorKind};
use std::collections::HashSet;
use webtaxon_core::name::{Dn, DnKey};
use webtaxon_core::reading::{Ended, Part, PartId, Purpose, Sweep};
use webtaxon_core::settings::Intake;
use webtaxon_wire::entry::ReceivedEntry;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Look-ups under way at once.
const WINDOW: usize = 64;

/// Object classes whose entries are groups (RFC 4519 §3.5, §3.6; a domain controller's own).
const GROUP_CLASSES: [&str; 3] = ["group", "groupOfNames", "groupOfUniqueNames"];

struct Lookup {
    dn: String,
    key: DnKey,
    part: PartId,
    /// A group that the settings name must exist and be a group; a member need not.
    named: bool,
}

/// Reads every group that the intake names, and every group inside them.
///
/// # Errors
/// The connection is of no use any more; the sweep knows what was not read.
pub(super) async fn read(
    connection: &mut Connection,
    sweep: &mut Sweep,
    intake: &Intake,
) -> Result<(), DirectoryError> {
    let group_bases: Vec<DnKey> = intake.group_bases.iter().map(Dn::key).collect();
    let mut looked_up: HashSet<DnKey> = HashSet::new();
    // The groups that keep people out come first: a group in both nests counts for these, so that
    // a gap in it is known to hide people who must stay out.
    for (roots, purpose) in [(&intake.not_in_group, Purpose::Exclude), (&intake.groups, Purpose::Admit)] {
        let mut level = Vec::new();
        let mut again = Vec::new();
        for dn in roots {
            let part = sweep.open(Part::Group { dn: dn.clone(), purpose });
            let key = dn.key();
            if looked_up.insert(key.clone()) {
                level.push(Lookup { dn: dn.to_string(), key, part, named: true });
            } else {
                again.push((key, part));
            }
        }
        while !level.is_empty() {
            let queries: Vec<Query> = level.iter().map(query).collect();
            let mut next: Vec<(DnKey, String)> = Vec::new();
            let answer = |number: usize, found: Vec<Found>, result: LdapResult| {
                if let Some(lookup) = level.get(number) {
                    let ended = take(sweep, lookup, &found, result, &mut next);
                    sweep.close(lookup.part, ended);
                }
            };
            connection.pipeline(&queries, WINDOW, answer).await?;
            next.sort();
            let within =
                |key: &DnKey| group_bases.is_empty() || group_bases.iter().any(|base| key.is_within(base));
            level.clear();
            for (key, dn) in next {
                if !sweep.is_person(&key) && within(&key) && looked_up.insert(key.clone()) {
                    let Ok(name) = Dn::parse(&dn) else { continue };
                    let part = sweep.open(Part::Group { dn: name, purpose });
                    level.push(Lookup { dn, key, part, named: false });
                }
            }
        }
        // Named twice, or read with the other nest: it is whole if it was read as a group there.
        for (key, part) in again {
            if sweep.graph_mut().is_group(&key) {
                sweep.close(part, Ended::Complete);
            }
        }
    }
    Ok(())
}

fn query(lookup: &Lookup) -> Query {
    Query::base(&lookup.dn, &["objectClass", "member", "uniqueMember", "memberUid", "memberURL"])
}

/// Puts one answer into the graph, and says how the group's reading ended.
fn take(
    sweep: &mut Sweep,
    lookup: &Lookup,
    found: &[Found],
    result: LdapResult,
    next: &mut Vec<(DnKey, String)>,
) -> Ended {
    if result.code == ResultCode::NO_SUCH_OBJECT && !lookup.named {
        return Ended::Complete; // a member that is gone
    }
    if result.code != ResultCode::SUCCESS {
        let error = DirectoryErrorKind::Search { base: lookup.dn.clone(), result: Box::new(result) };
        return Ended::Short(error.to_string());
    }
    let entry = found.iter().find_map(|found| match found {
        Found::Entry(entry) => Some(entry),
        Found::Reference(_) => None,
    });
    let Some(entry) = entry else {
        return Ended::Short(
            "the server shows nothing of it; the bind account may lack the right to read it".to_owned(),
        );
    };
    match members(entry) {
        Members::None if lookup.named => Ended::Short("it is not a group".to_owned()),
        Members::None => Ended::Complete,
        Members::Unreadable(why) => Ended::Short(why),
        Members::Listed(list) => {
            let mut strange = false;
            let keyed: Vec<(DnKey, &str)> = list
                .into_iter()
                .filter_map(|dn| match Dn::parse(dn) {
                    Ok(parsed) => Some((parsed.key(), dn)),
                    Err(_) => {
                        strange = true;
                        None
                    }
                })
                .collect();
            next.extend(keyed.iter().map(|(key, dn)| (key.clone(), (*dn).to_owned())));
            sweep.graph_mut().add_group(lookup.key.clone(), &lookup.dn, keyed);
            if strange {
                Ended::Short("it lists a member that is not a distinguished name".to_owned())
            } else {
                Ended::Complete
            }
        }
    }
}

enum Members<'e> {
    /// The entry is no group.
    None,
    /// It is one, and its members are written in a way that cannot be read whole here.
    Unreadable(String),
    /// The names of its members.
    Listed(Vec<&'e str>),
}

fn members(entry: &ReceivedEntry) -> Members<'_> {
    let mut list = Vec::new();
    let mut is_group = false;
    let mut by_login = false;
    for (description, values) in entry.attributes_as_text() {
        let base = description.split(';').next().unwrap_or(description);
        let option = description.get(base.len()..).unwrap_or("").to_ascii_lowercase();
        let is = |name: &str| base.eq_ignore_ascii_case(name);
        if is("objectClass") {
            let class =
                |value: &[u8]| GROUP_CLASSES.iter().any(|class| class.as_bytes().eq_ignore_ascii_case(value));
            is_group |= values.into_iter().any(class);
        } else if is("memberURL") {
            return Members::Unreadable(not_read_here(base));
        } else if is("memberUid") {
            by_login = true;
        } else if is("member") || is("uniqueMember") {
            if option.starts_with(";range=") && !option.ends_with('*') {
                return Members::Unreadable(
                    "it has more members than the server gives in one answer".to_owned(),
                );
            }
            for value in values {
                let Ok(dn) = std::str::from_utf8(value) else {
                    return Members::Unreadable("it lists a member that is not UTF-8".to_owned());
                };
                is_group = true;
                list.push(dn);
            }
        }
    }
    match (is_group, list.is_empty()) {
        // Groups that list both keep the logins as a copy of the names.
        (_, true) if by_login => Members::Unreadable(not_read_here("memberUid")),
        (true, _) => Members::Listed(list),
        (false, _) => Members::None,
    }
}

fn not_read_here(attribute: &str) -> String {
    format!("its members are written as {attribute}, which this version does not read")
}
