//! Text for `why`: what would happen first, then why, then what would have to change.

use super::parts::{columns, heading, lines, one_field};
use super::preview::ways;
use crate::output::{Tone, harmless, paint};
use std::fmt::Write as _;
use webtaxon::model::account::State;
use webtaxon::model::preview::why::{Verdict, Why, WhyStep};
use webtaxon::model::preview::{Action, Change, ChangeKind, Held};
use webtaxon::model::settings::Settings;
use webtaxon::report::words::{self, short};

/// The explanation for one person.
pub(crate) fn why(why: &Why, settings: &Settings, width: usize, option: &str) -> String {
    let mut text = format!("{}\n", paint(Tone::Heading, &harmless(&why.name)));
    let entry = why.dn.as_deref().map_or_else(
        || "No directory entry is known for this account.".to_owned(),
        |dn| format!("Entry: {}", harmless(dn)),
    );
    let _ = writeln!(text, "{entry}");
    if !settings.intakes.is_single() && !why.steps.is_empty() {
        let _ = writeln!(text, "By the intake {}:", harmless(&why.intake));
    }
    if !why.whole {
        let words = "The directory was not read to its end: this is true as far as it was read.";
        let _ = writeln!(text, "{}", paint(Tone::Bad, words));
    }
    heading(&mut text, "What would happen");
    let (tone, words) = outcome(why);
    let mut table = columns(width, &[None]);
    table.add_row([words.clone()]);
    text.push_str(&lines(&table).replacen(&words, &paint(tone, &words), 1));
    let told = [ChangeKind::Import, ChangeKind::Remove];
    if let Some(change) = why.change.as_ref().filter(|change| !told.contains(&change.kind())) {
        changed(&mut text, change, width);
    }
    for change in &why.also {
        let mut table = columns(width, &[None]);
        table.add_row([of_change(change)]);
        text.push_str(&lines(&table));
        changed(&mut text, change, width);
    }
    if let (Some(_), Some(held)) = (&why.change, &why.held) {
        let mut table = columns(width, &[None]);
        table.add_row([of_held(held)]);
        text.push_str(&lines(&table));
    }
    if !why.steps.is_empty() {
        steps(&mut text, why, width);
    }
    account(&mut text, why, width);
    fields(&mut text, why, width);
    roles(&mut text, why, width);
    groups(&mut text, why, width);
    next(&mut text, why, option);
    text
}

/// What would happen, as a sentence.
fn outcome(why: &Why) -> (Tone, String) {
    if let Some(change) = &why.change {
        let tone = match change.kind() {
            ChangeKind::Suspend | ChangeKind::Remove | ChangeKind::Clash => Tone::Bad,
            _ => Tone::Good,
        };
        return (tone, of_change(change));
    }
    if let Some(held) = &why.held {
        return (Tone::Warning, of_held(held));
    }
    if !why.untouched.is_empty() {
        return (Tone::Quiet, format!("Nothing: {}, so it is never changed.", why.untouched));
    }
    let login = why.account.as_ref().map(|account| harmless(&account.login));
    match (login, why.account.as_ref().map(|account| account.state), why.selected) {
        (Some(login), _, true) => (Tone::Good, format!("Nothing: the account {login} is up to date.")),
        (Some(login), Some(State::Suspended), false) => {
            (Tone::Quiet, format!("Nothing: the account {login} is suspended already."))
        }
        (Some(login), _, false) => (Tone::Quiet, format!("Nothing happens to {login}.")),
        (None, _, true) => (Tone::Quiet, "Nothing.".to_owned()),
        (None, _, false) => {
            let out = why.against().find(|step| step.verdict == Verdict::No);
            let because = out.map(|step| format!(" at the step {}", step.name)).unwrap_or_default();
            (Tone::Warning, format!("No account: they are not selected{because}."))
        }
    }
}

