//! Text for `apply` and `journal`.

use super::parts::{accounts_table, columns, heading, lines, one_field, some};
use crate::output::{Tone, harmless, paint};
use jiff::Timestamp;
use jiff::civil::Date;
use std::fmt::Write as _;
use std::path::Path;
use webtaxon::apply::{Applied, Origin, Work};
use webtaxon::model::apply::{Edit, GroupEdit, Outcome};
use webtaxon::model::preview::{ChangeKind, GroupChangeKind, Preview};
use webtaxon::model::settings::Settings;
use webtaxon::model::words::counted;
use webtaxon::report::words::{self, short};
use webtaxon::state::{Ending, Recorded, Run};

/// A preview, shown before the question whether to carry it out.
pub(crate) fn apply_preview(preview: &Preview, settings: &Settings, width: usize, limit: usize) -> String {
    let mut text = super::preview::preview_only(preview, settings, width, limit);
    text.push('\n');
    text
}

/// `7 import, 2 adopt`.
pub(crate) fn counts(work: &Work) -> String {
    let counts: Vec<String> =
        work.counts().iter().map(|(kind, count)| format!("{count} {}", kind.name())).collect();
    let counts = [counts, super::groups::counts(work.groups())].concat();
    if counts.is_empty() { "nothing".to_owned() } else { counts.join(", ") }
}

/// A saved preview, or the undoing of a run; at most `limit` edits of each kind.
pub(crate) fn work(
    work: &Work,
    saved: Option<(&Path, Timestamp)>,
    settings: &Settings,
    (width, limit): (usize, usize),
) -> String {
    let names = settings.account_fields();
    let mut text = String::new();
    if let Some((file, made)) = saved {
        let _ = writeln!(text, "{}, made {made:.0}:", harmless(&file.display().to_string()));
    }
    let title = match work.origin() {
        Origin::Undo(run) => format!("To undo run {run}: {}", counts(work)),
        _ => format!("What would be carried out: {}", counts(work)),
    };
    let _ = writeln!(text, "{}", paint(Tone::Heading, &title));
    for kind in ChangeKind::ALL {
        let list: Vec<&Edit> = work.edits().iter().filter(|edit| edit.kind == kind).collect();
        if list.is_empty() {
            continue;
        }
        heading(&mut text, &format!("{} ({})", words::kind(kind).0, list.len()));
        let mut table = accounts_table(width);
        let more = list.len().saturating_sub(limit);
        for edit in list.into_iter().take(limit) {
            table.add_row(row(edit, &names, None));
        }
        text.push_str(&lines(&table));
        if more > 0 {
            let _ = writeln!(text, "  and {more} more");
        }
    }
    super::groups::edits(&mut text, work.groups().all().map(|edit| (edit, None)), width, limit);
    some(
        &mut text,
        width,
        "Not removed, since something was added:",
        work.notes().iter().map(|note| harmless(note)),
    );
    text
}

/// One edit as a row: account, person, differences.
fn row(edit: &Edit, names: &[&str], outcome: Option<&str>) -> [String; 3] {
    let (edit, others) = edit.shown(names);
    let named = |side: &Option<webtaxon::model::account::Account>| {
        let name = side.as_ref()?.field("name");
        (!name.is_empty()).then(|| format!("({})", harmless(name)))
    };
    let person = edit.dn.as_deref().map(short).or_else(|| named(&edit.before)).or_else(|| named(&edit.after));
    let what = match edit.kind {
        ChangeKind::Import | ChangeKind::Remove => {
            let side = edit.after.as_ref().or(edit.before.as_ref());
            let fields = side.into_iter().flat_map(|account| account.fields.iter());
            let told = fields.filter(|(name, value)| *name != "name" && !value.is_empty());
            let told = told.map(|(name, value)| harmless(&format!("{name}: {value}")));
            let others = (others > 0)
                .then(|| format!("{} not shown", counted(others, "other column", "other columns")));
            let told: Vec<String> = told.chain(others).collect();
            let cause = edit.cause.map(|cause| format!("{}; ", cause.name())).unwrap_or_default();
            cause + &told.join("; ")
        }
        _ => {
            let cause = edit.cause.map(|cause| format!("{}\n", cause.name())).unwrap_or_default();
            let fields = edit.fields();
            let fields: Vec<String> = fields.iter().map(|(name, field)| one_field(name, field)).collect();
            cause + &fields.join("\n")
        }
    };
    let outcome = outcome.map(|words| format!("\n{words}")).unwrap_or_default();
    [harmless(edit.login()), person.unwrap_or_default(), what + &outcome]
}

