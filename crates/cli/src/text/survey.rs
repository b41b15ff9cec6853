//! Text for `browse`, `fields` and `snapshot`: trees, entries, findings, attributes.

use super::parts::{columns, heading, lines};
use crate::output::{Tone, harmless, paint};
use std::fmt::Write as _;
use std::path::Path;
use webtaxon::model::ldap::entry::Entry;
use webtaxon::model::ldap::value::readable;
use webtaxon::model::reading::snapshot::Snapshot;
use webtaxon::model::words::counted;
use webtaxon::report::words::short;
use webtaxon::survey::{Container, EntryKind, FieldFacts, Finding, Survey, Tree};

/// Maximum values of an attribute shown; JSON has all.
const VALUES: usize = 10;

/// Where people and groups are, and one entry in full.
pub(crate) fn trees(trees: &[Tree], entry: Option<Entry<'_>>, width: usize, option: &str) -> String {
    let mut text = String::new();
    if let Some(entry) = entry {
        one(&mut text, entry, width);
    }
    let is_leaf = |tree: &Tree| {
        tree.containers.len() <= 1
            && tree.containers.iter().all(|top| top.people + top.groups + top.others == 0)
    };
    if entry.is_some() && trees.iter().all(is_leaf) {
        return text;
    }
    heading(&mut text, "Where people and groups are: each line counts everything below it");
    let _ = writeln!(text, "{:>8}  {:>8}  {:>8}  name", "people", "groups", "others");
    let containers = || trees.iter().flat_map(|tree| &tree.containers);
    // Branches without people and groups are seldom of interest.
    let is_shown = |one: &&Container| entry.is_some() || one.depth == 0 || one.people + one.groups > 0;
    for container in containers().filter(is_shown) {
        let number = |count: usize| if count == 0 { String::new() } else { count.to_string() };
        let [people, groups, others] = [container.people, container.groups, container.others].map(number);
        let indent = "  ".repeat(container.depth);
        // Never wrapped, so that the name can be copied.
        let _ = writeln!(text, "{people:>8}  {groups:>8}  {others:>8}  {indent}{}", harmless(&container.dn));
    }
    let hidden = containers().count() - containers().filter(is_shown).count();
    if hidden > 0 {
        let _ = writeln!(text, "and {} without people or groups", counted(hidden, "container", "containers"));
    }
    for tree in trees {
        for url in &tree.references {
            let _ = writeln!(text, "Held by another server: {}", harmless(url));
        }
        if let Some(short) = &tree.short {
            let _ = writeln!(text, "Not all of it: {}", harmless(short));
        }
    }
    let _ = writeln!(
        text,
        "\nNext: webtaxon browse{option} \"NAME\" shows one of them; --find TEXT looks for people and groups."
    );
    text
}

/// One entry in full.
fn one(text: &mut String, entry: Entry<'_>, width: usize) {
    heading(text, &harmless(entry.dn()));
    let mut table = columns(width, &[Some(28), None]);
    let mut attributes: Vec<(&str, Vec<&[u8]>)> =
        entry.attributes().map(|(name, values)| (name, values.collect())).collect();
    attributes.sort_by_key(|(name, _)| (*name != "objectClass", name.to_ascii_lowercase()));
    for (name, values) in attributes {
        let secret = ["userpassword", "unicodepwd"].contains(&name.to_ascii_lowercase().as_str());
        let mut shown: Vec<String> = match secret {
            true => vec!["(not shown)".to_owned()],
            false => values.iter().take(VALUES).map(|value| value_of(name, value)).collect(),
        };
        if values.len() > VALUES && !secret {
            shown.push(format!("and {} more (--format json lists them all)", values.len() - VALUES));
        }
        table.add_row([harmless(name), shown.join("\n")]);
    }
    text.push_str(&lines(&table));
}

/// A value in readable form; a name in full, so that it can be copied.
fn value_of(name: &str, value: &[u8]) -> String {
    let whole = std::str::from_utf8(value)
        .ok()
        .filter(|text| webtaxon::model::ldap::name::Dn::parse(text).is_ok() && text.contains('='));
    harmless(&whole.map_or_else(|| readable(name, value), str::to_owned))
}

