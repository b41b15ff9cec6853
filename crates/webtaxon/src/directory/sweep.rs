//! One whole reading of a directory for an intake: people, groups, and where missing people are.
//!
//! Whatever goes wrong ends up as a gap of the [`Reading`], never as a shorter reading that looks
//! whole: the proof is core's to give.

use super::connection::{Connection, attributes};
use super::search::{Found, Query};
use super::{DirectoryError, nest};
use std::collections::{BTreeSet, HashSet};
use webtaxon_core::filter::Filter;
use webtaxon_core::identity::{Identity, LASTING};
use webtaxon_core::name::Dn;
use webtaxon_core::reading::{Ended, Part, Reading, ServerKind, Source, Sweep};
use webtaxon_core::selection::active_filter;
use webtaxon_core::settings::{Intake, Settings};

/// People who are looked up with one search.
const LOOKUP_BATCH: usize = 50;

/// Reads everything that the intake needs; `links` are the identities of the accounts there are.
pub async fn read(
    connection: &mut Connection,
    settings: &Settings,
    links: impl IntoIterator<Item = Identity>,
) -> Reading {
    let intake = &settings.intake;
    let kind = connection.root().kind;
    let mut sweep = Sweep::new(Source {
        directory: intake.directory.clone(),
        server: connection.server().to_owned(),
        kind,
        identity: intake.identity.clone().unwrap_or_default(),
    });
    if let Err(error) = everything(connection, &mut sweep, intake, kind, links).await {
        tracing::debug!(%error, "the reading was cut short");
        sweep.cut_short(&error.to_string());
    }
    sweep.finish(intake)
}

async fn everything(
    connection: &mut Connection,
    sweep: &mut Sweep,
    intake: &Intake,
    kind: ServerKind,
    links: impl IntoIterator<Item = Identity>,
) -> Result<(), DirectoryError> {
    let wanted = wanted_attributes(intake, kind);
    for base in &intake.bases {
        let part = sweep.open(Part::People { base: base.clone() });
        let ended = people(connection, sweep, base, &intake.filter, &wanted).await;
        close(sweep, part, ended)?;
    }
    let identity = intake.identity.clone().unwrap_or_else(|| {
        let usual = if kind == ServerKind::Controller { "objectGUID" } else { "entryUUID" };
        let present = LASTING.into_iter().find(|name| sweep.people().names().find(name).is_some());
        present.unwrap_or(usual).to_owned()
    });
    sweep.set_identity(&identity);
    identities(sweep, &identity);
    nest::read(connection, sweep, intake).await?;
    let known: HashSet<Identity> =
        sweep.people().iter().filter_map(|entry| Identity::of(entry, &identity)).collect();
    let missing: Vec<Identity> = links.into_iter().filter(|link| !known.contains(link)).collect();
    lookups(connection, sweep, intake, &identity, missing).await
}

/// Looks whether every person shows the lasting identity. Servers give every entry one of the usual
/// ones, so that a person without it has one that is hidden: whose account they are, and whether
/// its person is gone, cannot be known. An attribute of the administrator's choice may be missing.
fn identities(sweep: &mut Sweep, attribute: &str) {
    if !LASTING.iter().any(|usual| usual.eq_ignore_ascii_case(attribute)) {
        return;
    }
    let hidden = sweep.people().iter().filter(|entry| Identity::of(*entry, attribute).is_none()).count();
    let part = sweep.open(Part::Identities { attribute: attribute.to_owned() });
    let ended = match hidden {
        0 => Ended::Complete,
        _ => Ended::Short(format!(
            "{hidden} of them do not show it; the bind account may lack the right to read it"
        )),
    };
    sweep.close(part, ended);
}

/// Ends a part; an error that leaves the connection usable is only that part's.
fn close(
    sweep: &mut Sweep,
    part: webtaxon_core::reading::PartId,
    ended: Result<Ended, DirectoryError>,
) -> Result<(), DirectoryError> {
    match ended {
        Ok(ended) => sweep.close(part, ended),
        Err(error) => {
            sweep.close(part, Ended::Short(error.to_string()));
            if error.is_fatal() {
                return Err(error);
            }
        }
    }
    Ok(())
}

