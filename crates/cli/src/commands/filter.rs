//! `webtaxon filter`: what a filter means, what may surprise, whom it selects, and why not.

use crate::arguments::Filter as Options;
use crate::output::Output;
use crate::session::{Exit, Failure, Session};
use crate::text::{self, FilterAnswer as Answer};
use std::collections::BTreeSet;
use std::io::Read as _;
use webtaxon::directory::read_schema;
use webtaxon::file::read_entries;
use webtaxon::model::ldap::entry::{Entries, Entry};
use webtaxon::model::ldap::filter::Links;
use webtaxon::model::ldap::filter::advice::{Context, advise, likely_kind};
use webtaxon::model::ldap::filter::{Chain, Filter, Ground, Matcher, Repaired, count, explain};
use webtaxon::model::ldap::identity::CALLED;
use webtaxon::model::ldap::name::Dn;
use webtaxon::model::ldap::schema::Schema;
use webtaxon::model::ldap::schema::ServerKind;
use webtaxon::model::reading::snapshot::Header;
use webtaxon::{Workspace, report, survey};

/// Maximum bytes read from a file or standard input: one more than a filter may have.
const LONGEST: u64 = (1 << 20) + 1;

/// The entries that a filter is tried on.
struct Tried {
    entries: Entries,
    kind: ServerKind,
    /// The server's schema; empty without one.
    schema: Schema,
    /// The source of the entries, in words.
    from: String,
    /// Whether another setting already excludes inactive people.
    active_elsewhere: bool,
}

/// The intake given, if any.
fn named(options: &Options) -> Option<&str> {
    options.intake.as_deref().filter(|name| !name.is_empty())
}

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    let is_needed = options.intake.is_some() || needs_settings(options);
    let workspace = is_needed.then(|| session.open_for(named(options))).transpose()?;
    let text = written(options, workspace.as_ref()).map_err(Failure::wrong)?;
    let repaired = Filter::parse_pasted(&text).map_err(|error| Failure::told(Exit::Wrong, error))?;
    let tried = tried(options, workspace.as_ref(), &repaired.filter, session.output).await?;
    let answer = answer(repaired, tried, options.entry.as_deref()).map_err(Failure::failed)?;
    let option = if workspace.is_some() { session.same_options() } else { String::new() };
    session.answer(|width| text::filter(&answer, width, &option), || document(&answer));
    Ok(Exit::Done)
}

/// Whether the filter or the entries come from the settings' directory.
fn needs_settings(options: &Options) -> bool {
    let no_text = options.filter.is_none() && options.read.is_none();
    no_text || (options.entry.is_some() && options.ldif.is_none())
}

/// The text of the filter, from any of its sources.
fn written(options: &Options, workspace: Option<&Workspace>) -> Result<String, String> {
    let mut text = String::new();
    match (&options.filter, &options.read) {
        (Some(dash), _) if dash == "-" => {
            let read = std::io::stdin().take(LONGEST).read_to_string(&mut text);
            read.map_err(|error| format!("the filter cannot be read from standard input: {error}"))?;
            Ok(text)
        }
        (Some(given), _) => Ok(given.clone()),
        (None, Some(file)) => {
            let opened =
                std::fs::File::open(file).and_then(|open| open.take(LONGEST).read_to_string(&mut text));
            opened.map_err(|error| format!("the filter cannot be read from {}: {error}", file.display()))?;
            Ok(text)
        }
        (None, None) => {
            Ok(workspace.map(|one| one.settings().intakes.first.filter.to_string()).unwrap_or_default())
        }
    }
}

/// The entries to try the filter on, if the options give any.
async fn tried(
    options: &Options,
    workspace: Option<&Workspace>,
    filter: &Filter,
    output: &Output,
) -> Result<Option<Tried>, Failure> {
    if let Some(file) = &options.ldif {
        let wrong = |reason: String| Failure::wrong(format!("{}: {reason}", file.display()));
        let (entries, faults) = read_entries(file).map_err(|error| wrong(error.to_string()))?;
        match faults.as_slice() {
            [] => {}
            [first, ..] if entries.is_empty() => return Err(wrong(first.to_string())),
            [first, rest @ ..] => output.warning(&format!(
                "{}, {first}: this record is left out{}",
                file.display(),
                if rest.is_empty() { String::new() } else { format!(", and {} more", rest.len()) }
            )),
        }
        let controller = entries.names().find("objectGUID").is_some();
        let kind = if controller { ServerKind::Controller } else { ServerKind::Plain };
        let from = file.display().to_string();
        return Ok(Some(Tried { entries, kind, schema: Schema::default(), from, active_elsewhere: false }));
    }
    let Some(workspace) = workspace else { return Ok(None) };
    let mut connection = workspace.connect().await?;
    let kind = connection.root().kind;
    let schema = read_schema(&mut connection).await?;
    let entries = survey::everything(&mut connection, &workspace.settings().intakes.first, filter).await?;
    let from = match workspace.snapshot().map(|snapshot| &snapshot.header) {
        None => format!("everything under the intake's bases at {}", connection.server()),
        Some(header) => from_snapshot(header, filter, output),
    };
    connection.close().await;
    Ok(Some(Tried { entries, kind, schema, from, active_elsewhere: true }))
}

