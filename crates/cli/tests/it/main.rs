//! The built command, driven as a person types it.
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    reason = "a test that panics has failed, as it should"
)]

mod apply;
#[cfg(feature = "crash-points")]
#[path = "../../../webtaxon/tests/it/cluster.rs"]
mod cluster;
mod command;
#[cfg(feature = "crash-points")]
mod crash;
mod demo;
mod documents;
mod faults;
mod filter;
mod floors;
mod members;
mod preview;
mod schemas;
mod settle;
mod survey;
mod why;
