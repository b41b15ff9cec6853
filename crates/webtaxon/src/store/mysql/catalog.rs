//! The description of a table in the information schema: columns, types, engine, foreign keys.

use super::super::sql::{Bulk, Column, Dialect, ForeignKey, MARK, dependents_of};
use super::super::{StoreError, StoreErrorKind};
use super::session::Session;
use crate::sql_names::quoted;
use std::collections::HashMap;
use webtaxon_core::account::{Dependents, Effect, Inquiry};
use webtaxon_core::settings::{SideTable, SqlTable};

/// A table as it is.
pub(super) struct Described {
    pub(super) columns: Vec<Column>,
    pub(super) dialect: Dialect,
    /// The schema and the name.
    pub(super) name: [String; 2],
}

/// The schema and the name of a table. One without a schema is in that of `beside`.
fn place_of(table: &str, beside: &str) -> [String; 2] {
    match table.split_once('.') {
        Some((schema, name)) => [schema.to_owned(), name.to_owned()],
        None => [beside.to_owned(), table.to_owned()],
    }
}

fn name_of([schema, name]: &[String; 2]) -> String {
    format!("{}.{}", quoted(schema), quoted(name))
}

/// Describes the table, and names the tables beside it in full.
pub(super) async fn describe(
    session: &mut Session,
    table: &SqlTable,
    database: &str,
) -> Result<Described, StoreError> {
    let name = place_of(&table.name, database);
    let sql = "SELECT CAST(TABLE_TYPE AS CHAR), CAST(ENGINE AS CHAR) FROM information_schema.TABLES
        WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?";
    let found: Vec<(String, Option<String>)> = session.rows(sql, (&name[0], &name[1])).await?;
    let Some((kind, engine)) = found.into_iter().next() else {
        return Err(no_table(session, table, &name).await?);
    };
    if kind == "BASE TABLE" && !matches!(engine.as_deref(), Some("InnoDB" | "ROCKSDB" | "ndbcluster")) {
        let what = format!(
            "the table {} is of the engine {}, which has no transactions: ALTER TABLE … ENGINE = InnoDB",
            table.name,
            engine.unwrap_or_default()
        );
        return Err(StoreErrorKind::Database { store: session.store.clone(), source: what.into() }.into());
    }
    let columns = columns_of(session, &name, table).await?;
    let mut dialect = Dialect {
        is_numbered: false,
        bulk: Bulk::Rows,
        now: |column| match column.declared.contains("int") {
            true => "UNIX_TIMESTAMP()",
            false => "NOW()",
        },
        ..Dialect::new(table, '?', quoted)
    };
    dialect.table = name_of(&name);
    let full = |table: &str| name_of(&place_of(table, &name[0]));
    for (field, form) in &mut dialect.sides {
        let Some(side): Option<&SideTable> = table.sides.get(field) else { continue };
        form.table = full(&side.name);
        form.of = side.of.as_ref().map(|of| full(&of.table));
    }
    Ok(Described { columns, dialect, name })
}

/// The error that a table is missing, with those that are there.
async fn no_table(
    session: &mut Session,
    table: &SqlTable,
    [schema, _]: &[String; 2],
) -> Result<StoreError, StoreError> {
    let sql = "SELECT CAST(TABLE_NAME AS CHAR) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? ORDER BY 1 LIMIT 20";
    let names: Vec<String> = session.rows(sql, (schema,)).await?;
    let help = match names.is_empty() {
        true => format!("the database {schema} has no tables that the user may see; is it the right one?"),
        false => format!("`table` in {} names it; there are {}", table.place(), names.join(", ")),
    };
    Ok(StoreErrorKind::NoTable { store: session.store.clone(), table: table.name.clone(), help }.into())
}

/// One column of the information schema.
type Told = (String, String, String, String, Option<String>, String);

/// The columns that can be written.
async fn columns_of(
    session: &mut Session,
    [schema, name]: &[String; 2],
    table: &SqlTable,
) -> Result<Vec<Column>, StoreError> {
    let sql = "SELECT CAST(COLUMN_NAME AS CHAR), CAST(COLUMN_TYPE AS CHAR), CAST(DATA_TYPE AS CHAR),
          CAST(IS_NULLABLE AS CHAR), CAST(COLUMN_DEFAULT AS CHAR), CAST(EXTRA AS CHAR)
        FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION";
    let rows: Vec<Told> = session.rows(sql, (schema, name)).await?;
    let is_json = json_columns(session, schema, name).await;
    let column = |(name, declared, kind, nullable, default, extra): Told| {
        let extra = extra.to_uppercase().replace("DEFAULT_GENERATED", "");
        if extra.contains("GENERATED") {
            return None;
        }
        let own = Column::new(table, name);
        let kind = kind.to_lowercase();
        let is_list =
            own.is_list || ((kind == "json" || is_json.contains(&own.name)) && own.field == "roles");
        let name = quoted(&own.name);
        let is_binary = kind.contains("blob") || kind.contains("binary");
        let read = match kind.as_str() {
            _ if is_binary => format!("CONCAT('\\x', LOWER(HEX({name})))"),
            "bit" => format!("CAST({name} + 0 AS CHAR)"),
            _ => format!("CAST({name} AS CHAR)"),
        };
        let is_text = kind.contains("char") || kind.contains("text") || is_list;
        Some(Column {
            is_text,
            is_binary,
            is_list,
            may_be_null: nullable == "YES",
            has_default: default.is_some() || extra.contains("AUTO_INCREMENT"),
            read,
            declared,
            ..own
        })
    };
    Ok(rows.into_iter().filter_map(column).collect())
}

