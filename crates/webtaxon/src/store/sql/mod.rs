//! Shared by SQL stores: accounts as rows of a table, and the statements that change them.
//!
//! Names are always quoted and values always bound: neither a name in the settings nor a directory value can inject
//! SQL.

mod rows;

pub(super) use rows::Rows;

use super::{StoreErrorKind, apart};
use crate::sql_names::quoted;
use std::collections::HashMap;
use std::sync::Arc;
use webtaxon_core::account::{Account, State};
use webtaxon_core::apply::{Edit, Standing, order};
use webtaxon_core::settings::rules::LIST;
use webtaxon_core::settings::{RoleTable, RowsOf, SqlTable};

/// A column, as described by the database.
#[derive(Clone, Debug)]
pub(super) struct Column {
    pub(super) name: String,
    /// The application's field.
    pub(super) field: String,
    pub(super) is_binary: bool,
    pub(super) may_be_null: bool,
    /// Whether the database has a default for it.
    pub(super) has_default: bool,
    /// The cast after a bound value.
    pub(super) cast: String,
}

/// A database's dialect of SQL.
#[derive(Clone, Debug)]
pub(super) struct Dialect {
    /// The table's quoted name.
    pub(super) table: String,
    /// The character in front of a placeholder's number.
    pub(super) mark: char,
    /// The casts after a bound login and a bound role.
    pub(super) login_cast: String,
    pub(super) role_cast: String,
    /// Quotes a table's name.
    pub(super) name_of: fn(&str) -> String,
    /// Whether many rows can be passed as one array for each column.
    pub(super) takes_arrays: bool,
    /// The statement that a script begins with, so that its literals are read as written.
    pub(super) preamble: &'static str,
}

impl Dialect {
    /// The dialect for a table of which only the name is known.
    pub(super) fn new(table: &str, mark: char, name_of: fn(&str) -> String) -> Self {
        Self {
            table: name_of(table),
            mark,
            login_cast: String::new(),
            role_cast: String::new(),
            name_of,
            takes_arrays: false,
            preamble: "",
        }
    }

    fn mark(&self, number: usize, cast: &str) -> String {
        format!("{}{number}{cast}", self.mark)
    }

    /// The expression for a bound role in the table of roles.
    fn role(&self, roles: &RoleTable, mark: &str) -> String {
        let cast = &self.role_cast;
        match &roles.of {
            None => format!("{mark}{cast}"),
            Some(RowsOf { table, key, name }) => {
                let (table, key, name) = ((self.name_of)(table), quoted(key), quoted(name));
                format!("(SELECT {key} FROM {table} WHERE {name} = {mark}{cast})")
            }
        }
    }

    /// A statement with its values in place of the placeholders.
    fn written_out(&self, statement: &Statement) -> String {
        let mut out = String::new();
        let mut is_name = false;
        let mut rest = statement.text.one.chars().peekable();
        while let Some(character) = rest.next() {
            is_name ^= character == '"';
            if character != self.mark || is_name {
                out.push(character);
                continue;
            }
            let mut number = 0;
            while let Some(digit) = rest.peek().and_then(|next| next.to_digit(10)) {
                number = number * 10 + digit as usize;
                rest.next();
            }
            let value = number.checked_sub(1).and_then(|at| statement.values.get(at));
            out += &value.map_or_else(|| "NULL".to_owned(), literal);
        }
        out
    }

    /// An INSERT statement: its beginning, and an expression for each value with its placeholder; if the database
    /// accepts arrays, also its form for many rows.
    fn adding(&self, into: &str, values: &[&dyn Fn(&str) -> String]) -> Text {
        let all = |mark: &dyn Fn(usize) -> String| -> String {
            let values = values.iter().enumerate().map(|(at, value)| value(&mark(at + 1)));
            values.collect::<Vec<_>>().join(", ")
        };
        let one = format!("{into} VALUES ({})", all(&|number| format!("{}{number}", self.mark)));
        let many = self.takes_arrays.then(|| {
            let numbers = || 1..=values.len();
            let arrays: Vec<String> =
                numbers().map(|number| format!("{}{number}::text[]", self.mark)).collect();
            let names: Vec<String> = numbers().map(|number| format!("c{number}")).collect();
            let (arrays, names) = (arrays.join(", "), names.join(", "));
            let row = all(&|number| format!("many.c{number}"));
            format!("{into} SELECT {row} FROM unnest({arrays}) AS many ({names})").into()
        });
        Text { one: one.into(), many }
    }
}

