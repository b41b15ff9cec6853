//! What SQL stores have in common: a table's columns as an account, and the statements that change it.
//!
//! Names are quoted and values are bound, always: neither a name from the settings nor a value from a
//! directory can say anything to the database.

use super::StoreErrorKind;
use std::collections::{HashMap, HashSet};
use webtaxon_core::account::{Account, Fields, State};
use webtaxon_core::apply::Edit;
use webtaxon_core::field::LIST;
use webtaxon_core::identity::Identity;
use webtaxon_core::settings::SqlTable;

/// A column, as the database describes it.
#[derive(Clone, Debug)]
pub(super) struct Column {
    pub(super) name: String,
    /// What the application's fields call it.
    pub(super) field: String,
    pub(super) is_binary: bool,
    pub(super) may_be_null: bool,
    /// Whether the database puts something there where nothing is said.
    pub(super) has_default: bool,
    /// What stands behind a value that is bound for it.
    pub(super) cast: String,
}

/// How a database wants its statements.
#[derive(Clone, Debug, Default)]
pub(super) struct Dialect {
    /// The table's name, quoted.
    pub(super) table: String,
    /// What stands before the number of a bound value.
    pub(super) mark: char,
    /// What stands behind a login that is bound, and behind a role.
    pub(super) login_cast: String,
    pub(super) role_cast: String,
}

impl Dialect {
    fn mark(&self, number: usize, cast: &str) -> String {
        format!("{}{number}{cast}", self.mark)
    }
}

impl Column {
    pub(super) fn new(table: &SqlTable, name: String) -> Self {
        let field = table.columns.iter().find(|(_, column)| **column == name);
        let field = field.map_or_else(|| name.clone(), |(field, _)| field.clone());
        let cast = String::new();
        Self { name, field, is_binary: false, may_be_null: true, has_default: false, cast }
    }
}

/// A value that is bound to a statement.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Bound {
    Null,
    Text(String),
    Bytes(Vec<u8>),
}

impl Bound {
    /// The value as text; none for null, and for bytes, which a text does not hold.
    pub(super) fn text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Null | Self::Bytes(_) => None,
        }
    }
}

/// A statement with its values; the mark with 1 behind it stands for the first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Statement {
    pub(super) text: String,
    pub(super) values: Vec<Bound>,
    /// Whether it must change exactly one row.
    pub(super) is_one: bool,
}

/// A name in double quotes (ISO 9075-2, delimited identifier).
pub(super) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// Bytes as text that is no text: a mark, then digits.
pub(super) fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold("\\x".to_owned(), |text, byte| text + &format!("{byte:02x}"))
}

fn unhex(text: &str) -> Option<Vec<u8>> {
    let digits = text.strip_prefix("\\x")?.as_bytes();
    let (pairs, rest) = digits.as_chunks::<2>();
    let byte = |pair: &[u8; 2]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    if rest.is_empty() { pairs.iter().map(byte).collect() } else { None }
}

/// A row as an account; a field that is null is left out.
pub(super) fn account(
    store: &str,
    table: &SqlTable,
    columns: &[Column],
    values: Vec<Option<String>>,
    roles: Option<&HashMap<String, Vec<String>>>,
) -> Result<Account, StoreErrorKind> {
    let mut own: HashMap<&str, String> = HashMap::new();
    let mut fields = Fields::default();
    for (column, value) in columns.iter().zip(values) {
        match (column.field.as_str(), value) {
            (name @ ("login" | "link" | "state"), value) => {
                if name == "link" && value.as_deref() == Some("") {
                    fields.insert(name.into(), Default::default()); // no link, and not null
                }
                own.insert(name, value.unwrap_or_default());
            }
            (_, Some(value)) => {
                fields.insert(column.field.as_str().into(), value.into());
            }
            (_, None) => {}
        }
    }
    let login = own.remove("login").unwrap_or_default().trim().to_owned();
    let bad = |what: String, help| StoreErrorKind::BadRow {
        store: store.to_owned(),
        login: login.clone(),
        what,
        help,
    };
    if login.is_empty() {
        return Err(bad(
            "has no login".to_owned(),
            "every account has a login, by which the person signs in",
        ));
    }
    let said = own.get("state").map(|said| said.trim()).unwrap_or_default();
    let [active, suspended] = &table.states;
    let state = match said {
        said if said == active => State::Active,
        said if said == suspended => State::Suspended,
        said => {
            let what = format!("has the state `{said}`, which is neither `{active}` nor `{suspended}`");
            return Err(bad(
                what,
                "say what the column holds: states = { active = \"1\", suspended = \"0\" }",
            ));
        }
    };
    if let (Some(all), Some(role_table)) = (roles, &table.roles) {
        let key = columns.iter().find(|column| column.name == role_table.key).map(|column| &column.field);
        let key = key.and_then(|field| match field.as_str() {
            "login" => Some(login.as_str()),
            field => fields.get(field).map(|value| value.as_str()),
        });
        let list = key.and_then(|key| all.get(key)).map(|list| list.join(&LIST.to_string()));
        fields.insert("roles".into(), list.unwrap_or_default().into());
    }
    let link = own.get("link").and_then(|link| Identity::from_link(link));
    Ok(Account { login, link, state, fields })
}

