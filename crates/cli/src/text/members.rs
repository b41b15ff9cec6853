//! Text for `members`: the members, the tree of groups, and what is broken.

use super::parts::heading;
use crate::output::{Tone, harmless, paint};
use std::fmt::Write as _;
use unicode_width::UnicodeWidthStr as _;
use webtaxon::model::graph::Above;
use webtaxon::model::ldap::name::short;
use webtaxon::model::membership::{Branch, Broken, ForeignMember, Member, Nest, Place, Stray, Way, Ways};
use webtaxon::model::reading::Reading;
use webtaxon::model::settings::Intake;
use webtaxon::model::words::counted;

/// Maximum levels of indentation in a tree.
const MOST_INDENT: usize = 20;

/// All members, by path.
pub(crate) fn members(
    nest: &Nest<'_>,
    reading: &Reading,
    intake: &Intake,
    width: usize,
    same: &str,
) -> String {
    let people = nest.people();
    let mut text = head(nest.group(), reading);
    let direct = people.iter().filter(|member| member.path.len() == 1).count();
    let unlisted = people.iter().filter(|member| member.unlisted).count();
    let groups = counted(nest.inner_groups(), "nested group", "nested groups");
    let _ = writeln!(
        text,
        "{}: {direct} directly, {} through {groups}.",
        counted(people.len(), "person is a member", "people are members"),
        people.len() - direct
    );
    if unlisted > 0 {
        let _ = writeln!(
            text,
            "{} by primary group or login, in no member list (marked *).",
            counted(unlisted, "is a member", "are members")
        );
    }
    let is_same = |one: &Member, other: &Member| one.path == other.path;
    for of_a_path in people.chunk_by(is_same) {
        let Some(first) = of_a_path.first() else { continue };
        let path = first.path.told(|dn| harmless(&short(dn)));
        let title = if path.len() == 1 { "Directly".to_owned() } else { path.join(" > ") };
        heading(&mut text, &format!("{title} ({})", of_a_path.len()));
        names(&mut text, of_a_path, width);
    }
    let broken = nest.broken();
    if let Some(summary) = summary(&broken) {
        let _ = writeln!(text, "\n{}", paint(Tone::Warning, &summary));
    }
    if people.is_empty() && !broken.outside.is_empty() {
        let _ = writeln!(
            text,
            "Its members are not among the people of the intake {}, which reads those under {} by {}\nTo do: use another intake (--intake NAME), or give this one another base or filter.",
            harmless(&intake.name),
            harmless(&intake.bases.iter().map(ToString::to_string).collect::<Vec<_>>().join(" and ")),
            harmless(&intake.filter.to_string())
        );
    }
    let _ = writeln!(
        text,
        "\nNext: webtaxon members{same} --tree shows the nested groups, --broken what is wrong with them, --as svg draws them."
    );
    text
}

/// Names side by side, as many as fit.
fn names(text: &mut String, people: &[Member], width: usize) {
    let mut line = String::from("  ");
    for (at, member) in people.iter().enumerate() {
        let mark = if member.unlisted { "*" } else { "" };
        // A name can contain a comma.
        let end = if at + 1 == people.len() { "" } else { "; " };
        let next = format!("{}{mark}{end}", harmless(&member.name));
        if line.width() + next.width() > width && line.trim() != "" {
            let _ = writeln!(text, "{}", line.trim_end());
            line = String::from("  ");
        }
        line.push_str(&next);
    }
    let _ = writeln!(text, "{}", line.trim_end());
}

/// All groups of one person, each with its path.
pub(crate) fn groups(person: &str, groups: &[Above], reading: &Reading) -> String {
    let mut text = head(person, reading);
    let direct = groups.iter().filter(|group| group.path.len() == 1).count();
    let _ = writeln!(
        text,
        "In {}: {direct} directly, {} through nested groups.",
        counted(groups.len(), "group", "groups"),
        groups.len() - direct
    );
    for (title, is_direct) in [("Directly", true), ("Through other groups", false)] {
        let of: Vec<&Above> = groups.iter().filter(|group| (group.path.len() == 1) == is_direct).collect();
        if of.is_empty() {
            continue;
        }
        heading(&mut text, &format!("{title} ({})", of.len()));
        for Above { dn, path, unlisted } in of {
            let how = match (is_direct, unlisted) {
                (true, true) => ", by primary group or login: in no member list".to_owned(),
                (true, false) => String::new(),
                (false, _) => {
                    let path = path.told(|dn| harmless(&short(dn)));
                    format!(", through {}", path.get(1..).unwrap_or_default().join(" > "))
                }
            };
            let _ = writeln!(text, "  {}{how}", harmless(&short(dn)));
        }
    }
    text
}

