//! Text for `preview`: what was read, who is selected, what would change, and the next command.

use super::groups;
use super::parts::{accounts_table, columns, heading, lines, one_field, so_far, some};
use crate::output::{Tone, harmless, paint};
use std::fmt::Write as _;
use webtaxon::model::preview::{
    BrakeKind, Change, ChangeKind, Held, HeldReason, IntakeSummary, Preview, Way,
};
use webtaxon::model::reading::Gap;
use webtaxon::model::settings::Settings;
use webtaxon::model::words::counted;
use webtaxon::report::words::{self, short};

/// A preview with the next commands; at most `limit` changes of each kind are listed.
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

/// A preview without the next commands.
pub(super) fn preview_only(preview: &Preview, settings: &Settings, width: usize, limit: usize) -> String {
    let mut text = String::new();
    if let Some(run) = preview.interrupted {
        let words = format!("Run {run} was interrupted:");
        let _ = writeln!(
            text,
            "{} the next apply finds out what it did, before anything else.",
            paint(Tone::Bad, &words)
        );
    }
    reading(&mut text, preview, width);
    funnel(&mut text, preview, settings, width);
    accounts(&mut text, preview, width);
    for kind in ChangeKind::ALL {
        changes(&mut text, preview, kind, width, limit);
        if kind == ChangeKind::Import {
            secrets(&mut text, preview, settings);
        }
    }
    held(&mut text, &preview.held, width);
    groups::preview(&mut text, preview, width, limit);
    brakes(&mut text, preview, width);
    text
}

fn reading(text: &mut String, preview: &Preview, width: usize) {
    let whose = |part: &IntakeSummary| match preview.intakes.is_single() {
        true => String::new(),
        false => format!(" for {}", harmless(&part.intake)),
    };
    let from = |part: &IntakeSummary| {
        format!("directory {} at {}{}", harmless(&part.directory), harmless(&part.server), whose(part))
    };
    if preview.is_whole() {
        for part in preview.intakes.iter() {
            let people = part.funnel.first().map_or(0, |step| step.left);
            let groups = counted(part.groups_read, "group", "groups");
            let words = paint(Tone::Good, "Read to its end:");
            let _ = writeln!(text, "{words} {}: {people} people found, {groups}.", from(part));
        }
        return notes(text, preview, width);
    }
    let all: Vec<String> = preview.intakes.iter().map(from).collect();
    let (fallen, unread): (Vec<&Gap>, Vec<&Gap>) = preview.gaps.iter().partition(|gap| gap.is_fall);
    let told = |list: Vec<&Gap>| list.into_iter().map(|gap| harmless(&gap.to_string())).collect::<Vec<_>>();
    let title =
        if unread.is_empty() { "Less was seen than at the last apply:" } else { "Not read to its end:" };
    let _ = writeln!(text, "{} {}.", paint(Tone::Bad, title), all.join("; "));
    let title = "So no account is removed or suspended. What is missing:";
    some(text, width, title, told(unread).into_iter());
    let title = "Whatever depends on it stays as it is. What was seen at the last apply, and not now:";
    some(text, width, title, told(fallen).into_iter());
    notes(text, preview, width);
}

fn notes(text: &mut String, preview: &Preview, width: usize) {
    let notes: Vec<String> =
        preview.intakes.iter().flat_map(|part| &part.notes).map(|note| harmless(note)).collect();
    some(text, width, "On the way:", notes.into_iter());
}

