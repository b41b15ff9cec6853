//! Logins and unique values of one person alone: one that others may draw as well is left to an apply.

use super::pool::{Operation, Purpose};
use super::shared::Shared;
use super::tried::Person;
use crate::directory::{Connection, DirectoryError, Query};
use crate::error::Error;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::settings::Intake;

impl Shared {
    /// True if nobody but this person may draw one of these values of fields; false, too, if a directory cannot be searched
    /// for one.
    pub(super) async fn nobody_else_draws(
        &self,
        claims: &[(String, String)],
        person: &Person,
    ) -> Result<bool, Error> {
        for (_, intake, _) in self.intakes() {
            // In another directory nobody has the person's name, even where it is the same.
            let dn = if intake.directory == person.directory { person.dn.as_str() } else { "" };
            let ask = |mut connection: Connection| -> Operation<'_, bool> {
                Box::pin(async move {
                    match is_alone(&mut connection, intake, dn, claims).await {
                        Ok(is_alone) => (Some(connection), Ok(is_alone)),
                        Err(error) => (None, Err(error)),
                    }
                })
            };
            if !claims.is_empty() && !self.pool(intake)?.run(Purpose::Searches, &ask).await? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

/// True if nobody else below the bases may draw one of these values of fields; false, too, if the directory cannot be
/// searched for one.
///
/// # Errors
/// A search failed.
async fn is_alone(
    connection: &mut Connection,
    intake: &Intake,
    dn: &str,
    claims: &[(String, String)],
) -> Result<bool, DirectoryError> {
    let own_key = Dn::parse(dn).map(|dn| dn.key()).ok();
    for (field, value) in claims {
        let Some(rule) = intake.fields.get(field) else { continue };
        let Some(filter) = rule.filter_for(value) else { return Ok(false) };
        let filter = Filter::all([intake.filter.clone(), filter]);
        for base in &intake.bases {
            let query = Query::subtree(&base.to_string(), filter.clone(), &["1.1"]);
            let (entries, _) = connection.entries(query).await?;
            let is_other = |dn: &str| Dn::parse(dn).map(|dn| dn.key()).ok() != own_key;
            if entries.iter().any(|entry| is_other(entry.dn())) {
                return Ok(false);
            }
        }
    }
    Ok(true)
}
