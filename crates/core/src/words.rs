//! Counts with their nouns, why a text was refused, and untrusted text made safe to show.

use std::fmt::Write as _;
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

/// Makes untrusted text safe to show: control and bidirectional-override characters become escapes.
#[must_use]
pub fn harmless(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    for character in text.chars() {
        if character.is_control() || is_bidi_control(character) {
            let _ = write!(shown, "\\u{{{:x}}}", u32::from(character));
        } else {
            shown.push(character);
        }
    }
    shown
}

fn is_bidi_control(character: char) -> bool {
    matches!(character, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}
