//! Looking up the people of linked accounts who are in no base: elsewhere, or gone.

use super::reader::{Reader, Sought, Witness};
use crate::directory::DirectoryError;
use crate::directory::client::Query;
use crate::directory::shortcoming::Shortcoming;
use crate::progress::Progress;
use std::collections::HashMap;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering::Relaxed;
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::{Identity, Lasting};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::reading::snapshot::Snapshot;
use webtaxon_core::reading::{Ended, Part};

/// People looked up with one search.
const LOOKUP_BATCH: usize = 50;

/// An entry that was just read.
struct Known {
    identity: Identity,
    filter: Filter,
    dn: String,
}

impl Known {
    fn new(identity: Identity, attribute: &str, dn: &str) -> Option<Self> {
        let filter = identity.filter(attribute)?;
        Some(Self { identity, filter, dn: dn.to_owned() })
    }
}

impl Reader<'_> {
    /// Finds the people of linked accounts whom the reading did not see.
    ///
    /// Only an entry that is nowhere below the naming contexts is gone; one that is elsewhere is merely outside the
    /// bases or the filter.
    pub(super) async fn lookups(
        &mut self,
        identity: &str,
        missing: Vec<Identity>,
    ) -> Result<(), DirectoryError> {
        if let Some(snapshot) = self.connection.snapshot().cloned() {
            self.lookups_in(&snapshot, missing);
            return Ok(());
        }
        let tops = self.connection.root().naming_contexts.iter();
        let tops: Vec<Dn> = tops
            .filter(|top| self.request.bases.iter().any(|base| base.key().is_within(&top.key())))
            .cloned()
            .collect();
        if tops.is_empty() {
            return Ok(()); // the server does not say where its trees begin: nobody can be known to be gone
        }
        // A link that is not a possible value of the attribute cannot be looked up, and stays unknown.
        let filter = |person: Identity| Some((person.clone(), person.filter(identity)?));
        let askable: Vec<(Identity, Filter)> = missing.into_iter().filter_map(filter).collect();
        if askable.is_empty() {
            return Ok(());
        }
        self.connection.watch.tell(|| Progress::LookingFor { people: askable.len() });
        let witness = match self.outside_trees() {
            Some(group) => Err(Shortcoming::OutsideTrees(group)),
            None => self.witness(identity, &tops).await?.ok_or(Shortcoming::NoWitness(identity.to_owned())),
        };
        let known = match witness {
            Ok(known) => known,
            Err(why) => {
                let people = askable.into_iter().map(|(person, _)| person).collect();
                let part = self.builder.open(Part::Lookup { people });
                self.builder.close(part, Shortcoming::ended(Some(why)));
                return Ok(());
            }
        };
        for batch in askable.chunks(LOOKUP_BATCH) {
            let people = batch.iter().map(|(person, _)| person.clone()).collect();
            let part = self.builder.open(Part::Lookup { people });
            let ended = self.look_up(identity, batch, &known, &tops).await;
            self.close(part, ended)?;
        }
        Ok(())
    }

    /// Looks up some of them, and somebody known, with one search of each tree.
    async fn look_up(
        &mut self,
        attribute: &str,
        batch: &[(Identity, Filter)],
        known: &Known,
        tops: &[Dn],
    ) -> Result<Ended, DirectoryError> {
        let seen = AtomicBool::new(false);
        let filters = batch.iter().map(|(_, filter)| filter).chain([&known.filter]);
        let any = Filter::Or(filters.cloned().collect());
        for top in tops {
            // Accounts of people who are out get the names that the directory has for them now.
            let mut wanted: Vec<&str> = self.wanted.iter().map(String::as_str).collect();
            if !wanted.iter().any(|name| name.eq_ignore_ascii_case(attribute)) {
                wanted.push(attribute);
            }
            let query = Query::subtree(&top.to_string(), any.clone(), &wanted);
            let witness = Witness { attribute, identity: &known.identity, seen: &seen };
            let ended = self.whole(&query, Sought::Whereabouts(witness)).await?;
            if ended != Ended::Complete {
                return Ok(ended);
            }
        }
        if !seen.load(Relaxed) {
            let (attribute, dn) = (attribute.to_owned(), known.dn.clone());
            return Ok(Shortcoming::ended(Some(Shortcoming::Unsearchable { attribute, dn })));
        }
        Ok(Shortcoming::ended(self.left_out(batch).await?))
    }

    /// Somebody who was read below one of the tops and can be searched for by identity; where nobody was read, a
    /// base.
    async fn witness(&mut self, attribute: &str, tops: &[Dn]) -> Result<Option<Known>, DirectoryError> {
        let keys: Vec<DnKey> = tops.iter().map(Dn::key).collect();
        let people = self.builder.people();
        let lasting = Lasting::new(attribute, people.names());
        let known = people.iter().enumerate().find_map(|(at, entry)| {
            let (key, dn) = self.builder.name_of(at)?;
            let is_below = keys.iter().any(|top| key.is_within(top));
            Known::new(lasting.of(entry).filter(|_| is_below)?, attribute, dn)
        });
        if known.is_some() {
            return Ok(known);
        }
        for base in &self.request.bases {
            match self.connection.entries(Query::base(&base.to_string(), &[attribute])).await {
                Ok((entries, _)) => {
                    let identity = entries.get(0).and_then(|entry| Identity::of(entry, attribute));
                    let known =
                        identity.and_then(|identity| Known::new(identity, attribute, &base.to_string()));
                    if known.is_some() {
                        return Ok(known);
                    }
                }
                Err(error) if error.is_fatal() => return Err(error),
                Err(_) => {}
            }
        }
        Ok(None)
    }

    /// A group that lies outside the trees that the server names.
    fn outside_trees(&self) -> Option<String> {
        let trees: Vec<DnKey> = self.connection.root().naming_contexts.iter().map(Dn::key).collect();
        let is_outside =
            |dn: &&str| Dn::parse(dn).is_ok_and(|dn| !trees.iter().any(|tree| dn.key().is_within(tree)));
        self.builder.graph().all_groups().map(|(dn, _)| dn).find(is_outside).map(str::to_owned)
    }

    /// Somebody whom a look-up found below a base, and who matches the filter: the search there must have returned
    /// them.
    async fn left_out(
        &mut self,
        batch: &[(Identity, Filter)],
    ) -> Result<Option<Shortcoming>, DirectoryError> {
        for base in &self.request.bases {
            let key = base.key();
            let is_here = |person: &Identity| {
                let place = self.builder.place_of(person).and_then(|dn| Dn::parse(dn).ok());
                place.is_some_and(|dn| dn.key().is_within(&key))
            };
            let here = batch.iter().filter(|(person, _)| is_here(person)).map(|(_, filter)| filter.clone());
            let here: Vec<Filter> = here.collect();
            if here.is_empty() {
                continue;
            }
            let filter = Filter::And(vec![self.request.filter.clone(), Filter::Or(here)]);
            let query = Query::subtree(&base.to_string(), filter, &["1.1"]);
            match self.connection.entries(query).await {
                Ok((entries, _)) => {
                    if let Some(entry) = entries.get(0) {
                        let (dn, base) = (entry.dn().to_owned(), base.to_string());
                        return Ok(Some(Shortcoming::LeftOut { dn, base }));
                    }
                }
                Err(error) if error.is_fatal() => return Err(error),
                Err(error) => return Ok(Some((&error).into())),
            }
        }
        Ok(None)
    }

    /// The same in a snapshot: only look-ups made when it was taken are known.
    fn lookups_in(&mut self, snapshot: &Snapshot, missing: Vec<Identity>) {
        let (mut gone, mut unknown) = (Vec::new(), Vec::new());
        // Entries that these settings do not select exist all the same.
        let attribute = self.builder.identity().to_owned();
        let there =
            snapshot.entries.iter().filter_map(|entry| Some((Identity::of(entry, &attribute)?, entry)));
        let there: HashMap<Identity, Entry<'_>> =
            if missing.is_empty() { HashMap::new() } else { there.collect() };
        for person in missing {
            let nothing = std::iter::empty::<(&str, std::iter::Empty<&[u8]>)>;
            if let Some(entry) = there.get(&person)
                && self.builder.found(person.clone(), entry.dn(), entry.attributes()).is_ok()
            {
            } else if let Some(dn) = snapshot.header.elsewhere.get(&person)
                && self.builder.found(person.clone(), dn, nothing()).is_ok()
            {
            } else if snapshot.header.absent.contains(&person) {
                gone.push(person);
            } else {
                unknown.push(person);
            }
        }
        if !gone.is_empty() {
            let part = self.builder.open(Part::Lookup { people: gone });
            self.builder.close(part, Ended::Complete);
        }
        if !unknown.is_empty() {
            let part = self.builder.open(Part::Lookup { people: unknown });
            self.builder.close(part, Shortcoming::ended(Some(Shortcoming::NotInSnapshot)));
        }
    }
}
