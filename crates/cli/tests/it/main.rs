//! The built command, driven as a person types it.
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    reason = "a test that panics has failed, as it should"
)]

mod apply;
mod command;
mod demo;
mod documents;
mod faults;
mod filter;
mod members;
mod preview;
mod schemas;
mod survey;
mod why;
