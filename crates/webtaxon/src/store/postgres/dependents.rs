//! Rows of other tables that refer to accounts, by foreign keys.

use super::super::StoreError;
use super::super::sql::MARK;
use super::super::sql::{ForeignKey, dependents_of};
use super::catalog::Described;
use super::session::Session;
use std::collections::HashMap;
use webtaxon_core::account::{Dependents, Effect, Inquiry};

/// The rows that refer to the accounts that would be removed, by login.
pub(super) async fn dependents(
    session: &Session<'_>,
    described: &Described,
    inquiry: &Inquiry,
) -> Result<HashMap<String, Vec<Dependents>>, StoreError> {
    if inquiry.removals.is_empty() || session.table.removed.is_some() {
        return Ok(HashMap::new());
    }
    let keys = foreign_keys(session).await?;
    let logins: Vec<&str> = inquiry.removals.iter().map(String::as_str).collect();
    let mut found: HashMap<String, Vec<Dependents>> = HashMap::new();
    let dialect = &described.dialect;
    for (chain, effect, table) in dependents_of(dialect, &keys) {
        let login = crate::sql_names::quoted(session.table.column("login"));
        let such = dialect.of_logins.replace(MARK, &format!("account.{login}"));
        let sql = format!("SELECT account.{login}::text, count(*) {chain} WHERE {such} GROUP BY 1");
        for row in session.query(&sql, &[&logins]).await? {
            let (login, rows): (String, i64) = (row.get(0), row.get(1));
            let rows = u64::try_from(rows).unwrap_or_default();
            let of = Dependents { table: table.clone(), rows, effect };
            found.entry(login.trim().to_owned()).or_default().push(of);
        }
    }
    Ok(found)
}

/// All foreign keys to which the user has access.
async fn foreign_keys(session: &Session<'_>) -> Result<Vec<ForeignKey>, StoreError> {
    let sql = "SELECT
          quote_ident(child_schema.nspname) || '.' || quote_ident(child.relname),
          '\"' || replace(child_schema.nspname, '\"', '\"\"') || '\".\"' || replace(child.relname, '\"', '\"\"') || '\"',
          '\"' || replace(parent_schema.nspname, '\"', '\"\"') || '\".\"' || replace(parent.relname, '\"', '\"\"') || '\"',
          ARRAY(SELECT attname::text FROM unnest(conkey) WITH ORDINALITY AS k (num, n)
            JOIN pg_attribute ON attrelid = conrelid AND attnum = num ORDER BY n),
          ARRAY(SELECT attname::text FROM unnest(confkey) WITH ORDINALITY AS k (num, n)
            JOIN pg_attribute ON attrelid = confrelid AND attnum = num ORDER BY n),
          confdeltype::text
        FROM pg_constraint
        JOIN pg_class AS child ON child.oid = conrelid
        JOIN pg_namespace AS child_schema ON child_schema.oid = child.relnamespace
        JOIN pg_class AS parent ON parent.oid = confrelid
        JOIN pg_namespace AS parent_schema ON parent_schema.oid = parent.relnamespace
        WHERE contype = 'f' AND conparentid = 0 AND has_table_privilege(conrelid, 'SELECT')
        ORDER BY 1, conname";
    let rows = session.query(sql, &[]).await?;
    let key = |row: &tokio_postgres::Row| ForeignKey {
        shown: row.get(0),
        child: row.get(1),
        parent: row.get(2),
        columns: row.get::<_, Vec<String>>(3).into_iter().zip(row.get::<_, Vec<String>>(4)).collect(),
        effect: match row.get::<_, String>(5).as_str() {
            "c" => Effect::Deleted,
            "n" | "d" => Effect::Cleared,
            _ => Effect::Refused,
        },
    };
    Ok(rows.iter().map(key).collect())
}
