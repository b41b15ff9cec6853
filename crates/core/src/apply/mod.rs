//! From a preview to what is carried out: edits, and which of them can still be made.
//!
//! An [`Edit`] is one account before and after, so that it can be checked against the list once more, recorded, and
//! reversed. [`standings`] compares edits with a list of accounts: each can be made, has been made already, or must
//! be left out because the account changed meanwhile. A [`Plan`] puts the edits that can be made in order, as steps.
//! No I/O, no recursion; memory is linear in the accounts.

mod edit;
mod group;
mod half;
mod part;
mod plan;
mod promise;
mod standing;
#[cfg(test)]
mod tests;
mod undo;

pub use edit::Edit;
pub use group::{GroupEdit, group_standings, made_groups};
pub use half::{aside, half_made};
pub use part::{Seats, brakes_of_part, brakes_of_undo};
pub use plan::{Plan, Step, Unit};
pub use promise::Untouchable;
pub use standing::{Outcome, Standing, are_same, standings};
pub use undo::taking_back;
