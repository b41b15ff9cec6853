//! The groups of one person, by searches for the lists that name them, and for the lists that name those groups.
//!
//! No member list is read. What the person is not found in, they are not in: [`GroupFacts`] knows for which groups that
//! holds.

use super::climb::{Asked, Climb, Memberships};
use super::facts::GroupFacts;
use super::listing::Listing;
use super::named_groups::{put_unit, shown};
use super::strategy::{Attempt, NestStrategy, Nests};
use crate::directory::DirectoryError;
use crate::directory::client::{Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use std::collections::{BTreeMap, HashMap};
use webtaxon_core::graph::{NodeId, Roll};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::Part;
use webtaxon_wire::message::LdapResult;

/// The strategy for a reading of one person.
pub(super) struct Above<'f> {
    pub(super) facts: &'f GroupFacts,
}

impl NestStrategy for Above<'_> {
    async fn read(&self, nests: &mut Nests<'_>) -> Result<Attempt, DirectoryError> {
        if let Some(why) = &self.facts.is_unsearchable {
            tracing::debug!(%why, "member lists are read");
            return Ok(Attempt::Declined);
        }
        let attribute = nests.request.member_login_attribute(self.facts.listing.kind);
        let roll = Roll::of(nests.builder.people(), self.facts.listing.kind, attribute);
        let climb = Climb { listing: &self.facts.listing, dynamic: &self.facts.dynamic };
        let mut first = Vec::new();
        for person in 0..nests.builder.people().len() {
            let Some((_, dn)) = nests.builder.name_of(person) else { continue };
            let dn = dn.to_owned();
            first.extend(climb.asked(&dn));
            for filter in self.otherwise(nests, person, attribute) {
                first.extend(climb.unlisted(&dn, &filter));
            }
        }
        let primary = self.primary(nests, &roll);
        let has_primary = !primary.is_empty();
        first.extend(primary);
        let mut found = climb.all(nests.connection, &first, true).await?;
        if has_primary && found.all.values().all(|one| one.is_listed) {
            found.short.get_or_insert(Shortcoming::PrimaryGroupNotShown(String::new()));
        }
        let hidden = self.claimed(nests, climb, &found).await?;
        self.put(nests, &found, &roll, &hidden);
        Ok(Attempt::Read)
    }
}

