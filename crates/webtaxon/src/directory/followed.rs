//! The entries that fields of people name and that are none of the people: a manager from another
//! base, say. Each is looked up once, many at a time.

use super::search::{Found, Query};
use super::sweep::Reader;
use super::{DirectoryError, DirectoryErrorKind};
use std::collections::{BTreeMap, HashSet};
use webtaxon_core::field::FieldRule;
use webtaxon_core::filter::Filter;
use webtaxon_core::name::{Dn, DnKey};
use webtaxon_core::reading::{Ended, Part, Sweep};
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Look-ups under way at once.
const WINDOW: usize = 64;

/// Looks up every name that a field with `follow` has.
///
/// # Errors
/// The connection is of no use any more; the sweep knows what was not read.
pub(super) async fn read(reader: &mut Reader<'_>) -> Result<(), DirectoryError> {
    let attributes: HashSet<&str> = reader.intake.fields.values().flat_map(FieldRule::followed).collect();
    if attributes.is_empty() {
        return Ok(());
    }
    let part = reader.sweep.open(Part::FollowedNames);
    if let Some(snapshot) = reader.connection.snapshot() {
        let has = |name: &str| snapshot.header.followed.iter().any(|known| known.eq_ignore_ascii_case(name));
        if let Some(name) = attributes.iter().find(|name| !has(name)) {
            let why = format!("those of {name} were not read into the snapshot");
            reader.sweep.close(part, Ended::Short(why));
            return Ok(());
        }
    }
    let names: Vec<(DnKey, Dn)> = strangers(&reader.sweep, &attributes).into_iter().collect();
    let everything = Filter::present("objectClass");
    let queries: Vec<Query> = names
        .iter()
        .map(|(_, dn)| {
            let wanted: Vec<&str> = reader.wanted.iter().map(String::as_str).collect();
            Query { filter: everything.clone(), ..Query::base(&dn.to_string(), &wanted) }
        })
        .collect();
    let sweep = &mut reader.sweep;
    let mut short = None;
    let answer = |number: usize, found: Vec<Found>, result: LdapResult| {
        let Some((key, dn)) = names.get(number) else { return };
        let entry = found.iter().find_map(|found| match found {
            Found::Entry(entry) => Some(entry),
            Found::Reference(_) => None,
        });
        match (result.code, entry) {
            (ResultCode::SUCCESS, Some(entry)) => {
                let name = std::str::from_utf8(entry.name()).unwrap_or("");
                sweep.followed(key.clone(), name, entry.attributes_as_text());
            }
            (ResultCode::NO_SUCH_OBJECT, _) => sweep.followed_gone(key.clone()),
            (ResultCode::SUCCESS, None) => {
                short.get_or_insert(format!("the server shows nothing of {dn}"));
            }
            _ => {
                let kind = DirectoryErrorKind::Search { base: dn.to_string(), result: Box::new(result) };
                short.get_or_insert_with(|| DirectoryError::from(kind).to_string());
            }
        }
    };
    reader.connection.pipeline(&queries, WINDOW, answer).await?;
    reader.sweep.close(part, short.map_or(Ended::Complete, Ended::Short));
    Ok(())
}

/// The names that are none of the people's, in their order. A value that is no name is the field's
/// own fault, and told there.
fn strangers(sweep: &Sweep, attributes: &HashSet<&str>) -> BTreeMap<DnKey, Dn> {
    let mut names = BTreeMap::new();
    let mut seen: HashSet<&[u8]> = HashSet::new();
    for entry in sweep.people().iter() {
        for value in attributes.iter().flat_map(|name| entry.values(name)) {
            if !seen.insert(value) {
                continue;
            }
            if let Some(dn) = std::str::from_utf8(value).ok().and_then(|text| Dn::parse(text).ok()) {
                let key = dn.key();
                if !sweep.is_person(&key) {
                    names.insert(key, dn);
                }
            }
        }
    }
    names
}
