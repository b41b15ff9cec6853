//! A filter under examination, and the advice collected so far.

use crate::ldap::filter::{Clause, Filter};
use crate::ldap::schema::{Rule, Schema, ServerKind};
use serde::Serialize;
use std::cell::Cell;

/// How serious a piece of advice is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// The filter does not do what its text suggests.
    Wrong,
    /// The filter does what it says, but that is seldom what was meant.
    Surprise,
    /// Good to know; nothing needs changing.
    Note,
}

/// One piece of advice about a filter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Advice {
    /// The stable code, with a chapter in the guide.
    pub code: &'static str,
    /// How serious it is.
    pub weight: Weight,
    /// The clause in question, in words.
    pub clause: String,
    /// What will happen, and why.
    pub message: String,
    /// The whole filter with that clause corrected, if there is a correction.
    pub rewrite: Option<Filter>,
    /// Whether the rewritten filter selects the same entries.
    pub same: bool,
}

/// What is known about the place where the filter will be used.
#[derive(Clone, Copy)]
pub struct Context<'c> {
    /// The kind of server that evaluates it.
    pub kind: ServerKind,
    /// The attributes known there.
    pub schema: &'c Schema,
    /// The nearest known attribute to one that the server does not know (`Some(None)` if none is near); `None` for an
    /// attribute that it does know.
    pub unknown: &'c dyn Fn(&str) -> Option<Option<String>>,
    /// Whether another setting already excludes inactive people.
    pub active_elsewhere: bool,
    /// Approximate number of entries in the directory, if known.
    pub entries: Option<usize>,
}

impl Context<'static> {
    /// The context before any server is asked: attributes usual for servers of this kind, and no entries.
    #[must_use]
    pub fn of(kind: ServerKind) -> Self {
        fn unknown(kind: ServerKind, name: &str) -> Option<Option<String>> {
            let schema = Schema::of(kind);
            schema.find(name).is_none().then(|| schema.nearest(name).map(str::to_owned))
        }
        Self {
            kind,
            schema: Schema::of(kind),
            unknown: match kind {
                ServerKind::Plain => &|name| unknown(ServerKind::Plain, name),
                ServerKind::Controller => &|name| unknown(ServerKind::Controller, name),
            },
            active_elsewhere: false,
            entries: None,
        }
    }
}

impl std::fmt::Debug for Context<'_> {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Context").field("kind", &self.kind).finish_non_exhaustive()
    }
}

/// Total clauses that rewritten filters may contain.
const REWRITTEN: usize = 200_000;
/// Maximum pieces of advice of one kind.
pub(super) const OF_A_KIND: usize = 10;
/// Maximum sibling clauses that are compared with each other.
pub(super) const SIDE_BY_SIDE: usize = 100;

/// A filter under examination.
pub(super) struct Look<'f, 'c> {
    pub(super) whole: &'f Filter,
    pub(super) clauses: Vec<Clause<'f>>,
    /// The children of each clause, by number.
    parts: Vec<Vec<usize>>,
    pub(super) context: Context<'c>,
    /// Clauses that may still be written into rewritten filters.
    budget: Cell<usize>,
    found: Vec<Advice>,
}

impl<'f, 'c> Look<'f, 'c> {
    pub(super) fn new(filter: &'f Filter, context: Context<'c>) -> Self {
        let clauses = filter.clauses();
        let mut parts = vec![Vec::new(); clauses.len()];
        for (number, clause) in clauses.iter().enumerate() {
            if let Some(list) = clause.parent.and_then(|parent| parts.get_mut(parent)) {
                list.push(number);
            }
        }
        Self { whole: filter, clauses, parts, context, budget: Cell::new(REWRITTEN), found: Vec::new() }
    }

    /// The advice, most serious first.
    pub(super) fn finish(mut self) -> Vec<Advice> {
        self.found.sort_by_key(|advice| advice.weight);
        self.found
    }

    /// The matching rule of an attribute, if known.
    pub(super) fn rule_of(&self, attribute: &str) -> Option<Rule> {
        self.context.schema.find(attribute).and_then(|known| known.rule)
    }

    pub(super) fn clause(&self, number: usize) -> Option<Clause<'f>> {
        self.clauses.get(number).copied()
    }

    /// The children of a joining clause, by number.
    pub(super) fn parts(&self, number: usize) -> Vec<usize> {
        self.parts.get(number).cloned().unwrap_or_default()
    }

    /// The whole filter with one clause replaced; `None` once the budget for rewritten filters is spent.
    pub(super) fn with(&self, number: usize, new: Filter) -> Option<Filter> {
        let left = self.budget.get().checked_sub(self.clauses.len())?;
        self.budget.set(left);
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
                None => return None,
            }
        }
        *place = new;
        Some(whole)
    }

    /// The whole filter with one more clause.
    pub(super) fn and(&self, more: &str) -> Option<Filter> {
        let more = Filter::parse(more).ok()?;
        Some(match self.whole {
            Filter::And(parts) => Filter::And(parts.iter().cloned().chain([more]).collect()),
            other => Filter::And(vec![other.clone(), more]),
        })
    }

    pub(super) fn say(
        &mut self,
        code: &'static str,
        weight: Weight,
        number: usize,
        message: impl Into<String>,
    ) {
        self.say_with(code, weight, number, message, None, false);
    }

    pub(super) fn say_with(
        &mut self,
        code: &'static str,
        weight: Weight,
        number: usize,
        message: impl Into<String>,
        rewrite: Option<Filter>,
        same: bool,
    ) {
        if self.found.iter().filter(|advice| advice.code == code).count() >= OF_A_KIND {
            return;
        }
        let clause = match self.clause(number) {
            Some(clause) => clause.filter.to_string(),
            None => String::new(),
        };
        self.found.push(Advice { code, weight, clause, message: message.into(), rewrite, same });
    }
}

pub(super) fn is(attribute: &str, wanted: &str) -> bool {
    attribute.split(';').next().is_some_and(|name| name.eq_ignore_ascii_case(wanted))
}
