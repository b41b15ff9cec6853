//! Questions to an account store about what would be written and removed, and its replies.

use serde::{Deserialize, Serialize};
use smol_str::SmolStr;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// Questions to a store, asked before anything is changed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Inquiry {
    /// The values that would be written, by field; an empty text is no value.
    pub values: BTreeMap<String, BTreeSet<String>>,
    /// The logins of accounts that would be removed.
    pub removals: BTreeSet<String>,
}

impl Inquiry {
    /// Whether there is nothing to ask.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.values.is_empty() && self.removals.is_empty()
    }
}

/// A value as a store would keep it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Form {
    /// In this form, which a later reading shows.
    As(SmolStr),
    /// Not at all, for this reason: "is longer than 12 characters".
    Unfit(String),
    /// There is no value, and the store demands one: a new account gets one of the store's own, and an existing account
    /// keeps what it has.
    Own,
}

/// The effect of removing an account on rows of another table that refer to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Effect {
    /// The account cannot be removed while they are there.
    Refused,
    /// They are deleted, too.
    Deleted,
    /// They lose the reference.
    Cleared,
}

/// Rows of another table that refer to an account.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dependents {
    /// The table.
    pub table: String,
    /// The number of rows.
    pub rows: u64,
    /// The effect of removing the account.
    pub effect: Effect,
}

/// The replies of a store. What was not asked, or is not mentioned, has no limits and no dependents.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Replies {
    /// By field, values that are kept in another form or not at all.
    pub forms: HashMap<String, HashMap<String, Form>>,
    /// Fields whose values are equal if they differ in case only.
    pub caseless: HashSet<String>,
    /// By login, the rows that refer to an account.
    pub dependents: HashMap<String, Vec<Dependents>>,
    /// What was asked.
    asked: Inquiry,
}

impl Replies {
    /// Whether nothing was said that could change a preview.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.forms.is_empty() && self.caseless.is_empty() && self.dependents.is_empty()
    }

    /// The form of a value; `None` if it is kept as it is.
    #[must_use]
    pub fn form(&self, field: &str, value: &str) -> Option<&Form> {
        self.forms.get(field)?.get(value)
    }

    /// The rows that refer to an account.
    #[must_use]
    pub fn dependents(&self, login: &str) -> &[Dependents] {
        self.dependents.get(login).map(Vec::as_slice).unwrap_or_default()
    }

    /// Adds the replies to another inquiry.
    pub fn add(&mut self, asked: Inquiry, replies: Self) {
        for (field, values) in asked.values {
            self.asked.values.entry(field).or_default().extend(values);
        }
        self.asked.removals.extend(asked.removals);
        for (field, forms) in replies.forms {
            // The form in which a value is kept needs no question of its own.
            let kept = forms.values().filter_map(|form| match form {
                Form::As(kept) => Some(kept.to_string()),
                Form::Unfit(_) | Form::Own => None,
            });
            self.asked.values.entry(field.clone()).or_default().extend(kept);
            self.forms.entry(field).or_default().extend(forms);
        }
        self.caseless.extend(replies.caseless);
        self.dependents.extend(replies.dependents);
    }

    /// The part of an inquiry that was not asked yet.
    #[must_use]
    pub fn unasked(&self, mut inquiry: Inquiry) -> Inquiry {
        for (field, values) in &mut inquiry.values {
            let Some(known) = self.asked.values.get(field) else { continue };
            values.retain(|value| !known.contains(value));
        }
        inquiry.values.retain(|_, values| !values.is_empty());
        inquiry.removals.retain(|login| !self.asked.removals.contains(login));
        inquiry
    }
}

/// Counts of rows in words: "3 rows of loan, 1 row of note".
#[must_use]
pub fn counted_rows<'d>(dependents: impl IntoIterator<Item = &'d Dependents>) -> String {
    let words = |one: &Dependents| {
        let rows = usize::try_from(one.rows).unwrap_or(usize::MAX);
        format!("{} of {}", crate::words::counted(rows, "row", "rows"), one.table)
    };
    dependents.into_iter().map(words).collect::<Vec<_>>().join(", ")
}
