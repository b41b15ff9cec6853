//! Groups and other entries read with one search, instead of a look-up for each name that groups list.
//!
//! First all groups. If a group has many members outside the intake, each of them would be looked up in case it is a
//! group: then everything in their part of the tree is read. Names that a search does not return are looked up all
//! the same, so a search may stop early: no conclusion about a nest depends on it. Each group's members are added to
//! the graph as they arrive, while the server works on the next.

use super::cost::{Attempts, Returns};
use super::group_entry::{Expected, GROUP_CLASSES, Listing, Members, is_dynamic, members};
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, SearchItem};
use crate::progress::{EVERY, Progress};
use foldhash::{HashMap, HashSet};
use webtaxon_core::graph::{Graph, NodeId};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey, KeyReader};
use webtaxon_core::reading::ReadingBuilder;
use webtaxon_core::reading::Request;
use webtaxon_core::settings::Strategy;
use webtaxon_wire::entry::ReceivedEntry;

/// Entries returned by bulk searches and not yet used.
pub(super) struct Bulk {
    strategy: Strategy,
    /// The attributes of groups to request.
    attributes: Vec<String>,
    /// The bases of groups, as names and as keys.
    bases: Vec<Dn>,
    within: Vec<DnKey>,
    groups: HashMap<NodeId, Listing>,
    /// Entries that are not groups, listed in a group or not.
    others: HashSet<DnKey>,
    names: KeyReader,
    /// Whether the attribute that `memberUid` refers to is known.
    expected: Expected,
    /// Names that need a look-up, done or pending.
    needed: HashSet<NodeId>,
    for_groups: Attempts,
    /// Look-ups so far of names that no search returned.
    lookups: usize,
    for_everything: Attempts,
    /// Entries returned by searches so far.
    looked_at: usize,
}

/// The result of a bulk search for a name.
pub(super) enum BulkEntry {
    Group(Listing),
    NoGroup,
}

/// The number of entries that a search may return.
#[derive(Clone, Copy)]
enum Limit {
    None,
    /// In proportion to the names needed, which become known as it returns groups.
    Needed,
    Entries(usize),
}

/// How a search ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum SearchEnd {
    Whole,
    /// Early, by the server.
    Early,
    /// Beyond its limit.
    Abandoned,
}

impl Bulk {
    /// Nothing read yet; groups are in the intake's bases, or anywhere below the naming contexts.
    pub(super) fn new(request: &Request, tops: &[Dn], attributes: Vec<String>, expected: Expected) -> Self {
        let bases = if request.group_bases.is_empty() { tops } else { &request.group_bases };
        Self {
            strategy: request.strategy,
            attributes,
            bases: bases.to_vec(),
            within: bases.iter().map(Dn::key).collect(),
            groups: HashMap::default(),
            others: HashSet::default(),
            names: KeyReader::default(),
            expected,
            needed: HashSet::default(),
            for_groups: Attempts::default(),
            lookups: 0,
            for_everything: Attempts::default(),
            looked_at: 0,
        }
    }

    /// Runs the searches that are cheaper than looking up these and earlier names, or that the settings demand; adds
    /// a note if any ran.
    pub(super) async fn read_for(
        &mut self,
        connection: &mut Connection,
        builder: &mut ReadingBuilder,
        names: impl Iterator<Item = NodeId> + Clone,
    ) -> Result<(), DirectoryError> {
        if !matches!(self.strategy, Strategy::Auto | Strategy::Lists | Strategy::Sweep) {
            return Ok(());
        }
        if !self.for_groups.is_over() {
            self.needed.extend(names.clone());
            let is_demanded = self.strategy == Strategy::Sweep;
            if !is_demanded && !self.for_groups.is_due(self.needed.len(), self.needed.len()) {
                return Ok(());
            }
            if !self.all_groups(connection, builder, is_demanded).await? {
                return Ok(());
            }
        }
        let graph = builder.graph();
        let unknown = names.filter(|name| !self.knows(graph, *name));
        let unknown = unknown.filter_map(|name| Some((graph.key(name)?, graph.dn(name))));
        let places = above(unknown, &self.bases);
        let lookups = places.iter().map(|(_, lookups)| lookups).sum::<usize>();
        self.lookups += lookups;
        if self.for_everything.is_due(lookups, self.lookups) {
            self.for_everything.made_at(self.lookups);
            self.everything(connection, builder, places).await?;
        }
        Ok(())
    }