impl Above<'_> {
    /// The filters for groups that have a person as a member by a login or a number.
    fn otherwise(&self, nests: &Nests<'_>, person: usize, attribute: Option<&str>) -> Vec<Filter> {
        let Some(entry) = nests.builder.people().get(person) else { return Vec::new() };
        let logins: Vec<Vec<u8>> =
            attribute.iter().flat_map(|name| entry.values(name)).map(<[u8]>::to_vec).collect();
        let is_plain = self.facts.listing.kind == ServerKind::Plain;
        let number = entry.text("gidNumber").and_then(|number| number.parse().ok()).filter(|_| is_plain);
        let by_login = self.facts.listing.with_logins(&logins);
        by_login.into_iter().chain(number.map(Listing::with_number)).collect()
    }

    /// On a domain controller, the searches for the people's primary groups ([MS-ADTS] §3.1.1.6.1.1).
    fn primary(&self, nests: &Nests<'_>, roll: &Roll) -> Vec<Asked> {
        let top = nests.connection.root().default_naming_context.clone();
        let Some(top) = top.filter(|_| self.facts.listing.kind == ServerKind::Controller) else {
            return Vec::new();
        };
        let sid = self.facts.named.iter().find_map(|one| one.sid.as_deref());
        let climb = Climb { listing: &self.facts.listing, dynamic: &self.facts.dynamic };
        let mut asked = Vec::new();
        for sid in roll.primary_groups(nests.builder.people(), sid) {
            let query = Query::subtree(&top.to_string(), Filter::equal("objectSid", &sid), &["1.1"]);
            let people = (0..nests.builder.people().len()).filter_map(|person| nests.builder.name_of(person));
            asked.extend(people.map(|(_, dn)| climb.by(dn, query.clone())));
        }
        asked
    }

    /// The groups that a person claims to be in (`memberOf`) and that show no list, with those above them.
    async fn claimed(
        &self,
        nests: &mut Nests<'_>,
        climb: Climb<'_>,
        found: &Memberships,
    ) -> Result<HashMap<DnKey, Shortcoming>, DirectoryError> {
        let mut claims: Vec<(String, String)> = Vec::new();
        for person in nests.builder.people().iter() {
            let groups = person.values("memberOf").filter_map(|name| std::str::from_utf8(name).ok());
            claims.extend(groups.map(|group| (group.to_owned(), person.dn().to_owned())));
        }
        let key = |dn: &str| Dn::parse(dn).ok().map(|dn| dn.key());
        let is_known = |(group, person): &(String, String)| {
            let keys = key(group).zip(key(person));
            keys.is_none_or(|keys| found.all.contains_key(&keys))
        };
        claims.retain(|claim| !is_known(claim));
        let anybody = self.facts.listing.anybody();
        let query =
            |(group, _): &(String, String)| Query { filter: anybody.clone(), ..Query::base(group, &["1.1"]) };
        let queries: Vec<Query> = claims.iter().map(query).collect();
        let mut silent = vec![true; queries.len()];
        let answer = |number: usize, found: Vec<SearchItem>, _: LdapResult| {
            silent.get_mut(number).into_iter().for_each(|silent| *silent = first_entry(&found).is_none());
        };
        nests.connection.pipeline(&queries, answer).await?;
        let mut hidden = HashMap::new();
        for ((group, person), _) in claims.iter().zip(silent).filter(|(_, silent)| *silent) {
            let above = climb.all(nests.connection, &climb.asked(group), false).await?;
            let groups = above.all.into_keys().map(|(group, _)| group).chain(key(group));
            groups.for_each(|group| drop(hidden.insert(group, Shortcoming::Claimed(person.clone()))));
        }
        Ok(hidden)
    }

    /// Adds the memberships to the graph, and closes the part of each named group.
    fn put(
        &self,
        nests: &mut Nests<'_>,
        found: &Memberships,
        roll: &Roll,
        hidden: &HashMap<DnKey, Shortcoming>,
    ) {
        let within = |dn: &str| {
            let key = Dn::parse(dn).ok().map(|dn| dn.key());
            key.is_some_and(|key| {
                nests.request.group_bases.is_empty()
                    || nests.request.group_bases.iter().any(|base| key.is_within(&base.key()))
                    || self.facts.named.iter().any(|named| named.key == key)
            })
        };
        let mut lists: BTreeMap<NodeId, Vec<NodeId>> = BTreeMap::new();
        let mut unlisted = Vec::new();
        let builder = &mut *nests.builder;
        for one in found.all.values().filter(|one| within(&one.group)) {
            let graph = builder.graph_mut();
            let (Ok(group), Ok(member)) = (graph.member(&one.group), graph.member(&one.member)) else {
                continue;
            };
            lists.entry(group).or_default().push(member);
            unlisted.extend((!one.is_listed).then_some((group, member)));
        }
        for named in &self.facts.named {
            let node = builder.graph_mut().named(&named.name);
            if named.is_unit {
                put_unit(builder, node);
                lists.remove(&node);
            } else {
                lists.entry(node).or_default();
            }
        }
        let graph = builder.graph_mut();
        lists.into_iter().for_each(|(group, members)| graph.set_members(group, members));
        unlisted.into_iter().for_each(|(group, member)| graph.mark_unlisted(group, member));
        let part = builder.open(Part::PrimaryGroups);
        builder.close(part, shown(roll));
        for (groups, purpose) in &nests.request.nests {
            for name in groups {
                let named = self.facts.named.iter().find(|one| one.key == name.key());
                let short = found.short.clone().filter(|_| named.is_none_or(|one| !one.is_unit));
                let claimed = named.and_then(|one| hidden.get(&one.key).cloned());
                let why = named.and_then(|one| one.fault.clone()).or(short).or(claimed);
                let part = builder.open_group(name, *purpose);
                builder.close(part, Shortcoming::ended(why));
            }
        }
    }
}
