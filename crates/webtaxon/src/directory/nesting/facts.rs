//! Facts about an intake's groups that hold for everybody: the kind of each named group, the lists that the bind account
//! cannot see, and whether a search for a list finds it. Only so does "no group lists this person" mean anything.
//!
//! The cost depends on the number of groups, not of people; a sign-in reads it once a minute.

use super::climb::{Climb, Dynamic};
use super::group_entry::{Expected, Members, members};
use super::listing::Listing;
use super::lists::member_query;
use super::named_groups;
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use std::collections::HashMap;
use std::ops::ControlFlow;
use webtaxon_core::graph::{primary_group, without_uid};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::{Schema, ServerKind};
use webtaxon_core::reading::{Footprint, Request};
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Groups without a visible list that are followed upwards; with more of them, nothing is known of any group.
const MOST_BLIND: usize = 1_000;

/// Facts about an intake's groups that hold for everybody.
#[derive(Clone, Debug)]
pub(crate) struct GroupFacts {
    pub(super) listing: Listing,
    pub(super) named: Vec<NamedFacts>,
    pub(super) dynamic: Vec<Dynamic>,
    /// Why searches for lists do not tell who is in no group; then lists are read.
    pub(super) is_unsearchable: Option<String>,
}

/// A group in the settings.
#[derive(Clone, Debug)]
pub(super) struct NamedFacts {
    pub(super) name: Dn,
    pub(super) key: DnKey,
    pub(super) sid: Option<Vec<u8>>,
    /// True if it is a container, whose members are everybody below it.
    pub(super) is_unit: bool,
    /// The number by which people have it as their primary group.
    number: Option<u32>,
    /// True if anybody shows that number.
    has_primary_members: bool,
    /// True if it lists anybody, as far as the bind account may know.
    lists_anybody: bool,
    /// Why it may have members that no search finds.
    pub(super) fault: Option<Shortcoming>,
}

impl GroupFacts {
    /// Reads what is known of the groups that a request names; `before` is what the last apply saw.
    ///
    /// # Errors
    /// The connection is unusable.
    pub(crate) async fn read(
        connection: &mut Connection,
        request: &Request,
        schema: Option<&Schema>,
        before: Option<&Footprint>,
    ) -> Result<Self, DirectoryError> {
        let listing = Listing::of(connection, request);
        let mut facts = Self { listing, named: Vec::new(), dynamic: Vec::new(), is_unsearchable: None };
        if request.groups().next().is_none() || request.attribute_of_people().is_some() {
            return Ok(facts);
        }
        facts.look_up(connection, request).await?;
        if facts.listing.places.is_empty() {
            facts.is_unsearchable = Some("the server does not say where its trees begin".to_owned());
            return Ok(facts);
        }
        if facts.listing.kind == ServerKind::Controller {
            let doubt = named_groups::doubt(connection).await?;
            facts.is_unsearchable = doubt.map(|why| why.to_string());
        } else {
            facts.dynamic_groups(connection).await?;
        }
        if facts.is_unsearchable.is_none() {
            facts.witnesses(connection).await?;
        }
        if facts.is_unsearchable.is_none() {
            facts.holes(connection, schema, before).await?;
        }
        Ok(facts)
    }

    /// True if a named group lists anybody, or is somebody's primary group.
    pub(crate) fn shows_members(&self, group: &str) -> bool {
        let is_it = |one: &&NamedFacts| one.name.to_string() == group;
        let one = self.named.iter().find(is_it);
        one.is_some_and(|one| one.is_unit || one.lists_anybody || one.has_primary_members)
    }

    /// Looks up the named groups.
    async fn look_up(
        &mut self,
        connection: &mut Connection,
        request: &Request,
    ) -> Result<(), DirectoryError> {
        for name in request.groups() {
            let key = name.key();
            if !self.named.iter().any(|known| known.key == key) {
                self.named.push(NamedFacts::new(name.clone(), key));
            }
        }
        let attributes = match self.listing.kind {
            ServerKind::Controller => ["objectClass", "primaryGroupToken", "objectSid"].as_slice(),
            _ => &["objectClass", "gidNumber"],
        };
        let count = self.named.len();
        let named = self.named.iter().map(|one| one.name.to_string());
        let mut queries: Vec<Query> = named.clone().map(|name| Query::base(&name, attributes)).collect();
        let anybody = self.listing.anybody();
        queries.extend(named.map(|name| Query { filter: anybody.clone(), ..Query::base(&name, &["1.1"]) }));
        let named = &mut self.named;
        let answer =
            |number: usize, found: Vec<SearchItem>, result: LdapResult| match number.checked_sub(count) {
                None => named.get_mut(number).into_iter().for_each(|one| one.take(&found, &result)),
                Some(number) => {
                    let is_shown = first_entry(&found).is_some() && result.code == ResultCode::SUCCESS;
                    named.get_mut(number).into_iter().for_each(|one| one.lists_anybody = is_shown);
                }
            };
        connection.pipeline(&queries, answer).await?;
        self.primary_members(connection, request).await
    }

