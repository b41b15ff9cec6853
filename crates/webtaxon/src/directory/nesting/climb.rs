//! From names upwards: the groups that list them, the groups that list those, and so on, by searches for the lists.
//!
//! The cost depends on the number of groups above the names, not on the length of any list. All searches are made once more
//! at the end, at once: if nothing changed meanwhile, the answers are of one moment.

use super::listing::Listing;
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use foldhash::HashSet;
use std::collections::{BTreeMap, BTreeSet};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_wire::message::{LdapResult, ResultCode, Scope};

/// Maximum groups above some names: beyond, a server makes them up.
const MOST: usize = 20_000;
/// Attempts to see everything at one moment.
const LOOKS: usize = 3;

/// A dynamic group: its name, and the searches that find its members.
#[derive(Clone, Debug)]
pub(super) struct Dynamic {
    pub(super) group: String,
    pub(super) searches: Vec<Query>,
}

impl Dynamic {
    /// The searches for one name among the members.
    fn queries<'q>(&'q self, dn: &'q str) -> impl Iterator<Item = Query> + 'q {
        let key = Dn::parse(dn).ok().map(|dn| dn.key());
        let holds = move |search: &&Query| {
            let (Some(key), Ok(base)) = (&key, Dn::parse(&search.base)) else { return false };
            match search.scope {
                Scope::Base => *key == base.key(),
                Scope::One => {
                    Dn::parse(dn).ok().and_then(|dn| dn.parent()).is_some_and(|up| up.key() == base.key())
                }
                Scope::Subtree => key.is_within(&base.key()),
            }
        };
        let at = move |search: &Query| Query { filter: search.filter.clone(), ..Query::base(dn, &["1.1"]) };
        self.searches.iter().filter(holds).map(at)
    }
}

/// A search whose entries are groups with a member; or, for a dynamic group, the member itself.
#[derive(Clone, Debug)]
pub(super) struct Asked {
    pub(super) member: String,
    pub(super) query: Query,
    /// The dynamic group, of which an entry found shows that the name is a member.
    dynamic: Option<String>,
    /// True if a group found lists the name; false if it has it as a member by a number or a login.
    pub(super) is_listed: bool,
}

/// Memberships: the names of a group and of a member, and whether the group lists it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Memberships {
    pub(super) all: BTreeMap<(DnKey, DnKey), Membership>,
    /// Why some may be missing.
    pub(super) short: Option<Shortcoming>,
}

/// One membership, with the names as the server writes them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Membership {
    pub(super) group: String,
    pub(super) member: String,
    pub(super) is_listed: bool,
}

/// The lists and the dynamic groups that a climb depends on.
#[derive(Clone, Copy)]
pub(super) struct Climb<'c> {
    pub(super) listing: &'c Listing,
    pub(super) dynamic: &'c [Dynamic],
}

impl Climb<'_> {
    /// The searches for the groups that list a name.
    pub(super) fn asked(&self, member: &str) -> Vec<Asked> {
        let asked = |query, dynamic| Asked { member: member.to_owned(), query, dynamic, is_listed: true };
        let naming = self.listing.naming(member);
        let lists = self.listing.queries(&naming, &["1.1"]).map(|query| asked(query, None));
        let dynamic = self.dynamic.iter().flat_map(|one| {
            one.queries(member).map(|query| asked(query, Some(one.group.clone()))).collect::<Vec<_>>()
        });
        lists.chain(dynamic).collect()
    }

    /// Searches for the groups that have a name as a member otherwise.
    pub(super) fn unlisted(&self, member: &str, filter: &webtaxon_core::ldap::filter::Filter) -> Vec<Asked> {
        let asked = |query| Asked { member: member.to_owned(), query, dynamic: None, is_listed: false };
        self.listing.queries(filter, &["1.1"]).map(asked).collect()
    }

    /// A search of its own for the groups of a name.
    pub(super) fn by(&self, member: &str, query: Query) -> Asked {
        Asked { member: member.to_owned(), query, dynamic: None, is_listed: false }
    }

    /// All memberships above the names that `first` asks about. With `is_twice`, they are of one moment.
    ///
    /// # Errors
    /// The connection is unusable.
    pub(super) async fn all(
        &self,
        connection: &mut Connection,
        first: &[Asked],
        is_twice: bool,
    ) -> Result<Memberships, DirectoryError> {
        for _ in 0..LOOKS {
            let (asked, found, short) = self.once(connection, first).await?;
            let is_one_moment = !is_twice || short.is_some() || {
                let again = answers(connection, &asked).await?;
                again.iter().map(|one| one.as_ref().ok()).eq(found.iter().map(Some))
            };
            if is_one_moment {
                return Ok(memberships(&asked, &found, short));
            }
        }
        Ok(Memberships { short: Some(Shortcoming::StillChanging(LOOKS)), ..Memberships::default() })
    }

    /// Every search that was made, with what it found.
    async fn once(
        &self,
        connection: &mut Connection,
        first: &[Asked],
    ) -> Result<(Vec<Asked>, Vec<BTreeSet<String>>, Option<Shortcoming>), DirectoryError> {
        let (mut all, mut all_found, mut short) = (Vec::new(), Vec::new(), None);
        let mut seen: HashSet<DnKey> = first.iter().filter_map(|one| key(&one.member)).collect();
        let mut level = first.to_vec();
        while !level.is_empty() {
            let found = answers(connection, &level).await?;
            let mut next = Vec::new();
            for (one, found) in level.iter().zip(found) {
                let groups = found.unwrap_or_else(|why| {
                    short.get_or_insert(why);
                    BTreeSet::new()
                });
                for group in groups_of(one, &groups) {
                    match key(group) {
                        Some(key) => {
                            let is_new = seen.insert(key);
                            next.extend(is_new.then(|| self.asked(group)).into_iter().flatten());
                        }
                        None => drop(short.get_or_insert(Shortcoming::GroupNotAName(group.clone()))),
                    }
                }
                all_found.push(groups);
            }
            all.append(&mut level);
            if seen.len() > MOST {
                short.get_or_insert(Shortcoming::TooManyGroups);
                break;
            }
            level = next;
        }
        Ok((all, all_found, short))
    }
}

