//! Columns, as described by the database, and whether a table has those that are needed.

use super::super::groups::MEMBERS;
use super::super::{StoreErrorKind, apart};
use super::bound::Bound;
use super::unhex;
use crate::sql_names::quoted;
use webtaxon_core::account::{Form, State};
use webtaxon_core::settings::SqlTable;
use webtaxon_core::settings::rules::LIST;

/// The place of the value in an expression that writes it ([`Column::write`]).
pub(in super::super) const MARK: char = '\u{0}';

/// A column.
#[derive(Clone, Debug)]
pub(in super::super) struct Column {
    pub(in super::super) name: String,
    /// The application's field.
    pub(in super::super) field: String,
    /// The declared type, for messages.
    pub(in super::super) declared: String,
    pub(in super::super) is_binary: bool,
    /// Whether an empty text is a value of its type.
    pub(in super::super) is_text: bool,
    pub(in super::super) may_be_null: bool,
    /// Whether the database has a value of its own for it.
    pub(in super::super) has_default: bool,
    /// Whether the database gives a number that an INSERT must override.
    pub(in super::super) is_always: bool,
    /// Whether it holds a list of texts: an array, or JSON.
    pub(in super::super) is_list: bool,
    /// True if it is written in new rows, and never read.
    pub(in super::super) is_secret: bool,
    /// The expression that reads it as text.
    pub(in super::super) read: String,
    /// The expression that writes it, with [`MARK`] in place of the value.
    pub(in super::super) write: String,
}

impl Column {
    pub(in super::super) fn new(table: &SqlTable, name: String) -> Self {
        let field = table.columns.iter().find(|(_, column)| **column == name);
        // A column with the name of a field that is mapped to another column belongs to the application.
        let is_another =
            |name: &str| table.columns.contains_key(name) || (name == "state" && table.states.is_none());
        let own = |name: &str| match is_another(name) {
            true => quoted(name),
            false => name.to_owned(),
        };
        let field = field.map_or_else(|| own(&name), |(field, _)| field.clone());
        Self {
            is_list: table.json.contains(&field),
            is_secret: table.secrets.contains(&field),
            read: quoted(&name),
            write: MARK.to_string(),
            name,
            field,
            declared: String::new(),
            is_binary: false,
            is_text: true,
            may_be_null: true,
            has_default: false,
            is_always: false,
        }
    }

    /// The expression that writes the value at a placeholder.
    pub(super) fn writes(&self, mark: &str) -> String {
        self.write.replace(MARK, mark)
    }

    /// Whether a new row needs a value for it that neither the database nor Webtaxon gives.
    pub(in super::super) fn is_needed(&self, table: &SqlTable, fields: &[String]) -> bool {
        let is_given = || {
            let own =
                ["login", "link", "state"].contains(&self.field.as_str()) || fields.contains(&self.field);
            let times = [&table.times.created, &table.times.touched];
            own || self.is_secret || times.into_iter().flatten().any(|time| *time == self.name)
        };
        !self.may_be_null && !self.has_default && !is_given()
    }

    /// The error that it is needed.
    pub(in super::super) fn needs_value(&self, store: String) -> StoreErrorKind {
        let help = format!(
            "write a rule for it in [intake.fields], such as {0} = {{ value = \"…\" }} (its type is {1}), or {0} = {{ secret = true }} for a password that nobody knows; give the column a default in the database, or set new = false if no accounts are to be made",
            self.field, self.declared
        );
        StoreErrorKind::NeedsValue { store, column: self.name.clone(), help }
    }

    /// The form of no value; `None` if the column can be empty.
    pub(in super::super) fn form_of_nothing(&self) -> Option<Form> {
        match self.has_default {
            _ if self.may_be_null || self.is_text => None,
            true => Some(Form::Own),
            false => Some(Form::Unfit(format!("has no value, and the column {} demands one", self.name))),
        }
    }