    /// Finds out whether groups that list nobody are the primary group of anybody.
    async fn primary_members(
        &mut self,
        connection: &mut Connection,
        request: &Request,
    ) -> Result<(), DirectoryError> {
        let attribute = primary_group(self.listing.kind);
        for one in self.named.iter_mut().filter(|one| !one.lists_anybody) {
            let Some(number) = one.number else { continue };
            let filter = Filter::all([request.filter.clone(), Filter::equal(attribute, number.to_string())]);
            for base in &request.bases {
                let take = |_: Entry<'_>| {
                    one.has_primary_members = true;
                    ControlFlow::Break(())
                };
                match connection.each(Query::subtree(&base.to_string(), filter.clone(), &["1.1"]), take).await
                {
                    Ok(_) => {}
                    Err(error) if error.is_fatal() => return Err(error),
                    Err(error) => {
                        tracing::debug!(%error, "it is not known whose primary group {} is", one.name)
                    }
                }
            }
        }
        Ok(())
    }

    /// Finds the dynamic groups.
    async fn dynamic_groups(&mut self, connection: &mut Connection) -> Result<(), DirectoryError> {
        let filter = self.listing.with_any("memberURL");
        let queries: Vec<Query> = self.listing.queries(&filter, &["memberURL"]).collect();
        for query in queries {
            match connection.entries(query).await {
                Ok((entries, _)) => {
                    for entry in entries.iter() {
                        self.add_dynamic(entry);
                    }
                }
                // A server that does not know the attribute has none.
                Err(error) if error.is_fatal() => return Err(error),
                Err(error) => self.is_unsearchable = Some(error.to_string()),
            }
        }
        Ok(())
    }

    fn add_dynamic(&mut self, entry: Entry<'_>) {
        let mut searches = Vec::new();
        for url in entry.values("memberURL") {
            match std::str::from_utf8(url).map_err(|_| Shortcoming::UrlNotUtf8).and_then(member_query) {
                Ok(query) => searches.push(query),
                // Lists are read, which tells it with the group.
                Err(why) => self.is_unsearchable = Some(format!("{}: {why}", entry.dn())),
            }
        }
        self.dynamic.push(Dynamic { group: entry.dn().to_owned(), searches });
    }

    /// Checks for each attribute that a search for a listed name finds the group that lists it, and drops attributes by
    /// which nobody is listed.
    async fn witnesses(&mut self, connection: &mut Connection) -> Result<(), DirectoryError> {
        let attributes: Vec<String> =
            self.listing.names.iter().chain(&self.listing.logins).cloned().collect();
        for attribute in attributes {
            let (filter, own) = (self.listing.with_any(&attribute), [attribute.as_str()]);
            let queries: Vec<Query> = self.listing.queries(&filter, &own).collect();
            let mut first = None;
            for query in queries {
                first = first_listed(connection, query, &attribute).await?;
                if first.is_some() {
                    break;
                }
            }
            let Some((group, value)) = first else {
                let is_other = |name: &String| *name == "member" || *name != attribute;
                self.listing.names.retain(is_other);
                self.listing.logins.retain(is_other);
                continue;
            };
            let again = Query { filter: Filter::equal(&attribute, &value), ..Query::base(&group, &["1.1"]) };
            let is_found = match connection.entries(again).await {
                Ok((entries, _)) => !entries.is_empty(),
                Err(error) if error.is_fatal() => return Err(error),
                Err(_) => false,
            };
            if !is_found {
                let why = "which lists what was searched for";
                self.is_unsearchable = Some(format!("a search by {attribute} does not find {group}, {why}"));
                return Ok(());
            }
        }
        Ok(())
    }

    /// Finds groups that may have members whom no search finds, and the named groups that they are in.
    async fn holes(
        &mut self,
        connection: &mut Connection,
        schema: Option<&Schema>,
        before: Option<&Footprint>,
    ) -> Result<(), DirectoryError> {
        let mut blind = hidden_since(connection, before).await?;
        if self.listing.kind == ServerKind::Controller {
            let (principals, short) = named_groups::foreign(connection).await?;
            if let Some(short) = short {
                self.is_unsearchable = Some(short.to_string());
                return Ok(());
            }
            let unlisted = |one: &named_groups::ForeignPrincipal| super::group_entry::unlisted(&one.identity);
            blind.extend(principals.iter().filter_map(|one| Some((one.dn.clone(), unlisted(one)?))));
        } else {
            self.blind_groups(connection, schema, &mut blind).await?;
        }
        let climb = Climb { listing: &self.listing, dynamic: &self.dynamic };
        let mut found: HashMap<DnKey, Shortcoming> = HashMap::new();
        for (group, why) in blind {
            let above = climb.all(connection, &climb.asked(&group), false).await?;
            if let Some(short) = above.short {
                self.is_unsearchable = Some(short.to_string());
                return Ok(());
            }
            let own = Dn::parse(&group).ok().map(|dn| dn.key());
            let groups = above.all.into_keys().map(|(group, _)| group).chain(own);
            for group in groups {
                found.entry(group).or_insert_with(|| why.clone());
            }
        }
        for one in &mut self.named {
            one.fault = one.fault.take().or_else(|| found.get(&one.key).cloned());
        }
        Ok(())
    }

    /// Adds the groups that show no list, and must have one.
    async fn blind_groups(
        &mut self,
        connection: &mut Connection,
        schema: Option<&Schema>,
        blind: &mut Vec<(String, Shortcoming)>,
    ) -> Result<(), DirectoryError> {
        let expected = Expected::of(schema, true);
        let classes = expected.never_empty().map(|class| (class, Shortcoming::NeverEmpty(class)));
        let classes: Vec<_> = classes.chain([("posixGroup", Shortcoming::HiddenNumber)]).collect();
        for (class, why) in classes {
            let attributes: Vec<&str> = self.listing.attributes().into_iter().chain(["gidNumber"]).collect();
            let filter = Filter::equal("objectClass", class);
            let queries: Vec<Query> = self.listing.queries(&filter, &attributes).collect();
            for query in queries {
                let is_posix = class == "posixGroup";
                let mut shows_none = Vec::new();
                let take = |entry: Entry<'_>| {
                    let counts = |name: &str| is_posix || !name.eq_ignore_ascii_case("gidNumber");
                    if !entry.attributes().any(|(name, _)| counts(name)) {
                        shows_none.push((entry.dn().to_owned(), why.clone()));
                    }
                    ControlFlow::Continue(())
                };
                match connection.each(Query { types_only: true, ..query }, take).await {
                    Ok(short) if short.limit.is_none() => blind.append(&mut shows_none),
                    Ok(short) => self.is_unsearchable = short.limit,
                    Err(error) if error.is_fatal() => return Err(error),
                    Err(error) => self.is_unsearchable = Some(error.to_string()),
                }
            }
        }
        if blind.len() > MOST_BLIND {
            blind.clear();
            self.is_unsearchable = Some("more than a thousand groups show no member".to_owned());
        }
        Ok(())
    }
}

