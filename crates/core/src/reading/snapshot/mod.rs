//! A reading as a file that later steps can use in place of the directory: LDIF content (RFC 2849) with a header of
//! comments on its origin and completeness.
//!
//! A file that was cut, or from which entries were deleted, is recognised by its count and its last line, and is not
//! whole. No I/O, no clock; the whole text is held in memory.

mod mask;
#[cfg(test)]
mod tests;

pub use mask::Mask;

use crate::ldap::entry::{Entries, Entry};
use crate::ldap::filter::Filter;
use crate::ldap::identity::Identity;
use crate::ldap::ldif::{self, write_comment, write_record};
use crate::ldap::name::{Dn, DnKey, short};
use crate::ldap::schema::Schema;
use crate::ldap::schema::ServerKind;
use crate::reading::{Reading, Request, Whereabouts};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

/// The first line of a snapshot.
const FORMAT: &str = "# webtaxon.snapshot/1";
/// Its last line.
const END: &str = "# end of the snapshot";

/// The origin and contents of a snapshot.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Header {
    /// The directory's name in the settings.
    pub directory: String,
    /// The server that answered.
    pub server: String,
    /// What kind of server it is.
    pub kind: ServerKind,
    /// The time of the reading.
    pub taken: Option<Timestamp>,
    /// The attribute that holds the lasting identity.
    pub identity: String,
    /// The naming contexts of the directory.
    pub tops: Vec<Dn>,
    /// The search bases for people.
    pub bases: Vec<Dn>,
    /// The filter for people.
    pub filter: Option<Filter>,
    /// The groups whose nests were read.
    pub groups: Vec<Dn>,
    /// The search bases for groups; empty for everywhere.
    pub group_bases: Vec<Dn>,
    /// The selection of groups to be imported, if any.
    pub application_groups: Option<String>,
    /// The attributes requested for people.
    pub attributes: Vec<String>,
    /// Those attributes whose values name entries that were read as well.
    pub followed: Vec<String>,
    /// Whether everything was read to its end.
    pub whole: bool,
    /// The parts that were not.
    pub gaps: Vec<String>,
    /// People looked up and found nowhere.
    pub absent: BTreeSet<Identity>,
    /// People looked up and found outside the bases, with their names.
    pub elsewhere: BTreeMap<Identity, String>,
    /// Attributes kept in a masked snapshot; `None` if it is not masked.
    pub unmasked: Option<Vec<String>>,
}

/// A snapshot.
#[derive(Clone, Debug, Default)]
pub struct Snapshot {
    /// Its origin and contents.
    pub header: Header,
    /// People and groups.
    pub entries: Entries,
    /// The server's schema, until the snapshot is written.
    pub schema: Option<Arc<Schema>>,
}

impl Header {
    /// The header for a reading.
    #[must_use]
    pub fn new(reading: &Reading, request: &Request, taken: Timestamp) -> Self {
        let source = reading.source();
        let mut attributes = request.attributes(source.kind);
        attributes.sort_by_key(|name| name.to_ascii_lowercase());
        attributes.dedup_by_key(|name| name.to_ascii_lowercase());
        let mut header = Self {
            directory: source.directory.clone(),
            server: source.server.clone(),
            kind: source.kind,
            taken: Some(taken),
            identity: source.identity.clone(),
            tops: source.tops.clone(),
            bases: request.bases.clone(),
            filter: Some(request.filter.clone()),
            groups: request.groups().cloned().collect(),
            group_bases: request.group_bases.clone(),
            application_groups: request.application_groups.as_ref().map(|groups| groups.which.clone()),
            attributes,
            followed: request.followed.iter().cloned().collect(),
            whole: reading.whole().is_some(),
            gaps: reading.gaps().iter().map(ToString::to_string).collect(),
            ..Self::default()
        };
        for (person, place) in reading.all_whereabouts() {
            match place {
                Whereabouts::Nowhere => drop(header.absent.insert(person.clone())),
                Whereabouts::Elsewhere(dn) => drop(header.elsewhere.insert(person.clone(), dn.clone())),
            }
        }
        header
    }

    fn write(&self, out: &mut String, entries: usize) {
        out.push_str(FORMAT);
        out.push('\n');
        let mut line = |key: &str, value: &str| {
            write_comment(out, &format!("{key}: {}", value.replace(['\n', '\r'], " ")))
        };
        line("directory", &self.directory);
        line("server", &self.server);
        line("kind", if self.kind == ServerKind::Controller { "controller" } else { "plain" });
        if let Some(taken) = self.taken {
            line("taken", &taken.strftime("%Y-%m-%dT%H:%M:%SZ").to_string());
        }
        line("identity", &self.identity);
        for (key, names) in [
            ("top", &self.tops),
            ("base", &self.bases),
            ("group", &self.groups),
            ("group-base", &self.group_bases),
        ] {
            names.iter().for_each(|name| line(key, &name.to_string()));
        }
        if let Some(filter) = &self.filter {
            line("filter", &filter.to_string());
        }
        self.application_groups.iter().for_each(|which| line("application-groups", which));
        self.attributes.iter().for_each(|name| line("attribute", name));
        self.followed.iter().for_each(|name| line("followed", name));
        self.absent.iter().for_each(|person| line("nowhere", person.as_str()));
        self.elsewhere.iter().for_each(|(person, dn)| line("elsewhere", &format!("{person} {dn}")));
        if let Some(kept) = &self.unmasked {
            line("masked", &format!("all values but those of {}", kept.join(" ")));
        }
        self.gaps.iter().for_each(|gap| line("gap", gap));
        line("entries", &entries.to_string());
        line("whole", if self.whole { "yes" } else { "no" });
        out.push('\n');
    }
}