/// Every path from a group to a person.
pub(crate) fn ways(group: &str, person: &str, ways: &Ways, reading: &Reading) -> String {
    let mut text = head(person, reading);
    let name = harmless(&short(group));
    if ways.ways.is_empty() {
        let _ = writeln!(text, "Not in {name}, neither directly nor through nested groups.");
        return text;
    }
    let more = if ways.all { "" } else { " or more; the shortest are" };
    let _ = writeln!(text, "In {name}, by {}{more}:\n", counted(ways.ways.len(), "way", "ways"));
    for Way { path, unlisted } in &ways.ways {
        let path = path.told(|dn| harmless(&short(dn)));
        let inner = path.get(1..).unwrap_or_default();
        let how =
            if inner.is_empty() { "directly".to_owned() } else { format!("through {}", inner.join(" > ")) };
        let note = if *unlisted { ", by primary group or login: in no member list" } else { "" };
        let _ = writeln!(text, "  {how}{note}");
    }
    text
}

fn head(what: &str, reading: &Reading) -> String {
    let mut text = format!("{}\n", paint(Tone::Heading, &harmless(what)));
    if reading.gaps().is_empty() {
        let _ = writeln!(text, "Read to its end, at {}.", harmless(&reading.source().server));
    } else {
        let _ = writeln!(
            text,
            "{}",
            paint(Tone::Bad, "Not read to its end: there may be more. What is missing:")
        );
        for gap in reading.gaps() {
            let _ = writeln!(text, "  {}: {}", harmless(&gap.part), harmless(&gap.reason));
        }
    }
    text
}

/// What is broken, on one line; `None` if nothing is.
fn summary(broken: &Broken) -> Option<String> {
    let parts = [
        (broken.cycles.len(), "cycle of groups", "cycles of groups"),
        (broken.empty.len(), "empty group", "empty groups"),
        (broken.gone.len(), "deleted member", "deleted members"),
        (broken.outside.len(), "member from outside", "members from outside"),
        (broken.foreign.len(), "member of another domain", "members of other domains"),
    ];
    let parts: Vec<String> = parts
        .into_iter()
        .filter(|(count, ..)| *count > 0)
        .map(|(count, one, many)| counted(count, one, many))
        .collect();
    (!parts.is_empty()).then(|| format!("In the nest: {}.", parts.join(", ")))
}

/// The groups as a tree.
pub(crate) fn nest_tree(nest: &Nest<'_>, reading: &Reading) -> String {
    let mut text = head(nest.group(), reading);
    text.push_str("People in each group: direct members, and all members\n\n");
    let _ = writeln!(text, "   direct       all  group");
    for Branch { dn, depth, direct, people, place } in nest.tree() {
        let note = match place {
            Place::Cycle => ": a cycle, it is one of the groups above",
            Place::Again => ": shown above",
            Place::Here if people == 0 => ": it has no members",
            Place::Here => "",
        };
        // Deeper levels show their depth as a number.
        let indent = match depth {
            ..=MOST_INDENT => "  ".repeat(depth),
            _ => format!("{}({depth} deep) ", "  ".repeat(MOST_INDENT)),
        };
        let _ = writeln!(text, "  {direct:>7}  {people:>8}  {indent}{}{note}", harmless(&short(&dn)));
    }
    text
}

/// What is broken or surprising.
pub(crate) fn nest_broken(nest: &Nest<'_>, reading: &Reading, intake: &Intake) -> String {
    let mut text = head(nest.group(), reading);
    let broken = nest.broken();
    let title = |count: usize, what: &str, meaning: &str| format!("{what} ({count}): {meaning}");
    if !broken.cycles.is_empty() {
        heading(
            &mut text,
            &title(broken.cycles.len(), "Cycles", "groups that contain one another; that does no harm here"),
        );
        for cycle in &broken.cycles {
            let names: Vec<String> = cycle.iter().map(|dn| harmless(&short(dn))).collect();
            let _ = writeln!(text, "  {}", names.join(", "));
        }
    }
    if !broken.empty.is_empty() {
        heading(&mut text, &title(broken.empty.len(), "Empty groups", "they have no members"));
        for dn in &broken.empty {
            let _ = writeln!(text, "  {}", harmless(dn));
        }
    }
    let mut strays = |list: &[Stray], what: &str, meaning: &str| {
        if list.is_empty() {
            return;
        }
        heading(&mut text, &title(list.len(), what, meaning));
        for Stray { dn, group } in list {
            let _ = writeln!(text, "  {}\n      in {}", harmless(dn), harmless(&short(group)));
        }
    };
    strays(&broken.gone, "Gone", "listed as members, but the entries no longer exist");
    strays(
        &broken.outside,
        "From outside",
        &format!("listed as members, but not among the people of the intake {}", harmless(&intake.name)),
    );
    let foreign = |one: &ForeignMember| {
        let called = one.called.unwrap_or(if one.unlisted { "not known here" } else { "another domain" });
        Stray { dn: format!("{called}: {}", one.sid), group: one.group.clone() }
    };
    let foreign: Vec<Stray> = broken.foreign.iter().map(foreign).collect();
    strays(
        &foreign,
        "Not of this domain",
        "they stand for others: accounts of another domain, or all authenticated users",
    );
    strays(&broken.unlisted, "In no list", "people who are members by primary group or login only");
    if broken.is_empty() {
        text.push_str("\nNothing is broken.\n");
    }
    text
}