impl Column {
    pub(super) fn new(table: &SqlTable, name: String) -> Self {
        let field = table.columns.iter().find(|(_, column)| **column == name);
        // A column with the name of a field that is mapped to another column belongs to the application.
        let is_another =
            |name: &str| table.columns.contains_key(name) || (name == "state" && table.states.is_none());
        let own = |name: &str| match is_another(name) {
            true => quoted(name),
            false => name.to_owned(),
        };
        let field = field.map_or_else(|| own(&name), |(field, _)| field.clone());
        let cast = String::new();
        Self { name, field, is_binary: false, may_be_null: true, has_default: false, cast }
    }
}

/// A bound value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Bound {
    Null,
    Text(String),
    Bytes(Vec<u8>),
}

impl Bound {
    /// The value as text; `None` for null and for bytes.
    #[cfg(feature = "postgres")]
    pub(super) fn text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Null | Self::Bytes(_) => None,
        }
    }
}

/// A statement with its values; placeholders are numbered from 1.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Statement {
    pub(super) text: Text,
    pub(super) values: Vec<Bound>,
    /// Whether it must change exactly one row.
    pub(super) is_one: bool,
    /// Whether it refers to a row inserted by another statement.
    pub(super) comes_after: bool,
}

/// The text of a statement.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Text {
    pub(super) one: Arc<str>,
    /// The form for many rows, with array values; `None` if there is none.
    pub(super) many: Option<Arc<str>>,
}

impl From<String> for Text {
    fn from(one: String) -> Self {
        Self { one: one.into(), many: None }
    }
}

/// A value as an SQL literal (ISO 9075-2).
fn literal(value: &Bound) -> String {
    match value {
        Bound::Null => "NULL".to_owned(),
        Bound::Text(text) if text.contains('\0') => format!("CAST(X'{}' AS TEXT)", hex(text.as_bytes())),
        Bound::Text(text) => format!("'{}'", text.replace('\'', "''")),
        Bound::Bytes(bytes) => format!("X'{}'", hex(bytes)),
    }
}

/// A text on one line, for a comment.
fn plain(text: &str) -> String {
    let is_break = |character: char| character.is_control() || matches!(character, '\u{2028}' | '\u{2029}');
    text.chars().map(|character| if is_break(character) { ' ' } else { character }).collect()
}

/// Two digits for each byte.
fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Bytes that are not text, as a prefix and hexadecimal digits.
#[cfg(feature = "sqlite")]
pub(super) fn marked(bytes: &[u8]) -> String {
    format!("\\x{}", hex(bytes))
}

fn unhex(text: &str) -> Option<Vec<u8>> {
    let digits = text.strip_prefix("\\x")?.as_bytes();
    let (pairs, rest) = digits.as_chunks::<2>();
    let byte = |pair: &[u8; 2]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    if rest.is_empty() { pairs.iter().map(byte).collect() } else { None }
}

/// An account's value for a column.
fn held(table: &SqlTable, column: &Column, account: &Account) -> Bound {
    let text = match column.field.as_str() {
        "state" if let Some([active, suspended]) = &table.states => {
            if account.state == State::Active {
                active
            } else {
                suspended
            }
        }
        field => account.value(field),
    };
    match text {
        "" if column.may_be_null && !account.fields.contains_key(column.field.as_str()) => Bound::Null,
        text if column.is_binary => unhex(text).map_or_else(|| Bound::Text(text.to_owned()), Bound::Bytes),
        text => Bound::Text(text.to_owned()),
    }
}

/// The logins of the edited accounts, if no others need to be read: no account is created, and no unique field
/// changes.
pub(super) fn concerned<'e>(edits: &'e [Edit], unique: &[&str]) -> Option<Vec<&'e str>> {
    let is_unique =
        |name: &String| ["login", "link"].contains(&name.as_str()) || unique.contains(&name.as_str());
    let login = |edit: &'e Edit| {
        let before = edit.before.as_ref()?;
        let is_alone = edit.after.is_none() || !edit.fields().keys().any(is_unique);
        is_alone.then_some(before.login.as_str())
    };
    edits.iter().map(login).collect()
}

