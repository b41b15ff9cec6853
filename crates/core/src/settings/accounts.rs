//! Where the application keeps its accounts, and where the state between runs is kept.

use super::{CsvGroups, PasswordSource, Scim, SqlGroups, Trust};
use crate::ldap::identity::Identity;
use indexmap::IndexMap;
use serde::Serialize;
use std::path::PathBuf;

/// The application's accounts.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Accounts {
    /// Where they are kept.
    pub store: StoreSettings,
    /// Logins that are never touched.
    pub protected: Vec<String>,
    /// Number of active accounts that the licence allows.
    pub seats: Option<u64>,
    /// The administrator's words on accounts: logins, each with the identity of the person that the account is given
    /// to.
    pub whose: IndexMap<String, Identity>,
    /// The owner of an account if its person's entry was deleted, and another one with the same values is there.
    pub anew: Anew,
    /// The field that says which directory an account comes from. Each intake fills it with the name of its directory.
    pub origin: Option<String>,
}

/// The rule for an account whose person's entry is gone, while a new entry has its login and another of its unique
/// values: most likely the same person, whose entry was made anew.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Anew {
    /// An administrator decides.
    #[default]
    Ask,
    /// The account is linked to the new entry if both the login and the field `email` are the same.
    SameLoginAndEmail,
}

/// The kinds of account store. Exhaustive on purpose: code that opens one must handle every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum StoreSettings {
    /// A CSV file (RFC 4180), relative to the settings file.
    Csv {
        /// The file.
        path: PathBuf,
        /// Columns with other than the usual names: from `login`, `link`, `state`, `roles` to the column.
        columns: IndexMap<String, String>,
        /// Whether it has a column for links.
        has_links: bool,
        /// The file with the application's groups, if any.
        groups: Option<CsvGroups>,
        /// Fields that are written in new rows, and never read.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        secrets: Vec<String>,
    },
    /// A table in an SQLite database.
    Sqlite {
        /// The database file, relative to the settings file.
        path: PathBuf,
        /// The table.
        table: SqlTable,
    },
    /// A table in a PostgreSQL database.
    Postgres {
        /// The database.
        server: DatabaseServer,
        /// The table, optionally with its schema and a dot in front.
        table: SqlTable,
    },
    /// A table in a MySQL or MariaDB database.
    Mysql {
        /// The database.
        server: DatabaseServer,
        /// The table, optionally with its database and a dot in front.
        table: SqlTable,
    },
    /// A SCIM service (RFC 7644).
    Scim(Scim),
    /// A store that the application implements itself.
    Own {
        /// Whether it can store links.
        has_links: bool,
        /// Whether it has groups.
        has_groups: bool,
    },
}

impl StoreSettings {
    /// The identity of the list, from the settings: unaffected by moving the settings file.
    #[must_use]
    pub fn list(&self) -> String {
        match self {
            Self::Csv { path, .. } => format!("csv {}", path.display()),
            Self::Sqlite { path, table } => format!("sqlite {} {}", path.display(), table.name),
            Self::Postgres { server, table } => {
                format!("postgres {}:{} {} {}", server.host, server.port, server.database, table.name)
            }
            Self::Mysql { server, table } => {
                format!("mysql {}:{} {} {}", server.host, server.port, server.database, table.name)
            }
            Self::Scim(scim) => format!("scim {}", scim.service),
            Self::Own { .. } => "own".to_owned(),
        }
    }

    /// True if a table beside that of the accounts has the field.
    pub(crate) fn is_beside(&self, field: &str) -> bool {
        match self {
            Self::Sqlite { table, .. } | Self::Postgres { table, .. } | Self::Mysql { table, .. } => {
                table.sides.contains_key(field)
            }
            Self::Csv { .. } | Self::Scim(_) | Self::Own { .. } => false,
        }
    }

    /// Names the fields that are never read.
    pub(crate) fn keep_secret(&mut self, fields: Vec<String>) {
        match self {
            Self::Csv { secrets, .. } => *secrets = fields,
            Self::Sqlite { table, .. } | Self::Postgres { table, .. } | Self::Mysql { table, .. } => {
                table.secrets = fields;
            }
            Self::Scim(scim) => scim.secrets = fields,
            Self::Own { .. } => {}
        }
    }

    /// Whether the store can hold links; if not, they are kept in the state.
    #[must_use]
    pub fn has_links(&self) -> bool {
        match self {
            Self::Csv { has_links, .. } | Self::Own { has_links, .. } => *has_links,
            Self::Sqlite { table, .. } | Self::Postgres { table, .. } | Self::Mysql { table, .. } => {
                table.has_links
            }
            Self::Scim(_) => true,
        }
    }

    /// Whether the store has groups.
    #[must_use]
    pub fn has_groups(&self) -> bool {
        match self {
            Self::Csv { groups, .. } => groups.is_some(),
            Self::Sqlite { table, .. } | Self::Postgres { table, .. } | Self::Mysql { table, .. } => {
                table.groups.is_some()
            }
            Self::Scim(scim) => !scim.role_groups,
            Self::Own { has_groups, .. } => *has_groups,
        }
    }
}

