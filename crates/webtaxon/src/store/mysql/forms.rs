//! The form in which the database would keep a value, by the declared type and the CHECK constraints.

use super::super::StoreError;
use super::super::sql::{Column, Kind};
use super::catalog::Described;
use super::session::Session;
use crate::sql_names::quoted;
use std::collections::HashMap;
use webtaxon_core::account::{Form, Inquiry, Replies};

/// Maximum values in one query.
const BATCH: usize = 2000;

/// The forms of all values of an inquiry.
pub(super) async fn forms(
    session: &mut Session,
    described: &Described,
    inquiry: &Inquiry,
) -> Result<Replies, StoreError> {
    let mut replies = Replies::default();
    let checks = checks(session, described).await;
    for (field, values) in &inquiry.values {
        let Some(column) = described.columns.iter().find(|column| column.field == *field) else { continue };
        let kind = Kind::of_mysql(&column.declared);
        let mut forms = HashMap::new();
        if values.contains("") {
            forms.extend(column.form_of_nothing().map(|form| (String::new(), form)));
        }
        let values = || values.iter().filter(|value| !value.is_empty());
        for value in values().filter(|_| !column.is_list) {
            match kind.form(value, &column.declared) {
                Some(Form::As(kept)) if kept == *value => {}
                Some(form) => drop(forms.insert(value.clone(), form)),
                None => {}
            }
        }
        let kept: Vec<(&String, String)> = values()
            .filter_map(|value| match forms.get(value) {
                Some(Form::As(kept)) => Some((value, kept.to_string())),
                Some(_) => None,
                None => Some((value, column.listed(value))),
            })
            .collect();
        for check in &checks {
            for kept in kept.chunks(BATCH) {
                for at in violating(session, column, check, kept).await {
                    let Some((value, _)) = kept.get(at) else { continue };
                    let why = format!("is refused by the constraint {}", check.name);
                    forms.insert((*value).clone(), Form::Unfit(why));
                }
            }
        }
        if !forms.is_empty() {
            replies.forms.insert(field.clone(), forms);
        }
    }
    Ok(replies)
}

/// A CHECK constraint.
struct Check {
    name: String,
    clause: String,
}

/// The CHECK constraints of the table; none where the server has none.
async fn checks(session: &mut Session, described: &Described) -> Vec<Check> {
    let sql = "SELECT CAST(c.CONSTRAINT_NAME AS CHAR), CAST(c.CHECK_CLAUSE AS CHAR)
        FROM information_schema.CHECK_CONSTRAINTS AS c JOIN information_schema.TABLE_CONSTRAINTS AS t
          ON t.CONSTRAINT_SCHEMA = c.CONSTRAINT_SCHEMA AND t.CONSTRAINT_NAME = c.CONSTRAINT_NAME
        WHERE t.TABLE_SCHEMA = ? AND t.TABLE_NAME = ? AND t.CONSTRAINT_TYPE = 'CHECK'";
    let [schema, name] = &described.name;
    let rows: Vec<(String, String)> = session.rows(sql, (schema, name)).await.unwrap_or_default();
    rows.into_iter().map(|(name, clause)| Check { name, clause }).collect()
}

/// The values that violate a condition, by index; none if it is about other columns.
async fn violating(
    session: &mut Session,
    column: &Column,
    check: &Check,
    kept: &[(&String, String)],
) -> Vec<usize> {
    if !check.clause.contains(&format!("`{}`", column.name.replace('`', "``"))) {
        return Vec::new();
    }
    let all = serde_json::Value::from_iter(kept.iter().map(|(_, kept)| kept.as_str())).to_string();
    let sql = format!(
        "SELECT webtaxon_number FROM JSON_TABLE(?, '$[*]' COLUMNS (webtaxon_number FOR ORDINALITY, {} LONGTEXT PATH '$')) AS webtaxon_all WHERE ({}) IS FALSE",
        quoted(&column.name),
        check.clause
    );
    let rows: Vec<u64> = session.rows(&sql, (all,)).await.unwrap_or_default();
    rows.into_iter().filter_map(|number| usize::try_from(number).ok()?.checked_sub(1)).collect()
}