/// Whether these are all accounts of the edits, as they were known. If not, the whole list is read.
pub(super) fn are_all(accounts: &[Account], edits: &[Edit]) -> bool {
    let by_login: HashMap<&str, &Account> = accounts.iter().map(|one| (one.login.as_str(), one)).collect();
    let is_there = |edit: &Edit| {
        edit.before.as_ref().is_some_and(|before| {
            by_login.get(before.login.as_str()).is_some_and(|there| there.link == before.link)
        })
    };
    accounts.len() == edits.len() && by_login.len() == edits.len() && edits.iter().all(is_there)
}

fn items(list: &str) -> Vec<&str> {
    list.split(LIST).map(str::trim).filter(|role| !role.is_empty()).collect()
}

/// Writes the statements for edits. The INSERT for each set of columns is built once.
pub(super) struct Writer<'t> {
    table: &'t SqlTable,
    columns: &'t [Column],
    dialect: &'t Dialect,
    inserts: HashMap<Vec<usize>, Text>,
    add_role: Option<Text>,
}

impl<'t> Writer<'t> {
    pub(super) fn new(table: &'t SqlTable, columns: &'t [Column], dialect: &'t Dialect) -> Self {
        let mut writer = Self { table, columns, dialect, inserts: HashMap::new(), add_role: None };
        writer.add_role = table.roles.as_ref().map(|roles| {
            let into = format!(
                "INSERT INTO {} ({}, {})",
                quoted(&roles.name),
                quoted(&roles.account),
                quoted(&roles.role)
            );
            let key = |mark: &str| writer.key(roles, mark);
            let role = |mark: &str| dialect.role(roles, mark);
            dialect.adding(&into, &[&key, &role])
        });
        writer
    }

    /// The value that the table of roles has for an account, found by its login at a placeholder.
    fn key(&self, roles: &RoleTable, mark: &str) -> String {
        let Dialect { table, login_cast, .. } = self.dialect;
        let login = quoted(self.table.column("login"));
        format!("(SELECT {} FROM {table} WHERE {login} = {mark}{login_cast})", quoted(&roles.key))
    }

