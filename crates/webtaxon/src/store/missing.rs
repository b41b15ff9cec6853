//! A list that cannot be had: this build was made without its kind, or the application has not given it.

use super::{AccountStore, Answer, StoreErrorKind};
use webtaxon_core::account::Account;
#[cfg(not(all(feature = "csv", feature = "postgres", feature = "scim", feature = "sqlite")))]
use webtaxon_core::settings::StoreSettings;

/// A store of this kind, which is not there.
pub(super) struct MissingStore(pub(super) &'static str);

/// The feature of a kind of store.
#[cfg(not(all(feature = "csv", feature = "postgres", feature = "scim", feature = "sqlite")))]
pub(super) fn kind(settings: &StoreSettings) -> &'static str {
    match settings {
        StoreSettings::Csv { .. } => "csv",
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

    fn accounts<'a>(&'a self, _: &'a [&'a str]) -> Answer<'a, Vec<Account>> {
        let why = if self.0 == "own" { StoreErrorKind::NotGiven } else { StoreErrorKind::NotBuilt(self.0) };
        Box::pin(async { Err(why.into()) })
    }
}
