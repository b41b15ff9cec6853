//! Reading nests through member lists, from the named groups downwards, with many look-ups at once.
//!
//! Level by level: the members of all groups of a level, except people, are looked up together, or taken from a bulk
//! search ([`Bulk`]). Each name is looked up once, so cycles end. A group whose members a server returns in ranges
//! ([MS-ADTS] §3.1.1.3.1.3.3) is read to its last range; the searches of a dynamic group (`memberURL`) are made.

use super::bulk::{Bulk, BulkEntry};
use super::group_entry::{Expected, Listing, Members, NonPeople, members};
use super::named_groups::{put_unit, shown};
use super::strategy::{Attempt, NestStrategy, Nests};
use crate::directory::DirectoryError;
use crate::directory::client::{Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use crate::progress::Progress;
use foldhash::{HashMap, HashSet};
use std::collections::BTreeSet;
use std::ops::ControlFlow;
use webtaxon_core::graph::{Graph, NodeId, Roll};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::ldap::url::{LdapUrl, UrlScope};
use webtaxon_core::reading::{Ended, Part, PartId, ReadingBuilder};
use webtaxon_core::settings::GroupPurpose;
use webtaxon_wire::message::{LdapResult, ResultCode, Scope};

/// Maximum members of a group, so that a server with endless ranges is abandoned.
const MOST: usize = 50_000_000;

/// Empty groups that are held against what people say.
const MOST_EMPTY: usize = 64;

/// The strategy that reads member lists.
pub(super) struct Lists;

impl NestStrategy for Lists {
    async fn read(&self, nests: &mut Nests<'_>) -> Result<Attempt, DirectoryError> {
        // Excluding groups come first: a group in several nests counts as excluding, so that a gap in it is known to
        // hide people who must stay out.
        let all = nests.builder.nests(nests.request);
        let mut descent = Descent::new(nests);
        for (groups, purpose) in all {
            descent.read(groups, purpose).await?;
        }
        descent.claimed().await?;
        Ok(Attempt::Read)
    }
}

/// The look-up of one group.
struct Lookup {
    group: NodeId,
    part: PartId,
    /// A group in the settings must exist and be a group; a member need not.
    is_named: bool,
    /// Its members so far.
    listing: Listing,
    /// The attribute to request a range of, and the first value wanted.
    range: Option<(String, usize)>,
}

impl Lookup {
    fn new(group: NodeId, part: PartId, is_named: bool) -> Self {
        Self { group, part, is_named, listing: Listing::default(), range: None }
    }

    fn query(&self, graph: &Graph, attributes: &[String]) -> Query {
        let dn = graph.dn(self.group);
        match &self.range {
            Some((attribute, from)) => Query::base(dn, &[&format!("{attribute};range={from}-*")]),
            None => Query { attributes: attributes.to_vec(), ..Query::base(dn, &[]) },
        }
    }

    fn is_dynamic(&self) -> bool {
        self.range.is_none() && !self.listing.urls.is_empty()
    }
}

/// The attributes of groups that determine their members, with the settings' own.
fn attributes(kind: ServerKind, own: Option<&str>) -> Vec<String> {
    let mut attributes = vec!["objectClass", "member", "uniqueMember", "memberUid", "memberURL"];
    attributes.extend(own);
    match kind {
        // The primary group number is computed, and returned only on request.
        ServerKind::Controller => attributes.extend(["primaryGroupToken", "objectSid"]),
        _ => attributes.push("gidNumber"),
    }
    attributes.into_iter().map(str::to_owned).collect()
}

/// How groups may list people other than by name.
struct Logins<'r> {
    roll: Roll,
    /// The attribute that `memberUid` refers to, if known.
    attribute: Option<&'r str>,
    /// Whether the settings give it.
    is_set: bool,
}

/// Reading downwards, level by level.
struct Descent<'n, 'r> {
    nests: &'n mut Nests<'r>,
    attributes: Vec<String>,
    expected: Expected,
    group_bases: Vec<DnKey>,
    logins: Logins<'r>,
    looked_up: HashSet<NodeId>,
    /// The purpose for which each group was first read.
    purposes: HashMap<NodeId, GroupPurpose>,
    non_people: NonPeople,
    bulk: Bulk,
}

