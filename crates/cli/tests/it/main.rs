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
#[cfg(feature = "crash-points")]
mod crash_tables;
mod demo;
mod documents;
mod faults;
mod filter;
mod floors;
#[cfg(feature = "crash-points")]
#[path = "../../../webtaxon/tests/it/mariadb_server.rs"]
mod mariadb_server;
mod members;
#[cfg(feature = "crash-points")]
#[path = "../../../webtaxon/tests/it/odd_schema.rs"]
mod odd_schema;
mod preview;
mod schemas;
mod settle;
mod sign_in;
mod survey;
mod why;
