//! Results as data: JSON documents with stable keys, tables, drawings. Text for people is written by the command-line
//! tool.

mod applied;
mod json;
mod layers;
mod nest;
mod page;
mod sign_in;
#[cfg(feature = "csv")]
mod table;
pub mod words;

pub use applied::{applied, journal_lines, run, runs, work};
pub use json::{
    browse, check, comparison, fields, filter, found, groups, members, preview, questions, since, ways, why,
};
pub use nest::{nest_dot, nest_svg};
pub use page::preview_html;
pub use sign_in::{audit, examination};
#[cfg(feature = "csv")]
pub use table::{members_csv, preview_csv};

use std::fmt::Write as _;

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