/// The source of a snapshot, in words; warns if the snapshot does not cover the filter.
fn from_snapshot(header: &Header, filter: &Filter, output: &Output) -> String {
    let Some(found_by) = &header.filter else { return "the entries of the file".to_owned() };
    let has = |name: &str| header.attributes.iter().any(|known| known.eq_ignore_ascii_case(name));
    let unread: BTreeSet<&str> = filter.attributes().filter(|name| !has(name)).collect();
    if !unread.is_empty() {
        let names = Vec::from_iter(unread).join(", ");
        output.warning(&format!(
            "{names} was not read into the snapshot, so nobody has it here: ask the directory itself, without --from"
        ));
    }
    format!("the entries of the snapshot, matched by {found_by} at {}", header.server)
}

fn answer(repaired: Repaired, tried: Option<Tried>, wanted: Option<&str>) -> Result<Answer, String> {
    let filter = &repaired.filter;
    let kind = tried.as_ref().map_or_else(|| likely_kind(filter), |tried| tried.kind);
    let own = tried.as_ref().map(|tried| &tried.schema).filter(|schema| !schema.is_empty());
    let schema = own.unwrap_or_else(|| Schema::of(kind));
    let unknown = |name: &str| {
        // An attribute that entries have is known.
        let is_there =
            tried.as_ref().is_some_and(|tried| tried.entries.names().covered_by(name).next().is_some());
        let is_known = schema.find(name).is_some() || (own.is_none() && is_there);
        (!is_known).then(|| schema.nearest(name).map(str::to_owned))
    };
    let context = match &tried {
        None => Context::of(kind),
        Some(tried) => Context {
            kind,
            schema,
            unknown: &unknown,
            active_elsewhere: tried.active_elsewhere,
            entries: Some(tried.entries.len()),
        },
    };
    let advice = advise(filter, context);
    let mut answer = Answer { repaired: repaired.clone(), advice, tried: None, judged: None };
    let Some(tried) = &tried else { return Ok(answer) };
    let links = Links(&tried.entries);
    let chain: Option<&dyn Chain> = (kind == ServerKind::Controller).then_some(&links);
    let ground = Ground { schema, names: tried.entries.names(), chain };
    let matcher = Matcher::on(filter, ground);
    let passed = count(filter, tried.entries.iter(), ground);
    let selected: Vec<String> = tried
        .entries
        .iter()
        .filter(|entry| matcher.matches(*entry))
        .map(|entry| entry.dn().to_owned())
        .collect();
    answer.tried = Some((tried.entries.len(), tried.from.clone(), passed, selected));
    if let Some(wanted) = wanted {
        let entry = find(&tried.entries, wanted).ok_or_else(|| {
            format!("no single entry is called {wanted} in {}; write its full name (DN)", tried.from)
        })?;
        answer.judged = Some((entry.dn().to_owned(), explain(filter, entry, ground)));
    }
    Ok(answer)
}

/// The entry with this name, or the only one with this login or display name.
fn find<'e>(entries: &'e Entries, wanted: &str) -> Option<Entry<'e>> {
    let pasted = Dn::parse_pasted(wanted).ok().map(|read| read.dn);
    if let Some(key) = pasted.filter(|dn| dn.depth() > 0).map(|dn| dn.key()) {
        let found = entries.iter().find(|entry| Dn::parse(entry.dn()).is_ok_and(|dn| dn.key() == key));
        if found.is_some() {
            return found;
        }
    }
    let is_called = |entry: &Entry<'_>| {
        CALLED
            .iter()
            .any(|name| entry.values(name).any(|value| value.eq_ignore_ascii_case(wanted.as_bytes())))
    };
    let mut found = entries.iter().filter(is_called);
    found.next().filter(|_| found.next().is_none())
}

fn document(answer: &Answer) -> serde_json::Value {
    let tried = answer
        .tried
        .as_ref()
        .map(|(of, _, clauses, selected)| (*of, clauses.as_slice(), selected.as_slice()));
    let judged = answer.judged.as_ref().map(|(dn, judged)| (dn.as_str(), judged.as_slice()));
    report::filter(&answer.repaired, &answer.advice, tried, judged)
}
