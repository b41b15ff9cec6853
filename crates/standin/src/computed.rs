//! Attributes that a domain controller computes, and values that it returns in ranges ([MS-ADTS]).

use std::collections::HashMap;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::name::{Dn, DnKey};

/// Maximum values of a linked attribute in one response (§3.1.1.3.4.6, MaxValRange).
const VALUES: usize = 1500;

/// The groups that list each name: `memberOf`, computed. Primary groups do not count.
pub(crate) fn member_of(entries: &Entries) -> HashMap<DnKey, Vec<String>> {
    let mut member_of: HashMap<DnKey, Vec<String>> = HashMap::new();
    for group in entries.iter() {
        for member in group.values("member") {
            if let Some(dn) = std::str::from_utf8(member).ok().and_then(|dn| Dn::parse(dn).ok()) {
                member_of.entry(dn.key()).or_default().push(group.dn().to_owned());
            }
        }
    }
    member_of
}

/// A linked attribute's values as returned: complete up to [`VALUES`], otherwise as a range, beside the plain name
/// without values (§3.1.1.3.1.3.3).
pub(crate) fn in_range(name: &str, asked: Option<&str>, values: Vec<Vec<u8>>) -> Vec<(String, Vec<Vec<u8>>)> {
    let (from, to) = match asked {
        None if values.len() <= VALUES => return vec![(name.to_owned(), values)],
        None => (0, None),
        Some(range) => {
            let (from, to) = range.split_once('-').unwrap_or((range, "*"));
            (from.parse().unwrap_or(0), to.parse::<usize>().ok())
        }
    };
    if from >= values.len() {
        return Vec::new();
    }
    let last = to.unwrap_or(usize::MAX).min(from + VALUES - 1);
    let slice: Vec<Vec<u8>> = values.iter().skip(from).take(last - from + 1).cloned().collect();
    let label = if last + 1 >= values.len() { "*".to_owned() } else { last.to_string() };
    let ranged = (format!("{name};range={from}-{label}"), slice);
    if asked.is_none() { vec![(name.to_owned(), Vec::new()), ranged] } else { vec![ranged] }
}
