//! The tree of containers, with the number of people and groups in each.

use crate::directory::{Connection, DirectoryError, Query};
use crate::survey::EntryKind;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};

/// An entry with others below it.
#[derive(Clone, Debug, Default, serde::Serialize)]
pub struct Container {
    /// The distinguished name.
    pub dn: String,
    /// Depth below the base that was read.
    pub depth: usize,
    /// Number of people below it.
    pub people: usize,
    /// Number of groups below it.
    pub groups: usize,
    /// Number of other entries below it.
    pub others: usize,
}

/// A part of the directory's tree.
#[derive(Clone, Debug, Default)]
pub struct Tree {
    /// The containers, each before those inside it.
    pub containers: Vec<Container>,
    /// Search continuation references.
    pub references: Vec<String>,
    /// Why the tree is incomplete; `None` if it is not.
    pub short: Option<String>,
    places: BTreeMap<DnKey, Place>,
}

#[derive(Clone, Debug, Default)]
struct Place {
    dn: String,
    /// People, groups and others: of itself, then of everything below it.
    own: Option<EntryKind>,
    below: [usize; 3],
    children: usize,
}

impl Tree {
    /// Reads everything at and below `base`: names and object classes only.
    ///
    /// If the server's limit ended the search, the tree says that it is incomplete.
    ///
    /// # Errors
    /// The base cannot be read, or the connection is unusable.
    pub async fn read(connection: &mut Connection, base: &Dn) -> Result<Self, DirectoryError> {
        let mut tree = Self::default();
        let query = Query::subtree(&base.to_string(), Filter::present("objectClass"), &["objectClass"]);
        let add = |entry: Entry<'_>| {
            tree.add(entry.dn(), EntryKind::of(entry));
            ControlFlow::Continue(())
        };
        let short = connection.each(query, add).await?;
        (tree.references, tree.short) = (short.references, short.limit);
        tree.count(&base.key());
        Ok(tree)
    }

    fn add(&mut self, dn: &str, kind: EntryKind) {
        let Ok(name) = Dn::parse(dn) else { return };
        let place = self.places.entry(name.key()).or_default();
        dn.clone_into(&mut place.dn);
        place.own = Some(kind);
    }

    /// Adds up the counts along the names, and lists the containers.
    fn count(&mut self, base: &DnKey) {
        let kinds: Vec<(DnKey, EntryKind)> =
            self.places.iter().filter_map(|(key, place)| Some((key.clone(), place.own?))).collect();
        for (key, kind) in kinds {
            let mut above = key.parent();
            let mut is_parent = true;
            while let Some(parent) = above.filter(|parent| parent.is_within(base)) {
                if let Some(place) = self.places.get_mut(&parent) {
                    if let Some(count) = place.below.get_mut(kind as usize) {
                        *count += 1;
                    }
                    place.children += usize::from(is_parent);
                    is_parent = false;
                }
                above = parent.parent();
            }
        }
        let containers = self.places.iter().filter(|(key, place)| place.children > 0 || *key == base);
        self.containers = containers
            .map(|(key, place)| {
                let [people, groups, others] = place.below;
                let depth = key.depth().saturating_sub(base.depth());
                Container { dn: place.dn.clone(), depth, people, groups, others }
            })
            .collect();
    }

    /// The container with most entries of a kind and as little else as possible: the deepest one with at least three
    /// quarters of them. `None` if there are none.
    pub(crate) fn home(&self, count: impl Fn(&Container) -> usize) -> Option<&Container> {
        let all = self.containers.first().map(&count).filter(|all| *all > 0)?;
        self.containers
            .iter()
            .filter(|container| count(container) * 4 >= all * 3)
            .max_by_key(|container| container.depth)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_sits_where_is_counted_up_along_the_names() {
        let mut tree = Tree::default();
        for (dn, kind) in [
            ("DC=x", EntryKind::Other),
            ("OU=People,DC=x", EntryKind::Other),
            ("OU=Botany,OU=People,DC=x", EntryKind::Other),
            ("CN=Ada,OU=Botany,OU=People,DC=x", EntryKind::Person),
            ("CN=Olive,OU=Botany,OU=People,DC=x", EntryKind::Person),
            ("CN=Rosa,OU=People,DC=x", EntryKind::Person),
            ("OU=Groups,DC=x", EntryKind::Other),
            ("CN=Lenders,OU=Groups,DC=x", EntryKind::Group),
            ("CN=Leaf,DC=x", EntryKind::Other),
        ] {
            tree.add(dn, kind);
        }
        tree.count(&Dn::parse("dc=X").unwrap().key());
        let told: Vec<_> = tree
            .containers
            .iter()
            .map(|one| (one.dn.as_str(), one.depth, one.people, one.groups, one.others))
            .collect();
        assert_eq!(
            told,
            [
                ("DC=x", 0, 3, 1, 4),
                ("OU=Groups,DC=x", 1, 0, 1, 0),
                ("OU=People,DC=x", 1, 3, 0, 1),
                ("OU=Botany,OU=People,DC=x", 2, 2, 0, 0),
            ]
        );
        assert_eq!(tree.home(|one| one.people).unwrap().dn, "OU=People,DC=x");
        assert_eq!(tree.home(|one| one.groups).unwrap().dn, "OU=Groups,DC=x");
        assert!(Tree::default().home(|one| one.people).is_none());
    }
}
