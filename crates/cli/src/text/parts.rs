//! Parts shared by several answers: headings, tables, lists, a field's change.

use crate::output::{Tone, paint};
use comfy_table::{ColumnConstraint, ContentArrangement, Table, Width, presets};
use std::fmt::Write as _;
use webtaxon::model::preview::{FieldChange, Preview};
use webtaxon::report::harmless;

pub(super) fn heading(text: &mut String, words: &str) {
    let _ = writeln!(text, "\n{}", paint(Tone::Heading, words));
}

/// The words after figures of a reading that is not whole.
pub(super) fn so_far(preview: &Preview) -> &'static str {
    if preview.is_whole() { "" } else { ", as far as it was read" }
}

/// A few lines under a title, if there are any; JSON has the rest.
pub(super) fn some(
    text: &mut String,
    width: usize,
    title: &str,
    list: impl ExactSizeIterator<Item = String>,
) {
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

/// One field, before and after.
pub(super) fn one_field(name: &str, field: &FieldChange) -> String {
    let shown = |value: &Option<String>| match value.as_deref() {
        None | Some("") => "(empty)".to_owned(),
        Some(value) => harmless(value),
    };
    format!("{}: {} → {}", harmless(name), shown(&field.old), shown(&field.new))
}

/// A table with a column for logins and one for people, adapted to the terminal.
pub(super) fn accounts_table(width: usize) -> Table {
    let at_most =
        |limit: u16, share: usize| u16::try_from(width / share).map_or(limit, |part| part.min(limit));
    columns(width, &[Some(at_most(18, 5)), Some(at_most(24, 4)), None])
}

/// A table without borders; a column without a given width takes the rest.
pub(super) fn columns(width: usize, widths: &[Option<u16>]) -> Table {
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

/// The table's lines, without the empty header and trailing blanks.
pub(super) fn lines(table: &Table) -> String {
    table.lines().skip(1).fold(String::new(), |mut text, line| {
        let _ = writeln!(text, "{}", line.trim_end());
        text
    })
}
