//! The computation behind Webtaxon: no I/O, no async, no clock, no environment, no printing.
//!
//! One folder for each step of the work, in the order in which a run takes them:
//!
//! * [`settings`]: what the administrator wrote, checked;
//! * [`name`], [`filter`], [`schema`], [`ldif`]: the language of directories;
//! * [`entry`]: what a directory returned, held compactly;
//! * [`reading`]: everything one run read, and the proof that it is whole;
//! * [`snapshot`]: a reading as a file;
//! * [`membership`]: who is in which group, through which groups;
//! * [`selection`]: from entries to candidates, with the funnel;
//! * [`field`]: from a candidate to the account that the rules draw from it;
//! * [`account`]: the application's own list;
//! * [`url`]: where else a part of the tree is kept;
//! * [`prepare`]: text made ready for comparison;
//! * [`value`]: values as a person reads them;
//! * [`preview`]: what the application would import, update, suspend or remove;
//! * [`apply`]: what is carried out, checked once more.
//!
//! Every step is a plain value that can be printed, tested and stored.

pub mod account;
pub mod apply;
pub mod entry;
pub mod field;
pub mod filter;
pub mod identity;
pub mod ldif;
pub mod membership;
pub mod name;
pub mod prepare;
pub mod preview;
pub mod reading;
pub mod schema;
pub mod selection;
pub mod settings;
pub mod snapshot;
pub mod url;
pub mod value;
