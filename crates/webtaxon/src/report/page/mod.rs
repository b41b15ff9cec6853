//! A preview as one page for somebody else to read and approve: nothing is loaded from elsewhere, everything is there
//! without scripts, and no directory value can become more than text.

mod groups;
mod parts;

use super::harmless;
use super::words::{self, short};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use parts::{full, list, text};
use ring::digest::{SHA256, digest};
use webtaxon_core::preview::{Change, ChangeKind, FieldChange, Held, IdleWord, IntakeSummary, Preview};
use webtaxon_core::settings::{Intake, Settings};

const STYLE: &str = include_str!("preview.css");
const SCRIPT: &str = include_str!("preview.js");

/// A preview as an HTML page; `made` is the time of the reading.
#[must_use]
pub fn preview_html(preview: &Preview, settings: &Settings, made: Timestamp) -> String {
    // Only this script and this style may run, whatever else might get into the page.
    let hash = |text: &str| STANDARD.encode(digest(&SHA256, text.as_bytes()));
    let policy = format!(
        "default-src 'none'; style-src 'sha256-{}'; script-src 'sha256-{}'; base-uri 'none'; form-action 'none'",
        hash(STYLE),
        hash(SCRIPT)
    );
    let names: Vec<String> = preview.intakes.iter().map(|part| harmless(&part.intake)).collect();
    let title =
        format!("Preview of {} {}", if names.len() == 1 { "intake" } else { "intakes" }, names.join(", "));
    let from: Vec<String> =
        preview.intakes.iter().map(|part| format!("{} at {}", part.directory, part.server)).collect();
    let mut from: Vec<String> = from.iter().map(|from| harmless(from)).collect();
    from.dedup();
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta http-equiv="Content-Security-Policy" content=(policy);
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="generator" content="webtaxon.preview/1";
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                a.skip href="#changes" { "To the changes" }
                header {
                    h1 { (title) }
                    p.quiet {
                        "Directory " (from.join(", ")) ", read on " (made.strftime("%Y-%m-%d at %H:%M UTC").to_string())
                        ". Nothing was changed: this was a preview."
                    }
                    (notices(preview))
                }
                main {
                    (figures(preview))
                    (who(preview, settings))
                    (changes(preview))
                    (held(&preview.held))
                    (groups::groups(preview))
                }
                footer { "Made by Webtaxon. The page is complete in itself: it loads nothing and sends nothing." }
                script { (PreEscaped(SCRIPT)) }
            }
        }
    };
    page.into_string()
}

/// Notices at the top: a reading that is not whole, and brakes.
fn notices(preview: &Preview) -> Markup {
    html! {
        @if let Some(run) = preview.interrupted {
            section.notice.bad {
                h2 { "Run " (run) " was interrupted" }
                p { "The next apply finds out what it did, before anything else." }
            }
        }
        @if preview.gaps.iter().any(|gap| !gap.is_fall) {
            section.notice.bad {
                h2 { "The directory was not read to its end" }
                p { "So no account is removed or suspended. What is missing:" }
                ul { @for gap in preview.gaps.iter().filter(|gap| !gap.is_fall) { li { (text(&gap.to_string())) } } }
            }
        }
        @if preview.gaps.iter().any(|gap| gap.is_fall) {
            section.notice.bad {
                h2 { "Less was seen than at the last apply" }
                p { "Whatever depends on it stays as it is. What was seen then, and not now:" }
                ul { @for gap in preview.gaps.iter().filter(|gap| gap.is_fall) { li { (text(&gap.to_string())) } } }
            }
        }
        @if !preview.brakes.is_empty() {
            section.notice.warn {
                h2 { "Brakes: limits that are exceeded" }
                ul { @for brake in &preview.brakes { li { b { (brake.kind) } ": " (brake.in_words()) } } }
                (list("Without a seat, after active and restored accounts have theirs", preview.unseated.iter().cloned()))
            }
        }
    }
}

fn figures(preview: &Preview) -> Markup {
    let counts = &preview.accounts;
    let is_over =
        counts.seats.is_some_and(|seats| u64::try_from(counts.active_after).unwrap_or(u64::MAX) > seats);
    let all: usize = preview.kinds.iter().map(|(_, count)| count).sum();
    let seats = counts.seats.map(|seats| format!(" (of {seats} seats)")).unwrap_or_default();
    html! {
        ul.figures {
            li { b { (counts.now) " → " (counts.after) } "accounts in all" }
            li.over[is_over] { b { (counts.active_now) " → " (counts.active_after) } "active" (seats) }
            li { b { (all) } (if all == 1 { "change" } else { "changes" }) }
            li { b { (preview.unchanged) } "unchanged" }
        }
    }
}

