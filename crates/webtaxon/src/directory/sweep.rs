//! One whole reading of a directory for an intake: people, groups, and where missing people are.
//!
//! Whatever goes wrong ends up as a gap of the [`Reading`], never as a shorter reading that looks
//! whole: the proof is core's to give.

use super::access::Access;
use super::connection::Connection;
use super::moved::Mark;
use super::progress::{EVERY, Progress};
use super::search::{Found, Query};
use super::split::{self, Portions};
use super::{DirectoryError, followed, nest, read_schema};
use foldhash::HashSet;
use jiff::Timestamp;
use std::collections::{BTreeSet, HashMap};
use tokio::sync::watch;
use webtaxon_core::entry::Entries;
use webtaxon_core::field::{Condition, FieldRule};
use webtaxon_core::filter::Filter;
use webtaxon_core::identity::{Identity, LASTING, Lasting};
use webtaxon_core::membership::primary_group;
use webtaxon_core::name::Dn;
use webtaxon_core::reading::{Ended, Part, PartId, Reading, ServerKind, Source, Sweep};
use webtaxon_core::schema::Schema;
use webtaxon_core::selection::active_filter;
use webtaxon_core::settings::{Intake, Settings, Strategy};
use webtaxon_core::snapshot::Snapshot;
use webtaxon_wire::entry::ReceivedEntry;

/// People who are looked up with one search.
const LOOKUP_BATCH: usize = 50;
/// Entries that come again, beyond as many as are new, before a search is taken for one that never
/// ends.
const AGAIN: usize = 10_000;

/// Reads everything that the intake needs; `links` are the identities of the accounts there are.
///
/// Where a server goes away in the middle, the next one is asked, from the beginning: a page's
/// cookie is of no use to another server.
///
/// # Errors
/// No server could be reached, or the bind was refused. Whatever comes later is a gap of the
/// reading.
pub async fn read(
    access: &Access,
    settings: &Settings,
    links: &[Identity],
) -> Result<Reading, DirectoryError> {
    read_with(access, settings, &Links::known(links), &[]).await
}

/// The links of the accounts that there are. They are needed last: a list of accounts may be read while
/// people are.
#[derive(Clone, Debug)]
pub(crate) struct Links(watch::Receiver<Option<Vec<Identity>>>);

impl Links {
    /// Those of a list that was read.
    pub(crate) fn known(links: &[Identity]) -> Self {
        Self(watch::channel(Some(links.to_vec())).1)
    }

    /// Those of a list that is being read, and whom to tell of them.
    pub(crate) fn later() -> (watch::Sender<Option<Vec<Identity>>>, Self) {
        let (tell, links) = watch::channel(None);
        (tell, Self(links))
    }

    /// Those whom nobody met. Waits until the list has been read; where it cannot be, nobody is missed.
    async fn without(&self, met: &HashSet<Identity>) -> Vec<Identity> {
        let mut links = self.0.clone();
        let Ok(links) = links.wait_for(Option::is_some).await else { return Vec::new() };
        links.iter().flatten().filter(|link| !met.contains(link)).cloned().collect()
    }
}

