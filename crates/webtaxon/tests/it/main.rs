//! The library as an application uses it, against the simulated directory.
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    clippy::too_many_lines,
    reason = "a test that panics has failed, as it should, and a table of cases is long"
)]

mod apart;
mod applying;
mod certificates;
mod checking;
mod cluster;
mod comparing;
mod connecting;
mod examples;
mod faults;
mod fields;
mod groups;
mod hidden;
mod mariadb;
mod mariadb_server;
mod member_attribute;
mod membership;
mod museum;
mod odd_schema;
mod odd_tables;
mod postgres;
mod postgres_state;
mod preview;
mod races;
mod scim;
mod sequences;
mod settling;
mod several;
mod sign_in;
mod sign_in_crash;
mod sign_in_reading;
mod sign_in_stores;
mod snapshots;
mod sqlite;
mod state;
mod store;
mod stores;
mod survey;
mod swept;
mod trial;
mod watching;
