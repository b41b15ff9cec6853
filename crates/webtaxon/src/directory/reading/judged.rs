//! Conditions that servers judge in their own ways: the server is asked which people they are true for, and whoever is
//! judged otherwise here is left alone.

use super::reader::Reader;
use crate::directory::DirectoryError;
use crate::directory::client::Query;
use crate::directory::shortcoming::Shortcoming;
use std::collections::HashSet;
use webtaxon_core::ldap::filter::{Filter, Matcher};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::Schema;
use webtaxon_core::reading::Part;

impl Reader<'_> {
    /// Asks the server about the settings' own conditions that leave doubt.
    pub(super) async fn judged(&mut self) -> Result<(), DirectoryError> {
        if self.connection.snapshot().is_some() || self.request.conditions.is_empty() {
            return Ok(());
        }
        let usual = Schema::of(self.connection.root().kind);
        let is_doubtful = |filter: &&Filter| filter.is_doubtful(self.builder.schema().unwrap_or(usual));
        let doubtful: Vec<Filter> = self.request.conditions.iter().filter(is_doubtful).cloned().collect();
        for filter in doubtful {
            let part = self.builder.open(Part::Condition { filter: filter.to_string() });
            let said = self.said(&filter).await?;
            match said {
                Ok(said) => {
                    self.compare(&filter, &said, usual);
                    self.builder.close(part, Shortcoming::ended(None));
                }
                Err(why) => self.builder.close(part, Shortcoming::ended(Some(why))),
            }
        }
        Ok(())
    }

    /// The people for whom a condition is true, as the server says; or why that is not known.
    async fn said(&mut self, filter: &Filter) -> Result<Result<HashSet<DnKey>, Shortcoming>, DirectoryError> {
        let mut said = HashSet::new();
        for base in &self.request.bases {
            let both = Filter::And(vec![self.request.filter.clone(), filter.clone()]);
            let query = Query::subtree(&base.to_string(), both, &["1.1"]);
            match self.connection.entries(query).await {
                Ok((entries, _)) => {
                    let keys = entries.iter().filter_map(|entry| Dn::parse(entry.dn()).ok());
                    said.extend(keys.map(|dn| dn.key()));
                }
                Err(error) if error.is_fatal() => return Err(error),
                Err(error) => return Ok(Err((&error).into())),
            }
        }
        Ok(Ok(said))
    }

    /// Records whom the server judges otherwise.
    fn compare(&mut self, filter: &Filter, said: &HashSet<DnKey>, usual: &Schema) {
        let people = self.builder.people();
        let matcher = Matcher::new(filter, self.builder.schema().unwrap_or(usual), people.names());
        let differs = |(person, entry)| {
            let (key, _) = self.builder.name_of(person)?;
            (said.contains(key) != matcher.matches(entry)).then_some(person)
        };
        let differing: Vec<usize> = people.iter().enumerate().filter_map(differs).collect();
        self.builder.doubt(filter, &differing);
    }
}
