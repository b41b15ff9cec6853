//! Text for `filter`: what the filter means, what may surprise, whom it selects.

use super::parts::{columns, heading, lines};
use crate::output::{Tone, harmless, paint};
use std::fmt::Write as _;
use webtaxon::model::ldap::filter::advice::{Advice, Weight};
use webtaxon::model::ldap::filter::{Clause, ClauseKind, Filter, Item, Judged, Passed, Repaired, Truth};
use webtaxon::model::ldap::value::readable;

/// A filter with its explanation and advice.
pub(crate) struct FilterAnswer {
    pub(crate) repaired: Repaired,
    pub(crate) advice: Vec<Advice>,
    /// For a filter tried on entries: their number and source, how many pass each clause, and who is selected.
    pub(crate) tried: Option<(usize, String, Vec<Passed>, Vec<String>)>,
    /// For a single entry: its name, and each clause's truth.
    pub(crate) judged: Option<(String, Vec<Judged>)>,
}

/// Maximum entries listed; JSON has all.
const LISTED: usize = 20;
/// Maximum clauses shown; JSON has all.
const CLAUSES: usize = 200;

pub(crate) fn filter(answer: &FilterAnswer, width: usize, option: &str) -> String {
    let mut text = String::new();
    let filter = &answer.repaired.filter;
    let clauses = filter.clauses().len();
    let _ = writeln!(text, "{}", paint(Tone::Heading, &harmless(&filter.to_string())));
    for remark in &answer.repaired.remarks {
        let _ = writeln!(text, "  {} {remark}", paint(Tone::Warning, "repaired:"));
    }
    match &answer.tried {
        None => means(&mut text, filter, width),
        Some((of, from, passed, selected)) => {
            let _ = writeln!(text, "  selects {} of {of}: {}", selected.len(), harmless(from));
            counted_clauses(&mut text, filter, passed, width);
        }
    }
    if let Some((dn, judged)) = &answer.judged {
        judged_clauses(&mut text, filter, (dn, judged), width);
    }
    if clauses > CLAUSES {
        let _ = writeln!(text, "  and {} more clauses (--format json lists them all)", clauses - CLAUSES);
    }
    advice(&mut text, answer, width);
    match &answer.tried {
        Some((_, _, _, selected)) if answer.judged.is_none() => selection(&mut text, selected),
        Some(_) => {}
        None => {
            let _ = writeln!(
                text,
                "\nNext: add --intake{option} or --ldif FILE to see whom it selects, and --entry LOGIN to see why not somebody."
            );
        }
    }
    text
}

/// How many entries reach each clause, and pass it.
fn counted_clauses(text: &mut String, filter: &Filter, passed: &[Passed], width: usize) {
    heading(text, "Clause by clause: how many entries reach it, and how many pass it");
    let clauses = filter.clauses();
    let mut table = columns(width, &[Some(8), Some(8), Some(widest(&clauses, width)), None]);
    table.add_row([" reached", "  passed", "clause", "alone, of all"].map(str::to_owned));
    for (clause, one) in clauses.iter().zip(passed).take(CLAUSES) {
        let undefined =
            if one.undefined > 0 { format!(", {} undefined", one.undefined) } else { String::new() };
        table.add_row([
            format!("{:>8}", one.reached),
            format!("{:>8}", one.passed),
            format!("{}{}", "  ".repeat(one.depth), in_words(clause)),
            format!("{}{undefined}", one.alone),
        ]);
    }
    text.push_str(&lines(&table));
}

/// The truth of each clause for one entry.
fn judged_clauses(text: &mut String, filter: &Filter, (dn, judged): (&str, &[Judged]), width: usize) {
    let truth = judged.first().map_or(Truth::Undefined, |whole| whole.truth);
    let is_in = if truth == Truth::True { "is selected" } else { "is not selected" };
    heading(text, &format!("{} {is_in}", harmless(dn)));
    let clauses = filter.clauses();
    let mut table = columns(width, &[Some(11), Some(widest(&clauses, width)), None]);
    for (clause, one) in clauses.iter().zip(judged).take(CLAUSES) {
        let word = match one.truth {
            Truth::True => "true",
            Truth::False => "false",
            Truth::Undefined => "undefined",
        };
        let mark = if one.decides { "* " } else { "  " };
        let mut values: Vec<String> = one.values.iter().map(|value| harmless(value)).collect();
        if one.more > 0 {
            values.push(format!("and {} more", one.more));
        }
        let shown = match (one.kind, values.is_empty()) {
            (ClauseKind::Item, true) => "has none".to_owned(),
            (ClauseKind::Item, false) => format!("has {}", values.join("; ")),
            _ => String::new(),
        };
        let clause = format!("{}{}", "  ".repeat(one.depth), in_words(clause));
        table.add_row([format!("{mark}{word}"), clause, shown]);
    }
    text.push_str(&lines(&table));
    let _ = writeln!(text, "  * these alone decide the result");
}

fn selection(text: &mut String, selected: &[String]) {
    heading(text, &format!("Selected ({})", selected.len()));
    for dn in selected.iter().take(LISTED) {
        let _ = writeln!(text, "  {}", harmless(dn));
    }
    if selected.len() > LISTED {
        let _ = writeln!(text, "  and {} more (--format json lists them all)", selected.len() - LISTED);
    }
}

