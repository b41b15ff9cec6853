//! Steps on what the settings refer to: bases, filter, attributes, groups.

use super::steps::{Finding, StepOutcome, Steps, bad, good, warning};
use crate::directory::{Absence, Connection, DirectoryError, DirectoryErrorKind, Query};
use crate::directory::{GROUP_CLASSES, Shortcoming, UNIT_CLASSES, UNREADABLE, absence, absent, read_schema};
use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::time::Instant;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::advice::{Context, Weight, advise};
use webtaxon_core::ldap::filter::{Filter, Matcher, Truth};
use webtaxon_core::ldap::identity::{self, Identity, LASTING, Lasting};
use webtaxon_core::ldap::name::{self, Dn, DnKey, Rdn};
use webtaxon_core::ldap::schema::Schema;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::{PlacePurpose, Request};
use webtaxon_core::settings::rules::Condition;
use webtaxon_core::settings::{Intake, MemberAttribute, MemberAttributeKind};
use webtaxon_core::words::counted as with_noun;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Number of people whose attributes are examined.
const SAMPLE: usize = 500;

/// Results that later steps need.
pub(crate) struct Told {
    /// Number of entries that match the filter under all bases; `None` if they could not be counted.
    pub(crate) candidates: Option<usize>,
}

/// The entries of a search, and the references met.
#[derive(Debug, Default)]
pub(crate) struct Counted {
    pub(crate) entries: usize,
    pub(crate) references: usize,
    /// Why there may be more, if the server's limit ended the search.
    pub(crate) limit: Option<String>,
}

/// Checks everything in the directory that the settings refer to.
pub(crate) async fn read(intake: &Intake, connection: &mut Connection, steps: &mut Steps<'_>) -> Told {
    let mut told = Told { candidates: None };
    if !places(connection, intake, steps).await {
        for name in ["filter", "attribute"] {
            steps.skip(name, "no base can be read");
        }
    } else {
        let schema = read_schema(connection).await.unwrap_or_default();
        told.candidates = filter(connection, intake, &schema, steps).await;
        if told.candidates.is_some_and(|count| count > 0) {
            attributes(connection, intake, &schema, steps).await;
        } else {
            steps.skip("attribute", "nobody was found whose attributes could be examined");
        }
    }
    groups(connection, intake, steps).await;
    application_groups(connection, intake, steps).await;
    told
}

/// The groups to be imported.
async fn application_groups(connection: &mut Connection, intake: &Intake, steps: &mut Steps<'_>) {
    let Some(groups) = &intake.application_groups else { return };
    for base in &groups.bases {
        let began = Instant::now();
        let finding = match count_under(connection, base, &groups.filter).await {
            Err(error) => missing(connection, base, Some(&error)).await,
            Ok(Counted { entries: 0, .. }) => warning(
                format!("{base}: {} matches no group for the application", groups.filter),
                "`webtaxon browse` shows where groups are; `webtaxon filter` tries a filter",
            ),
            Ok(counted) => good(format!(
                "{base}: {} matches {} for the application",
                groups.filter,
                with_noun(counted.entries, "group", "groups")
            )),
        };
        steps.end("group", began, finding);
    }
}

/// The entries that match the intake's filter under all bases.
pub(crate) async fn count(connection: &mut Connection, intake: &Intake) -> Result<Counted, DirectoryError> {
    let mut all = Counted::default();
    for base in &intake.bases {
        let counted = count_under(connection, base, &intake.filter).await?;
        all.entries += counted.entries;
        all.references += counted.references;
        all.limit = all.limit.or(counted.limit);
    }
    Ok(all)
}

async fn count_under(
    connection: &mut Connection,
    base: &Dn,
    filter: &Filter,
) -> Result<Counted, DirectoryError> {
    let mut entries = 0;
    let count = |_: Entry<'_>| {
        entries += 1;
        ControlFlow::Continue(())
    };
    let short = connection.each(Query::subtree(&base.to_string(), filter.clone(), &["1.1"]), count).await?;
    Ok(Counted { entries, references: short.references.len(), limit: short.limit })
}

