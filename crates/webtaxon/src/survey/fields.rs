//! The attributes of people: how often they are filled, how many different values they have, whether they are
//! multi-valued.
//!
//! Entries are counted as they arrive and not kept; of each value a hash of 8 bytes is kept.

use crate::directory::{Connection, DirectoryError, Query, read_schema};
use serde::Serialize;
use std::collections::{BTreeMap, HashSet};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::ops::ControlFlow;
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::LASTING;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::value::readable;

/// Attributes whose values are never shown.
const SECRET: [&str; 8] = [
    "userPassword",
    "unicodePwd",
    "dBCSPwd",
    "sambaNTPassword",
    "sambaLMPassword",
    "krbPrincipalKey",
    "ntPwdHistory",
    "supplementalCredentials",
];
/// Operational attributes of interest, in addition to those returned by default.
const ALSO: [&str; 7] = [
    "*",
    "entryUUID",
    "nsUniqueId",
    "memberOf",
    "createTimestamp",
    "modifyTimestamp",
    "pwdAccountLockedTime",
];

/// The statistics of one attribute.
#[derive(Clone, Debug, Serialize)]
pub struct FieldFacts {
    /// The attribute's name.
    pub attribute: String,
    /// Number of people who have it.
    pub filled: usize,
    /// Number of different values, ignoring case.
    pub different: usize,
    /// Maximum number of values of one person.
    pub most_values: usize,
    /// Whether the schema allows only one value; `None` if it does not say.
    pub single: Option<bool>,
    /// Whether no two people share a value.
    pub unique: bool,
    /// One person's value in readable form; `None` if values are hidden.
    pub example: Option<String>,
    /// The schema's description; usually empty.
    pub description: String,
}

/// The attributes of people.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Survey {
    /// Number of people examined.
    pub people: usize,
    /// The attributes, most frequent first.
    pub fields: Vec<FieldFacts>,
    /// Why the survey is incomplete; `None` if it is not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub short: Option<String>,
}

#[derive(Default)]
struct Tally {
    name: String,
    filled: usize,
    values: usize,
    most: usize,
    different: HashSet<u64>,
    example: Option<String>,
}

impl Survey {
    /// The statistics of an attribute, if anybody has it.
    #[must_use]
    pub fn find(&self, attribute: &str) -> Option<&FieldFacts> {
        self.fields.iter().find(|facts| facts.attribute.eq_ignore_ascii_case(attribute))
    }

    /// The first of these attributes that nearly everybody has, with unique values if required.
    #[must_use]
    pub fn best<'s>(&'s self, wanted: &[&str], unique: bool) -> Option<&'s FieldFacts> {
        let good = |facts: &&FieldFacts| facts.filled * 100 >= self.people * 95 && (facts.unique || !unique);
        wanted.iter().filter_map(|name| self.find(name)).find(good)
    }

    /// The most suitable attributes for the fields of every application: `login`, `name`, `email`, and the lasting
    /// identity.
    pub fn suggestions(&self) -> impl Iterator<Item = (&'static str, &FieldFacts)> {
        let found = [
            ("login", self.best(&LOGINS, true)),
            ("name", self.best(&NAMES, false)),
            ("email", self.best(&MAILS, true).or_else(|| self.find("mail"))),
            ("identity", self.best(&LASTING, true)),
        ];
        found.into_iter().filter_map(|(what, facts)| Some((what, facts?)))
    }
}

/// Attributes suitable as a login, the usual one first.
pub(crate) const LOGINS: [&str; 5] = ["sAMAccountName", "uid", "userPrincipalName", "mail", "cn"];
/// Attributes suitable as a display name.
pub(crate) const NAMES: [&str; 3] = ["displayName", "cn", "name"];
const MAILS: [&str; 2] = ["mail", "userPrincipalName"];

