//! The lasting identity of a directory entry, by which an account is linked to a person.
//!
//! A name changes when a person marries or moves; objectGUID (on a domain controller), entryUUID
//! (RFC 4530) and nsUniqueId do not. An [`Identity`] is the text form of such a value.

use crate::entry::Entry;
use crate::filter::Filter;
use serde::{Serialize, Serializer};
use std::fmt;

/// The attributes that can hold a lasting identity, in the order in which they are looked for.
pub const LASTING: [&str; 3] = ["objectGUID", "entryUUID", "nsUniqueId"];

/// One entry's lasting identity, as text in lower case.
///
/// For objectGUID it is the usual form with hyphens (its first three fields are little-endian in
/// the directory); everything else is the value itself.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Identity(Box<str>);

impl Identity {
    /// Reads the identity that an account's link holds; blanks around it do not matter. None for
    /// an empty text.
    #[must_use]
    pub fn from_link(text: &str) -> Option<Self> {
        let text = text.trim().trim_start_matches('{').trim_end_matches('}');
        (!text.is_empty()).then(|| Self(text.to_lowercase().into()))
    }

    /// The identity in `attribute` of an entry, if the entry has it.
    #[must_use]
    pub fn of(entry: Entry<'_>, attribute: &str) -> Option<Self> {
        if !attribute.eq_ignore_ascii_case("objectGUID") {
            return entry.text(attribute).and_then(Self::from_link);
        }
        let bytes: [u8; 16] = entry.values(attribute).next()?.try_into().ok()?;
        Some(Self(uuid::Uuid::from_bytes_le(bytes).to_string().into()))
    }

    /// The filter that finds the entry with this identity; none if the text cannot be a value of
    /// `attribute`.
    #[must_use]
    pub fn filter(&self, attribute: &str) -> Option<Filter> {
        let value = match attribute.to_ascii_lowercase().as_str() {
            "objectguid" => uuid::Uuid::try_parse(&self.0).ok()?.to_bytes_le().to_vec(),
            "entryuuid" => uuid::Uuid::try_parse(&self.0).ok()?.to_string().into_bytes(),
            _ => self.0.as_bytes().to_vec(),
        };
        Some(Filter::equal(attribute, value))
    }

    /// The text form.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Identity {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.0)
    }
}

impl Serialize for Identity {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::entry::Entries;

    #[test]
    fn a_guid_is_read_in_its_mixed_order_and_found_again() {
        let bytes: [u8; 16] = [0x52, 0x0a, 0x1c, 0x7f, 0x34, 0x12, 0x78, 0x56, 0x80, 1, 2, 3, 4, 5, 6, 7];
        let mut entries = Entries::new();
        entries.push("CN=a", [("objectGUID", [bytes.as_slice()])]);
        let identity = Identity::of(entries.get(0).unwrap(), "objectguid").unwrap();
        assert_eq!(identity.as_str(), "7f1c0a52-1234-5678-8001-020304050607");
        assert_eq!(Identity::from_link(" {7F1C0A52-1234-5678-8001-020304050607} "), Some(identity.clone()));
        assert_eq!(identity.filter("objectGUID"), Some(Filter::equal("objectGUID", bytes)));
    }

    #[test]
    fn what_cannot_be_an_identity_is_none() {
        let mut entries = Entries::new();
        entries.push("CN=a", [("objectGUID", [b"short".as_slice()]), ("entryUUID", [b"".as_slice()])]);
        let entry = entries.get(0).unwrap();
        assert_eq!((Identity::of(entry, "objectGUID"), Identity::of(entry, "entryUUID")), (None, None));
        assert_eq!(Identity::from_link("  "), None);
        assert_eq!(Identity::from_link("badge 7").unwrap().filter("objectGUID"), None);
    }
}
