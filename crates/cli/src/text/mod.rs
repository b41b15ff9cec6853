//! Answers as text for people, in the order in which they ask.

mod apply;
mod compare;
mod filter;
mod groups;
mod members;
mod since;
mod survey;
mod why;

pub(crate) use apply::{
    applied, apply_preview, counts, forgotten, how_to_undo, run, runs, saved, statements, work,
};
pub(crate) use compare::comparison;
pub(crate) use filter::filter;
pub(crate) use members::{groups, members, nest_broken, nest_tree, ways};
pub(crate) use since::since;
pub(crate) use survey::{fields, found, snapshot, trees};
pub(crate) use why::why;

use crate::output::{Tone, harmless, paint};
use comfy_table::{ColumnConstraint, ContentArrangement, Table, Width, presets};
use std::fmt::Write as _;
use webtaxon::core::preview::{Change, ChangeKind, FieldChange, Held, HeldReason, Part, Preview};
use webtaxon::core::settings::Settings;
use webtaxon::directory::{CheckStep, Outcome};
use webtaxon::report::words::{self, counted, short};

/// One line of a check, and its remedy below it where there is one.
pub(crate) fn step(step: &CheckStep, width: usize) -> String {
    let (tone, word) = match step.outcome {
        Outcome::Good => (Tone::Good, "good"),
        Outcome::Warning => (Tone::Warning, "warning"),
        Outcome::Bad => (Tone::Bad, "bad"),
        Outcome::Skipped => (Tone::Quiet, "skipped"),
    };
    let time = if step.milliseconds > 0 { format!("{} ms", step.milliseconds) } else { String::new() };
    let remedy =
        if step.remedy.is_empty() { String::new() } else { format!("\nTo do: {}", harmless(&step.remedy)) };
    let mut table = columns(width, &[Some(8), Some(9), None, Some(8)]);
    let message = format!("{}{remedy}", harmless(&step.message));
    table.add_row([word.to_owned(), step.name.to_owned(), message, format!("{time:>8}")]);
    let text = lines(&table);
    // Only the word has a colour, so that the columns stay what they are.
    text.replacen(word, &paint(tone, word), 1)
}

/// How a check ended, and what to type next.
pub(crate) fn checked(steps: &[CheckStep], settings: &str) -> String {
    let count = |outcome| steps.iter().filter(|step| step.outcome == outcome).count();
    let (bad, warnings) = (count(Outcome::Bad), count(Outcome::Warning));
    let mut text = String::from("\n");
    if bad > 0 {
        let _ = writeln!(
            text,
            "{}",
            paint(Tone::Bad, &format!("{} not in order.", counted(bad, "step is", "steps are")))
        );
        let _ = writeln!(text, "Next: do what it says above, then type the same command again.");
    } else {
        let with = if warnings > 0 {
            format!(", with {}", counted(warnings, "warning", "warnings"))
        } else {
            String::new()
        };
        let _ = writeln!(text, "{}", paint(Tone::Good, &format!("Everything is in order{with}.")));
        let _ = writeln!(text, "Next: webtaxon preview{settings}");
    }
    text
}

/// A preview, from what was read to what to type next; at most `limit` changes of each kind are listed.
pub(crate) fn preview(
    preview: &Preview,
    settings: &Settings,
    width: usize,
    option: &str,
    limit: usize,
) -> String {
    let mut text = preview_only(preview, settings, width, limit);
    next(&mut text, preview, option);
    text
}

/// The same without what to type next.
fn preview_only(preview: &Preview, settings: &Settings, width: usize, limit: usize) -> String {
    let mut text = String::new();
    reading(&mut text, preview, width);
    funnel(&mut text, preview, settings, width);
    accounts(&mut text, preview, width);
    for kind in ChangeKind::ALL {
        changes(&mut text, preview, kind, width, limit);
    }
    held(&mut text, &preview.held, width);
    groups::preview(&mut text, preview, width, limit);
    brakes(&mut text, preview, width);
    text
}

fn heading(text: &mut String, words: &str) {
    let _ = writeln!(text, "\n{}", paint(Tone::Heading, words));
}

