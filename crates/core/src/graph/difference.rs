//! The differences between two graphs: groups whose direct members changed.
//!
//! No I/O, no recursion; linear in the members of both, apart from sorting.

use super::{Graph, NodeId};
use crate::ldap::name::DnKey;
use serde::Serialize;
use std::collections::{BTreeSet, HashMap};

/// A group whose direct members changed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct GroupDifference {
    /// The group's name, in its latest spelling.
    pub group: String,
    /// Whether the earlier reading has it as a group.
    pub was_there: bool,
    /// Whether the later reading has it as a group.
    pub is_there: bool,
    /// Members gained, as written in the later reading.
    pub came: Vec<String>,
    /// Members lost, as written in the earlier reading.
    pub went: Vec<String>,
}

impl Graph {
    /// The groups of either graph whose direct members differ in `later`, sorted by name. `moved` maps renamed
    /// entries to their later names.
    #[must_use]
    pub fn differences(&self, later: &Self, moved: &HashMap<DnKey, DnKey>) -> Vec<GroupDifference> {
        let now = |key: &DnKey| moved.get(key).unwrap_or(key).clone();
        let then: HashMap<DnKey, NodeId> =
            self.group_ids().filter_map(|id| Some((now(self.key(id)?), id))).collect();
        let there: HashMap<DnKey, NodeId> =
            later.group_ids().filter_map(|id| Some((later.key(id)?.clone(), id))).collect();
        let keys: BTreeSet<&DnKey> = then.keys().chain(there.keys()).collect();
        let difference = |key: &DnKey| {
            let (was, is) = (then.get(key).copied(), there.get(key).copied());
            let old: HashMap<DnKey, NodeId> = was
                .and_then(|id| self.members(id))
                .into_iter()
                .flatten()
                .filter_map(|id| Some((now(self.key(*id)?), *id)))
                .collect();
            let new = is.map(|id| later.members_by_name(id)).unwrap_or_default();
            let had = |id: &&NodeId| later.key(**id).is_some_and(|key| old.contains_key(key));
            let came = new.iter().filter(|id| !had(id)).map(|id| later.dn(*id).to_owned()).collect();
            let has: BTreeSet<&DnKey> = new.iter().filter_map(|id| later.key(*id)).collect();
            let mut lost: Vec<(&DnKey, NodeId)> =
                old.iter().filter(|(key, _)| !has.contains(key)).map(|(key, id)| (key, *id)).collect();
            lost.sort_unstable();
            let went = lost.into_iter().map(|(_, id)| self.dn(id).to_owned()).collect();
            let name = is.map(|id| later.dn(id)).or(was.map(|id| self.dn(id))).unwrap_or_default();
            let (was_there, is_there) = (was.is_some(), is.is_some());
            GroupDifference { group: name.to_owned(), was_there, is_there, came, went }
        };
        let differs = |one: &GroupDifference| {
            one.was_there != one.is_there || !one.came.is_empty() || !one.went.is_empty()
        };
        keys.into_iter().map(difference).filter(differs).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ldap::name::Dn;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    fn key(name: &str) -> DnKey {
        Dn::parse(&format!("CN={name},DC=x")).unwrap().key()
    }

    /// Groups by their names, each with the names of its members.
    type Lists = BTreeMap<u8, BTreeSet<u8>>;

    fn graph(lists: &Lists) -> Graph {
        let mut graph = Graph::new();
        for (group, members) in lists {
            let names: Vec<String> = members.iter().map(u8::to_string).collect();
            let members = names.iter().map(|name| (key(name), name.as_str()));
            graph.add_group(key(&group.to_string()), &group.to_string(), members);
        }
        graph
    }

    fn lists() -> impl Strategy<Value = Lists> {
        prop::collection::btree_map(0..6_u8, prop::collection::btree_set(0..9_u8, 0..6), 0..6)
    }

    proptest! {
        /// What differs, done to the first, gives the second; and nothing else differs.
        #[test]
        fn the_first_with_what_differs_is_the_second(first in lists(), second in lists()) {
            let none = HashMap::new();
            let mut made = first.clone();
            for one in graph(&first).differences(&graph(&second), &none) {
                let name: u8 = one.group.parse().unwrap();
                prop_assert!(one.was_there == first.contains_key(&name) && one.is_there == second.contains_key(&name));
                let list = made.entry(name).or_default();
                for member in &one.went {
                    prop_assert!(list.remove(&member.parse().unwrap()), "{member} was not in {name}");
                }
                for member in &one.came {
                    prop_assert!(list.insert(member.parse().unwrap()), "{member} was in {name} already");
                }
                if !one.is_there {
                    prop_assert!(made.remove(&name).unwrap().is_empty());
                }
            }
            prop_assert_eq!(made, second);
            prop_assert_eq!(graph(&first).differences(&graph(&first), &none), []);
        }
    }

    #[test]
    fn an_entry_with_another_name_is_the_same_where_that_is_known() {
        let (first, second) =
            (Lists::from([(1, BTreeSet::from([2, 3]))]), Lists::from([(1, BTreeSet::from([2, 4]))]));
        let moved = HashMap::from([(key("3"), key("4"))]);
        assert_eq!(graph(&first).differences(&graph(&second), &moved), []);
        let told = graph(&first).differences(&graph(&second), &HashMap::new());
        assert_eq!(
            (told[0].came.as_slice(), told[0].went.as_slice()),
            (&["4".to_owned()][..], &["3".to_owned()][..])
        );
    }
}