/// What was done, and how to undo it.
pub(crate) fn applied(work: &Work, applied: &Applied, width: usize, option: &str) -> String {
    let mut text = String::new();
    if let Some(earlier) = &applied.interrupted {
        let _ = writeln!(
            text,
            "Run {} had been interrupted: {} of its {} were made, and the journal says so now.",
            earlier.run,
            earlier.done,
            counted(earlier.done + earlier.open, "change", "changes")
        );
    }
    let Some(run) = applied.run else {
        text.push_str("Nothing to do: the application's accounts are up to date.\n");
        return text;
    };
    let count = |what: fn(&Outcome) -> bool| applied.count(what);
    let done = count(|outcome| matches!(outcome, Outcome::Done));
    let made = count(|outcome| matches!(outcome, Outcome::Made));
    let of = counted(work.edits().len() + work.groups().len(), "change", "changes");
    let tone = if applied.is_complete() { Tone::Good } else { Tone::Warning };
    let words = format!("Run {run}: {done} of {of} done.");
    let _ = writeln!(text, "{} Asked for: {}.", paint(tone, &words), counts(work));
    if made > 0 {
        let _ = writeln!(text, "{} there already.", counted(made, "change was", "changes were"));
    }
    let which = |wanted: fn(&Outcome) -> Option<&String>| {
        let pairs = work.edits().iter().zip(&applied.outcomes);
        let pairs = pairs.map(|(edit, outcome)| (edit.kind.name(), edit.login(), outcome));
        let groups = work.groups().all().zip(&applied.groups);
        let groups = groups.map(|(edit, outcome)| (edit.kind.name(), edit.name(), outcome));
        let of = pairs
            .chain(groups)
            .filter_map(move |(kind, name, outcome)| Some((kind, name, wanted(outcome.as_ref()?)?)));
        of.map(|(kind, name, reason)| format!("{kind} {}: {}", harmless(name), harmless(reason)))
            .collect::<Vec<_>>()
    };
    let left = which(|outcome| if let Outcome::Left(reason) = outcome { Some(reason) } else { None });
    let failed = which(|outcome| if let Outcome::Failed(reason) = outcome { Some(reason) } else { None });
    some(&mut text, width, "Left out:", left.into_iter());
    some(&mut text, width, "Refused by the application:", failed.into_iter());
    let dropped = applied.dropped.iter().map(|place| harmless(place));
    some(&mut text, width, "Taken by the application and not kept, as the next preview will say:", dropped);
    if let Some(reason) = &applied.stopped {
        let _ = writeln!(text, "{} {}.", paint(Tone::Bad, "Stopped:"), harmless(reason));
        let open = applied.outcomes.iter().chain(&applied.groups).filter(|one| one.is_none()).count();
        if open > 0 {
            let _ = writeln!(
                text,
                "The outcome of {} is not known: webtaxon apply{option} finds out before anything else.",
                counted(open, "change", "changes")
            );
        }
    }
    if let Some(backup) = &applied.backup {
        let _ = writeln!(text, "Copy of the accounts before: {}", harmless(&backup.display().to_string()));
    }
    if done > 0 {
        let _ = writeln!(text, "Next: webtaxon preview{option} shows what is left to do.");
        let _ = write!(text, "      {}", how_to_undo(run, option));
    }
    text
}

/// How to undo a run.
pub(crate) fn how_to_undo(run: i64, option: &str) -> String {
    format!(
        "To undo run {run}: webtaxon journal{option} {run} --undo --save undo-{run}.json\n      and then webtaxon apply{option} undo-{run}.json\n"
    )
}

/// Where the statements are, and what to know about them.
pub(crate) fn statements(work: &Work, file: &Path, option: &str) -> String {
    let file = harmless(&file.display().to_string());
    format!(
        "Nothing was changed. {file} has the statements for {}, in one transaction.\nThey are valid for the list as it is now: run them before it changes. The journal does not record them, so they cannot be undone here.\nNext: webtaxon preview{option} shows afterwards what is left to do.\n",
        counts(work)
    )
}

/// A note that something was saved, and its use.
pub(crate) fn saved(work: &Work, file: &Path, option: &str) -> String {
    let name = harmless(&file.display().to_string());
    let release: Vec<&str> = work.brakes().iter().map(|brake| brake.kind.name()).collect();
    let release = if release.is_empty() {
        String::new()
    } else {
        format!(" --release {}", harmless(&release.join(",")))
    };
    format!("Saved to {name}. To carry out exactly this: webtaxon apply{option} {name}{release}\n")
}

