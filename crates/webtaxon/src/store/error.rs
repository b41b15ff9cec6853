//! Errors of account stores.

use crate::box_error::BoxError;
use jiff::civil::Date;
use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;

/// Why an account store cannot be used.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct StoreError(#[from] StoreErrorKind);

/// The kinds of error.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum StoreErrorKind {
    /// The file cannot be read.
    #[error("the accounts file {} cannot be read: {source}", file.display())]
    #[diagnostic(code(WX0501), help("`path` in [accounts] gives the file, relative to the settings file"))]
    Unreadable {
        /// The file.
        file: PathBuf,
        /// The system's reason.
        source: std::io::Error,
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
    #[diagnostic(code(WX0502), help("remove one of the two of the file's first line"))]
    TwoColumns {
        /// The file.
        file: PathBuf,
        /// The column.
        column: String,
    },
    /// A row with more or fewer values than columns.
    #[error("{}, line {line}: {found} values where the first line has {wanted}", file.display())]
    #[diagnostic(code(WX0503), help("a value with a comma or a line break must be in double quotes"))]
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
    /// Bytes that are not text.
    #[error("{}, line {line}: {what}", file.display())]
    #[diagnostic(code(WX0504), help("export the file again as UTF-8"))]
    NotText {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
        /// The bytes.
        what: &'static str,
    },
    /// A row without a login.
    #[error("{}, line {line}: the login is empty", file.display())]
    #[diagnostic(code(WX0505), help("every account needs a login, by which the person signs in"))]
    NoLogin {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
    },
    /// A row without a name.
    #[error("{}, line {line} has no name", file.display())]
    #[diagnostic(code(WX0505), help("every group needs a name"))]
    NoGroupName {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
    },
    /// A login or a link that occurs twice.
    #[error("{}, line {line}: the {what} `{value}` is on line {first} already", file.display())]
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
        /// The line of its first occurrence.
        first: u64,
    },
    /// An unknown state.
    #[error("{}, line {line}: `{value}` is not a state", file.display())]
    #[diagnostic(code(WX0507), help("write active or suspended; an empty cell means active"))]
    NoState {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: u64,
        /// The value.
        value: String,
    },
    /// The list cannot be written; it is unchanged.
    #[error("the accounts file {} cannot be written: {source}", file.display())]
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
        source: std::io::Error,
    },
    /// The store is read-only.
    #[error("{store} is read-only")]
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
    /// A list that has links itself, though the settings keep them apart.
    #[error("{store} has a column for the link, though links = \"apart\" says that it has none")]
    #[diagnostic(
        code(WX0521),
        help(
            "remove links = \"apart\" from [accounts], since the list is the better place for them; if the column is for something else, rename it"
        )
    )]
    HasLinks {
        /// The list.
        store: String,
    },
    /// The links kept in the state cannot be read.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Links(#[from] crate::state::StateError),
    /// A row that is not a valid account or group.
    #[error("{store}: the {row} `{login}` {what}")]
    #[diagnostic(code(WX0512), help("{help}"))]
    BadRow {
        /// The database.
        store: String,
        /// `account` or `group`.
        row: &'static str,
        /// Its login, or its name.
        login: String,
        /// The fault.
        what: String,
        /// The way out.
        help: &'static str,
    },
    /// A column that must have a value gets none in new accounts.
    #[error("{store}: a new account has no value for the column `{column}`, which demands one")]
    #[diagnostic(code(WX0524), help("{help}"))]
    NeedsValue {
        /// The database.
        store: String,
        /// The column.
        column: String,
        /// The line to write.
        help: String,
    },
    /// A word of `states` that the state column cannot hold.
    #[error("{store}: the column `{column}` cannot hold the state `{word}`: it {why}")]
    #[diagnostic(
        code(WX0525),
        help("say what the column holds: states = {{ active = \"1\", suspended = \"0\" }} in [accounts]")
    )]
    BadState {
        /// The database.
        store: String,
        /// The column.
        column: String,
        /// The word.
        word: String,
        /// The reason.
        why: String,
    },
    /// Another program has the list locked.
    #[error("{store}: another program has it locked, and did not let go within {seconds} seconds")]
    #[diagnostic(
        code(WX0526),
        help(
            "nothing was changed; try again, and if it happens again, find out which program has a transaction open"
        )
    )]
    Locked {
        /// The database.
        store: String,
        /// The time waited.
        seconds: u64,
    },
    /// The database refused.
    #[error("{store}: {source}")]
    #[diagnostic(
        code(WX0513),
        help("nothing was changed; the message is the database's, and its administrator can explain it")
    )]
    Database {
        /// The database.
        store: String,
        /// The database's message.
        source: BoxError,
    },
    /// The server is not a SCIM service, or not at this URL.
    #[error("{store} {what}")]
    #[diagnostic(
        code(WX0514),
        help(
            "`service` in [accounts] is the base of the SCIM interface, below which /ServiceProviderConfig and /Users are; the application's documentation gives it"
        )
    )]
    NotScim {
        /// The service.
        store: String,
        /// What it did.
        what: String,
    },
    /// A SCIM service refused the credentials.
    #[error("{store} refuses the credentials: {reason}")]
    #[diagnostic(
        code(WX0515),
        help(
            "the credentials are `token`, or `user` and `password`, in [accounts]; a token may have expired"
        )
    )]
    Unauthorized {
        /// The service.
        store: String,
        /// Its message.
        reason: String,
    },
    /// A SCIM service did not answer.
    #[error("{store} does not answer: {reason}")]
    #[diagnostic(
        code(WX0516),
        help(
            "is the application running, and its address right? The next apply finds out what may have been in progress"
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
    /// A SCIM service returned an invalid list.
    #[error("{store}: {what}")]
    #[diagnostic(
        code(WX0518),
        help(
            "nothing is done with an incomplete list of accounts; try again, and if the problem persists, report it to the application's vendor"
        )
    )]
    Unsound {
        /// The service.
        store: String,
        /// The fault.
        what: String,
    },
    /// The store's secret is not available.
    #[error("{store} was not asked: {reason}")]
    #[diagnostic(code(WX0520), help("`token` or `password` in [accounts] gives its source"))]
    NoSecret {
        /// The store.
        store: String,
        /// The reason.
        reason: String,
    },
    /// The store has no groups.
    #[error("{store}: there is no place for the application's groups")]
    #[diagnostic(
        code(WX0522),
        help(
            "a store of the application's own must implement the methods for groups; for other stores, set [accounts.groups]"
        )
    )]
    NoGroups {
        /// The store.
        store: String,
    },
    /// A field in a place whose values the store does not keep.
    #[error(
        "{store} takes a {field} ({place}) and does not keep it, as was found on {day}: it reads as empty for everybody"
    )]
    #[diagnostic(
        code(WX0527),
        help(
            "keep {field} in another place, by `attributes` in [accounts], or remove its rule. If the service keeps it by now, tell that by a trial: webtaxon check --scratch LOGIN"
        )
    )]
    Drops {
        /// The store.
        store: String,
        /// The field.
        field: String,
        /// Its place.
        place: String,
        /// The day on which it was found.
        day: Date,
    },
    /// A login for a scratch account that is somebody's.
    #[error("{store} has an account {login} already, which is not a scratch account")]
    #[diagnostic(code(WX0528), help("name a login that nobody has, such as webtaxon.scratch"))]
    ScratchTaken {
        /// The store.
        store: String,
        /// The login.
        login: String,
    },
    /// An error of an application's own store.
    #[error("{store}: {source}")]
    #[diagnostic(
        code(WX0523),
        help("this store is the application's own: see its log, or ask its developers")
    )]
    Own {
        /// The store.
        store: String,
        /// The application's error.
        source: BoxError,
    },
    /// The settings say `store = "own"`, but the program gave none.
    #[error("the settings have store = \"own\", but the program has given no store")]
    #[diagnostic(
        code(WX0519),
        help(
            "a program gives its store by Workspace::with_store; the command has none, and needs another store in [accounts]"
        )
    )]
    NotGiven,
    /// A kind of store that this build does not support.
    #[error("this build does not support the store {0}")]
    #[diagnostic(
        code(WX0519),
        help("the application's developer must turn on the feature `{0}` of the library")
    )]
    NotBuilt(&'static str),
    /// Another error of the CSV parser.
    #[error("{} cannot be read as CSV: {source}", file.display())]
    #[diagnostic(code(WX0503), help("export the file again as CSV with commas and UTF-8"))]
    Csv {
        /// The file.
        file: PathBuf,
        /// The reason.
        source: BoxError,
    },
}

impl StoreError {
    /// The kind of error.
    #[must_use]
    pub fn kind(&self) -> &StoreErrorKind {
        &self.0
    }
}