/// The people and groups found.
pub(crate) fn found(list: &[Finding], more: bool, wanted: &str, option: &str) -> String {
    let mut text = String::new();
    if list.is_empty() {
        let _ = writeln!(
            text,
            "No person or group has \"{}\" in a name, login or mail address.",
            harmless(wanted)
        );
        let _ =
            writeln!(text, "Next: try a shorter part; or the bind account may not be allowed to see them.");
        return text;
    }
    for (kind, title) in [(EntryKind::Person, "People"), (EntryKind::Group, "Groups")] {
        let of: Vec<&Finding> = list.iter().filter(|one| one.kind == kind).collect();
        if of.is_empty() {
            continue;
        }
        heading(&mut text, &format!("{title} ({})", of.len()));
        for one in of {
            let login = one.login.as_ref().filter(|login| **login != one.name);
            let login = login.map(|login| format!(" ({})", harmless(login))).unwrap_or_default();
            let mail = one.mail.as_deref().map(|mail| format!(", {}", harmless(mail))).unwrap_or_default();
            let _ = writeln!(text, "  {}{login}{mail}\n      {}", harmless(&one.name), harmless(&one.dn));
        }
    }
    if more {
        let _ = writeln!(text, "\nThere are more: give more of the name.");
    }
    let _ = writeln!(text, "\nNext: webtaxon browse{option} \"NAME\" shows one of them in full.");
    text
}

/// The attributes of people.
pub(crate) fn fields(survey: &Survey, width: usize) -> String {
    let mut text = String::new();
    let people = counted(survey.people, "person", "people");
    heading(&mut text, &format!("Attributes of {people}, matched by the intake's filter under its bases"));
    let longest = survey.fields.iter().map(|facts| facts.attribute.len()).max().unwrap_or(0);
    let wide = u16::try_from(longest.min(width / 3)).unwrap_or(30).max(10);
    let mut table = columns(width, &[Some(wide), Some(7), Some(15), Some(10), None]);
    table.add_row(["attribute", "have it", "different", "values", "for example"].map(str::to_owned));
    for facts in &survey.fields {
        table.add_row([
            harmless(&facts.attribute),
            format!("{:>7}", facts.filled),
            different(facts),
            values(facts).to_owned(),
            facts.example.as_deref().map(harmless).unwrap_or_default(),
        ]);
    }
    text.push_str(&lines(&table));
    if let Some(short) = &survey.short {
        let _ = writeln!(text, "Not everybody was examined: {}", harmless(short));
    }
    let suggestions: Vec<(&str, &FieldFacts)> = survey.suggestions().collect();
    if !suggestions.is_empty() {
        heading(&mut text, "Good for");
        let mut table = columns(width, &[Some(10), None]);
        for (what, facts) in suggestions {
            let unique = if facts.unique { ", all different" } else { ", some shared" };
            let message = format!(
                "{} ({} of {} have it{unique})",
                short(&facts.attribute),
                facts.filled,
                survey.people
            );
            table.add_row([what.to_owned(), message]);
        }
        text.push_str(&lines(&table));
    }
    text
}

/// The number of different values; unique if no two people share one.
fn different(facts: &FieldFacts) -> String {
    let unique = if facts.unique && facts.filled > 1 { " unique" } else { "" };
    format!("{:>8}{unique}", facts.different)
}

/// Whether people have, or may have, several values.
fn values(facts: &FieldFacts) -> &'static str {
    match (facts.most_values, facts.single) {
        (2.., _) => "several",
        (_, Some(false)) => "one so far",
        _ => "one",
    }
}

/// The contents of a snapshot, and how to use it.
pub(crate) fn snapshot(snapshot: &Snapshot, file: &Path, option: &str) -> String {
    let mut text = String::new();
    let file = file.display();
    let header = &snapshot.header;
    let words = if header.whole {
        paint(Tone::Good, "Read to its end:")
    } else {
        paint(Tone::Bad, "Not read to its end:")
    };
    let _ = writeln!(text, "{words} {} in {file}.", counted(snapshot.entries.len(), "entry", "entries"));
    for gap in &header.gaps {
        let _ = writeln!(text, "  {}", harmless(gap));
    }
    match &header.unmasked {
        Some(kept) => {
            let _ = writeln!(
                text,
                "People's values are invented, except those that filters test: {}.\nRead the file before you pass it on: places in the tree and names of groups are real.",
                harmless(&kept.join(", "))
            );
        }
        None => {
            let _ = writeln!(
                text,
                "It contains personal data from the directory, so protect it; --mask replaces them by invented ones."
            );
        }
    }
    let _ = writeln!(text, "Next: webtaxon preview{option} --from {file}");
    text
}
