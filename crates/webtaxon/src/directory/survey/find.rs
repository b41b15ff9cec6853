//! People and groups by a piece of their name, login or mail.

use super::EntryKind;
use crate::directory::connection::{Connection, push};
use crate::directory::{DirectoryError, Found, Query};
use serde::Serialize;
use webtaxon_core::entry::Entries;
use webtaxon_core::filter::{Filter, Item};
use webtaxon_core::name::Dn;

/// Somebody, or a group, that was found.
#[derive(Clone, Debug, Serialize)]
pub struct Finding {
    /// What it is.
    pub kind: EntryKind,
    /// Its name for people.
    pub name: String,
    /// What they sign in with, if it is known.
    pub login: Option<String>,
    /// Where mail goes, if it is known.
    pub mail: Option<String>,
    /// Its name in the directory, to be copied.
    pub dn: String,
}

/// Finds what has `text` in its name, login or mail; at most `most` of them. True if there are more.
///
/// # Errors
/// The server refuses the search, or the connection is of no use any more.
pub async fn find(
    connection: &mut Connection,
    text: &str,
    most: usize,
) -> Result<(Vec<Finding>, bool), DirectoryError> {
    const NAMED: [&str; 7] = ["cn", "displayName", "sn", "givenName", "sAMAccountName", "uid", "mail"];
    const WANTED: [&str; 6] = ["objectClass", "displayName", "cn", "sAMAccountName", "uid", "mail"];
    let piece = |attribute: &&str| {
        Filter::Item(Item::Substrings {
            attribute: (*attribute).to_owned(),
            initial: None,
            any: vec![text.as_bytes().to_vec()],
            last: None,
        })
    };
    let named = Filter::Or(NAMED.iter().map(piece).collect());
    let mut found = Vec::new();
    let tops: Vec<Dn> = connection.root().tops().to_vec();
    for top in tops {
        let mut search = connection.search(Query::subtree(&top.to_string(), named.clone(), &WANTED)).await?;
        loop {
            let entry = match search.next().await {
                Ok(Some(Found::Entry(entry))) => entry,
                Ok(Some(Found::Reference(_))) => continue,
                Ok(None) => break,
                Err(error) if error.is_limit() && !found.is_empty() => return Ok((found, true)),
                Err(error) => return Err(error),
            };
            let mut one = Entries::new();
            push(&mut one, &entry);
            let Some(entry) = one.get(0) else { continue };
            let text = |names: &[&str]| names.iter().find_map(|name| entry.text(name)).map(str::to_owned);
            let kind = EntryKind::of(entry);
            if kind == EntryKind::Other {
                continue;
            }
            if found.len() == most {
                return Ok((found, true));
            }
            found.push(Finding {
                kind,
                name: text(&["displayName", "cn"]).unwrap_or_default(),
                login: text(&["sAMAccountName", "uid"]),
                mail: text(&["mail"]),
                dn: entry.dn().to_owned(),
            });
        }
    }
    Ok((found, false))
}