/// As [`read`], with some more attributes of people than the rules look at.
pub(crate) async fn read_with(
    access: &Access,
    settings: &Settings,
    links: &Links,
    more: &[String],
) -> Result<Reading, DirectoryError> {
    let servers = access.servers().await?;
    let mut connection = access.open_first(&servers).await?;
    let mut notes = Vec::new();
    loop {
        let server = connection.server().to_owned();
        let intake = &settings.intake;
        let mut sweep = Sweep::new(Source {
            directory: intake.directory.clone(),
            server: server.clone(),
            kind: connection.root().kind,
            identity: intake.identity.clone().unwrap_or_default(),
            tops: connection.root().naming_contexts.clone(),
            notes: notes.clone(),
            at: connection
                .snapshot()
                .and_then(|snapshot| snapshot.header.taken)
                .unwrap_or_else(Timestamp::now),
            schema: connection.snapshot().and_then(|snapshot| snapshot.schema.clone()),
        });
        if reads_groups(intake) {
            sweep.expect_groups();
        }
        let mut reader =
            Reader { access, connection, sweep, intake, wanted: Vec::new(), others: HashMap::new() };
        reader.wanted = wanted_attributes(intake, reader.connection.root().kind);
        reader.wanted.extend(more.iter().cloned());
        let ended = match reader.schema(more).await {
            Ok(()) => reader.everything(links).await,
            Err(error) => Err(error),
        };
        let Reader { connection: used, mut sweep, others, .. } = reader;
        for (_, other) in others {
            other.close().await;
        }
        let Err(error) = ended else {
            used.close().await;
            return Ok(sweep.finish(intake));
        };
        tracing::debug!(%error, "the reading was cut short");
        let at = servers.iter().position(|one| one.to_string() == server).map_or(servers.len(), |at| at + 1);
        let rest = servers.get(at..).unwrap_or(&[]);
        let next = if error.is_servers_own() { access.open_first(rest).await.ok() } else { None };
        match next {
            Some(other) => {
                notes.push(format!("{error}; the reading began again at {}", other.server()));
                connection = other;
            }
            None => {
                sweep.cut_short(&error.to_string());
                return Ok(sweep.finish(intake));
            }
        }
    }
}

/// One entry with everything that the intake's rules look at; nothing if there is none, or it is not
/// shown.
///
/// # Errors
/// No server could be reached, or the connection is of no use any more.
pub(crate) async fn entry(
    access: &Access,
    intake: &Intake,
    dn: &str,
    more: &[String],
) -> Result<Entries, DirectoryError> {
    let mut connection = access.open_first(&access.servers().await?).await?;
    let mut wanted = wanted_attributes(intake, connection.root().kind);
    wanted.extend(more.iter().cloned());
    let wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
    let answer = connection.entries(Query::base(dn, &wanted)).await;
    connection.close().await;
    match answer {
        Ok((entries, _)) => Ok(entries),
        Err(error) if error.is_fatal() => Err(error),
        Err(_) => Ok(Entries::new()),
    }
}

/// A sweep under way at one server.
pub(super) struct Reader<'a> {
    pub(super) access: &'a Access,
    pub(super) connection: Connection,
    pub(super) sweep: Sweep,
    pub(super) intake: &'a Intake,
    /// The attributes that are asked for.
    pub(super) wanted: Vec<String>,
    /// Connections to servers that references name, by their address.
    pub(super) others: HashMap<String, Connection>,
}

/// What becomes of the entries of a search.
#[derive(Clone, Copy, Debug)]
pub(super) enum Purpose<'i> {
    /// They are people.
    People,
    /// They say where people are whom the sweep did not meet; the attribute tells who they are.
    Whereabouts(&'i str),
    /// They are groups that come into the application.
    Brought,
    /// They are people who may have moved while the others were read; those who were met already
    /// are known by the attribute.
    Moved(&'i str, &'i HashSet<Identity>),
}

/// What one search brought, beside the entries that were kept.
#[derive(Default)]
pub(super) struct Brought {
    /// Why it is not whole; none if nothing is missing.
    pub(super) short: Option<String>,
    /// The parts that other servers keep: for each, the URLs of servers that have it.
    pub(super) references: Vec<Vec<String>>,
    /// For each entry, its values of [`split::BY`], if they are wanted.
    names: Vec<[Vec<String>; 3]>,
    wants_names: bool,
    new: usize,
    again: usize,
}

