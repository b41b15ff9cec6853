//! One intake's reading of a directory, step by step.

mod application_groups;
mod capture;
mod ground;
mod judged;
mod links;
mod lookups;
mod marks;
mod moment;
mod named_entries;
mod one;
mod portions;
mod reader;
mod referrals;
mod steps;

pub(crate) use capture::read_for_both;
pub use capture::take_snapshot;
pub(crate) use ground::Ground;
pub(crate) use links::KnownLinks;
pub(crate) use one::{OnePerson, as_reading, read_one};
pub use steps::read;
pub(crate) use steps::{entry, is_catalog, read_for};