/// The width of the column for clauses: at most half of the line.
fn widest(clauses: &[Clause<'_>], width: usize) -> u16 {
    let widths = clauses.iter().map(|clause| 2 * clause.depth + in_words(clause).chars().count());
    u16::try_from(widths.max().unwrap_or(0).min(width / 2)).unwrap_or(40).max(10)
}

fn means(text: &mut String, filter: &Filter, width: usize) {
    heading(text, "What it means");
    let mut table = columns(width, &[None]);
    for clause in filter.clauses().iter().take(CLAUSES) {
        table.add_row([format!("{}{}", "  ".repeat(clause.depth), in_words(clause))]);
    }
    text.push_str(&lines(&table));
}

fn advice(text: &mut String, answer: &FilterAnswer, width: usize) {
    if answer.advice.is_empty() {
        let _ = writeln!(text, "\n{}", paint(Tone::Good, "No advice: it does what it says."));
        return;
    }
    heading(text, "What to know about it");
    for advice in &answer.advice {
        let (tone, word) = match advice.weight {
            Weight::Wrong => (Tone::Bad, "wrong"),
            Weight::Surprise => (Tone::Warning, "surprise"),
            Weight::Note => (Tone::Quiet, "note"),
        };
        let mut table = columns(width, &[Some(9), Some(7), None]);
        let words = format!("{}: {}", harmless(&advice.clause), harmless(&advice.message));
        table.add_row([word.to_owned(), advice.code.to_owned(), words]);
        text.push_str(&lines(&table).replacen(word, &paint(tone, word), 1));
        if let Some(rewrite) = &advice.rewrite {
            let same = if advice.same { "The same, in better form" } else { "Perhaps you mean" };
            // Never wrapped, so that it can be copied.
            let _ = writeln!(text, "{:22}{same}:\n{:22}{}", "", "", harmless(&rewrite.to_string()));
        }
    }
}

/// A clause in everyday words.
fn in_words(clause: &Clause<'_>) -> String {
    let parts = match clause.filter {
        Filter::And(parts) | Filter::Or(parts) => parts.len(),
        _ => 1,
    };
    match (clause.kind, parts) {
        (ClauseKind::And, 0) => "always true".to_owned(),
        (ClauseKind::Or, 0) => "never true".to_owned(),
        (ClauseKind::And, 1) | (ClauseKind::Or, 1) => "this:".to_owned(),
        (ClauseKind::And, _) => "all of these:".to_owned(),
        (ClauseKind::Or, _) => "at least one of these:".to_owned(),
        (ClauseKind::Not, _) => "not:".to_owned(),
        (ClauseKind::Item, _) => match clause.filter {
            Filter::Item(item) => comparison(item),
            _ => String::new(),
        },
    }
}

fn comparison(item: &Item) -> String {
    let name = harmless(item.attribute().unwrap_or("something"));
    let shown = |value: &[u8]| harmless(&readable(item.attribute().unwrap_or(""), value));
    let piece = |value: &[u8]| format!("\"{}\"", harmless(&String::from_utf8_lossy(value)));
    match item {
        Item::Equal { value, .. } => format!("{name} is {}", shown(value)),
        Item::GreaterOrEqual { value, .. } => format!("{name} is {} or later, or more", shown(value)),
        Item::LessOrEqual { value, .. } => format!("{name} is {} or earlier, or less", shown(value)),
        Item::Approx { value, .. } => format!("{name} is like {}", shown(value)),
        Item::Present { .. } => format!("there is a {name}"),
        Item::Substrings { initial, any, last, .. } => {
            let mut parts = Vec::new();
            parts.extend(initial.as_deref().map(|value| format!("begins with {}", piece(value))));
            parts.extend(any.iter().map(|value| format!("contains {}", piece(value))));
            parts.extend(last.as_deref().map(|value| format!("ends with {}", piece(value))));
            format!("{name} {}", parts.join(" and "))
        }
        Item::Extensible { rule, value, dn, .. } => {
            let also = if *dn { ", in the entry's own name, too," } else { "" };
            match rule.as_deref() {
                Some("1.2.840.113556.1.4.803") => {
                    format!("all bits of {} are set in {name}{}", shown_bits(value), flag(&name, value))
                }
                Some("1.2.840.113556.1.4.804") => {
                    format!("at least one bit of {} is set in {name}", shown_bits(value))
                }
                Some("1.2.840.113556.1.4.1941") => {
                    format!("{name} is {}, directly or through others", shown(value))
                }
                Some(rule) => format!("{name}{also} is {} by the rule {}", shown(value), harmless(rule)),
                None => format!("{name}{also} is {}", shown(value)),
            }
        }
    }
}

fn shown_bits(value: &[u8]) -> String {
    harmless(&String::from_utf8_lossy(value))
}

/// The meaning of a userAccountControl bit.
fn flag(name: &str, value: &[u8]) -> String {
    if !name.eq_ignore_ascii_case("userAccountControl") {
        return String::new();
    }
    let told = readable(name, value);
    told.split_once(" (")
        .and_then(|(_, meaning)| meaning.strip_suffix(')'))
        .map_or_else(String::new, |meaning| format!(" ({meaning})"))
}