/// What a column holds of an account.
fn held(table: &SqlTable, column: &Column, account: &Account) -> Bound {
    let text = match column.field.as_str() {
        "state" => {
            let [active, suspended] = &table.states;
            if account.state == State::Active { active } else { suspended }
        }
        field => account.value(field),
    };
    match text {
        "" if column.may_be_null && !account.fields.contains_key(column.field.as_str()) => Bound::Null,
        text if column.is_binary => unhex(text).map_or_else(|| Bound::Text(text.to_owned()), Bound::Bytes),
        text => Bound::Text(text.to_owned()),
    }
}

fn items(list: &str) -> Vec<&str> {
    list.split(LIST).map(str::trim).filter(|role| !role.is_empty()).collect()
}

/// The statements that make a group of edits, each with the account that stands in the table for it. Of a ring
/// (see [`webtaxon_core::apply::order`]) the first is put aside, and made last.
pub(super) fn in_turn(
    table: &SqlTable,
    columns: &[Column],
    dialect: &Dialect,
    group: &[(&Edit, Option<&Account>)],
) -> Vec<Statement> {
    let Some(((first, there), _)) = group.split_first().filter(|(_, rest)| !rest.is_empty()) else {
        return group
            .iter()
            .flat_map(|(edit, there)| statements(table, columns, dialect, edit, *there))
            .collect();
    };
    let Some(there) = there else { return Vec::new() };
    // No login has a line break in it.
    let aside = Account { login: format!("\n{}", there.login), ..(*there).clone() };
    let login = quoted(table.column("login"));
    let mut all = vec![Statement {
        text: format!(
            "UPDATE {} SET {login} = {} WHERE {login} = {}",
            dialect.table,
            dialect.mark(1, &dialect.login_cast),
            dialect.mark(2, &dialect.login_cast)
        ),
        values: [&aside, *there].map(|account| Bound::Text(account.login.clone())).to_vec(),
        is_one: true,
    }];
    for (edit, there) in group.iter().skip(1).rev() {
        all.extend(statements(table, columns, dialect, edit, *there));
    }
    all.extend(statements(table, columns, dialect, first, Some(&aside)));
    all
}

