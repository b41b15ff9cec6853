//! A reading, step by step: people, changes during the reading, entries that fields follow, groups, and
//! missing people.
//!
//! Every failure becomes a gap of the [`Reading`], never a shorter reading that looks whole: only core makes the
//! proof.

use super::links::KnownLinks;
use super::marks::Marks;
use super::reader::{Reader, Sought};
use crate::directory::client::{Access, Connection, Query, read_schema};
use crate::directory::presence::{Absence, absent_and};
use crate::directory::{DirectoryError, shortcoming::Shortcoming};
use crate::progress::Progress;
use foldhash::HashSet;
use jiff::Timestamp;
use std::collections::HashMap;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::identity::{self, Identity, LASTING, Lasting};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::{Schema, ServerKind};
use webtaxon_core::reading::{Ended, Part, Reading, ReadingBuilder, Request, Source};
use webtaxon_core::settings::{Bind, Directory};

/// Reads everything that is requested; `links` are the identities of the existing accounts.
///
/// If a server fails in the middle, the next one is read from the beginning: a page's cookie is useless on another
/// server.
///
/// # Errors
/// No server could be reached, or the bind was refused. Later failures are gaps of the reading.
pub async fn read(access: &Access, request: &Request, links: &[Identity]) -> Result<Reading, DirectoryError> {
    read_for(access, request, &KnownLinks::known(links)).await
}

/// Like [`read`], with links that may come later.
pub(crate) async fn read_for(
    access: &Access,
    request: &Request,
    links: &KnownLinks,
) -> Result<Reading, DirectoryError> {
    let servers = access.servers().await?;
    let mut connection = access.open_first(&servers).await?;
    let mut notes = Vec::new();
    loop {
        let server = connection.server().to_owned();
        let mut builder = ReadingBuilder::new(source(access, &connection, request, notes.clone()));
        if request.reads_groups() {
            builder.expect_groups();
        }
        let wanted = request.attributes(connection.root().kind);
        let mut reader = Reader { access, connection, builder, request, wanted, others: HashMap::new() };
        let ended = match reader.schema().await {
            Ok(()) => reader.everything(links).await,
            Err(error) => Err(error),
        };
        let Reader { connection: used, mut builder, others, .. } = reader;
        for (_, other) in others {
            other.close().await;
        }
        let Err(error) = ended else {
            used.close().await;
            return Ok(builder.finish(request));
        };
        tracing::debug!(%error, "the reading was interrupted");
        let at = servers.iter().position(|one| one.to_string() == server).map_or(servers.len(), |at| at + 1);
        let rest = servers.get(at..).unwrap_or(&[]);
        let next = if error.is_servers_own() { access.open_first(rest).await.ok() } else { None };
        match next {
            Some(other) => {
                notes.push(format!("{error}; the reading started again on {}", other.server()));
                connection = other;
            }
            None => {
                builder.cut_short(&error.to_string());
                return Ok(builder.finish(request));
            }
        }
    }
}

/// The source of a reading that begins now.
pub(super) fn source(
    access: &Access,
    connection: &Connection,
    request: &Request,
    notes: Vec<String>,
) -> Source {
    let (server, root) = (connection.server().to_owned(), connection.root());
    Source {
        directory: request.directory.clone(),
        own_name: root.own_name.clone(),
        mark: None,
        bound: connection.snapshot().is_none().then(|| bound(access.directory())),
        is_catalog: is_catalog(&server),
        server,
        kind: root.kind,
        identity: request.identity.clone().unwrap_or_default(),
        tops: root.naming_contexts.clone(),
        notes,
        at: connection.snapshot().and_then(|snapshot| snapshot.header.taken).unwrap_or_else(Timestamp::now),
        schema: connection.snapshot().and_then(|snapshot| snapshot.schema.clone()),
    }
}

/// The bind account of a directory, in words.
fn bound(directory: &Directory) -> String {
    match &directory.bind {
        Bind::Anonymous => "nobody".to_owned(),
        Bind::Simple { name, .. } => name.clone(),
        Bind::External => "the connection's own identity".to_owned(),
    }
}

/// True for an address with a port of a domain controller's global catalog ([MS-ADTS] §3.1.1.3.1.10).
pub(crate) fn is_catalog(server: &str) -> bool {
    [":3268", ":3269"].iter().any(|port| server.ends_with(port))
}

/// One entry with the attributes of people; empty if it does not exist or is hidden.
///
/// # Errors
/// No server could be reached, or the connection is unusable.
pub(crate) async fn entry(access: &Access, request: &Request, dn: &str) -> Result<Entries, DirectoryError> {
    let mut connection = access.open_first(&access.servers().await?).await?;
    let wanted = request.attributes(connection.root().kind);
    let wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
    let answer = connection.entries(Query::base(dn, &wanted)).await;
    connection.close().await;
    match answer {
        Ok((entries, _)) => Ok(entries),
        Err(error) if error.is_fatal() => Err(error),
        Err(_) => Ok(Entries::new()),
    }
}

