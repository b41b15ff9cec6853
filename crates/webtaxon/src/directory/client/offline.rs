//! A snapshot in place of a server: the same searches, answered from a file.

use crate::directory::RootDse;
use std::collections::{BTreeMap, HashMap};
use webtaxon_core::ldap::entry::{Entry, covers};
use webtaxon_core::ldap::filter::{Filter, Matcher};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::Schema;
use webtaxon_core::reading::snapshot::Snapshot;
use webtaxon_wire::message::{LdapResult, Octets, PartialAttribute, Scope, SearchRequest, SearchResultEntry};

/// A snapshot prepared for searches.
pub(crate) struct Offline {
    pub(crate) snapshot: std::sync::Arc<Snapshot>,
    keys: Vec<DnKey>,
    by_key: HashMap<DnKey, usize>,
    /// Names above the entries that are not entries of the file themselves.
    containers: BTreeMap<DnKey, String>,
}

impl Offline {
    pub(crate) fn new(snapshot: std::sync::Arc<Snapshot>) -> Self {
        // Every name was parsed when the file was read.
        let names: Vec<Dn> = snapshot.entries.iter().filter_map(|entry| Dn::parse(entry.dn()).ok()).collect();
        let keys: Vec<DnKey> = names.iter().map(Dn::key).collect();
        let by_key: HashMap<DnKey, usize> =
            keys.iter().cloned().enumerate().map(|(at, key)| (key, at)).collect();
        let mut containers = BTreeMap::new();
        let tops: Vec<DnKey> = snapshot.header.tops.iter().map(Dn::key).collect();
        for name in &names {
            let mut above = name.parent();
            while let Some(parent) = above {
                let key = parent.key();
                let inside = tops.iter().any(|top| key.is_within(top));
                if !inside
                    || by_key.contains_key(&key)
                    || containers.insert(key, parent.to_string()).is_some()
                {
                    break;
                }
                above = parent.parent();
            }
        }
        Self { snapshot, keys, by_key, containers }
    }

    /// A root DSE made up from the snapshot.
    pub(crate) fn root(&self) -> RootDse {
        let header = &self.snapshot.header;
        let mut tops = header.tops.clone();
        if tops.is_empty() {
            let is_top = |key: &&DnKey| {
                std::iter::successors(key.parent(), DnKey::parent)
                    .all(|above| !self.by_key.contains_key(&above))
            };
            let tops_at = self.keys.iter().filter(is_top).filter_map(|key| self.by_key.get(key));
            let entries = tops_at.filter_map(|at| self.snapshot.entries.get(*at));
            tops = entries.filter_map(|entry| Dn::parse(entry.dn()).ok()).collect();
        }
        RootDse { kind: header.kind, naming_contexts: tops, read: true, ..RootDse::default() }
    }

    /// The result of a search in the file (RFC 4511 §4.5.1).
    pub(crate) fn answer(&self, request: &SearchRequest) -> (Vec<SearchResultEntry>, LdapResult) {
        let base = std::str::from_utf8(&request.base).ok().and_then(|base| Dn::parse(base).ok());
        let (Some(base), Ok(filter)) = (base, request.filter.to_filter()) else {
            return (Vec::new(), LdapResult::new(34, ""));
        };
        let base = base.key();
        if base.depth() > 0 && !self.by_key.contains_key(&base) && !self.containers.contains_key(&base) {
            return (Vec::new(), LdapResult::new(32, ""));
        }
        let wanted: Vec<&str> =
            request.attributes.iter().filter_map(|name| std::str::from_utf8(name).ok()).collect();
        let in_scope = |key: &DnKey| match request.scope {
            Scope::Base => *key == base,
            Scope::One => key.parent().as_ref() == Some(&base),
            Scope::Subtree => key.is_within(&base),
        };
        let schema = self.snapshot.schema();
        let matcher = Matcher::new(&filter, schema, self.snapshot.entries.names());
        let places: Vec<usize> = match request.scope {
            Scope::Base => self.by_key.get(&base).copied().into_iter().collect(),
            _ => self.keys.iter().enumerate().filter(|(_, key)| in_scope(key)).map(|(at, _)| at).collect(),
        };
        let entries = places.into_iter().filter_map(|at| self.snapshot.entries.get(at));
        let mut found: Vec<SearchResultEntry> = entries
            .filter(|entry| matcher.matches(*entry))
            .map(|entry| shown(entry, schema, &wanted, request.types_only))
            .collect();
        // Nothing is known about a container except that it exists.
        if filter == Filter::present("objectClass") {
            let containers = self.containers.iter().filter(|(key, _)| in_scope(key));
            found.extend(containers.map(|(_, dn)| SearchResultEntry {
                name: Octets::from_slice(dn.as_bytes()),
                attributes: Vec::new(),
            }));
        }
        (found, LdapResult::new(0, ""))
    }
}

fn shown(entry: Entry<'_>, schema: &Schema, wanted: &[&str], types_only: bool) -> SearchResultEntry {
    let every = wanted.is_empty() || wanted.contains(&"*");
    let also_operational = wanted.contains(&"+");
    let is_wanted = |name: &str| {
        let operational = schema.find(name).is_some_and(|known| known.operational);
        (if operational { also_operational } else { every })
            || wanted.iter().any(|wanted| covers(wanted, name))
    };
    let attributes =
        entry.attributes().filter(|(name, _)| is_wanted(name)).map(|(name, values)| PartialAttribute {
            description: Octets::from_slice(name.as_bytes()),
            values: if types_only { Vec::new() } else { values.map(Octets::from_slice).collect() },
        });
    SearchResultEntry { name: Octets::from_slice(entry.dn().as_bytes()), attributes: attributes.collect() }
}
