//! What can be wrong with the settings, where, and what to write instead.

use miette::{Diagnostic, LabeledSpan, NamedSource, SourceCode, SourceSpan};
use thiserror::Error;

/// Why a settings file cannot be used, and at which place.
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

/// What is wrong with a settings file.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum SettingsErrorKind {
    /// The text is not TOML.
    #[error("the settings are not valid TOML: {0}")]
    Syntax(String),
    /// A key that means nothing here.
    #[error("unknown key `{0}`")]
    UnknownKey(String),
    /// A key that must be there is not.
    #[error("`{0}` is missing")]
    MissingKey(String),
    /// A value of the wrong type.
    #[error("`{key}` must be {wanted}, not {found}")]
    WrongType {
        /// The key.
        key: String,
        /// What it takes.
        wanted: String,
        /// What stands there.
        found: String,
    },
    /// A value of the right type that means nothing.
    #[error("`{key}`: {reason}")]
    BadValue {
        /// The key.
        key: String,
        /// What is wrong with it.
        reason: String,
    },
    /// A filter that does not parse.
    #[error("the filter in `{key}` does not parse: {reason}")]
    Filter {
        /// The key.
        key: String,
        /// The broken rule.
        reason: String,
    },
    /// A name that does not parse.
    #[error("`{key}` holds something that is not a distinguished name: {reason}")]
    Name {
        /// The key.
        key: String,
        /// The broken rule.
        reason: String,
    },
    /// A secret in the settings.
    #[error("a secret may not stand in the settings")]
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

    /// What is wrong.
    #[must_use]
    pub fn kind(&self) -> &SettingsErrorKind {
        &self.0.kind
    }

    /// The bytes of the settings file that are wrong.
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
