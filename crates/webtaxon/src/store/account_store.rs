//! The trait that every account store implements.

use super::{KnownHabits, NewAccounts, Secrets, StoreError, StoreErrorKind, Trial};
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::Arc;
use webtaxon_core::account::{Account, Groups, Inquiry, Replies};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome};
use webtaxon_core::ldap::identity::Identity;

/// What a store's answer is: it may come from a file or from far away.
pub type StoreFuture<'a, T> = Pin<Box<dyn Future<Output = Result<T, StoreError>> + Send + 'a>>;

/// The terms on which a store carries out edits.
#[derive(Clone, Debug, Default)]
pub struct Terms {
    /// The fields that the settings write; the store has a place for each.
    pub fields: Arc<[String]>,
    /// The fields whose values must be unique; logins and links always are.
    pub unique: Arc<[String]>,
    /// The secret fields of accounts to be created, which their edits do not have.
    pub secrets: Secrets,
    /// The copy of the whole list from before the edits that these undo.
    pub original: Option<PathBuf>,
    /// Number of refusals after which no further edit begins.
    pub stop_after: Option<usize>,
    /// What the store is known to do otherwise than it says; it adds what it finds.
    pub habits: KnownHabits,
    /// Receives new accounts as they stand in the list, before they are committed, from a store that has transactions
    /// and fills fields by itself.
    pub made: NewAccounts,
}

/// Edits for a script: members who leave groups, accounts, members who join groups, in this order.
#[derive(Clone, Debug)]
pub struct ScriptWork {
    /// Edits of groups before those of accounts.
    pub first: Arc<[GroupEdit]>,
    /// Edits of accounts.
    pub edits: Arc<[Edit]>,
    /// Edits of groups after those of accounts.
    pub last: Arc<[GroupEdit]>,
}

/// Receives the outcome of each edit, by its index, once it is durable. If it breaks, the outcome could not be
/// recorded, or is no longer awaited, and no further edit may begin.
pub type Recorder = Box<dyn FnMut(usize, Outcome) -> ControlFlow<()> + Send>;

/// Where the application keeps its own list of accounts.
///
/// An application that embeds the library may implement this over its own tables. Arguments are owned, so that a store
/// whose database blocks can do its work on another thread.
pub trait AccountStore: Send + Sync {
    /// The store in a few words, such as a file's name.
    fn describe(&self) -> String;

    /// The identity of the list: the same from everywhere, and different for another list. It is written to the
    /// journal, so it must not contain secrets.
    fn place(&self) -> String {
        self.describe()
    }

    /// Every account. `fields` are those that the field rules fill; the store must have a place for each.
    ///
    /// # Errors
    /// The list cannot be read, is invalid (a login twice), or has no place for a field.
    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>>;

