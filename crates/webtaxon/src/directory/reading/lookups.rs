//! Looking up the people of linked accounts who are in no base: elsewhere, or gone.

use super::reader::{Reader, Sought};
use crate::directory::DirectoryError;
use crate::directory::client::Query;
use crate::directory::shortcoming::Shortcoming;
use crate::progress::Progress;
use std::collections::HashMap;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::reading::snapshot::Snapshot;
use webtaxon_core::reading::{Ended, Part};

/// People looked up with one search.
const LOOKUP_BATCH: usize = 50;
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
        if !askable.is_empty() {
            self.connection.watch.tell(|| Progress::LookingFor { people: askable.len() });
        }
        for batch in askable.chunks(LOOKUP_BATCH) {
            let people = batch.iter().map(|(person, _)| person.clone()).collect();
            let part = self.builder.open(Part::Lookup { people });
            let any = Filter::Or(batch.iter().map(|(_, filter)| filter.clone()).collect());
            let mut ended = Ok(Ended::Complete);
            for top in &tops {
                let query = Query::subtree(&top.to_string(), any.clone(), &[identity]);
                ended = self.whole(&query, Sought::Whereabouts(identity)).await;
                if !matches!(ended, Ok(Ended::Complete)) {
                    break;
                }
            }
            self.close(part, ended)?;
        }
        Ok(())
    }

    /// The same in a snapshot: only look-ups made when it was taken are known.
    fn lookups_in(&mut self, snapshot: &Snapshot, missing: Vec<Identity>) {
        let (mut gone, mut unknown) = (Vec::new(), Vec::new());
        // Entries that these settings do not select exist all the same.
        let attribute = self.builder.identity().to_owned();
        let there =
            snapshot.entries.iter().filter_map(|entry| Some((Identity::of(entry, &attribute)?, entry.dn())));
        let there: HashMap<Identity, &str> =
            if missing.is_empty() { HashMap::new() } else { there.collect() };
        for person in missing {
            if let Some(dn) = there.get(&person) {
                self.builder.found(person, dn);
            } else if let Some(dn) = snapshot.header.elsewhere.get(&person) {
                self.builder.found(person, dn);
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