/// The attributes that the selection and the field rules look at, and no others.
pub(super) fn wanted_attributes(intake: &Intake, kind: ServerKind) -> Vec<String> {
    let active = active_filter(intake, kind);
    let mut wanted: BTreeSet<String> = BTreeSet::new();
    wanted.extend(intake.fields.values().flat_map(|rule| rule.from.iter().cloned()));
    wanted.extend(active.iter().flat_map(Filter::attributes).map(str::to_owned));
    match &intake.identity {
        Some(identity) => drop(wanted.insert(identity.clone())),
        None => wanted.extend(LASTING.map(str::to_owned)),
    }
    wanted.into_iter().collect()
}

async fn people(
    connection: &mut Connection,
    sweep: &mut Sweep,
    base: &Dn,
    filter: &Filter,
    wanted: &[String],
) -> Result<Ended, DirectoryError> {
    let wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
    let query = Query::subtree(&base.to_string(), filter.clone(), &wanted);
    let mut search = connection.search(query).await?;
    let mut short = None;
    while let Some(found) = search.next().await? {
        match found {
            Found::Reference(urls) => short = Some(not_followed(&urls)),
            Found::Entry(entry) => {
                let name = std::str::from_utf8(&entry.name).ok();
                if name.is_none_or(|name| sweep.person(name, attributes(&entry)).is_err()) {
                    let shown = String::from_utf8_lossy(&entry.name).into_owned();
                    short = Some(format!("an entry has a name that cannot be read: {shown}"));
                }
            }
        }
    }
    Ok(short.map_or(Ended::Complete, Ended::Short))
}

fn not_followed(urls: &[String]) -> String {
    format!("a part of it is kept by another server and was not followed: {}", urls.join(" or "))
}

/// Finds out where the people are whose accounts are linked but whom the sweep did not meet.
///
/// Only an entry that is nowhere below the directory's own tops is gone; one that is elsewhere is
/// only outside the bases or the filter.
async fn lookups(
    connection: &mut Connection,
    sweep: &mut Sweep,
    intake: &Intake,
    identity: &str,
    missing: Vec<Identity>,
) -> Result<(), DirectoryError> {
    let tops: Vec<Dn> = connection
        .root()
        .naming_contexts
        .iter()
        .filter(|top| intake.bases.iter().any(|base| base.key().is_within(&top.key())))
        .cloned()
        .collect();
    if tops.is_empty() {
        return Ok(()); // the server does not say where its trees begin: nobody can be known to be gone
    }
    // A link that cannot be a value of the attribute cannot be looked up; it stays unknown.
    let askable: Vec<(Identity, Filter)> =
        missing.into_iter().filter_map(|person| Some((person.clone(), person.filter(identity)?))).collect();
    for batch in askable.chunks(LOOKUP_BATCH) {
        let people = batch.iter().map(|(person, _)| person.clone()).collect();
        let part = sweep.open(Part::Lookup { people });
        let any = Filter::Or(batch.iter().map(|(_, filter)| filter.clone()).collect());
        let mut ended = Ok(Ended::Complete);
        for top in &tops {
            ended = lookup(connection, sweep, top, &any, identity).await;
            if !matches!(ended, Ok(Ended::Complete)) {
                break;
            }
        }
        close(sweep, part, ended)?;
    }
    Ok(())
}

async fn lookup(
    connection: &mut Connection,
    sweep: &mut Sweep,
    top: &Dn,
    filter: &Filter,
    identity: &str,
) -> Result<Ended, DirectoryError> {
    let query = Query::subtree(&top.to_string(), filter.clone(), &[identity]);
    let mut short = None;
    let mut search = connection.search(query).await?;
    while let Some(found) = search.next().await? {
        match found {
            Found::Reference(urls) => short = Some(not_followed(&urls)),
            Found::Entry(entry) => {
                let mut entries = webtaxon_core::entry::Entries::new();
                super::connection::push(&mut entries, &entry);
                let found = entries.get(0).and_then(|one| Some((one.dn(), Identity::of(one, identity)?)));
                match found {
                    Some((dn, person)) => sweep.found(person, dn),
                    None => short = Some(format!("an entry was found that does not show its {identity}")),
                }
            }
        }
    }
    Ok(short.map_or(Ended::Complete, Ended::Short))
}
