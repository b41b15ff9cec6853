//! Which groups are imported, and where the application keeps them: `[intake.application_groups]` and
//! `[accounts.groups]`.

use super::fields::group_name;
use super::table::{Table, Value};
use super::values::{filled, names, search_filter};
use crate::settings::{
    CsvGroups, GroupIntake, GroupLeaving, GroupMembers, MemberTable, SettingsError, SqlGroups,
};
use indexmap::IndexMap;

/// Which groups of the directory are imported.
pub(super) fn application_groups(value: Value<'_>) -> Result<GroupIntake, SettingsError> {
    let mut table = value.table(&["bases", "filter", "name", "members", "adopt", "gone"])?;
    let help = "say where these groups are: bases = [\"OU=Groups,DC=quillmere,DC=example\"]";
    let bases = table.require("bases", help)?;
    let none = bases.bad("it is empty", help);
    let bases = names(bases)?;
    if bases.is_empty() {
        return Err(none);
    }
    let filter = table.require("filter", "say which groups, like filter = \"(cn=Loans *)\"")?;
    let filter = search_filter(&filter.text()?)?;
    let help = "say what a group is called in the application: name = { from = \"cn\" }";
    let name = group_name(table.require("name", help)?)?;
    let mut word = |key, words: &[(&str, bool)]| match table.take(key) {
        None => Ok(false),
        Some(value) => value.text()?.word(words),
    };
    let members = match word("members", &[("flattened", false), ("direct", true)])? {
        true => GroupMembers::Direct,
        false => GroupMembers::Flattened,
    };
    let adopt = word("adopt", &[("never", false), ("same-name", true)])?;
    let gone = match word("gone", &[("keep", false), ("remove", true)])? {
        true => GroupLeaving::Remove,
        false => GroupLeaving::Keep,
    };
    let fields = IndexMap::from([("name".to_owned(), name)]);
    Ok(GroupIntake { bases, filter, fields, members, adopt, gone })
}

/// The file with the groups.
pub(super) fn csv_groups(value: Value<'_>) -> Result<CsvGroups, SettingsError> {
    let mut table = value.table(&["path", "columns"])?;
    let path = filled(table.require("path", "name the file: path = \"groups.csv\"")?.text()?)?;
    let columns = columns(&mut table, &["name", "link", "members"])?;
    Ok(CsvGroups { path: path.into(), columns })
}

/// The tables with the groups and their members.
pub(super) fn sql_groups(value: Value<'_>) -> Result<SqlGroups, SettingsError> {
    let mut table = value.table(&["table", "columns", "members"])?;
    let name = filled(table.require("table", "name the table: table = \"team\"")?.text()?)?;
    let columns = columns(&mut table, &["name", "link"])?;
    let help = "write members = { table = \"team_member\", group = \"team_id\", group_key = \"id\", account = \"account_id\", account_key = \"id\" }";
    let mut members =
        table.require("members", help)?.table(&["table", "group", "group_key", "account", "account_key"])?;
    let mut one = |key| filled(members.require(key, help)?.text()?);
    let members = MemberTable {
        name: one("table")?,
        group: one("group")?,
        group_key: one("group_key")?,
        account: one("account")?,
        account_key: one("account_key")?,
    };
    Ok(SqlGroups { name, columns, members })
}

/// The columns that have other names.
fn columns(
    table: &mut Table<'_>,
    known: &'static [&'static str],
) -> Result<IndexMap<String, String>, SettingsError> {
    let mut columns = IndexMap::new();
    if let Some(value) = table.take("columns") {
        let mut named = value.table(known)?;
        for key in known {
            if let Some(column) = named.take(key) {
                columns.insert((*key).to_owned(), filled(column.text()?)?);
            }
        }
    }
    Ok(columns)
}
