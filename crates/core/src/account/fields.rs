//! The fields of an account: a short ordered list.

use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde::ser::{Serialize, Serializer};
use smol_str::SmolStr;

/// Fields by name, in order of insertion. They are stored together and found by a linear search, which beats any
/// index for the few fields of an account.
#[derive(Clone, Debug, Default)]
pub struct Fields(Vec<(SmolStr, SmolStr)>);

impl Fields {
    /// No fields, with room for `count`.
    #[must_use]
    pub fn with_capacity(count: usize) -> Self {
        Self(Vec::with_capacity(count))
    }

    /// Number of fields.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The value of a field.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&SmolStr> {
        self.0.iter().find(|(known, _)| known == name).map(|(_, value)| value)
    }

    /// Whether the field exists.
    #[must_use]
    pub fn contains_key(&self, name: &str) -> bool {
        self.get(name).is_some()
    }

    /// Sets a field, in place or at the end; returns its former value.
    pub fn insert(&mut self, name: SmolStr, value: SmolStr) -> Option<SmolStr> {
        match self.0.iter_mut().find(|(known, _)| *known == name) {
            Some((_, old)) => Some(std::mem::replace(old, value)),
            None => {
                self.0.push((name, value));
                None
            }
        }
    }

    /// Appends a field; the caller knows that it does not exist.
    pub fn push(&mut self, name: SmolStr, value: SmolStr) {
        self.0.push((name, value));
    }

    /// Removes a field; the others keep their order.
    pub fn remove(&mut self, name: &str) -> Option<SmolStr> {
        let at = self.0.iter().position(|(known, _)| known == name)?;
        Some(self.0.remove(at).1)
    }

    /// Keeps only the fields for which `keeps` is true.
    pub fn retain(&mut self, mut keeps: impl FnMut(&str, &str) -> bool) {
        self.0.retain(|(name, value)| keeps(name, value));
    }

    /// Names and values, in order.
    pub fn iter(&self) -> impl Iterator<Item = (&SmolStr, &SmolStr)> {
        self.0.iter().map(|(name, value)| (name, value))
    }

    /// Names, in order.
    pub fn keys(&self) -> impl Iterator<Item = &SmolStr> {
        self.0.iter().map(|(name, _)| name)
    }
}

impl PartialEq for Fields {
    /// Whether both have the same values under the same names, in any order.
    fn eq(&self, other: &Self) -> bool {
        self.len() == other.len() && self.iter().all(|(name, value)| other.get(name) == Some(value))
    }
}

impl Eq for Fields {}

impl Extend<(SmolStr, SmolStr)> for Fields {
    fn extend<I: IntoIterator<Item = (SmolStr, SmolStr)>>(&mut self, fields: I) {
        for (name, value) in fields {
            self.insert(name, value);
        }
    }
}

impl FromIterator<(SmolStr, SmolStr)> for Fields {
    fn from_iter<I: IntoIterator<Item = (SmolStr, SmolStr)>>(fields: I) -> Self {
        let mut all = Self::default();
        all.extend(fields);
        all
    }
}

impl Serialize for Fields {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.iter())
    }
}

impl<'de> Deserialize<'de> for Fields {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct AnyFields;
        impl<'de> Visitor<'de> for AnyFields {
            type Value = Fields;

            fn expecting(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                out.write_str("fields by name")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Fields, A::Error> {
                let mut fields = Fields::default();
                while let Some((name, value)) = map.next_entry()? {
                    fields.insert(name, value);
                }
                Ok(fields)
            }
        }
        deserializer.deserialize_map(AnyFields)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use indexmap::IndexMap;
    use proptest::prelude::*;

    proptest! {
        /// Whatever is put in and taken out, it is what a map with an order says.
        #[test]
        fn it_is_a_map_in_order(steps in prop::collection::vec((any::<bool>(), 0_u8..6, "[ab]{0,2}"), 0..40)) {
            let (mut fields, mut model) = (Fields::default(), IndexMap::new());
            for (puts, name, value) in steps {
                let (name, value) = (SmolStr::from(name.to_string()), SmolStr::from(value));
                if puts {
                    prop_assert_eq!(fields.insert(name.clone(), value.clone()), model.insert(name, value));
                } else {
                    prop_assert_eq!(fields.remove(&name), model.shift_remove(&name));
                }
                prop_assert!(fields.iter().eq(model.iter()));
            }
            let turned: Fields = model.into_iter().rev().collect();
            prop_assert_eq!(turned, fields);
        }
    }
}