impl Reader<'_> {
    async fn everything(&mut self, links: &Links) -> Result<(), DirectoryError> {
        let kind = self.connection.root().kind;
        self.snapshot();
        let mark = Mark::take(&mut self.connection, self.intake).await?;
        for base in &self.intake.bases {
            let part = self.sweep.open(Part::People { base: base.clone() });
            let query = self.query(&base.to_string(), self.intake.filter.clone());
            let ended = self.whole(&query, Purpose::People).await;
            self.close(part, ended)?;
        }
        let identity = self.intake.identity.clone().unwrap_or_else(|| {
            let usual = if kind == ServerKind::Controller { "objectGUID" } else { "entryUUID" };
            let present = LASTING.into_iter().find(|name| self.sweep.people().names().find(name).is_some());
            present.unwrap_or(usual).to_owned()
        });
        self.connection.watch.tell(|| Progress::People { read: self.sweep.people().len() });
        self.sweep.set_identity(&identity);
        mark.look_again(self, &identity).await?;
        let met = self.identities(&identity);
        followed::read(self).await?;
        self.application_groups().await?;
        nest::read(&mut self.connection, &mut self.sweep, self.intake).await?;
        let missing = links.without(&met).await;
        self.lookups(&identity, missing).await
    }

    /// Reads what the server says of attributes, to judge filters as it does; of a controller, whose schema is
    /// large, only where the settings name something that is not known of controllers. What is asked for does
    /// not hang on it: a proxy gives attributes that its schema does not have.
    async fn schema(&mut self, more: &[String]) -> Result<(), DirectoryError> {
        let (intake, kind) = (self.intake, self.connection.root().kind);
        let conditions = intake.conditions().flat_map(Condition::attributes);
        let filters = [Some(&intake.filter), intake.active.as_ref()].into_iter().flatten();
        let mut named =
            (conditions.chain(filters.flat_map(Filter::attributes))).chain(more.iter().map(String::as_str));
        if kind == ServerKind::Controller && named.all(|name| Schema::of(kind).find(name).is_some()) {
            return Ok(());
        }
        let own = read_schema(&mut self.connection).await?;
        if !own.is_empty() {
            self.sweep.set_schema(own.filled(kind));
        }
        Ok(())
    }

    /// What a snapshot does not have, if one answers in place of the directory.
    fn snapshot(&mut self) {
        let Some(snapshot) = self.connection.snapshot() else { return };
        let mut missing = snapshot.missing(self.intake);
        let header = &snapshot.header;
        let has = |name: &String| header.attributes.iter().any(|known| known.eq_ignore_ascii_case(name));
        let unread: Vec<&str> = self.wanted.iter().filter(|name| !has(name)).map(String::as_str).collect();
        if !unread.is_empty() && header.filter.is_some() {
            missing.push(format!("{} of people was not read into the snapshot", unread.join(", ")));
        }
        for reason in missing {
            let part = self.sweep.open(Part::Snapshot);
            self.sweep.close(part, Ended::Short(reason));
        }
    }

    /// Where the people are whom a snapshot does not have: only who was looked for then is known.
    fn lookups_in(&mut self, snapshot: &Snapshot, missing: Vec<Identity>) {
        let (mut gone, mut unknown) = (Vec::new(), Vec::new());
        // Entries that these settings do not find are there all the same.
        let attribute = self.sweep.identity().to_owned();
        let there =
            snapshot.entries.iter().filter_map(|entry| Some((Identity::of(entry, &attribute)?, entry.dn())));
        let there: HashMap<Identity, &str> =
            if missing.is_empty() { HashMap::new() } else { there.collect() };
        for person in missing {
            if let Some(dn) = there.get(&person) {
                self.sweep.found(person, dn);
            } else if let Some(dn) = snapshot.header.elsewhere.get(&person) {
                self.sweep.found(person, dn);
            } else if snapshot.header.absent.contains(&person) {
                gone.push(person);
            } else {
                unknown.push(person);
            }
        }
        if !gone.is_empty() {
            let part = self.sweep.open(Part::Lookup { people: gone });
            self.sweep.close(part, Ended::Complete);
        }
        if !unknown.is_empty() {
            let part = self.sweep.open(Part::Lookup { people: unknown });
            self.sweep
                .close(part, Ended::Short("they were not looked for when the snapshot was taken".to_owned()));
        }
    }

    /// A search for people with every attribute that they need.
    pub(super) fn query(&self, base: &str, filter: Filter) -> Query {
        let wanted: Vec<&str> = self.wanted.iter().map(String::as_str).collect();
        Query::subtree(base, filter, &wanted)
    }

    /// Who was met so far.
    pub(super) fn identities_met(&self, identity: &str) -> HashSet<Identity> {
        let people = self.sweep.people();
        let lasting = Lasting::new(identity, people.names());
        let mut met = HashSet::default();
        met.reserve(people.len());
        met.extend(people.iter().filter_map(|entry| lasting.of(entry)));
        met
    }

    /// Ends a part; an error that leaves the connection usable is only that part's.
    pub(super) fn close(
        &mut self,
        part: PartId,
        ended: Result<Ended, DirectoryError>,
    ) -> Result<(), DirectoryError> {
        match ended {
            Ok(ended) => self.sweep.close(part, ended),
            Err(error) => {
                self.sweep.close(part, Ended::Short(error.to_string()));
                if error.is_fatal() {
                    return Err(error);
                }
            }
        }
        Ok(())
    }

    /// Who was met; looks whether every person shows the lasting identity. Servers give every entry one
    /// of the usual ones, so that a person without it has one that is hidden: whose account they are, and
    /// whether its person is gone, cannot be known. An attribute of the administrator's choice may
    /// be missing, and one identity be two people's.
    fn identities(&mut self, attribute: &str) -> HashSet<Identity> {
        let met = self.identities_met(attribute);
        let people = self.sweep.people();
        let is_usual = LASTING.iter().any(|usual| usual.eq_ignore_ascii_case(attribute));
        if !is_usual {
            return met;
        }
        let mut hidden = 0;
        if met.len() < people.len() {
            let lasting = Lasting::new(attribute, people.names());
            hidden = people.iter().filter(|entry| lasting.of(*entry).is_none()).count();
        }
        let part = self.sweep.open(Part::Identities { attribute: attribute.to_owned() });
        let ended = match hidden {
            0 => Ended::Complete,
            _ => Ended::Short(format!(
                "{hidden} of them do not show it; the bind account may lack the right to read it"
            )),
        };
        self.sweep.close(part, ended);
        met
    }

    /// Reads one search to its end, whatever it takes: in parts where the server gives no more at
    /// once, at other servers where it refers to them.
    pub(super) async fn whole(
        &mut self,
        query: &Query,
        purpose: Purpose<'_>,
    ) -> Result<Ended, DirectoryError> {
        let mut brought = Brought::default();
        match self.search(query.clone(), purpose, &mut brought).await {
            Ok(()) => {}
            Err(error) if error.is_limit() => {
                let parts = self.in_portions(query, purpose, &mut brought).await?;
                brought.short = brought.short.or(parts.map(|reason| format!("{error}; {reason}")));
            }
            Err(error) => match error.referral() {
                Some(urls) => brought.references.push(urls),
                None => return Err(error),
            },
        }
        let elsewhere = self.follow(query, purpose, brought.references).await?;
        Ok(brought.short.or(elsewhere).map_or(Ended::Complete, Ended::Short))
    }

    /// One search at this server; what came is kept even where it ends badly.
    async fn search(
        &mut self,
        query: Query,
        purpose: Purpose<'_>,
        brought: &mut Brought,
    ) -> Result<(), DirectoryError> {
        run(&mut self.connection, &mut self.sweep, query, purpose, brought).await
    }

    /// The same search in parts that the server gives whole; the reason if they do not add up.
    async fn in_portions(
        &mut self,
        query: &Query,
        purpose: Purpose<'_>,
        brought: &mut Brought,
    ) -> Result<Option<String>, DirectoryError> {
        let mut wide = query.clone();
        wide.attributes.extend(split::BY.map(str::to_owned));
        // The names by which it can be split, if they were not asked for at first.
        let mut first = Brought { wants_names: true, ..Brought::default() };
        let ended = self.search(wide.clone(), purpose, &mut first).await;
        brought.references.append(&mut first.references);
        if first.short.is_some() {
            return Ok(first.short);
        }
        match ended {
            Ok(()) => return Ok(None), // the server had time for it now
            Err(error) if error.is_limit() => {}
            Err(error) => return Err(error),
        }
        let Some(mut portions) = Portions::new(&first.names) else {
            return Ok(Some("not every entry shows a name by which the search could be split".to_owned()));
        };
        let at = split::BY.iter().position(|name| *name == portions.attribute()).unwrap_or(0);
        let mut asked = 0;
        while let Some((portion, filter)) = portions.next(&query.filter) {
            asked += 1;
            let mut part = Brought { wants_names: true, ..Brought::default() };
            let ended = self.search(Query { filter, ..wide.clone() }, purpose, &mut part).await;
            brought.references.append(&mut part.references);
            if let Some(short) = part.short {
                return Ok(Some(short));
            }
            match ended {
                Ok(()) => {}
                Err(error) if error.is_limit() => {
                    if part.names.iter().any(|values| values.get(at).is_none_or(Vec::is_empty)) {
                        return Ok(Some(format!("an entry does not show its {}", portions.attribute())));
                    }
                    let names = part.names.iter().filter_map(|values| values.get(at)).flatten();
                    if !portions.split(portion, names.map(String::as_str)) {
                        return Ok(Some(format!(
                            "too many entries have the same {}, and the server does not give them all",
                            portions.attribute()
                        )));
                    }
                }
                Err(error) => return Err(error),
            }
        }
        let note = format!(
            "{}: the server gives no more at once; it was read in {asked} parts by {}",
            query.base,
            portions.attribute()
        );
        self.sweep.note(note);
        Ok(None)
    }

    /// Finds out where the people are whose accounts are linked but whom the sweep did not meet.
    ///
    /// Only an entry that is nowhere below the directory's own tops is gone; one that is elsewhere
    /// is only outside the bases or the filter.
    async fn lookups(&mut self, identity: &str, missing: Vec<Identity>) -> Result<(), DirectoryError> {
        if let Some(snapshot) = self.connection.snapshot().cloned() {
            self.lookups_in(&snapshot, missing);
            return Ok(());
        }
        let tops = self.connection.root().naming_contexts.iter();
        let tops: Vec<Dn> = tops
            .filter(|top| self.intake.bases.iter().any(|base| base.key().is_within(&top.key())))
            .cloned()
            .collect();
        if tops.is_empty() {
            return Ok(()); // the server does not say where its trees begin: nobody can be known to be gone
        }
        // A link that cannot be a value of the attribute cannot be looked up; it stays unknown.
        let filter = |person: Identity| Some((person.clone(), person.filter(identity)?));
        let askable: Vec<(Identity, Filter)> = missing.into_iter().filter_map(filter).collect();
        if !askable.is_empty() {
            self.connection.watch.tell(|| Progress::LookingFor { people: askable.len() });
        }
        for batch in askable.chunks(LOOKUP_BATCH) {
            let people = batch.iter().map(|(person, _)| person.clone()).collect();
            let part = self.sweep.open(Part::Lookup { people });
            let any = Filter::Or(batch.iter().map(|(_, filter)| filter.clone()).collect());
            let mut ended = Ok(Ended::Complete);
            for top in &tops {
                let query = Query::subtree(&top.to_string(), any.clone(), &[identity]);
                ended = self.whole(&query, Purpose::Whereabouts(identity)).await;
                if !matches!(ended, Ok(Ended::Complete)) {
                    break;
                }
            }
            self.close(part, ended)?;
        }
        Ok(())
    }
}

