//! The section of the page on the application's groups.

use super::super::words;
use super::parts::{full, list, text};
use maud::{Markup, html};
use webtaxon_core::preview::{GroupChange, GroupChangeKind, Preview};
use webtaxon_core::words::counted;

/// The changes to groups, if the settings import any.
pub(super) fn groups(preview: &Preview) -> Markup {
    let Some(groups) = &preview.groups else { return html! {} };
    let of = |kind| groups.changes.iter().filter(|change| change.kind == kind).collect::<Vec<_>>();
    let kinds = GroupChangeKind::ALL.into_iter().map(|kind| (kind, of(kind)));
    let kinds: Vec<_> = kinds.filter(|(_, list)| !list.is_empty()).collect();
    html! {
        section aria-labelledby="groups" {
            h2 id="groups" {
                "Groups in the application"
                @if !preview.is_whole() { ", as far as it was read" }
            }
            p {
                b { (groups.now) " → " (groups.after) } " groups in all; "
                (counted(groups.unchanged, "linked group is unchanged", "linked groups are unchanged")) "."
            }
            @if !kinds.is_empty() {
                table.changes.groups role="table" {
                    thead role="rowgroup" {
                        tr role="row" {
                            th role="columnheader" scope="col" { span { "Group" } }
                            th role="columnheader" scope="col" { span { "Members" } }
                            th role="columnheader" scope="col" { span { "Who comes and who leaves" } }
                        }
                    }
                    @for (kind, list) in &kinds { (of_kind(*kind, list)) }
                }
            }
            (list("Groups left unchanged, though a change might be expected", groups.held.iter().map(|one| format!("{}: {}", one.name, one.message))))
        }
    }
}

fn of_kind(kind: GroupChangeKind, list: &[&GroupChange]) -> Markup {
    let (title, meaning) = words::group_kind(kind);
    let colour = match kind {
        GroupChangeKind::Import | GroupChangeKind::Adopt => "k-import",
        GroupChangeKind::Remove => "k-remove",
        _ => "k-update",
    };
    html! {
        tbody role="rowgroup" {
            tr role="row" class=(format!("kind {colour}")) {
                th role="rowheader" aria-colspan="3" colspan="3" scope="rowgroup" { b { (title) " (" (list.len()) ")" } " " (meaning) }
            }
            @for change in list {
                tr role="row" {
                    td.login role="cell" {
                        (text(&change.name))
                        @if let Some(name) = &change.new_name { " → " (text(name)) }
                        @if let Some(dn) = &change.dn { (full(dn)) }
                    }
                    td role="cell" { (words::group_counts(change)) }
                    td role="cell" {
                        (members("added", &change.come))
                        (members(if kind == GroupChangeKind::Remove { "members" } else { "removed" }, &change.leave))
                        (members("renamed", &change.relabelled.iter().map(|pair| pair.join(" → ")).collect::<Vec<_>>()))
                    }
                }
            }
        }
    }
}

fn members(title: &str, logins: &[String]) -> Markup {
    html! {
        @if !logins.is_empty() {
            details open[logins.len() <= 12] {
                summary { (title) " (" (logins.len()) ")" }
                ul.values { @for login in logins { li { (text(login)) } } }
            }
        }
    }
}
