//! Text for `sign-in`: each step with its answer, then whether they get in and as what; and the record of tries.

use super::parts::{columns, heading, lines, one_field};
use crate::output::{Tone, harmless, paint};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::Path;
use webtaxon::ChangeKind;
use webtaxon::model::preview::why::{Verdict, Why};
use webtaxon::model::settings::{FirstSignIn, Settings};
use webtaxon::model::sign_in::Refusal;
use webtaxon::model::words::counted;
use webtaxon::sign_in::{AuditLine, Examination, StepOutcome};

/// Tries listed at most; JSON has all.
const LISTED: usize = 50;

/// A sign-in, step by step.
pub(crate) fn examination(
    examination: &Examination,
    settings: &Settings,
    (name, has_password): (&str, bool),
    width: usize,
    option: &str,
) -> String {
    let mut text = format!("{}\n\n", paint(Tone::Heading, &format!("Sign-in of {}", harmless(name))));
    for step in &examination.steps {
        if step.name == "selected" {
            of_why(&mut text, examination.why.as_deref(), width);
        }
        let remedy = if step.remedy.is_empty() {
            String::new()
        } else {
            format!("\nTo do: {}", harmless(&step.remedy))
        };
        let message = format!("{}{remedy}", harmless(&step.message));
        row(&mut text, step.outcome, step.name, &message, width);
    }
    text.push('\n');
    let is_in = examination.refusal.is_none() && !examination.is_unknown;
    let (tone, words) = outcome(examination, settings, has_password);
    let _ = writeln!(text, "{}", paint(tone, &words));
    if let Some(why) = examination.why.as_deref().filter(|_| is_in) {
        drawn_anew(&mut text, why, settings, width);
    }
    if let Some(refusal) = &examination.refusal {
        let _ = writeln!(text, "Their page says: {}", refusal.sentence());
    }
    next(&mut text, examination, (name, has_password), option);
    text
}

/// The steps of the selection, as `why` tells them.
fn of_why(text: &mut String, why: Option<&Why>, width: usize) {
    for step in why.iter().flat_map(|why| &why.steps) {
        let outcome = match step.verdict {
            Verdict::Yes => StepOutcome::Good,
            Verdict::No => StepOutcome::Bad,
            Verdict::Unknown => StepOutcome::Unknown,
        };
        row(text, outcome, step.name, &harmless(&step.message), width);
    }
}

fn row(text: &mut String, outcome: StepOutcome, name: &str, message: &str, width: usize) {
    let (tone, word) = match outcome {
        StepOutcome::Good => (Tone::Good, "good"),
        StepOutcome::Bad => (Tone::Bad, "bad"),
        StepOutcome::Unknown => (Tone::Warning, "unknown"),
        StepOutcome::Skipped => (Tone::Quiet, "skipped"),
    };
    let mut table = columns(width, &[Some(8), Some(12), None]);
    table.add_row([word.to_owned(), name.to_owned(), message.to_owned()]);
    // Only the word is coloured, so that the columns keep their widths.
    text.push_str(&lines(&table).replacen(word, &paint(tone, word), 1));
}

fn outcome(examination: &Examination, settings: &Settings, has_password: bool) -> (Tone, String) {
    match (&examination.refusal, examination.is_unknown) {
        (Some(refusal), _) => (Tone::Bad, format!("Refused: {}.", harmless(&refusal.to_string()))),
        (None, true) => (Tone::Warning, "It could not be found out: nobody is let in or refused.".to_owned()),
        (None, false) => {
            let as_what = examination.why.as_deref().map(|why| as_what(why, settings)).unwrap_or_default();
            let words = if has_password { "In" } else { "In, with the right password" };
            (Tone::Good, format!("{words}: {as_what}."))
        }
    }
}