fn reading(text: &mut String, preview: &Preview, width: usize) {
    let whose = |part: &Part| match preview.further.is_empty() {
        true => String::new(),
        false => format!(" for {}", harmless(&part.intake)),
    };
    let from = |part: &Part| {
        format!("directory {} at {}{}", harmless(&part.directory), harmless(&part.server), whose(part))
    };
    if preview.is_whole() {
        for part in preview.parts() {
            let people = part.funnel.first().map_or(0, |step| step.left);
            let groups = counted(part.groups_read, "group", "groups");
            let words = paint(Tone::Good, "Read to its end:");
            let _ = writeln!(text, "{words} {}: {people} people found, {groups}.", from(part));
        }
        return notes(text, preview, width);
    }
    let all: Vec<String> = preview.parts().map(from).collect();
    let _ = writeln!(text, "{} {}.", paint(Tone::Bad, "Not read to its end:"), all.join("; "));
    let gaps = preview.gaps.iter().map(|gap| harmless(&gap.to_string()));
    some(text, width, "So nobody's account is removed or suspended. What is missing:", gaps);
    notes(text, preview, width);
}

fn notes(text: &mut String, preview: &Preview, width: usize) {
    let notes: Vec<String> =
        preview.parts().flat_map(|part| &part.notes).map(|note| harmless(note)).collect();
    some(text, width, "On the way:", notes.into_iter());
}

fn funnel(text: &mut String, preview: &Preview, settings: &Settings, width: usize) {
    for (part, intake) in preview.parts().zip(settings.intakes()) {
        heading(text, &format!("Who would be in (intake {}){}", harmless(&part.intake), so_far(preview)));
        let mut table = columns(width, &[Some(7), Some(8), None]);
        for step in &part.funnel {
            let lost = if step.lost > 0 { format!("−{}", step.lost) } else { String::new() };
            let words = words::funnel_step(step, intake);
            table.add_row([format!("{:>7}", step.left), format!("{lost:>8}"), words]);
        }
        text.push_str(&lines(&table));
    }
    if !preview.further.is_empty() {
        let of = |part: &Part| part.funnel.last().map_or(0, |step| step.left);
        let all: usize = preview.parts().map(of).sum();
        let _ = writeln!(text, "  {}, all intakes together.", counted(all, "person", "people"));
    }
    let incomplete =
        preview.incomplete.iter().map(|one| format!("{}: {}", short(&one.dn), harmless(&one.missing)));
    some(text, width, "Out for want of a value:", incomplete);
    let nobody = preview.nobody.iter().map(|name| harmless(name));
    some(text, width, "Named in only or except, and nobody who was found is called so:", nobody);
    let open = preview
        .open_fields
        .iter()
        .map(|one| format!("{}: {} {}", harmless(&one.login), harmless(&one.field), harmless(&one.why)));
    some(text, width, "Fields that are left as they are, since no good value was found:", open);
    let strangers =
        preview.strangers.iter().map(|one| format!("{}, listed in {}", harmless(&one.dn), short(&one.group)));
    some(
        text,
        width,
        "Members of the groups who were not found (outside the bases, not let in by the filter, or gone):",
        strangers,
    );
}

/// What belongs behind figures of a reading that is not whole.
fn so_far(preview: &Preview) -> &'static str {
    if preview.is_whole() { "" } else { ", as far as it was read" }
}

/// A few lines under a title, if there are any; the rest is left to JSON.
fn some(text: &mut String, width: usize, title: &str, list: impl ExactSizeIterator<Item = String>) {
    const MOST: usize = 8;
    let count = list.len();
    if count == 0 {
        return;
    }
    let mut table = columns(width, &[None]);
    table.add_row([title.to_owned()]);
    text.push_str(&lines(&table));
    let mut table = columns(width, &[Some(2), None]);
    for line in list.take(MOST) {
        table.add_row([String::new(), line]);
    }
    if count > MOST {
        table.add_row([String::new(), format!("and {} more (--format json lists them all)", count - MOST)]);
    }
    text.push_str(&lines(&table));
}