/// The groups that the last apply saw and that are not shown now. One that is gone is listed by no group.
async fn hidden_since(
    connection: &mut Connection,
    before: Option<&Footprint>,
) -> Result<Vec<(String, Shortcoming)>, DirectoryError> {
    let names: Vec<&String> = before.iter().flat_map(|before| &before.nests).collect();
    let queries: Vec<Query> = names.iter().map(|name| Query::base(name, &["1.1"])).collect();
    let mut hidden = Vec::new();
    let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
        let is_shown = first_entry(&found).is_some() && result.code == ResultCode::SUCCESS;
        if let Some(name) = names.get(number).filter(|_| !is_shown) {
            hidden.push(((*name).clone(), Shortcoming::NestedNotShown((*name).clone())));
        }
    };
    connection.pipeline(&queries, answer).await?;
    Ok(hidden)
}

/// The first group with a value of this attribute, and that value.
async fn first_listed(
    connection: &mut Connection,
    query: Query,
    attribute: &str,
) -> Result<Option<(String, String)>, DirectoryError> {
    let mut first = None;
    let take = |entry: Entry<'_>| {
        let its = entry.attributes().filter(|(name, _)| {
            name.split(';').next().is_some_and(|name| name.eq_ignore_ascii_case(attribute))
        });
        let value = its.flat_map(|(_, values)| values).find_map(|value| std::str::from_utf8(value).ok());
        first = value.map(|value| (entry.dn().to_owned(), without_uid(value).to_owned()));
        if first.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    };
    match connection.each(query, take).await {
        Ok(_) => Ok(first),
        Err(error) if error.is_fatal() => Err(error),
        Err(_) => Ok(None),
    }
}

impl NamedFacts {
    fn new(name: Dn, key: DnKey) -> Self {
        let (sid, number, fault) = (None, None, None);
        let (is_unit, has_primary_members, lists_anybody) = (false, false, false);
        Self { name, key, sid, is_unit, number, has_primary_members, lists_anybody, fault }
    }

    fn take(&mut self, found: &[SearchItem], result: &LdapResult) {
        let entry = first_entry(found).filter(|_| result.code == ResultCode::SUCCESS);
        let Some(entry) = entry else {
            self.fault = Some(Shortcoming::of_lookup(&self.name.to_string(), result));
            return;
        };
        match members(entry, 0, &Expected::default()) {
            Members::Unit => self.is_unit = true,
            Members::None => self.fault = Some(Shortcoming::NotAGroup),
            // Its number is not needed where it lists its members.
            Members::Unreadable(Shortcoming::HiddenNumber) => {}
            Members::Unreadable(why) => self.fault = Some(why),
            Members::Listed(listed) => {
                self.sid = listed.sid.map(<[u8]>::to_vec);
                self.number = listed.number;
            }
        }
    }
}
