//! The chain rule over entries in memory ([MS-ADTS] §3.1.1.3.4.4.3): an attribute that holds names,
//! followed through any number of links. No recursion; time is linear in the attribute's values.

use crate::entry::Entries;
use crate::filter::Chain;
use crate::name::{Dn, DnKey};
use std::collections::{HashMap, HashSet};

/// Follows the links of these entries. What lies behind a name that is not among them is not seen.
#[derive(Clone, Copy, Debug)]
pub struct Links<'e>(pub &'e Entries);

impl Chain for Links<'_> {
    /// None where no entry has the target's name, so that nothing can be said of what leads there.
    /// In a cycle the target itself is among those that reach it, as on a domain controller.
    fn reaching(&self, attribute: &str, target: &DnKey) -> Option<HashSet<DnKey>> {
        let key = |name: &[u8]| Some(Dn::parse(std::str::from_utf8(name).ok()?).ok()?.key());
        // Backwards from the target: who names it?
        let mut named_by: HashMap<DnKey, Vec<DnKey>> = HashMap::new();
        let mut is_there = false;
        for entry in self.0.iter() {
            let Some(own) = key(entry.dn().as_bytes()) else { continue };
            is_there |= own == *target;
            for value in entry.values(attribute) {
                if let Some(named) = key(value) {
                    named_by.entry(named).or_default().push(own.clone());
                }
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
