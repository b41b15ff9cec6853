//! Account stores: where the application keeps its own list of accounts.

#[cfg(feature = "csv")]
mod csv;
mod error;
#[cfg(any(feature = "csv", feature = "postgres", feature = "sqlite"))]
mod groups;
#[cfg(not(all(feature = "csv", feature = "postgres", feature = "scim", feature = "sqlite")))]
mod missing;
#[cfg(feature = "postgres")]
mod postgres;
#[cfg(feature = "scim")]
mod scim;
#[cfg(any(feature = "postgres", feature = "sqlite"))]
mod sql;
#[cfg(feature = "sqlite")]
mod sqlite;

#[cfg(feature = "csv")]
pub use csv::CsvStore;
pub use error::{StoreError, StoreErrorKind};
#[cfg(feature = "postgres")]
pub use postgres::PostgresStore;
#[cfg(feature = "scim")]
pub use scim::ScimStore;
#[cfg(feature = "postgres")]
pub(crate) use sql::quoted;
#[cfg(feature = "sqlite")]
pub use sqlite::SqliteStore;

use serde::Serialize;
use std::path::{Path, PathBuf};
use std::pin::Pin;
#[cfg(any(feature = "postgres", feature = "scim", feature = "sqlite"))]
use webtaxon_core::account::folded;
use webtaxon_core::account::{Account, Groups};
use webtaxon_core::apply::{Edit, GroupEdit, Standing};
use webtaxon_core::settings::StoreSettings;

/// What a store's answer is: it may come from a file or from far away.
pub type Answer<'a, T> = Pin<Box<dyn Future<Output = Result<T, StoreError>> + Send + 'a>>;

/// What became of one edit.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase", tag = "outcome", content = "reason")]
#[non_exhaustive]
pub enum Outcome {
    /// It was made.
    Done,
    /// The list was as it would leave it already.
    Made,
    /// Somebody changed something meanwhile, in words; it was left out.
    Left(String),
    /// The store refused it, in the store's words.
    Failed(String),
}

impl From<Standing> for Outcome {
    /// The outcome of an edit that was made if it could be.
    fn from(standing: Standing) -> Self {
        match standing {
            Standing::Made => Self::Made,
            Standing::Stale(words) => Self::Left(words),
            _ => Self::Done,
        }
    }
}

/// What a store must know to carry edits out.
#[derive(Clone, Copy, Debug)]
pub struct Terms<'a> {
    /// The fields that the settings write: the store has a place for each.
    pub fields: &'a [&'a str],
    /// The fields of which no two accounts may have one value; logins and links beside them.
    pub unique: &'a [&'a str],
    /// The copy of the whole list that was made before the edits which these take back.
    pub original: Option<&'a Path>,
    /// After so many refusals no further edit is begun.
    pub stop_after: Option<usize>,
}

/// Who is told what became of each edit, by its place in the list, once that is lasting. After a false
/// answer, which means that it cannot be written down, no further edit is begun.
pub type Record<'a> = &'a mut (dyn FnMut(usize, Outcome) -> bool + Send);

/// Where the application keeps its own list of accounts.
///
/// An application that embeds the library may implement this over its own tables.
pub trait AccountStore: Send + Sync {
    /// The store in a few words, for people: a file's name, say.
    fn describe(&self) -> String;

    /// Where the list is, in a form in which it is the same from everywhere, and different for another
    /// list. No secret is in it: it stands in the journal.
    fn place(&self) -> String {
        self.describe()
    }

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

    /// Copies the whole list to a new file in the store's own form, if it has one: `stem` with an ending
    /// of its own. Without one, the accounts concerned are written down by the caller.
    ///
    /// # Errors
    /// The copy cannot be made.
    fn copy<'a>(&'a self, stem: &'a Path) -> Answer<'a, Option<PathBuf>> {
        let _ = stem;
        Box::pin(async { Ok(None) })
    }

    /// The SQL statements that would make these edits in one transaction, for somebody who reads them first
    /// and runs them themselves; none where the list is no table of a database. Nothing is written.
    ///
    /// # Errors
    /// As [`AccountStore::accounts`].
    fn statements<'a>(&'a self, edits: &'a [Edit], terms: &'a Terms<'a>) -> Answer<'a, Option<String>> {
        let _ = (edits, terms);
        Box::pin(async { Ok(None) })
    }

    /// Makes edits, each once at most: what [`webtaxon_core::apply::standings`] finds stale against the
    /// list as it is now, is left out. Whatever happens, an account is either as it was or as the edit
    /// leaves it.
    ///
    /// # Errors
    /// Nothing can be written, or the connection was lost: edits that were not recorded may have been
    /// made or not, and the caller looks.
    fn carry_out<'a>(
        &'a self,
        edits: &'a [Edit],
        terms: &'a Terms<'a>,
        record: Record<'a>,
    ) -> Answer<'a, ()> {
        let _ = (edits, terms, record);
        Box::pin(async { Err(StoreErrorKind::ReadOnly { store: self.describe() }.into()) })
    }

    /// Every group that the application has.
    ///
    /// # Errors
    /// The groups cannot be read, are not sound (a name twice), or have no place here.
    fn groups(&self) -> Answer<'_, Groups> {
        Box::pin(async { Err(StoreErrorKind::NoGroups { store: self.describe() }.into()) })
    }

    /// [`AccountStore::accounts`] and [`AccountStore::groups`], for stores that would read the one for the other.
    ///
    /// # Errors
    /// As for either.
    fn accounts_and_groups<'a>(&'a self, fields: &'a [&'a str]) -> Answer<'a, (Vec<Account>, Groups)> {
        Box::pin(async move { Ok((self.accounts(fields).await?, self.groups().await?)) })
    }

    /// As [`AccountStore::statements`], for edits of groups.
    ///
    /// # Errors
    /// As [`AccountStore::groups`].
    fn group_statements<'a>(&'a self, edits: &'a [GroupEdit]) -> Answer<'a, Option<String>> {
        let _ = edits;
        Box::pin(async { Ok(None) })
    }

    /// Makes edits of groups, each once at most: what [`webtaxon_core::apply::group_standings`] finds stale
    /// against the groups as they are now, is left out. Whatever happens, a member is either in a group or not,
    /// and whoever is no part of an edit stays where they are.
    ///
    /// # Errors
    /// As [`AccountStore::carry_out`].
    fn carry_out_groups<'a>(
        &'a self,
        edits: &'a [GroupEdit],
        terms: &'a Terms<'a>,
        record: Record<'a>,
    ) -> Answer<'a, ()> {
        let _ = (edits, terms, record);
        Box::pin(async { Err(StoreErrorKind::NoGroups { store: self.describe() }.into()) })
    }
}

