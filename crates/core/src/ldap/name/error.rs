//! Errors in the text of a name: what is wrong, where, and what to type instead.

use miette::{Diagnostic, LabeledSpan, SourceCode, SourceSpan};
use thiserror::Error;

/// Why a text is not a distinguished name, and the bytes at fault.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("this is not a distinguished name: {kind}")]
pub struct DnError {
    pub(crate) kind: DnErrorKind,
    pub(crate) text: String,
    pub(crate) span: SourceSpan,
    /// The standard form of a name in an older notation.
    pub(crate) instead: Option<String>,
}

/// The rule of RFC 4514 §3 that a text breaks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error, Diagnostic)]
#[non_exhaustive]
pub enum DnErrorKind {
    /// A relative name without an attribute type.
    #[error("an attribute type such as CN or OU is missing here")]
    #[diagnostic(
        code(WX0201),
        help(
            "a name is a list of type=value pairs with commas between them, like OU=People,DC=quillmere,DC=example; a comma inside a value is written \\,"
        )
    )]
    NoType,
    /// A type that is neither a short name nor a numeric OID.
    #[error("this is not an attribute type")]
    #[diagnostic(
        code(WX0201),
        help("a type has letters, digits and hyphens, like CN, OU, DC or uid, or is a numeric OID")
    )]
    BadType,
    /// The equals sign is missing.
    #[error("an equals sign is missing after the type")]
    #[diagnostic(
        code(WX0201),
        help("write type=value, like OU=People; a comma inside a value is written \\,")
    )]
    NoEquals,
    /// An unescaped special character in a value.
    #[error("this character must be escaped inside a value")]
    #[diagnostic(
        code(WX0201),
        help("put a backslash before it: \\, \\+ \\\" \\; \\< \\> (RFC 4514 section 2.4)")
    )]
    Unescaped,
    /// A backslash before a character that cannot be escaped.
    #[error("after a backslash comes a special character or two hexadecimal digits")]
    #[diagnostic(
        code(WX0201),
        help("a backslash itself is written \\\\, any byte is written \\ and two hexadecimal digits")
    )]
    BadEscape,
    /// A `#` value that is not pairs of hexadecimal digits.
    #[error("a value that begins with # has pairs of hexadecimal digits")]
    #[diagnostic(code(WX0201), help("a value that begins with a literal number sign is written \\#"))]
    BadHex,
    /// A quotation mark that is not closed.
    #[error("the closing quotation mark of this one is missing")]
    #[diagnostic(code(WX0201), help("a quotation mark that is part of a value is written \\\""))]
    NoQuote,
    /// Too much text.
    #[error("it is too long")]
    #[diagnostic(code(WX0201), help("a name has at most 64 KiB; is this a single name?"))]
    TooLong,
    /// Too many relative names.
    #[error("it has too many parts")]
    #[diagnostic(code(WX0201), help("a name has at most 1,000 parts; is this a single name?"))]
    TooDeep,
}

impl DnError {
    /// Which rule was broken.
    #[must_use]
    pub fn kind(&self) -> DnErrorKind {
        self.kind
    }

    /// The standard form of the name, if the text has it in an older notation.
    #[must_use]
    pub fn instead(&self) -> Option<&str> {
        self.instead.as_deref()
    }

    /// The bytes at fault.
    #[must_use]
    pub fn span(&self) -> SourceSpan {
        self.span
    }
}

impl Diagnostic for DnError {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.code()
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        match &self.instead {
            Some(newer) => Some(Box::new(format!("this is an older notation; the standard form is {newer}"))),
            None => self.kind.help(),
        }
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        Some(&self.text)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        Some(Box::new(std::iter::once(LabeledSpan::new_with_span(Some(self.kind.to_string()), self.span))))
    }
}
