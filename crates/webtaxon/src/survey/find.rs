//! Finding people and groups by what an administrator types; and reading everything that a filter may be tried on.

use crate::directory::GROUP_CLASSES;
use crate::directory::{Connection, DirectoryError, DirectoryErrorKind, Query};
use crate::survey::EntryKind;
use serde::Serialize;
use std::ops::ControlFlow;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::CALLED;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::nearest as nearest_of;
use webtaxon_core::settings::Intake;

/// A person or group found.
#[derive(Clone, Debug, Serialize)]
pub struct Finding {
    /// The kind of entry.
    pub kind: EntryKind,
    /// The display name.
    pub name: String,
    /// The login, if known.
    pub login: Option<String>,
    /// The mail address, if known.
    pub mail: Option<String>,
    /// The distinguished name.
    pub dn: String,
}

/// What a text refers to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Named<T> {
    /// One thing.
    One(T),
    /// Several, by their full names.
    Several(Vec<String>),
    /// Nothing that is known.
    Nothing,
}

/// Maximum entries compared with a name.
const COMPARED: usize = 200;

/// The person or group that `text` refers to: its DN, its name, login or mail, or a part of one that is in no other
/// entry of the kind.
///
/// # Errors
/// The server refuses the search, or the connection is unusable.
pub async fn find_one(
    connection: &mut Connection,
    text: &str,
    kind: EntryKind,
) -> Result<Named<Dn>, DirectoryError> {
    if let Ok(pasted) = Dn::parse_pasted(text)
        && pasted.dn.depth() > 0
    {
        return Ok(Named::One(pasted.dn));
    }
    let found = of_kind(connection, text, kind).await?;
    let is_exact = |one: &&Finding| {
        let names = [Some(&one.name), one.login.as_ref(), one.mail.as_ref()];
        names.into_iter().flatten().any(|name| name.eq_ignore_ascii_case(text))
    };
    let exact: Vec<&Finding> = found.iter().filter(is_exact).collect();
    let several = if exact.is_empty() { found.iter().collect() } else { exact };
    Ok(match several.as_slice() {
        [] => Named::Nothing,
        [only] => Dn::parse(&only.dn).map_or(Named::Nothing, Named::One),
        several => Named::Several(several.iter().map(|one| one.dn.clone()).collect()),
    })
}

/// The entry whose name is closest to an unknown one, among those that share a word with it, or the beginning of one.
///
/// # Errors
/// As [`find_one`].
pub async fn nearest(
    connection: &mut Connection,
    text: &str,
    kind: EntryKind,
) -> Result<Option<Finding>, DirectoryError> {
    let mut words: Vec<&str> = text.split_whitespace().filter(|word| word.chars().count() > 2).collect();
    words.sort_by_key(|word| std::cmp::Reverse(word.len()));
    let beginning = |word: &&str| word.chars().take(3).collect::<String>();
    let beginnings: Vec<String> = words.iter().take(1).map(beginning).collect();
    for piece in words.into_iter().take(3).chain(beginnings.iter().map(String::as_str)) {
        let found = of_kind(connection, piece, kind).await?;
        if let Some(near) = nearest_of(text, found.iter().map(|one| one.name.as_str())).map(str::to_owned) {
            return Ok(found.into_iter().find(|one| one.name == near));
        }
    }
    Ok(None)
}

async fn of_kind(
    connection: &mut Connection,
    text: &str,
    kind: EntryKind,
) -> Result<Vec<Finding>, DirectoryError> {
    Ok(search(connection, text, COMPARED, |one| one == kind).await?.0)
}

/// Finds entries with `text` in their name, login or mail; at most `most` of them. True if there are more.
///
/// # Errors
/// The server refuses the search, or the connection is unusable.
pub async fn find(
    connection: &mut Connection,
    text: &str,
    most: usize,
) -> Result<(Vec<Finding>, bool), DirectoryError> {
    search(connection, text, most, |kind| kind != EntryKind::Other).await
}

/// Entries of other kinds do not count towards `most`.
async fn search(
    connection: &mut Connection,
    text: &str,
    most: usize,
    is_wanted: impl Fn(EntryKind) -> bool + Send,
) -> Result<(Vec<Finding>, bool), DirectoryError> {
    const NAMED: [&str; 7] = ["cn", "displayName", "sn", "givenName", "sAMAccountName", "uid", "mail"];
    const WANTED: [&str; 6] = ["objectClass", "displayName", "cn", "sAMAccountName", "uid", "mail"];
    let named = Filter::any(NAMED.map(|attribute| Filter::contains(attribute, text)));
    let (mut found, mut more) = (Vec::new(), false);
    let tops: Vec<Dn> = connection.root().tops().to_vec();
    for top in tops {
        let take = |entry: Entry<'_>| {
            let text = |names: &[&str]| names.iter().find_map(|name| entry.text(name)).map(str::to_owned);
            let kind = EntryKind::of(entry);
            if !is_wanted(kind) {
                return ControlFlow::Continue(());
            }
            if found.len() == most {
                more = true;
                return ControlFlow::Break(());
            }
            found.push(Finding {
                kind,
                name: text(&["displayName", "cn"]).unwrap_or_default(),
                login: text(&["sAMAccountName", "uid"]),
                mail: text(&["mail"]),
                dn: entry.dn().to_owned(),
            });
            ControlFlow::Continue(())
        };
        let short = connection.each(Query::subtree(&top.to_string(), named.clone(), &WANTED), take).await?;
        more |= short.limit.is_some();
    }
    Ok((found, more))
}

/// The names of all groups in the naming contexts.
///
/// # Errors
/// They cannot be read to their end, or the connection is unusable.
pub async fn groups(connection: &mut Connection) -> Result<Vec<Dn>, DirectoryError> {
    let classes = GROUP_CLASSES.map(|class| Filter::equal("objectClass", class));
    let mut groups = Vec::new();
    for top in connection.root().tops().to_vec() {
        let query = Query::subtree(&top.to_string(), Filter::any(classes.clone()), &["1.1"]);
        let take = |entry: Entry<'_>| {
            groups.extend(Dn::parse(entry.dn()).ok());
            ControlFlow::Continue(())
        };
        if let Some(limit) = connection.each(query, take).await?.limit {
            return Err(DirectoryErrorKind::Unfinished { base: top.to_string(), limit }.into());
        }
    }
    Ok(groups)
}

/// Every entry under an intake's bases, with the attributes in a filter and those that name an entry, to try the
/// filter on, clause by clause.
///
/// # Errors
/// A base cannot be read to its end, or the connection is unusable.
pub async fn everything(
    connection: &mut Connection,
    intake: &Intake,
    filter: &Filter,
) -> Result<Entries, DirectoryError> {
    let wanted: Vec<&str> = CALLED.into_iter().chain(filter.attributes()).collect();
    let mut all = Entries::new();
    for base in &intake.bases {
        let query = Query::subtree(&base.to_string(), Filter::present("objectClass"), &wanted);
        let take = |entry: Entry<'_>| {
            all.push(entry.dn(), entry.attributes());
            ControlFlow::Continue(())
        };
        if let Some(limit) = connection.each(query, take).await?.limit {
            return Err(DirectoryErrorKind::Unfinished { base: base.to_string(), limit }.into());
        }
    }
    Ok(all)
}
