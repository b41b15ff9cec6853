//! Invented values in place of people's: equal values stay equal, so that structure, counts and uniqueness are kept.
//!
//! A value becomes a keyed hash (SHA-1 with a secret prefix, UUIDv5), so that nobody without the key can guess names.
//! Values that the filters test are kept: masked, they would no longer match.

use crate::ldap::filter::{Filter, Item};
use crate::ldap::identity::{Identity, LASTING};
use crate::ldap::name::Dn;
use crate::ldap::schema::{Rule, Schema};
use std::collections::BTreeSet;
use uuid::Uuid;

/// A rule for masking values.
#[derive(Clone, Debug)]
pub struct Mask {
    key: Uuid,
    /// Attributes, in lower case, that are kept.
    kept: BTreeSet<String>,
}

impl Mask {
    /// A mask with a secret key, for people selected by these filters.
    #[must_use]
    pub fn new<'f>(key: [u8; 16], filters: impl IntoIterator<Item = &'f Filter>) -> Self {
        let mut kept = BTreeSet::from(["objectclass".to_owned()]);
        for item in filters.into_iter().flat_map(Filter::items) {
            // An invented value is as present as the real one.
            if !matches!(item, Item::Present { .. })
                && let Some(attribute) = item.attribute()
            {
                kept.insert(attribute.to_ascii_lowercase());
            }
        }
        Self { key: Uuid::from_bytes(key), kept }
    }

    /// The attributes, in lower case, that are kept.
    pub fn kept(&self) -> impl Iterator<Item = &str> {
        self.kept.iter().map(String::as_str)
    }

    fn hash(&self, value: &[u8]) -> Uuid {
        Uuid::new_v5(&self.key, value)
    }

    /// Letters that stand for a text, ignoring case. Ten letters, so that a million values stay distinct.
    /// million values no two become the same.
    fn letters(&self, text: &str) -> String {
        let hash = self.hash(text.trim().to_lowercase().as_bytes());
        hash.as_bytes().iter().take(10).map(|byte| char::from(b'a' + byte % 26)).collect()
    }

    /// The invented value for `value`; names for which `is_group` is true are kept.
    #[must_use]
    pub fn value(&self, attribute: &str, value: &[u8], is_group: &dyn Fn(&str) -> bool) -> Vec<u8> {
        let base = attribute.split(';').next().unwrap_or(attribute);
        if self.kept.contains(&base.to_ascii_lowercase()) || value.iter().all(u8::is_ascii_whitespace) {
            return value.to_vec();
        }
        if base.eq_ignore_ascii_case("objectGUID") {
            return self.hash(value).to_bytes_le().to_vec();
        }
        let Ok(text) = std::str::from_utf8(value) else {
            return self.hash(value).as_bytes().iter().copied().cycle().take(value.len()).collect();
        };
        if LASTING.iter().any(|lasting| lasting.eq_ignore_ascii_case(base)) {
            return self.hash(text.to_lowercase().as_bytes()).to_string().into_bytes();
        }
        let masked = match Schema::builtin().find(base).and_then(|known| known.rule) {
            Some(Rule::Name) if is_group(text) => text.to_owned(),
            Some(Rule::Name) => self.name(text),
            Some(Rule::Time) => "20000101000000Z".to_owned(),
            _ if text
                .chars()
                .all(|character| character.is_ascii_digit() || "+-. ()/".contains(character)) =>
            {
                self.digits(text)
            }
            _ if text.contains('@') => format!("{}@masked.example", self.letters(text)),
            _ => {
                let mut word = self.letters(text);
                if let Some(first) = word.get_mut(..1).filter(|_| text.starts_with(char::is_uppercase)) {
                    first.make_ascii_uppercase();
                }
                word
            }
        };
        masked.into_bytes()
    }

    /// Different digits in the same places.
    fn digits(&self, text: &str) -> String {
        let hash = self.hash(text.as_bytes());
        let mut others = hash.as_bytes().iter().cycle();
        text.chars()
            .map(|character| match character {
                '0'..='9' => others.next().map_or('0', |byte| char::from(b'0' + byte % 10)),
                other => other,
            })
            .collect()
    }

    /// The masked name of a person: the place in the tree is kept, the person's own part is invented.
    #[must_use]
    pub fn name(&self, dn: &str) -> String {
        let Ok(parsed) = Dn::parse(dn) else { return self.letters(dn) };
        let (Some(first), parent) = (parsed.first(), parsed.parent()) else { return dn.to_owned() };
        let own: Vec<String> = first
            .avas()
            .iter()
            .map(|ava| format!("{}={}", ava.attribute, self.letters(&String::from_utf8_lossy(&ava.value))))
            .collect();
        match parent.filter(|parent| parent.first().is_some()) {
            Some(parent) => format!("{},{parent}", own.join("+")),
            None => own.join("+"),
        }
    }

    /// The invented identity, as on the person's masked entry.
    pub(super) fn identity(&self, person: &Identity) -> Option<Identity> {
        Identity::from_link(&self.hash(person.as_str().as_bytes()).to_string())
    }
}
