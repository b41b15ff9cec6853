//! The library as an application uses it, against the simulated directory.

mod connecting;
mod examples;
mod museum;
mod preview;
mod store;
