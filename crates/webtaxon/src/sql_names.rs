//! Names of schemas, tables and columns in SQL.

/// A name in double quotes (ISO 9075-2, delimited identifier).
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}