    /// The edits that are ready, by index, in groups and in an order that works, each group with its statements.
    pub(super) fn in_order<'w>(
        &'w mut self,
        edits: &'w [Edit],
        standings: &'w [Standing],
        accounts: &'w [Account],
    ) -> impl Iterator<Item = (Vec<usize>, Vec<Statement>)> + use<'w, 't> {
        order(edits, standings, accounts).into_iter().map(move |group| {
            let of = |place: &usize| match standings.get(*place)? {
                Standing::Ready(at) => Some((edits.get(*place)?, at.and_then(|at| accounts.get(at)))),
                _ => None,
            };
            let list: Vec<(&Edit, Option<&Account>)> = group.iter().filter_map(of).collect();
            let statements = self.in_turn(&list);
            (group, statements)
        })
    }

    /// The script of one transaction with all edits, for an administrator to review and run. Edits that cannot be
    /// made become comments.
    pub(super) fn script(mut self, edits: &[Edit], standings: &[Standing], accounts: &[Account]) -> String {
        let dialect = self.dialect;
        let of_what = if self.table.states.is_some() { "" } else { " group" };
        let about = |place: usize| {
            edits.get(place).map_or_else(String::new, |edit| {
                plain(&format!("{}{} {}", edit.kind.name(), of_what, edit.login()))
            })
        };
        let mut script = format!("BEGIN;\n{}", dialect.preamble);
        for (group, statements) in self.in_order(edits, standings, accounts) {
            for place in group {
                script += &format!("-- {}\n", about(place));
            }
            for statement in statements {
                script += &format!("{};\n", dialect.written_out(&statement));
            }
        }
        for (place, standing) in standings.iter().enumerate() {
            match standing {
                Standing::Stale(words) => {
                    script += &format!("-- left out: {}: {}\n", about(place), plain(words));
                }
                Standing::Made => script += &format!("-- there already: {}\n", about(place)),
                _ => {}
            }
        }
        script + "COMMIT;\n"
    }

    /// The statements for a group of edits, each with its account in the table. Of a ring (see
    /// [`webtaxon_core::apply::order`]) the first account is parked, and completed last.
    fn in_turn(&mut self, group: &[(&Edit, Option<&Account>)]) -> Vec<Statement> {
        let Some(((first, there), _)) = group.split_first().filter(|(_, rest)| !rest.is_empty()) else {
            return group.iter().flat_map(|(edit, there)| self.statements(edit, *there)).collect();
        };
        let Some(there) = there else { return Vec::new() };
        // A login never contains a line break.
        let aside = Account { login: format!("\n{}", there.login), ..(*there).clone() };
        let login = quoted(self.table.column("login"));
        let dialect = self.dialect;
        let text = format!(
            "UPDATE {} SET {login} = {} WHERE {login} = {}",
            dialect.table,
            dialect.mark(1, &dialect.login_cast),
            dialect.mark(2, &dialect.login_cast)
        );
        let values = [&aside, *there].map(|account| Bound::Text(account.login.clone())).to_vec();
        let mut all = vec![Statement { text: text.into(), values, is_one: true, comes_after: false }];
        for (edit, there) in group.iter().skip(1).rev() {
            all.extend(self.statements(edit, *there));
        }
        all.extend(self.statements(first, Some(&aside)));
        all
    }

    /// The statements for an edit of the account `there`.
    fn statements(&mut self, edit: &Edit, there: Option<&Account>) -> Vec<Statement> {
        match (&edit.after, there) {
            (None, Some(there)) => self.removal(there),
            (Some(after), None) => self.addition(after),
            (Some(after), Some(there)) => self.update(edit, there, after),
            (None, None) => Vec::new(),
        }
    }

    /// Removes an account's roles, restricted by `more`.
    fn without_roles(&self, roles: &RoleTable, more: &str) -> Text {
        let key = self.key(roles, &self.dialect.mark(1, ""));
        format!("DELETE FROM {} WHERE {} = {key}{more}", quoted(&roles.name), quoted(&roles.account)).into()
    }

    fn removal(&self, there: &Account) -> Vec<Statement> {
        let login = || vec![text(&there.login)];
        let roles = self.table.roles.as_ref().map(|roles| self.without_roles(roles, ""));
        let roles = roles.map(|text| Statement { text, values: login(), is_one: false, comes_after: false });
        let mark = self.dialect.mark(1, &self.dialect.login_cast);
        let column = quoted(self.table.column("login"));
        let one = format!("DELETE FROM {} WHERE {column} = {mark}", self.dialect.table);
        roles
            .into_iter()
            .chain([Statement { text: one.into(), values: login(), is_one: true, comes_after: false }])
            .collect()
    }

    fn addition(&mut self, after: &Account) -> Vec<Statement> {
        // A column without a value from the account gets the database's default.
        let has = |column: &Column| {
            ["login", "link"].contains(&column.field.as_str())
                || (column.field == "state" && self.table.states.is_some())
                || after.fields.contains_key(column.field.as_str())
                || !(column.may_be_null || column.has_default)
        };
        let own: Vec<usize> =
            self.columns.iter().enumerate().filter(|(_, column)| has(column)).map(|(at, _)| at).collect();
        let columns = || own.iter().filter_map(|at| self.columns.get(*at));
        let values: Vec<Bound> = columns().map(|column| held(self.table, column, after)).collect();
        let insert = self.inserts.get(&own).cloned().unwrap_or_else(|| {
            let names: Vec<String> = columns().map(|column| quoted(&column.name)).collect();
            let into = format!("INSERT INTO {} ({})", self.dialect.table, names.join(", "));
            let casts: Vec<_> =
                columns().map(|column| |mark: &str| format!("{mark}{}", column.cast)).collect();
            let casts: Vec<&dyn Fn(&str) -> String> =
                casts.iter().map(|cast| cast as &dyn Fn(&str) -> String).collect();
            self.dialect.adding(&into, &casts)
        });
        let mut all = vec![Statement { text: insert.clone(), values, is_one: true, comes_after: false }];
        if let Some(add) = &self.add_role {
            for role in items(after.field("roles")) {
                let values = vec![text(&after.login), text(role)];
                all.push(Statement { text: add.clone(), values, is_one: true, comes_after: true });
            }
        }
        self.inserts.entry(own).or_insert(insert);
        all
    }

    fn update(&self, edit: &Edit, there: &Account, after: &Account) -> Vec<Statement> {
        let changed = edit.fields();
        let mut all = Vec::new();
        if let (Some(roles), true) = (&self.table.roles, changed.contains_key("roles")) {
            let (old, new) = (items(there.field("roles")), items(after.field("roles")));
            let of = |role: &str| vec![text(&there.login), text(role)];
            let role_mark = self.dialect.role(roles, &self.dialect.mark(2, ""));
            for role in old.iter().filter(|role| !new.contains(role)) {
                let this = format!(" AND {} = {role_mark}", quoted(&roles.role));
                let text = self.without_roles(roles, &this);
                all.push(Statement { text, values: of(role), is_one: false, comes_after: false });
            }
            let added = new.iter().filter(|role| !old.contains(role));
            let add = self.add_role.iter().flat_map(|add| added.clone().map(move |role| (add, role)));
            all.extend(add.map(|(add, role)| Statement {
                text: add.clone(),
                values: of(role),
                is_one: true,
                comes_after: true,
            }));
        }
        let own: Vec<&Column> =
            self.columns.iter().filter(|column| changed.contains_key(column.field.as_str())).collect();
        if own.is_empty() {
            return all;
        }
        let set = |(at, column): (usize, &&Column)| {
            format!("{} = {}", quoted(&column.name), self.dialect.mark(at + 1, &column.cast))
        };
        let sets: Vec<String> = own.iter().enumerate().map(set).collect();
        let mut values: Vec<Bound> = own.iter().map(|column| held(self.table, column, after)).collect();
        values.push(text(&there.login));
        let one = format!(
            "UPDATE {} SET {} WHERE {} = {}",
            self.dialect.table,
            sets.join(", "),
            quoted(self.table.column("login")),
            self.dialect.mark(values.len(), &self.dialect.login_cast)
        );
        all.push(Statement { text: one.into(), values, is_one: true, comes_after: false });
        all
    }
}

