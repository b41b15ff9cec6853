//! Text on the application's groups: changes to be made, and changes made.

use super::parts::{columns, heading, lines, one_field, some};
use crate::output::harmless;
use comfy_table::Table;
use std::fmt::Write as _;
use webtaxon::model::apply::GroupEdit;
use webtaxon::model::preview::{FieldChange, GroupChange, GroupChangeKind, GroupPreview, Preview};
use webtaxon::model::words::counted;
use webtaxon::report::words::{self, short};

/// Maximum logins listed for one group.
const MOST: usize = 8;

/// The changes to groups, if the settings import any.
pub(super) fn preview(text: &mut String, preview: &Preview, width: usize, limit: usize) {
    let Some(groups) = &preview.groups else { return };
    heading(text, &format!("Groups in the application{}", super::parts::so_far(preview)));
    figures(text, groups, width);
    for kind in GroupChangeKind::ALL {
        let list: Vec<&GroupChange> = groups.changes.iter().filter(|change| change.kind == kind).collect();
        if list.is_empty() {
            continue;
        }
        let (title, meaning) = words::group_kind(kind);
        heading(text, &format!("{title} ({}): {meaning}", list.len()));
        let mut table = table(width);
        let more = list.len().saturating_sub(limit);
        for change in list.into_iter().take(limit) {
            let mut what = vec![words::group_counts(change)];
            what.extend(change.new_name.as_ref().map(|name| renamed(&change.name, name)));
            what.extend(members("added", &change.come));
            let is_removed = change.kind == GroupChangeKind::Remove;
            what.extend(members(if is_removed { "members" } else { "removed" }, &change.leave));
            let pairs: Vec<String> = change.relabelled.iter().map(|pair| pair.join(" → ")).collect();
            what.extend(members("renamed", &pairs));
            table.add_row([harmless(&change.name), what.join("\n")]);
        }
        text.push_str(&lines(&table));
        if more > 0 {
            let _ = writeln!(text, "  and {more} more");
        }
    }
    let held = groups.held.iter().map(|one| match &one.dn {
        Some(dn) if short(dn) != harmless(&one.name) => {
            format!("{} ({}): {}", harmless(&one.name), short(dn), harmless(&one.message))
        }
        _ => format!("{}: {}", harmless(&one.name), harmless(&one.message)),
    });
    if !groups.held.is_empty() {
        text.push('\n');
    }
    some(text, width, "Groups left unchanged, though a change might be expected:", held);
}

fn figures(text: &mut String, groups: &GroupPreview, width: usize) {
    let mut table = columns(width, &[Some(7), Some(8), None]);
    table.add_row(["    now".to_owned(), "   after".to_owned(), String::new()]);
    table.add_row([format!("{:>7}", groups.now), format!("{:>8}", groups.after), "groups in all".to_owned()]);
    text.push_str(&lines(&table));
    let of = |kind| groups.changes.iter().filter(|change| change.kind == kind).count();
    let kinds = GroupChangeKind::ALL.into_iter().map(|kind| (of(kind), kind.name()));
    let kinds: Vec<String> =
        kinds.filter(|(count, _)| *count > 0).map(|(count, name)| format!("{count} {name}")).collect();
    let kinds = if kinds.is_empty() { "nothing to do".to_owned() } else { kinds.join(", ") };
    let unchanged = counted(groups.unchanged, "linked group is unchanged", "linked groups are unchanged");
    let mut table = columns(width, &[None]);
    table.add_row([format!("{kinds}; {unchanged}.")]);
    text.push_str(&lines(&table));
}

/// Edits of groups, with the outcome of each once they were made.
pub(super) fn edits<'e>(
    text: &mut String,
    list: impl Iterator<Item = (&'e GroupEdit, Option<String>)>,
    width: usize,
    limit: usize,
) {
    let list: Vec<(&GroupEdit, Option<String>)> = list.collect();
    for kind in GroupChangeKind::ALL {
        let own = list.iter().filter(|(edit, _)| edit.kind == kind);
        let count = own.clone().count();
        if count == 0 {
            continue;
        }
        heading(text, &format!("{} ({count})", words::group_kind(kind).0));
        let mut table = table(width);
        for (edit, outcome) in own.take(limit) {
            let mut what = Vec::new();
            if let (Some(before), Some(after)) = (&edit.before, &edit.after) {
                what.extend((before.name != after.name).then(|| renamed(&before.name, &after.name)));
                let link =
                    |group: &webtaxon::model::account::Group| group.link.as_ref().map(ToString::to_string);
                if before.link != after.link {
                    what.push(one_field("link", &FieldChange { old: link(before), new: link(after) }));
                }
            }
            what.extend(members("added", edit.coming()));
            what.extend(members(if edit.after.is_some() { "removed" } else { "members" }, edit.leaving()));
            what.extend(outcome.clone());
            table.add_row([harmless(edit.name()), what.join("\n")]);
        }
        text.push_str(&lines(&table));
        if count > limit {
            let _ = writeln!(text, "  and {} more", count - limit);
        }
    }
}

/// `3 import group, 1 update members` for the group edits of an apply; a group that both loses and gains members
/// counts once.
pub(super) fn counts(work: &webtaxon::apply::GroupWork) -> Vec<String> {
    let of = |kind: GroupChangeKind| {
        let names = work.all().filter(|edit| edit.kind == kind).map(GroupEdit::name);
        names.collect::<std::collections::HashSet<_>>().len()
    };
    let counts = GroupChangeKind::ALL.into_iter().map(|kind| (of(kind), kind.name()));
    counts.filter(|(count, _)| *count > 0).map(|(count, name)| format!("{count} {name}")).collect()
}

fn renamed(old: &str, new: &str) -> String {
    one_field("name", &FieldChange { old: Some(old.to_owned()), new: Some(new.to_owned()) })
}

/// Logins on one line; `None` if there are none.
fn members(title: &str, logins: &[String]) -> Option<String> {
    let shown: Vec<String> = logins.iter().take(MOST).map(|login| harmless(login)).collect();
    let more = logins.len().saturating_sub(MOST);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    (!shown.is_empty()).then(|| format!("{title}: {}{more}", shown.join(", ")))
}

fn table(width: usize) -> Table {
    columns(width, &[Some(u16::try_from(width / 4).map_or(28, |part| part.min(28))), None])
}
