//! Text for `compare`: the figures side by side, then the people.

use super::parts::{accounts_table, columns, heading, lines, one_field, some};
use crate::output::{Tone, harmless, paint};
use std::fmt::Write as _;
use std::path::Path;
use webtaxon::model::preview::compare::{Comparison, Moved};
use webtaxon::model::preview::{ChangeKind, GroupChange, Preview};
use webtaxon::model::words::counted;
use webtaxon::report::words::{self, short};

/// Maximum rows of each list, unless the user says another.
const MOST: usize = 40;

/// A comparison; `files` are the current settings and the others.
pub(crate) fn comparison(
    comparison: &Comparison,
    (width, limit): (usize, Option<usize>),
    files: (&Path, &Path),
    option: &str,
) -> String {
    let most = limit.unwrap_or(MOST);
    let name = |file: &Path| {
        let name = file
            .file_name()
            .map_or_else(|| file.display().to_string(), |name| name.to_string_lossy().into_owned());
        harmless(&name)
    };
    let (ours, theirs) = (name(files.0), name(files.1));
    let mut text = String::new();
    if comparison.is_whole() {
        let from = format!(
            "directory {} at {}",
            harmless(&comparison.now.intakes.first.directory),
            harmless(&comparison.now.intakes.first.server)
        );
        let _ = writeln!(text, "{} {from}, for both.", paint(Tone::Good, "Read to its end:"));
    } else {
        let words = "Not read to its end, so this is not the whole effect:";
        let _ = writeln!(text, "{}", paint(Tone::Bad, words));
        for (name, preview) in [(&ours, &comparison.now), (&theirs, &comparison.then)] {
            let gaps = preview.gaps.iter().map(|gap| harmless(&gap.to_string()));
            some(&mut text, width, &format!("By {name}:"), gaps);
        }
    }
    figures(&mut text, comparison, (&ours, &theirs), width);
    moved(
        &mut text,
        &format!("Selected only by {theirs}"),
        &format!("why {ours} leaves them out"),
        &comparison.come_in,
        (width, most),
    );
    moved(&mut text, &format!("No longer selected by {theirs}"), "why", &comparison.go_out, (width, most));
    differing(&mut text, comparison, (width, most));
    fates(&mut text, comparison, width);
    groups(&mut text, comparison, (width, most));
    brakes(&mut text, comparison, (&ours, &theirs));
    if comparison.is_same() {
        let _ = writeln!(text, "\nNothing would differ.");
    }
    let _ = writeln!(
        text,
        "\nNothing was changed.\nNext: webtaxon preview{option} shows the whole preview by {theirs}."
    );
    text
}

fn figures(text: &mut String, comparison: &Comparison, names: (&str, &str), width: usize) {
    heading(text, "In figures");
    let column = |name: &str| u16::try_from(name.chars().count().clamp(8, 24)).unwrap_or(24) + 1;
    let widths = [Some(column(names.0)), Some(column(names.1)), None];
    let mut table = columns(width, &widths);
    let right = |value: &str, at: usize| {
        let width = widths.get(at).copied().flatten().map_or(0, |width| usize::from(width) - 1);
        format!("{value:>width$}")
    };
    table.add_row([right(names.0, 0), right(names.1, 1), String::new()]);
    let (now, then) = (&comparison.now, &comparison.then);
    let mut row = |one: usize, other: usize, words: String| {
        table.add_row([right(&one.to_string(), 0), right(&other.to_string(), 1), words]);
    };
    row(comparison.people.0, comparison.people.1, "people selected".to_owned());
    row(now.accounts.after, then.accounts.after, "accounts in all, afterwards".to_owned());
    let seats = now.accounts.seats.map(|seats| format!(" (of {seats} seats)")).unwrap_or_default();
    row(now.accounts.active_after, then.accounts.active_after, format!("active, afterwards{seats}"));
    let count = |preview: &Preview, kind: ChangeKind| {
        preview.kinds.iter().find(|(one, _)| *one == kind).map_or(0, |(_, count)| *count)
    };
    for kind in ChangeKind::ALL {
        let (one, other) = (count(now, kind), count(then, kind));
        if one + other > 0 {
            row(one, other, format!("to {}", kind.name()).replace("to clash", "clashes"));
        }
    }
    text.push_str(&lines(&table));
}

