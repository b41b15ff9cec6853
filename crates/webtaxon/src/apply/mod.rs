//! Carrying out a preview: first the journal, then a copy of the accounts, then the edits with their outcomes. It may
//! be interrupted anywhere: the next apply finds out what had been done.

mod applied;
mod copy;
mod one;
mod prepare;
mod run;
mod saved;
mod secrets;
mod statements;
mod steps;
mod take_up;
mod work;

use prepare::terms;
use secrets::secrets;

pub use applied::{Applied, Interrupted};
pub(crate) use one::{apply_one, one_work};
pub(crate) use prepare::{consider, forget_before, prepare, way_back};
pub(crate) use run::apply;
pub(crate) use saved::{read_saved, save};
pub(crate) use statements::statements;
pub use work::{Consent, GroupWork, Origin, Work};