impl Snapshot {
    /// The attributes known there.
    #[must_use]
    pub fn schema(&self) -> &Schema {
        self.schema.as_deref().unwrap_or_else(|| Schema::of(self.header.kind))
    }

    /// Turns a reading into a snapshot; a mask makes its people unrecognisable.
    #[must_use]
    pub fn new(mut header: Header, reading: &Reading, mask: Option<&Mask>) -> Self {
        let mut entries = Entries::new();
        let is_group = |dn: &str| Dn::parse(dn).is_ok_and(|dn| reading.graph().is_group(&dn.key()));
        for entry in reading.people().iter().chain(reading.all_followed().iter()) {
            match mask {
                None => entries.push(entry.dn(), entry.attributes()),
                Some(mask) => {
                    let masked: Vec<(&str, Vec<Vec<u8>>)> = entry
                        .attributes()
                        .map(|(name, values)| {
                            (name, values.map(|value| mask.value(name, value, &is_group)).collect())
                        })
                        .collect();
                    let masked =
                        masked.iter().map(|(name, values)| (*name, values.iter().map(Vec::as_slice)));
                    entries.push(&mask.name(entry.dn()), masked);
                }
            }
        }
        if mask.is_none() {
            reading.elsewhere().iter().for_each(|entry| entries.push(entry.dn(), entry.attributes()));
        }
        let class: &[u8] = if header.kind == ServerKind::Controller { b"group" } else { b"groupOfNames" };
        for (dn, members) in reading.graph().all_groups() {
            let members: Vec<String> = members
                .map(|member| match mask {
                    Some(mask) if !is_group(member) => mask.name(member),
                    _ => member.to_owned(),
                })
                .collect();
            let members: Vec<&[u8]> = members.iter().map(String::as_bytes).collect();
            let brought = Dn::parse(dn).ok().and_then(|dn| reading.application_group(&dn.key()));
            // A group keeps its name; its other attributes may describe people.
            let kept = |name: &str, value: &[u8]| {
                name.eq_ignore_ascii_case("objectClass") || short(dn).as_bytes() == value
            };
            let shown = |name: &str, value: &[u8]| match mask {
                Some(mask) if !kept(name, value) => mask.value(name, value, &is_group),
                _ => value.to_vec(),
            };
            let own = brought.into_iter().flat_map(|entry| entry.attributes());
            let own: Vec<(&str, Vec<Vec<u8>>)> =
                own.map(|(name, values)| (name, values.map(|value| shown(name, value)).collect())).collect();
            let mut own: Vec<(&str, Vec<&[u8]>)> = own
                .iter()
                .map(|(name, values)| (*name, values.iter().map(Vec::as_slice).collect()))
                .collect();
            if !own.iter().any(|(name, _)| name.eq_ignore_ascii_case("objectClass")) {
                own.push(("objectClass", vec![&b"top"[..], class]));
            }
            entries.push(dn, own.into_iter().chain([("member", members)]));
        }
        if let Some(mask) = mask {
            header.unmasked = Some(mask.kept().map(str::to_owned).collect());
            header.absent = header.absent.iter().filter_map(|person| mask.identity(person)).collect();
            let elsewhere = header.elsewhere.iter();
            header.elsewhere =
                elsewhere.filter_map(|(person, dn)| Some((mask.identity(person)?, mask.name(dn)))).collect();
        }
        Self { header, entries, schema: None }
    }

    /// The file's text.
    #[must_use]
    pub fn write(&self) -> String {
        let mut out = String::new();
        self.header.write(&mut out, self.entries.len());
        for entry in self.entries.iter() {
            write_record(&mut out, entry.dn(), entry.attributes());
        }
        out.push_str(END);
        out.push('\n');
        out
    }

