//! The form in which PostgreSQL would keep a value, found out by the database itself: it reads the value as the
//! column's type, without writing anything.

use super::super::sql::{Column, MARK};
use super::super::{StoreError, StoreErrorKind};
use super::catalog::Described;
use super::session::{Session, refused};
use crate::sql_names::quoted;
use std::collections::HashMap;
use tokio_postgres::Client;
use webtaxon_core::account::{Form, Inquiry, Replies};
use webtaxon_core::settings::States;

/// Maximum values in one query.
const BATCH: usize = 5000;

/// Reads the values of the session variable one by one, and keeps the faults of those that cannot be read.
const ONE_BY_ONE: &str = "DO $$
DECLARE
  given json := current_setting('webtaxon.given')::json;
  bad jsonb := '{}';
BEGIN
  FOR at IN 0 .. json_array_length(given) - 1 LOOP
    BEGIN
      EXECUTE current_setting('webtaxon.query') USING ARRAY[given ->> at];
    EXCEPTION WHEN OTHERS THEN
      bad := bad || jsonb_build_object(at::text, SQLERRM);
    END;
  END LOOP;
  PERFORM set_config('webtaxon.bad', bad::text, false);
END $$";

/// What a column would make of a value.
enum Kept {
    As(Option<String>),
    Unfit(String),
}

/// The forms of all values of an inquiry.
pub(super) async fn forms(
    session: &Session<'_>,
    described: &Described,
    inquiry: &Inquiry,
) -> Result<Replies, StoreError> {
    let mut replies = Replies::default();
    for (field, values) in &inquiry.values {
        let Some(column) = described.columns.iter().find(|column| column.field == *field) else { continue };
        if column.declared == "citext" {
            replies.caseless.insert(field.clone());
        }
        let mut forms = HashMap::new();
        if values.contains("") {
            forms.extend(column.form_of_nothing().map(|form| (String::new(), form)));
        }
        let texts: Vec<&str> = values.iter().map(String::as_str).filter(|value| !value.is_empty()).collect();
        let checks = checks_of(session, described, column).await?;
        for texts in texts.chunks(BATCH) {
            let kept = kept(session, column, &checks, texts).await?;
            for (text, kept) in texts.iter().zip(kept) {
                let form = match kept {
                    // Items of a list may be in any order.
                    Kept::As(_) if column.is_list => continue,
                    Kept::As(kept) if kept.as_deref() == Some(*text) => continue,
                    Kept::As(kept) => Form::As(kept.unwrap_or_default().into()),
                    Kept::Unfit(why) => Form::Unfit(why),
                };
                forms.insert((*text).to_owned(), form);
            }
        }
        if !forms.is_empty() {
            replies.forms.insert(field.clone(), forms);
        }
    }
    Ok(replies)
}

/// The words of the state column as the database prints them.
pub(super) async fn states(
    session: &Session<'_>,
    columns: &[Column],
    states: &States,
) -> Result<States, StoreError> {
    let Some(column) = columns.iter().find(|column| column.field == "state") else {
        return Ok(states.clone());
    };
    let mut printed = states.clone();
    for words in [&mut printed.active, &mut printed.suspended] {
        let texts: Vec<&str> = words.iter().map(String::as_str).collect();
        let kept = kept(session, column, &[], &texts).await?;
        let mut all = Vec::new();
        for (word, kept) in texts.iter().zip(kept) {
            match kept {
                Kept::As(kept) => all.push(kept.unwrap_or_default()),
                Kept::Unfit(why) => {
                    let (store, column) = (session.store.clone(), column.name.clone());
                    return Err(
                        StoreErrorKind::BadState { store, column, word: (*word).to_owned(), why }.into()
                    );
                }
            }
        }
        *words = all;
    }
    Ok(printed)
}

/// The conditions of CHECK constraints on one column alone, with their names.
async fn checks_of(
    session: &Session<'_>,
    described: &Described,
    column: &Column,
) -> Result<Vec<(String, String)>, StoreError> {
    let sql = "SELECT conname::text, pg_get_expr(conbin, conrelid) FROM pg_constraint
        JOIN pg_attribute ON attrelid = conrelid AND conkey = ARRAY[attnum]
        WHERE conrelid = $1::text::regclass AND contype = 'c' AND attname = $2::text ORDER BY 1";
    let rows = session.query(sql, &[&described.dialect.table, &column.name]).await?;
    Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
}