    /// Searches for all groups; false if that was abandoned.
    async fn all_groups(
        &mut self,
        connection: &mut Connection,
        builder: &mut ReadingBuilder,
        is_demanded: bool,
    ) -> Result<bool, DirectoryError> {
        let limit = if is_demanded { Limit::None } else { Limit::Needed };
        let mut short = "";
        for base in self.bases.clone() {
            let any = Filter::any(GROUP_CLASSES.map(|class| Filter::equal("objectClass", class)));
            let query =
                Query { attributes: self.attributes.clone(), ..Query::subtree(&base.to_string(), any, &[]) };
            match self.search(connection, builder, query, limit).await? {
                (_, SearchEnd::Whole) => {}
                (_, SearchEnd::Early) => short = EARLY,
                (read, SearchEnd::Abandoned) => {
                    self.for_groups.made_at(self.needed.len());
                    builder.note(format!(
                        "a search for all groups was abandoned after {read} of them: {} look-ups are faster",
                        self.needed.len()
                    ));
                    return Ok(false);
                }
            }
        }
        self.for_groups.finish();
        let why = if is_demanded {
            "as set in the settings".to_owned()
        } else {
            format!("which is faster than {} look-ups", self.needed.len())
        };
        builder.note(format!("{} groups were read with one search, {why}{short}", self.groups.len()));
        Ok(true)
    }

    /// Searches everything below these entries, each in place of a number of look-ups.
    async fn everything(
        &mut self,
        connection: &mut Connection,
        builder: &mut ReadingBuilder,
        places: Vec<(Dn, usize)>,
    ) -> Result<(), DirectoryError> {
        for (base, count) in places {
            let everything = Query::subtree(&base.to_string(), Filter::present("objectClass"), &[]);
            let query = Query { attributes: self.attributes.clone(), ..everything };
            let limit = Limit::Entries(Returns::AnyEntries.allowance(count));
            let (read, end) = self.search(connection, builder, query, limit).await?;
            if end != SearchEnd::Abandoned {
                self.for_everything.finish();
            }
            let short = match end {
                SearchEnd::Whole => "",
                SearchEnd::Early => EARLY,
                SearchEnd::Abandoned => ", which was then abandoned, since look-ups are faster",
            };
            builder.note(format!(
                "{read} entries below {base} were read with one search, instead of {count} look-ups of members from outside{short}"
            ));
        }
        Ok(())
    }

    /// Runs one search and keeps its results; returns their number.
    async fn search(
        &mut self,
        connection: &mut Connection,
        builder: &mut ReadingBuilder,
        query: Query,
        limit: Limit,
    ) -> Result<(usize, SearchEnd), DirectoryError> {
        let (watch, mut read) = (connection.watch.clone(), 0_usize);
        let mut search = connection.search(query).await?;
        loop {
            match search.next().await {
                Ok(Some(SearchItem::Entry(entry))) => {
                    read += 1;
                    let group = self.keep(builder, &entry);
                    if matches!(limit, Limit::Needed) {
                        group.into_iter().for_each(|group| self.need(builder, group));
                    }
                    self.looked_at += 1;
                    if self.looked_at.is_multiple_of(EVERY) {
                        watch.tell(|| Progress::Members { looked_at: self.looked_at });
                    }
                }
                Ok(Some(SearchItem::Reference(_))) => {}
                Ok(None) => return Ok((read, SearchEnd::Whole)),
                Err(error) if error.is_fatal() => return Err(error),
                Err(error) => {
                    tracing::debug!(%error, "a search in place of look-ups ended early");
                    return Ok((read, SearchEnd::Early));
                }
            }
            let is_within = match limit {
                Limit::None => true,
                Limit::Needed => read <= Returns::Groups.allowance(self.needed.len()),
                Limit::Entries(most) => read <= most,
            };
            if !is_within {
                return Ok((read, SearchEnd::Abandoned));
            }
        }
    }

    /// Keeps an entry; returns its number if it is a new group. A dynamic group's own searches, and the faults of an
    /// unreadable group, are left to its look-up.
    fn keep(&mut self, builder: &mut ReadingBuilder, entry: &ReceivedEntry) -> Option<NodeId> {
        let dn = std::str::from_utf8(entry.name()).ok()?;
        let key = self.names.key(dn).ok().filter(|_| !is_dynamic(entry))?;
        match members(entry, 0, &self.expected) {
            Members::Listed(listed) => {
                let name = builder.graph_mut().node(key, dn);
                if self.groups.contains_key(&name) {
                    return None;
                }
                let mut listing = Listing::default();
                listing.add(builder.graph_mut(), &listed);
                self.groups.insert(name, listing);
                return Some(name);
            }
            Members::None | Members::Unit if !builder.is_person(&key) => drop(self.others.insert(key)),
            Members::None | Members::Unit | Members::Unreadable(_) => {}
        }
        None
    }