/// The bases, and the other entries that the settings name as places; false if a base for people cannot be read.
async fn places(connection: &mut Connection, intake: &Intake, steps: &mut Steps<'_>) -> bool {
    let mut readable = true;
    let request = Request::of(intake);
    let began = Instant::now();
    let absent = match absent(connection, request.places().map(|(place, _)| place)).await {
        Ok(absent) => absent,
        Err(error) => {
            steps.end("base", began, bad(&error));
            return false;
        }
    };
    let mut told: BTreeSet<DnKey> = BTreeSet::new();
    for (place, purpose) in request.places().filter(|(place, _)| told.insert(place.key())) {
        let began = Instant::now();
        let is_base = purpose == PlacePurpose::People;
        let finding = match absent.iter().find(|(absent, _)| absent.key() == place.key()) {
            Some((_, absence)) => not_there(place, absence.clone()),
            None if is_base => inside(connection, place, intake).await,
            None => good(format!("{place} is there")),
        };
        readable &= !is_base || finding.outcome != StepOutcome::Bad;
        steps.end("base", began, finding);
    }
    readable
}

fn not_there(what: impl std::fmt::Display, Absence { why, remedy }: Absence) -> Finding {
    let (message, code) = (format!("{what}: {why}"), Some("WX0401".to_owned()));
    Finding { outcome: StepOutcome::Bad, message, remedy, code }
}

/// An entry that its own search did not return; a search that failed for another reason is told as such.
async fn missing(connection: &mut Connection, dn: &Dn, error: Option<&DirectoryError>) -> Finding {
    let result = match (error, error.map(DirectoryError::kind)) {
        (None, _) => LdapResult::new(0, ""),
        (_, Some(DirectoryErrorKind::Search { result, .. })) if result.code == ResultCode::NO_SUCH_OBJECT => {
            (**result).clone()
        }
        (Some(error), _) => return bad(error),
    };
    match absence(connection, dn, &result).await {
        Ok(absence) => not_there(name::short(&dn.to_string()), absence),
        Err(error) => bad(&error),
    }
}

/// Number of people and groups under a base.
async fn inside(connection: &mut Connection, base: &Dn, intake: &Intake) -> Finding {
    let groups = Filter::any(GROUP_CLASSES.map(|class| Filter::equal("objectClass", class)));
    let people = count_under(connection, base, &intake.filter).await;
    let groups = count_under(connection, base, &groups).await;
    match (people, groups) {
        (Ok(people), Ok(groups)) => {
            let message = format!(
                "{base}: {} matched by the filter, {}",
                people.entries,
                with_noun(groups.entries, "group", "groups")
            );
            if people.entries > 0 {
                return good(message);
            }
            warning(message, "people may be under another base: `webtaxon browse` shows where")
        }
        // The step for the filter reports what is wrong with the search.
        _ => good(format!("{base} exists")),
    }
}

async fn filter(
    connection: &mut Connection,
    intake: &Intake,
    schema: &Schema,
    steps: &mut Steps<'_>,
) -> Option<usize> {
    let began = Instant::now();
    let text = &intake.filter;
    let counted = match count(connection, intake).await {
        Ok(counted) => counted,
        Err(error) => {
            steps.end("filter", began, bad(&error));
            return None;
        }
    };
    let unknown: Vec<String> = text.attributes().filter_map(|name| unknown(name, schema)).collect();
    let finding = match counted {
        _ if !unknown.is_empty() => warning(
            format!(
                "{text} matches {} entries; the server does not know {}",
                counted.entries,
                unknown.join(", ")
            ),
            "a comparison with an unknown attribute matches nobody, without an error",
        ),
        Counted { entries, limit: Some(limit), .. } => warning(
            format!("{text} matches {}, and more: {limit}", with_noun(entries, "entry", "entries")),
            "the preview reads them in parts, which takes longer: ask for a higher limit for the bind account",
        ),
        Counted { entries: 0, .. } => warning(
            format!("{text} matches nobody"),
            "check the spelling of attributes and values, and whether people are under these bases",
        ),
        Counted { entries, references: 1.., .. } => warning(
            format!(
                "{text} matches {entries} entries, and {} referrals to other servers",
                counted.references
            ),
            "references = \"follow\" reads those servers; otherwise no account is suspended or removed",
        ),
        Counted { entries, .. } => advised(connection.root().kind, schema, text, entries),
    };
    steps.end("filter", began, finding);
    Some(counted.entries)
}

