//! Foreign keys that lead to the accounts, directly or by tables in between whose rows are deleted with them.

use super::Dialect;
use crate::sql_names::quoted;
use webtaxon_core::account::Effect;

/// Maximum tables in between.
const DEPTH: usize = 5;

/// A foreign key, with quoted names of the tables.
#[derive(Clone, Debug)]
pub(in super::super) struct ForeignKey {
    /// The name of the referring table, for messages.
    pub(in super::super) shown: String,
    pub(in super::super) child: String,
    pub(in super::super) parent: String,
    /// Pairs of columns, of the child and of the parent.
    pub(in super::super) columns: Vec<(String, String)>,
    /// The effect of deleting the parent's row.
    pub(in super::super) effect: Effect,
}

/// The joins that lead from the table of accounts, called `account`, to each referring table; the effect of removing an
/// account on its rows; and the table's name. Tables that Webtaxon clears itself are left out.
pub(in super::super) fn dependents_of(
    dialect: &Dialect,
    keys: &[ForeignKey],
) -> Vec<(String, Effect, String)> {
    let is_own = |table: &str| dialect.sides.values().any(|side| side.table == table);
    let mut all = Vec::new();
    let mut open = vec![(
        format!("FROM {} AS account", dialect.table),
        dialect.table.clone(),
        "account".to_owned(),
        Vec::new(),
    )];
    while let Some((joins, parent, alias, path)) = open.pop() {
        for (at, key) in keys.iter().enumerate().filter(|(_, key)| key.parent == parent) {
            if path.contains(&at) || path.len() >= DEPTH || (path.is_empty() && is_own(&key.child)) {
                continue;
            }
            let own = format!("d{}", path.len());
            let pair = |(child, parent): &(String, String)| {
                format!("{own}.{} = {alias}.{}", quoted(child), quoted(parent))
            };
            let pairs: Vec<String> = key.columns.iter().map(pair).collect();
            let joins = format!("{joins} JOIN {} AS {own} ON {}", key.child, pairs.join(" AND "));
            all.push((joins.clone(), key.effect, key.shown.clone()));
            if key.effect == Effect::Deleted {
                let path = path.iter().copied().chain([at]).collect();
                open.push((joins, key.child.clone(), own, path));
            }
        }
    }
    all
}
