//! The library as an application uses it, against the simulated directory.
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    reason = "a test that panics has failed, as it should"
)]

mod checking;
mod connecting;
mod examples;
mod museum;
mod preview;
mod store;
