//! The common part of the readings of single people: the schema, the places and groups that the settings name, and the
//! attributes that anybody shows. It is read once for many of them.

use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, read_schema};
use crate::directory::nesting::GroupFacts;
use crate::directory::presence::absent;
use crate::directory::shortcoming::Shortcoming;
use std::collections::HashMap;
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex, PoisonError};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::{Schema, ServerKind};
use webtaxon_core::reading::{Ended, Footprint, Request};

/// The common part of the readings of single people at one server.
#[derive(Debug)]
pub(crate) struct Ground {
    /// The schema that the server published; `None` if only its kind is known.
    pub(super) schema: Option<Arc<Schema>>,
    /// The places that are not shown, and why.
    absent: Vec<(Dn, Shortcoming)>,
    pub(super) groups: GroupFacts,
    /// For each attribute that was asked about, whether anybody shows it.
    shown: Mutex<HashMap<String, bool>>,
}

impl Ground {
    /// Reads it; `before` is what the last apply saw.
    ///
    /// # Errors
    /// The connection is unusable, or the schema cannot be read.
    pub(crate) async fn read(
        connection: &mut Connection,
        request: &Request,
        before: Option<&Footprint>,
    ) -> Result<Self, DirectoryError> {
        let kind = connection.root().kind;
        let is_usual = |name: &str| Schema::of(kind).find(name).is_some();
        let schema = match kind == ServerKind::Controller && request.tested().all(is_usual) {
            true => None,
            false => Some(read_schema(connection).await?).filter(|schema| !schema.is_empty()),
        };
        let schema = schema.map(|schema| Arc::new(schema.filled(kind)));
        let places = request.places().map(|(place, _)| place);
        let absent = absent(connection, places).await?;
        let absent = absent.into_iter().map(|(place, absence)| (place, absence.why)).collect();
        let groups = GroupFacts::read(connection, request, schema.as_deref(), before).await?;
        Ok(Self { schema, absent, groups, shown: Mutex::default() })
    }

    /// How the part of a place ends.
    pub(super) fn of_place(&self, place: &Dn) -> Ended {
        let absence = self.absent.iter().find(|(absent, _)| absent.key() == place.key());
        Shortcoming::ended(absence.map(|(_, why)| why.clone()))
    }

    /// Asks, once for each, whether anybody shows these attributes.
    ///
    /// # Errors
    /// The connection is unusable.
    pub(super) async fn ask_about<'n>(
        &self,
        connection: &mut Connection,
        request: &Request,
        names: impl Iterator<Item = &'n str>,
    ) -> Result<(), DirectoryError> {
        for name in names {
            let name = name.to_ascii_lowercase();
            if self.shown.lock().unwrap_or_else(PoisonError::into_inner).contains_key(&name) {
                continue;
            }
            let mut is_shown = false;
            for base in &request.bases {
                let filter = Filter::all([request.filter.clone(), Filter::present(&name)]);
                let take = |entry: webtaxon_core::ldap::entry::Entry<'_>| {
                    is_shown |= entry.attributes().next().is_some();
                    ControlFlow::Break(())
                };
                let query = Query::subtree(&base.to_string(), filter, &[&name]);
                match connection.each(query, take).await {
                    Ok(_) => {}
                    Err(error) if error.is_fatal() => return Err(error),
                    Err(error) => tracing::debug!(%error, "it is not known whether anybody shows {name}"),
                }
                if is_shown {
                    break;
                }
            }
            self.shown.lock().unwrap_or_else(PoisonError::into_inner).insert(name, is_shown);
        }
        Ok(())
    }

    /// True if anybody shows an attribute, as far as that was asked.
    pub(super) fn is_shown(&self, name: &str) -> bool {
        let shown = self.shown.lock().unwrap_or_else(PoisonError::into_inner);
        shown.get(&name.to_ascii_lowercase()).copied().unwrap_or(false)
    }
}
