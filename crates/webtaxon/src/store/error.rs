//! What can be wrong with the application's own list.

use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;

/// Why the application's list cannot be used.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct StoreError(#[from] StoreErrorKind);

/// What is wrong with the list.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum StoreErrorKind {
    /// The file cannot be read.
    #[error("the accounts file {} cannot be read: {reason}", file.display())]
    #[diagnostic(
        code(WX0501),
        help("`path` in [accounts] names the file; a relative path starts beside the settings")
    )]
    Unreadable {
        /// The file.
        file: PathBuf,
        /// The system's reason.
        reason: std::io::Error,
    },
    /// A column is missing.
    #[error("{} has no column `{column}`", file.display())]
    #[diagnostic(code(WX0502), help("{help}"))]
    NoColumn {
        /// The file.
        file: PathBuf,
        /// The column.
        column: String,
        /// The way out.
        help: String,
    },
    /// A column twice.
    #[error("{} has two columns `{column}`", file.display())]
    #[diagnostic(code(WX0502), help("take one of the two out of the file's first line"))]
    TwoColumns {
        /// The file.
        file: PathBuf,
        /// The column.
        column: String,
    },
    /// A row with more or fewer values than there are columns.
    #[error("{}, line {line}: {found} values where the first line has {wanted}", file.display())]
    #[diagnostic(code(WX0503), help("a value with a comma or a line break in it stands in double quotes"))]
    Ragged {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
        /// Values in the row.
        found: u64,
        /// Columns.
        wanted: u64,
    },
    /// Bytes that are no text.
    #[error("{}, line {line}: {what}", file.display())]
    #[diagnostic(code(WX0504), help("export the file again as UTF-8"))]
    NotText {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
        /// What stands there.
        what: &'static str,
    },
    /// A row without a login.
    #[error("{}, line {line}: the login is empty", file.display())]
    #[diagnostic(code(WX0505), help("every account has a login, by which the person signs in"))]
    NoLogin {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
    },
    /// A row without a name.
    #[error("{}, line {line} has no name", file.display())]
    #[diagnostic(code(WX0505), help("every group has a name, by which people know it"))]
    NoGroupName {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
    },
    /// A login or a link twice.
    #[error("{}, line {line}: the {what} `{value}` stands on line {first} already", file.display())]
    #[diagnostic(
        code(WX0506),
        help("no two may have one {what} (case does not matter): correct the application's list first")
    )]
    Twice {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
        /// `login`, `link` or `name`.
        what: &'static str,
        /// The value.
        value: String,
        /// The line on which it stood first.
        first: u64,
    },
    /// A state that is none.
    #[error("{}, line {line}: `{value}` is no state", file.display())]
    #[diagnostic(code(WX0507), help("write active or suspended; left empty it means active"))]
    NoState {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
        /// What stands there.
        value: String,
    },
    /// The list cannot be written; it is as it was.
    #[error("the accounts file {} cannot be written: {reason}", file.display())]
    #[diagnostic(
        code(WX0508),
        help(
            "nothing was changed; Webtaxon writes a new file beside it and then renames it, so it needs the right to do so in that folder, and room"
        )
    )]
    Unwritable {
        /// The file.
        file: PathBuf,
        /// The system's reason.
        reason: std::io::Error,
    },
    /// The store can only be read.
    #[error("{store} can only be read")]
    #[diagnostic(
        code(WX0509),
        help("the application's developer must implement `carry_out` of its account store")
    )]
    ReadOnly {
        /// The store.
        store: String,
    },
    /// A table is missing.
    #[error("{store} has no table `{table}`")]
    #[diagnostic(code(WX0510), help("{help}"))]
    NoTable {
        /// The database.
        store: String,
        /// The table.
        table: String,
        /// The way out.
        help: String,
    },
    /// A column of a table is missing.
    #[error("the table `{table}` of {store} has no column `{column}`")]
    #[diagnostic(code(WX0511), help("{help}"))]
    NoTableColumn {
        /// The database.
        store: String,
        /// The table.
        table: String,
        /// The column.
        column: String,
        /// The way out.
        help: String,
    },
    /// A list that keeps its links itself, though they are said to be kept apart from it.
    #[error("{store} has a column for the link, though links = \"apart\" says that it has none")]
    #[diagnostic(
        code(WX0521),
        help(
            "take links = \"apart\" out of [accounts]: the list is the better place for them; if the column is another's, give it another name"
        )
    )]
    HasLinks {
        /// The list.
        store: String,
    },
    /// The links that are kept apart from the list cannot be read.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Links(#[from] crate::state::StateError),
    /// A row that cannot be an account.
    #[error("{store}: the {row} `{login}` {what}")]
    #[diagnostic(code(WX0512), help("{help}"))]
    BadRow {
        /// The database.
        store: String,
        /// `account` or `group`.
        row: &'static str,
        /// Its login, or its name.
        login: String,
        /// What is wrong.
        what: String,
        /// The way out.
        help: &'static str,
    },
    /// The database refuses.
    #[error("{store}: {reason}")]
    #[diagnostic(
        code(WX0513),
        help("nothing was changed; that is what the database says, its administrator knows what it means")
    )]
    Database {
        /// The database.
        store: String,
        /// What it says.
        reason: String,
    },
    /// What answers there is no SCIM service, or not the way into one.
    #[error("{store} {what}")]
    #[diagnostic(
        code(WX0514),
        help(
            "`service` in [accounts] is the base of the SCIM interface, below which /ServiceProviderConfig and /Users are; the application's documentation says it"
        )
    )]
    NotScim {
        /// The service.
        store: String,
        /// What it does.
        what: String,
    },
    /// A SCIM service does not know whoever asks.
    #[error("{store} does not let us in: {reason}")]
    #[diagnostic(
        code(WX0515),
        help("`token`, or `user` and `password`, in [accounts] say who asks; a token may have run out")
    )]
    Unauthorized {
        /// The service.
        store: String,
        /// What it says.
        reason: String,
    },
    /// A SCIM service does not answer.
    #[error("{store} gives no answer: {reason}")]
    #[diagnostic(
        code(WX0516),
        help(
            "is the application running, and its address right? What may have been under way is looked at by the next apply"
        )
    )]
    Unanswered {
        /// The service.
        store: String,
        /// What happened.
        reason: String,
    },
    /// A SCIM service has no attribute for a field.
    #[error("{store} has no attribute `{attribute}` for the field `{field}`")]
    #[diagnostic(code(WX0517), help("{help}"))]
    NoAttribute {
        /// The service.
        store: String,
        /// The attribute.
        attribute: String,
        /// The field.
        field: String,
        /// The way out.
        help: String,
    },
    /// A SCIM service gives a list that is none.
    #[error("{store}: {what}")]
    #[diagnostic(
        code(WX0518),
        help(
            "nothing is done on half a list of accounts; try again, and if it stays so, tell the application's maker what stands here"
        )
    )]
    Unsound {
        /// The service.
        store: String,
        /// What is wrong.
        what: String,
    },
    /// The secret that a store wants cannot be had.
    #[error("{store} was not asked: {reason}")]
    #[diagnostic(code(WX0520), help("`token` or `password` in [accounts] names where it comes from"))]
    NoSecret {
        /// The store.
        store: String,
        /// Why not.
        reason: String,
    },
    /// Groups in a store that has no place for them.
    #[error("{store}: there is no place for the application's groups")]
    #[diagnostic(
        code(WX0522),
        help(
            "an application that keeps accounts in its own way must implement the two calls for groups; else say in [accounts.groups] where groups are"
        )
    )]
    NoGroups {
        /// The store.
        store: String,
    },
    /// What an application's own store says.
    #[error("{store}: {source}")]
    #[diagnostic(
        code(WX0523),
        help("the application keeps this list itself: its own log, or its developers, know more")
    )]
    Own {
        /// The store.
        store: String,
        /// The reason.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// A list that the application keeps, and has not given.
    #[error("the settings say that an application keeps the accounts in its own way, and none has said how")]
    #[diagnostic(
        code(WX0519),
        help(
            "the application gives its list with Workspace::with_store; the command has none, and needs another store in [accounts]"
        )
    )]
    NotGiven,
    /// A kind of store that this build was made without.
    #[error("this build cannot keep accounts in a store of the kind {0}")]
    #[diagnostic(
        code(WX0519),
        help("the application's developer must turn on the feature `{0}` of the library")
    )]
    NotBuilt(&'static str),
    /// Something else that the reader of CSV refuses.
    #[error("{} cannot be read as CSV: {reason}", file.display())]
    #[diagnostic(code(WX0503), help("export the file again as CSV with commas and UTF-8"))]
    Csv {
        /// The file.
        file: PathBuf,
        /// The reason.
        reason: String,
    },
}

impl StoreError {
    /// What is wrong.
    #[must_use]
    pub fn kind(&self) -> &StoreErrorKind {
        &self.0
    }
}
