//! Opening the store in the settings.

use super::AccountStore;
#[cfg(feature = "csv")]
use super::csv::CsvStore;
use super::missing;
#[cfg(feature = "mysql")]
use super::mysql::MysqlStore;
#[cfg(feature = "postgres")]
use super::postgres::PostgresStore;
#[cfg(feature = "scim")]
use super::scim::ScimStore;
#[cfg(feature = "sqlite")]
use super::sqlite::SqliteStore;
use std::path::Path;
use webtaxon_core::settings::StoreSettings;

/// Opens the store; relative paths start from `folder`. One that this build does not support says so on first use.
#[must_use]
pub fn open(settings: &StoreSettings, folder: &Path) -> Box<dyn AccountStore> {
    match settings {
        #[cfg(feature = "csv")]
        StoreSettings::Csv { path, columns, has_links, groups, secrets } => {
            let store = CsvStore::new(folder.join(path), columns.clone()).with_secrets(secrets.clone());
            let store = if *has_links { store } else { store.without_links() };
            Box::new(match groups {
                Some(groups) => store.with_groups(folder.join(&groups.path), &groups.columns),
                None => store,
            })
        }
        #[cfg(feature = "mysql")]
        StoreSettings::Mysql { server, table } => {
            Box::new(MysqlStore::new(server.clone(), table.clone(), folder))
        }
        #[cfg(feature = "postgres")]
        StoreSettings::Postgres { server, table } => {
            Box::new(PostgresStore::new(server.clone(), table.clone(), folder))
        }
        #[cfg(feature = "scim")]
        StoreSettings::Scim(service) => Box::new(ScimStore::new(service.clone(), folder)),
        #[cfg(feature = "sqlite")]
        StoreSettings::Sqlite { path, table } => Box::new(SqliteStore::new(folder.join(path), table.clone())),
        StoreSettings::Own { .. } => Box::new(missing::MissingStore("own")),
        #[cfg(not(all(
            feature = "csv",
            feature = "mysql",
            feature = "postgres",
            feature = "scim",
            feature = "sqlite"
        )))]
        other => {
            let _ = folder;
            Box::new(missing::MissingStore(missing::kind(other)))
        }
    }
}
