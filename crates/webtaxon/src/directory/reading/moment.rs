//! A directory changes while it is read: people and groups get other names, move, come and go. After the last group, the
//! entries that changed since the first request are read again and take the place of what was read, until nothing
//! changes any more. So the reading is of one moment, and people are joined with their groups under every name that they
//! had meanwhile.
//!
//! Where a server does not tell what changed, listed names that are nobody's are looked up: one may be the new name of
//! somebody who was read under another.

use super::marks::Marks;
use super::named_entries;
use super::reader::Reader;
use crate::directory::DirectoryError;
use crate::directory::client::{Query, SearchItem, first_entry, push};
use crate::directory::nesting::{self, GROUP_CLASSES, Nests};
use crate::directory::shortcoming::Shortcoming;
use jiff::Timestamp;
use std::collections::HashSet;
use webtaxon_core::graph::without_uid;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::{Again, Part};
use webtaxon_core::words::counted;
use webtaxon_wire::message::{LdapResult, ResultCode, Scope};

/// Rounds after which whoever still changes is left alone for this time.
const ROUNDS: usize = 5;
/// Listed names that are looked up one by one; for more of them, the names of all people are read again.
const FEW_NAMES: usize = 1_000;

/// Object classes of containers that can be renamed or moved (RFC 4519 §3, [MS-ADSC]).
const CONTAINER_CLASSES: [&str; 5] =
    ["organizationalUnit", "container", "organization", "locality", "country"];

fn is_container(entry: Entry<'_>) -> bool {
    let is_one =
        |class: &[u8]| CONTAINER_CLASSES.iter().any(|one| one.as_bytes().eq_ignore_ascii_case(class));
    entry.values("objectClass").any(is_one)
}

/// A new entry had no other name.
fn is_new(entry: &Entry<'_>) -> bool {
    let changed = entry.text("modifyTimestamp");
    changed.is_some() && entry.text("createTimestamp") == changed
}

fn key(entry: Entry<'_>) -> Option<DnKey> {
    Some(Dn::parse(entry.dn()).ok()?.key())
}

/// One of several searches that are made at once.
struct Search {
    place: Dn,
    query: Query,
    /// The reading is not whole if it fails.
    is_needed: bool,
}

/// The result of a look at the changes.
#[derive(Default)]
struct Look {
    people: Again,
    /// A group changed, or a container, below this place.
    groups: Option<Dn>,
    /// A part of it failed; the reading says so.
    is_short: bool,
}