impl<'n, 'r> Descent<'n, 'r> {
    fn new(nests: &'n mut Nests<'r>) -> Self {
        let request = nests.request;
        let root = nests.connection.root();
        let own = request.member_attribute.as_ref();
        let (kind, attributes) = (root.kind, attributes(root.kind, own.map(|own| own.name.as_str())));
        let attribute = request.member_login_attribute(kind);
        let expected = Expected::of(nests.builder.schema(), attribute.is_some()).with(own);
        let bulk = Bulk::new(request, root.tops(), attributes.clone(), expected.clone());
        let roll = Roll::of(nests.builder.people(), kind, attribute);
        let part = nests.builder.open(Part::PrimaryGroups);
        nests.builder.close(part, shown(&roll));
        Self {
            attributes,
            expected,
            group_bases: request.group_bases.iter().map(Dn::key).collect(),
            logins: Logins { roll, attribute, is_set: request.member_login.is_some() },
            looked_up: HashSet::default(),
            purposes: HashMap::default(),
            non_people: NonPeople::default(),
            bulk,
            nests,
        }
    }

    /// Reads the nests of these groups.
    async fn read(&mut self, groups: Vec<Dn>, purpose: GroupPurpose) -> Result<(), DirectoryError> {
        let (mut level, mut repeats) = (Vec::new(), Vec::new());
        for dn in groups {
            let group = self.nests.builder.graph_mut().named(&dn);
            let part = self.nests.builder.open(Part::Group { group, purpose });
            self.purposes.entry(group).or_insert(purpose);
            if self.looked_up.insert(group) {
                level.push(Lookup::new(group, part, true));
            } else {
                repeats.push((group, part));
            }
        }
        while !level.is_empty() {
            self.take_from_bulk(&mut level).await?;
            self.look_up(level).await?;
            let read = self.nests.builder.graph().groups();
            self.nests.connection.watch.tell(|| Progress::Groups { read });
            level = self.next_level(purpose);
        }
        // A group named twice, or read with another nest, is complete if it was read as a group there.
        for (group, part) in repeats {
            if self.nests.builder.graph().is_group_node(group) {
                self.nests.builder.close(part, Ended::Complete);
            }
        }
        Ok(())
    }

    /// Holds empty lists against what people say themselves (`memberOf`): one that somebody claims to be in was not seen.
    async fn claimed(&mut self) -> Result<(), DirectoryError> {
        if self.nests.connection.snapshot().is_some() {
            return Ok(());
        }
        let empty: Vec<NodeId> = self.nests.builder.graph().empty_groups().take(MOST_EMPTY).collect();
        let request = self.nests.request;
        let mut queries = Vec::new();
        let mut groups = Vec::new();
        for group in empty {
            let name = self.nests.builder.graph().dn(group).to_owned();
            let filter = Filter::all([request.filter.clone(), Filter::equal("memberOf", &name)]);
            for base in &request.bases {
                queries.push(Query::subtree(&base.to_string(), filter.clone(), &["1.1"]));
                groups.push(group);
            }
        }
        let mut claimed: Vec<(NodeId, String)> = Vec::new();
        let answer = |number: usize, found: Vec<SearchItem>, _: LdapResult| {
            if let (Some(entry), Some(group)) = (first_entry(&found), groups.get(number)) {
                claimed.push((*group, String::from_utf8_lossy(entry.name()).into_owned()));
            }
        };
        self.nests.connection.pipeline(&queries, answer).await?;
        for (group, who) in claimed {
            let purpose = self.purposes.get(&group).copied().unwrap_or(GroupPurpose::Admit);
            let part = self.nests.builder.open(Part::Group { group, purpose });
            self.nests.builder.close(part, Shortcoming::ended(Some(Shortcoming::Claimed(who))));
        }
        Ok(())
    }

