//! A kind of store that this build was made without.

use super::{AccountStore, Answer, StoreErrorKind};
use webtaxon_core::account::Account;
use webtaxon_core::settings::StoreSettings;

/// Says that it is not there.
pub(super) struct MissingStore(pub(super) &'static str);

/// The feature of a kind of store.
pub(super) fn kind(settings: &StoreSettings) -> &'static str {
    match settings {
        StoreSettings::Csv { .. } => "csv",
        StoreSettings::Postgres { .. } => "postgres",
        StoreSettings::Scim(_) => "scim",
        StoreSettings::Sqlite { .. } => "sqlite",
    }
}

impl AccountStore for MissingStore {
    fn describe(&self) -> String {
        format!("the {} store", self.0)
    }

    fn accounts<'a>(&'a self, _: &'a [&'a str]) -> Answer<'a, Vec<Account>> {
        Box::pin(async { Err(StoreErrorKind::NotBuilt(self.0).into()) })
    }
}