/// A database on a server, and how to log in to it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct DatabaseServer {
    /// A host name or address; or, beginning with a slash, the folder of a local socket, or for MySQL the socket.
    pub host: String,
    /// The port; by default that of the kind of server.
    pub port: u16,
    /// The database.
    pub database: String,
    /// The user.
    pub user: String,
    /// The source of the password; `None` if the database asks for none.
    pub password: Option<PasswordSource>,
    /// The trusted certificates.
    pub trust: Trust,
    /// Whether an unencrypted network connection is allowed.
    pub plain: bool,
}

/// The PostgreSQL schema that holds the state between runs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct StateDatabase {
    /// The database.
    pub server: DatabaseServer,
    /// The schema; no other program may use it.
    pub schema: String,
}

/// A table of accounts, one to a row.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct SqlTable {
    /// Its name.
    pub name: String,
    /// Columns with other names than their fields: from the field, or `login`, `link`, `state`, `roles`, to the
    /// column.
    pub columns: IndexMap<String, String>,
    /// Fields whose column holds a JSON list of texts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub json: Vec<String>,
    /// The values of the state column; `None` if the table has no state column.
    pub states: Option<States>,
    /// The column that marks removed rows, which stay in the table; `None` if they are deleted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub removed: Option<Removed>,
    /// The columns that get the time when a row is created, and whenever it changes.
    #[serde(skip_serializing_if = "Times::is_empty")]
    pub times: Times,
    /// Fields that are written in new rows, and never read.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub secrets: Vec<String>,
    /// Tables with one value to a row, by field: `roles`, and others.
    pub sides: IndexMap<String, SideTable>,
    /// Whether it has a column for links.
    pub has_links: bool,
    /// The tables with the application's groups, if any.
    pub groups: Option<SqlGroups>,
}

impl SqlTable {
    /// The groups as a table like this one: the name in place of the login, the members in place of roles. `None`
    /// without groups.
    #[must_use]
    pub fn of_groups(&self) -> Option<Self> {
        let groups = self.groups.as_ref()?;
        let column = |own: &str| groups.columns.get(own).cloned().unwrap_or_else(|| own.to_owned());
        let columns = [("login", "name"), ("link", "link")].map(|(own, name)| (own.to_owned(), column(name)));
        let members = groups.members.clone();
        let accounts = RowsOf {
            table: self.name.clone(),
            key: members.account_key,
            name: self.column("login").to_owned(),
            removed: self.removed.clone(),
        };
        let roles = SideTable {
            name: members.name,
            account: members.group,
            key: members.group_key,
            value: members.account,
            of: Some(accounts),
            with: IndexMap::new(),
        };
        Some(Self {
            name: groups.name.clone(),
            columns: columns.into(),
            sides: IndexMap::from([("roles".to_owned(), roles)]),
            has_links: true,
            ..Self::default()
        })
    }

    /// The section of the settings that describes it.
    #[must_use]
    pub fn place(&self) -> &'static str {
        if self.states.is_some() { "[accounts]" } else { "[accounts.groups]" }
    }

    /// The column of a field.
    #[must_use]
    pub fn column<'a>(&'a self, field: &'a str) -> &'a str {
        self.columns.get(field).map_or(field, String::as_str)
    }
}

/// The values of a state column. The first of each list is written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct States {
    /// Values of active accounts.
    pub active: Vec<String>,
    /// Values of suspended accounts.
    pub suspended: Vec<String>,
}

impl Default for States {
    fn default() -> Self {
        Self { active: vec!["active".to_owned()], suspended: vec!["suspended".to_owned()] }
    }
}

/// The mark of removed rows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Removed {
    /// The column.
    pub column: String,
    /// Its value in removed rows; `None` for the time of removal, any value being a mark.
    pub value: Option<String>,
}

/// Columns that hold times.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Times {
    /// The column with the time when a row was created.
    pub created: Option<String>,
    /// The column with the time of its latest change.
    pub touched: Option<String>,
}

impl Times {
    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.created.is_none() && self.touched.is_none()
    }
}

/// A table with one value to a row, such as a role of an account.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SideTable {
    /// Its name.
    pub name: String,
    /// The column that identifies the account.
    pub account: String,
    /// The column of the accounts table that it refers to.
    pub key: String,
    /// The column with the value.
    pub value: String,
    /// The table with the names of values, if the values are references to its rows.
    pub of: Option<RowsOf>,
    /// Columns with a fixed value: rows with other values are not read, and new rows get these.
    #[serde(skip_serializing_if = "IndexMap::is_empty")]
    pub with: IndexMap<String, String>,
}

/// A table that others refer to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RowsOf {
    /// Its name.
    pub table: String,
    /// The column that references point to.
    pub key: String,
    /// The column with the name of a row.
    pub name: String,
    /// The column that marks removed rows.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub removed: Option<Removed>,
}
