//! Where the application keeps its accounts: `[accounts]`.

use super::directory::{password, trust};
use super::groups::{csv_groups, sql_groups};
use super::table::{Table, Text, Value};
use super::values::filled;
use crate::ldap::identity::Identity;
use crate::settings::{
    Accounts, Anew, AttributePath, Credentials, DatabaseServer, PasswordSource, Removed, Scim, SettingsError,
    SideTable, SqlTable, StateDatabase, States, StoreSettings, Times, Trust,
};
use indexmap::IndexMap;
use std::path::PathBuf;

/// Keys that only some kinds of store have, and which.
const KEYS: [(&str, &[&str]); 21] = [
    ("path", &["csv", "sqlite"]),
    ("server", &["postgres", "mysql"]),
    ("database", &["postgres", "mysql"]),
    ("user", &["postgres", "mysql", "scim"]),
    ("password", &["postgres", "mysql", "scim"]),
    ("trust", &["postgres", "mysql", "scim"]),
    ("plain", &["postgres", "mysql", "scim"]),
    ("table", &["sqlite", "postgres", "mysql"]),
    ("columns", &["csv", "sqlite", "postgres", "mysql"]),
    ("links", &["csv", "sqlite", "postgres", "mysql", "own"]),
    ("states", &["sqlite", "postgres", "mysql"]),
    ("role_table", &["sqlite", "postgres", "mysql"]),
    ("more", &["sqlite", "postgres", "mysql"]),
    ("removed", &["sqlite", "postgres", "mysql"]),
    ("created", &["sqlite", "postgres", "mysql"]),
    ("touched", &["sqlite", "postgres", "mysql"]),
    ("groups", &["csv", "sqlite", "postgres", "mysql", "own"]),
    ("service", &["scim"]),
    ("token", &["scim"]),
    ("attributes", &["scim"]),
    ("role_groups", &["scim"]),
];

/// The kinds of store.
const KINDS: [&str; 6] = ["csv", "sqlite", "postgres", "mysql", "scim", "own"];

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
        "links",
        "states",
        "role_table",
        "more",
        "removed",
        "created",
        "touched",
        "service",
        "token",
        "attributes",
        "role_groups",
        "groups",
        "protected",
        "seats",
        "whose",
        "anew",
        "origin",
    ])?;
    let store = table
        .require("store", "write store = \"csv\", \"sqlite\", \"postgres\", \"mysql\" or \"scim\"")?
        .text()?;
    let kind = store.word(&KINDS.map(|kind| (kind, kind)))?;
    for (key, stores) in KEYS {
        if !stores.contains(&kind)
            && let Some(value) = table.take(key)
        {
            let help = match key {
                "groups" => "remove it: a SCIM service has groups of its own",
                _ => "remove it, or use another store",
            };
            return Err(value.bad(&format!("store = \"{kind}\" has none"), help));
        }
    }
    let store = store_settings(&mut table, kind)?;
    let protected = table.take("protected").map(Value::texts).transpose()?.unwrap_or_default();
    let protected = protected.into_iter().map(|login| login.text).collect();
    let seats = table.take("seats").map(|value| value.number(0)).transpose()?;
    let whose = table.take("whose").map(whose).transpose()?.unwrap_or_default();
    let words = [("ask", Anew::Ask), ("same-login-and-email", Anew::SameLoginAndEmail)];
    let anew = table.take("anew").map(|value| value.text()?.word(&words)).transpose()?.unwrap_or_default();
    let origin = table.take("origin").map(origin).transpose()?;
    Ok(Accounts { store, protected, seats, whose, anew, origin })
}