/// Examines everybody who matches `filter` under `bases`. With `mask`, no values are shown.
///
/// # Errors
/// A base cannot be read, or the connection is unusable.
pub async fn fields(
    connection: &mut Connection,
    bases: &[Dn],
    filter: &Filter,
    mask: bool,
) -> Result<Survey, DirectoryError> {
    let mut tallies: BTreeMap<String, Tally> = BTreeMap::new();
    let (mut people, mut short) = (0, None);
    for base in bases {
        let take = |entry: Entry<'_>| {
            people += 1;
            for (name, values) in entry.attributes() {
                tally(&mut tallies, name, values, mask);
            }
            ControlFlow::Continue(())
        };
        let query = Query::subtree(&base.to_string(), filter.clone(), &ALSO);
        short = short.or(connection.each(query, take).await?.limit);
    }
    let schema = read_schema(connection).await?;
    let mut fields: Vec<FieldFacts> = tallies
        .into_values()
        .filter(|tally| tally.filled > 0)
        .map(|tally| {
            let published = schema.find(&tally.name);
            FieldFacts {
                filled: tally.filled,
                different: tally.different.len(),
                most_values: tally.most,
                single: published.map(|published| published.single),
                unique: tally.different.len() == tally.values,
                example: tally.example,
                description: published.map(|published| published.description.clone()).unwrap_or_default(),
                attribute: tally.name,
            }
        })
        .collect();
    fields.sort_by_key(|facts| (std::cmp::Reverse(facts.filled), facts.attribute.to_ascii_lowercase()));
    Ok(Survey { people, fields, short })
}

fn tally<'v>(
    tallies: &mut BTreeMap<String, Tally>,
    name: &str,
    values: impl Iterator<Item = &'v [u8]>,
    mask: bool,
) {
    let tally = tallies.entry(name.to_ascii_lowercase()).or_default();
    let mut count = 0;
    for value in values {
        if value.iter().all(u8::is_ascii_whitespace) {
            continue;
        }
        count += 1;
        let mut hasher = DefaultHasher::new();
        match std::str::from_utf8(value) {
            Ok(text) => text.to_lowercase().hash(&mut hasher),
            Err(_) => value.hash(&mut hasher),
        }
        tally.different.insert(hasher.finish());
        if tally.example.is_none() && !mask {
            let secret = SECRET.iter().any(|secret| secret.eq_ignore_ascii_case(name));
            tally.example = Some(if secret { "(not shown)".to_owned() } else { readable(name, value) });
        }
    }
    if count > 0 {
        name.clone_into(&mut tally.name);
        tally.filled += 1;
        tally.values += count;
        tally.most = tally.most.max(count);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_people_have_is_counted_and_the_best_is_found() {
        let mut tallies = BTreeMap::new();
        for (name, values) in [
            ("uid", &["ada"][..]),
            ("uid", &["olive"]),
            ("cn", &["Ada"]),
            ("CN", &["ADA"]),
            ("mail", &["ada@x", "a@x"]),
            ("title", &[" "]),
            ("userPassword", &["geheim"]),
        ] {
            tally(&mut tallies, name, values.iter().map(|value| value.as_bytes()), false);
        }
        let told: Vec<_> = tallies
            .iter()
            .map(|(name, one)| (name.as_str(), one.filled, one.different.len(), one.most))
            .collect();
        assert_eq!(
            told,
            [
                ("cn", 2, 1, 1),
                ("mail", 1, 2, 2),
                ("title", 0, 0, 0),
                ("uid", 2, 2, 1),
                ("userpassword", 1, 1, 1)
            ]
        );
        assert_eq!(tallies["userpassword"].example.as_deref(), Some("(not shown)"));
        let facts = |attribute: &str, filled, unique| FieldFacts {
            attribute: attribute.to_owned(),
            filled,
            different: filled,
            most_values: 1,
            single: None,
            unique,
            example: None,
            description: String::new(),
        };
        let fields = vec![facts("cn", 100, false), facts("mail", 90, true), facts("uid", 99, true)];
        let survey = Survey { people: 100, fields, short: None };
        let best: Vec<_> =
            survey.suggestions().map(|(what, facts)| (what, facts.attribute.as_str())).collect();
        assert_eq!(best, [("login", "uid"), ("name", "cn"), ("email", "mail")]);
    }
}
