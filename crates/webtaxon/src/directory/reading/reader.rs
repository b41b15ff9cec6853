//! A reading in progress at one server: searches read to their end, and what their entries are for.

use super::portions::{self, Portions};
use crate::directory::DirectoryError;
use crate::directory::client::{Access, Connection, Query, SearchItem};
use crate::directory::shortcoming::Shortcoming;
use crate::progress::{EVERY, Progress};
use foldhash::HashSet;
use std::collections::HashMap;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering::Relaxed;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::{Identity, Lasting};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::reading::{Ended, PartId, ReadingBuilder, Request};
use webtaxon_wire::entry::ReceivedEntry;

/// Repeated entries, in excess of new ones, after which a search is taken to be endless.
const AGAIN: usize = 10_000;

/// A reading in progress at one server.
pub(crate) struct Reader<'a> {
    pub(crate) access: &'a Access,
    pub(crate) connection: Connection,
    pub(crate) builder: ReadingBuilder,
    pub(crate) request: &'a Request,
    /// The attributes to request.
    pub(crate) wanted: Vec<String>,
    /// Connections to servers named in referrals, by address.
    pub(crate) others: HashMap<String, Connection>,
}

/// The purpose of a search.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Sought<'i> {
    /// The people.
    People,
    /// People in no base: their place; and somebody whose place is known.
    Whereabouts(Witness<'i>),
    /// The groups to be imported.
    ApplicationGroups,
}

/// Somebody who was just read: unless a search by their identity finds them, it does not prove that others are gone.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Witness<'i> {
    /// The attribute of identities.
    pub(crate) attribute: &'i str,
    /// Their identity.
    pub(crate) identity: &'i Identity,
    /// Set when they are found.
    pub(crate) seen: &'i AtomicBool,
}

/// What a search lacks, apart from the entries that were kept.
#[derive(Default)]
pub(crate) struct Remainder {
    /// Why it is incomplete; `None` if it is not.
    pub(crate) short: Option<Shortcoming>,
    /// Search continuation references, each with the URLs of its servers.
    pub(crate) references: Vec<Vec<String>>,
    /// For each entry, its values of [`portions::BY`], if requested.
    names: Vec<[Vec<String>; 3]>,
    wants_names: bool,
    new: usize,
    again: usize,
}

impl Reader<'_> {
    /// A search for people with every attribute that they need.
    pub(crate) fn query(&self, base: &str, filter: Filter) -> Query {
        let wanted: Vec<&str> = self.wanted.iter().map(String::as_str).collect();
        Query::subtree(base, filter, &wanted)
    }

    /// The identities seen so far.
    pub(crate) fn identities_met(&self, identity: &str) -> HashSet<Identity> {
        let people = self.builder.people();
        let lasting = Lasting::new(identity, people.names());
        let mut met = HashSet::default();
        met.reserve(people.len());
        met.extend(people.iter().filter_map(|entry| lasting.of(entry)));
        met
    }

    /// Closes a part; an error that leaves the connection usable affects only this part.
    pub(crate) fn close(
        &mut self,
        part: PartId,
        ended: Result<Ended, DirectoryError>,
    ) -> Result<(), DirectoryError> {
        match ended {
            Ok(ended) => self.builder.close(part, ended),
            Err(error) => {
                self.builder.close(part, Shortcoming::ended(Some((&error).into())));
                if error.is_fatal() {
                    return Err(error);
                }
            }
        }
        Ok(())
    }

    /// Reads one search to its end: in portions if the server's limit cuts it short, and at other servers if it
    /// refers to them.
    pub(crate) async fn whole(
        &mut self,
        query: &Query,
        purpose: Sought<'_>,
    ) -> Result<Ended, DirectoryError> {
        let mut remainder = Remainder::default();
        match self.search(query.clone(), purpose, &mut remainder).await {
            Ok(()) => {}
            Err(error) if error.is_limit() => {
                let parts = self.in_portions(query, purpose, &mut remainder).await?;
                let unsplit = |reason| {
                    let (limit, reason) = (error.to_string(), Box::new(reason));
                    Shortcoming::Unsplit { limit, reason }
                };
                remainder.short = remainder.short.or(parts.map(unsplit));
            }
            Err(error) => match error.referral() {
                Some(urls) => remainder.references.push(urls),
                None => return Err(error),
            },
        }
        let elsewhere = self.follow(query, purpose, remainder.references).await?;
        Ok(Shortcoming::ended(remainder.short.or(elsewhere)))
    }

    /// One search at this server; its entries are kept even if it fails.
    async fn search(
        &mut self,
        query: Query,
        purpose: Sought<'_>,
        remainder: &mut Remainder,
    ) -> Result<(), DirectoryError> {
        run(&mut self.connection, &mut self.builder, query, purpose, remainder).await
    }

    /// The same search in portions; returns the reason if they are incomplete.
    async fn in_portions(
        &mut self,
        query: &Query,
        purpose: Sought<'_>,
        remainder: &mut Remainder,
    ) -> Result<Option<Shortcoming>, DirectoryError> {
        let mut wide = query.clone();
        wide.attributes.extend(portions::BY.map(str::to_owned));
        // Reads the names to split by, if they were not requested at first.
        let mut first = Remainder { wants_names: true, ..Remainder::default() };
        let ended = self.search(wide.clone(), purpose, &mut first).await;
        remainder.references.append(&mut first.references);
        if first.short.is_some() {
            return Ok(first.short);
        }
        match ended {
            Ok(()) => return Ok(None), // the server had time for it now
            Err(error) if error.is_limit() => {}
            Err(error) => return Err(error),
        }
        let Some(mut portions) = Portions::new(&first.names) else {
            return Ok(Some(Shortcoming::NoNameToSplitBy));
        };
        let at = portions::BY.iter().position(|name| *name == portions.attribute()).unwrap_or(0);
        let mut asked = 0;
        while let Some((portion, filter)) = portions.next(&query.filter) {
            asked += 1;
            let mut part = Remainder { wants_names: true, ..Remainder::default() };
            let ended = self.search(Query { filter, ..wide.clone() }, purpose, &mut part).await;
            remainder.references.append(&mut part.references);
            if let Some(short) = part.short {
                return Ok(Some(short));
            }
            match ended {
                Ok(()) => {}
                Err(error) if error.is_limit() => {
                    if part.names.iter().any(|values| values.get(at).is_none_or(Vec::is_empty)) {
                        return Ok(Some(Shortcoming::NoIdentity(portions.attribute().to_owned())));
                    }
                    let names = part.names.iter().filter_map(|values| values.get(at)).flatten();
                    if !portions.split(portion, names.map(String::as_str)) {
                        let attribute = portions.attribute();
                        return Ok(Some(match error.is_too_much_work() {
                            true => Shortcoming::TooMuchWork(attribute),
                            false => Shortcoming::SameName(attribute),
                        }));
                    }
                }
                Err(error) => return Err(error),
            }
        }
        let note = format!(
            "{}: the server limits the size of a search; it was read in {asked} parts by {}",
            query.base,
            portions.attribute()
        );
        self.builder.note(note);
        Ok(None)
    }
}

