//! Errors in the text of a filter: what is wrong, where, and what to type instead.

use miette::{Diagnostic, LabeledSpan, SourceCode, SourceSpan};
use thiserror::Error;

/// Why a text is not a search filter, and the bytes at fault.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("this is not a search filter: {kind}")]
pub struct FilterError {
    pub(crate) kind: FilterErrorKind,
    pub(crate) text: String,
    pub(crate) span: SourceSpan,
}

/// The rule of RFC 4515 §3 that a text breaks, or the limit that it exceeds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error, Diagnostic)]
#[non_exhaustive]
pub enum FilterErrorKind {
    /// An empty text.
    #[error("it is empty")]
    #[diagnostic(code(WX0202), help("a filter that matches everything is (objectClass=*)"))]
    Empty,
    /// A filter that does not begin with a parenthesis.
    #[error("an opening parenthesis is missing here")]
    #[diagnostic(code(WX0202), help("every clause is written in parentheses, like (department=Botany)"))]
    NoOpening,
    /// A parenthesis that is not closed.
    #[error("the closing parenthesis of this one is missing")]
    #[diagnostic(code(WX0202), help("add a ) where the clause that opens here should end"))]
    NoClosing,
    /// Text after the end of the filter.
    #[error("the filter ends before this")]
    #[diagnostic(
        code(WX0202),
        help(
            "several clauses are joined by an operator: (&(first)(second)) for both, (|(first)(second)) for either"
        )
    )]
    Trailing,
    /// `!` with no clause, or with several.
    #[error("! takes exactly one clause")]
    #[diagnostic(
        code(WX0202),
        help("write (!(clause)); to negate several, join them first: (!(|(first)(second)))")
    )]
    NotOne,
    /// No attribute before the comparison.
    #[error("an attribute name is missing here")]
    #[diagnostic(code(WX0202), help("a clause is (attribute=value), like (department=Botany)"))]
    NoAttribute,
    /// A text that is not an attribute description.
    #[error("this is not an attribute name")]
    #[diagnostic(
        code(WX0202),
        help(
            "an attribute name has letters, digits and hyphens, or is a numeric OID; options follow after a semicolon"
        )
    )]
    BadAttribute,
    /// No `=`, `>=`, `<=`, `~=` or `:=`.
    #[error("a comparison is missing in this clause")]
    #[diagnostic(code(WX0202), help("write =, >=, <=, ~= or :rule:= between attribute and value"))]
    NoComparison,
    /// A matching rule that is neither a name nor an OID.
    #[error("this is not a matching rule")]
    #[diagnostic(
        code(WX0202),
        help("a rule is named by its OID or its name, like (memberOf:1.2.840.113556.1.4.1941:=…)")
    )]
    BadRule,
    /// `*` where the comparison takes a whole value.
    #[error("a * is not possible in this comparison")]
    #[diagnostic(code(WX0202), help("a * that is part of the value is written \\2a"))]
    Star,
    /// A parenthesis inside a value.
    #[error("a parenthesis inside a value must be escaped")]
    #[diagnostic(code(WX0202), help("write \\28 for ( and \\29 for ) inside a value"))]
    Parenthesis,
    /// A backslash without two hexadecimal digits.
    #[error("after a backslash come two hexadecimal digits")]
    #[diagnostic(code(WX0202), help("a backslash that is part of the value is written \\5c"))]
    BadEscape,
    /// A NUL byte.
    #[error("a NUL byte must be escaped")]
    #[diagnostic(code(WX0202), help("write \\00"))]
    Nul,
    /// Too many levels.
    #[error("parentheses are nested too deeply")]
    #[diagnostic(
        code(WX0202),
        help("join clauses side by side: (|(a=1)(a=2)(a=3)) instead of (|(a=1)(|(a=2)(a=3)))")
    )]
    TooDeep,
    /// Too many clauses.
    #[error("it has too many clauses")]
    #[diagnostic(code(WX0202), help("select by a group or by an attribute instead of listing people"))]
    TooMany,
    /// Too much text.
    #[error("it is too long")]
    #[diagnostic(code(WX0202), help("select by a group or by an attribute instead of listing people"))]
    TooLong,
}

impl FilterError {
    /// Which rule was broken.
    #[must_use]
    pub fn kind(&self) -> FilterErrorKind {
        self.kind
    }

    /// The bytes at fault.
    #[must_use]
    pub fn span(&self) -> SourceSpan {
        self.span
    }
}

impl Diagnostic for FilterError {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.code()
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.help()
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        Some(&self.text)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        Some(Box::new(std::iter::once(LabeledSpan::new_with_span(Some(self.kind.to_string()), self.span))))
    }
}