fn text(text: &str) -> Bound {
    Bound::Text(text.to_owned())
}

/// Checks that the table has every required column.
pub(super) fn complete(
    store: &str,
    table: &SqlTable,
    columns: &[Column],
    fields: &[&str],
) -> Result<(), StoreErrorKind> {
    let own = ["login", "link", "state"];
    let own_wanted = own.into_iter().filter(|own| *own != "state" || table.states.is_some());
    for field in own_wanted.chain(fields.iter().copied().filter(|field| !own.contains(field))) {
        let is_there = columns.iter().any(|column| column.field == field);
        if field == "link" && !table.has_links {
            if is_there {
                return Err(StoreErrorKind::HasLinks { store: store.to_owned() });
            }
            continue;
        }
        if is_there || (field == "roles" && table.roles.is_some()) {
            continue;
        }
        let has: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
        let called = match (field, table.states.is_some()) {
            (field, true) => format!("[accounts.columns] {field} = \"…\", or add a column{}", apart(field)),
            (field, false) => {
                let field = if field == "login" { "name" } else { field };
                format!("[accounts.groups] columns = {{ {field} = \"…\" }}, or add a column")
            }
        };
        let help = format!("give its name: {called}; the table has {}", has.join(", "));
        let (store, table, column) = (store.to_owned(), table.name.clone(), table.column(field).to_owned());
        return Err(StoreErrorKind::NoTableColumn { store, table, column, help });
    }
    match &table.roles {
        Some(roles) if !columns.iter().any(|column| column.name == roles.key) => {
            let help = match &roles.of {
                None => "`key` in role_table names the column that the roles refer to",
                Some(_) => {
                    "`group_key` in members of [accounts.groups] names the column that the members refer to"
                }
            };
            let help = help.to_owned();
            let (store, table, column) = (store.to_owned(), table.name.clone(), roles.key.clone());
            Err(StoreErrorKind::NoTableColumn { store, table, column, help })
        }
        _ => Ok(()),
    }
}