/// The query that reads many values as a column's type: each as it would be printed, whether it is unchanged, and the
/// first condition that it violates.
fn query(column: &Column, checks: &[(String, String)]) -> String {
    let value = column.write.replace(MARK, "webtaxon_given");
    let name = quoted(&column.name);
    let violated = checks.iter().map(|(name, check)| {
        let name = name.replace('\'', "''");
        format!("WHEN NOT ({check}) THEN '{name}'")
    });
    let violated: Vec<String> = violated.collect();
    let violated = match violated.is_empty() {
        true => "NULL::text".to_owned(),
        false => format!("CASE {} END", violated.join(" ")),
    };
    let base = base(column);
    let mut same = Vec::new();
    if has_equality(base) {
        same.push(format!("webtaxon_read = {name}"));
    }
    match base {
        // A character type of fixed length is filled up with blanks.
        "bpchar" => {}
        // A date drops the time of day in silence.
        "date" => same.push(format!("webtaxon_given::timestamptz = {name}::timestamptz")),
        _ if column.is_text && !column.is_list => same.push(format!("webtaxon_given = {name}::text")),
        _ => {}
    }
    let is_same = if same.is_empty() { "true".to_owned() } else { same.join(" AND ") };
    format!(
        "SELECT {}, {is_same}, {violated} FROM (SELECT webtaxon_number, webtaxon_given, webtaxon_read, webtaxon_read::{} AS {name} FROM (SELECT webtaxon_number, webtaxon_given, {value} AS webtaxon_read FROM unnest($1::text[]) WITH ORDINALITY AS webtaxon_all (webtaxon_given, webtaxon_number)) AS webtaxon_parsed) AS webtaxon_rows ORDER BY webtaxon_number",
        column.read, column.declared
    )
}

/// The type without its length, as it stands at the end of the expression that writes it.
fn base(column: &Column) -> &str {
    column.write.rsplit_once("::").map_or("text", |(_, base)| base)
}

/// Whether values of the type can be compared.
fn has_equality(base: &str) -> bool {
    !["json", "xml", "point", "polygon", "jsonpath"].contains(&base)
}

/// What a column would make of each value.
async fn kept(
    session: &Session<'_>,
    column: &Column,
    checks: &[(String, String)],
    texts: &[&str],
) -> Result<Vec<Kept>, StoreError> {
    if texts.is_empty() {
        return Ok(Vec::new());
    }
    let query = query(column, checks);
    let given: Vec<String> = texts.iter().map(|text| column.listed(text)).collect();
    let (client, refused) = (session.client, |error: tokio_postgres::Error| refused(&session.store, &error));
    let read = async |given: &[String]| client.query(&query, &[&given]).await;
    let mut bad: HashMap<usize, String> = HashMap::new();
    let rows = match read(&given).await {
        Ok(rows) => rows,
        Err(error) if error.as_db_error().is_none() => return Err(refused(error)),
        Err(_) => {
            bad = find_bad(client, &query, &given).await.map_err(refused)?;
            let good = given.iter().enumerate().filter(|(at, _)| !bad.contains_key(at));
            let good: Vec<String> = good.map(|(_, text)| text.clone()).collect();
            read(&good).await.map_err(refused)?
        }
    };
    let mut rows = rows.iter();
    let kept = (0..given.len()).filter_map(|at| {
        if let Some(why) = bad.remove(&at) {
            return Some(Kept::Unfit(format!("cannot be kept: {why}")));
        }
        let row = rows.next()?;
        let (kept, is_same, violated): (Option<String>, Option<bool>, Option<String>) =
            (row.get(0), row.get(1), row.get(2));
        Some(match (is_same, violated) {
            (_, Some(name)) => Kept::Unfit(format!("is refused by the constraint {name}")),
            (Some(false), None) => Kept::Unfit(format!("does not fit into {}", column.declared)),
            _ => Kept::As(kept),
        })
    });
    Ok(kept.collect())
}

/// The values that cannot be read, by index, with the database's message.
async fn find_bad(
    client: &Client,
    query: &str,
    given: &[String],
) -> Result<HashMap<usize, String>, tokio_postgres::Error> {
    let all = serde_json::Value::from(given).to_string();
    let set = "SELECT set_config('webtaxon.given', $1, false), set_config('webtaxon.query', $2, false)";
    client.query(set, &[&all, &query]).await?;
    client.batch_execute(ONE_BY_ONE).await?;
    let row = client.query_one("SELECT current_setting('webtaxon.bad')", &[]).await?;
    let bad: HashMap<String, String> = serde_json::from_str(row.get(0)).unwrap_or_default();
    Ok(bad.into_iter().filter_map(|(at, why)| Some((at.parse().ok()?, why))).collect())
}
