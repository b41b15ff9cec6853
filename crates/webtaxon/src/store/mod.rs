//! Account stores: where the application keeps its own list of accounts.

mod csv;
mod error;

pub use csv::CsvStore;
pub use error::{StoreError, StoreErrorKind};

use std::path::Path;
use std::pin::Pin;
use webtaxon_core::account::Account;
use webtaxon_core::settings::StoreSettings;

/// What a store's answer is: it may come from a file or from far away.
pub type Answer<'a, T> = Pin<Box<dyn Future<Output = Result<T, StoreError>> + Send + 'a>>;

/// Where the application keeps its own list of accounts.
///
/// An application that embeds the library may implement this over its own tables.
pub trait AccountStore: Send + Sync {
    /// The store in a few words, for people: a file's name, say.
    fn describe(&self) -> String;

    /// Every account. `fields` are those that the field rules fill: the store must have a place
    /// for each.
    ///
    /// # Errors
    /// The list cannot be read, is not sound (a login twice), or has no place for a field.
    fn accounts<'a>(&'a self, fields: &'a [&'a str]) -> Answer<'a, Vec<Account>>;

    /// Whether whoever runs this may write the list. Nothing is written to find out.
    ///
    /// # Errors
    /// The store cannot be asked.
    fn is_writable(&self) -> Answer<'_, bool> {
        Box::pin(async { Ok(true) })
    }
}

/// The store that the settings name; relative paths start from `folder`.
#[must_use]
pub fn open(settings: &StoreSettings, folder: &Path) -> Box<dyn AccountStore> {
    match settings {
        StoreSettings::Csv { path, columns } => Box::new(CsvStore::new(folder.join(path), columns.clone())),
    }
}