    fn collector(&mut self) -> Collector<'_> {
        Collector {
            builder: self.nests.builder,
            logins: &self.logins,
            expected: &self.expected,
            non_people: &mut self.non_people,
        }
    }

    /// Completes the look-ups that a bulk search can answer; the others remain.
    async fn take_from_bulk(&mut self, level: &mut Vec<Lookup>) -> Result<(), DirectoryError> {
        let names = level.iter().map(|lookup| lookup.group);
        self.bulk.read_for(self.nests.connection, self.nests.builder, names).await?;
        level.retain_mut(|lookup| {
            let ended = match self.bulk.take(self.nests.builder.graph(), lookup.group) {
                Some(BulkEntry::Group(listing)) => {
                    lookup.listing = listing;
                    self.collector().goes_on(lookup)
                }
                Some(BulkEntry::NoGroup) if !lookup.is_named => Some(Ended::Complete),
                Some(BulkEntry::NoGroup) | None => return true,
            };
            let is_open = ended.is_none();
            ended.into_iter().for_each(|ended| self.nests.builder.close(lookup.part, ended));
            is_open
        });
        Ok(())
    }

    /// Makes look-ups; groups with further ranges are asked again until they end.
    async fn look_up(&mut self, mut level: Vec<Lookup>) -> Result<(), DirectoryError> {
        while !level.is_empty() {
            let query = |lookup: &Lookup| lookup.query(self.nests.builder.graph(), &self.attributes);
            let queries: Vec<Query> = level.iter().map(query).collect();
            let mut collector = Collector {
                builder: self.nests.builder,
                logins: &self.logins,
                expected: &self.expected,
                non_people: &mut self.non_people,
            };
            let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
                if let Some(lookup) = level.get_mut(number) {
                    lookup.range = None;
                    if let Some(ended) = collector.take(lookup, &found, &result) {
                        collector.builder.close(lookup.part, ended);
                    }
                }
            };
            self.nests.connection.pipeline(&queries, answer).await?;
            for lookup in level.iter_mut().filter(|lookup| lookup.is_dynamic()) {
                let ended = match self.search_members(lookup).await? {
                    None => self.collector().put(lookup),
                    some => Shortcoming::ended(some),
                };
                self.nests.builder.close(lookup.part, ended);
            }
            level.retain(|lookup| lookup.range.is_some());
        }
        Ok(())
    }

    /// Makes the searches of a dynamic group; returns the reason if one is incomplete.
    async fn search_members(&mut self, lookup: &mut Lookup) -> Result<Option<Shortcoming>, DirectoryError> {
        for url in std::mem::take(&mut lookup.listing.urls) {
            let query = match member_query(&url) {
                Ok(query) => query,
                Err(why) => return Ok(Some(why)),
            };
            let builder = &mut *self.nests.builder;
            let mut found = 0_usize;
            let take = |entry: Entry<'_>| {
                found += 1;
                lookup.listing.put(builder.graph_mut(), entry.dn());
                ControlFlow::Continue(())
            };
            let why = match self.nests.connection.each(query.clone(), take).await {
                Ok(short) if short.limit.is_none() && short.references.is_empty() => {
                    let hidden = if found == 0 { self.shown_by_nobody(&query).await? } else { None };
                    match hidden {
                        None => continue,
                        Some(attribute) => return Ok(Some(Shortcoming::UrlHidden { url, attribute })),
                    }
                }
                Ok(short) => short.limit.unwrap_or_else(|| Shortcoming::HeldElsewhere.to_string()),
                Err(error) if error.is_fatal() => return Err(error),
                Err(error) => error.to_string(),
            };
            return Ok(Some(Shortcoming::UrlFailed { url, why }));
        }
        Ok(None)
    }

    /// An attribute that entries need to be found by this search, and that no entry in its place shows.
    async fn shown_by_nobody(&mut self, query: &Query) -> Result<Option<String>, DirectoryError> {
        let needed: BTreeSet<&str> =
            query.filter.needed().filter(|name| !name.eq_ignore_ascii_case("objectClass")).collect();
        for attribute in needed {
            let one = Query { filter: Filter::present(attribute), ..query.clone() };
            let mut is_shown = false;
            let take = |_: Entry<'_>| {
                is_shown = true;
                ControlFlow::Break(())
            };
            match self.nests.connection.each(one, take).await {
                Ok(_) if !is_shown => return Ok(Some(attribute.to_owned())),
                Err(error) if error.is_fatal() => return Err(error),
                Ok(_) | Err(_) => {}
            }
        }
        Ok(None)
    }

    /// The members met for the first time that may be groups.
    fn next_level(&mut self, purpose: GroupPurpose) -> Vec<Lookup> {
        let builder = &mut *self.nests.builder;
        let bases = &self.group_bases;
        let within = |key: &DnKey| bases.is_empty() || bases.iter().any(|base| key.is_within(base));
        let mut level = Vec::new();
        for group in self.non_people.take_new(builder.graph()) {
            if builder.graph().key(group).is_some_and(within) && self.looked_up.insert(group) {
                let part = builder.open(Part::Group { group, purpose });
                self.purposes.entry(group).or_insert(purpose);
                level.push(Lookup::new(group, part, false));
            }
        }
        level
    }
}

/// The search of a dynamic group (`memberURL`, RFC 4516).
pub(super) fn member_query(url: &str) -> Result<Query, Shortcoming> {
    let place = url.parse::<LdapUrl>();
    let place = place.map_err(|why| Shortcoming::BadUrl { url: url.to_owned(), why: why.to_string() })?;
    let LdapUrl { server: None, base: Some(base), scope, filter } = place else {
        return Err(Shortcoming::UrlElsewhere(url.to_owned()));
    };
    let filter = filter.unwrap_or_else(|| Filter::present("objectClass"));
    let scope = match scope {
        Some(UrlScope::Subtree) => Scope::Subtree,
        Some(UrlScope::One) => Scope::One,
        // RFC 4516 §2
        Some(UrlScope::Base) | None => Scope::Base,
    };
    Ok(Query { scope, ..Query::subtree(&base.to_string(), filter, &["1.1"]) })
}

