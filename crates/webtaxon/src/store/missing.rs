//! A store that is not available: this build does not support it, or the application has not provided it.

use super::{AccountStore, StoreErrorKind, StoreFuture};
use std::sync::Arc;
use webtaxon_core::account::Account;
#[cfg(not(all(
    feature = "csv",
    feature = "mysql",
    feature = "postgres",
    feature = "scim",
    feature = "sqlite"
)))]
use webtaxon_core::settings::StoreSettings;

/// An unavailable store of this kind.
pub(super) struct MissingStore(pub(super) &'static str);

/// The cargo feature of a kind of store.
#[cfg(not(all(
    feature = "csv",
    feature = "mysql",
    feature = "postgres",
    feature = "scim",
    feature = "sqlite"
)))]
pub(super) fn kind(settings: &StoreSettings) -> &'static str {
    match settings {
        StoreSettings::Csv { .. } => "csv",
        StoreSettings::Mysql { .. } => "mysql",
        StoreSettings::Postgres { .. } => "postgres",
        StoreSettings::Scim(_) => "scim",
        StoreSettings::Sqlite { .. } => "sqlite",
        StoreSettings::Own { .. } => "own",
    }
}

impl AccountStore for MissingStore {
    fn describe(&self) -> String {
        format!("the {} store", self.0)
    }

    fn accounts(&self, _: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        let why = if self.0 == "own" { StoreErrorKind::NotGiven } else { StoreErrorKind::NotBuilt(self.0) };
        Box::pin(async { Err(why.into()) })
    }
}
