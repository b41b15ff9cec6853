//! Field rules: from an entry to the fields of the account that the application would have.
//!
//! No I/O, no recursion.

#[cfg(test)]
mod tests;

use crate::entry::Entry;
use indexmap::IndexMap;

/// How one field of an account is drawn from an entry.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FieldRule {
    /// The attributes to look in, the first that has a value wins. Empty for a fixed value.
    pub from: Vec<String>,
    /// The fixed value.
    pub value: Option<String>,
    /// Whether letters are made small or large.
    pub case: Option<Case>,
    /// Whether a person without a value stays out.
    pub required: bool,
    /// Whether two accounts may have the same value (case does not matter).
    pub unique: bool,
}

/// What happens to a field's letters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Case {
    /// All small.
    Lower,
    /// All large.
    Upper,
}

impl FieldRule {
    /// The field's value for `entry`: the first value that is text and not blank, without blanks
    /// at its ends.
    #[must_use]
    pub fn draw(&self, entry: Entry<'_>) -> Option<String> {
        let found = match &self.value {
            Some(fixed) => Some(fixed.as_str()),
            None => self
                .from
                .iter()
                .flat_map(|attribute| entry.values(attribute))
                .filter_map(|value| std::str::from_utf8(value).ok())
                .map(str::trim)
                .find(|text| !text.is_empty()),
        }?;
        Some(match self.case {
            None => found.to_owned(),
            Some(Case::Lower) => found.to_lowercase(),
            Some(Case::Upper) => found.to_uppercase(),
        })
    }
}

/// The account that the field rules draw from one candidate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Proposal {
    /// One value for each rule, in the order of the rules.
    values: Box<[Option<Box<str>>]>,
    login: usize,
}

/// A required field that an entry has no value for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MissingField {
    /// The field.
    pub field: String,
    /// The attributes that were looked in.
    pub from: Vec<String>,
}

impl Proposal {
    /// Draws every field from `entry`.
    ///
    /// # Errors
    /// The first required field that has no value.
    pub fn draw(rules: &IndexMap<String, FieldRule>, entry: Entry<'_>) -> Result<Self, MissingField> {
        let values = rules
            .iter()
            .map(|(name, rule)| match rule.draw(entry) {
                None if rule.required => Err(MissingField { field: name.clone(), from: rule.from.clone() }),
                value => Ok(value.map(String::into_boxed_str)),
            })
            .collect::<Result<_, _>>()?;
        Ok(Self { values, login: rules.get_index_of("login").unwrap_or(0) })
    }

    /// What the person signs in with.
    #[must_use]
    pub fn login(&self) -> &str {
        self.value(self.login)
    }

    /// The value of the rule at `index`; empty where there is none.
    #[must_use]
    pub fn value(&self, index: usize) -> &str {
        self.values.get(index).and_then(Option::as_deref).unwrap_or("")
    }
}
