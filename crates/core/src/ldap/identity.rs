//! The lasting identity of a directory entry, by which an account is linked to a person.
//!
//! A name changes when a person marries or moves; objectGUID (on a domain controller), entryUUID
//! (RFC 4530) and nsUniqueId do not. An [`Identity`] is the text form of such a value.

use crate::ldap::entry::{Entries, Entry, NameId, Names};
use crate::ldap::filter::Filter;
use crate::ldap::schema::{Rule, Schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use smallvec::SmallVec;
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};

/// The attributes that can hold a lasting identity, in the order of preference.
pub const LASTING: [&str; 3] = ["objectGUID", "entryUUID", "nsUniqueId"];

/// Attributes by which a person may be looked up by name, the usual ones first.
pub const CALLED: [&str; 6] = ["sAMAccountName", "uid", "cn", "displayName", "userPrincipalName", "mail"];

/// The attribute of the lasting identity among those that are usual: the first that every entry has, or else the one
/// that most have, in a form that can be one.
#[must_use]
pub fn usual(entries: &Entries) -> Option<&'static str> {
    let present = LASTING.into_iter().filter(|name| entries.names().find(name).is_some());
    let mut best: Option<(&'static str, usize)> = None;
    for name in present {
        let lasting = Lasting::new(name, entries.names());
        let count = entries.iter().filter(|entry| lasting.of(*entry).is_some()).count();
        if count == entries.len() {
            return Some(name);
        }
        if count > 0 && best.is_none_or(|(_, most)| count > most) {
            best = Some((name, count));
        }
    }
    best.map(|(name, _)| name)
}

/// The attribute that holds the lasting identity, resolved once for many entries.
#[derive(Debug)]
pub struct Lasting {
    ids: SmallVec<[NameId; 2]>,
    is_guid: bool,
}

impl Lasting {
    /// Resolves an attribute in the entries' table of names.
    #[must_use]
    pub fn new(attribute: &str, names: &Names) -> Self {
        let is_guid = attribute.eq_ignore_ascii_case("objectGUID");
        Self { ids: names.covered_by(attribute).collect(), is_guid }
    }

    /// The identity of an entry, if it has one.
    #[must_use]
    pub fn of(&self, entry: Entry<'_>) -> Option<Identity> {
        for wanted in &self.ids {
            for value in entry.values_by_id(*wanted) {
                if self.is_guid {
                    let bytes: [u8; 16] = value.try_into().ok()?;
                    return Some(Identity::of_uuid(uuid::Uuid::from_bytes_le(bytes)));
                }
                let identity = std::str::from_utf8(value).ok().and_then(Identity::from_link);
                if identity.is_some() {
                    return identity;
                }
            }
        }
        None
    }
}

/// One entry's lasting identity, as text in lower case.
///
/// A value that reads as a UUID has the usual form with hyphens (the first three fields of an objectGUID are
/// little-endian in the directory); any other value is kept as it is.
#[derive(Clone, PartialEq, Eq)]
pub struct Identity(Form);

/// A UUID's text is stored inline: there is one for each person and account.
#[derive(Clone, PartialEq, Eq)]
enum Form {
    Uuid([u8; uuid::fmt::Hyphenated::LENGTH]),
    Text(Box<str>),
}

impl Identity {
    /// Reads the identity in an account's link; surrounding blanks are ignored. `None` if the text is empty.
    #[must_use]
    pub fn from_link(text: &str) -> Option<Self> {
        let text = text.trim();
        match uuid::Uuid::try_parse(text) {
            Ok(uuid) => Some(Self::of_uuid(uuid)),
            Err(_) => (!text.is_empty()).then(|| Self(Form::Text(text.to_lowercase().into()))),
        }
    }

    fn of_uuid(uuid: uuid::Uuid) -> Self {
        let mut text = [0; uuid::fmt::Hyphenated::LENGTH];
        uuid.hyphenated().encode_lower(&mut text);
        Self(Form::Uuid(text))
    }

    /// The identity in `attribute` of an entry, if the entry has it.
    #[must_use]
    pub fn of(entry: Entry<'_>, attribute: &str) -> Option<Self> {
        Lasting::new(attribute, entry.names()).of(entry)
    }

    /// The filter that finds the entry with this identity in any spelling; `None` if the text cannot be a value of
    /// `attribute`, or if a search for it could miss the entry.
    #[must_use]
    pub fn filter(&self, attribute: &str) -> Option<Filter> {
        let uuid = uuid::Uuid::try_parse(self.as_str()).ok();
        let rule = Schema::builtin().find(attribute)?.rule;
        if attribute.eq_ignore_ascii_case("objectGUID") {
            return Some(Filter::equal(attribute, uuid?.to_bytes_le()));
        }
        match (rule, uuid) {
            (Some(Rule::Uuid), uuid) => Some(Filter::equal(attribute, uuid?.to_string())),
            (Some(Rule::CaseIgnore | Rule::CaseIgnoreIa5), Some(uuid)) => Some(Filter::Or(vec![
                Filter::equal(attribute, uuid.to_string()),
                Filter::equal(attribute, uuid.simple().to_string()),
            ])),
            (Some(Rule::CaseIgnore | Rule::CaseIgnoreIa5 | Rule::Integer), None) => {
                Some(Filter::equal(attribute, self.as_str().as_bytes()))
            }
            // The text is in lower case: a case-sensitive attribute could be missed.
            _ => None,
        }
    }

