//! Conditions of choices and roles: by filter, by group, by place in the tree.

use crate::ldap::filter::Filter;
use crate::ldap::name::Dn;
use serde::Serialize;

/// A condition on a person. All parts must hold; without any, it holds for everybody.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Condition {
    /// A filter that must match.
    pub when: Option<Filter>,
    /// Groups of which the person must be a direct or nested member of one; empty for no condition.
    pub in_group: Vec<Dn>,
    /// Entries, below one of which the person must be; empty for no condition.
    pub under: Vec<Dn>,
}

impl Condition {
    /// Whether it holds for everybody.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.when.is_none() && self.in_group.is_empty() && self.under.is_empty()
    }

    /// The attributes in the filter.
    pub fn attributes(&self) -> impl Iterator<Item = &str> {
        self.when.iter().flat_map(Filter::attributes)
    }

    /// The condition in words, in the order of the settings' keys.
    #[must_use]
    pub fn in_words(&self) -> String {
        let names = |list: &[Dn]| {
            let short: Vec<String> =
                list.iter().map(|dn| crate::ldap::name::short(&dn.to_string())).collect();
            short.join(" or ")
        };
        let mut parts = Vec::new();
        parts.extend(self.when.as_ref().map(ToString::to_string));
        if !self.in_group.is_empty() {
            parts.push(format!("in {}", names(&self.in_group)));
        }
        if !self.under.is_empty() {
            parts.push(format!("under {}", names(&self.under)));
        }
        if parts.is_empty() { "everybody".to_owned() } else { parts.join(" and ") }
    }
}