/// The result for a filter that matches somebody, with the most serious advice.
fn advised(kind: ServerKind, schema: &Schema, text: &Filter, entries: usize) -> Finding {
    let known = |_: &str| None; // unknown attributes were told already
    let schema = if schema.is_empty() { Schema::of(kind) } else { schema };
    let context = Context { kind, schema, unknown: &known, active_elsewhere: true, entries: Some(entries) };
    let message = format!("{text} matches {}", with_noun(entries, "entry", "entries"));
    match advise(text, context).into_iter().find(|advice| advice.weight != Weight::Note) {
        None => good(message),
        Some(advice) => {
            let remedy =
                format!("`webtaxon filter` explains it; `webtaxon code {}` prints the chapter", advice.code);
            warning(format!("{message}; {}: {}", advice.clause, advice.message), remedy)
        }
    }
}

/// An attribute that the server's schema lacks, with the closest known name.
fn unknown(attribute: &str, schema: &Schema) -> Option<String> {
    if schema.is_empty() || schema.find(attribute).is_some() {
        return None;
    }
    Some(match schema.nearest(attribute) {
        Some(near) => format!("{attribute} (did you mean {near}?)"),
        None => attribute.to_owned(),
    })
}

/// Each attribute in the settings: in the schema, readable, filled.
async fn attributes(connection: &mut Connection, intake: &Intake, schema: &Schema, steps: &mut Steps<'_>) {
    let began = Instant::now();
    let kind = connection.root().kind;
    let sample = match sample(connection, intake, kind).await {
        Ok(sample) => sample,
        Err(error) => return steps.end("attribute", began, bad(&error)),
    };
    for (field, rule) in intake.fields.iter().chain(intake.drawn_secrets()) {
        let began = Instant::now();
        let from = rule.from_attributes();
        if !from.is_empty() {
            steps.end("attribute", began, filled(field, &from, &sample, schema, rule.required));
        }
    }
    let asked: BTreeSet<&str> = intake.conditions().flat_map(Condition::attributes).collect();
    for attribute in asked {
        steps.end("attribute", Instant::now(), filled("a condition", &[attribute], &sample, schema, false));
    }
    let others: BTreeSet<String> = match (&intake.active, kind) {
        (Some(own), _) => own.attributes().map(str::to_owned).collect(),
        (None, ServerKind::Controller) => BTreeSet::from(["userAccountControl".to_owned()]),
        (None, _) => BTreeSet::new(),
    };
    for attribute in others {
        // Some people may be active only by an attribute that the others have.
        steps.end("attribute", Instant::now(), filled("active", &[&attribute], &sample, schema, false));
    }
    if let Some(active) = &intake.active {
        steps.end("active", Instant::now(), counted_active(active, &sample, kind));
    }
    let began = Instant::now();
    let finding = identity(connection, intake, &sample).await.unwrap_or_else(|error| bad(&error));
    steps.end("identity", began, finding);
}

/// The lasting identity: whether people show one, each their own, and whether a search finds somebody by it.
async fn identity(
    connection: &mut Connection,
    intake: &Intake,
    sample: &Entries,
) -> Result<Finding, DirectoryError> {
    let attribute = intake.identity.as_deref().or_else(|| identity::usual(sample));
    let lasting = attribute.map(|attribute| Lasting::new(attribute, sample.names()));
    let of = |entry: Entry<'_>| Some((lasting.as_ref()?.of(entry)?, entry.dn().to_owned()));
    let shown: Vec<(Identity, String)> = sample.iter().filter_map(of).collect();
    let (Some(attribute), Some((first, dn))) = (attribute, shown.first()) else {
        let which = attribute.map_or_else(|| LASTING.join(", "), str::to_owned);
        let message = format!("nobody shows {which}, by which accounts are linked");
        return Ok(Finding { outcome: StepOutcome::Bad, ..warning(message, NO_IDENTITY) });
    };
    let people = sample.len();
    let unusable =
        |message: String, remedy: &str| Ok(Finding { outcome: StepOutcome::Bad, ..warning(message, remedy) });
    let several = sample.iter().filter(|entry| entry.values(attribute).count() > 1).count();
    if several > 0 {
        return unusable(format!("{several} of {people} have several values of {attribute}"), OTHER_IDENTITY);
    }
    let different: BTreeSet<&Identity> = shown.iter().map(|(identity, _)| identity).collect();
    if different.len() < shown.len() {
        let alike = shown.len() - different.len();
        return unusable(
            format!("{alike} of {people} have a value of {attribute} that somebody else has, too"),
            OTHER_IDENTITY,
        );
    }
    let key = Dn::parse(dn).map(|dn| dn.key()).ok();
    let is_above = |base: &&Dn| key.as_ref().is_some_and(|key| key.is_within(&base.key()));
    if let Some((base, filter)) = intake.bases.iter().find(is_above).zip(first.filter(attribute)) {
        let (found, _) = connection.entries(Query::subtree(&base.to_string(), filter, &["1.1"])).await?;
        if found.is_empty() {
            return unusable(
                format!("a search by {attribute} does not find {dn}, which has it"),
                "the server cannot search by it, so nobody can be known to be gone: choose another attribute with `identity`",
            );
        }
    }
    let message = format!("{attribute}: {} of {people} have it, and a search finds it", shown.len());
    Ok(match shown.len() {
        shown if shown < people => warning(message, NO_IDENTITY),
        _ => good(message),
    })
}

