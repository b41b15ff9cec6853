//! The name that somebody types, and the search for the person who is called so.

use super::refusal::{LONGEST, NameFault};
use crate::account::folded;
use crate::draw::{Drawer, Drawn};
use crate::ldap::filter::Filter;
use crate::reading::Reading;
use crate::settings::rules::{LIST, any};
use crate::settings::{Intake, SignIn};

/// A name as somebody typed it, without surrounding blanks: at most [`LONGEST`] characters, and no control characters.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct SignInName(String);

impl SignInName {
    /// Checks a name.
    ///
    /// # Errors
    /// It is empty, too long, or contains control characters.
    pub fn new(text: &str) -> Result<Self, NameFault> {
        let text = text.trim();
        if text.is_empty() {
            Err(NameFault::Empty)
        } else if text.len() > LONGEST && text.chars().count() > LONGEST {
            Err(NameFault::TooLong)
        } else if text.chars().any(char::is_control) {
            Err(NameFault::Control)
        } else {
            Ok(Self(text.to_owned()))
        }
    }

    /// The name.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The form in which names are compared.
    #[must_use]
    pub fn folded(&self) -> String {
        folded(&self.0).into_owned()
    }

    /// The filter that finds an intake's people who may be called so: values are compared, whatever the name contains.
    /// `None` if none of the fields can be searched by.
    #[must_use]
    pub fn filter(&self, sign_in: &SignIn, intake: &Intake) -> Option<Filter> {
        let rules = sign_in.names.iter().filter_map(|name| intake.fields.get(name));
        let ways: Vec<Filter> = rules.filter_map(|rule| rule.filter_for(&self.0)).collect();
        any(ways)
    }

    /// The people of a reading who are called so, each with the number of the field, in the order of the settings. A
    /// search may find others as well: whoever has the name in a field's second source, for example.
    #[must_use]
    pub fn people(&self, sign_in: &SignIn, intake: &Intake, reading: &Reading) -> Vec<(usize, usize)> {
        let drawer = Drawer::new(intake, reading);
        let mut people: Vec<(usize, usize)> = Vec::new();
        for person in 0..reading.people().len() {
            let is_so = |name: &String| {
                let drawn = intake.fields.get_index_of(name).map(|field| drawer.field(person, field));
                let Some(Drawn::Value(value, _)) = drawn else { return false };
                value.split(LIST).chain([&*value]).any(|value| folded(value) == folded(&self.0))
            };
            people.extend(sign_in.names.iter().position(is_so).map(|field| (person, field)));
        }
        people
    }
}
