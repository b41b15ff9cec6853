//! From what a preview shows to what is carried out: edits, and which of them still hold.
//!
//! An [`Edit`] is one account before and after, so that it can be checked against the list once more,
//! written, and turned around. [`standings`] looks at a list of accounts and says of each edit whether
//! it can be made, was made already, or must be left out since somebody changed something meanwhile.
//! No I/O, no recursion; memory is linear in the accounts.

mod edit;
mod group;
mod order;
mod part;
mod standing;
#[cfg(test)]
mod tests;

pub use edit::Edit;
pub use group::{GroupEdit, group_standings, made_groups};
pub use order::order;
pub use part::{Seats, brakes_of_part};
pub use standing::{Outcome, Standing, made, standings};