/// The number of people after each step, with a bar for those left and those who dropped out.
fn funnel(part: &IntakeSummary, intake: &Intake) -> Markup {
    let all = part.funnel.first().map_or(0, |step| step.left);
    let width = |count: usize| format!("{:.3}", permille(count, all));
    html! {
        table.funnel {
            @for step in &part.funnel {
                tr {
                    td.number { (step.left) }
                    td.number.quiet { @if step.lost > 0 { "−" (step.lost) } }
                    td.bar {
                        svg viewBox="0 0 1000 16" preserveAspectRatio="none" aria-hidden="true" {
                            rect.lost x="0" y="0" height="16" width=(width(step.left + step.lost)) {}
                            rect.left x="0" y="0" height="16" width=(width(step.left)) {}
                        }
                    }
                    th scope="row" { (text(&words::funnel_step(step, intake))) }
                }
            }
        }
    }
}

/// The people selected by each intake, and those left out or undecided.
fn who(preview: &Preview, settings: &Settings) -> Markup {
    html! {
        section aria-labelledby="funnel" {
            h2 id="funnel" {
                "Who is selected"
                @if !preview.is_whole() { ", as far as it was read" }
            }
            @for (part, intake) in preview.intakes.iter().zip(settings.intakes.iter()) {
                @if !preview.intakes.is_single() { h3 { "Intake " (text(&part.intake)) } }
                (funnel(part, intake))
            }
            (list("Left out, because a value is missing", preview.incomplete.iter().map(|one| format!("{}: {}", short(&one.dn), one.missing))))
            (list("In only or except, but matching nobody found", preview.nobody.iter().cloned()))
            (list("Lines of whose that cannot apply", preview.idle_words.iter().map(IdleWord::message)))
            (list("Fields left unchanged, because no usable value was found", preview.open_fields.iter().map(|one| format!("{}: {} {}", one.login, one.field, one.why))))
            (list("Group members who were not found: outside the bases, not matched by the filter, or deleted", preview.strangers.iter().map(|one| format!("{}, listed in {}", one.dn, short(&one.group)))))
            (list("On the way", preview.intakes.iter().flat_map(|part| &part.notes).cloned().collect::<Vec<_>>().into_iter()))
        }
    }
}

/// The ratio of `count` to `all`, in thousandths.
#[expect(clippy::cast_precision_loss, reason = "the length of a bar")]
fn permille(count: usize, all: usize) -> f64 {
    if all == 0 { 0.0 } else { count as f64 * 1_000.0 / all as f64 }
}

fn changes(preview: &Preview) -> Markup {
    let kinds: Vec<(ChangeKind, Vec<&Change>)> = ChangeKind::ALL
        .into_iter()
        .map(|kind| (kind, preview.of_kind(kind).collect::<Vec<_>>()))
        .filter(|(_, list)| !list.is_empty())
        .collect();
    html! {
        section aria-labelledby="changes" {
            h2 id="changes" tabindex="-1" { "What would change" }
            @if preview.left_out > 0 {
                p.quiet { (preview.left_out) " changes and held accounts are not shown in the lists." }
            }
            @if kinds.is_empty() && preview.left_out == 0 { p { "Nothing: every account is up to date." } }
            @else if !kinds.is_empty() {
                div.tools hidden role="search" {
                    label { "Find " input type="search" placeholder="any words"; }
                    @for (kind, list) in &kinds {
                        label {
                            input type="checkbox" value=(kind.name()) checked;
                            " " (kind.name()) " (" (list.len()) ")"
                        }
                    }
                    span.quiet role="status" {}
                }
                table.changes role="table" {
                    thead role="rowgroup" {
                        tr role="row" {
                            th role="columnheader" scope="col" { span { "Login" } }
                            th role="columnheader" scope="col" { span { "Person" } }
                            th role="columnheader" scope="col" { span { "What and why" } }
                        }
                    }
                    @for (kind, list) in &kinds { (of_kind(*kind, list)) }
                }
            }
        }
    }
}