/// The statements that make an edit, to the account that stands in the table as `there`.
fn statements(
    table: &SqlTable,
    columns: &[Column],
    dialect: &Dialect,
    edit: &Edit,
    there: Option<&Account>,
) -> Vec<Statement> {
    let name = &dialect.table;
    let (login_mark, role_mark) = (dialect.mark(1, &dialect.login_cast), dialect.mark(2, &dialect.role_cast));
    let login = quoted(table.column("login"));
    let mut statements = Vec::new();
    let mut push = |text: String, values: Vec<Bound>, is_one| {
        statements.push(Statement { text, values, is_one });
    };
    let text = |text: &str| Bound::Text(text.to_owned());
    // The row of roles is found by what the account's own row says of it.
    let key = |role_table: &webtaxon_core::settings::RoleTable| {
        format!("(SELECT {} FROM {name} WHERE {login} = {login_mark})", quoted(&role_table.key))
    };
    let add = |role_table: &webtaxon_core::settings::RoleTable| {
        format!(
            "INSERT INTO {} ({}, {}) VALUES ({}, {role_mark})",
            quoted(&role_table.name),
            quoted(&role_table.account),
            quoted(&role_table.role),
            key(role_table)
        )
    };
    let drop_where = |role_table: &webtaxon_core::settings::RoleTable| {
        format!(
            "DELETE FROM {} WHERE {} = {}",
            quoted(&role_table.name),
            quoted(&role_table.account),
            key(role_table)
        )
    };
    match (&edit.after, there) {
        (None, Some(there)) => {
            if let Some(roles) = &table.roles {
                push(drop_where(roles), vec![text(&there.login)], false);
            }
            push(format!("DELETE FROM {name} WHERE {login} = {login_mark}"), vec![text(&there.login)], true);
        }
        (Some(after), None) => {
            // A column that an account says nothing of keeps what the database puts there.
            let has = |column: &&Column| {
                ["login", "link", "state"].contains(&column.field.as_str())
                    || after.fields.contains_key(column.field.as_str())
                    || !(column.may_be_null || column.has_default)
            };
            let own: Vec<&Column> = columns.iter().filter(has).collect();
            let names: Vec<String> = own.iter().map(|column| quoted(&column.name)).collect();
            let marks = own.iter().enumerate().map(|(at, column)| dialect.mark(at + 1, &column.cast));
            let marks: Vec<String> = marks.collect();
            let values = own.iter().map(|column| held(table, column, after)).collect();
            push(
                format!("INSERT INTO {name} ({}) VALUES ({})", names.join(", "), marks.join(", ")),
                values,
                true,
            );
            if let Some(roles) = &table.roles {
                for role in items(after.field("roles")) {
                    push(add(roles), vec![text(&after.login), text(role)], true);
                }
            }
        }
        (Some(after), Some(there)) => {
            let changed = edit.fields();
            let own: Vec<&Column> =
                columns.iter().filter(|column| changed.contains_key(column.field.as_str())).collect();
            if let (Some(roles), true) = (&table.roles, changed.contains_key("roles")) {
                let (old, new) = (items(there.field("roles")), items(after.field("roles")));
                for role in old.iter().filter(|role| !new.contains(role)) {
                    let sql = format!("{} AND {} = {role_mark}", drop_where(roles), quoted(&roles.role));
                    push(sql, vec![text(&there.login), text(role)], false);
                }
                for role in new.iter().filter(|role| !old.contains(role)) {
                    push(add(roles), vec![text(&there.login), text(role)], true);
                }
            }
            if !own.is_empty() {
                let sets: Vec<String> = own
                    .iter()
                    .enumerate()
                    .map(|(at, column)| {
                        format!("{} = {}", quoted(&column.name), dialect.mark(at + 1, &column.cast))
                    })
                    .collect();
                let mut values: Vec<Bound> = own.iter().map(|column| held(table, column, after)).collect();
                values.push(text(&there.login));
                let sql = format!(
                    "UPDATE {name} SET {} WHERE {login} = {}",
                    sets.join(", "),
                    dialect.mark(values.len(), &dialect.login_cast)
                );
                push(sql, values, true);
            }
        }
        (None, None) => {}
    }
    statements
}

/// That the table has a column for everything that is needed.
pub(super) fn complete(
    store: &str,
    table: &SqlTable,
    columns: &[Column],
    fields: &[&str],
) -> Result<(), StoreErrorKind> {
    let own = ["login", "link", "state"];
    for field in own.into_iter().chain(fields.iter().copied().filter(|field| !own.contains(field))) {
        let is_there =
            columns.iter().any(|column| column.field == field) || (field == "roles" && table.roles.is_some());
        if is_there {
            continue;
        }
        let has: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
        let help = format!(
            "say what it is called: [accounts.columns] {field} = \"…\", or add a column; the table has {}",
            has.join(", ")
        );
        let (store, table, column) = (store.to_owned(), table.name.clone(), table.column(field).to_owned());
        return Err(StoreErrorKind::NoTableColumn { store, table, column, help });
    }
    match &table.roles {
        Some(roles) if !columns.iter().any(|column| column.name == roles.key) => {
            let help = "`key` in role_table names the column that the roles refer to".to_owned();
            let (store, table, column) = (store.to_owned(), table.name.clone(), roles.key.clone());
            Err(StoreErrorKind::NoTableColumn { store, table, column, help })
        }
        _ => Ok(()),
    }
}

/// That no other account has the login or the link of this one.
pub(super) fn once(
    store: &str,
    account: &Account,
    logins: &mut HashSet<String>,
    links: &mut HashSet<Identity>,
) -> Result<(), StoreErrorKind> {
    let what = if !logins.insert(Account::login_key(&account.login)) {
        "login"
    } else if account.link.as_ref().is_some_and(|link| !links.insert(link.clone())) {
        "link"
    } else {
        return Ok(());
    };
    Err(StoreErrorKind::BadRow {
        store: store.to_owned(),
        login: account.login.clone(),
        what: format!("is there twice, by its {what}"),
        help: "no two accounts may have one login or one link (case does not matter)",
    })
}
