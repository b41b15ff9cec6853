//! Where the application keeps its own list of accounts: `[accounts]`.

use super::read_directory::{password, trust};
use super::table::{Table, Text, Value};
use super::{Accounts, Postgres, RoleTable, SettingsError, SqlTable, StoreSettings, Trust};
use indexmap::IndexMap;
use std::path::PathBuf;

pub(super) fn accounts(value: Value<'_>) -> Result<Accounts, SettingsError> {
    let mut table = value.table(&[
        "store",
        "path",
        "server",
        "database",
        "user",
        "password",
        "trust",
        "plain",
        "table",
        "columns",
        "states",
        "role_table",
        "protected",
        "seats",
    ])?;
    let store = table.require("store", "write store = \"csv\", \"sqlite\" or \"postgres\"")?.text()?;
    let kind = store.word(&[("csv", "csv"), ("sqlite", "sqlite"), ("postgres", "postgres")])?;
    let others: &[&str] = match kind {
        "csv" => {
            &["server", "database", "user", "password", "trust", "plain", "table", "states", "role_table"]
        }
        "sqlite" => &["server", "database", "user", "password", "trust", "plain"],
        _ => &["path"],
    };
    for key in others {
        if let Some(value) = table.take(key) {
            return Err(
                value.bad(&format!("store = \"{kind}\" has none"), "take it out, or name another store")
            );
        }
    }
    let file = |table: &mut Table<'_>, name: &str| -> Result<PathBuf, SettingsError> {
        let help = format!("name the file: path = \"{name}\"");
        let path = table.require("path", &help)?.text()?;
        if path.text.is_empty() { Err(path.bad("it is empty", &help)) } else { Ok(path.text.into()) }
    };
    let store = match kind {
        "csv" => {
            let path = file(&mut table, "accounts.csv")?;
            let mut columns = IndexMap::new();
            if let Some(value) = table.take("columns") {
                let mut named = value.table(&["login", "link", "state", "roles"])?;
                for key in ["login", "link", "state", "roles"] {
                    if let Some(column) = named.take(key) {
                        columns.insert(key.to_owned(), column.text()?.text);
                    }
                }
            }
            StoreSettings::Csv { path, columns }
        }
        "sqlite" => {
            let path = file(&mut table, "loans.sqlite")?;
            StoreSettings::Sqlite { path, table: sql_table(&mut table)? }
        }
        _ => StoreSettings::Postgres { server: postgres(&mut table)?, table: sql_table(&mut table)? },
    };
    let protected = table.take("protected").map(Value::texts).transpose()?.unwrap_or_default();
    let seats = table.take("seats").map(|value| value.number(0)).transpose()?;
    Ok(Accounts { store, protected: protected.into_iter().map(|login| login.text).collect(), seats })
}

/// Where a PostgreSQL database is, and who asks it.
fn postgres(table: &mut Table<'_>) -> Result<Postgres, SettingsError> {
    let help = "name the server: server = \"db.quillmere.example\"; or the folder of its socket: \"/run/postgresql\"";
    let server = table.require("server", help)?.text()?;
    let (host, port) = match server.text.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') || host.ends_with(']') => (host, port.parse::<u16>().ok()),
        _ => (server.text.as_str(), Some(5432)),
    };
    let Some(port) = port.filter(|_| !host.is_empty()) else {
        return Err(server.bad(
            "this is no server",
            "write a host and, if need be, a port: \"db.quillmere.example:5432\"",
        ));
    };
    let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
    let database = filled(table.require("database", "name the database: database = \"loans\"")?.text()?)?;
    let user = filled(table.require("user", "say who asks: user = \"loansdesk\"")?.text()?)?;
    let password = table.take("password").map(password).transpose()?;
    let trust = table.take("trust").map(trust).transpose()?.unwrap_or(Trust::System);
    let plain = table.take("plain").map(Value::boolean).transpose()?.unwrap_or(false);
    Ok(Postgres { host, port, database, user, password, trust, plain })
}

/// The table of a database, and what its columns are called and say.
fn sql_table(table: &mut Table<'_>) -> Result<SqlTable, SettingsError> {
    let name = filled(table.require("table", "name the table: table = \"account\"")?.text()?)?;
    let mut columns = IndexMap::new();
    if let Some(value) = table.take("columns") {
        for (field, column) in value.entries("a table from field to column")? {
            columns.insert(field, filled(column.text()?)?);
        }
    }
    let mut states = ["active".to_owned(), "suspended".to_owned()];
    if let Some(value) = table.take("states") {
        let place = value.place();
        let mut named = value.table(&["active", "suspended"])?;
        for (key, state) in ["active", "suspended"].into_iter().zip(&mut states) {
            if let Some(value) = named.take(key) {
                *state = value.text()?.text;
            }
        }
        let [active, suspended] = &states;
        if active == suspended {
            return Err(place.bad("both are the same", "say what the column holds for each of them"));
        }
    }
    let roles = match table.take("role_table") {
        None => None,
        Some(value) => {
            let mut named = value.table(&["table", "account", "key", "role"])?;
            let help =
                "write { table = \"account_role\", account = \"account_id\", key = \"id\", role = \"role\" }";
            let mut one = |key| filled(named.require(key, help)?.text()?);
            Some(RoleTable {
                name: one("table")?,
                account: one("account")?,
                key: one("key")?,
                role: one("role")?,
            })
        }
    };
    Ok(SqlTable { name, columns, states, roles })
}

/// A name that is there.
fn filled(text: Text<'_>) -> Result<String, SettingsError> {
    if text.text.is_empty() || text.text.contains('\0') {
        return Err(text.bad("this is no name", "write the name as the database has it"));
    }
    Ok(text.text)
}