/// Where the accounts are, for one kind of store.
fn store_settings(table: &mut Table<'_>, kind: &str) -> Result<StoreSettings, SettingsError> {
    let links = table.take("links").map(Value::text).transpose()?;
    let words = [("list", true), ("apart", false)];
    let has_links = links.map(|links| links.word(&words)).transpose()?.unwrap_or(true);
    Ok(match kind {
        "csv" => {
            let path = file(table, "accounts.csv")?;
            let columns = table.take("columns").map(|value| csv_columns(value, has_links)).transpose()?;
            let groups = table.take("groups").map(csv_groups).transpose()?;
            StoreSettings::Csv {
                path,
                columns: columns.unwrap_or_default(),
                has_links,
                groups,
                secrets: Vec::new(),
            }
        }
        "sqlite" => {
            let path = file(table, "loans.sqlite")?;
            StoreSettings::Sqlite { path, table: sql_table(table, has_links)? }
        }
        "postgres" => {
            let server = database(table, 5432, "/run/postgresql")?;
            StoreSettings::Postgres { server, table: sql_table(table, has_links)? }
        }
        "mysql" => {
            let server = database(table, 3306, "/run/mysqld/mysqld.sock")?;
            StoreSettings::Mysql { server, table: sql_table(table, has_links)? }
        }
        "own" => {
            let has_groups = table.take("groups").map(Value::boolean).transpose()?.unwrap_or(false);
            StoreSettings::Own { has_links, has_groups }
        }
        _ => StoreSettings::Scim(scim(table)?),
    })
}

fn file(table: &mut Table<'_>, example: &str) -> Result<PathBuf, SettingsError> {
    let help = format!("name the file: path = \"{example}\"");
    let path = table.require("path", &help)?.text()?;
    if path.text.is_empty() { Err(path.bad("it is empty", &help)) } else { Ok(path.text.into()) }
}

fn csv_columns(value: Value<'_>, has_links: bool) -> Result<IndexMap<String, String>, SettingsError> {
    const OWN: [&str; 4] = ["login", "link", "state", "roles"];
    let mut columns = IndexMap::new();
    let mut named = value.table(&OWN)?;
    for key in OWN {
        if let Some(column) = named.take(key) {
            let column = column.text()?;
            no_link(key, has_links, &column)?;
            columns.insert(key.to_owned(), column.text);
        }
    }
    Ok(columns)
}

/// The field with the directory that an account comes from.
fn origin(value: Value<'_>) -> Result<String, SettingsError> {
    let field = value.text()?;
    let help = "name a field of its own, as in origin = \"source\"";
    match field.text.as_str() {
        "" => Err(field.bad("it is empty", help)),
        "login" | "link" | "state" | "roles" => Err(field.bad("this is kept otherwise", help)),
        _ => Ok(field.text),
    }
}

/// The accounts given to particular people.
fn whose(value: Value<'_>) -> Result<IndexMap<String, Identity>, SettingsError> {
    let mut whose = IndexMap::new();
    for (login, link) in value.entries("a table from login to link")? {
        let link = link.text()?;
        let empty = || link.bad("it is empty", "write the person's link, as shown by webtaxon why");
        whose.insert(login, Identity::from_link(&link.text).ok_or_else(empty)?);
    }
    Ok(whose)
}

/// The database that holds the state: `[state]`.
pub(super) fn state(value: Value<'_>) -> Result<StateDatabase, SettingsError> {
    let mut table =
        value.table(&["store", "server", "database", "user", "password", "trust", "plain", "schema"])?;
    let help = "write store = \"postgres\"; or leave [state] out: then it is a file beside the settings";
    table.require("store", help)?.text()?.word(&[("postgres", ())])?;
    let server = database(&mut table, 5432, "/run/postgresql")?;
    let schema = table.take("schema").map(|value| filled(value.text()?)).transpose()?;
    Ok(StateDatabase { server, schema: schema.unwrap_or_else(|| "webtaxon".to_owned()) })
}

/// A database on a server, and how to log in to it.
fn database(table: &mut Table<'_>, usual: u16, socket: &str) -> Result<DatabaseServer, SettingsError> {
    let help =
        &format!("name the server: server = \"db.quillmere.example\"; or its local socket: \"{socket}\"");
    let server = table.require("server", help)?.text()?;
    let (host, port) = match server.text.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') || host.ends_with(']') => (host, port.parse::<u16>().ok()),
        _ => (server.text.as_str(), Some(usual)),
    };
    let Some(port) = port.filter(|_| !host.is_empty()) else {
        return Err(server.bad(
            "this is not a server",
            &format!("write a host and, if need be, a port: \"db.quillmere.example:{usual}\""),
        ));
    };
    let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
    let database = filled(table.require("database", "name the database: database = \"loans\"")?.text()?)?;
    let user = filled(table.require("user", "give the user: user = \"loansdesk\"")?.text()?)?;
    let password = table.take("password").map(secret).transpose()?;
    let pinned = table.take("trust").map(|value| (value.place(), value));
    let trust = match pinned {
        None => Trust::System,
        Some((place, value)) => match trust(value)? {
            Trust::Pinned(_) if usual == 3306 => {
                return Err(place.bad(
                    "the client for this database cannot check a fingerprint",
                    "name the authority's certificate, or the server's own if it is self-signed: trust = { authority = \"db-ca.pem\" }",
                ));
            }
            trust => trust,
        },
    };
    let plain = table.take("plain").map(Value::boolean).transpose()?.unwrap_or(false);
    Ok(DatabaseServer { host, port, database, user, password, trust, plain })
}

