//! From a person's entry to the fields and roles of the account that the rules draw.
//!
//! [`Drawer`] applies every rule of an intake to every person of a reading. A value that depends on a group or an
//! entry that was not read is never guessed: the account keeps its current value. No I/O; the only recursion is one
//! followed name.

mod drawer;
mod proposal;
#[cfg(test)]
mod tests;

pub use drawer::Drawer;
pub use proposal::{Drawn, MissingField, Open, Proposal};