fn accounts(text: &mut String, preview: &Preview, width: usize) {
    let counts = &preview.accounts;
    heading(text, &format!("Accounts in the application{}", so_far(preview)));
    let mut table = columns(width, &[Some(7), Some(8), None]);
    table.add_row(["    now".to_owned(), "   after".to_owned(), String::new()]);
    table.add_row([
        format!("{:>7}", counts.now),
        format!("{:>8}", counts.after),
        "accounts in all".to_owned(),
    ]);
    let over = |seats: u64| u64::try_from(counts.active_after).unwrap_or(u64::MAX).saturating_sub(seats);
    let seats = counts.seats.map(|seats| match over(seats) {
        0 => format!(" (of {seats} seats)"),
        over => format!(" (of {seats} seats: {over} too many)"),
    });
    let in_use = format!("in use{}", seats.unwrap_or_default());
    table.add_row([format!("{:>7}", counts.active_now), format!("{:>8}", counts.active_after), in_use]);
    text.push_str(&lines(&table));
    let kinds: Vec<String> =
        preview.kinds.iter().map(|(kind, count)| format!("{count} {}", kind.name())).collect();
    let kinds = if kinds.is_empty() { "nothing to do".to_owned() } else { kinds.join(", ") };
    let unchanged =
        counted(preview.unchanged, "linked account stays as it is", "linked accounts stay as they are");
    let mut table = columns(width, &[None]);
    table.add_row([format!("{kinds}; {unchanged}.")]);
    text.push_str(&lines(&table));
}

fn changes(text: &mut String, preview: &Preview, kind: ChangeKind, width: usize, limit: usize) {
    let list: Vec<&Change> = preview.of(kind).collect();
    if list.is_empty() {
        return;
    }
    let (title, meaning) = words::kind(kind);
    heading(text, &format!("{title} ({}): {meaning}", list.len()));
    let mut table = accounts_table(width);
    let more = list.len().saturating_sub(limit);
    for change in list.into_iter().take(limit) {
        let person =
            change.dn.as_deref().map(short).or_else(|| name_in_application(change)).unwrap_or_default();
        table.add_row([harmless(&change.login), person, what(change)]);
    }
    text.push_str(&lines(&table));
    if more > 0 {
        let _ = writeln!(text, "  and {more} more");
    }
}

/// What the application calls a person whose entry is gone.
fn name_in_application(change: &Change) -> Option<String> {
    let name = change.fields.get("name")?.old.as_deref()?;
    Some(format!("({})", harmless(name)))
}

/// What happens to one account, and why.
fn what(change: &Change) -> String {
    if let Some(clash) = &change.clash {
        return format!("{}\nTo do: {}", harmless(&clash.message()), harmless(&change.remedy()));
    }
    if let Some(cause) = change.cause {
        let detail =
            change.detail.as_ref().map(|detail| format!(": {}", harmless(detail))).unwrap_or_default();
        let detail = if detail.is_empty() { format!(": {}", words::cause(cause)) } else { detail };
        let wait = change.wait.as_ref().map(|wait| format!("\n{}", words::wait(wait))).unwrap_or_default();
        return format!("{}{detail}{wait}", cause.name());
    }
    if change.kind == ChangeKind::Import {
        let path = change.path.told(short);
        let email = change.fields.get("email").and_then(|field| field.new.clone()).unwrap_or_default();
        let through =
            if path.is_empty() { harmless(&email) } else { format!("through {}", path.join(" > ")) };
        let roles = change.fields.get("roles").and_then(|field| field.new.as_deref()).unwrap_or_default();
        let roles = if roles.is_empty() {
            String::new()
        } else {
            format!("as {}, ", harmless(&roles.replace(';', " and ")))
        };
        let detail = change.detail.as_ref().map(|detail| format!("\n{}", harmless(detail)));
        return format!("{roles}{through}{}", detail.unwrap_or_default());
    }
    let fields = change.fields.iter().map(|(name, field)| one_field(name, field));
    fields.collect::<Vec<_>>().join("\n")
}

fn one_field(name: &str, field: &FieldChange) -> String {
    let shown = |value: &Option<String>| match value.as_deref() {
        None | Some("") => "(empty)".to_owned(),
        Some(value) => harmless(value),
    };
    format!("{}: {} → {}", harmless(name), shown(&field.old), shown(&field.new))
}

