//! Dialects: how each database writes names, placeholders, lists of values and the current time.

#[cfg(any(feature = "mysql", feature = "postgres"))]
use super::bound::Many;
use super::bound::{Bound, Statement, Text, literal};
use super::column::{Column, MARK};
use crate::sql_names::quoted;
use indexmap::IndexMap;
use webtaxon_core::settings::{Removed, SideTable, SqlTable};

/// A database's dialect of SQL, for one table.
#[derive(Clone, Debug)]
pub(in super::super) struct Dialect {
    /// The table's quoted name.
    pub(in super::super) table: String,
    /// The character in front of a placeholder's number.
    pub(in super::super) mark: char,
    /// Whether placeholders have numbers; otherwise they are used once each, in order.
    pub(in super::super) is_numbered: bool,
    /// The expression that compares a bound login, with [`MARK`] in place of the value.
    pub(in super::super) login: String,
    /// The tables with one value to a row, by field.
    pub(in super::super) sides: IndexMap<String, SideForm>,
    /// The way in which one statement inserts many rows.
    pub(in super::super) bulk: Bulk,
    /// Whether an INSERT must say that it overrides generated numbers.
    pub(in super::super) overrides: bool,
    /// Whether the number of changed rows is unknown, as in a view with triggers.
    pub(in super::super) is_uncounted: bool,
    /// The condition for logins that are passed together, with [`MARK`] in place of the expression that reads a login.
    pub(in super::super) of_logins: String,
    /// The same for links.
    pub(in super::super) of_links: String,
    /// The current time as a value of a column.
    pub(in super::super) now: fn(&Column) -> &'static str,
}

/// The way in which one statement inserts many rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in super::super) enum Bulk {
    /// It does not.
    One,
    /// With an array for each column.
    #[cfg(feature = "postgres")]
    Arrays,
    /// With many rows of values.
    #[cfg(feature = "mysql")]
    Rows,
}

/// The expressions for one row, from those for its placeholders.
#[cfg(feature = "postgres")]
type Row<'r> = dyn Fn(&dyn Fn(usize) -> String) -> String + 'r;

/// The expression for the value at a placeholder.
pub(super) type Expression<'e> = &'e dyn Fn(&str) -> String;

/// A table with one value to a row, as statements refer to it.
#[derive(Clone, Debug)]
pub(in super::super) struct SideForm {
    /// Its quoted name.
    pub(in super::super) table: String,
    /// The quoted name of the table with the names of values, if there is one.
    pub(in super::super) of: Option<String>,
    /// The expression that compares or writes a value, with [`MARK`] in its place.
    pub(in super::super) value: String,
    /// The same for each column with a fixed value, in order.
    pub(in super::super) with: Vec<String>,
}

impl SideForm {
    /// A side table of which only the name is known.
    pub(in super::super) fn new(side: &SideTable, name_of: fn(&str) -> String) -> Self {
        Self {
            table: name_of(&side.name),
            of: side.of.as_ref().map(|of| name_of(&of.table)),
            value: MARK.to_string(),
            with: side.with.iter().map(|_| MARK.to_string()).collect(),
        }
    }
}

impl Dialect {
    /// The dialect for a table of which only the name is known.
    pub(in super::super) fn new(table: &SqlTable, mark: char, name_of: fn(&str) -> String) -> Self {
        let sides = table.sides.iter().map(|(field, side)| (field.clone(), SideForm::new(side, name_of)));
        Self {
            table: name_of(&table.name),
            mark,
            is_numbered: true,
            login: MARK.to_string(),
            sides: sides.collect(),
            bulk: Bulk::One,
            overrides: false,
            is_uncounted: false,
            of_logins: String::new(),
            of_links: String::new(),
            now: |_| "CURRENT_TIMESTAMP",
        }
    }

    pub(super) fn mark(&self, number: usize) -> String {
        if self.is_numbered { format!("{}{number}", self.mark) } else { self.mark.to_string() }
    }

    /// The condition for the account with the login at a placeholder.
    pub(super) fn is_login(&self, table: &SqlTable, number: usize) -> String {
        self.is_login_at(table, &self.mark(number))
    }

    /// The same for a login at an expression.
    pub(super) fn is_login_at(&self, table: &SqlTable, mark: &str) -> String {
        let login = self.login.replace(MARK, mark);
        let there = table.removed.as_ref().map(|removed| format!(" AND {}", is_there("", removed)));
        format!("{} = {login}{}", quoted(table.column("login")), there.unwrap_or_default())
    }

