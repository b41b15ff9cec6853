//! Errors in the settings: what is wrong, where, and what to write instead.

use miette::{Diagnostic, LabeledSpan, NamedSource, SourceCode, SourceSpan};
use thiserror::Error;

/// Why a settings file was refused, and where.
#[derive(Clone, Debug, Error)]
#[error("{}", .0.kind)]
pub struct SettingsError(Box<Fault>);

#[derive(Clone, Debug)]
struct Fault {
    kind: SettingsErrorKind,
    source_text: NamedSource<String>,
    span: SourceSpan,
    label: String,
    help: String,
}

/// The kinds of error in a settings file.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum SettingsErrorKind {
    /// The text is not TOML.
    #[error("the settings are not valid TOML: {0}")]
    Syntax(String),
    /// An unknown key.
    #[error("unknown key `{0}`")]
    UnknownKey(String),
    /// A required key is missing.
    #[error("`{0}` is missing")]
    MissingKey(String),
    /// A value of the wrong type.
    #[error("`{key}` must be {wanted}, not {found}")]
    WrongType {
        /// The key.
        key: String,
        /// The type required.
        wanted: String,
        /// The type found.
        found: String,
    },
    /// A value of the right type that is not valid.
    #[error("`{key}`: {reason}")]
    BadValue {
        /// The key.
        key: String,
        /// The fault.
        reason: String,
    },
    /// A filter that cannot be parsed.
    #[error("the filter in `{key}` does not parse: {reason}")]
    Filter {
        /// The key.
        key: String,
        /// The rule that it breaks.
        reason: String,
    },
    /// A name that cannot be parsed.
    #[error("`{key}` is not a distinguished name: {reason}")]
    Name {
        /// The key.
        key: String,
        /// The rule that it breaks.
        reason: String,
    },
    /// A secret in the settings.
    #[error("the settings must not contain secrets")]
    Secret,
}

impl SettingsErrorKind {
    fn code(&self) -> &'static str {
        match self {
            Self::Syntax(_) => "WX0101",
            Self::UnknownKey(_) => "WX0102",
            Self::MissingKey(_) => "WX0103",
            Self::WrongType { .. } => "WX0104",
            Self::BadValue { .. } => "WX0105",
            Self::Filter { .. } => "WX0202",
            Self::Name { .. } => "WX0201",
            Self::Secret => "WX0106",
        }
    }
}

impl SettingsError {
    pub(super) fn new(
        kind: SettingsErrorKind,
        source_text: NamedSource<String>,
        span: SourceSpan,
        label: String,
        help: String,
    ) -> Self {
        Self(Box::new(Fault { kind, source_text, span, label, help }))
    }

    /// The kind of error.
    #[must_use]
    pub fn kind(&self) -> &SettingsErrorKind {
        &self.0.kind
    }

    /// The bytes of the settings file at fault.
    #[must_use]
    pub fn span(&self) -> SourceSpan {
        self.0.span
    }

    /// What to do about it.
    #[must_use]
    pub fn remedy(&self) -> &str {
        &self.0.help
    }
}

impl Diagnostic for SettingsError {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        Some(Box::new(self.0.kind.code()))
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        Some(Box::new(&self.0.help))
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        Some(&self.0.source_text)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        Some(Box::new(std::iter::once(LabeledSpan::new_with_span(Some(self.0.label.clone()), self.0.span))))
    }
}
