//! The language of directories, by its standards; nothing here knows what Webtaxon does with it.
//!
//! * [`prepare`]: text made ready for comparison (RFC 4518);
//! * [`name`]: distinguished names (RFC 4514);
//! * [`entry`]: entries as a directory returned them, held compactly;
//! * [`ldif`]: entries and changes as a file (RFC 2849);
//! * [`schema`]: attributes, their syntaxes and matching rules (RFC 4512, 4517);
//! * [`value`]: values as a person reads them;
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