    /// The condition for a row marked as removed with the login at a placeholder.
    pub(super) fn is_removed_login(&self, table: &SqlTable, number: usize) -> String {
        let login = self.login.replace(MARK, &self.mark(number));
        let gone = table.removed.as_ref().map(|removed| format!(" AND NOT ({})", is_there("", removed)));
        format!("{} = {login}{}", quoted(table.column("login")), gone.unwrap_or_default())
    }

    /// The value that a side table has for an account, found by its login at a placeholder.
    pub(super) fn key(&self, table: &SqlTable, side: &SideTable, number: usize) -> String {
        format!("(SELECT {} FROM {} WHERE {})", quoted(&side.key), self.table, self.is_login(table, number))
    }

    /// The expression for a value of a side table at a placeholder.
    pub(super) fn value(form: &SideForm, side: &SideTable, mark: &str) -> String {
        let value = form.value.replace(MARK, mark);
        match side.of.as_ref().zip(form.of.as_ref()) {
            None => value,
            Some((of, table)) => {
                let there = of.removed.as_ref().map(|removed| format!(" AND {}", is_there("", removed)));
                format!(
                    "(SELECT {} FROM {table} WHERE {} = {value}{})",
                    quoted(&of.key),
                    quoted(&of.name),
                    there.unwrap_or_default()
                )
            }
        }
    }

    /// A statement with its values in place of the placeholders.
    pub(super) fn written_out(&self, statement: &Statement) -> String {
        let mut out = String::new();
        let (mut is_name, mut is_text) = (false, false);
        let mut rest = statement.text.one.chars().peekable();
        let mut used = 0;
        while let Some(character) = rest.next() {
            is_name ^= character == '"' && !is_text;
            is_text ^= character == '\'' && !is_name;
            if character != self.mark || is_name || is_text {
                out.push(character);
                continue;
            }
            let mut number = 0;
            while let Some(digit) =
                rest.peek().and_then(|next| next.to_digit(10)).filter(|_| self.is_numbered)
            {
                number = number * 10 + digit as usize;
                rest.next();
            }
            used += 1;
            let number = if self.is_numbered { number } else { used };
            let value = number.checked_sub(1).and_then(|at| statement.values.get(at));
            out += &value.map_or_else(|| literal(&Bound::Null), literal);
        }
        out
    }