/// Runs one search on a connection, and keeps what comes.
pub(super) async fn run(
    connection: &mut Connection,
    sweep: &mut Sweep,
    query: Query,
    purpose: Purpose<'_>,
    brought: &mut Brought,
) -> Result<(), DirectoryError> {
    let watch = connection.watch.clone();
    let mut search = connection.search(query).await?;
    while let Some(found) = search.next().await? {
        match found {
            Found::Reference(urls) => brought.references.push(urls),
            Found::Entry(entry) => {
                keep(sweep, &entry, purpose, brought);
                let read = sweep.people().len();
                if read.is_multiple_of(EVERY)
                    && !matches!(purpose, Purpose::Whereabouts(_) | Purpose::Brought)
                {
                    watch.tell(|| Progress::People { read });
                }
            }
        }
        if brought.again > brought.new + AGAIN {
            brought.short = Some("the server sends the same entries again and again".to_owned());
            return Ok(());
        }
    }
    Ok(())
}

/// Keeps one entry for what it was looked for.
fn keep(sweep: &mut Sweep, entry: &ReceivedEntry, purpose: Purpose<'_>, brought: &mut Brought) {
    let values = |wanted: &str| -> Vec<String> {
        let its = entry.attributes_as_text().filter(|(name, _)| name.eq_ignore_ascii_case(wanted));
        its.flat_map(|(_, values)| values).map(|value| String::from_utf8_lossy(value).into_owned()).collect()
    };
    let dn = std::str::from_utf8(entry.name()).unwrap_or("");
    let identity_by = |attribute: &str| {
        let mut one = Entries::new();
        one.push(dn, entry.attributes_as_text());
        one.get(0).and_then(|entry| Identity::of(entry, attribute))
    };
    let kept = match purpose {
        Purpose::People => sweep.person(dn, entry.attributes_as_text()).ok(),
        Purpose::Brought => sweep.application_group(dn, entry.attributes_as_text()).ok(),
        Purpose::Whereabouts(attribute) => match identity_by(attribute) {
            Some(person) if Dn::parse(dn).is_ok() => Some(sweep.found(person, dn)),
            Some(_) => None,
            None => {
                brought.short = Some(format!("an entry was found that does not show its {attribute}"));
                return;
            }
        },
        Purpose::Moved(attribute, met) => {
            match identity_by(attribute).is_some_and(|person| met.contains(&person)) {
                true => Some(false),
                false => sweep.person(dn, entry.attributes_as_text()).ok(),
            }
        }
    };
    match kept {
        Some(true) => brought.new += 1,
        Some(false) => brought.again += 1,
        None => brought.short = Some(format!("an entry has a name that cannot be read: {dn}")),
    }
    if brought.wants_names {
        brought.names.push(split::BY.map(values));
    }
}

