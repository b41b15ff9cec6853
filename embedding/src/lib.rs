//! The Loans Desk, an application that embeds Webtaxon: its accounts, and what Webtaxon remembers, stand in its
//! own SQLite databases, by its own binding.

mod accounts;
mod state;

pub use accounts::Accounts;
pub use state::State;