fn key(dn: &str) -> Option<DnKey> {
    Some(Dn::parse(dn).ok()?.key())
}

/// The groups that a search shows to have its name as a member.
fn groups_of<'a>(asked: &'a Asked, found: &'a BTreeSet<String>) -> impl Iterator<Item = &'a String> {
    let own = asked.dynamic.as_ref().filter(|_| !found.is_empty());
    own.into_iter().chain(found.iter().filter(|_| asked.dynamic.is_none()))
}

fn memberships(asked: &[Asked], found: &[BTreeSet<String>], short: Option<Shortcoming>) -> Memberships {
    let mut all: BTreeMap<(DnKey, DnKey), Membership> = BTreeMap::new();
    for (one, found) in asked.iter().zip(found) {
        for group in groups_of(one, found) {
            let Some(keys) = key(group).zip(key(&one.member)) else { continue };
            let (group, member, is_listed) = (group.clone(), one.member.clone(), one.is_listed);
            let its = all.entry(keys).or_insert(Membership { group, member, is_listed });
            its.is_listed |= is_listed;
        }
    }
    Memberships { all, short }
}

/// The names that each search finds, or why they are not known.
async fn answers(
    connection: &mut Connection,
    asked: &[Asked],
) -> Result<Vec<Result<BTreeSet<String>, Shortcoming>>, DirectoryError> {
    let queries: Vec<Query> = asked.iter().map(|one| one.query.clone()).collect();
    let mut answers: Vec<Result<BTreeSet<String>, Shortcoming>> = vec![Ok(BTreeSet::new()); queries.len()];
    let mut limited = Vec::new();
    let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
        let (Some(slot), Some(one)) = (answers.get_mut(number), asked.get(number)) else { return };
        match result.code {
            ResultCode::SUCCESS => *slot = Ok(names(&found)),
            // A member that a dynamic group's search is made at has gone meanwhile.
            ResultCode::NO_SUCH_OBJECT if one.dynamic.is_some() && first_entry(&found).is_none() => {}
            ResultCode::SIZE_LIMIT_EXCEEDED => limited.push(number),
            _ => *slot = Err(Shortcoming::of_lookup(&one.query.base, &result)),
        }
    };
    connection.pipeline(&queries, answer).await?;
    for number in limited {
        let (Some(slot), Some(query)) = (answers.get_mut(number), queries.get(number)) else { continue };
        *slot = match connection.entries(query.clone()).await {
            Ok((entries, _)) => Ok(entries.iter().map(|entry| entry.dn().to_owned()).collect()),
            Err(error) if error.is_fatal() => return Err(error),
            Err(error) => Err((&error).into()),
        };
    }
    Ok(answers)
}

fn names(found: &[SearchItem]) -> BTreeSet<String> {
    let name = |item: &SearchItem| match item {
        SearchItem::Entry(entry) => Some(String::from_utf8_lossy(entry.name()).into_owned()),
        SearchItem::Reference(_) => None,
    };
    found.iter().filter_map(name).collect()
}
