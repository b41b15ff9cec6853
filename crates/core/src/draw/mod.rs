//! From a person's entry to the fields and roles of the account that the application would have.
//!
//! [`Drawer`] applies every rule of an intake to every person of a reading. A value that depends on
//! a group or an entry that was not read is never guessed: the account keeps what it has. No I/O,
//! no recursion beyond one followed name.

mod drawer;
mod proposal;
#[cfg(test)]
mod tests;

pub use drawer::Drawer;
pub use proposal::{Drawn, MissingField, Open, Proposal};
