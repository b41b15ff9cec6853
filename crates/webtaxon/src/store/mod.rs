//! Account stores: where the application keeps its accounts.

mod account_store;
mod choice;
#[cfg(feature = "csv")]
mod csv;
mod error;
#[cfg(any(feature = "csv", feature = "mysql", feature = "postgres", feature = "sqlite"))]
mod groups;
mod habits;
mod missing;
#[cfg(feature = "mysql")]
mod mysql;
mod new_accounts;
#[cfg(feature = "postgres")]
mod postgres;
#[cfg(feature = "scim")]
mod scim;
mod secrets;
#[cfg(any(feature = "mysql", feature = "postgres", feature = "sqlite"))]
mod sql;
#[cfg(feature = "sqlite")]
mod sqlite;

pub use account_store::{AccountStore, GroupStore, Recorder, ScriptWork, StoreFuture, Terms, TrialStore};
pub use choice::open;
#[cfg(feature = "csv")]
pub use csv::CsvStore;
pub use error::{StoreError, StoreErrorKind};
pub use habits::{KnownHabits, Trial, TrialFinding};
#[cfg(feature = "mysql")]
pub use mysql::MysqlStore;
pub use new_accounts::NewAccounts;
#[cfg(feature = "postgres")]
pub use postgres::PostgresStore;
#[cfg(feature = "scim")]
pub use scim::ScimStore;
pub use secrets::Secrets;
pub(crate) use secrets::Values as SecretValues;
#[cfg(feature = "sqlite")]
pub use sqlite::SqliteStore;

#[cfg(any(feature = "mysql", feature = "postgres", feature = "scim", feature = "sqlite"))]
use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::sync::Arc;
#[cfg(any(feature = "mysql", feature = "postgres", feature = "scim", feature = "sqlite"))]
use webtaxon_core::account::folded;
use webtaxon_core::account::{Account, Groups, Habits};

/// Names of fields, as a store receives them.
pub(crate) fn names(names: Vec<&str>) -> Arc<[String]> {
    names.into_iter().map(str::to_owned).collect()
}

/// All accounts, and all groups if requested.
pub(crate) async fn lists(
    store: &dyn AccountStore,
    fields: Arc<[String]>,
    with_groups: bool,
) -> Result<(Vec<Account>, Option<Groups>), StoreError> {
    if !with_groups {
        return Ok((store.accounts(fields).await?, None));
    }
    let (accounts, groups) = store.accounts_and_groups(fields).await?;
    Ok((accounts, Some(groups)))
}

/// Checks that no field lies in a place that the store is known to drop values of. A value there, such as one written by
/// hand, shows that it keeps them by now.
///
/// # Errors
/// A field reads as empty for every account, and that means nothing.
pub(crate) fn are_kept(
    store: &dyn AccountStore,
    habits: &Habits,
    fields: &[String],
    accounts: &[Account],
) -> Result<(), StoreError> {
    for field in fields {
        let place = store.place_of(field);
        if let Some(day) = habits.drops.get(&place)
            && accounts.iter().all(|account| account.value(field).is_empty())
        {
            let (store, field, day) = (store.describe(), field.clone(), *day);
            return Err(StoreErrorKind::Drops { store, field, place, day }.into());
        }
    }
    Ok(())
}

/// The store's groups.
///
/// # Errors
/// It has none.
pub(crate) fn group_store(store: &dyn AccountStore) -> Result<&dyn GroupStore, StoreError> {
    store.groups().ok_or_else(|| StoreErrorKind::NoGroups { store: store.describe() }.into())
}

/// The copy of the groups that belongs to one of the accounts.
pub(crate) fn groups_beside(accounts: &Path, end: &str) -> PathBuf {
    let stem = accounts.file_stem().unwrap_or_default().to_string_lossy();
    accounts.with_file_name(format!("{stem}-groups.{end}"))
}

/// One row of a list, in words.
#[cfg(any(feature = "csv", feature = "mysql", feature = "postgres", feature = "scim", feature = "sqlite"))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Rows {
    Accounts,
    Groups,
}

#[cfg(any(feature = "csv", feature = "mysql", feature = "postgres", feature = "scim", feature = "sqlite"))]
impl Rows {
    /// The name of the column that must be unique, beside the link.
    fn name(self) -> &'static str {
        match self {
            Self::Accounts => "login",
            Self::Groups => "name",
        }
    }

    #[cfg(any(feature = "mysql", feature = "postgres", feature = "scim", feature = "sqlite"))]
    fn one(self) -> &'static str {
        match self {
            Self::Accounts => "account",
            Self::Groups => "group",
        }
    }
}

/// A remedy for a list without a column for links.
#[cfg(any(feature = "csv", feature = "mysql", feature = "postgres", feature = "sqlite"))]
fn apart(column: &str) -> &'static str {
    if column == "link" { "; where it may have none: links = \"apart\" in [accounts]" } else { "" }
}

/// Checks that no login or link occurs twice. Logins that differ by case are two if `is_exact`.
#[cfg(any(feature = "mysql", feature = "postgres", feature = "scim", feature = "sqlite"))]
fn sound(store: &str, rows: Rows, accounts: &[Account], is_exact: bool) -> Result<(), StoreErrorKind> {
    let key = |login| if is_exact { Cow::Borrowed(login) } else { folded(login) };
    let logins = || accounts.iter().map(|one| key(one.login.as_str()));
    let links = || accounts.iter().filter_map(|one| one.link.as_ref());
    if are_different(logins()) && are_different(links()) {
        return Ok(());
    }
    // Two hashes are equal.
    let (mut logins, mut links) = (foldhash::HashSet::default(), foldhash::HashSet::default());
    for account in accounts {
        let what = if !logins.insert(key(&account.login)) {
            rows.name()
        } else if account.link.as_ref().is_some_and(|link| !links.insert(link)) {
            "link"
        } else {
            continue;
        };
        return Err(StoreErrorKind::BadRow {
            store: store.to_owned(),
            row: rows.one(),
            login: account.login.clone(),
            what: format!("is there twice, by its {what}"),
            help: match is_exact {
                true => "no two may have one name or one link",
                false => "no two may have one name or one link (case does not matter)",
            },
        });
    }
    Ok(())
}

/// Whether values are certainly distinct, judging by their hashes.
#[cfg(any(feature = "mysql", feature = "postgres", feature = "scim", feature = "sqlite"))]
fn are_different(values: impl Iterator<Item = impl std::hash::Hash>) -> bool {
    use std::hash::BuildHasher as _;
    let state = foldhash::quality::RandomState::default();
    let mut hashes: Vec<u64> = values.map(|value| state.hash_one(value)).collect();
    hashes.sort_unstable();
    hashes.is_sorted_by(|one, next| one < next)
}
