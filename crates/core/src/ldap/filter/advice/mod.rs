//! What will surprise whoever wrote a filter: each with its reason and, where there is one, a
//! filter that does what was meant.
//!
//! Three groups of rules: `shape` looks at how clauses are joined, `meaning` at what the
//! attributes mean to this kind of server, `values` at what is compared. No rule recurses.

mod look;
mod meaning;
mod shape;
#[cfg(test)]
mod tests;
mod values;

pub use look::{Advice, Context, Weight};

use super::{Filter, Item};
use crate::ldap::schema::ServerKind;
use look::Look;

/// Clauses that are looked at; a filter with more is a list, and its first ones tell.
const CLAUSES: usize = 1000;

/// Everything that is worth saying about a filter, the gravest first, then in the order of its
/// clauses; of each kind the first ten.
#[must_use]
pub fn advise(filter: &Filter, context: Context<'_>) -> Vec<Advice> {
    let mut look = Look::new(filter, context);
    for number in 0..look.clauses.len().min(CLAUSES) {
        shape::look(&mut look, number);
        meaning::look(&mut look, number);
        values::look(&mut look, number);
    }
    look.finish()
}

/// The kind of server that a filter seems to be written for, by its attributes.
#[must_use]
pub fn likely_kind(filter: &Filter) -> ServerKind {
    const CONTROLLER: [&str; 6] =
        ["sAMAccountName", "userAccountControl", "objectCategory", "objectGUID", "objectSid", "whenChanged"];
    let is_one = |name: &str| CONTROLLER.iter().any(|own| own.eq_ignore_ascii_case(name));
    let users = |item: &Item| {
        matches!(item, Item::Equal { attribute, value }
            if attribute.eq_ignore_ascii_case("objectClass") && value.eq_ignore_ascii_case(b"user"))
    };
    if filter.attributes().any(is_one) || filter.items().any(users) {
        ServerKind::Controller
    } else {
        ServerKind::Plain
    }
}