fn funnel(text: &mut String, preview: &Preview, settings: &Settings, width: usize) {
    for (part, intake) in preview.intakes.iter().zip(settings.intakes.iter()) {
        heading(text, &format!("Who is selected (intake {}){}", harmless(&part.intake), so_far(preview)));
        let mut table = columns(width, &[Some(7), Some(8), None]);
        for step in &part.funnel {
            let lost = if step.lost > 0 { format!("−{}", step.lost) } else { String::new() };
            let words = words::funnel_step(step, intake);
            table.add_row([format!("{:>7}", step.left), format!("{lost:>8}"), words]);
        }
        text.push_str(&lines(&table));
    }
    if !preview.intakes.is_single() {
        let of = |part: &IntakeSummary| part.funnel.last().map_or(0, |step| step.left);
        let all: usize = preview.intakes.iter().map(of).sum();
        let _ = writeln!(text, "  {}, all intakes together.", counted(all, "person", "people"));
    }
    let incomplete =
        preview.incomplete.iter().map(|one| format!("{}: {}", short(&one.dn), harmless(&one.missing)));
    some(text, width, "Left out, because a value is missing:", incomplete);
    let nobody = preview.nobody.iter().map(|name| harmless(name));
    some(text, width, "In only or except, but matching nobody found:", nobody);
    let words = preview.idle_words.iter().map(|word| harmless(&word.message()));
    some(text, width, "Lines of whose that cannot apply:", words);
    let open = preview
        .open_fields
        .iter()
        .map(|one| format!("{}: {} {}", harmless(&one.login), harmless(&one.field), harmless(&one.why)));
    some(text, width, "Fields left unchanged, because no usable value was found:", open);
    let strangers =
        preview.strangers.iter().map(|one| format!("{}, listed in {}", harmless(&one.dn), short(&one.group)));
    some(
        text,
        width,
        "Group members who were not found (outside the bases, not matched by the filter, or deleted):",
        strangers,
    );
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
    let in_use = format!("active{}", seats.unwrap_or_default());
    table.add_row([format!("{:>7}", counts.active_now), format!("{:>8}", counts.active_after), in_use]);
    text.push_str(&lines(&table));
    let kinds: Vec<String> =
        preview.kinds.iter().map(|(kind, count)| format!("{count} {}", kind.name())).collect();
    let kinds = if kinds.is_empty() { "nothing to do".to_owned() } else { kinds.join(", ") };
    let unchanged =
        counted(preview.unchanged, "linked account is unchanged", "linked accounts are unchanged");
    let mut table = columns(width, &[None]);
    table.add_row([format!("{kinds}; {unchanged}.")]);
    text.push_str(&lines(&table));
}

fn changes(text: &mut String, preview: &Preview, kind: ChangeKind, width: usize, limit: usize) {
    let list: Vec<&Change> = preview.of_kind(kind).collect();
    of_kind(text, kind, &list, width, limit);
}

/// The secret fields that new accounts get beside those shown.
fn secrets(text: &mut String, preview: &Preview, settings: &Settings) {
    let names = settings.secret_fields();
    if !names.is_empty() && preview.of_kind(ChangeKind::Import).next().is_some() {
        let _ = writeln!(
            text,
            "  Each also gets {}, once and unseen (secret = true).",
            harmless(&names.join(" and "))
        );
    }
}

/// Changes of one kind, under its heading.
pub(super) fn of_kind(text: &mut String, kind: ChangeKind, list: &[&Change], width: usize, limit: usize) {
    if list.is_empty() {
        return;
    }
    let (title, meaning) = words::kind(kind);
    heading(text, &format!("{title} ({}): {meaning}", list.len()));
    let mut table = accounts_table(width);
    let more = list.len().saturating_sub(limit);
    for change in list.iter().take(limit) {
        let person =
            change.dn.as_deref().map(short).or_else(|| name_in_application(change)).unwrap_or_default();
        table.add_row([harmless(&change.login), person, what(change)]);
    }
    text.push_str(&lines(&table));
    if more > 0 {
        let _ = writeln!(text, "  and {more} more");
    }
}

/// The name that the application has for a person whose entry no longer exists.
fn name_in_application(change: &Change) -> Option<String> {
    let name = change.fields.get("name")?.old.as_deref()?;
    Some(format!("({})", harmless(name)))
}

/// What happens to one account, and why.
fn what(change: &Change) -> String {
    if let Some(clash) = change.clash() {
        return format!("{}\n{}", harmless(&clash.message()), ways(change));
    }
    if let Some(departure) = change.departure() {
        let wait = words::wait(change).map(|wait| format!("\n{wait}")).unwrap_or_default();
        let names = change.fields.iter().filter(|(name, field)| *name != "state" && field.new.is_some());
        let names: String = names.map(|(name, field)| format!("\n{}", one_field(name, field))).collect();
        return harmless(&words::departure(departure)) + &wait + &names;
    }
    if change.kind() == ChangeKind::Import {
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
        let detail = change.detail().map(|detail| format!("\n{}", harmless(&detail)));
        return format!("{roles}{through}{}", detail.unwrap_or_default());
    }
    let detail = change.detail().map(|detail| harmless(&detail));
    let fields = change.fields.iter().map(|(name, field)| one_field(name, field));
    detail.into_iter().chain(words::wait(change)).chain(fields).collect::<Vec<_>>().join("\n")
}