fn moved(text: &mut String, title: &str, why: &str, list: &[Moved], (width, most): (usize, usize)) {
    if list.is_empty() {
        return;
    }
    heading(text, &format!("{title} ({}), and {why}", list.len()));
    let mut table = accounts_table(width);
    for one in list.iter().take(most) {
        table.add_row([harmless(&one.login), short(&one.dn), harmless(&one.why)]);
    }
    text.push_str(&lines(&table));
    rest(text, list.len(), most);
}

fn differing(text: &mut String, comparison: &Comparison, (width, most): (usize, usize)) {
    let list = &comparison.differ;
    if list.is_empty() {
        return;
    }
    heading(text, &format!("Accounts with other values ({})", list.len()));
    let mut table = accounts_table(width);
    for one in list.iter().take(most) {
        let fields: Vec<String> = one.fields.iter().map(|(name, field)| one_field(name, field)).collect();
        table.add_row([harmless(&one.login), short(&one.dn), fields.join("\n")]);
    }
    text.push_str(&lines(&table));
    rest(text, list.len(), most);
}

/// The number of accounts with different changes, by change, with the first few.
fn fates(text: &mut String, comparison: &Comparison, width: usize) {
    if comparison.fates.is_empty() {
        return;
    }
    let total = counted(comparison.fates.len(), "account", "accounts");
    heading(text, &format!("Different changes to {total}"));
    let mut table = columns(width, &[Some(24), Some(6), None]);
    let word = |kind: Option<ChangeKind>| kind.map_or("nothing", ChangeKind::name);
    for alike in comparison.fates.chunk_by(|one, other| (one.now, one.then) == (other.now, other.then)) {
        let Some(first) = alike.first() else { continue };
        let logins: Vec<String> = alike.iter().take(12).map(|one| harmless(&one.login)).collect();
        let more = if alike.len() > 12 { format!(" and {} more", alike.len() - 12) } else { String::new() };
        table.add_row([
            format!("{} → {}", word(first.now), word(first.then)),
            format!("{:>5}", alike.len()),
            format!("{}{more}", logins.join(", ")),
        ]);
    }
    text.push_str(&lines(&table));
}

/// The groups with different changes.
fn groups(text: &mut String, comparison: &Comparison, (width, most): (usize, usize)) {
    let list = &comparison.groups;
    if list.is_empty() {
        return;
    }
    heading(text, &format!("Different changes to {}", counted(list.len(), "group", "groups")));
    let mut table = columns(width, &[Some(28), None]);
    let word = |change: &Option<GroupChange>| match change {
        None => "nothing".to_owned(),
        Some(change) => format!("{} {}", change.kind.name(), words::group_counts(change)),
    };
    for one in list.iter().take(most) {
        table.add_row([harmless(&one.group), format!("{} → {}", word(&one.now), word(&one.then))]);
    }
    text.push_str(&lines(&table));
    rest(text, list.len(), most);
}

fn brakes(text: &mut String, comparison: &Comparison, names: (&str, &str)) {
    if !(comparison.now.brakes.is_empty() && comparison.then.brakes.is_empty()) {
        heading(text, "Brakes");
    }
    for (name, preview) in [(names.0, &comparison.now), (names.1, &comparison.then)] {
        for brake in &preview.brakes {
            let words = format!("{} by {name}: {}", brake.kind, brake.in_words());
            let _ = writeln!(text, "  {}", paint(Tone::Warning, &words));
        }
    }
}

fn rest(text: &mut String, count: usize, most: usize) {
    if count > most {
        let _ = writeln!(text, "  and {} more (--limit {count} lists them all)", count - most);
    }
}