/// The person in the application: "as aibbotson, with the roles borrower and approver".
fn as_what(why: &Why, settings: &Settings) -> String {
    let roles: Vec<String> =
        why.roles.iter().filter(|role| role.given == Some(true)).map(|role| harmless(&role.role)).collect();
    let roles = match roles.split_last() {
        None => String::new(),
        Some((only, [])) => format!(", with the role {only}"),
        Some((last, others)) => format!(", with the roles {} and {last}", others.join(", ")),
    };
    let drawn =
        why.fields.iter().find(|field| field.field == "login").and_then(|field| field.value.as_deref());
    let own =
        why.account.as_ref().filter(|account| account.link.is_some()).map(|account| account.login.as_str());
    let is_new = why.kind() == Some(ChangeKind::Import) && settings.sign_in.new == FirstSignIn::Import;
    let new = if is_new { ", a new account" } else { "" };
    format!("as {}{new}{roles}", harmless(own.or(drawn).unwrap_or(&why.name)))
}

/// The fields that would be drawn anew.
fn drawn_anew(text: &mut String, why: &Why, settings: &Settings, width: usize) {
    let change = why.change.as_ref().filter(|change| change.kind() == ChangeKind::Update);
    if let Some(change) = change.filter(|_| settings.sign_in.refresh) {
        heading(text, "Drawn anew");
        let mut table = columns(width, &[None]);
        for (name, field) in &change.fields {
            table.add_row([one_field(name, field)]);
        }
        text.push_str(&lines(&table));
    }
}

fn next(text: &mut String, examination: &Examination, (name, has_password): (&str, bool), option: &str) {
    let quoted = if name.contains(' ') { format!("\"{}\"", harmless(name)) } else { harmless(name) };
    let next = match (&examination.refusal, has_password) {
        (Some(_), _) if examination.dn.is_none() => format!("webtaxon browse{option} --find {quoted}"),
        (Some(Refusal::Standing(_)), _) => format!("webtaxon why {quoted}{option}"),
        (Some(_), _) => return,
        (None, _) if examination.is_unknown => format!("webtaxon check{option}"),
        (None, false) => format!("webtaxon sign-in {quoted}{option}"),
        (None, true) => return,
    };
    let _ = writeln!(text, "Next: {next}");
}

/// The record of tries: each, and counts by reason.
pub(crate) fn audit(tries: &[AuditLine], bad: usize, file: &Path, width: usize) -> String {
    let mut text = String::new();
    if tries.is_empty() {
        let _ = writeln!(text, "No such try is recorded in {}.", file.display());
    }
    let hidden = tries.len().saturating_sub(LISTED);
    if hidden > 0 {
        let words = counted(hidden, "earlier try", "earlier tries");
        let _ = writeln!(text, "{words} (--format json lists them all)");
    }
    let mut table = columns(width, &[Some(20), Some(20), Some(11), None]);
    for one in tries.iter().skip(hidden) {
        let at = one.at.strftime("%Y-%m-%d %H:%M:%S").to_string();
        let account = one.account.as_ref().map(|login| format!("account {login}"));
        let change = one.change.as_ref().map(|kind| match kind.as_str() {
            "import" => "imported".to_owned(),
            "update" => "fields drawn anew".to_owned(),
            "suspend" => "account suspended".to_owned(),
            other => other.to_owned(),
        });
        let why = Some(one.message.clone()).filter(|message| !message.is_empty());
        let from = Some(format!("from {}", one.from));
        let message: Vec<String> = [why, account, change, from].into_iter().flatten().collect();
        let message = message.join("; ");
        table.add_row([at, harmless(&one.name), one.outcome.clone(), harmless(&message)]);
    }
    if !tries.is_empty() {
        text.push_str(&lines(&table));
        heading(&mut text, "By reason");
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        tries.iter().for_each(|one| *counts.entry(one.reason.as_str()).or_default() += 1);
        let mut table = columns(width, &[Some(8), None]);
        let mut counts: Vec<(&str, usize)> = counts.into_iter().collect();
        counts.sort_by_key(|(reason, count)| (std::cmp::Reverse(*count), *reason));
        for (reason, count) in counts {
            table.add_row([count.to_string(), harmless(reason)]);
        }
        text.push_str(&lines(&table));
    }
    if bad > 0 {
        let _ = writeln!(text, "{} cannot be read.", counted(bad, "line", "lines"));
    }
    text
}
