//! The standards of directories; nothing here depends on what Webtaxon does with them.
//!
//! * [`prepare`]: text normalised for comparison (RFC 4518);
//! * [`name`]: distinguished names (RFC 4514);
//! * [`entry`]: entries as a directory returned them, held compactly;
//! * [`ldif`]: entries and changes as a file (RFC 2849);
//! * [`schema`]: attributes, their syntaxes and matching rules (RFC 4512, 4517);
//! * [`value`]: values in readable form;
//! * [`filter`]: search filters (RFC 4515): text, meaning, advice;
//! * [`identity`]: lasting identities (objectGUID, entryUUID);
//! * [`url`]: servers and references (RFC 4516).

pub mod entry;
pub mod filter;
pub mod identity;
pub mod ldif;
pub mod name;
pub mod prepare;
pub mod schema;
pub mod url;
pub mod value;