    /// Counts the members of a returned group as names that need a look-up, if the group itself is needed; and so on
    /// downwards.
    fn need(&mut self, builder: &ReadingBuilder, group: NodeId) {
        if !self.needed.contains(&group) {
            return;
        }
        let mut open = vec![group];
        while let Some(group) = open.pop() {
            for member in self.groups.get(&group).into_iter().flat_map(|listing| &listing.members) {
                let is_looked_up = |id: NodeId| {
                    let key = builder.graph().key(id);
                    key.is_some_and(|key| self.within.iter().any(|base| key.is_within(base)))
                };
                if !builder.is_person_node(*member) && is_looked_up(*member) && self.needed.insert(*member) {
                    open.push(*member);
                }
            }
        }
    }

    fn knows(&self, graph: &Graph, name: NodeId) -> bool {
        self.groups.contains_key(&name) || self.is_other(graph, name)
    }

    fn is_other(&self, graph: &Graph, name: NodeId) -> bool {
        graph.key(name).is_some_and(|key| self.others.contains(key))
    }

    /// The result for this name, if a search returned one.
    pub(super) fn take(&mut self, graph: &Graph, name: NodeId) -> Option<BulkEntry> {
        let group = self.groups.remove(&name).map(BulkEntry::Group);
        group.or_else(|| self.is_other(graph, name).then_some(BulkEntry::NoGroup))
    }
}

const EARLY: &str = ", which ended early; the others were looked up";

/// For each naming context, the deepest entry above all of these names that are in it, with their number. Other names
/// are left out.
fn above<'n>(names: impl Iterator<Item = (&'n DnKey, &'n str)>, tops: &[Dn]) -> Vec<(Dn, usize)> {
    let tops: Vec<DnKey> = tops.iter().map(Dn::key).collect();
    let mut places: Vec<(&DnKey, DnKey, Dn, usize)> = Vec::new();
    for (key, dn) in names {
        let Some(top) = tops.iter().find(|top| key.is_within(top)) else { continue };
        if !places.iter().any(|(its, ..)| *its == top) {
            let Ok(base) = Dn::parse(dn) else { continue };
            places.push((top, key.clone(), base, 0));
        }
        let Some((_, own, base, count)) = places.iter_mut().find(|(its, ..)| *its == top) else { continue };
        while !key.is_within(own)
            && let Some(one_up) = base.parent()
        {
            (*own, *base) = (one_up.key(), one_up);
        }
        *count += 1;
    }
    places.into_iter().map(|(_, _, base, count)| (base, count)).collect()
}

#[cfg(test)]
mod tests {
    use super::above;
    use webtaxon_core::ldap::name::{Dn, DnKey};

    #[test]
    fn a_search_begins_as_deep_as_it_can() {
        let tops = ["dc=a,dc=example", "dc=b,dc=example"].map(|top| Dn::parse(top).unwrap());
        for (names, expected) in [
            (
                &["cn=x,ou=P,dc=a,dc=example", "CN=y,OU=p,dc=a,dc=example"][..],
                &[("ou=P,dc=a,dc=example", 2)][..],
            ),
            (&["cn=x,ou=p,dc=a,dc=example", "ou=p,dc=a,dc=example"], &[("ou=p,dc=a,dc=example", 2)]),
            (&["cn=x,ou=p,dc=a,dc=example", "cn=x,ou=pq,dc=a,dc=example"], &[("dc=a,dc=example", 2)]),
            (&["dc=a,dc=example", "cn=x,dc=a,dc=example"], &[("dc=a,dc=example", 2)]),
            (&["cn=x,dc=c,dc=example"], &[]),
            (
                &["cn=x,ou=p,dc=b,dc=example", "cn=x,dc=a,dc=example", "cn=y,ou=p,dc=b,dc=example"],
                &[("ou=p,dc=b,dc=example", 2), ("cn=x,dc=a,dc=example", 1)],
            ),
        ] {
            let keys: Vec<DnKey> = names.iter().map(|name| Dn::parse(name).unwrap().key()).collect();
            let found = above(keys.iter().zip(names.iter().copied()), &tops);
            let found: Vec<(String, usize)> =
                found.into_iter().map(|(base, count)| (base.to_string(), count)).collect();
            let expected: Vec<(String, usize)> =
                expected.iter().map(|(base, count)| ((*base).to_owned(), *count)).collect();
            assert_eq!(found, expected, "{names:?}");
        }
    }
}