const NO_IDENTITY: &str = "people without it get no account: ask for read access to it, or choose another attribute with `identity`";
const OTHER_IDENTITY: &str = "choose an attribute with `identity` that each person has once, and nobody else";

/// The number of people in the sample for whom the `active` filter is true: others lose their accounts, so a filter
/// that is never true must be reported before a preview.
fn counted_active(active: &Filter, sample: &Entries, kind: ServerKind) -> Finding {
    let matcher = Matcher::new(active, Schema::of(kind), sample.names());
    let count = |truth: Truth| sample.iter().filter(|entry| matcher.truth(*entry) == truth).count();
    let (of, is, unknown) = (sample.len(), count(Truth::True), count(Truth::Undefined));
    let message = format!("{active} is true for {is} of {of}");
    if unknown > 0 {
        let remedy = "`webtaxon filter` explains why; people for whom it is undefined count as inactive";
        return warning(format!("{message}, and undefined for {unknown}"), remedy);
    }
    match is {
        0 => warning(message, "nobody would be active: try the filter with `webtaxon filter`"),
        _ => good(message),
    }
}

async fn sample(
    connection: &mut Connection,
    intake: &Intake,
    kind: ServerKind,
) -> Result<Entries, DirectoryError> {
    let secrets = intake.drawn_secrets().flat_map(|(_, rule)| rule.from_attributes());
    let wanted = Request::of(intake).with(secrets).attributes(kind);
    let wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
    let mut sample = Entries::new();
    for base in &intake.bases {
        let take = |entry: Entry<'_>| {
            sample.push(entry.dn(), entry.attributes());
            if sample.len() < SAMPLE { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
        };
        connection.each(Query::subtree(&base.to_string(), intake.filter.clone(), &wanted), take).await?;
    }
    Ok(sample)
}

/// The number of people in the sample who have an attribute of a field.
fn filled(field: &str, from: &[&str], sample: &Entries, schema: &Schema, required: bool) -> Finding {
    let has = |attribute: &str| {
        let filled = |value: &[u8]| !value.iter().all(u8::is_ascii_whitespace);
        sample.iter().filter(|entry| entry.values(attribute).any(filled)).count()
    };
    let of = sample.len();
    let counts: Vec<String> =
        from.iter().map(|attribute| format!("{attribute}: {} of {of} have it", has(attribute))).collect();
    let message = format!("{field} from {}", counts.join("; "));
    let unknown: Vec<String> = from.iter().filter_map(|attribute| unknown(attribute, schema)).collect();
    let any = sample
        .iter()
        .filter(|entry| from.iter().any(|attribute| entry.values(attribute).next().is_some()))
        .count();
    if !unknown.is_empty() {
        return warning(
            format!("{message}; the server does not know {}", unknown.join(", ")),
            "correct the attribute's name; `webtaxon fields` lists those that people have",
        );
    }
    match any {
        0 => warning(
            message,
            "nobody has it, or the bind account may not read it: `webtaxon fields` lists what people have",
        ),
        _ if required && any < of => warning(
            format!("{message}; it is required"),
            format!(
                "have it filled in the directory, or remove `required`: until then {} of these people are left out",
                of - any
            ),
        ),
        _ => good(message),
    }
}

