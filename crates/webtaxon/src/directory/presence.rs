//! Whether entries that the settings name are there: shown by a search for the entry itself.
//!
//! Only the entry proves it. Some servers answer a search below an entry that does not exist, or is hidden, with
//! success and nothing.

use super::client::{Connection, Query, SearchItem, first_entry, push};
use super::error::{DirectoryError, search_remedy};
use super::shortcoming::Shortcoming;
use std::collections::HashSet;
use std::ops::ControlFlow;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, short};
use webtaxon_core::ldap::schema::nearest;
use webtaxon_wire::message::{LdapResult, ResultCode, Scope};

/// Siblings among which a misspelt name is looked for.
const SIBLINGS: usize = 2000;

/// Why an entry does not count as there, and the remedy.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Absence {
    pub(crate) why: Shortcoming,
    pub(crate) remedy: String,
}

/// Those of these entries that are not there.
///
/// # Errors
/// The connection is unusable.
pub(crate) async fn absent(
    connection: &mut Connection,
    names: impl Iterator<Item = &Dn>,
) -> Result<Vec<(Dn, Absence)>, DirectoryError> {
    Ok(absent_and(connection, names, &[]).await?.0)
}

/// The same, with the entries of other small searches, which are made at once with these and begin first.
///
/// # Errors
/// The connection is unusable.
pub(crate) async fn absent_and(
    connection: &mut Connection,
    names: impl Iterator<Item = &Dn>,
    others: &[Query],
) -> Result<(Vec<(Dn, Absence)>, Vec<Entries>), DirectoryError> {
    let mut found_by: Vec<Entries> = vec![Entries::new(); others.len()];
    // A snapshot knows what was read into it, and records what was not there.
    if connection.snapshot().is_some() {
        return Ok((Vec::new(), found_by));
    }
    let mut known = HashSet::new();
    let places: Vec<&Dn> = names.filter(|place| place.depth() > 0 && known.insert(place.key())).collect();
    let mut results = vec![None; places.len()];
    let own = places.iter().map(|place| Query::base(&place.to_string(), &["1.1"]));
    let queries: Vec<Query> = others.iter().cloned().chain(own).collect();
    let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
        if let Some(entries) = found_by.get_mut(number) {
            first_entry(&found).into_iter().for_each(|entry| push(entries, entry));
            return;
        }
        let number = number - others.len();
        // A referral is followed, or refused, by the search below.
        let is_there = first_entry(&found).is_some() || result.code == ResultCode::REFERRAL;
        if let Some(slot) = results.get_mut(number) {
            *slot = (!is_there).then_some(result);
        }
    };
    connection.pipeline(&queries, answer).await?;
    let mut absent = Vec::new();
    for (place, result) in places.into_iter().zip(results) {
        if let Some(result) = result {
            absent.push((place.clone(), absence(connection, place, &result).await?));
        }
    }
    Ok((absent, found_by))
}

/// Why a search for an entry itself, which ended with this result, did not return it.
///
/// # Errors
/// The connection is unusable.
pub(crate) async fn absence(
    connection: &mut Connection,
    dn: &Dn,
    result: &LdapResult,
) -> Result<Absence, DirectoryError> {
    if !matches!(result.code, ResultCode::SUCCESS | ResultCode::NO_SUCH_OBJECT) {
        let why = Shortcoming::of_lookup(&dn.to_string(), result);
        return Ok(Absence { why, remedy: search_remedy(result.code.0).to_owned() });
    }
    let tops = &connection.root().naming_contexts;
    if !tops.is_empty() && !tops.iter().any(|top| dn.key().is_within(&top.key())) {
        let tops: Vec<String> = tops.iter().map(ToString::to_string).collect();
        let remedy =
            format!("its name must end like that, or another server must be named in `servers`: {dn}");
        return Ok(Absence { why: Shortcoming::OtherTree(tops.join(" and ")), remedy });
    }
    Ok(match near(connection, dn).await? {
        Some(near) if Dn::parse(&near).is_ok_and(|near| near.key() == dn.key()) => {
            Absence { why: Shortcoming::NameAlone, remedy: UNREADABLE.to_owned() }
        }
        Some(near) => {
            let remedy = format!("if {near} is meant, correct the name in the settings");
            Absence { why: Shortcoming::Misspelt(near), remedy }
        }
        None => Absence { why: Shortcoming::Absent, remedy: ABSENT.to_owned() },
    })
}

/// The remedy for an entry of which only the name is shown.
pub(crate) const UNREADABLE: &str = "ask the directory's administrators for read access to it";
const ABSENT: &str = "`webtaxon browse` shows what there is; if it is there, ask the directory's administrators for read access to it";

/// The name that was probably meant: one that differs a little in its first part that does not exist.
async fn near(connection: &mut Connection, dn: &Dn) -> Result<Option<String>, DirectoryError> {
    let mut missing = dn.clone();
    while let Some(above) = missing.parent().filter(|above| above.depth() > 0) {
        let mut siblings: Vec<String> = Vec::new();
        let take = |entry: Entry<'_>| {
            siblings.push(entry.dn().to_owned());
            if siblings.len() < SIBLINGS { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
        };
        let below = Query::subtree(&above.to_string(), Filter::present("objectClass"), &["1.1"]);
        match connection.each(Query { scope: Scope::One, ..below }, take).await {
            Ok(_) => {}
            Err(error) if error.is_fatal() => return Err(error),
            Err(_) => {}
        }
        let names: Vec<String> = siblings.iter().map(|sibling| short(sibling)).collect();
        let wanted = missing.first().map(webtaxon_core::ldap::name::Rdn::text).unwrap_or_default();
        let found = nearest(&wanted, names.iter().map(String::as_str));
        let found = found.and_then(|found| names.iter().position(|name| name == found));
        if let Some(sibling) = found.and_then(|at| siblings.get(at)) {
            let front = dn.relative_to(&missing).filter(|front| front.depth() > 0);
            return Ok(Some(front.map_or(sibling.clone(), |front| format!("{front},{sibling}"))));
        }
        if !siblings.is_empty() {
            return Ok(None);
        }
        missing = above;
    }
    Ok(None)
}
