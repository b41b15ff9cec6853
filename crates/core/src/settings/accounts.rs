//! Where the application keeps its list of accounts, and where what is remembered from run to run is.

use super::{CsvGroups, PasswordSource, Scim, SqlGroups, Trust};
use crate::ldap::identity::Identity;
use indexmap::IndexMap;
use serde::Serialize;
use std::path::PathBuf;

/// The application's own list of accounts.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Accounts {
    /// Where the list is kept.
    pub store: StoreSettings,
    /// Logins that nothing here may touch.
    pub protected: Vec<String>,
    /// How many active accounts the licence allows.
    pub seats: Option<u64>,
    /// From logins of accounts to the link of the person whose they are.
    pub whose: IndexMap<String, Identity>,
}

/// Where the list is kept. Exhaustive on purpose: whoever opens one must know every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum StoreSettings {
    /// A CSV file (RFC 4180), beside the settings unless the path is absolute.
    Csv {
        /// The file.
        path: PathBuf,
        /// The columns' names where they are not the usual ones: from `login`, `link`, `state`,
        /// `roles` to the column.
        columns: IndexMap<String, String>,
        /// Whether it has a column for the link.
        has_links: bool,
        /// The file that has the application's groups, if it has any.
        groups: Option<CsvGroups>,
    },
    /// A table of an SQLite database.
    Sqlite {
        /// The database's file, beside the settings unless the path is absolute.
        path: PathBuf,
        /// The table.
        table: SqlTable,
    },
    /// A table of a PostgreSQL database.
    Postgres {
        /// The database.
        server: Postgres,
        /// The table; a schema may stand before it, with a dot.
        table: SqlTable,
    },
    /// A SCIM service (RFC 7644).
    Scim(Scim),
    /// A list that the application keeps in its own way, and gives to the library.
    Own {
        /// Whether it has a place for the link.
        has_links: bool,
        /// Whether it has the application's groups.
        has_groups: bool,
    },
}

impl StoreSettings {
    /// Which list it is, as the settings name it: the same wherever the settings are moved to.
    #[must_use]
    pub fn list(&self) -> String {
        match self {
            Self::Csv { path, .. } => format!("csv {}", path.display()),
            Self::Sqlite { path, table } => format!("sqlite {} {}", path.display(), table.name),
            Self::Postgres { server, table } => {
                format!("postgres {}:{} {} {}", server.host, server.port, server.database, table.name)
            }
            Self::Scim(scim) => format!("scim {}", scim.service),
            Self::Own { .. } => "own".to_owned(),
        }
    }

    /// Whether the list has a place for links; where it has none, they are kept apart from it.
    #[must_use]
    pub fn has_links(&self) -> bool {
        match self {
            Self::Csv { has_links, .. } | Self::Own { has_links, .. } => *has_links,
            Self::Sqlite { table, .. } | Self::Postgres { table, .. } => table.has_links,
            Self::Scim(_) => true,
        }
    }

    /// Whether the application's groups have a place.
    #[must_use]
    pub fn has_groups(&self) -> bool {
        match self {
            Self::Csv { groups, .. } => groups.is_some(),
            Self::Sqlite { table, .. } | Self::Postgres { table, .. } => table.groups.is_some(),
            Self::Scim(scim) => !scim.role_groups,
            Self::Own { has_groups, .. } => *has_groups,
        }
    }
}

/// Where a PostgreSQL database is, and who asks it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Postgres {
    /// A host name or address, or the folder of a local socket, which begins with a slash.
    pub host: String,
    /// The port; 5432 unless said otherwise.
    pub port: u16,
    /// The database.
    pub database: String,
    /// Who asks.
    pub user: String,
    /// Where the password comes from; none where the database asks for none.
    pub password: Option<PasswordSource>,
    /// Whose certificates are good.
    pub trust: Trust,
    /// Whether it may go over the network without encryption.
    pub plain: bool,
}

/// The schema of a PostgreSQL database that has what is remembered from run to run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct StateDatabase {
    /// The database.
    pub server: Postgres,
    /// The schema, which is Webtaxon's alone.
    pub schema: String,
}

/// A table of the application's own, one account a row.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SqlTable {
    /// Its name.
    pub name: String,
    /// The columns' names where they are not the fields' own: from the field, or `login`, `link`, `state`,
    /// `roles`, to the column.
    pub columns: IndexMap<String, String>,
    /// What the column for the state says of an account that is in use, and of one that is not; none for rows
    /// that have no state.
    pub states: Option<[String; 2]>,
    /// The table that has the roles, one a row, where they are not in a column.
    pub roles: Option<RoleTable>,
    /// Whether it has a column for the link.
    pub has_links: bool,
    /// The tables that have the application's groups, if it has any.
    pub groups: Option<SqlGroups>,
}

impl SqlTable {
    /// The application's groups as a table like this one: each a row with a name in place of a login, and its
    /// members in place of roles. None where it has none.
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
        };
        let roles = RoleTable {
            name: members.name,
            account: members.group,
            key: members.group_key,
            role: members.account,
            of: Some(accounts),
        };
        Some(Self {
            name: groups.name.clone(),
            columns: columns.into(),
            states: None,
            roles: Some(roles),
            has_links: true,
            groups: None,
        })
    }

    /// The table of the settings that says where it is.
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

/// A table of roles, one a row.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RoleTable {
    /// Its name.
    pub name: String,
    /// Its column that says whose the role is.
    pub account: String,
    /// The column of the accounts' table that it refers to.
    pub key: String,
    /// Its column with the role.
    pub role: String,
    /// The table whose rows the roles are, where they are no texts.
    pub of: Option<RowsOf>,
}

/// A table whose rows others refer to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RowsOf {
    /// Its name.
    pub table: String,
    /// The column that is referred to.
    pub key: String,
    /// The column by which a row is called.
    pub name: String,
}
