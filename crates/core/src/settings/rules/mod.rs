//! Field rules: how a field or a role of an account is drawn from a person's entry.
//!
//! A [`FieldRule`] has one or more choices ([`Choice`]), each with a condition, a source and steps that shape the
//! source's value.

use serde::Serialize;

mod condition;
mod inverse;
mod join;
mod shape;

pub use condition::Condition;
pub(crate) use inverse::any;
pub use join::{Join, JoinError};
pub use shape::{Case, Fault, Pattern, ReadAs, Shape};

/// The separator between the values of a multi-valued field, and between roles.
pub const LIST: char = ';';

/// How one field of an account is drawn from a candidate.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct FieldRule {
    /// Tried in order; the first whose condition holds and that gives a value is used.
    pub choices: Vec<Choice>,
    /// Whether a person without a value is left out.
    pub required: bool,
    /// Whether no two accounts may have the same value (ignoring case).
    pub unique: bool,
    /// When the application's own value is overwritten.
    pub write: Write,
    /// Maximum characters of a value.
    pub longest: Option<usize>,
    /// The pattern that a whole value must match.
    pub pattern: Option<Pattern>,
}

/// When a field of an account is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Write {
    /// Whenever it differs.
    #[default]
    Always,
    /// Only when the account is created.
    Once,
    /// Only while the application has no value.
    Empty,
}

/// One way to draw a field.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Choice {
    /// The condition on the person.
    pub condition: Condition,
    /// Where the value comes from.
    pub source: ValueSource,
    /// How it is transformed.
    pub shape: Shape,
}

impl Choice {
    /// The source in words: "mail; (department=Botany)".
    #[must_use]
    pub fn in_words(&self) -> String {
        let from = match &self.source {
            ValueSource::Attributes(list) => list.join(" or "),
            ValueSource::Value(_) => "the same for all".to_owned(),
            ValueSource::Join(join) => join.attributes().collect::<Vec<_>>().join(" and "),
        };
        let follow = self.shape.follow.as_ref().map(|field| format!(", of whom the {field} is taken"));
        let every =
            if self.shape.every { format!(", each value, separated by {LIST}") } else { String::new() };
        let condition = if self.condition.is_empty() {
            String::new()
        } else {
            format!("; {}", self.condition.in_words())
        };
        format!("{from}{}{every}{condition}", follow.unwrap_or_default())
    }
}

/// The source of a value.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum ValueSource {
    /// The first of these attributes that has a value.
    Attributes(Vec<String>),
    /// A fixed value.
    Value(String),
    /// Several attributes joined.
    Join(Join),
}

impl Default for ValueSource {
    fn default() -> Self {
        Self::Attributes(Vec::new())
    }
}

impl ValueSource {
    /// The attributes used.
    #[must_use]
    pub fn attributes(&self) -> Vec<&str> {
        match self {
            Self::Attributes(list) => list.iter().map(String::as_str).collect(),
            Self::Value(_) => Vec::new(),
            Self::Join(join) => join.attributes().collect(),
        }
    }
}

impl FieldRule {
    /// A rule that takes the first of these attributes that has a value.
    #[must_use]
    pub fn from(attributes: &[&str]) -> Self {
        let source = ValueSource::Attributes(attributes.iter().map(|name| (*name).to_owned()).collect());
        Self { choices: vec![Choice { source, ..Choice::default() }], ..Self::default() }
    }

    /// The attributes of a person that values come from, each once, in the order of the rule.
    #[must_use]
    pub fn from_attributes(&self) -> Vec<&str> {
        let mut list: Vec<&str> = Vec::new();
        for name in self.choices.iter().flat_map(|choice| choice.source.attributes()) {
            if !list.iter().any(|one| one.eq_ignore_ascii_case(name)) {
                list.push(name);
            }
        }
        list
    }

    /// Whether the field takes several values.
    #[must_use]
    pub fn is_list(&self) -> bool {
        self.choices.iter().any(|choice| choice.shape.every)
    }

    /// The attributes whose values are names of other entries, from which a field is taken.
    pub fn followed(&self) -> impl Iterator<Item = &str> {
        let following = self.choices.iter().filter(|choice| choice.shape.follow.is_some());
        following.flat_map(|choice| choice.source.attributes())
    }
}

/// A role of the application, and the people who get it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct RoleRule {
    /// The role's name in the application.
    pub name: String,
    /// The condition on the person.
    pub condition: Condition,
}