fn of_held(held: &Held) -> String {
    let would = held.would.map(|kind| format!("It would be: {}. ", kind.name())).unwrap_or_default();
    let cause = held.cause.map(|cause| format!("{}: {}; ", cause.name(), words::cause(cause)));
    format!("{would}Held back: {}{}.", cause.unwrap_or_default(), harmless(&held.message()))
}

fn of_change(change: &Change) -> String {
    let login = harmless(&change.login);
    match &change.action {
        Action::Import { .. } => {
            let detail = change.detail().map(|detail| format!("\n{}", harmless(&detail)));
            format!("An account {login} would be created.{}", detail.unwrap_or_default())
        }
        Action::Adopt { .. } => {
            let detail = change.detail().map(|detail| harmless(&detail)).unwrap_or_default();
            format!("The account {login} ({detail}) would be linked to them.")
        }
        Action::Refresh(_) => {
            let detail = change.detail().map(|detail| harmless(&detail)).unwrap_or_default();
            format!("The account {login} would get new values: {detail}.")
        }
        Action::Update => format!("The account {login} would get new values."),
        Action::Restore => format!("The account {login} would become active again."),
        Action::Wait(departure, _) => {
            let (why, wait) = (harmless(&words::departure(departure)), words::wait(change));
            let wait = wait.unwrap_or_default();
            format!("Nothing yet: the days of grace of {login} are running ({why}; {wait}).")
        }
        Action::Await { .. } => {
            let (detail, wait) = (change.detail().unwrap_or_default(), words::wait(change));
            format!("Nothing yet: {login} {} ({}).", harmless(&detail), wait.unwrap_or_default())
        }
        Action::Suspend(departure) => {
            let (why, evidence) = (words::departure(departure), &departure.evidence);
            format!(
                "The account {login} would be suspended ({}).\nEvidence: {}.",
                harmless(&why),
                harmless(evidence)
            )
        }
        Action::Remove(departure) => {
            let (why, evidence) = (words::departure(departure), &departure.evidence);
            format!(
                "The account {login} would be removed ({}).\nEvidence: {}.",
                harmless(&why),
                harmless(evidence)
            )
        }
        Action::Clash(clash, _) => {
            let message = harmless(&clash.message());
            let end = if message.ends_with('?') { "" } else { "." };
            format!("Not done, until you settle a clash: {message}{end}\n{}", ways(change))
        }
        _ => String::new(),
    }
}

fn changed(text: &mut String, change: &Change, width: usize) {
    let mut table = columns(width, &[Some(2), None]);
    for (name, field) in &change.fields {
        table.add_row([String::new(), one_field(name, field)]);
    }
    text.push_str(&lines(&table));
}

fn steps(text: &mut String, why: &Why, width: usize) {
    let title = if why.selected { "Why they are selected" } else { "Why they are not selected" };
    heading(text, title);
    for step in &why.steps {
        let (tone, word) = match step.verdict {
            Verdict::Yes => (Tone::Good, "yes"),
            Verdict::No => (Tone::Bad, "no"),
            Verdict::Unknown => (Tone::Warning, "unknown"),
        };
        let mut table = columns(width, &[Some(8), Some(13), None]);
        table.add_row([word.to_owned(), step.name.to_owned(), one_step(step)]);
        text.push_str(&lines(&table).replacen(word, &paint(tone, word), 1));
    }
}

fn one_step(step: &WhyStep) -> String {
    let remedy = if step.remedy.is_empty() { String::new() } else { format!("\nTo do: {}", step.remedy) };
    format!("{}{remedy}", harmless(&step.message))
}

