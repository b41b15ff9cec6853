//! The form in which SQLite would keep a value: tried in a database in memory, by the declared type and the CHECK
//! constraints.

use super::super::sql::Bound;
use super::super::sql::{Column, Kind, Number, checks};
use super::value::shown;
use crate::sql_names::quoted;
use rusqlite::config::DbConfig;
use rusqlite::{Connection, params_from_iter};
use std::collections::HashMap;
use webtaxon_core::account::{Form, Inquiry, Replies};

/// The forms of all values of an inquiry. `create` is the statement that created the table.
pub(super) fn forms(columns: &[Column], create: &str, inquiry: &Inquiry) -> rusqlite::Result<Replies> {
    let trial = Connection::open_in_memory()?;
    // A name in double quotes that is no column is an error, not a text.
    trial.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, false)?;
    let checks = checks(create);
    let mut replies = Replies::default();
    for (field, values) in &inquiry.values {
        let Some(column) = columns.iter().find(|column| column.field == *field) else { continue };
        let mut forms = HashMap::new();
        if values.contains("") {
            forms.extend(column.form_of_nothing().map(|form| (String::new(), form)));
        }
        let mut column = Trial::new(&trial, column, &checks)?;
        for value in values.iter().filter(|value| !value.is_empty()) {
            if let Some(form) = column.form(value)? {
                forms.insert(value.clone(), form);
            }
        }
        column.end()?;
        if !forms.is_empty() {
            replies.forms.insert(field.clone(), forms);
        }
    }
    Ok(replies)
}

/// One column, in a table of its own.
struct Trial<'t> {
    trial: &'t Connection,
    column: &'t Column,
    kind: Kind,
    /// Its CHECK constraints, each with the query that tries it.
    checks: Vec<(String, String)>,
}

impl<'t> Trial<'t> {
    fn new(trial: &'t Connection, column: &'t Column, checks: &[String]) -> rusqlite::Result<Self> {
        let name = quoted(&column.name);
        trial.execute_batch(&format!("CREATE TABLE trial ({name} {})", quoted(&column.declared)))?;
        let tried = |check: &String| {
            // A condition on other columns, or with functions of the application, cannot be tried.
            let query = format!("SELECT ({check}) IS NOT 0 FROM trial");
            trial.prepare(&query).is_ok_and(|query| query.column_count() == 1).then(|| (check.clone(), query))
        };
        let checks = checks.iter().filter_map(tried).collect();
        Ok(Self { trial, column, kind: Kind::of_sqlite(&column.declared), checks })
    }

    /// The form of a value; `None` if it is kept as it is.
    fn form(&mut self, value: &str) -> rusqlite::Result<Option<Form>> {
        let declared = &self.column.declared;
        let of_kind = if self.column.is_list { None } else { self.kind.form(value, declared) };
        let text = match &of_kind {
            Some(Form::As(kept)) => kept.as_str(),
            Some(_) => return Ok(of_kind),
            None => value,
        };
        let bound = match self.column.is_binary {
            true => self.column.bound_bytes(text),
            false => Bound::Text(self.column.listed(text)),
        };
        self.trial.prepare_cached("DELETE FROM trial")?.execute([])?;
        self.trial.prepare_cached("INSERT INTO trial VALUES (?)")?.execute(params_from_iter([&bound]))?;
        for (check, query) in &self.checks {
            let holds = self.trial.prepare_cached(query)?.query_row([], |row| row.get::<_, bool>(0));
            if holds.is_ok_and(|holds| !holds) {
                return Ok(Some(Form::Unfit(format!("is refused by the condition {}", check.trim()))));
            }
        }
        if self.column.is_list {
            return Ok(None);
        }
        let kept = self
            .trial
            .prepare_cached("SELECT * FROM trial")?
            .query_row([], |row| Ok(shown(row, 0).map(std::borrow::Cow::into_owned).unwrap_or_default()))?;
        if kept == value {
            return Ok(None);
        }
        let numbers = Number::read(text).zip(Number::read(&kept));
        Ok(Some(match numbers {
            Some((one, other)) if one != other => {
                Form::Unfit(format!("has more digits than {declared} keeps"))
            }
            _ => Form::As(kept.into()),
        }))
    }

    fn end(self) -> rusqlite::Result<()> {
        self.trial.flush_prepared_statement_cache();
        self.trial.execute_batch("DROP TABLE trial")
    }
}