    /// The text form.
    #[must_use]
    pub fn as_str(&self) -> &str {
        match &self.0 {
            Form::Uuid(text) => std::str::from_utf8(text).unwrap_or_default(),
            Form::Text(text) => text,
        }
    }

    fn as_bytes(&self) -> &[u8] {
        match &self.0 {
            Form::Uuid(text) => text,
            Form::Text(text) => text.as_bytes(),
        }
    }
}

impl Hash for Identity {
    fn hash<H: Hasher>(&self, state: &mut H) {
        match &self.0 {
            Form::Uuid(text) => state.write(text),
            Form::Text(text) => text.hash(state),
        }
    }
}

/// By text.
impl Ord for Identity {
    fn cmp(&self, other: &Self) -> Ordering {
        self.as_bytes().cmp(other.as_bytes())
    }
}

impl PartialOrd for Identity {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Debug for Identity {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "Identity({:?})", self.as_str())
    }
}

impl fmt::Display for Identity {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(self.as_str())
    }
}

impl Serialize for Identity {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for Identity {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        Self::from_link(&text).ok_or_else(|| de::Error::custom("an empty link"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ldap::entry::Entries;

    #[test]
    fn a_guid_is_read_in_its_mixed_order_and_found_again() {
        let bytes: [u8; 16] = [0x52, 0x0a, 0x1c, 0x7f, 0x34, 0x12, 0x78, 0x56, 0x80, 1, 2, 3, 4, 5, 6, 7];
        let mut entries = Entries::new();
        entries.push("CN=a", [("objectGUID", [bytes.as_slice()])]);
        let identity = Identity::of(entries.get(0).unwrap(), "objectguid").unwrap();
        assert_eq!(identity.as_str(), "7f1c0a52-1234-5678-8001-020304050607");
        for link in [" {7F1C0A52-1234-5678-8001-020304050607} ", "7f1c0a52123456788001020304050607"] {
            assert_eq!(Identity::from_link(link), Some(identity.clone()), "{link}");
        }
        assert_eq!(identity.filter("objectGUID"), Some(Filter::equal("objectGUID", bytes)));
    }

    #[test]
    fn a_look_up_finds_every_spelling_or_is_not_made() {
        for (link, attribute, filter, why) in [
            (
                "7F1C0A52123456788001020304050607",
                "entryUUID",
                Some("(entryUUID=7f1c0a52-1234-5678-8001-020304050607)"),
                "one form",
            ),
            (
                "7F1C0A52123456788001020304050607",
                "employeeID",
                Some(
                    "(|(employeeID=7f1c0a52-1234-5678-8001-020304050607)(employeeID=7f1c0a52123456788001020304050607))",
                ),
                "both forms",
            ),
            ("E-42", "employeeID", Some("(employeeID=e-42)"), "case does not matter there"),
            ("E-42", "entryUUID", None, "no UUID"),
            ("E-42", "memberUid", None, "case matters there, and is lost"),
            ("E-42", "badgeColour", None, "nobody knows whether case matters"),
        ] {
            let found = Identity::from_link(link).unwrap().filter(attribute).map(|filter| filter.to_string());
            assert_eq!(found.as_deref(), filter, "{why}");
        }
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

    #[test]
    fn an_attribute_that_cannot_identify_is_passed_over() {
        let people = |guid: &'static [u8], everybody: bool| {
            let mut entries = Entries::new();
            entries.push(
                "cn=a",
                [("objectGUID", [guid]), ("entryUUID", [b"3f1f7a8c-52aa-4f0e-9b91-c6021181d5f8"])],
            );
            let second: &[u8] = if everybody { b"4f1f7a8c-52aa-4f0e-9b91-c6021181d5f8" } else { b"" };
            entries.push("cn=b", [("entryUUID", [second])]);
            entries
        };
        assert_eq!(usual(&people(b"text", true)), Some("entryUUID"));
        assert_eq!(usual(&people(b"", true)), Some("entryUUID"));
        assert_eq!(usual(&people(b"0123456789abcdef", true)), Some("entryUUID"), "everybody has it");
        assert_eq!(usual(&people(b"0123456789abcdef", false)), Some("objectGUID"));
        assert_eq!(usual(&Entries::new()), None);
    }
}
