//! The description of a table in PostgreSQL's catalog: full names, columns, types.

use super::super::sql::{Bulk, Column, Dialect, MARK, SideForm};
use super::super::{StoreError, StoreErrorKind};
use super::session::{Session, name_of};
use crate::sql_names::quoted;
use tokio_postgres::Row;
use webtaxon_core::settings::SqlTable;

/// A PostgreSQL array as a JSON list, and back.
const AS_LIST: &str = "array_to_json";

/// The database's description of a table.
pub(super) struct Described {
    pub(super) columns: Vec<Column>,
    pub(super) dialect: Dialect,
}

/// Describes the table, and the tables beside it.
pub(super) async fn describe(session: &Session<'_>) -> Result<Described, StoreError> {
    let table = session.table;
    let Some(name) = full_name(session, &name_of(&table.name), None).await? else {
        return Err(no_table(session, &table.name).await?);
    };
    let columns = columns_of(session, &name, table).await?;
    let write = |columns: &[Column], name: &str| {
        let column = columns.iter().find(|column| column.name == name);
        column.map_or_else(|| MARK.to_string(), |column| column.write.clone())
    };
    let mut dialect = Dialect {
        bulk: Bulk::Arrays,
        overrides: true,
        login: write(&columns, table.column("login")),
        now: |column| match column.declared.as_str() {
            "bigint" | "integer" => "extract(epoch FROM now())::bigint",
            _ => "now()",
        },
        ..Dialect::new(table, '$', name_of)
    };
    let of = |write: &str| {
        let one = write.replace(MARK, "one");
        format!("{MARK} = ANY(ARRAY(SELECT {one} FROM unnest($1::text[]) AS all_of (one)))")
    };
    dialect.of_logins = of(&dialect.login);
    dialect.of_links = of(&write(&columns, table.column("link")));
    for (field, side) in &table.sides {
        let schema = table.name.split_once('.').map(|(schema, _)| schema);
        let own = found(session, &side.name, schema).await?;
        let own_columns = columns_of(session, &own, table).await?;
        let (of, value) = match &side.of {
            None => (None, write(&own_columns, &side.value)),
            Some(of) => {
                let named = found(session, &of.table, schema).await?;
                let columns = columns_of(session, &named, table).await?;
                (Some(named), write(&columns, &of.name))
            }
        };
        let with = side.with.keys().map(|column| write(&own_columns, column)).collect();
        dialect.sides.insert(field.clone(), SideForm { table: own, of, value, with });
    }
    dialect.table = name;
    Ok(Described { columns, dialect })
}

/// The name of a table with its schema, quoted. One without a schema is looked for in `schema` first, and then where
/// the database looks.
async fn full_name(
    session: &Session<'_>,
    name: &str,
    schema: Option<&str>,
) -> Result<Option<String>, StoreError> {
    let beside =
        schema.filter(|_| !name.contains("\".\"")).map(|schema| format!("{}.{name}", quoted(schema)));
    let sql = "SELECT quote_ident(nspname) || '.' || quote_ident(relname), nspname::text, relname::text
        FROM pg_class JOIN pg_namespace ON pg_namespace.oid = relnamespace
        WHERE pg_class.oid = COALESCE(to_regclass($1), to_regclass($2))";
    let rows = session.query(sql, &[&beside, &name]).await?;
    Ok(rows.first().map(|row| format!("{}.{}", quoted(row.get(1)), quoted(row.get(2)))))
}

/// As [`full_name`], of a table that must be there.
async fn found(session: &Session<'_>, table: &str, schema: Option<&str>) -> Result<String, StoreError> {
    match full_name(session, &name_of(table), schema).await? {
        Some(name) => Ok(name),
        None => Err(no_table(session, table).await?),
    }
}

/// The error that a table is missing, with those that are there.
async fn no_table(session: &Session<'_>, name: &str) -> Result<StoreError, StoreError> {
    let sql = "SELECT quote_ident(schemaname) || '.' || quote_ident(tablename) FROM pg_tables
        WHERE schemaname NOT IN ('pg_catalog', 'information_schema') ORDER BY 1 LIMIT 20";
    let names = session.query(sql, &[]).await?;
    let names: Vec<String> = names.iter().map(|row| row.get(0)).collect();
    let help = match names.is_empty() {
        true => "the database has no tables; is it the right one?".to_owned(),
        false => format!("{} names it; there are {}", session.table.place(), names.join(", ")),
    };
    let (store, table) = (session.store.clone(), name.to_owned());
    Ok(StoreErrorKind::NoTable { store, table, help }.into())
}

