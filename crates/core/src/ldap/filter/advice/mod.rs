//! Advice on a search filter: what may surprise its author, why, and the corrected filter where there is one.
//!
//! Three groups of rules: `shape` looks at how clauses are joined, `meaning` at what the attributes mean on this kind
//! of server, `values` at the values compared. No rule recurses.

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

/// Clauses examined; a longer filter is a generated list, of which the first ones are enough.
const CLAUSES: usize = 1000;

/// All advice on a filter, most serious first, then in the order of its clauses; at most ten of each kind.
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

/// The kind of server that a filter was probably written for, judging by its attributes.
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
