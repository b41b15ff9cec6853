//! What is there, as text: trees, entries, findings, attributes.

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

/// Values of one attribute that are shown; JSON has them all.
const VALUES: usize = 10;

/// Where people and groups sit, and everything that one entry has.
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
    heading(&mut text, "Where people and groups sit: each line counts everything below it");
    let _ = writeln!(text, "{:>8}  {:>8}  {:>8}  name", "people", "groups", "others");
    let containers = || trees.iter().flat_map(|tree| &tree.containers);
    // What holds neither people nor groups is seldom what somebody looks for.
    let is_shown = |one: &&Container| entry.is_some() || one.depth == 0 || one.people + one.groups > 0;
    for container in containers().filter(is_shown) {
        let number = |count: usize| if count == 0 { String::new() } else { count.to_string() };
        let [people, groups, others] = [container.people, container.groups, container.others].map(number);
        let indent = "  ".repeat(container.depth);
        // Never wrapped: the name is there to be copied.
        let _ = writeln!(text, "{people:>8}  {groups:>8}  {others:>8}  {indent}{}", harmless(&container.dn));
    }
    let hidden = containers().count() - containers().filter(is_shown).count();
    if hidden > 0 {
        let _ = writeln!(
            text,
            "and {} with neither people nor groups",
            counted(hidden, "container", "containers")
        );
    }
    for tree in trees {
        for url in &tree.references {
            let _ = writeln!(text, "Kept by another server: {}", harmless(url));
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

/// Everything that an entry has.
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

/// A value as a person reads it; a name in full, since it is there to be copied.
fn value_of(name: &str, value: &[u8]) -> String {
    let whole = std::str::from_utf8(value)
        .ok()
        .filter(|text| webtaxon::model::ldap::name::Dn::parse(text).is_ok() && text.contains('='));
    harmless(&whole.map_or_else(|| readable(name, value), str::to_owned))
}

/// People and groups that were found.
pub(crate) fn found(list: &[Finding], more: bool, wanted: &str, option: &str) -> String {
    let mut text = String::new();
    if list.is_empty() {
        let _ = writeln!(
            text,
            "Nobody and no group has \"{}\" in a name, a login or a mail address.",
            harmless(wanted)
        );
        let _ = writeln!(
            text,
            "Next: try a shorter piece; the bind account may also not be allowed to see them."
        );
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
        let _ = writeln!(text, "\nThere are more: type more of the name.");
    }
    let _ = writeln!(text, "\nNext: webtaxon browse{option} \"NAME\" shows everything that one of them has.");
    text
}

/// Which attributes people have.
pub(crate) fn fields(survey: &Survey, width: usize) -> String {
    let mut text = String::new();
    let people = counted(survey.people, "person", "people");
    heading(&mut text, &format!("What {people} have, found by the intake's filter under its bases"));
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
        let _ = writeln!(text, "Not everybody was looked at: {}", harmless(short));
    }
    let suggestions: Vec<(&str, &FieldFacts)> = survey.suggestions().collect();
    if !suggestions.is_empty() {
        heading(&mut text, "Good for");
        let mut table = columns(width, &[Some(10), None]);
        for (what, facts) in suggestions {
            let unique = if facts.unique { ", each has their own" } else { ", several share one" };
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

/// How many different values there are; unique where no two people share one.
fn different(facts: &FieldFacts) -> String {
    let unique = if facts.unique && facts.filled > 1 { " unique" } else { "" };
    format!("{:>8}{unique}", facts.different)
}

/// Whether somebody has several values, or may have.
fn values(facts: &FieldFacts) -> &'static str {
    match (facts.most_values, facts.single) {
        (2.., _) => "several",
        (_, Some(false)) => "one so far",
        _ => "one",
    }
}

/// What a snapshot holds, and what to do with it.
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
                "People's values are made up, but for those that the filters compare with: {}.\nRead the file before you give it away: places in the tree and names of groups are as they were.",
                harmless(&kept.join(", "))
            );
        }
        None => {
            let _ = writeln!(
                text,
                "It holds people's data as the directory has it: keep it like the directory; --mask makes it up."
            );
        }
    }
    let _ = writeln!(text, "Next: webtaxon preview{option} --from {file}");
    text
}