    /// An INSERT statement: its beginning, and an expression for each value with its placeholder; if the database
    /// accepts arrays, also its form for many rows. `last` are expressions without a value.
    pub(super) fn adding(
        &self,
        into: &str,
        (values, last): (&[Expression<'_>], &[&str]),
        overrides: bool,
    ) -> Text {
        let all = |mark: &dyn Fn(usize) -> String| -> String {
            let values = values.iter().enumerate().map(|(at, value)| value(&mark(at + 1)));
            let values: Vec<String> = values.chain(last.iter().map(|one| (*one).to_owned())).collect();
            values.join(", ")
        };
        let into = if overrides { format!("{into} OVERRIDING SYSTEM VALUE") } else { into.to_owned() };
        let one = format!("{into} VALUES ({})", all(&|number| self.mark(number)));
        let many = match self.bulk {
            Bulk::One => None,
            #[cfg(feature = "mysql")]
            Bulk::Rows => {
                let row = format!("({})", all(&|number| self.mark(number)));
                Some(Many::Rows(format!("{into} VALUES ").into(), row.into()))
            }
            #[cfg(feature = "postgres")]
            Bulk::Arrays => Some(Many::Arrays(self.of_arrays(&into, values.len(), &all))),
        };
        Text { one: one.into(), many }
    }

    /// An INSERT of many rows, with an array for each column.
    #[cfg(feature = "postgres")]
    fn of_arrays(&self, into: &str, columns: usize, all: &Row<'_>) -> std::sync::Arc<str> {
        let numbers = || 1..=columns;
        let arrays: Vec<String> = numbers().map(|number| format!("{}{number}::text[]", self.mark)).collect();
        let names: Vec<String> = numbers().map(|number| format!("c{number}")).collect();
        let (arrays, names) = (arrays.join(", "), names.join(", "));
        let row = all(&|number| format!("many.c{number}"));
        format!("{into} SELECT {row} FROM unnest({arrays}) AS many ({names})").into()
    }

    /// The query that reads accounts: all, those whose logins are passed together, or the removed ones.
    pub(in super::super) fn select(&self, table: &SqlTable, columns: &[Column], which: Which) -> String {
        let read = columns.iter().map(|column| if column.is_secret { "NULL" } else { column.read.as_str() });
        let read: Vec<&str> = read.collect();
        format!("SELECT {} FROM {}{}", read.join(", "), self.table, self.such(table, which))
    }

    /// The query that reads a side table: the account's key, and the value, both as text by `as_text`.
    pub(in super::super) fn select_side(
        &self,
        table: &SqlTable,
        (side, form): (&SideTable, &SideForm),
        which: Which,
        as_text: fn(&str) -> String,
    ) -> String {
        let own = |name: &str| format!("listed.{}", quoted(name));
        let (account, value) = (own(&side.account), own(&side.value));
        let (value, join) = match side.of.as_ref().zip(form.of.as_ref()) {
            None => (value, String::new()),
            Some((of, named)) => (
                format!("whose.{}", quoted(&of.name)),
                format!(" JOIN {named} AS whose ON whose.{} = {value}", quoted(&of.key)),
            ),
        };
        let keys = format!(
            "{account} IN (SELECT {} FROM {}{})",
            quoted(&side.key),
            self.table,
            self.such(table, which)
        );
        let fixed = side.with.iter().zip(&form.with).map(|((column, value), form)| {
            let value = form.replace(MARK, &literal(&Bound::of(value)));
            format!("listed.{} = {value}", quoted(column))
        });
        let all = which == Which::All && table.removed.is_none();
        let conditions: Vec<String> = (!all).then_some(keys).into_iter().chain(fixed).collect();
        let such = if conditions.is_empty() {
            String::new()
        } else {
            format!(" WHERE {}", conditions.join(" AND "))
        };
        let (account, value) = (as_text(&account), as_text(&value));
        format!("SELECT {account}, {value} FROM {} AS listed{join}{such}", form.table)
    }

    /// The condition for rows, with ` WHERE ` in front; empty for all.
    fn such(&self, table: &SqlTable, which: Which) -> String {
        let there = table.removed.as_ref().map(|removed| match which {
            Which::Removed => format!("NOT ({})", is_there("", removed)),
            Which::All | Which::OfLogins | Which::OfLinks => is_there("", removed),
        });
        let passed = match which {
            Which::OfLogins => Some(self.of_logins.replace(MARK, &quoted(table.column("login")))),
            Which::OfLinks => Some(self.of_links.replace(MARK, &quoted(table.column("link")))),
            Which::All | Which::Removed => None,
        };
        let all: Vec<String> = passed.into_iter().chain(there).collect();
        if all.is_empty() { String::new() } else { format!(" WHERE {}", all.join(" AND ")) }
    }
}

/// The rows of a query.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in super::super) enum Which {
    /// Every account.
    All,
    /// Accounts whose logins are passed together.
    OfLogins,
    /// Accounts whose links are passed together.
    OfLinks,
    /// Rows that are marked as removed.
    Removed,
}

#[cfg(any(feature = "postgres", feature = "sqlite"))]
impl Which {
    /// True if values are passed together.
    pub(in super::super) fn is_passed(self) -> bool {
        matches!(self, Self::OfLogins | Self::OfLinks)
    }
}

/// The condition that a row is not marked as removed.
fn is_there(of: &str, removed: &Removed) -> String {
    let column = format!("{of}{}", quoted(&removed.column));
    match &removed.value {
        None => format!("{column} IS NULL"),
        Some(value) => format!("({column} IS NULL OR {column} <> {})", literal(&Bound::of(value))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use webtaxon_core::settings::States;

    /// Placeholders are replaced by their values, and nothing else is: not in names, and not in texts.
    #[test]
    fn a_statement_is_written_out_with_its_values() {
        let table = SqlTable {
            name: "account".to_owned(),
            states: Some(States::default()),
            has_links: true,
            ..SqlTable::default()
        };
        for (mark, is_numbered, text, written) in [
            (
                '$',
                true,
                r#"SET "$1" = $2, b = '$1 "' WHERE c = $1"#,
                r#"SET "$1" = 'it''s', b = '$1 "' WHERE c = 'x?'"#,
            ),
            (
                '?',
                false,
                r#"SET "it's ?" = ?, b = 'it''s ?' WHERE c = ?"#,
                r#"SET "it's ?" = 'x?', b = 'it''s ?' WHERE c = 'it''s'"#,
            ),
        ] {
            let dialect = Dialect { is_numbered, ..Dialect::new(&table, mark, quoted) };
            let values = ["x?", "it's"].map(Bound::of).to_vec();
            let statement =
                Statement { text: text.to_owned().into(), values, is_one: true, comes_after: false };
            assert_eq!(dialect.written_out(&statement), written, "{text}");
        }
    }
}
