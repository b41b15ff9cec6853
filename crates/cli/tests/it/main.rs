//! The built command, driven as a person types it.

mod command;
mod demo;
mod documents;
mod faults;