/// The ways to settle a clash, one to a line.
pub(super) fn ways(change: &Change) -> String {
    let line = |(at, way): (usize, &Way)| {
        let start = if at == 0 { "To do" } else { "Or" };
        format!("{start}: {}", harmless(&way.in_words()))
    };
    change.ways().iter().enumerate().map(line).collect::<Vec<_>>().join("\n")
}

fn held(text: &mut String, held: &[Held], width: usize) {
    if held.is_empty() {
        return;
    }
    heading(text, &format!("Held back ({}): not done", held.len()));
    let (unknown, known): (Vec<&Held>, Vec<&Held>) =
        held.iter().partition(|one| one.reason == HeldReason::NotWhole);
    let mut table = accounts_table(width);
    for one in known {
        let person = one.dn.as_deref().map(short).unwrap_or_default();
        let cause = one.cause.map(|cause| format!("{}; ", cause.name())).unwrap_or_default();
        let would = one.would.map(|kind| format!("would be: {}; ", kind.name())).unwrap_or_default();
        table.add_row([harmless(&one.login), person, format!("{cause}{would}{}", harmless(&one.message()))]);
    }
    text.push_str(&lines(&table));
    let title =
        "Linked accounts of people who were not selected; they are kept, since the reading is not whole:";
    some(text, width, title, unknown.iter().map(|one| harmless(&one.login)));
}

fn brakes(text: &mut String, preview: &Preview, width: usize) {
    let brakes = &preview.brakes;
    if brakes.is_empty() {
        return;
    }
    heading(text, &format!("Brakes ({}): limits that are exceeded", brakes.len()));
    let mut table = columns(width, &[Some(18), None]);
    for brake in brakes {
        let unseated: Vec<String> = preview.unseated.iter().take(12).map(|login| harmless(login)).collect();
        let more = preview.unseated.len().saturating_sub(unseated.len());
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let order = match (brake.kind, unseated.is_empty()) {
            (BrakeKind::Seats, false) => format!(
                "\nwithout a seat, after active and restored accounts have theirs: {}{more}",
                unseated.join(", ")
            ),
            _ => String::new(),
        };
        table.add_row([brake.kind.to_string(), harmless(&brake.in_words()) + &order]);
    }
    text.push_str(&lines(&table));
    let _ = writeln!(text, "An apply stops here, unless --release names them all.");
}

fn next(text: &mut String, preview: &Preview, option: &str) {
    if preview.left_out > 0 {
        let groups = preview.groups.as_ref().map_or(0, |groups| groups.changes.len() + groups.held.len());
        let shown = preview.changes.len() + preview.held.len() + groups;
        let of = shown + preview.left_out;
        let _ = writeln!(text, "\nShown: {shown} of {}.", counted(of, "change", "changes and held accounts"));
    }
    let _ = writeln!(text, "\nNothing was changed: this was a preview.");
    let has = |wanted: &[ChangeKind]| preview.kinds.iter().any(|(kind, _)| wanted.contains(kind));
    let mut next = Vec::new();
    if !preview.is_whole() {
        next.push(format!("fix what is missing; webtaxon check{option} tests each step."));
    }
    if has(&[ChangeKind::Clash]) {
        next.push(format!(
            "webtaxon settle{option}: asks about each clash, and writes the answers into the settings."
        ));
    }
    if preview.is_whole() && preview.has_work() {
        next.push(format!(
            "webtaxon preview{option} --as html --out preview.html: a page for the person who must approve."
        ));
        next.push(format!(
            "webtaxon preview{option} --save FILE saves exactly this, webtaxon apply FILE carries it out."
        ));
    }
    next.push(format!("webtaxon why{option} LOGIN explains why one person is selected or not."));
    // Not wrapped, so that the command can be copied.
    for (at, way) in next.iter().enumerate() {
        let _ = writeln!(text, "{}{way}", if at == 0 { "Next: " } else { "      " });
    }
}
