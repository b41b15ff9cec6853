//! The reading of one person: their entry, the entries that it follows, and the groups above it. It costs by the person,
//! not by the directory, and decides for them as the reading of everybody does.

use super::ground::Ground;
use super::reader::Reader;
use super::steps::source;
use crate::directory::DirectoryError;
use crate::directory::client::{Access, Connection, Query};
use crate::directory::nesting::{self, Nests};
use crate::directory::shortcoming::Shortcoming;
use std::collections::HashMap;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::{Filter, Matcher};
use webtaxon_core::ldap::identity::{self, Identity};
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::{Schema, ServerKind};
use webtaxon_core::reading::{Counted, Ended, Footprint, Part, Reading, ReadingBuilder, Request, Source};
use webtaxon_core::settings::Intake;

/// The person that a reading is about, with everything known before.
#[derive(Clone, Copy)]
pub(crate) struct OnePerson<'a> {
    pub(crate) intake: &'a Intake,
    pub(crate) request: &'a Request,
    /// The name of their entry.
    pub(crate) dn: &'a str,
    pub(crate) ground: &'a Ground,
    /// The footprint of the last apply.
    pub(crate) before: Option<&'a Footprint>,
    /// True if they have an account that could lose a value.
    pub(crate) has_account: bool,
}

/// Reads everything that decides about one person. If the entry does not exist, nobody is in the reading, or elsewhere in
/// it.
///
/// # Errors
/// The connection is unusable.
pub(crate) async fn read_one(
    access: &Access,
    connection: Connection,
    one: OnePerson<'_>,
) -> (Option<Connection>, Result<Reading, DirectoryError>) {
    let request = one.request;
    let mut builder = ReadingBuilder::new(source(access, &connection, request, Vec::new()));
    builder.of_one();
    if let Some(schema) = &one.ground.schema {
        builder.share_schema(schema);
    }
    if request.reads_groups() {
        builder.expect_groups();
    }
    let mut wanted = request.attributes(connection.root().kind);
    // It tells of groups whose lists are hidden.
    if request.reads_groups() && !wanted.iter().any(|name| name.eq_ignore_ascii_case("memberOf")) {
        wanted.push("memberOf".to_owned());
    }
    let mut reader = Reader { access, connection, builder, request, wanted, others: HashMap::new() };
    let read = reader.one_person(one).await;
    let Reader { connection, builder, .. } = reader;
    match read {
        Ok(()) => {
            let mut reading = builder.finish(request);
            hold_against(&mut reading, one);
            (Some(connection), Ok(reading))
        }
        Err(error) => (None, Err(error)),
    }
}

/// Entries that a search found as a reading, so that fields can be drawn from them. Nobody is known to be missing.
pub(crate) fn as_reading(kind: ServerKind, request: &Request, entries: &Entries) -> Reading {
    let source = Source { kind, directory: request.directory.clone(), ..Source::default() };
    let mut builder = ReadingBuilder::new(source);
    builder.of_one();
    for entry in entries.iter() {
        // A name that is none is nobody's.
        let _ = builder.person(entry.dn(), entry.attributes());
    }
    let usual = identity::usual(builder.people()).unwrap_or_default();
    let attribute = request.identity.clone().unwrap_or_else(|| usual.to_owned());
    builder.set_identity(&attribute);
    builder.finish_shown(request)
}