fn held(text: &mut String, held: &[Held], width: usize) {
    if held.is_empty() {
        return;
    }
    heading(text, &format!("Held back ({}): nothing is done", held.len()));
    let (unknown, known): (Vec<&Held>, Vec<&Held>) =
        held.iter().partition(|one| one.reason == HeldReason::NotWhole);
    let mut table = accounts_table(width);
    for one in known {
        let person = one.dn.as_deref().map(short).unwrap_or_default();
        let cause = one.cause.map(|cause| format!("{}; ", cause.name())).unwrap_or_default();
        let would = one.would.map(|kind| format!("would be: {}; ", kind.name())).unwrap_or_default();
        table.add_row([harmless(&one.login), person, format!("{cause}{would}{}", one.reason.message())]);
    }
    text.push_str(&lines(&table));
    let title = "Linked accounts of people who were not selected; since the reading is not whole, they stay:";
    some(text, width, title, unknown.iter().map(|one| harmless(&one.login)));
}

fn brakes(text: &mut String, preview: &Preview, width: usize) {
    let brakes = &preview.brakes;
    if brakes.is_empty() {
        return;
    }
    heading(text, &format!("Brakes ({}): limits that are passed", brakes.len()));
    let mut table = columns(width, &[Some(18), None]);
    for brake in brakes {
        let unseated: Vec<String> = preview.unseated.iter().take(12).map(|login| harmless(login)).collect();
        let more = preview.unseated.len().saturating_sub(unseated.len());
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let order = match (brake.name.as_ref(), unseated.is_empty()) {
            ("seats", false) => format!(
                "\nwithout a seat, if those who stay and the restored have theirs first: {}{more}",
                unseated.join(", ")
            ),
            _ => String::new(),
        };
        table.add_row([harmless(&brake.name), harmless(&words::brake(brake)) + &order]);
    }
    text.push_str(&lines(&table));
    let _ = writeln!(text, "An apply stops here, unless --release names each of them.");
}

fn next(text: &mut String, preview: &Preview, option: &str) {
    if preview.left_out > 0 {
        let groups = preview.groups.as_ref().map_or(0, |groups| groups.changes.len() + groups.held.len());
        let shown = preview.changes.len() + preview.held.len() + groups;
        let of = shown + preview.left_out;
        let _ = writeln!(
            text,
            "\nShown: {shown} of {}.",
            counted(of, "change", "changes and accounts held back")
        );
    }
    let _ = writeln!(text, "\nNothing was changed: this was a preview.");
    let has = |wanted: &[ChangeKind]| preview.kinds.iter().any(|(kind, _)| wanted.contains(kind));
    let mut next = Vec::new();
    if !preview.is_whole() {
        next.push(format!("mend what is missing; webtaxon check{option} looks at each step."));
    }
    if has(&[ChangeKind::Clash]) {
        next.push("settle the clashes in the directory, the settings or the application.".to_owned());
    }
    if preview.is_whole() && preview.has_work() {
        next.push(format!(
            "webtaxon preview{option} --as html --out preview.html: a page for whoever must agree."
        ));
        next.push(format!(
            "webtaxon preview{option} --save FILE keeps exactly this, webtaxon apply FILE does it."
        ));
    }
    next.push(format!("webtaxon why{option} LOGIN tells why one person is in or out."));
    // Not broken into lines: a command is copied.
    for (at, way) in next.iter().enumerate() {
        let _ = writeln!(text, "{}{way}", if at == 0 { "Next: " } else { "      " });
    }
}

/// A table with a column for logins and one for people, narrower on a narrow terminal.
fn accounts_table(width: usize) -> Table {
    let at_most =
        |limit: u16, share: usize| u16::try_from(width / share).map_or(limit, |part| part.min(limit));
    columns(width, &[Some(at_most(18, 5)), Some(at_most(24, 4)), None])
}

/// A table without lines: columns of these widths, the one without a width takes what is left.
fn columns(width: usize, widths: &[Option<u16>]) -> Table {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
    table.set_header(vec![""; widths.len()]);
    let used: u16 = widths.iter().flatten().map(|fixed| fixed + 2).sum();
    let left = u16::try_from(width).unwrap_or(u16::MAX).saturating_sub(used).max(20);
    let constraints = widths
        .iter()
        .map(|fixed| ColumnConstraint::Absolute(Width::Fixed(fixed.map_or(left, |fixed| fixed + 2))));
    table.set_constraints(constraints);
    for column in table.column_iter_mut() {
        column.set_padding((2, 0));
    }
    table
}

/// The table's lines without its empty header and without blanks at their ends.
fn lines(table: &Table) -> String {
    table.lines().skip(1).fold(String::new(), |mut text, line| {
        let _ = writeln!(text, "{}", line.trim_end());
        text
    })
}
