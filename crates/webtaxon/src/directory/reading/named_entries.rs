//! Entries other than people that fields of people refer to, such as a manager in another base. Each is looked up
//! once, many at a time.

use super::reader::Reader;
use crate::directory::DirectoryError;
use crate::directory::client::{Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use std::collections::{BTreeMap, HashSet};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::reading::{Part, ReadingBuilder};
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Looks up the names in fields with `follow`.
///
/// # Errors
/// The connection is unusable; the reading records what is missing.
pub(crate) async fn read(reader: &mut Reader<'_>) -> Result<(), DirectoryError> {
    let attributes: HashSet<&str> = reader.request.followed.iter().map(String::as_str).collect();
    if attributes.is_empty() {
        return Ok(());
    }
    let part = reader.builder.open(Part::FollowedNames);
    if let Some(snapshot) = reader.connection.snapshot() {
        let has = |name: &str| snapshot.header.followed.iter().any(|known| known.eq_ignore_ascii_case(name));
        if let Some(name) = attributes.iter().find(|name| !has(name)) {
            let why = Shortcoming::NamesNotInSnapshot((*name).to_owned());
            reader.builder.close(part, Shortcoming::ended(Some(why)));
            return Ok(());
        }
    }
    let names: Vec<(DnKey, Dn)> = strangers(&reader.builder, &attributes).into_iter().collect();
    let everything = Filter::present("objectClass");
    let queries: Vec<Query> = names
        .iter()
        .map(|(_, dn)| {
            let wanted: Vec<&str> = reader.wanted.iter().map(String::as_str).collect();
            Query { filter: everything.clone(), ..Query::base(&dn.to_string(), &wanted) }
        })
        .collect();
    let builder = &mut reader.builder;
    let mut short = None;
    let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
        let Some((key, dn)) = names.get(number) else { return };
        let entry = first_entry(&found);
        match (result.code, entry) {
            (ResultCode::SUCCESS, Some(entry)) => {
                let name = std::str::from_utf8(entry.name()).unwrap_or("");
                builder.followed(key.clone(), name, entry.attributes_as_text());
            }
            (ResultCode::NO_SUCH_OBJECT, _) => builder.followed_gone(key.clone()),
            (ResultCode::SUCCESS, None) => {
                short.get_or_insert(Shortcoming::NameNotShown(dn.to_string()));
            }
            _ => drop(short.get_or_insert(Shortcoming::of_lookup(&dn.to_string(), &result))),
        }
    };
    reader.connection.pipeline(&queries, answer).await?;
    reader.builder.close(part, Shortcoming::ended(short));
    Ok(())
}

/// The names that are not people, sorted. A value that is not a name is reported with its field.
fn strangers(builder: &ReadingBuilder, attributes: &HashSet<&str>) -> BTreeMap<DnKey, Dn> {
    let mut names = BTreeMap::new();
    let mut seen: HashSet<&[u8]> = HashSet::new();
    for entry in builder.people().iter() {
        for value in attributes.iter().flat_map(|name| entry.values(name)) {
            if !seen.insert(value) {
                continue;
            }
            if let Some(dn) = std::str::from_utf8(value).ok().and_then(|text| Dn::parse(text).ok()) {
                let key = dn.key();
                if !builder.is_person(&key) {
                    names.insert(key, dn);
                }
            }
        }
    }
    names
}
