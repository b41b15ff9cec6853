//! The computation behind Webtaxon: no I/O, no async, no clock, no environment, no printing.
//!
//! The modules stand in an order, and each imports only those above it in this list:
//!
//! * [`words`]: counts with their nouns, and untrusted text made safe to show;
//! * [`ldap`]: the standards: names, entries, schemas, filters, LDIF, URLs, lasting identities;
//! * [`graph`]: groups and their members as a graph;
//! * [`account`]: the application's accounts and groups;
//! * [`settings`]: the administrator's settings, checked;
//! * [`reading`]: everything one run read, the proof that it is whole, and the same as a file;
//! * [`membership`]: one group of a reading, as a person looks at it;
//! * [`draw`]: from a person to the account that the rules draw;
//! * [`selection`]: from entries to candidates, with the funnel;
//! * [`preview`]: what the application would import, update, suspend or remove;
//! * [`sign_in`]: one person's name and password: the search, the throttle, who gets in;
//! * [`apply`]: the edits that carry a preview out, each checked once more.
//!
//! Every step is a plain value that can be printed, tested and stored.
#![cfg_attr(test, allow(clippy::too_many_lines, reason = "a table of cases is long"))]

pub mod account;
pub mod apply;
pub mod draw;
pub mod graph;
pub mod ldap;
pub mod membership;
pub mod preview;
pub mod reading;
pub mod selection;
pub mod settings;
pub mod sign_in;
pub mod words;