fn account(text: &mut String, why: &Why, width: usize) {
    let Some(account) = &why.account else { return };
    heading(text, "The account in the application");
    let state = if account.state == State::Active { "active" } else { "suspended" };
    let link = account.link.as_ref().map(|link| format!("; link {link}")).unwrap_or_default();
    let mut table = columns(width, &[None]);
    table.add_row([format!(
        "{}, {state}: {}{}",
        harmless(&account.login),
        harmless(&account.found),
        harmless(&link)
    )]);
    text.push_str(&lines(&table));
    for claim in &why.claims {
        let who =
            format!("{} ({})", harmless(&claim.login), harmless(claim.dn.as_deref().unwrap_or_default()));
        let words = match claim.clash() {
            Some(clash) => {
                format!("A clash: {who} has {}.\n{}", harmless(&clash.message()), ways(claim))
            }
            None => format!("{who} {}.", harmless(&claim.detail().unwrap_or_default())),
        };
        let mut table = columns(width, &[None]);
        table.add_row([words]);
        text.push_str(&lines(&table));
    }
}

fn fields(text: &mut String, why: &Why, width: usize) {
    if why.fields.is_empty() {
        return;
    }
    heading(text, "Fields");
    let names = why.fields.iter().map(|field| field.field.chars().count()).max().unwrap_or(0);
    let names = u16::try_from(names.clamp(6, 20)).unwrap_or(20) + 1;
    let mut table = columns(width, &[Some(names + 2), None]);
    for field in &why.fields {
        let value = match &field.value {
            Some(value) => format!("{}  (from {})", harmless(value), harmless(&field.from)),
            None => format!("(empty: {})", harmless(&field.from)),
        };
        let now = match &field.account {
            Some(now) if *now != field.value.clone().unwrap_or_default() => {
                let now = if now.is_empty() { "(empty)".to_owned() } else { harmless(now) };
                format!("\nin the application: {now}")
            }
            _ => String::new(),
        };
        table.add_row([harmless(&field.field), format!("{value}{now}")]);
    }
    text.push_str(&lines(&table));
}

fn roles(text: &mut String, why: &Why, width: usize) {
    if why.roles.is_empty() {
        return;
    }
    heading(text, "Roles");
    let mut table = columns(width, &[Some(8), Some(16), None]);
    for role in &why.roles {
        let word = match role.given {
            Some(true) => "yes",
            Some(false) => "no",
            None => "unknown",
        };
        let path = role.path.told(short);
        let through = if path.is_empty() { String::new() } else { format!(", through {}", path.join(" > ")) };
        let rule = if role.rule == "everybody" { "for everybody" } else { &role.rule };
        table.add_row([word.to_owned(), harmless(&role.role), format!("{}{through}", harmless(rule))]);
    }
    text.push_str(&lines(&table));
}

/// The application's groups that the account is, or would be, a member of.
fn groups(text: &mut String, why: &Why, width: usize) {
    if why.groups.is_empty() {
        return;
    }
    heading(text, "Groups in the application");
    let mut table = columns(width, &[Some(9), Some(24), None]);
    for one in &why.groups {
        let word = match (one.is_in, one.would_be) {
            (true, true) => "stays in",
            (true, false) => "leaves",
            (false, _) => "comes in",
        };
        let path = one.path.told(short);
        let through = match (one.linked, path.is_empty()) {
            (false, _) => "a group made by hand".to_owned(),
            (true, true) => "not in the directory's group".to_owned(),
            (true, false) => format!("through {}", path.join(" > ")),
        };
        table.add_row([word.to_owned(), harmless(&one.group), through]);
    }
    text.push_str(&lines(&table));
}

fn next(text: &mut String, why: &Why, option: &str) {
    let groups = why.against().any(|step| step.name == "groups" || step.name == "not_in_group");
    let filter = why.against().any(|step| step.name == "filter");
    text.push('\n');
    match (&why.dn, groups, filter) {
        (Some(dn), true, _) => {
            let _ = writeln!(
                text,
                "Next: webtaxon members{option} --of '{}' shows all their groups.",
                harmless(dn)
            );
        }
        (Some(dn), _, true) => {
            let _ = writeln!(
                text,
                "Next: webtaxon browse{option} '{}' shows everything the entry has.",
                harmless(dn)
            );
        }
        _ => {
            let _ = writeln!(text, "Next: webtaxon preview{option} shows what would happen to everybody.");
        }
    }
}