fn of_kind(kind: ChangeKind, list: &[&Change]) -> Markup {
    let (title, meaning) = words::kind(kind);
    html! {
        tbody role="rowgroup" data-kind=(kind.name()) {
            tr role="row" class=(format!("kind k-{}", kind.name())) {
                th role="rowheader" aria-colspan="3" colspan="3" scope="rowgroup" { b { (title) " (" (list.len()) ")" } " " (meaning) }
            }
            @for change in list {
                tr role="row" {
                    td.login role="cell" { (text(&change.login)) }
                    td.person role="cell" {
                        @if let Some(dn) = &change.dn {
                            bdi { (short(dn)) }
                            (full(dn))
                        } @else if let Some(name) = change.fields.get("name").and_then(|field| field.old.as_deref()) {
                            bdi { "(" (harmless(name)) ")" }
                        }
                    }
                    td role="cell" { (what(change)) }
                }
            }
        }
    }
}

/// What happens to one account, and why.
fn what(change: &Change) -> Markup {
    let leaves = change.departure().map(|departure| {
        let wait = words::wait(change).map(|wait| format!("; {wait}"));
        words::departure(departure) + &wait.unwrap_or_default()
    });
    html! {
        @if let Some(clash) = change.clash() {
            p { (text(&clash.message())) }
            @for (at, way) in change.ways().iter().enumerate() {
                p.todo { @if at == 0 { "To do: " } @else { "Or: " } (text(&way.in_words())) }
            }
        }
        @if let (Some(leaves), Some(departure)) = (leaves, change.departure()) {
            p { (text(&leaves)) }
            p.quiet { "Evidence: " (text(&departure.evidence)) }
        }
        @else if let Some(detail) = change.detail() { p.todo { (text(&detail)) } }
        @if !change.path.is_empty() {
            ul.path aria-label="groups that select the person" {
                @for (at, group) in change.path.groups.iter().enumerate() {
                    @if at > 0 { li.to aria-hidden="true" { "›" } }
                    li title=(harmless(group)) { (text(&short(group))) }
                    @if let Some(omission) = change.path.omission().filter(|_| at == 0) {
                        li.to aria-hidden="true" { "›" }
                        li.to { (omission) }
                    }
                }
            }
        }
        @if change.kind() == ChangeKind::Remove {
            details { summary { "what is lost" } (fields(change, false)) }
        } @else { (fields(change, change.kind() != ChangeKind::Import)) }
    }
}

/// The fields of a change: old and new side by side, or only the side that exists.
fn fields(change: &Change, both: bool) -> Markup {
    let shown = |value: &Option<String>| -> Markup {
        match value.as_deref() {
            None | Some("") => html! { span.none { "empty" } },
            Some(value) => text(value),
        }
    };
    let one = |field: &FieldChange| if field.new.is_some() { shown(&field.new) } else { shown(&field.old) };
    html! {
        @if both && !change.fields.is_empty() {
            table.fields {
                @for (name, field) in &change.fields {
                    tr {
                        th scope="row" { (text(name)) }
                        td { span.old[field.old.as_deref().is_some_and(|old| !old.is_empty())] { (shown(&field.old)) } }
                        td { "→ " (shown(&field.new)) }
                    }
                }
            }
        } @else {
            ul.values {
                @for (name, field) in &change.fields {
                    li { span.quiet { (text(name)) } " " (one(field)) }
                }
            }
        }
    }
}

fn held(held: &[Held]) -> Markup {
    html! {
        @if !held.is_empty() {
            section aria-labelledby="held" {
                h2 id="held" { "Held back (" (held.len()) "): not done" }
                table.changes role="table" {
                    thead role="rowgroup" {
                        tr role="row" {
                            th role="columnheader" scope="col" { span { "Login" } }
                            th role="columnheader" scope="col" { span { "Person" } }
                            th role="columnheader" scope="col" { span { "Why" } }
                        }
                    }
                    tbody role="rowgroup" {
                        @for one in held {
                            tr role="row" {
                                td.login role="cell" { (text(&one.login)) }
                                td.person role="cell" { @if let Some(dn) = &one.dn { bdi { (short(dn)) } (full(dn)) } }
                                td role="cell" {
                                    @if let Some(cause) = one.cause { (cause.name()) "; " }
                                    @if let Some(kind) = one.would { "would be: " (kind.name()) "; " }
                                    (text(&one.message()))
                                }
                            }
                        }
                    }
                }
            }
        }
    }
}