/// Runs one search on a connection, and keeps its entries.
pub(crate) async fn run(
    connection: &mut Connection,
    builder: &mut ReadingBuilder,
    query: Query,
    purpose: Sought<'_>,
    remainder: &mut Remainder,
) -> Result<(), DirectoryError> {
    let watch = connection.watch.clone();
    let base = Dn::parse(&query.base).map(|base| base.key()).ok();
    let mut search = connection.search(query).await?;
    while let Some(found) = search.next().await? {
        match found {
            SearchItem::Reference(urls) => remainder.references.push(urls),
            SearchItem::Entry(entry) => {
                keep(builder, &entry, base.as_ref(), purpose, remainder);
                let read = builder.people().len();
                if read.is_multiple_of(EVERY)
                    && !matches!(purpose, Sought::Whereabouts(_) | Sought::ApplicationGroups)
                {
                    watch.tell(|| Progress::People { read });
                }
            }
        }
        if remainder.again > remainder.new + AGAIN {
            remainder.short = Some(Shortcoming::SameEntries);
            return Ok(());
        }
    }
    Ok(())
}

/// Keeps one entry, according to the purpose of the search.
fn keep(
    builder: &mut ReadingBuilder,
    entry: &ReceivedEntry,
    base: Option<&DnKey>,
    purpose: Sought<'_>,
    remainder: &mut Remainder,
) {
    let values = |wanted: &str| -> Vec<String> {
        let its = entry.attributes_as_text().filter(|(name, _)| name.eq_ignore_ascii_case(wanted));
        its.flat_map(|(_, values)| values).map(|value| String::from_utf8_lossy(value).into_owned()).collect()
    };
    let dn = std::str::from_utf8(entry.name()).unwrap_or("");
    let identity_by = |attribute: &str| {
        let mut one = Entries::new();
        one.push(dn, entry.attributes_as_text());
        one.get(0).and_then(|entry| Identity::of(entry, attribute))
    };
    let person = |builder: &mut ReadingBuilder| builder.person_below(base, dn, entry.attributes_as_text());
    let is_below = || Dn::parse(dn).map(|dn| base.is_none_or(|base| dn.key().is_within(base)));
    // Whether it is new; nothing if it lies outside the base.
    let kept = match purpose {
        Sought::People => person(builder),
        Sought::ApplicationGroups => match is_below() {
            Ok(true) => builder.application_group(dn, entry.attributes_as_text()).map(Some),
            other => other.map(|_| None),
        },
        Sought::Whereabouts(Witness { attribute, identity, seen }) => {
            let Some(person) = identity_by(attribute) else {
                remainder.short = Some(Shortcoming::NoIdentity(attribute.to_owned()));
                return;
            };
            is_below().and_then(|is_below| {
                if !is_below {
                    return Ok(None);
                }
                let is_witness = person == *identity;
                seen.fetch_or(is_witness, Relaxed);
                let is_new = is_witness || builder.found(person, dn, entry.attributes_as_text())?;
                Ok(Some(is_new))
            })
        }
    };
    match kept {
        Ok(Some(true)) => remainder.new += 1,
        Ok(Some(false)) => remainder.again += 1,
        Ok(None) => remainder.short = Some(Shortcoming::OutsideBase(dn.to_owned())),
        Err(_) => remainder.short = Some(Shortcoming::BadEntryName(dn.to_owned())),
    }
    if remainder.wants_names {
        remainder.names.push(portions::BY.map(values));
    }
}