/// The attribute that `memberUid` speaks of, if that is known.
pub(super) fn member_login(intake: &Intake, kind: ServerKind) -> Option<&str> {
    intake.member_login.as_deref().or((kind == ServerKind::Plain).then_some("uid"))
}

/// Whether groups are read, and who is in them.
fn reads_groups(intake: &Intake) -> bool {
    intake.application_groups.is_some() || intake.nests().iter().any(|(groups, _)| !groups.is_empty())
}

/// The attributes that the selection and the field rules look at, and no others.
pub(super) fn wanted_attributes(intake: &Intake, kind: ServerKind) -> Vec<String> {
    let active = active_filter(intake, kind, Timestamp::UNIX_EPOCH);
    let mut wanted: BTreeSet<String> = BTreeSet::new();
    wanted.extend(intake.fields.values().flat_map(FieldRule::from_attributes).map(str::to_owned));
    wanted.extend(intake.conditions().flat_map(Condition::attributes).map(str::to_owned));
    wanted.extend(active.attributes().map(str::to_owned));
    if reads_groups(intake) {
        // What groups may know people by without listing their names.
        wanted.insert(primary_group(kind).to_owned());
        wanted.extend(member_login(intake, kind).map(str::to_owned));
        wanted.extend((kind == ServerKind::Controller).then(|| "objectSid".to_owned()));
        let by_member_of = matches!(intake.strategy, Strategy::Upwards | Strategy::Chain);
        wanted.extend(by_member_of.then(|| "memberOf".to_owned()));
    }
    match &intake.identity {
        Some(identity) => drop(wanted.insert(identity.clone())),
        None => wanted.extend(LASTING.map(str::to_owned)),
    }
    wanted.into_iter().collect()
}
