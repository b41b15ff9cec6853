//! Shared by SQL stores: accounts as rows of a table, and the statements that change them.
//!
//! Names are always quoted and values always bound: neither a name in the settings nor a directory value can inject
//! SQL.

mod edits;
mod rows;

pub(super) use edits::RowEdits;
pub(super) use rows::Rows;

use super::groups::MEMBERS;
use super::{StoreErrorKind, apart};
use crate::sql_names::quoted;
use std::collections::HashMap;
use std::sync::Arc;
use webtaxon_core::account::{Account, State};
use webtaxon_core::apply::{Outcome, Plan, Step, Unit};
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

/// The value of an account's field for its column.
fn bound(table: &SqlTable, column: &Column, value: Option<&str>) -> Bound {
    let text = match (column.field.as_str(), &table.states) {
        ("state", Some([active, _])) if value == Some(State::Active.name()) => active,
        ("state", Some([_, suspended])) => suspended,
        _ => match value {
            None if column.may_be_null => return Bound::Null,
            value => value.unwrap_or_default(),
        },
    };
    match column.is_binary {
        true => unhex(text).map_or_else(|| Bound::Text(text.to_owned()), Bound::Bytes),
        false => Bound::Text(text.to_owned()),
    }
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

    /// The statements of each unit of a plan, with its edits.
    pub(super) fn units<'w>(
        &'w mut self,
        plan: &'w Plan<'w>,
    ) -> impl Iterator<Item = (Vec<usize>, Vec<Statement>)> + use<'w, 't> {
        plan.units().map(|unit| {
            let statements = self.statements(&unit, plan.accounts());
            (unit.edits.to_vec(), statements)
        })
    }

    /// The script of one transaction with all edits, for an administrator to review and run. Edits that cannot be
    /// made become comments.
    pub(super) fn script(mut self, plan: &Plan<'_>) -> String {
        let dialect = self.dialect;
        let of_what = if self.table.states.is_some() { "" } else { " group" };
        let about = |place: usize| {
            plan.edits().get(place).map_or_else(String::new, |edit| {
                plain(&format!("{}{} {}", edit.kind.name(), of_what, edit.login()))
            })
        };
        let mut script = format!("BEGIN;\n{}", dialect.preamble);
        for (edits, statements) in self.units(plan) {
            for place in edits {
                script += &format!("-- {}\n", about(place));
            }
            for statement in statements {
                script += &format!("{};\n", dialect.written_out(&statement));
            }
        }
        for (place, outcome) in plan.left_out() {
            match outcome {
                Outcome::Left(words) => {
                    script += &format!("-- left out: {}: {}\n", about(place), plain(&words));
                }
                _ => script += &format!("-- there already: {}\n", about(place)),
            }
        }
        script + "COMMIT;\n"
    }

    /// The statements of a unit. Accounts are found by the login that they have at that moment.
    fn statements(&mut self, unit: &Unit<'_>, accounts: &[Account]) -> Vec<Statement> {
        let mut aside: HashMap<usize, Account> = HashMap::new();
        let mut all = Vec::new();
        for step in &unit.steps {
            let there = |at: &usize| aside.get(at).or_else(|| accounts.get(*at));
            match step {
                Step::Insert { account } => all.extend(self.addition(account)),
                Step::Delete { at } => {
                    all.extend(there(at).into_iter().flat_map(|there| self.removal(there)))
                }
                Step::Update { at, set } => {
                    all.extend(there(at).into_iter().flat_map(|there| self.update(there, set)));
                }
                Step::PutAside { at, field } => {
                    let Some(mut there) = there(at).cloned() else { continue };
                    all.extend(self.put_aside(&mut there, field));
                    aside.insert(*at, there);
                }
            }
        }
        all
    }

    /// Replaces the value of a unique field by none, or by one that no account has.
    fn put_aside(&self, there: &mut Account, field: &str) -> Option<Statement> {
        let column = self.columns.iter().find(|column| column.field == field)?;
        // A login has no line break, and hardly any other unique value begins with one.
        let other = format!("\n{}", there.value(field));
        if field == "login" {
            let old = std::mem::replace(&mut there.login, other.clone());
            return Some(self.setting(&old, &[column], vec![Bound::Text(other)]));
        }
        let value = if column.may_be_null { Bound::Null } else { Bound::Text(other) };
        Some(self.setting(&there.login, &[column], vec![value]))
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
        let value = |column: &Column| bound(self.table, column, after.get(&column.field));
        let values: Vec<Bound> = columns().map(value).collect();
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

    fn update(&self, there: &Account, set: &[(&str, Option<&str>)]) -> Vec<Statement> {
        let new = |name: &str| set.iter().find(|(field, _)| *field == name).map(|(_, value)| *value);
        let mut all = Vec::new();
        if let (Some(roles), Some(new)) = (&self.table.roles, new("roles")) {
            let (old, new) = (items(there.field("roles")), items(new.unwrap_or_default()));
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
        let own = self.columns.iter().filter_map(|column| Some((column, new(&column.field)?)));
        let (own, values): (Vec<&Column>, Vec<Bound>) =
            own.map(|(column, value)| (column, bound(self.table, column, value))).unzip();
        all.extend((!own.is_empty()).then(|| self.setting(&there.login, &own, values)));
        all
    }

    /// Sets columns of the account with this login.
    fn setting(&self, login: &str, columns: &[&Column], mut values: Vec<Bound>) -> Statement {
        let set = |(at, column): (usize, &&Column)| {
            format!("{} = {}", quoted(&column.name), self.dialect.mark(at + 1, &column.cast))
        };
        let sets: Vec<String> = columns.iter().enumerate().map(set).collect();
        values.push(text(login));
        let one = format!(
            "UPDATE {} SET {} WHERE {} = {}",
            self.dialect.table,
            sets.join(", "),
            quoted(self.table.column("login")),
            self.dialect.mark(values.len(), &self.dialect.login_cast)
        );
        Statement { text: one.into(), values, is_one: true, comes_after: false }
    }
}

fn text(text: &str) -> Bound {
    Bound::Text(text.to_owned())
}

/// Checks that the table has every required column: for accounts those of `fields`, for groups that of the members.
pub(super) fn complete(
    store: &str,
    table: &SqlTable,
    columns: &[Column],
    fields: &[String],
) -> Result<(), StoreErrorKind> {
    let own = ["login", "link", "state"];
    let own_wanted = own.into_iter().filter(|own| *own != "state" || table.states.is_some());
    let fields = match table.states {
        Some(_) => fields.iter().map(String::as_str).collect(),
        None => vec![MEMBERS],
    };
    for field in own_wanted.chain(fields.into_iter().filter(|field| !own.contains(field))) {
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
