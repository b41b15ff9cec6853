//! Splitting a search that the server's limit cuts short, by the first letters of names.
//!
//! Each portion asks for less: the entries whose name begins with a letter that was seen, and, as a portion of its
//! own, all others. Whatever letters are chosen, the portions cover everything, since the last one is the negation of
//! the others. A portion that is cut short is split again. A server that hides the name of some entries could hide
//! them from every portion; so each entry must show it, or there is no proof.

use std::collections::BTreeSet;
use webtaxon_core::ldap::filter::Filter;

/// The attributes to split by, best first.
pub(crate) const BY: [&str; 3] = ["sAMAccountName", "uid", "cn"];
/// Maximum portions of one search.
pub(crate) const MOST: usize = 5000;

/// One portion of a search.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Portion {
    /// Entries without a name. On a server where a comparison with a missing value is neither true nor false, they
    /// are in no other portion.
    Nameless,
    /// Entries with exactly this name.
    Named(String),
    /// Entries whose name has a prefix, with some exceptions.
    Beginning {
        /// The prefix.
        prefix: String,
        /// Longer prefixes that are excluded.
        excluded: BTreeSet<String>,
        /// Whether names equal to the prefix are a portion of their own.
        longer: bool,
    },
}

/// A search in portions, and those still to be made.
#[derive(Debug)]
pub(crate) struct Portions {
    attribute: &'static str,
    waiting: Vec<Portion>,
    asked: usize,
}

impl Portions {
    /// Starts from the entries returned before the limit, each with its values of [`BY`]. `None` unless all of them
    /// show one of these.
    pub(crate) fn new(came: &[[Vec<String>; 3]]) -> Option<Self> {
        let at = (0..BY.len()).find(|at| {
            !came.is_empty()
                && came.iter().all(|values| values.get(*at).is_some_and(|values| !values.is_empty()))
        })?;
        let mut portions = Self { attribute: BY.get(at)?, waiting: Vec::new(), asked: 0 };
        let whole = Portion::Beginning { prefix: String::new(), excluded: BTreeSet::new(), longer: false };
        let names = came.iter().filter_map(|values| values.get(at)).flatten();
        let splits = portions.split(whole, names.map(String::as_str));
        portions.waiting.push(Portion::Nameless);
        splits.then_some(portions)
    }

    /// The attribute to split by.
    pub(crate) fn attribute(&self) -> &'static str {
        self.attribute
    }

    /// The next portion, as a filter within `filter`; `None` at the end.
    pub(crate) fn next(&mut self, filter: &Filter) -> Option<(Portion, Filter)> {
        let portion = self.waiting.pop()?;
        self.asked += 1;
        let mut parts = vec![filter.clone()];
        match &portion {
            Portion::Nameless => parts.push(Filter::Not(Box::new(Filter::present(self.attribute)))),
            Portion::Named(name) => parts.push(self.named(name)),
            Portion::Beginning { prefix, excluded, longer } => {
                if !prefix.is_empty() {
                    parts.push(self.begins(prefix));
                }
                let mut others: Vec<Filter> = excluded.iter().map(|prefix| self.begins(prefix)).collect();
                others.extend(longer.then(|| self.named(prefix)));
                if !others.is_empty() {
                    parts.push(Filter::Not(Box::new(Filter::Or(others))));
                }
            }
        }
        Some((portion, Filter::And(parts)))
    }

    fn named(&self, name: &str) -> Filter {
        Filter::equal(self.attribute, name)
    }

    fn begins(&self, prefix: &str) -> Filter {
        Filter::begins_with(self.attribute, prefix)
    }

    /// Splits a portion that was cut short, by the names returned; false if they do not help.
    pub(crate) fn split<'v>(&mut self, cut: Portion, names: impl IntoIterator<Item = &'v str>) -> bool {
        if self.asked + self.waiting.len() > MOST {
            return false;
        }
        let Portion::Beginning { prefix, mut excluded, mut longer } = cut else {
            return false; // names that are all alike, or none
        };
        let mut found = BTreeSet::new();
        let mut named = false;
        for name in names {
            let name = folded(name);
            let Some(rest) = name.strip_prefix(&prefix) else { continue };
            named |= rest.is_empty() && !longer && !prefix.is_empty();
            // A prefix never ends with a blank: servers treat those differently.
            let taken = rest.char_indices().find(|(_, character)| *character != ' ');
            let Some(end) = taken.map(|(at, character)| at + character.len_utf8()) else { continue };
            let further = format!("{prefix}{}", rest.get(..end).unwrap_or(rest));
            if !excluded.contains(&further) {
                found.insert(further);
            }
        }
        if found.is_empty() && !named {
            return false;
        }
        longer |= named;
        excluded.extend(found.iter().cloned());
        self.waiting.extend(named.then(|| Portion::Named(prefix.clone())));
        self.waiting.push(Portion::Beginning { prefix, excluded, longer });
        let part = |prefix| Portion::Beginning { prefix, excluded: BTreeSet::new(), longer: false };
        self.waiting.extend(found.into_iter().map(part));
        true
    }
}

