//! Carrying out what was previewed: the journal first, then a copy of what is there, then the edits, and
//! the outcome of each. It may be cut off anywhere: the next apply looks what had been done.

mod applied;
mod copy;
mod prepare;
mod run;
mod saved;
mod statements;
mod steps;
mod take_up;
mod work;

pub use applied::{Applied, Interrupted};
pub(crate) use prepare::{consider, forget_before, prepare, way_back};
pub(crate) use run::apply;
pub(crate) use statements::statements;
pub use work::{Consent, GroupWork, Origin, Work};