/// The columns that must be JSON, where that is a condition and not a type.
async fn json_columns(session: &mut Session, schema: &str, name: &str) -> Vec<String> {
    let sql = "SELECT CAST(CHECK_CLAUSE AS CHAR) FROM information_schema.CHECK_CONSTRAINTS
        WHERE CONSTRAINT_SCHEMA = ? AND TABLE_NAME = ? AND CHECK_CLAUSE LIKE 'json_valid(%'";
    let clauses: Vec<String> = session.rows(sql, (schema, name)).await.unwrap_or_default();
    let column = |clause: &String| {
        let inner = clause.strip_prefix("json_valid(`")?.strip_suffix("`)")?;
        Some(inner.replace("``", "`"))
    };
    clauses.iter().filter_map(column).collect()
}

/// Whether a new row can be made with values for these fields alone.
pub(super) async fn may_create(
    session: &mut Session,
    described: &Described,
    table: &SqlTable,
    fields: &[String],
) -> Result<(), StoreError> {
    let Some(column) = described.columns.iter().find(|column| column.is_needed(table, fields)) else {
        return Ok(());
    };
    // A trigger before the insertion may give the value.
    let sql = "SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ?
        AND EVENT_OBJECT_TABLE = ? AND EVENT_MANIPULATION = 'INSERT' AND ACTION_TIMING = 'BEFORE'";
    let [schema, name] = &described.name;
    let triggers: Vec<u64> = session.rows(sql, (schema, name)).await?;
    match triggers.first() {
        Some(0) | None => Err(column.needs_value(session.store.clone()).into()),
        Some(_) => Ok(()),
    }
}

/// The rows that refer to the accounts that would be removed, by login.
pub(super) async fn dependents(
    session: &mut Session,
    described: &Described,
    table: &SqlTable,
    inquiry: &Inquiry,
) -> Result<HashMap<String, Vec<Dependents>>, StoreError> {
    let mut found: HashMap<String, Vec<Dependents>> = HashMap::new();
    if inquiry.removals.is_empty() || table.removed.is_some() {
        return Ok(found);
    }
    let keys = foreign_keys(session).await?;
    let logins: Vec<&str> = inquiry.removals.iter().map(String::as_str).collect();
    let login = format!("account.{}", quoted(table.column("login")));
    let such = one_of(&logins).replace(MARK, &login);
    for (chain, effect, shown) in dependents_of(&described.dialect, &keys) {
        let sql = format!("SELECT CAST({login} AS CHAR), COUNT(*) {chain} WHERE {such} GROUP BY {login}");
        let rows: Vec<(String, u64)> = session.rows(&sql, ()).await?;
        for (login, rows) in rows {
            let of = Dependents { table: shown.clone(), rows, effect };
            found.entry(login.trim().to_owned()).or_default().push(of);
        }
    }
    Ok(found)
}

/// The condition for these texts, with [`MARK`] in place of the expression that reads one.
pub(super) fn one_of(texts: &[&str]) -> String {
    let all: Vec<String> = texts.iter().map(|text| format!("'{}'", text.replace('\'', "''"))).collect();
    format!("{MARK} IN ({})", if all.is_empty() { "NULL".to_owned() } else { all.join(", ") })
}

/// A column of a foreign key: its name, the child's schema and table, the parent's, both columns, the rule.
type KeyColumn = (String, String, String, String, String, String, String, String);

async fn foreign_keys(session: &mut Session) -> Result<Vec<ForeignKey>, StoreError> {
    let sql =
        "SELECT CAST(k.CONSTRAINT_NAME AS CHAR), CAST(k.TABLE_SCHEMA AS CHAR), CAST(k.TABLE_NAME AS CHAR),
          CAST(k.REFERENCED_TABLE_SCHEMA AS CHAR), CAST(k.REFERENCED_TABLE_NAME AS CHAR),
          CAST(k.COLUMN_NAME AS CHAR), CAST(k.REFERENCED_COLUMN_NAME AS CHAR), CAST(r.DELETE_RULE AS CHAR)
        FROM information_schema.KEY_COLUMN_USAGE AS k JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
          ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
          AND r.TABLE_NAME = k.TABLE_NAME
        WHERE k.REFERENCED_TABLE_NAME IS NOT NULL
        ORDER BY k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION";
    let rows: Vec<KeyColumn> = session.rows(sql, ()).await?;
    let mut keys: Vec<(String, ForeignKey)> = Vec::new();
    for (name, schema, table, parent_schema, parent, from, to, rule) in rows {
        let child = name_of(&[schema, table.clone()]);
        if keys.last().is_none_or(|(last, key)| *last != name || key.child != child) {
            let effect = match rule.as_str() {
                "CASCADE" => Effect::Deleted,
                "SET NULL" | "SET DEFAULT" => Effect::Cleared,
                _ => Effect::Refused,
            };
            let parent = name_of(&[parent_schema, parent]);
            keys.push((name, ForeignKey { shown: table, child, parent, columns: Vec::new(), effect }));
        }
        keys.last_mut().into_iter().for_each(|(_, key)| key.columns.push((from.clone(), to.clone())));
    }
    Ok(keys.into_iter().map(|(_, key)| key).collect())
}