/// The source of a store's secret. A prompt is refused: the store is opened several times in a run.
fn secret(value: Value<'_>) -> Result<PasswordSource, SettingsError> {
    let place = value.place();
    match password(value)? {
        PasswordSource::Ask => Err(place.bad(
            "a prompt is not possible here",
            "name another source: { env = \"…\" }, { file = \"…\" }, { command = […] } or { credential = \"…\" }",
        )),
        source => Ok(source),
    }
}

/// A SCIM service, and how to authenticate to it.
fn scim(table: &mut Table<'_>) -> Result<Scim, SettingsError> {
    let help =
        "write the base of the service's addresses: service = \"https://loans.quillmere.example/scim/v2\"";
    let service = table.require("service", help)?.text()?;
    let plain = table.take("plain").map(Value::boolean).transpose()?.unwrap_or(false);
    let is_plain = service.text.starts_with("http://");
    let address = service.text.strip_prefix("https://").or_else(|| service.text.strip_prefix("http://"));
    let is_odd = |character: char| matches!(character, '?' | '#' | '@' | '\\') || character.is_whitespace();
    if address.is_none_or(|rest| rest.is_empty() || rest.starts_with('/') || rest.contains(is_odd)) {
        return Err(service.bad("this is not the URL of a service", help));
    }
    if is_plain && !plain {
        return Err(service.bad(
            "this is not encrypted",
            "write https://, or set plain = true if anybody on the network path may read it",
        ));
    }
    let token = table.take("token");
    let unclear = token.as_ref().map(Value::place);
    let token = token.map(secret).transpose()?;
    let user = table.take("user").map(|value| filled(value.text()?)).transpose()?;
    let password = table.take("password");
    let alone = password.as_ref().map(Value::place);
    let password = password.map(secret).transpose()?;
    let credentials = match (token, user, password, unclear, alone) {
        (None, None, None, ..) => Credentials::None,
        (Some(token), None, None, ..) => Credentials::Token(token),
        (None, Some(user), Some(password), ..) => Credentials::Basic { user, password },
        (_, _, _, Some(place), _) | (_, _, _, None, Some(place)) => {
            return Err(
                place.bad("these credentials are incomplete", "keep token, or both user and password")
            );
        }
        (_, _, _, None, None) => {
            return Err(service.bad("it has a user without a password", "add password = { env = \"…\" }"));
        }
    };
    let trust = table.take("trust").map(trust).transpose()?.unwrap_or(Trust::System);
    let mut attributes = IndexMap::new();
    if let Some(value) = table.take("attributes") {
        for (field, value) in value.entries("a table from field to attribute")? {
            let text = value.text()?;
            if let Some((_, fixed)) = FIXED.iter().find(|(name, _)| *name == field) {
                return Err(text.bad(&format!("it is always {fixed}"), "remove this line"));
            }
            let path = text.text.parse::<AttributePath>().map_err(|reason| {
                text.bad(
                    &reason.to_string(),
                    "write it as in `title`, `name.givenName`, `emails[type eq \"work\"].value`, or after the URN of an extension and a colon",
                )
            })?;
            attributes.insert(field, path);
        }
    }
    let role_groups = table.take("role_groups").map(Value::boolean).transpose()?.unwrap_or(false);
    let service = service.text.trim_end_matches('/').to_owned();
    Ok(Scim { service, credentials, trust, plain, attributes, role_groups, secrets: Vec::new() })
}

/// Attributes with a fixed place in every user of a SCIM service (RFC 7643 §3.1, §4.1).
const FIXED: [(&str, &str); 3] = [("login", "userName"), ("link", "externalId"), ("state", "active")];

/// Refuses a link column if the links are kept apart from the list.
fn no_link(key: &str, has_links: bool, column: &Text<'_>) -> Result<(), SettingsError> {
    if key == "link" && !has_links {
        return Err(column.bad(
            "links kept apart from the list need no column",
            "keep this line, or links = \"apart\"; not both",
        ));
    }
    Ok(())
}