impl Reader<'_> {
    /// Reads groups and whatever else depends on the people, and reads again what changes meanwhile. `before` is how
    /// far the server had come before the first request.
    pub(super) async fn settle(
        &mut self,
        before: Option<Marks>,
        identity: &str,
    ) -> Result<(), DirectoryError> {
        let start = self.builder.checkpoint();
        let (mut since, mut all) = (before, Again::default());
        let mut reads_groups = true;
        // The people who changed since groups were read last, and the marks of that time.
        let (mut moving, mut at_groups) = (Vec::new(), since.clone());
        let mut lists_changed = false;
        for round in 1..=ROUNDS {
            if reads_groups {
                moving.clear();
                if self.request.reads_groups() && since.is_some() && round == 1 {
                    at_groups = Marks::read(&mut self.connection, self.request).await?;
                } else {
                    at_groups.clone_from(&since);
                }
                self.builder.back_to(start);
                self.what_depends_on_people().await?;
            }
            if self.connection.snapshot().is_some() {
                return Ok(());
            }
            let (look, now) = match &since {
                Some(then) => {
                    let now = Marks::read(&mut self.connection, self.request).await?;
                    let look = match &now {
                        Some(now) => {
                            let since_groups = at_groups.as_ref().unwrap_or(then);
                            self.look(|place| then.changed(now, place), since_groups, identity).await?
                        }
                        None => Look::default(),
                    };
                    (look, now)
                }
                None => (self.look_by_name(identity).await?, None),
            };
            all.add(&look.people);
            reads_groups = look.people.joins_anew() || look.groups.is_some();
            let is_settled = !reads_groups && look.people.is_nothing();
            lists_changed = look.groups.is_some();
            // Somebody who is as before may have had another name between.
            if self.request.reads_groups() {
                moving.extend(look.people.same);
            }
            if is_settled || look.is_short {
                break;
            }
            if round == ROUNDS {
                moving.extend(look.people.who);
                // Where nothing is told, a name that is nowhere tells which groups changed.
                if let Some(base) = look.groups.filter(|_| now.is_some()) {
                    let part = self.builder.open(Part::SecondLook { base });
                    self.builder.close(part, Shortcoming::ended(Some(Shortcoming::StillChanging(ROUNDS))));
                }
            }
            since = now.or(since);
        }
        self.builder.moving(moving);
        let just_changed = self.just_changed(since.as_ref(), identity).await?;
        self.builder.just_changed(just_changed, self.request);
        self.tell(&all);
        self.vanished(lists_changed);
        Ok(())
    }

    /// Notes that the directory changed, if it did.
    fn tell(&mut self, all: &Again) {
        if !all.is_nothing() {
            let found = match all.more {
                0 => "nobody else was found".to_owned(),
                more => counted(more, "more was found", "more were found"),
            };
            let note = format!("the directory changed while it was being read; at a second look, {found}");
            self.builder.note(note);
        }
    }

    async fn what_depends_on_people(&mut self) -> Result<(), DirectoryError> {
        named_entries::read(self).await?;
        self.application_groups().await?;
        let nests =
            Nests { connection: &mut self.connection, builder: &mut self.builder, request: self.request };
        nesting::read(nests).await
    }

    /// Reads the people who changed, and asks whether a group did.
    async fn look(
        &mut self,
        changed: impl Fn(&Dn) -> Option<Filter>,
        at_groups: &Marks,
        identity: &str,
    ) -> Result<Look, DirectoryError> {
        let mut look = Look::default();
        let mut searches = Vec::new();
        for base in &self.request.bases {
            let Some(changed) = changed(base) else { continue };
            let both = Filter::all([self.request.filter.clone(), changed]);
            let mut query = self.query(&base.to_string(), both);
            query.attributes.push(at_groups.attribute().to_owned());
            searches.push(Search { place: base.clone(), query, is_needed: true });
        }
        let of_people = searches.len();
        let (places, mut above) = (self.changing_places(), Vec::new());
        places.iter().for_each(|place| self.add_containers_above(place, &mut above));
        let below = places.into_iter().map(|place| (place, Scope::Subtree));
        for (place, scope) in below.chain(above.into_iter().map(|place| (place, Scope::Base))) {
            let Some(changed) = changed(&place) else { continue };
            let classes = GROUP_CLASSES.iter().chain(&CONTAINER_CLASSES);
            let classes = Filter::any(classes.map(|class| Filter::equal("objectClass", class)));
            let both = Filter::all([classes, changed]);
            let query = Query::subtree(&place.to_string(), both, &["objectClass", at_groups.attribute()]);
            let query = Query { scope, ..query };
            searches.push(Search { place, query, is_needed: scope == Scope::Subtree });
        }
        let mut found = self.at_once(searches, &mut look).await?;
        let of_places = found.split_off(of_people);
        let mut marked = Entries::new();
        for entry in found.iter().flat_map(|(_, entries)| entries.iter()) {
            marked.push(entry.dn(), entry.attributes());
        }
        let before_groups = marked.iter().filter(|entry| !at_groups.may_be_older_than(*entry));
        let before_groups: HashSet<Identity> =
            before_groups.filter_map(|entry| Identity::of(entry, identity)).collect();
        let found = self.without(&marked, at_groups.attribute());
        look.people = self.again(&found, identity);
        look.people.same.retain(|person| !before_groups.contains(person));
        let (mut is_moved, mut since_groups) = (false, Vec::new());
        for (place, entries) in of_places {
            for container in entries.iter().filter(|entry| is_container(*entry)) {
                is_moved = true;
                since_groups.extend(key(container).filter(|_| at_groups.may_be_older_than(container)));
            }
            if self.request.reads_groups() && !entries.is_empty() {
                look.groups.get_or_insert(place);
            }
        }
        // With a container's name those of all entries below it change, and their marks stay.
        if is_moved {
            let found = self.under_new_names(identity, &mut look).await?;
            let people = self.again(&found, identity);
            look.people.add(&people);
        }
        look.people.same.extend(self.builder.people_below(&since_groups, identity));
        Ok(look)
    }

    /// The entries of several searches made at once, each with its place. One that does not end well at once, perhaps for
    /// a limit, is made again by itself.
    async fn at_once(
        &mut self,
        searches: Vec<Search>,
        look: &mut Look,
    ) -> Result<Vec<(Dn, Entries)>, DirectoryError> {
        let queries: Vec<Query> = searches.iter().map(|search| search.query.clone()).collect();
        let mut answers: Vec<Option<Entries>> = vec![None; queries.len()];
        let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
            let mut entries = Entries::new();
            for item in &found {
                if let SearchItem::Entry(entry) = item {
                    push(&mut entries, entry);
                }
            }
            if let Some(slot) = answers.get_mut(number) {
                *slot = (result.code == ResultCode::SUCCESS).then_some(entries);
            }
        };
        self.connection.pipeline(&queries, answer).await?;
        let mut all = Vec::new();
        for (Search { place, query, is_needed }, answer) in searches.into_iter().zip(answers) {
            let entries = match answer {
                Some(entries) => entries,
                None if !is_needed => Entries::new(),
                None => {
                    let mut entries = Entries::new();
                    look.is_short |= self.collect(&place, query, &mut entries).await?;
                    entries
                }
            };
            all.push((place, entries));
        }
        Ok(all)
    }

    /// Entries without an attribute, unless people need it.
    fn without(&self, entries: &Entries, attribute: &str) -> Entries {
        let is_wanted = self.wanted.iter().any(|wanted| wanted.eq_ignore_ascii_case(attribute));
        let mut all = Entries::new();
        for entry in entries.iter() {
            let is_kept = |name: &str| is_wanted || !name.eq_ignore_ascii_case(attribute);
            all.push(entry.dn(), entry.attributes().filter(|(name, _)| is_kept(name)));
        }
        all
    }

    /// The places of groups, and of containers of groups and people.
    fn changing_places(&self) -> Vec<Dn> {
        let request = self.request;
        let groups = match (request.reads_groups(), request.group_bases.is_empty()) {
            (false, _) => &[],
            (true, true) => self.connection.root().tops(),
            (true, false) => &request.group_bases[..],
        };
        let mut places = groups.to_vec();
        for base in &request.bases {
            if !places.iter().any(|place| base.key().is_within(&place.key())) {
                places.push(base.clone());
            }
        }
        places
    }

    /// Adds the containers above a place, which the bind account need not see.
    fn add_containers_above(&self, place: &Dn, all: &mut Vec<Dn>) {
        let tops: Vec<DnKey> = self.connection.root().tops().iter().map(Dn::key).collect();
        let mut next = place.parent();
        while let Some(above) = next.filter(|above| tops.iter().any(|top| above.key().is_within(top))) {
            next = above.parent();
            if !all.iter().any(|known| known.key() == above.key()) {
                all.push(above);
            }
        }
    }

    /// The people of the reading who have other names by now, after a look at the names of everybody.
    async fn under_new_names(&mut self, identity: &str, look: &mut Look) -> Result<Entries, DirectoryError> {
        let mut found = Entries::new();
        for base in &self.request.bases {
            let query = self.query(&base.to_string(), self.request.filter.clone());
            let names = Query { attributes: vec![identity.to_owned()], ..query };
            look.is_short |= self.collect(base, names, &mut found).await?;
        }
        let renamed = self.builder.renamed(&found, identity);
        self.whole_entries(&renamed).await
    }

    /// Adds the entries of a search; true if it failed, and the reading says so. References are left: the first search of
    /// people met the same and said so, or followed them, and groups elsewhere are found by their names.
    async fn collect(
        &mut self,
        base: &Dn,
        query: Query,
        found: &mut Entries,
    ) -> Result<bool, DirectoryError> {
        let why = match self.connection.entries(query).await {
            Ok((entries, _)) => {
                for entry in entries.iter() {
                    found.push(entry.dn(), entry.attributes());
                }
                None
            }
            Err(error) if error.is_fatal() => return Err(error),
            Err(error) => Some((&error).into()),
        };
        let is_short = why.is_some();
        let part = self.builder.open(Part::SecondLook { base: base.clone() });
        self.builder.close(part, Shortcoming::ended(why));
        Ok(is_short)
    }

    /// Looks up the listed names that are nobody's, where the server does not tell what changed: one may be the new
    /// name of somebody who was read, or of a group.
    async fn look_by_name(&mut self, identity: &str) -> Result<Look, DirectoryError> {
        let (mut strangers, mut look) = (self.builder.strangers(), Look::default());
        let found = if strangers.len() > FEW_NAMES {
            strangers.clear();
            self.under_new_names(identity, &mut look).await?
        } else {
            let found = self.whole_entries(&strangers).await?;
            let names: HashSet<DnKey> =
                found.iter().filter_map(|entry| Some(Dn::parse(entry.dn()).ok()?.key())).collect();
            strangers.retain(|dn| Dn::parse(dn).is_ok_and(|dn| !names.contains(&dn.key())));
            self.builder.not_found(&strangers);
            self.builder.only_known(&found, identity)
        };
        look.people = self.again(&found, identity);
        look.groups = self.changed_list().await?;
        Ok(look)
    }

    /// The people who changed shortly before the reading, or are below a container that did, if groups list names that
    /// are nobody's: a server, or whoever maintains the lists, may put the new name into them a moment after the rename.
    /// A domain controller renames both at once.
    async fn just_changed(
        &mut self,
        since: Option<&Marks>,
        identity: &str,
    ) -> Result<Vec<Identity>, DirectoryError> {
        let is_controller = self.connection.root().kind == ServerKind::Controller;
        if is_controller || !self.builder.lists_gone(self.request) {
            return Ok(Vec::new());
        }
        let (mut who, mut moved) = (Vec::new(), Vec::new());
        for base in &self.request.bases {
            let lately = Marks::changed_lately(since, base, Timestamp::now());
            let containers = CONTAINER_CLASSES.iter().map(|class| Filter::equal("objectClass", class));
            let which = Filter::any(containers.chain([self.request.filter.clone()]));
            let query = self.query(&base.to_string(), Filter::all([which, lately]));
            let attributes = [identity, "objectClass", "createTimestamp", "modifyTimestamp"];
            let attributes = attributes.map(str::to_owned).to_vec();
            match self.connection.entries(Query { attributes, ..query }).await {
                Ok((entries, _)) => {
                    for entry in entries.iter().filter(|entry| !is_new(entry)) {
                        who.extend(Identity::of(entry, identity));
                        moved.extend(key(entry).filter(|_| is_container(entry)));
                    }
                }
                Err(error) if error.is_fatal() => return Err(error),
                Err(error) => tracing::debug!(%error, "it is not known who changed lately"),
            }
        }
        let mut above = Vec::new();
        self.request.bases.iter().for_each(|base| self.add_containers_above(base, &mut above));
        let search = |place: Dn| {
            let lately = Marks::changed_lately(since, &place, Timestamp::now());
            let times = ["createTimestamp", "modifyTimestamp"];
            let query = Query { scope: Scope::Base, ..Query::subtree(&place.to_string(), lately, &times) };
            Search { place, query, is_needed: false }
        };
        let searches = above.into_iter().map(search).collect();
        for (place, entries) in self.at_once(searches, &mut Look::default()).await? {
            moved.extend(entries.iter().any(|entry| !is_new(&entry)).then(|| place.key()));
        }
        who.extend(self.builder.people_below(&moved, identity));
        Ok(who)
    }

    /// Puts people as they are by now in the place of what was read.
    fn again(&mut self, found: &Entries, identity: &str) -> Again {
        let joining = self.request.joining(self.connection.root().kind);
        self.builder.again(found, identity, &joining)
    }

    /// These entries with every attribute that people need; those that are not shown are left out.
    async fn whole_entries(&mut self, names: &[String]) -> Result<Entries, DirectoryError> {
        let wanted: Vec<&str> = self.wanted.iter().map(String::as_str).collect();
        let queries: Vec<Query> = names.iter().map(|dn| Query::base(dn, &wanted)).collect();
        let mut entries = Entries::new();
        let answer = |_: usize, found: Vec<SearchItem>, result: LdapResult| {
            if let Some(entry) = first_entry(&found).filter(|_| result.code == ResultCode::SUCCESS) {
                let dn = std::str::from_utf8(entry.name()).unwrap_or("");
                entries.push(dn, entry.attributes_as_text());
            }
        };
        self.connection.pipeline(&queries, answer).await?;
        Ok(entries)
    }

    /// A group that no longer lists a name that was not found: the name was changed meanwhile.
    async fn changed_list(&mut self) -> Result<Option<Dn>, DirectoryError> {
        let gone = self.builder.gone_members();
        let own = self.request.member_attribute.as_ref().map(|own| own.name.as_str());
        let lists: Vec<&str> = ["member", "uniqueMember"].into_iter().chain(own).collect();
        let queries: Vec<Query> = gone.iter().map(|(group, _)| Query::base(group, &lists)).collect();
        let mut changed = None;
        let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
            let (Some(entry), Some((group, names))) = (first_entry(&found), gone.get(number)) else { return };
            let values = entry.attributes_as_text().flat_map(|(_, values)| values);
            let key = |value| Some(Dn::parse(without_uid(std::str::from_utf8(value).ok()?)).ok()?.key());
            let listed: HashSet<DnKey> = values.filter_map(key).collect();
            let is_read = result.code == ResultCode::SUCCESS && !listed.is_empty();
            if is_read && names.iter().any(|name| !listed.contains(name)) {
                changed = Dn::parse(group).ok();
            }
        };
        self.connection.pipeline(&queries, answer).await?;
        Ok(changed)
    }

    /// A listed name that is not found may be that of a group that is hidden from the bind account. On a domain
    /// controller it is: the names of deleted entries leave its lists at once.
    fn vanished(&mut self, lists_changed: bool) {
        for (name, purpose) in self.builder.vanished(self.request, lists_changed) {
            let part = self.builder.open(Part::Group { group: name, purpose });
            self.builder.close(part, Shortcoming::ended(Some(Shortcoming::Vanished)));
        }
    }
}
