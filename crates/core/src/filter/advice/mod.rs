//! What will surprise whoever wrote a filter: each with its reason and, where there is one, a
//! filter that does what was meant.
//!
//! Three groups of rules: [`shape`] looks at how clauses are joined, [`meaning`] at what the
//! attributes mean to this kind of server, [`values`] at what is compared. No rule recurses.

mod meaning;
mod shape;
#[cfg(test)]
mod tests;
mod values;

use super::{Clause, Filter};
use crate::reading::ServerKind;
use crate::schema::{Rule, Schema};
use serde::Serialize;

/// How much an advice matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// It does not do what is written.
    Wrong,
    /// It does, and that is seldom what is meant.
    Surprise,
    /// Good to know; nothing needs to be done.
    Note,
}

/// One advice about a filter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Advice {
    /// The stable code, with a chapter in the guide.
    pub code: &'static str,
    /// How much it matters.
    pub weight: Weight,
    /// The clause that it is about, in words.
    pub clause: String,
    /// What will happen, and why.
    pub message: String,
    /// The whole filter with that clause mended, where it can be told.
    pub rewrite: Option<Filter>,
    /// Whether the rewritten filter selects the same entries.
    pub same: bool,
}

/// What is known of where the filter will be used.
#[derive(Clone, Copy)]
pub struct Context<'c> {
    /// What kind of server it goes to.
    pub kind: ServerKind,
    /// For an attribute that the server does not know: the nearest one that it does, or nothing.
    /// None for one that it knows.
    pub unknown: &'c dyn Fn(&str) -> Option<Option<String>>,
    /// Whether something else keeps people out who are not active.
    pub active_elsewhere: bool,
    /// How many entries there are about, if that is known.
    pub entries: Option<usize>,
}

impl std::fmt::Debug for Context<'_> {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Context").field("kind", &self.kind).finish_non_exhaustive()
    }
}

/// A filter under examination.
struct Look<'f, 'c> {
    whole: &'f Filter,
    clauses: Vec<Clause<'f>>,
    context: Context<'c>,
    found: Vec<Advice>,
}

/// Everything that is worth saying about a filter, the gravest first, then in the order of its
/// clauses.
#[must_use]
pub fn advise(filter: &Filter, context: Context<'_>) -> Vec<Advice> {
    let mut look = Look { whole: filter, clauses: filter.clauses(), context, found: Vec::new() };
    for number in 0..look.clauses.len() {
        shape::look(&mut look, number);
        meaning::look(&mut look, number);
        values::look(&mut look, number);
    }
    look.found.sort_by_key(|advice| advice.weight);
    look.found
}

impl<'f> Look<'f, '_> {
    fn clause(&self, number: usize) -> Option<Clause<'f>> {
        self.clauses.get(number).copied()
    }

    /// The parts of a joining clause, by number.
    fn parts(&self, number: usize) -> Vec<usize> {
        let is_part = |(at, clause): (usize, &Clause<'_>)| (clause.parent == Some(number)).then_some(at);
        self.clauses.iter().enumerate().filter_map(is_part).collect()
    }

    /// The whole filter with one clause put in place of another.
    fn with(&self, number: usize, new: Filter) -> Filter {
        let mut path = Vec::new();
        let mut at = number;
        while let Some(parent) = self.clause(at).and_then(|clause| clause.parent) {
            path.push(self.parts(parent).iter().position(|part| *part == at).unwrap_or(0));
            at = parent;
        }
        let mut whole = self.whole.clone();
        let mut place = &mut whole;
        while let Some(step) = path.pop() {
            let next = match place {
                Filter::And(parts) | Filter::Or(parts) => parts.get_mut(step),
                Filter::Not(part) => Some(&mut **part),
                Filter::Item(_) => None,
            };
            match next {
                Some(next) => place = next,
                None => return self.whole.clone(),
            }
        }
        *place = new;
        whole
    }

    /// The whole filter, and one clause more.
    fn and(&self, more: &str) -> Option<Filter> {
        let more = Filter::parse(more).ok()?;
        Some(match self.whole {
            Filter::And(parts) => Filter::And(parts.iter().cloned().chain([more]).collect()),
            other => Filter::And(vec![other.clone(), more]),
        })
    }

    fn say(&mut self, code: &'static str, weight: Weight, number: usize, message: impl Into<String>) {
        self.say_with(code, weight, number, message, None, false);
    }

    fn say_with(
        &mut self,
        code: &'static str,
        weight: Weight,
        number: usize,
        message: impl Into<String>,
        rewrite: Option<Filter>,
        same: bool,
    ) {
        let clause = match self.clause(number) {
            Some(clause) => clause.filter.to_string(),
            None => String::new(),
        };
        self.found.push(Advice { code, weight, clause, message: message.into(), rewrite, same });
    }
}

/// How the values of an attribute are compared, as far as it is known.
fn rule_of(attribute: &str) -> Option<Rule> {
    Schema::builtin().find(attribute).map(|known| known.rule)
}

fn is(attribute: &str, wanted: &str) -> bool {
    attribute.split(';').next().is_some_and(|name| name.eq_ignore_ascii_case(wanted))
}