impl Reader<'_> {
    async fn one_person(&mut self, one: OnePerson<'_>) -> Result<(), DirectoryError> {
        self.builder.places(self.request, |place| one.ground.of_place(place));
        let found = self.the_person(one.dn).await?;
        for base in &self.request.bases {
            let part = self.builder.open(Part::People { base: base.clone() });
            self.builder.close(part, Shortcoming::ended(found.clone().err()));
        }
        let kind = self.connection.root().kind;
        let identity = self.identity_attribute(one.before, kind);
        self.builder.set_identity(&identity);
        if found == Ok(false) {
            self.a_stranger(one.dn, &identity).await?;
        }
        super::named_entries::read(self).await?;
        let nests =
            Nests { connection: &mut self.connection, builder: &mut self.builder, request: self.request };
        nesting::read_above(nests, &one.ground.groups).await?;
        self.judged_here(one.dn).await?;
        if self.request.reads_groups() {
            self.is_still_there(one.dn, &identity).await?;
        }
        let people = self.builder.people();
        let lacks = |name: &&str| !people.iter().any(|entry| entry.values(name).next().is_some());
        let names = Footprint::of_attributes(one.before, one.intake, one.has_account);
        let lacking: Vec<String> =
            names.iter().map(String::as_str).filter(lacks).map(str::to_owned).collect();
        one.ground.ask_about(&mut self.connection, self.request, lacking.iter().map(String::as_str)).await
    }

    /// Reads the person's entry, if the filter finds it; whether it does, or why that is not known.
    async fn the_person(&mut self, dn: &str) -> Result<Result<bool, Shortcoming>, DirectoryError> {
        let place = Dn::parse(dn).map(|dn| dn.key());
        let is_here = |base: &&Dn| place.as_ref().is_ok_and(|place| place.is_within(&base.key()));
        let Some(base) = self.request.bases.iter().find(is_here) else { return Ok(Ok(false)) };
        let wanted: Vec<&str> = self.wanted.iter().map(String::as_str).collect();
        let query = Query { filter: self.request.filter.clone(), ..Query::base(dn, &wanted) };
        let entries = match self.connection.entries(query).await {
            Ok((entries, _)) => entries,
            Err(error) if error.is_fatal() => return Err(error),
            Err(error) if error.is_no_such_object() => Entries::new(),
            Err(error) => return Ok(Err((&error).into())),
        };
        let Some(entry) = entries.get(0) else { return Ok(Ok(false)) };
        match self.builder.person_below(Some(&base.key()), entry.dn(), entry.attributes()) {
            Ok(Some(_)) => Ok(Ok(true)),
            Ok(None) => Ok(Err(Shortcoming::OutsideBase(entry.dn().to_owned()))),
            Err(_) => Ok(Err(Shortcoming::BadEntryName(entry.dn().to_owned()))),
        }
    }

    /// The attribute of the lasting identity: as the settings say, as at the last apply, or as the entry shows.
    fn identity_attribute(&self, before: Option<&Footprint>, kind: ServerKind) -> String {
        let usual = if kind == ServerKind::Controller { "objectGUID" } else { "entryUUID" };
        let before = before.map(|before| before.identity.clone()).filter(|identity| !identity.is_empty());
        let shows = |name: &String| {
            let people = self.builder.people();
            people.is_empty() || people.iter().any(|entry| Identity::of(entry, name).is_some())
        };
        let own = || identity::usual(self.builder.people()).unwrap_or(usual).to_owned();
        self.request.identity.clone().or(before.filter(shows)).unwrap_or_else(own)
    }

    /// Records where somebody is whom the filter does not find, or who is below no base.
    async fn a_stranger(&mut self, dn: &str, identity: &str) -> Result<(), DirectoryError> {
        let mut wanted: Vec<&str> = self.wanted.iter().map(String::as_str).collect();
        if !wanted.iter().any(|name| name.eq_ignore_ascii_case(identity)) {
            wanted.push(identity);
        }
        let entries = match self.connection.entries(Query::base(dn, &wanted)).await {
            Ok((entries, _)) => entries,
            Err(error) if error.is_fatal() => return Err(error),
            Err(_) => return Ok(()),
        };
        let entry = entries.get(0);
        if let Some((entry, person)) = entry.and_then(|entry| Some((entry, Identity::of(entry, identity)?))) {
            let _ = self.builder.found(person, entry.dn(), entry.attributes());
        }
        Ok(())
    }

    /// Asks the server about the settings' own conditions that leave doubt, for the person alone.
    async fn judged_here(&mut self, dn: &str) -> Result<(), DirectoryError> {
        let usual = Schema::of(self.connection.root().kind);
        let schema = self.builder.schema().unwrap_or(usual);
        let is_doubtful = |filter: &&Filter| filter.is_doubtful(schema);
        let doubtful: Vec<Filter> = self.request.conditions.iter().filter(is_doubtful).cloned().collect();
        for filter in doubtful {
            let part = self.builder.open(Part::Condition { filter: filter.to_string() });
            let query = Query { filter: filter.clone(), ..Query::base(dn, &["1.1"]) };
            match self.connection.entries(query).await {
                Ok((entries, _)) => {
                    let schema = self.builder.schema().unwrap_or(usual);
                    let matcher = Matcher::new(&filter, schema, self.builder.people().names());
                    let differs =
                        |(_, entry): &(usize, Entry<'_>)| matcher.matches(*entry) == entries.is_empty();
                    let differing = self.builder.people().iter().enumerate().filter(differs);
                    let differing: Vec<usize> = differing.map(|(person, _)| person).collect();
                    self.builder.doubt(&filter, &differing);
                    self.builder.close(part, Ended::Complete);
                }
                Err(error) if error.is_fatal() => return Err(error),
                Err(error) => self.builder.close(part, Shortcoming::ended(Some((&error).into()))),
            }
        }
        Ok(())
    }

    /// True if the entry has kept its name until the groups were read: they may list another one by now.
    async fn is_still_there(&mut self, dn: &str, attribute: &str) -> Result<(), DirectoryError> {
        let own = self.builder.people().get(0).and_then(|entry| Identity::of(entry, attribute));
        let Some(own) = own else { return Ok(()) };
        let entries = match self.connection.entries(Query::base(dn, &[attribute])).await {
            Ok((entries, _)) => entries,
            Err(error) if error.is_fatal() => return Err(error),
            Err(_) => Entries::new(),
        };
        let now = entries.get(0).and_then(|entry| Identity::of(entry, attribute));
        let moved = (now.as_ref() != Some(&own)).then_some(Shortcoming::StillChanging(1));
        for base in &self.request.bases {
            let part = self.builder.open(Part::SecondLook { base: base.clone() });
            self.builder.close(part, Shortcoming::ended(moved.clone()));
        }
        Ok(())
    }
}

/// Holds the reading against what the last apply remembers.
fn hold_against(reading: &mut Reading, one: OnePerson<'_>) {
    let has = |reading: &Reading, name: &str| {
        reading.people().iter().any(|entry| entry.values(name).next().is_some())
    };
    let own: Vec<String> = Footprint::of_attributes(one.before, one.intake, one.has_account)
        .into_iter()
        .filter(|name| has(reading, name))
        .collect();
    if one.before.is_none() && !one.has_account {
        return;
    }
    let is_shown = |what: Counted<'_>| match what {
        Counted::Attribute(name) | Counted::Mark(name) => {
            own.iter().any(|own| own == name) || one.ground.is_shown(name)
        }
        Counted::Group(name) => one.ground.groups.shows_members(name),
        Counted::People(_) | Counted::Container(_) => true,
    };
    reading.hold_one_against(one.intake, one.before, is_shown);
}
