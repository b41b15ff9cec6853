//! Distinguished names: text to [`Dn`] and back (RFC 4514), and a key for comparing them.
//!
//! Servers escape the same name differently (`\,` or `\2C`), so names are never compared as text: [`Dn::key`] gives a
//! form that is equal exactly where distinguishedNameMatch (RFC 4517 §4.2.15) says so for attribute values that
//! ignore case, as nearly all naming attributes do. Where RFC 4518 equates more than servers do (ß and ss), the key
//! does not: two people of the directory must not become one. No I/O, no recursion; memory is linear in the text.

mod error;
mod parse;
mod print;
mod siblings;
#[cfg(test)]
mod tests;

pub use error::{DnError, DnErrorKind};
pub use parse::{DEEPEST, LONGEST};
pub(crate) use parse::{hex_pair, is_attribute_type};
pub use siblings::KeyReader;

use crate::ldap::prepare::{self, Fold};
use std::fmt::Write as _;

/// A distinguished name (RFC 4512 §2.3.2): relative names, the leaf first.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Dn {
    rdns: Vec<Rdn>,
}

/// A relative distinguished name (RFC 4512 §2.3.1): one or more types with their values.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Rdn {
    avas: Vec<Ava>,
}

/// One type with its value in a relative name, as in `CN=Ada`.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Ava {
    /// The attribute type: a short name or a numeric OID, as written.
    pub attribute: String,
    /// The value's bytes with all escapes resolved; for the `#` form, the BER encoding.
    pub value: Vec<u8>,
    /// Whether the value is in the `#hexadecimal` form (RFC 4514 §2.4).
    pub encoded: bool,
}

/// A name, and the ways in which its text departs from the standard form.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pasted {
    /// The name.
    pub dn: Dn,
    /// What was corrected, in words; empty if the text was in the standard form.
    pub remarks: Vec<&'static str>,
}

impl Dn {
    /// The relative names, the leaf first.
    #[must_use]
    pub fn rdns(&self) -> &[Rdn] {
        &self.rdns
    }

    /// The first relative name, which distinguishes the entry from its siblings.
    #[must_use]
    pub fn first(&self) -> Option<&Rdn> {
        self.rdns.first()
    }

    /// The parent's name; `None` for the root.
    #[must_use]
    pub fn parent(&self) -> Option<Dn> {
        let (_, rest) = self.rdns.split_first()?;
        Some(Dn { rdns: rest.to_vec() })
    }

    /// Number of relative names; 0 for the root.
    #[must_use]
    pub fn depth(&self) -> usize {
        self.rdns.len()
    }

    /// The part in front of `top`, if this is that name or lies below it.
    #[must_use]
    pub fn relative_to(&self, top: &Dn) -> Option<Dn> {
        let at = self.depth().checked_sub(top.depth())?;
        let (front, rest) = self.rdns.split_at_checked(at)?;
        (Dn { rdns: rest.to_vec() }.key() == top.key()).then(|| Dn { rdns: front.to_vec() })
    }

    /// The form in which names are compared, hashed and ordered.
    #[must_use]
    pub fn key(&self) -> DnKey {
        let mut key = String::new();
        self.write_key(&mut key);
        DnKey(key.into_boxed_str())
    }

    fn write_key(&self, key: &mut String) {
        for rdn in self.rdns.iter().rev() {
            match rdn.avas.as_slice() {
                [only] => only.write_key(key),
                several => {
                    let mut parts: Vec<String> = several.iter().map(Ava::key).collect();
                    parts.sort_unstable();
                    key.push_str(&parts.join("+"));
                }
            }
            key.push(DnKey::END);
        }
    }
}

impl Rdn {
    /// The types and values, in the order of the text.
    #[must_use]
    pub fn avas(&self) -> &[Ava] {
        &self.avas
    }

    /// The first value as text, as the entry's short name.
    #[must_use]
    pub fn text(&self) -> String {
        self.avas.first().map_or_else(String::new, |ava| String::from_utf8_lossy(&ava.value).into_owned())
    }
}

impl Ava {
    fn key(&self) -> String {
        let mut key = String::new();
        self.write_key(&mut key);
        key
    }

