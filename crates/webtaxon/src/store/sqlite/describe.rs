//! The description of a table in SQLite's schema: columns, declared types, foreign keys.

use super::super::sql::{Column, Dialect, ForeignKey, MARK, dependents_of};
use crate::sql_names::quoted;
use rusqlite::{Connection, OptionalExtension as _};
use std::collections::HashMap;
use webtaxon_core::account::{Dependents, Effect, Inquiry};
use webtaxon_core::settings::SqlTable;

/// A table as it is.
pub(super) struct Described {
    pub(super) columns: Vec<Column>,
    pub(super) dialect: Dialect,
    /// The statement that created it.
    pub(super) create: String,
    /// Whether its rows can be changed: a view needs triggers for that.
    pub(super) is_writable: bool,
}

/// Describes the table; `None` if it does not exist.
pub(super) fn describe(db: &Connection, table: &SqlTable) -> rusqlite::Result<Option<Described>> {
    let columns = columns(db, table)?;
    if columns.is_empty() {
        return Ok(None);
    }
    let sql =
        "SELECT type, sql FROM sqlite_schema WHERE name = ? COLLATE NOCASE AND type IN ('table', 'view')";
    let schema: Option<(String, Option<String>)> =
        db.query_row(sql, [&table.name], |row| Ok((row.get(0)?, row.get(1)?))).optional()?;
    let (kind, create) = schema.unwrap_or_default();
    let is_view = kind == "view";
    let dialect = Dialect {
        of_logins: format!("{MARK} IN (SELECT value FROM json_each(?1))"),
        of_links: format!("{MARK} IN (SELECT value FROM json_each(?1))"),
        is_uncounted: is_view,
        now: |column| match column.declared.to_uppercase() {
            declared if declared.contains("INT") => "CAST(strftime('%s', 'now') AS INTEGER)",
            _ => "datetime('now')",
        },
        ..Dialect::new(table, '?', quoted)
    };
    let is_writable = !is_view || has_triggers(db, &table.name)?;
    Ok(Some(Described { columns, dialect, create: create.unwrap_or_default(), is_writable }))
}

/// Whether a view has triggers in place of all three kinds of change.
fn has_triggers(db: &Connection, view: &str) -> rusqlite::Result<bool> {
    let sql = "SELECT sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? COLLATE NOCASE";
    let mut query = db.prepare(sql)?;
    let triggers = query.query_map([view], |row| row.get::<_, String>(0))?;
    let triggers: Vec<String> = triggers.collect::<Result<_, _>>()?;
    let words = |trigger: &String| trigger.to_uppercase().split_whitespace().collect::<Vec<_>>().join(" ");
    let triggers: Vec<String> = triggers.iter().map(words).collect();
    let has = |what: &str| triggers.iter().any(|trigger| trigger.contains(&format!("INSTEAD OF {what}")));
    Ok(["INSERT", "UPDATE", "DELETE"].into_iter().all(has))
}

fn columns(db: &Connection, table: &SqlTable) -> rusqlite::Result<Vec<Column>> {
    let sql = "SELECT name, type, \"notnull\", dflt_value, pk FROM pragma_table_info(?)";
    let mut query = db.prepare(sql)?;
    let rows = query.query_map([&table.name], |row| {
        let (declared, not_null): (String, bool) = (row.get(1)?, row.get(2)?);
        let (default, key): (Option<String>, i64) = (row.get(3)?, row.get(4)?);
        let upper = declared.to_uppercase();
        let own = Column::new(table, row.get(0)?);
        let is_text = upper.contains("CHAR") || upper.contains("TEXT") || upper.contains("CLOB");
        let column = Column {
            is_binary: upper.contains("BLOB"),
            is_text: own.is_list || upper.is_empty() || is_text,
            may_be_null: !not_null,
            has_default: default.is_some(),
            declared,
            ..own
        };
        Ok((column, key > 0))
    })?;
    let rows: Vec<(Column, bool)> = rows.collect::<Result<_, _>>()?;
    // The only column of a primary key is numbered by the database if it is declared INTEGER.
    let is_sole = rows.iter().filter(|(_, is_key)| *is_key).count() == 1;
    let numbered = |(column, is_key): (Column, bool)| {
        let is_numbered = is_key && is_sole && column.declared.eq_ignore_ascii_case("INTEGER");
        Column { has_default: column.has_default || is_numbered, ..column }
    };
    Ok(rows.into_iter().map(numbered).collect())
}

