//! What a store can do: the trait that every kind of account store implements.

use super::{StoreError, StoreErrorKind};
use std::path::{Path, PathBuf};
use std::pin::Pin;
use webtaxon_core::account::{Account, Groups};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome};

/// What a store's answer is: it may come from a file or from far away.
pub type Answer<'a, T> = Pin<Box<dyn Future<Output = Result<T, StoreError>> + Send + 'a>>;

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
