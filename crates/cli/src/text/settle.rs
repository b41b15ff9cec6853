//! Text for `settle`: each clash with both sides, the ways out, and what the answers do.

use super::parts::{columns, heading, lines};
use super::preview::{of_kind, ways};
use crate::output::harmless;
use std::fmt::Write as _;
use webtaxon::model::ldap::name::short;
use webtaxon::model::preview::{Change, ChangeKind, Preview, Question, Word};
use webtaxon::model::words::counted;

/// All questions, for a pipe: what clashes, both sides, and the lines that settle it.
pub(crate) fn questions(questions: &[Question], width: usize, option: &str) -> String {
    if questions.is_empty() {
        return "No clash: there is nothing to settle.\n".to_owned();
    }
    let mut text = String::new();
    for (at, question) in questions.iter().enumerate() {
        text += &begin(question, (at + 1, questions.len()), width);
        let mut table = columns(width, &[None]);
        table.add_row([ways(&question.change)]);
        text.push_str(&lines(&table));
    }
    let _ = writeln!(
        text,
        "\nNothing was written.\nNext: write the lines into the settings, or run webtaxon settle{option} at a terminal."
    );
    text
}

/// One question, with its answers by number.
pub(crate) fn question(question: &Question, at: (usize, usize), width: usize) -> String {
    let mut text = begin(question, at, width);
    let mut table = columns(width, &[Some(3), None]);
    let all = question.change.ways();
    for (number, way) in all.iter().filter(|way| way.word.is_some()).enumerate() {
        let word = way.word.as_ref().map(Word::entry).unwrap_or_default();
        let words = format!("{}: {}\n{}", harmless(&way.when), harmless(&way.does), harmless(&word));
        table.add_row([format!("{}", number + 1), words]);
    }
    for way in all.iter().filter(|way| way.word.is_none()) {
        table.add_row(["-".to_owned(), format!("elsewhere: {}", harmless(&way.in_words()))]);
    }
    text.push_str(&lines(&table));
    text
}

/// People made anew, offered as one decision.
pub(crate) fn made_anew(logins: &[String], width: usize) -> String {
    let count = counted(logins.len(), "person", "people");
    let mut text = String::new();
    heading(&mut text, &format!("{count} with a new entry in place of one that is gone"));
    let mut table = columns(width, &[None]);
    table.add_row([format!(
        "{}\nEach has the login and another unique value of the account. Their accounts would be linked to the new entries.",
        logins.join(", ")
    )]);
    text.push_str(&lines(&table));
    text
}

/// The effect of the answers: the lines, the changes to the accounts, and the clashes that are left.
pub(crate) fn answers(words: &[Word], then: &Preview, file: &str, width: usize) -> String {
    let mut text = String::new();
    heading(&mut text, &format!("Into {}: whose, in [accounts]", harmless(file)));
    for word in words {
        let _ = writeln!(text, "  {}", harmless(&word.entry()));
    }
    let is_about = |change: &&Change| {
        words.iter().any(|word| change.link.as_ref() == Some(&word.link) || change.login == word.account)
    };
    let changes: Vec<&Change> = then.changes.iter().filter(is_about).collect();
    for kind in ChangeKind::ALL {
        let list: Vec<&Change> = changes.iter().copied().filter(|change| change.kind() == kind).collect();
        of_kind(&mut text, kind, &list, width, usize::MAX);
    }
    let left = then.of_kind(ChangeKind::Clash).count();
    let left = if left == 0 {
        "No clash is left.".to_owned()
    } else {
        format!("{} left.", counted(left, "clash is", "clashes are"))
    };
    let _ = writeln!(text, "\n{left}");
    text
}

/// One clash, with both sides field by field.
fn begin(question: &Question, (at, count): (usize, usize), width: usize) -> String {
    let change = &question.change;
    let person = change.dn.as_deref().map(short).unwrap_or_default();
    let mut text = String::new();
    heading(
        &mut text,
        &format!("Clash {at} of {count}: {}, {}", harmless(&change.login), harmless(person.trim())),
    );
    let message = change.clash().map(|clash| clash.message()).unwrap_or_default();
    let mut table = columns(width, &[None]);
    table.add_row([format!("has {}", harmless(&message))]);
    text.push_str(&lines(&table));
    let names = question.sides.iter().map(|side| side.field.chars().count()).max().unwrap_or(0);
    let names = u16::try_from(names.clamp(6, 20)).unwrap_or(20);
    let half = u16::try_from(width.saturating_sub(usize::from(names) + 8) / 2).unwrap_or(40).min(44);
    let mut table = columns(width, &[Some(names), Some(half), None]);
    let other = question.other.as_deref().map(|other| harmless(&short(other)));
    table.add_row([String::new(), "the directory".to_owned(), other.clone().unwrap_or_default()]);
    let shown = |value: &str| if value.is_empty() { "(empty)".to_owned() } else { harmless(value) };
    for side in &question.sides {
        let value = if other.is_some() { shown(&side.other) } else { String::new() };
        table.add_row([harmless(&side.field), shown(&side.person), value]);
    }
    text.push_str(&lines(&table));
    text
}