/// The columns of a table that can be written.
async fn columns_of(session: &Session<'_>, name: &str, table: &SqlTable) -> Result<Vec<Column>, StoreError> {
    let sql = "WITH RECURSIVE base AS (
            SELECT attnum, atttypid AS type, atttypmod AS mod FROM pg_attribute
            WHERE attrelid = $1::text::regclass AND attnum > 0 AND NOT attisdropped AND attgenerated = ''
          UNION ALL
            SELECT attnum, typbasetype, CASE WHEN typtypmod >= 0 THEN typtypmod ELSE mod END
            FROM base JOIN pg_type ON pg_type.oid = type WHERE typtype = 'd'
        )
        SELECT attname::text, format_type(atttypid, atttypmod), attnotnull OR column_type.typnotnull,
            atthasdef OR attidentity <> '' OR column_type.typdefault IS NOT NULL, attidentity = 'a',
            format_type(base.type, -1), base_type.typcategory::text, base_type.typname::text, base.mod < 0
        FROM pg_attribute
        JOIN base USING (attnum) JOIN pg_type AS base_type ON base_type.oid = base.type
        JOIN pg_type AS column_type ON column_type.oid = atttypid
        WHERE attrelid = $1::text::regclass AND base_type.typtype <> 'd'
        ORDER BY attnum";
    let rows = session.query(sql, &[&name]).await?;
    Ok(rows.iter().map(|row| column(table, row)).collect())
}

fn column(table: &SqlTable, row: &Row) -> Column {
    let (name, declared, base): (String, String, String) = (row.get(0), row.get(1), row.get(5));
    let (category, kind): (String, String) = (row.get(6), row.get(7));
    let own = Column::new(table, name);
    let is_array = category == "A";
    let is_json = ["json", "jsonb"].contains(&kind.as_str());
    let is_list = own.is_list || is_array || (is_json && own.field == "roles");
    let name = quoted(&own.name);
    let read = match kind.as_str() {
        _ if is_array => format!("{AS_LIST}({name})::text"),
        // A number without a declared scale prints with as many digits as somebody wrote.
        "numeric" if row.get(8) => format!("trim_scale({name})::text"),
        _ => format!("{name}::text"),
    };
    let write = match is_array {
        true => format!(
            "(CASE WHEN {MARK} IS NOT NULL THEN COALESCE((SELECT array_agg(one ORDER BY number) FROM json_array_elements_text({MARK}::text::json) WITH ORDINALITY AS all_of (one, number)), ARRAY[]::text[]) END)::{base}"
        ),
        // A time with a zone is kept as it is in UTC, not stripped of its zone.
        false if kind == "timestamp" => format!("{MARK}::text::timestamptz::timestamp"),
        false => format!("{MARK}::text::{base}"),
    };
    Column {
        declared,
        is_text: category == "S" || is_list,
        may_be_null: !row.get::<_, bool>(2),
        has_default: row.get(3),
        is_always: row.get(4),
        is_list,
        read,
        write,
        ..own
    }
}

/// Whether a new row can be made with values for these fields alone.
pub(super) async fn may_create(
    session: &Session<'_>,
    described: &Described,
    fields: &[String],
) -> Result<(), StoreError> {
    let needed = described.columns.iter().find(|column| column.is_needed(session.table, fields));
    let Some(column) = needed else { return Ok(()) };
    // A trigger before or instead of the insertion may give the value.
    let sql =
        "SELECT EXISTS (SELECT 1 FROM pg_trigger WHERE tgrelid = $1::text::regclass AND NOT tgisinternal
        AND tgenabled <> 'D' AND tgtype & 5 = 5 AND tgtype & 66 <> 0)";
    let rows = session.query(sql, &[&described.dialect.table]).await?;
    match rows.first().is_some_and(|row| row.get(0)) {
        true => Ok(()),
        false => Err(column.needs_value(session.store.clone()).into()),
    }
}