/// The table of a database, its columns and their values.
fn sql_table(table: &mut Table<'_>, has_links: bool) -> Result<SqlTable, SettingsError> {
    let name = filled(table.require("table", "name the table: table = \"account\"")?.text()?)?;
    let (mut columns, mut json) = (IndexMap::new(), Vec::new());
    if let Some(value) = table.take("columns") {
        for (field, column) in value.entries("a table from field to column")? {
            let column = match column.is_text() {
                true => column.text()?,
                false => {
                    let mut named = column.table(&["name", "as"])?;
                    let word = named.require("as", "write as = \"json\", or the column's name alone")?;
                    word.text()?.word(&[("json", ())])?;
                    json.push(field.clone());
                    named.require("name", "write { name = \"roles\", as = \"json\" }")?.text()?
                }
            };
            no_link(&field, has_links, &column)?;
            columns.insert(field, filled(column)?);
        }
    }
    let states = table.take("states").map(states).transpose()?.unwrap_or_default();
    let removed = table.take("removed").map(removed).transpose()?;
    let mut time = |key| table.take(key).map(|value| filled(value.text()?)).transpose();
    let times = Times { created: time("created")?, touched: time("touched")? };
    let mut sides = IndexMap::new();
    if let Some(value) = table.take("role_table") {
        let help =
            "write { table = \"account_role\", account = \"account_id\", key = \"id\", role = \"role\" }";
        sides.insert("roles".to_owned(), side_table(value, "role", help)?);
    }
    if let Some(value) = table.take("more") {
        for (field, value) in value.entries("a table from field to table")? {
            if ["login", "link", "state", "roles"].contains(&field.as_str()) {
                return Err(value
                    .bad("this is kept otherwise", "use role_table for roles, and columns for the others"));
            }
            let help = "write { table = \"account_email\", account = \"account_id\", key = \"id\", value = \"address\" }";
            sides.insert(field, side_table(value, "value", help)?);
        }
    }
    let groups = table.take("groups").map(sql_groups).transpose()?;
    Ok(SqlTable {
        name,
        columns,
        json,
        states: Some(states),
        removed,
        times,
        secrets: Vec::new(),
        sides,
        has_links,
        groups,
    })
}

/// The values of the state column.
fn states(value: Value<'_>) -> Result<States, SettingsError> {
    let (mut states, place) = (States::default(), value.place());
    let mut named = value.table(&["active", "suspended"])?;
    for (key, words) in [("active", &mut states.active), ("suspended", &mut states.suspended)] {
        if let Some(value) = named.take(key) {
            let place = value.place();
            *words = value.texts()?.into_iter().map(|word| word.text).collect();
            if words.is_empty() {
                return Err(
                    place.bad("it is empty", "give the column's value; the first of several is written")
                );
            }
        }
    }
    if states.active.iter().any(|word| states.suspended.contains(word)) {
        return Err(place.bad("both are the same", "give the column's value for each of them"));
    }
    Ok(states)
}

/// The mark of removed rows.
fn removed(value: Value<'_>) -> Result<Removed, SettingsError> {
    let mut named = value.table(&["column", "value"])?;
    let help = "write { column = \"deleted_at\", value = \"now\" }";
    let column = filled(named.require("column", help)?.text()?)?;
    let value = named.require("value", help)?.text()?.text;
    Ok(Removed { column, value: (value != "now").then_some(value) })
}

/// A table with one value to a row.
fn side_table(value: Value<'_>, key: &'static str, help: &str) -> Result<SideTable, SettingsError> {
    let known: &'static [&'static str] = match key {
        "role" => &["table", "account", "key", "role", "with"],
        _ => &["table", "account", "key", "value", "with"],
    };
    let mut named = value.table(known)?;
    let mut one = |key| filled(named.require(key, help)?.text()?);
    let (name, account, own, value) = (one("table")?, one("account")?, one("key")?, one(key)?);
    let mut with = IndexMap::new();
    if let Some(fixed) = named.take("with") {
        for (column, value) in fixed.entries("a table from column to value")? {
            with.insert(column, value.text()?.text);
        }
    }
    Ok(SideTable { name, account, key: own, value, of: None, with })
}
