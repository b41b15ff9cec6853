//! Search filters: text to [`Filter`] and back (RFC 4515), matching in memory (RFC 4511 §4.5.1.7).
//!
//! Three layers, each usable alone: [`Filter::parse`] keeps byte spans for messages, [`Filter`] is
//! what the rest of the workspace passes around, and `Display` prints the canonical form. No layer
//! does I/O, and none recurses: depth is bounded by [`Limits::depth`] and checked first.
//!
//! On top of them: [`Filter::parse_pasted`] repairs what can mean one thing only, [`explain`] says
//! which clauses decided, [`count`] how many entries pass each, and [`advice`] what will surprise.

pub mod advice;
mod ast;
mod chain;
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
pub use error::{ParseError, ParseErrorKind};
pub use eval::{Chain, Ground, Matcher, Truth};
pub use explain::{Clause, ClauseKind, Judged, Passed, count, explain};
pub use repair::Repaired;
/// Text of which a short one needs no memory of its own: attribute descriptions, names of rules.
pub use smol_str::SmolStr;

/// What a filter may be at most, so that a stranger's text cannot exhaust the process.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Parentheses inside one another; 100 unless said otherwise.
    pub depth: usize,
    /// Bytes of text; 1 MiB unless said otherwise.
    pub bytes: usize,
    /// Clauses, joining ones too; 50,000 unless said otherwise.
    pub clauses: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { depth: 100, bytes: 1 << 20, clauses: 50_000 }
    }
}
