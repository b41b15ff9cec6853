//! The entries of the simulated directory, and what a search finds in them (RFC 4511 §4.5).

use crate::root;
use std::collections::{BTreeMap, HashSet};
use webtaxon_core::entry::{Entries, Entry, NameId, Names, covers};
use webtaxon_core::filter::{Filter, Matcher};
use webtaxon_core::ldif;
use webtaxon_core::name::{Dn, DnKey};
use webtaxon_core::schema::Schema;
use webtaxon_wire::message::Scope;

/// A directory held in memory: read from LDIF once, never changed.
#[derive(Debug)]
pub struct Directory {
    entries: Entries,
    /// Names from the root downwards, so that a subtree is a range.
    tree: BTreeMap<DnKey, usize>,
    root: Entries,
    subschema: Entries,
}

impl Directory {
    /// Reads the entries from LDIF content (RFC 2849).
    ///
    /// # Errors
    /// The first line that breaks the form, or that repeats a name.
    pub fn from_ldif(text: &[u8]) -> Result<Self, ldif::ParseError> {
        let read = ldif::entries(text)?;
        let keys: Vec<DnKey> =
            read.iter().filter_map(|entry| Dn::parse(entry.dn()).ok()).map(|dn| dn.key()).collect();
        let parents: HashSet<DnKey> = keys.iter().filter_map(DnKey::parent).collect();
        let mut entries = Entries::new();
        for (entry, key) in read.iter().zip(&keys) {
            let has_children = if parents.contains(key) { "TRUE" } else { "FALSE" };
            let own = [
                ("entryDN", entry.dn()),
                ("subschemaSubentry", root::SUBSCHEMA),
                ("hasSubordinates", has_children),
            ];
            let own = own.into_iter().map(|(name, value)| (name, vec![value.as_bytes()]));
            let known = |name: &str| entry.values(name).next().is_some();
            let own: Vec<_> = own.filter(|(name, _)| !known(name)).collect();
            entries.push(
                entry.dn(),
                entry.attributes().map(|(name, values)| (name, values.collect())).chain(own),
            );
        }
        let tree: BTreeMap<DnKey, usize> =
            keys.into_iter().enumerate().map(|(index, key)| (key, index)).collect();
        let tops =
            tree.iter().filter(|(key, _)| key.parent().is_none_or(|parent| !tree.contains_key(&parent)));
        let naming_contexts: Vec<String> =
            tops.filter_map(|(_, index)| entries.get(*index)).map(|entry| entry.dn().to_owned()).collect();
        let controller = entries.names().find("objectGUID").is_some();
        let root = root::root_dse(&naming_contexts, controller);
        Ok(Self { entries, tree, root, subschema: root::subschema() })
    }

    /// How many entries there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    pub(crate) fn names(&self) -> &Names {
        self.entries.names()
    }

    pub(crate) fn entry(&self, index: usize) -> Option<Entry<'_>> {
        self.entries.get(index)
    }

    /// The entry that a bind names: by its DN, or by its userPrincipalName.
    pub(crate) fn bind_entry(&self, name: &str) -> Option<Entry<'_>> {
        if let Ok(dn) = Dn::parse(name) {
            return self.tree.get(&dn.key()).and_then(|index| self.entries.get(*index));
        }
        self.entries
            .iter()
            .find(|entry| entry.text("userPrincipalName").is_some_and(|upn| upn.eq_ignore_ascii_case(name)))
    }

    /// The entry about the server itself that a base names: the root DSE or the subschema.
    pub(crate) fn about_itself(&self, base: &Dn, scope: Scope) -> Option<&Entries> {
        let key = base.key();
        if key.depth() == 0 {
            return (scope == Scope::Base).then_some(&self.root);
        }
        Dn::parse(root::SUBSCHEMA).is_ok_and(|name| name.key() == key).then_some(&self.subschema)
    }

    /// The places of the entries that a search with this base and scope looks at.
    ///
    /// # Errors
    /// The base does not exist; the error is the name above it that does, or empty.
    pub(crate) fn places(&self, base: &Dn, scope: Scope) -> Result<Vec<usize>, String> {
        let key = base.key();
        if key.depth() > 0 && !self.tree.contains_key(&key) {
            let above =
                std::iter::successors(key.parent(), DnKey::parent).find_map(|above| self.tree.get(&above));
            return Err(above.and_then(|index| self.entries.get(*index)).map_or("", Entry::dn).to_owned());
        }
        let within = self.tree.range(key.clone()..).take_while(|(name, _)| name.is_within(&key));
        Ok(match scope {
            Scope::Base => within.take(1).map(|(_, index)| *index).collect(),
            Scope::One => {
                // Below the root lie the tops of the trees, however long their names are.
                let is_top = |parent: &DnKey| key.depth() == 0 && !self.tree.contains_key(parent);
                let child =
                    |name: &DnKey| name.parent().is_some_and(|parent| parent == key || is_top(&parent));
                within.filter(|(name, _)| child(name)).map(|(_, index)| *index).collect()
            }
            Scope::Subtree => within.map(|(_, index)| *index).collect(),
        })
    }

    /// A filter made ready for the file's entries.
    pub(crate) fn matcher(&self, filter: &Filter) -> Matcher {
        Matcher::new(filter, Schema::builtin(), self.entries.names())
    }
}

/// Which attributes a search wants (RFC 4511 §4.5.1.8).
pub(crate) struct Wanted {
    every_user: bool,
    every_operational: bool,
    names: Vec<String>,
}

impl Wanted {
    pub(crate) fn new(list: &[String]) -> Self {
        let named = |word: &str| list.iter().any(|name| name == word);
        Self {
            every_user: list.is_empty() || named("*"),
            every_operational: named("+"),
            // An OID stands for the type's names, a name for the type's other names.
            names: list
                .iter()
                .flat_map(|name| {
                    let (base, options) = name.split_at(name.find(';').unwrap_or(name.len()));
                    let known = Schema::builtin().find(base).map_or(&[][..], |known| known.names);
                    let others = known.iter().map(|other| format!("{other}{options}")).collect::<Vec<_>>();
                    others.into_iter().chain([name.clone()])
                })
                .collect(),
        }
    }

    /// The attributes that go out, of all that entries with these names have.
    pub(crate) fn among(&self, names: &Names, hidden: &[String]) -> HashSet<NameId> {
        let shown = |name: &str| !hidden.iter().any(|hidden| covers(hidden, name));
        names.iter().filter(|(_, name)| self.has(name) && shown(name)).map(|(id, _)| id).collect()
    }

    /// Whether an attribute goes out. Passwords never do.
    fn has(&self, description: &str) -> bool {
        let known = Schema::builtin().find(description);
        if known.is_some_and(|known| known.name() == "userPassword") {
            return false;
        }
        let operational = known.is_some_and(|known| known.operational);
        (if operational { self.every_operational } else { self.every_user })
            || self.names.iter().any(|name| covers(name, description))
    }
}