async fn groups(connection: &mut Connection, intake: &Intake, steps: &mut Steps<'_>) {
    let named = intake.groups.iter().map(|dn| ("groups", dn));
    let excluded = intake.not_in_group.iter().map(|dn| ("not_in_group", dn));
    let others = excluded.chain(intake.deciding_groups().into_iter().map(|dn| ("in_group", dn)));
    for (key, group) in named.chain(others) {
        let began = Instant::now();
        let shown = name::short(&group.to_string());
        if let Some(own) = intake.member_attribute.as_ref().filter(|own| own.is_on_people()) {
            let finding = claimed(connection, intake, own, (key, group)).await;
            steps.end("group", began, finding);
            continue;
        }
        let own = intake.member_attribute.as_ref().map(|own| own.name.as_str());
        let lists: Vec<&str> =
            ["member", "uniqueMember", "memberUid", "memberURL"].into_iter().chain(own).collect();
        let wanted: Vec<&str> = lists.iter().copied().chain(["objectClass"]).collect();
        let finding = match connection.entries(Query::base(&group.to_string(), &wanted)).await {
            Err(error) => missing(connection, group, Some(&error)).await,
            Ok((entries, _)) => match entries.get(0) {
                None => missing(connection, group, None).await,
                Some(entry) => members(entry, &format!("{shown} ({key})"), key),
            },
        };
        steps.end("group", began, finding);
    }
}

/// The number of direct members that a group's entry shows.
fn members(entry: Entry<'_>, group: &str, key: &str) -> Finding {
    let mut classes = entry.values("objectClass").peekable();
    if classes.peek().is_none() {
        let absence = Absence { why: Shortcoming::KindHidden, remedy: UNREADABLE.to_owned() };
        return not_there(group, absence);
    }
    let is_unit = |class: &[u8]| UNIT_CLASSES.iter().any(|unit| unit.as_bytes().eq_ignore_ascii_case(class));
    let is_container = classes.any(is_unit);
    let others = ["objectClass", "memberURL"];
    let is_list = |name: &str| !others.iter().any(|other| name.eq_ignore_ascii_case(other));
    let lists = || entry.attributes().filter(|(name, _)| is_list(name));
    let direct: usize = lists().map(|(_, values)| values.count()).sum();
    let more = lists().any(|(name, _)| name.to_ascii_lowercase().contains(";range=") && !name.ends_with('*'));
    let noun = if direct == 1 { "member" } else { "members" };
    match (direct, more) {
        (0, _) if is_container => good(format!("{group} is a container: everybody below it is in it")),
        (0, _) if entry.values("memberURL").next().is_some() => {
            good(format!("{group} finds its members by a search (memberURL)"))
        }
        (0, _) => warning(
            format!("{group} lists no members"),
            format!(
                "it selects nobody, unless it is a primary group; `{key}` may name the wrong group, or the bind account may not see members"
            ),
        ),
        (_, true) => good(format!("{group} has more than {direct} direct members")),
        (_, false) => good(format!("{group} has {direct} direct {noun}")),
    }
}

/// How many people say that they are in a group, by an attribute of theirs.
async fn claimed(
    connection: &mut Connection,
    intake: &Intake,
    own: &MemberAttribute,
    (key, group): (&str, &Dn),
) -> Finding {
    let shown = name::short(&group.to_string());
    let value = match own.kind {
        MemberAttributeKind::CommonNamesOfGroups => group.first().map(Rdn::text).unwrap_or_default(),
        _ => group.to_string(),
    };
    let (mut people, mut failed) = (0_usize, None);
    for base in &intake.bases {
        let filter = Filter::all([intake.filter.clone(), Filter::equal(&own.name, value.as_bytes())]);
        let count = |_: Entry<'_>| {
            people += 1;
            ControlFlow::Continue(())
        };
        let ended = connection.each(Query::subtree(&base.to_string(), filter, &["1.1"]), count).await;
        failed = failed.or(ended.map_or_else(|error| Some(error.to_string()), |short| short.limit));
    }
    match (people, failed) {
        (_, Some(why)) => warning(
            format!("it is not known who is in {shown} ({key})"),
            format!("a search for people by {} ended early: {why}", own.name),
        ),
        (0, None) => warning(
            format!("nobody says to be directly in {shown} ({key})"),
            format!(
                "check its spelling, and the right to search by {}; nested groups may still have members",
                own.name
            ),
        ),
        (1, None) => good(format!("1 person says to be directly in {shown} ({key})")),
        (many, None) => good(format!("{many} people say to be directly in {shown} ({key})")),
    }
}