impl Reader<'_> {
    async fn everything(&mut self, links: &KnownLinks) -> Result<(), DirectoryError> {
        let kind = self.connection.root().kind;
        self.snapshot();
        self.catalog();
        let marks = self.places().await?;
        self.builder.set_mark(marks.as_ref().map(Marks::to_remember));
        for base in &self.request.bases {
            let part = self.builder.open(Part::People { base: base.clone() });
            let query = self.query(&base.to_string(), self.request.filter.clone());
            let ended = self.whole(&query, Sought::People).await;
            self.close(part, ended)?;
        }
        let identity = self.request.identity.clone().unwrap_or_else(|| {
            let usual = if kind == ServerKind::Controller { "objectGUID" } else { "entryUUID" };
            identity::usual(self.builder.people()).unwrap_or(usual).to_owned()
        });
        self.connection.watch.tell(|| Progress::People { read: self.builder.people().len() });
        self.builder.set_identity(&identity);
        self.is_of_its_kind();
        self.settle(marks, &identity).await?;
        self.judged().await?;
        let met = self.identities(&identity);
        let missing = links.without(&met).await;
        self.lookups(&identity, missing).await
    }

    /// Looks for the places and groups that the settings name; returns the server's marks before anything is read.
    async fn places(&mut self) -> Result<Option<Marks>, DirectoryError> {
        // Where people tell their groups, groups need no entries.
        let lists = self.request.attribute_of_people().is_none();
        let groups = self.request.groups().filter(|_| lists);
        let names = self.request.places().map(|(place, _)| place).chain(groups);
        let marks = Marks::asked(self.connection.root(), self.request);
        let (absent, entries) = absent_and(&mut self.connection, names, &marks.queries()).await?;
        let absent: HashMap<DnKey, Absence> =
            absent.into_iter().map(|(place, absence)| (place.key(), absence)).collect();
        let shown = |place: &Dn| {
            let absence = absent.get(&place.key());
            Shortcoming::ended(absence.map(|absence| absence.why.clone()))
        };
        self.builder.places(self.request, shown);
        for (groups, purpose) in &self.request.nests {
            for group in groups {
                let ended = shown(group);
                // The groups that are there are read later.
                if ended != Ended::Complete {
                    let part = self.builder.open_group(group, *purpose);
                    self.builder.close(part, ended);
                }
            }
        }
        Ok(marks.told(&entries))
    }

    /// Reads the server's schema, so that filters are evaluated as the server does; on a domain controller, whose
    /// schema is large, only if the settings use attributes beyond the usual ones. Requests do not depend on it: a
    /// proxy returns attributes that its schema lacks.
    async fn schema(&mut self) -> Result<(), DirectoryError> {
        let kind = self.connection.root().kind;
        let is_usual = |name: &str| Schema::of(kind).find(name).is_some();
        if kind == ServerKind::Controller && self.request.tested().all(is_usual) {
            return Ok(());
        }
        let own = read_schema(&mut self.connection).await?;
        if !own.is_empty() {
            self.builder.set_schema(own.filled(kind));
        }
        Ok(())
    }

    /// A global catalog holds only some attributes, and members of some groups ([MS-ADTS] §3.1.1.1.8).
    fn catalog(&mut self) {
        if self.builder.is_catalog() {
            let part = self.builder.open(Part::Catalog);
            self.builder.close(part, Shortcoming::ended(Some(Shortcoming::Catalog)));
        }
    }

    /// A domain controller whose root DSE is hidden looks like another server, and primary groups would not count.
    fn is_of_its_kind(&mut self) {
        let root = self.connection.root();
        let people = self.builder.people();
        let lasting = Lasting::new("objectGUID", people.names());
        let is_asked = root.kind == ServerKind::Plain && !root.tells_kind && self.request.identity.is_none();
        if is_asked && people.get(0).is_some_and(|entry| lasting.of(entry).is_some()) {
            let is_live = self.connection.snapshot().is_none();
            let part = self.builder.open(Part::Kind);
            self.builder.close(part, Shortcoming::ended(is_live.then_some(Shortcoming::UnknownKind)));
        }
    }

    /// Records what a snapshot lacks, if one is read.
    fn snapshot(&mut self) {
        let Some(snapshot) = self.connection.snapshot() else { return };
        let mut missing = snapshot.missing(self.request);
        let header = &snapshot.header;
        let has = |name: &String| header.attributes.iter().any(|known| known.eq_ignore_ascii_case(name));
        let unread: Vec<&str> = self.wanted.iter().filter(|name| !has(name)).map(String::as_str).collect();
        if !unread.is_empty() && header.filter.is_some() {
            missing.push(format!("{} of people was not read into the snapshot", unread.join(", ")));
        }
        for reason in missing {
            let part = self.builder.open(Part::Snapshot);
            self.builder.close(part, Ended::Short(reason));
        }
    }

    /// The identities seen; checks that every person shows one. Servers give every entry one of the usual attributes,
    /// so a person without it has one that is hidden: then it is unknown which account is theirs, and whether its
    /// person is gone. An attribute chosen by the administrator may be missing, or be the same for two people.
    fn identities(&mut self, attribute: &str) -> HashSet<Identity> {
        let met = self.identities_met(attribute);
        let people = self.builder.people();
        let is_usual = LASTING.iter().any(|usual| usual.eq_ignore_ascii_case(attribute));
        if !is_usual {
            return met;
        }
        let mut hidden = 0;
        if met.len() < people.len() {
            let lasting = Lasting::new(attribute, people.names());
            hidden = people.iter().filter(|entry| lasting.of(*entry).is_none()).count();
        }
        let part = self.builder.open(Part::Identities { attribute: attribute.to_owned() });
        let short = (hidden > 0).then_some(Shortcoming::HiddenIdentity(hidden));
        self.builder.close(part, Shortcoming::ended(short));
        met
    }
}
