//! Search filters: text to [`Filter`] and back (RFC 4515), matching in memory (RFC 4511 §4.5.1.7).
//!
//! Three layers, each usable alone: [`Filter::parse`] keeps byte spans for messages, [`Filter`] is the tree that
//! everything else works with, and `Display` prints the canonical form. No layer does I/O or recurses: depth is
//! bounded by [`Limits::depth`] and checked first.
//!
//! Built on these: [`Filter::parse_pasted`] repairs what has only one possible meaning, [`explain`] says which
//! clauses decided, [`count`] how many entries pass each, and [`advice`] what may surprise.

pub mod advice;
mod ast;
mod chain;
mod doubt;
mod error;
mod eval;
mod explain;
mod parse;
mod print;
mod repair;
#[cfg(test)]
mod tests;

pub use ast::{Filter, Item, Octets};
pub use chain::Links;
pub use error::{FilterError, FilterErrorKind};
pub use eval::{Chain, Ground, Matcher, Truth};
pub use explain::{Clause, ClauseKind, Judged, Passed, count, explain};
pub use repair::Repaired;
/// A string that needs no allocation while short: attribute descriptions, names of matching rules.
pub use smol_str::SmolStr;

/// Size limits on a filter's text, so that untrusted text cannot exhaust the process.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Depth of nested parentheses; 100 by default.
    pub depth: usize,
    /// Bytes of text; 1 MiB by default.
    pub bytes: usize,
    /// Clauses, including joining ones; 50,000 by default.
    pub clauses: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { depth: 100, bytes: 1 << 20, clauses: 50_000 }
    }
}