/// Puts the responses to look-ups into the reading.
struct Collector<'c> {
    builder: &'c mut ReadingBuilder,
    logins: &'c Logins<'c>,
    expected: &'c Expected,
    non_people: &'c mut NonPeople,
}

impl Collector<'_> {
    /// Takes one response; returns how the group ended, or `None` if it goes on with another range or with its
    /// searches.
    fn take(&mut self, lookup: &mut Lookup, found: &[SearchItem], result: &LdapResult) -> Option<Ended> {
        let begun = lookup.listing.given;
        if result.code == ResultCode::NO_SUCH_OBJECT && !lookup.is_named && begun == 0 {
            self.builder.graph_mut().mark_gone(lookup.group);
            return Some(Ended::Complete); // a deleted member
        }
        let short = |why: Shortcoming| Some(Shortcoming::ended(Some(why)));
        let entry = first_entry(found).filter(|_| result.code == ResultCode::SUCCESS);
        let Some(entry) = entry else {
            return short(Shortcoming::of_lookup(self.builder.graph().dn(lookup.group), result));
        };
        match members(entry, begun, self.expected) {
            Members::Unit if lookup.is_named => {
                put_unit(self.builder, lookup.group);
                return Some(Ended::Complete);
            }
            Members::None | Members::Unit if begun > 0 => return short(Shortcoming::NotTheRest(begun)),
            Members::None | Members::Unit if lookup.is_named => return short(Shortcoming::NotAGroup),
            Members::None | Members::Unit => return Some(Ended::Complete),
            Members::Unreadable(why) => return short(why),
            Members::Listed(listed) => lookup.listing.add(self.builder.graph_mut(), &listed),
        }
        if lookup.listing.more.as_ref().is_some_and(|(_, from)| *from <= begun) {
            return short(Shortcoming::EndlessRanges);
        }
        self.goes_on(lookup)
    }

    /// How a group ended after a response; `None` if it goes on with another range or with its searches.
    fn goes_on(&mut self, lookup: &mut Lookup) -> Option<Ended> {
        if let Some(more) = lookup.listing.more.take() {
            if lookup.listing.given > MOST {
                return Some(Shortcoming::ended(Some(Shortcoming::EndlessRanges)));
            }
            lookup.range = Some(more);
            return None;
        }
        lookup.listing.urls.is_empty().then(|| self.put(lookup))
    }

    /// Adds a group with its complete members to the graph.
    fn put(&mut self, lookup: &mut Lookup) -> Ended {
        let Logins { roll, attribute, is_set } = self.logins;
        let listing = std::mem::take(&mut lookup.listing);
        let mut list = listing.members;
        self.non_people.add(self.builder, &list);
        let mut short = listing.is_strange.then_some(Shortcoming::MemberNotAName);
        short = short.or_else(|| list.iter().find_map(|member| self.non_people.obstacle(*member)));
        let people = self.builder.people();
        let by_login: Vec<usize> =
            listing.logins.iter().flat_map(|login| roll.with_login(people, login)).copied().collect();
        // Logins that nobody has may mean that the assumed attribute is wrong.
        let is_of_one = self.builder.is_of_one();
        let is_doubtful = by_login.is_empty() && !listing.logins.is_empty() && !is_set && !is_of_one;
        let by_number = listing.number.into_iter();
        let by_number =
            by_number.flat_map(|one| roll.with_primary_group(people, one, listing.sid.as_deref()));
        let unlisted: Vec<usize> = by_login.into_iter().chain(by_number).collect();
        let unlisted: Vec<NodeId> =
            unlisted.into_iter().filter_map(|person| self.builder.node_of(person)).collect();
        // If no person shows a primary group number, the group's people may be hidden.
        let is_empty = list.is_empty() && unlisted.is_empty();
        if is_empty && listing.number.is_some() && roll.shows_no_number() && !is_of_one {
            short = short.or(Some(Shortcoming::NobodyShowsNumber));
        }
        if is_doubtful {
            let attribute = attribute.unwrap_or("login").to_owned();
            short = short.or(Some(Shortcoming::NobodysLogins(attribute)));
        }
        let listed: HashSet<NodeId> = list.iter().filter(|_| !unlisted.is_empty()).copied().collect();
        list.extend(&unlisted);
        let graph = self.builder.graph_mut();
        graph.set_members(lookup.group, list);
        let only = unlisted.into_iter().filter(|person| !listed.contains(person));
        only.for_each(|person| graph.mark_unlisted(lookup.group, person));
        Shortcoming::ended(short)
    }
}