    /// Type in lower case, value folded by [`Fold::Letters`].
    fn write_key(&self, key: &mut String) {
        match well_known(&self.attribute) {
            Some(short) => key.push_str(short),
            None => key.extend(self.attribute.chars().map(|character| character.to_ascii_lowercase())),
        }
        let value = if self.encoded { encoded_text(&self.value) } else { Some(&*self.value) };
        key.push_str(if value.is_none() { "=#" } else { "=" });
        // Values that cannot be prepared are compared byte by byte.
        let prepared = value.and_then(|value| prepare::text(value, Fold::Letters));
        let Some(text) = prepared.as_deref().and_then(|prepared| std::str::from_utf8(prepared).ok()) else {
            for byte in &self.value {
                let _ = write!(key, "\\{byte:02x}");
            }
            return;
        };
        if !text.contains(['\\', '+', DnKey::END]) {
            key.push_str(text);
            return;
        }
        for character in text.chars() {
            match character {
                DnKey::END => key.push_str("\\00"),
                '\\' | '+' => key.extend(['\\', character]),
                other => key.push(other),
            }
        }
    }
}

/// The text in a value of the `#` form: a primitive BER string (X.690 §8.7, §8.21), as LDAP encodes a value (RFC 4514
/// §2.4).
fn encoded_text(value: &[u8]) -> Option<&[u8]> {
    const STRINGS: [u8; 4] = [0x04, 0x0c, 0x13, 0x16];
    match value {
        [tag, length, text @ ..] if STRINGS.contains(tag) && usize::from(*length) == text.len() => {
            (*length < 0x80).then_some(text)
        }
        _ => None,
    }
}

/// Long names of the attribute types that RFC 4514 §3 lists, and their short name.
const ALIASES: [(&str, &str, &str); 9] = [
    ("cn", "2.5.4.3", "commonName"),
    ("l", "2.5.4.7", "localityName"),
    ("st", "2.5.4.8", "stateOrProvinceName"),
    ("o", "2.5.4.10", "organizationName"),
    ("ou", "2.5.4.11", "organizationalUnitName"),
    ("c", "2.5.4.6", "countryName"),
    ("street", "2.5.4.9", "streetAddress"),
    ("dc", "0.9.2342.19200300.100.1.25", "domainComponent"),
    ("uid", "0.9.2342.19200300.100.1.1", "userId"),
];

fn well_known(attribute: &str) -> Option<&'static str> {
    let is = |name: &str| name.eq_ignore_ascii_case(attribute);
    // Nearly all names use short types.
    if attribute.len() < 6 {
        return None;
    }
    ALIASES.iter().find(|(_, oid, long)| is(oid) || is(long)).map(|(short, ..)| *short)
}

/// A name in the form in which equal names have equal keys, and only they.
///
/// It runs from the root downwards, so that sorting keys sorts the tree, and a name lies below another exactly when
/// its key begins with the other's.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct DnKey(Box<str>);

impl DnKey {
    /// Ends each relative name. NUL characters in values are escaped.
    const END: char = '\0';

    /// The key's bytes.
    pub(crate) fn as_bytes(&self) -> &[u8] {
        self.0.as_bytes()
    }

    /// Whether this name is `other`, or lies under it.
    #[must_use]
    pub fn is_within(&self, other: &DnKey) -> bool {
        self.0.starts_with(&*other.0)
    }

    /// Number of relative names; 0 for the root.
    #[must_use]
    pub fn depth(&self) -> usize {
        self.0.matches(Self::END).count()
    }

    /// The key of the parent; `None` for the root.
    #[must_use]
    pub fn parent(&self) -> Option<DnKey> {
        Some(DnKey(self.above()?.into()))
    }

    /// The key of the parent as text, which tells containers apart.
    pub(crate) fn above(&self) -> Option<&str> {
        let inner = self.0.strip_suffix(Self::END)?;
        let keep = inner.rfind(Self::END).map_or(0, |at| at + 1);
        Some(inner.get(..keep).unwrap_or(""))
    }
}

/// A name's first value, for showing: `Ada Ibbotson` for `CN=Ada Ibbotson,OU=People,…`; the text itself if it is not
/// a name.
#[must_use]
pub fn short(dn: &str) -> String {
    Dn::parse(dn).ok().and_then(|dn| dn.first().map(Rdn::text)).unwrap_or_else(|| dn.to_owned())
}
