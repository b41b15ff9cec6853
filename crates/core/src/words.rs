//! Counts with their nouns, and why a text was refused.

use thiserror::Error;

/// Why a text could not be parsed, as a sentence.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct TextError(String);

impl From<String> for TextError {
    fn from(why: String) -> Self {
        Self(why)
    }
}

impl From<&str> for TextError {
    fn from(why: &str) -> Self {
        Self(why.to_owned())
    }
}

/// A number with its noun: "1 group", "3 groups".
#[must_use]
pub fn counted(count: usize, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}
