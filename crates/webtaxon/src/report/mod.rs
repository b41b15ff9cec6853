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

pub use webtaxon_core::words::harmless;