    /// Parses a snapshot, or any LDIF content; the latter is not whole, since nothing says so.
    ///
    /// # Errors
    /// The first line that is not LDIF.
    pub fn read(text: &[u8]) -> Result<Self, ldif::LdifError> {
        let entries = ldif::entries(text)?;
        let mut header = Header { whole: false, ..Header::default() };
        let begins = text
            .strip_prefix(FORMAT.as_bytes())
            .is_some_and(|rest| rest.first() == Some(&b'\n') || rest.starts_with(b"\r\n"));
        if !begins {
            header.gaps.push("the file does not say what was read, and whether it is whole".to_owned());
            if entries.names().find("objectGUID").is_some() {
                header.kind = ServerKind::Controller;
            }
            return Ok(Self { header, entries, schema: None });
        }
        let mut announced = None;
        let mut said_whole = false;
        let head = text.split(|byte| *byte == b'\n').skip(1).take_while(|line| line.first() == Some(&b'#'));
        for line in head {
            let Ok(line) = std::str::from_utf8(line) else { continue };
            let Some((key, value)) = line.trim_end().trim_start_matches("# ").split_once(": ") else {
                continue;
            };
            match key {
                "entries" => announced = value.parse().ok(),
                "whole" => said_whole = value == "yes",
                _ => header.take(key, value),
            }
        }
        let is_ended = text.trim_ascii_end().ends_with(END.as_bytes());
        if announced != Some(entries.len()) || !is_ended {
            header.gaps.push("the file is not complete: entries or its end are missing".to_owned());
        }
        header.whole = said_whole && header.gaps.is_empty();
        Ok(Self { header, entries, schema: None })
    }

    /// The groups in the snapshot.
    fn groups(&self) -> impl Iterator<Item = DnKey> {
        let is_group = |entry: &Entry<'_>| {
            let mut classes = entry.values("objectClass");
            classes.any(|class| class == b"group" || class == b"groupOfNames")
                && entry.values("member").next().is_some()
        };
        self.entries.iter().filter(is_group).filter_map(|entry| Some(Dn::parse(entry.dn()).ok()?.key()))
    }

    /// What the request needs and this snapshot lacks; empty if it serves as well as the directory.
    #[must_use]
    pub fn missing(&self, request: &Request) -> Vec<String> {
        let header = &self.header;
        let keys = |list: &[Dn]| list.iter().map(Dn::key).collect::<HashSet<DnKey>>();
        let (bases, nests, group_bases) =
            (keys(&header.bases), keys(&header.groups), keys(&header.group_bases));
        let mut missing = header.gaps.clone();
        if missing.is_empty() && !header.whole {
            missing.push("the snapshot says that it is not whole".to_owned());
        }
        for base in request.bases.iter().filter(|base| !bases.contains(&base.key())) {
            missing.push(format!("{base} was not read into the snapshot"));
        }
        let mut groups: Vec<&Dn> = request.groups().filter(|group| !nests.contains(&group.key())).collect();
        if !groups.is_empty() {
            // The groups inside a nest were read with it.
            let inside: HashSet<DnKey> = self.groups().collect();
            groups.retain(|group| !inside.contains(&group.key()));
        }
        for group in groups {
            missing.push(format!("the nest of {group} was not read into the snapshot"));
        }
        match &header.filter {
            Some(filter) if *filter != request.filter => {
                missing.push("people were read into the snapshot by another filter".to_owned());
            }
            None if header.whole => {
                missing.push("it does not say by which filter people were read".to_owned())
            }
            _ => {}
        }
        let follows = |name: &&String| header.followed.iter().any(|known| known.eq_ignore_ascii_case(name));
        for name in request.followed.iter().filter(|name| !follows(name)) {
            missing.push(format!("the entries that {name} of people names were not read into the snapshot"));
        }
        if let Some(groups) = &request.application_groups
            && header.application_groups.as_ref() != Some(&groups.which)
        {
            missing.push("the groups for the application were not read into the snapshot".to_owned());
        }
        let same = request.group_bases.len() == header.group_bases.len()
            && request.group_bases.iter().all(|base| group_bases.contains(&base.key()));
        if !same && header.filter.is_some() {
            missing.push("groups were read into the snapshot under other bases".to_owned());
        }
        missing
    }
}

impl Header {
    /// Reads one line of the header; unknown lines are skipped.
    fn take(&mut self, key: &str, value: &str) {
        let name = |list: &mut Vec<Dn>| list.extend(Dn::parse(value).ok());
        match key {
            "directory" => value.clone_into(&mut self.directory),
            "server" => value.clone_into(&mut self.server),
            "kind" if value == "controller" => self.kind = ServerKind::Controller,
            "taken" => self.taken = value.parse().ok(),
            "identity" => value.clone_into(&mut self.identity),
            "top" => name(&mut self.tops),
            "base" => name(&mut self.bases),
            "group" => name(&mut self.groups),
            "group-base" => name(&mut self.group_bases),
            "application-groups" => self.application_groups = Some(value.to_owned()),
            "filter" => self.filter = Filter::parse(value).ok(),
            "attribute" => self.attributes.push(value.to_owned()),
            "followed" => self.followed.push(value.to_owned()),
            "nowhere" => self.absent.extend(Identity::from_link(value)),
            "elsewhere" => {
                let parts =
                    value.split_once(' ').and_then(|(person, dn)| Some((Identity::from_link(person)?, dn)));
                self.elsewhere.extend(parts.map(|(person, dn)| (person, dn.to_owned())));
            }
            "masked" => {
                let kept = value.strip_prefix("all values but those of ").unwrap_or("");
                self.unmasked = Some(kept.split_whitespace().map(str::to_owned).collect());
            }
            "gap" => self.gaps.push(value.to_owned()),
            _ => {}
        }
    }
}
