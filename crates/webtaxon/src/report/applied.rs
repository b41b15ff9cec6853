//! JSON documents of an apply's work and outcome, and of the journal. Of accounts that come or go as a whole they have
//! the fields that the settings write; the number of other fields is `other_fields`.

use crate::apply::{Applied, Work};
use crate::state::{Recorded, Run};
use serde_json::{Value, json};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome};
use webtaxon_core::settings::Settings;

/// The outcome of an apply, as `webtaxon.apply/1`.
#[must_use]
pub fn applied(work: &Work, applied: &Applied, settings: &Settings) -> Value {
    let names = settings.account_fields();
    let told = |(at, one): (usize, &Edit)| {
        let mut value = edit(one, &names);
        outcome(&mut value, applied.outcomes.get(at).and_then(Option::as_ref));
        value
    };
    let told_group = |(one, became): (&GroupEdit, &Option<Outcome>)| {
        let mut value = group_edit(one);
        outcome(&mut value, became.as_ref());
        value
    };
    json!({
        "format": "webtaxon.apply/1",
        "run": applied.run,
        "complete": applied.is_complete(),
        "backup": applied.backup,
        "interrupted": applied.interrupted,
        "dropped": applied.dropped,
        "stopped": applied.stopped,
        "edits": work.edits().iter().enumerate().map(told).collect::<Vec<_>>(),
        "groups": work.groups().all().zip(&applied.groups).map(told_group).collect::<Vec<_>>(),
    })
}

/// The work of an apply, as `webtaxon.work/1`.
#[must_use]
pub fn work(work: &Work, settings: &Settings) -> Value {
    let names = settings.account_fields();
    json!({
        "format": "webtaxon.work/1",
        "origin": work.origin(),
        "brakes": work.brakes(),
        "edits": work.edits().iter().map(|one| edit(one, &names)).collect::<Vec<_>>(),
        "groups": work.groups().all().map(group_edit).collect::<Vec<_>>(),
        "notes": work.notes(),
    })
}

/// All runs, as `webtaxon.journal/1`.
#[must_use]
pub fn runs(runs: &[Run]) -> Value {
    json!({ "format": "webtaxon.journal/1", "runs": runs })
}

/// One run with its edits, as `webtaxon.run/1`.
#[must_use]
pub fn run(run: &Run, entries: &[Recorded], groups: &[Recorded<GroupEdit>], settings: &Settings) -> Value {
    let names = settings.account_fields();
    json!({
        "format": "webtaxon.run/1",
        "run": run,
        "edits": entries.iter().map(|one| entry(one, &names)).collect::<Vec<_>>(),
        "groups": groups.iter().map(group_entry).collect::<Vec<_>>(),
    })
}

/// One line of JSON for each edit of a run, for auditors.
#[must_use]
pub fn journal_lines(
    run: &Run,
    entries: &[Recorded],
    groups: &[Recorded<GroupEdit>],
    settings: &Settings,
) -> String {
    let names = settings.account_fields();
    let all = entries.iter().map(|one| entry(one, &names)).chain(groups.iter().map(group_entry));
    all.fold(String::new(), |text, one| {
        let mut line =
            json!({ "run": run.run, "at": run.at, "who": run.who, "store": run.store, "undoes": run.undoes });
        if let (Value::Object(line), Value::Object(edit)) = (&mut line, one) {
            line.extend(edit);
        }
        text + &line.to_string() + "\n"
    })
}

fn entry(entry: &Recorded, names: &[&str]) -> Value {
    let mut value = edit(&entry.edit, names);
    outcome(&mut value, entry.outcome.as_ref());
    value
}

fn group_entry(entry: &Recorded<GroupEdit>) -> Value {
    let mut value = group_edit(&entry.edit);
    outcome(&mut value, entry.outcome.as_ref());
    value
}

fn group_edit(edit: &GroupEdit) -> Value {
    let group = edit.after.as_ref().or(edit.before.as_ref());
    let new_name = edit.after.as_ref().map(|after| &after.name).filter(|name| *name != edit.name());
    json!({
        "kind": edit.kind,
        "name": edit.name(),
        "new_name": new_name,
        "dn": edit.dn,
        "link": group.and_then(|group| group.link.as_ref()),
        "come": edit.coming(),
        "leave": edit.leaving(),
    })
}

fn edit(edit: &Edit, names: &[&str]) -> Value {
    let (edit, others) = edit.shown(names);
    let account = edit.after.as_ref().or(edit.before.as_ref());
    json!({
        "kind": edit.kind,
        "login": edit.login(),
        "dn": edit.dn,
        "link": account.and_then(|account| account.link.as_ref()),
        "cause": edit.cause,
        "fields": edit.fields(),
        "other_fields": others,
    })
}

/// Adds the outcome of an edit.
fn outcome(edit: &mut Value, outcome: Option<&Outcome>) {
    let (word, reason) = match outcome {
        Some(Outcome::Done) => (Some("done"), None),
        Some(Outcome::Made) => (Some("made"), None),
        Some(Outcome::Left(reason)) => (Some("left"), Some(reason)),
        Some(Outcome::Failed(reason)) => (Some("failed"), Some(reason)),
        None => (None, None),
    };
    if let Value::Object(edit) = edit {
        edit.insert("outcome".to_owned(), json!(word));
        edit.insert("reason".to_owned(), json!(reason));
    }
}