/// The rows that refer to the accounts that would be removed, by login.
pub(super) fn dependents(
    db: &Connection,
    table: &SqlTable,
    dialect: &Dialect,
    inquiry: &Inquiry,
) -> rusqlite::Result<HashMap<String, Vec<Dependents>>> {
    let mut found: HashMap<String, Vec<Dependents>> = HashMap::new();
    if inquiry.removals.is_empty() || table.removed.is_some() {
        return Ok(found);
    }
    let keys = foreign_keys(db)?;
    let logins = serde_json::Value::from_iter(inquiry.removals.iter().map(String::as_str)).to_string();
    for (chain, effect, shown) in dependents_of(dialect, &keys) {
        let login = format!("account.{}", quoted(table.column("login")));
        let such = dialect.of_logins.replace(MARK, &login);
        let sql = format!("SELECT {login}, count(*) {chain} WHERE {such} GROUP BY 1");
        let mut query = db.prepare(&sql)?;
        let rows = query.query_map([&logins], |row| Ok((row.get::<_, String>(0)?, row.get::<_, i64>(1)?)))?;
        for row in rows {
            let (login, rows) = row?;
            let rows = u64::try_from(rows).unwrap_or_default();
            let of = Dependents { table: shown.clone(), rows, effect };
            found.entry(login.trim().to_owned()).or_default().push(of);
        }
    }
    Ok(found)
}

fn foreign_keys(db: &Connection) -> rusqlite::Result<Vec<ForeignKey>> {
    let sql = "SELECT child.name, key.id, key.\"table\", key.\"from\", key.\"to\", key.on_delete
        FROM sqlite_schema AS child, pragma_foreign_key_list(child.name) AS key
        WHERE child.type = 'table' ORDER BY child.name, key.id, key.seq";
    let mut query = db.prepare(sql)?;
    let rows = query.query_map([], |row| {
        let (child, id, parent): (String, i64, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
        let (from, to): (String, Option<String>) = (row.get(3)?, row.get(4)?);
        Ok((child, id, parent, from, to, row.get::<_, String>(5)?))
    })?;
    let mut keys: Vec<(i64, ForeignKey)> = Vec::new();
    for row in rows {
        let (child, id, parent, from, to, action) = row?;
        let name = quoted(&child);
        let is_new = keys.last().is_none_or(|(last, key)| *last != id || key.child != name);
        if is_new {
            let effect = match action.as_str() {
                "CASCADE" => Effect::Deleted,
                "SET NULL" | "SET DEFAULT" => Effect::Cleared,
                _ => Effect::Refused,
            };
            let key = ForeignKey {
                shown: child,
                child: name,
                parent: quoted(&parent),
                columns: Vec::new(),
                effect,
            };
            keys.push((id, key));
        }
        let Some((_, key)) = keys.last_mut() else { continue };
        // A reference without a column is one to the primary key.
        let to = match to {
            Some(to) => to,
            None => {
                let sql = "SELECT name FROM pragma_table_info(?) WHERE pk = ?";
                let place = i64::try_from(key.columns.len()).unwrap_or_default() + 1;
                db.query_row(sql, (&parent, place), |row| row.get(0)).optional()?.unwrap_or_default()
            }
        };
        key.columns.push((from, to));
    }
    Ok(keys.into_iter().map(|(_, key)| key).collect())
}