/// A name in the form for prefixes: lower case, single blanks.
fn folded(name: &str) -> String {
    name.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use webtaxon_core::ldap::entry::Entries;
    use webtaxon_core::ldap::filter::Matcher;
    use webtaxon_core::ldap::schema::Schema;

    /// A server that gives at most `limit` entries of each search; true if everybody came.
    fn read(names: &[String], limit: usize) -> Option<BTreeSet<String>> {
        let mut entries = Entries::new();
        for (index, name) in names.iter().enumerate() {
            entries.push(&format!("cn=p{index}"), [("cn", [name.as_bytes()])]);
        }
        let all = Filter::present("cn");
        let mut seen = BTreeSet::new();
        let came: Vec<[Vec<String>; 3]> =
            names.iter().take(limit).map(|name| [vec![], vec![], vec![name.clone()]]).collect();
        let mut portions = Portions::new(&came)?;
        while let Some((portion, filter)) = portions.next(&all) {
            let matcher = Matcher::new(&filter, Schema::builtin(), entries.names());
            let found: Vec<_> = entries.iter().filter(|entry| matcher.matches(*entry)).collect();
            seen.extend(found.iter().take(limit).map(|entry| entry.dn().to_owned()));
            let shown: Vec<&str> = found.iter().take(limit).filter_map(|entry| entry.text("cn")).collect();
            if found.len() > limit && !portions.split(portion, shown) {
                return None;
            }
        }
        Some(seen)
    }

    #[test]
    fn everybody_comes_however_small_the_limit() {
        let names: Vec<String> =
            ["Ada", "Adam", "ad", "Zoë", "Li", "Li Wei", "Li Wu", "林 美咲", "*", "a*", "  x", "(b)"]
                .map(str::to_owned)
                .to_vec();
        for limit in 1..5 {
            assert_eq!(read(&names, limit).map(|seen| seen.len()), Some(names.len()), "{limit}");
        }
        assert_eq!(
            read(&vec!["same".to_owned(); 5], 2),
            None,
            "names that are all alike cannot be told apart"
        );
        assert!(Portions::new(&[[vec![], vec![], vec![]]]).is_none(), "an entry that hides its names");
        assert!(Portions::new(&[]).is_none(), "nothing came");
    }

    proptest! {
        /// Either everybody comes, or it is known that somebody may be missing.
        #[test]
        fn nobody_is_lost_in_silence(
            names in proptest::collection::vec("[aAbB ß*(é]{1,5}[a-c]", 1..60),
            limit in 1usize..6,
        ) {
            if let Some(seen) = read(&names, limit) {
                prop_assert_eq!(seen.len(), names.len());
            }
        }
    }
}
