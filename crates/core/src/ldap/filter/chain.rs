//! The chain rule over entries in memory ([MS-ADTS] §3.1.1.3.4.4.3): a name-valued attribute followed through any
//! number of links. No recursion; time is linear in the attribute's values.

use super::Chain;
use crate::ldap::entry::Entries;
use crate::ldap::name::{Dn, DnKey};
use std::collections::{HashMap, HashSet};

/// Follows the links among these entries; links through an entry that is not among them are not seen.
#[derive(Clone, Copy, Debug)]
pub struct Links<'e>(pub &'e Entries);

impl Chain for Links<'_> {
    /// `None` if no entry has the target's name: then nothing can be said about what leads to it. In a cycle the
    /// target itself is among the entries that reach it, as on a domain controller.
    fn reaching(&self, attribute: &str, target: &DnKey) -> Option<HashSet<DnKey>> {
        let key = |name: &[u8]| Some(Dn::parse(std::str::from_utf8(name).ok()?).ok()?.key());
        let is = |name: &str| attribute.eq_ignore_ascii_case(name);
        let back = if is("memberOf") { Some("member") } else { is("member").then_some("memberOf") };
        // Backwards from the target: who names it?
        let mut named_by: HashMap<DnKey, Vec<DnKey>> = HashMap::new();
        let mut is_there = false;
        for entry in self.0.iter() {
            let Some(own) = key(entry.dn().as_bytes()) else { continue };
            is_there |= own == *target;
            for named in entry.values(attribute).filter_map(key) {
                named_by.entry(named).or_default().push(own.clone());
            }
            // A file may hold only one direction of a link.
            for other in back.into_iter().flat_map(|back| entry.values(back)).filter_map(key) {
                named_by.entry(own.clone()).or_default().push(other);
            }
        }
        if !is_there {
            return None;
        }
        let mut found = HashSet::new();
        let mut waiting = vec![target.clone()];
        while let Some(reached) = waiting.pop() {
            for own in named_by.get(&reached).into_iter().flatten() {
                if found.insert(own.clone()) {
                    waiting.push(own.clone());
                }
            }
        }
        Some(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A in B in C in A, with Ada in A; Gus in none; Rosa's membership only on her own entry.
    fn nest() -> Entries {
        crate::ldap::ldif::entries(
            b"dn: cn=A,o=x\nmember: cn=Ada,o=x\nmember: cn=C,o=x\n\ndn: cn=B,o=x\nmember: CN=a,O=x\nmember: broken\n
dn: cn=C,o=x\nmember: cn=B,o=x\n\ndn: cn=Ada,o=x\n\ndn: cn=Gus,o=x\n\ndn: cn=Rosa,o=x\nmemberOf: cn=B,o=x\n",
        )
        .unwrap()
    }

    #[test]
    fn links_are_followed_to_their_end_in_either_direction() {
        let entries = nest();
        let key = |cn: &str| Dn::parse(&format!("cn={cn},o=x")).unwrap().key();
        for (attribute, target, expected, why) in [
            ("memberOf", "C", vec!["A", "Ada", "B", "C", "Rosa"], "through a cycle, the target itself too"),
            ("MEMBEROF", "B", vec!["A", "Ada", "B", "C", "Rosa"], "any case"),
            ("member", "Ada", vec!["A", "B", "C"], "the groups that somebody is in"),
            ("member", "Rosa", vec!["A", "B", "C"], "said by her own entry only"),
            ("memberOf", "Gus", vec![], "nobody is in a person"),
        ] {
            let found = Links(&entries).reaching(attribute, &key(target)).unwrap();
            let expected: HashSet<DnKey> = expected.into_iter().map(key).collect();
            assert_eq!(found, expected, "{why}");
        }
        assert_eq!(Links(&entries).reaching("memberOf", &key("Nowhere")), None);
    }
}