/// All runs, latest first.
pub(crate) fn runs(runs: &[Run], width: usize, option: &str) -> String {
    if runs.is_empty() {
        return format!(
            "Nothing was applied yet.\nNext: webtaxon preview{option}, and then webtaxon apply{option}\n"
        );
    }
    let mut text = String::new();
    let mut table = columns(width, &[Some(4), Some(20), Some(22), None]);
    for run in runs {
        table.add_row([run.run.to_string(), format!("{:.0}", run.at), harmless(&run.who), what_of(run)]);
    }
    text.push_str(&lines(&table));
    let _ = writeln!(text, "\nNext: webtaxon journal{option} RUN shows one of them, change by change.");
    text
}

/// What a run did, in words.
fn what_of(run: &Run) -> String {
    let order = |what: &str| {
        let kinds = ChangeKind::ALL.iter().map(|kind| kind.name());
        let mut kinds = kinds.chain(GroupChangeKind::ALL.iter().map(|kind| kind.name()));
        kinds.position(|kind| kind == what).unwrap_or(usize::MAX)
    };
    let mut counts: Vec<_> = run.counts.iter().collect();
    counts.sort_by_key(|(what, _)| order(what));
    let word = |what: &str| match what {
        "left" => "left out".to_owned(),
        "made" => "there already".to_owned(),
        "failed" => "refused".to_owned(),
        "open" => "not known yet".to_owned(),
        kind => kind.to_owned(),
    };
    let counts: Vec<String> = counts.iter().map(|(what, count)| format!("{count} {}", word(what))).collect();
    let mut words = counts.join(", ");
    match run.ending {
        Some(Ending::Done) => {}
        Some(ending) => words.push_str(&format!("; {}", ending.name())),
        None => words.push_str("; running, or interrupted: the next apply finds out"),
    }
    if !run.released.is_empty() {
        words.push_str(&format!("; released: {}", harmless(&run.released.join(", "))));
    }
    if let Some(other) = run.undoes {
        words.push_str(&format!("; undid run {other}"));
    }
    if let Some(other) = run.undone {
        words.push_str(&format!("; undone by run {other}"));
    }
    words
}

/// One run, change by change.
pub(crate) fn run(
    run: &Run,
    (entries, groups): (&[Recorded], &[Recorded<GroupEdit>]),
    settings: &Settings,
    width: usize,
    option: &str,
) -> String {
    let names = settings.account_fields();
    let mut text = String::new();
    let title = format!("Run {} at {:.0} by {}", run.run, run.at, harmless(&run.who));
    let _ = writeln!(text, "{}", paint(Tone::Heading, &title));
    let mut table = columns(width, &[None]);
    table.add_row([format!("{} in {}", what_of(run), harmless(&run.store))]);
    text.push_str(&lines(&table));
    if let Some(backup) = &run.backup {
        let _ = writeln!(text, "  Copy of the accounts before: {}", harmless(&backup.display().to_string()));
    }
    for kind in ChangeKind::ALL {
        let list: Vec<&Recorded> = entries.iter().filter(|entry| entry.edit.kind == kind).collect();
        if list.is_empty() {
            continue;
        }
        heading(&mut text, &format!("{} ({})", words::kind(kind).0, list.len()));
        let mut table = accounts_table(width);
        for entry in list {
            table.add_row(row(&entry.edit, &names, became(&entry.outcome).as_deref()));
        }
        text.push_str(&lines(&table));
    }
    let list = groups.iter().map(|entry| (&entry.edit, became(&entry.outcome)));
    super::groups::edits(&mut text, list, width, usize::MAX);
    if run.undone.is_none() && run.ending.is_some() {
        let _ = write!(text, "\nNext: {}", how_to_undo(run.run, option));
    }
    text
}

/// The outcome of an edit, unless it was simply done.
fn became(outcome: &Option<Outcome>) -> Option<String> {
    match outcome {
        Some(Outcome::Done) => None,
        Some(Outcome::Made) => Some("(was there already)".to_owned()),
        Some(Outcome::Left(reason)) => Some(format!("(left out: {})", harmless(reason))),
        Some(Outcome::Failed(reason)) => Some(format!("(refused: {})", harmless(reason))),
        _ => Some("(not known yet)".to_owned()),
    }
}

/// A note that earlier runs were deleted.
pub(crate) fn forgotten(count: usize, day: Date) -> String {
    format!(
        "{} from before {day} deleted, with the copies of the accounts; the latest run is always kept.\n",
        counted(count, "run", "runs")
    )
}
