//! Made-up values in place of people's: the same value always becomes the same one, so that
//! structure, counts and what is unique stay as they are.
//!
//! A value becomes a keyed hash (SHA-1 with a secret in front, UUIDv5), so that nobody without the
//! key can try names until one fits. Values that the filters compare with are kept: masked, they
//! would not be selected any more.

use crate::ldap::filter::{Filter, Item};
use crate::ldap::identity::{Identity, LASTING};
use crate::ldap::name::Dn;
use crate::ldap::schema::{Rule, Schema};
use std::collections::BTreeSet;
use uuid::Uuid;

/// How values are masked.
#[derive(Clone, Debug)]
pub struct Mask {
    key: Uuid,
    /// Attributes, in small letters, whose values stay.
    kept: BTreeSet<String>,
}

impl Mask {
    /// A mask with a secret key, for people whom these filters select.
    #[must_use]
    pub fn new<'f>(key: [u8; 16], filters: impl IntoIterator<Item = &'f Filter>) -> Self {
        let mut kept = BTreeSet::from(["objectclass".to_owned()]);
        for item in filters.into_iter().flat_map(Filter::items) {
            // Whether there is a value at all is the same with a made-up one.
            if !matches!(item, Item::Present { .. })
                && let Some(attribute) = item.attribute()
            {
                kept.insert(attribute.to_ascii_lowercase());
            }
        }
        Self { key: Uuid::from_bytes(key), kept }
    }

    /// The attributes, in small letters, whose values stay as they are.
    pub fn kept(&self) -> impl Iterator<Item = &str> {
        self.kept.iter().map(String::as_str)
    }

    fn hash(&self, value: &[u8]) -> Uuid {
        Uuid::new_v5(&self.key, value)
    }

    /// Letters that stand for a value; upper and lower case are one. Ten of them, so that among a
    /// million values no two become the same.
    fn letters(&self, text: &str) -> String {
        let hash = self.hash(text.trim().to_lowercase().as_bytes());
        hash.as_bytes().iter().take(10).map(|byte| char::from(b'a' + byte % 26)).collect()
    }

    /// A made-up value in place of `value`; `is_group` tells which names are groups, and stay.
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

    /// Other digits in the same places.
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

    /// A person's name in the tree: the place stays, their own part is made up.
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

    /// A made-up identity, the one that the person's entry has in the snapshot.
    pub(super) fn identity(&self, person: &Identity) -> Option<Identity> {
        Identity::from_link(&self.hash(person.as_str().as_bytes()).to_string())
    }
}