/// Every account, and every group if they are wanted.
pub(crate) async fn lists(
    store: &dyn AccountStore,
    fields: &[&str],
    with_groups: bool,
) -> Result<(Vec<Account>, Option<Groups>), StoreError> {
    if !with_groups {
        return Ok((store.accounts(fields).await?, None));
    }
    let (accounts, groups) = store.accounts_and_groups(fields).await?;
    Ok((accounts, Some(groups)))
}

/// The store that the settings name; relative paths start from `folder`. One of a kind that this build was made
/// without says so when it is asked.
#[must_use]
pub fn open(settings: &StoreSettings, folder: &Path) -> Box<dyn AccountStore> {
    match settings {
        #[cfg(feature = "csv")]
        StoreSettings::Csv { path, columns, has_links, groups } => {
            let store = CsvStore::new(folder.join(path), columns.clone());
            let store = if *has_links { store } else { store.without_links() };
            Box::new(match groups {
                Some(groups) => store.with_groups(folder.join(&groups.path), &groups.columns),
                None => store,
            })
        }
        #[cfg(feature = "postgres")]
        StoreSettings::Postgres { server, table } => {
            Box::new(PostgresStore::new(server.clone(), table.clone(), folder))
        }
        #[cfg(feature = "scim")]
        StoreSettings::Scim(service) => Box::new(ScimStore::new(service.clone(), folder)),
        #[cfg(feature = "sqlite")]
        StoreSettings::Sqlite { path, table } => Box::new(SqliteStore::new(folder.join(path), table.clone())),
        #[cfg(not(all(feature = "csv", feature = "postgres", feature = "scim", feature = "sqlite")))]
        other => {
            let _ = folder;
            Box::new(missing::MissingStore(missing::kind(other)))
        }
    }
}

/// Where the copy of the groups stands beside one of the accounts.
pub(crate) fn groups_beside(accounts: &Path, end: &str) -> PathBuf {
    let stem = accounts.file_stem().unwrap_or_default().to_string_lossy();
    accounts.with_file_name(format!("{stem}-groups.{end}"))
}

/// One row of a list, as messages call it.
#[cfg(any(feature = "csv", feature = "postgres", feature = "scim", feature = "sqlite"))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Rows {
    Accounts,
    Groups,
}

#[cfg(any(feature = "csv", feature = "postgres", feature = "scim", feature = "sqlite"))]
impl Rows {
    /// What no two of them may share, beside the link.
    fn name(self) -> &'static str {
        match self {
            Self::Accounts => "login",
            Self::Groups => "name",
        }
    }

    #[cfg(any(feature = "postgres", feature = "scim", feature = "sqlite"))]
    fn one(self) -> &'static str {
        match self {
            Self::Accounts => "account",
            Self::Groups => "group",
        }
    }
}

/// What else can be done about a list without a column for the link.
#[cfg(any(feature = "csv", feature = "postgres", feature = "sqlite"))]
fn apart(column: &str) -> &'static str {
    if column == "link" { "; where it may have none: links = \"apart\" in [accounts]" } else { "" }
}

/// That no two accounts have one login or one link.
#[cfg(any(feature = "postgres", feature = "scim", feature = "sqlite"))]
fn sound(store: &str, rows: Rows, accounts: &[Account]) -> Result<(), StoreErrorKind> {
    let logins = || accounts.iter().map(|one| folded(&one.login));
    let links = || accounts.iter().filter_map(|one| one.link.as_ref());
    if are_different(logins()) && are_different(links()) {
        return Ok(());
    }
    // Two of them look alike from afar.
    let (mut logins, mut links) = (foldhash::HashSet::default(), foldhash::HashSet::default());
    for account in accounts {
        let what = if !logins.insert(folded(&account.login)) {
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
            help: "no two may have one name or one link (case does not matter)",
        });
    }
    Ok(())
}

/// Whether values are surely all different, by their hashes alone.
#[cfg(any(feature = "postgres", feature = "scim", feature = "sqlite"))]
fn are_different(values: impl Iterator<Item = impl std::hash::Hash>) -> bool {
    use std::hash::BuildHasher as _;
    let state = foldhash::quality::RandomState::default();
    let mut hashes: Vec<u64> = values.map(|value| state.hash_one(value)).collect();
    hashes.sort_unstable();
    hashes.is_sorted_by(|one, next| one < next)
}