    /// The value of an account's field for this column.
    pub(super) fn bound(&self, table: &SqlTable, value: Option<&str>) -> Bound {
        let word = |words: &[String]| words.first().cloned();
        let text = match (self.field.as_str(), &table.states, value) {
            ("state", Some(states), Some(state)) if state == State::Active.name() => word(&states.active),
            ("state", Some(states), Some(state)) if state == State::Suspended.name() => {
                word(&states.suspended)
            }
            _ => value.map(str::to_owned),
        };
        let Some(text) = text else {
            return if self.may_be_null { Bound::Null } else { Bound::Text(self.listed("")) };
        };
        if self.is_binary { self.bound_bytes(&text) } else { Bound::Text(self.listed(&text)) }
    }

    /// A value for a column of bytes.
    pub(in super::super) fn bound_bytes(&self, text: &str) -> Bound {
        unhex(text).map_or_else(|| Bound::of(text), Bound::Bytes)
    }

    /// The text of a value: a list as JSON.
    pub(in super::super) fn listed(&self, text: &str) -> String {
        if !self.is_list {
            return text.to_owned();
        }
        let items = text.split(LIST).map(str::trim).filter(|item| !item.is_empty());
        serde_json::Value::from_iter(items).to_string()
    }
}

/// Checks that the table has every required column: for accounts those of `fields`, for groups that of the members.
pub(in super::super) fn complete(
    store: &str,
    table: &SqlTable,
    columns: &[Column],
    fields: &[String],
) -> Result<(), StoreErrorKind> {
    let own = ["login", "link", "state"];
    let own_wanted = own.into_iter().filter(|own| *own != "state" || table.states.is_some());
    let fields = match table.states {
        Some(_) => fields.iter().chain(&table.secrets).map(String::as_str).collect(),
        None => vec![MEMBERS],
    };
    let names = || columns.iter().map(|column| column.name.as_str()).collect::<Vec<_>>().join(", ");
    let none = |column: &str, help: String| {
        let (store, table, column) = (store.to_owned(), table.name.clone(), column.to_owned());
        Err(StoreErrorKind::NoTableColumn { store, table, column, help })
    };
    for field in own_wanted.chain(fields.into_iter().filter(|field| !own.contains(field))) {
        let is_there = columns.iter().any(|column| column.field == field);
        if field == "link" && !table.has_links {
            if is_there {
                return Err(StoreErrorKind::HasLinks { store: store.to_owned() });
            }
            continue;
        }
        if is_there || table.sides.contains_key(field) {
            continue;
        }
        let called = match (field, table.states.is_some()) {
            (field, true) => format!("[accounts.columns] {field} = \"…\", or add a column{}", apart(field)),
            (field, false) => {
                let field = if field == "login" { "name" } else { field };
                format!("[accounts.groups] columns = {{ {field} = \"…\" }}, or add a column")
            }
        };
        return none(table.column(field), format!("give its name: {called}; the table has {}", names()));
    }
    let marks = [
        ("removed", table.removed.as_ref().map(|removed| &removed.column)),
        ("created", table.times.created.as_ref()),
        ("touched", table.times.touched.as_ref()),
    ];
    for (key, column) in marks.into_iter().filter_map(|(key, column)| Some((key, column?))) {
        if !columns.iter().any(|one| one.name == *column) {
            return none(column, format!("`{key}` in [accounts] names it; the table has {}", names()));
        }
    }
    for (field, side) in &table.sides {
        if !columns.iter().any(|column| column.name == side.key) {
            let help = match (&side.of, field.as_str()) {
                (Some(_), _) => {
                    "`group_key` in members of [accounts.groups] names the column that the members refer to"
                        .to_owned()
                }
                (None, "roles") => "`key` in role_table names the column that the roles refer to".to_owned(),
                (None, field) => {
                    format!("`key` of {field} in [accounts.more] names the column that the values refer to")
                }
            };
            return none(&side.key, help);
        }
    }
    Ok(())
}
