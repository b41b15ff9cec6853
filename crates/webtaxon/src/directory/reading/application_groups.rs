//! Selecting the groups to be imported into the application. Their members are read with the other nests.

use super::reader::{Reader, Sought};
use crate::directory::DirectoryError;
use crate::directory::client::Query;
use crate::directory::shortcoming::Shortcoming;
use webtaxon_core::reading::{Ended, Part};

impl Reader<'_> {
    /// Reads the groups to be imported. One without a lasting identity could not be told from a deleted one.
    pub(crate) async fn application_groups(&mut self) -> Result<(), DirectoryError> {
        let Some(groups) = &self.request.application_groups else { return Ok(()) };
        let wanted: Vec<&str> = groups.attributes.iter().map(String::as_str).collect();
        let mut parts = Vec::new();
        for base in &groups.bases {
            let part = self.builder.open(Part::ApplicationGroups { base: base.clone() });
            let query = Query::subtree(&base.to_string(), groups.filter.clone(), &wanted);
            match self.whole(&query, Sought::ApplicationGroups).await {
                Ok(Ended::Complete) => parts.push(part),
                ended => self.close(part, ended)?,
            }
        }
        let (attribute, hidden) = self.builder.identify_groups();
        for part in parts {
            let attribute = attribute.clone();
            let short = (hidden > 0).then_some(Shortcoming::Hidden { count: hidden, attribute });
            self.builder.close(part, Shortcoming::ended(short));
        }
        Ok(())
    }
}