    /// The accounts with a link, found without reading the list; `None` if the store has no way to find them. One whose link
    /// is written otherwise, as by hand, may be missing.
    ///
    /// # Errors
    /// As [`AccountStore::accounts`].
    fn accounts_with_link(
        &self,
        fields: Arc<[String]>,
        link: Identity,
    ) -> StoreFuture<'_, Option<Vec<Account>>> {
        let _ = (fields, link);
        Box::pin(async { Ok(None) })
    }

    /// A mark that is another one whenever the list has changed, if the store has one that costs less than the list.
    ///
    /// # Errors
    /// The store cannot be reached.
    fn mark(&self) -> StoreFuture<'_, Option<String>> {
        Box::pin(async { Ok(None) })
    }

    /// Whether the user may write the list. Nothing is written to find out.
    ///
    /// # Errors
    /// The store cannot be reached.
    fn is_writable(&self) -> StoreFuture<'_, bool> {
        Box::pin(async { Ok(true) })
    }

    /// Copies the whole list to a new file in the store's own format, if it has one: `stem` with an extension. `None`
    /// if it has none: then the caller records the accounts to be changed.
    ///
    /// # Errors
    /// The copy cannot be made.
    fn copy(&self, stem: PathBuf) -> StoreFuture<'_, Option<PathBuf>> {
        let _ = stem;
        Box::pin(async { Ok(None) })
    }

    /// The SQL statements that make these edits in one transaction, for an administrator to review and run; `None` if
    /// the list is not a table. Nothing is written.
    ///
    /// # Errors
    /// As [`AccountStore::accounts`].
    fn statements(&self, work: ScriptWork, terms: Terms) -> StoreFuture<'_, Option<String>> {
        let _ = (work, terms);
        Box::pin(async { Ok(None) })
    }

    /// Whether the store replies to inquiries.
    fn is_asked(&self) -> bool {
        false
    }

    /// Whether its replies tell of values, and not only of what hangs on an account.
    fn judges_values(&self) -> bool {
        self.is_asked()
    }

    /// Replies to questions about what would be written and removed: the form in which a value is kept, whether there
    /// is room for it, and what hangs on an account. Nothing is written to find out.
    ///
    /// # Errors
    /// The store cannot be reached.
    fn replies(&self, inquiry: Inquiry) -> StoreFuture<'_, Replies> {
        let _ = inquiry;
        Box::pin(async { Ok(Replies::default()) })
    }

    /// Whether an account can be created with values for these fields alone.
    ///
    /// # Errors
    /// It needs a value for another place.
    fn may_create(&self, fields: Arc<[String]>) -> StoreFuture<'_, ()> {
        let _ = fields;
        Box::pin(async { Ok(()) })
    }

    /// Makes edits, each at most once, by the steps of a [`Plan`](webtaxon_core::apply::Plan) made for the current
    /// list, which leaves out edits of accounts that were changed meanwhile. Whatever happens, an account is either
    /// unchanged or as its edit leaves it.
    ///
    /// # Errors
    /// Nothing can be written, or the connection was lost: edits without a recorded outcome may or may not have been
    /// made, and the caller finds out.
    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, record: Recorder) -> StoreFuture<'_, ()> {
        let _ = (edits, terms, record);
        Box::pin(async { Err(StoreErrorKind::ReadOnly { store: self.describe() }.into()) })
    }

    /// The place of a field in the store, such as an attribute's path.
    fn place_of(&self, field: &str) -> String {
        field.to_owned()
    }

    /// The store as one that can be tried out, if it may do otherwise than it says.
    fn trial(&self) -> Option<&dyn TrialStore> {
        None
    }

    /// The application's groups, if the store has any.
    fn groups(&self) -> Option<&dyn GroupStore> {
        None
    }

    /// Every account and every group, for stores that read one for the other.
    ///
    /// # Errors
    /// Those of [`AccountStore::accounts`] and [`GroupStore::all_groups`]; or the store has no groups.
    fn accounts_and_groups(&self, fields: Arc<[String]>) -> StoreFuture<'_, (Vec<Account>, Groups)> {
        Box::pin(async move {
            let groups = self.groups().ok_or_else(|| StoreErrorKind::NoGroups { store: self.describe() })?;
            Ok((self.accounts(fields).await?, groups.all_groups().await?))
        })
    }
}

/// The application's groups, in a store that has any.
pub trait GroupStore: Send + Sync {
    /// Every group.
    ///
    /// # Errors
    /// The groups cannot be read, or are invalid (a name twice).
    fn all_groups(&self) -> StoreFuture<'_, Groups>;

    /// Makes edits of groups, each at most once, leaving out those that [`webtaxon_core::apply::group_standings`]
    /// finds stale against the current groups. Members who are not part of an edit keep their place.
    ///
    /// # Errors
    /// As [`AccountStore::carry_out`].
    fn carry_out_groups(
        &self,
        edits: Arc<[GroupEdit]>,
        terms: Terms,
        record: Recorder,
    ) -> StoreFuture<'_, ()>;
}

/// A store that may do otherwise than it says, which only a trial shows.
pub trait TrialStore: Send + Sync {
    /// Creates an account with this login, changes, suspends and removes it, and looks at it after each step. A scratch
    /// account that an interrupted trial left behind is removed first.
    ///
    /// # Errors
    /// The store cannot be reached, or somebody has the login.
    fn try_out(&self, login: String, terms: Terms) -> StoreFuture<'_, Trial>;
}
