//! Attribute types and how their values are compared (RFC 4512 §4.1.2, RFC 4517 §4).
//!
//! [`Schema::builtin`] knows the attributes that this job meets on the common servers; reading a
//! server's own subschema comes on top of the same types. No I/O, no recursion.

mod builtin;
mod definition;
mod matching;
#[cfg(test)]
mod tests;

pub use definition::Published;
pub use matching::{Rule, compare, prepare};
pub(crate) use matching::{equals, has_pieces, prepare_piece};

use std::collections::HashMap;
use std::sync::OnceLock;

/// One attribute type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AttributeType {
    /// The numeric OID.
    pub oid: &'static str,
    /// The short names, the usual one first.
    pub names: &'static [&'static str],
    /// How two values are compared.
    pub rule: Rule,
    /// Whether an entry has at most one value.
    pub single: bool,
    /// Whether it is returned only when asked for by name or by `+` (RFC 4512 §3.4).
    pub operational: bool,
}

impl AttributeType {
    /// The usual name.
    #[must_use]
    pub fn name(&self) -> &'static str {
        self.names.first().copied().unwrap_or(self.oid)
    }

    /// The description that a subschema publishes (RFC 4512 §4.1.2).
    #[must_use]
    pub fn definition(&self) -> String {
        let names = self.names.iter().map(|name| format!("'{name}'")).collect::<Vec<_>>().join(" ");
        let names = if self.names.len() == 1 { names } else { format!("( {names} )") };
        let (equality, ordering, substrings, syntax) = self.rule.standard_names();
        let mut text = format!("( {} NAME {names}", self.oid);
        for (word, rule) in [("EQUALITY", equality), ("ORDERING", ordering), ("SUBSTR", substrings)] {
            if !rule.is_empty() {
                text.push_str(&format!(" {word} {rule}"));
            }
        }
        text.push_str(&format!(" SYNTAX {syntax}"));
        if self.single {
            text.push_str(" SINGLE-VALUE");
        }
        if self.operational {
            text.push_str(" NO-USER-MODIFICATION USAGE directoryOperation");
        }
        text.push_str(" )");
        text
    }
}

/// The one of these names that is most like one that is not known, if one is near.
#[must_use]
pub fn nearest<'n>(wanted: &str, names: impl IntoIterator<Item = &'n str>) -> Option<&'n str> {
    let wanted = wanted.to_ascii_lowercase();
    names
        .into_iter()
        .map(|name| (strsim::damerau_levenshtein(&wanted, &name.to_ascii_lowercase()), name))
        .filter(|(distance, name)| *distance <= 1 + name.len() / 5)
        .min()
        .map(|(_, name)| name)
}

/// The attribute types that are known.
#[derive(Clone, Debug)]
pub struct Schema {
    types: Vec<AttributeType>,
    by_name: HashMap<String, usize>,
}

impl Schema {
    /// The attributes of RFC 4512, 4519, 4524, 2798, 2307 and of a domain controller that this
    /// job meets.
    #[must_use]
    pub fn builtin() -> &'static Schema {
        static BUILTIN: OnceLock<Schema> = OnceLock::new();
        BUILTIN.get_or_init(|| Schema::new(builtin::TYPES.to_vec()))
    }

    fn new(types: Vec<AttributeType>) -> Self {
        let by_name = types
            .iter()
            .enumerate()
            .flat_map(|(index, known)| {
                let names = known.names.iter().map(|name| name.to_ascii_lowercase());
                names.chain([known.oid.to_owned()]).map(move |name| (name, index))
            })
            .collect();
        Self { types, by_name }
    }

    /// The type of an attribute description: a name or an OID, in any case, with or without
    /// options.
    #[must_use]
    pub fn find(&self, description: &str) -> Option<&AttributeType> {
        let base = description.split(';').next().unwrap_or(description);
        let index = self.by_name.get(base.to_ascii_lowercase().as_str())?;
        self.types.get(*index)
    }

    /// Every type, in the order of the table.
    pub fn types(&self) -> impl Iterator<Item = &AttributeType> {
        self.types.iter()
    }
}
