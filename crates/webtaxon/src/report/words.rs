//! The words of a preview, shared by the terminal and the page.

use super::harmless;
use webtaxon_core::ldap::name;
use webtaxon_core::preview::{Cause, Change, ChangeKind, Departure, GroupChange, GroupChangeKind};
use webtaxon_core::selection::{FunnelStep, Step};
use webtaxon_core::settings::Intake;
use webtaxon_core::words::counted;

/// A step of the funnel, in the words of the settings at hand.
#[must_use]
pub fn funnel_step(step: &FunnelStep, intake: &Intake) -> String {
    let names =
        |list: &[name::Dn]| list.iter().map(|dn| short(&dn.to_string())).collect::<Vec<_>>().join(" or ");
    match step.step {
        Step::Found => format!("found under {} by the filter", names(&intake.bases)),
        Step::Listed => {
            let only = match intake.only.as_slice() {
                [] => String::new(),
                list => format!("named in only ({})", counted(list.len(), "name", "names")),
            };
            let except = match intake.except.as_slice() {
                [] => String::new(),
                list => format!("not named in except ({})", counted(list.len(), "name", "names")),
            };
            [only, except].iter().filter(|text| !text.is_empty()).cloned().collect::<Vec<_>>().join(" and ")
        }
        Step::Groups => format!("in {}, directly or nested", names(&intake.groups)),
        Step::NotInGroup => format!("not in {}", names(&intake.not_in_group)),
        Step::Active => "active".to_owned(),
        Step::Earlier => "not selected by an earlier intake".to_owned(),
        Step::Complete => {
            let required =
                intake.fields.iter().filter(|(_, rule)| rule.required).map(|(name, _)| name.as_str());
            format!("with a value for {}", required.collect::<Vec<_>>().join(" and "))
        }
        other => other.name().to_owned(),
    }
}

/// The heading of a kind of change, and its meaning.
#[must_use]
pub fn kind(kind: ChangeKind) -> (&'static str, &'static str) {
    match kind {
        ChangeKind::Import => ("Import", "these people get an account"),
        ChangeKind::Adopt => ("Adopt", "these accounts get linked to a person"),
        ChangeKind::Update => ("Update", "these accounts get new values"),
        ChangeKind::Restore => ("Restore", "these accounts become active again"),
        ChangeKind::Wait => ("Wait", "these are done on a later day"),
        ChangeKind::Suspend => ("Suspend", "nobody can sign in to these any more; they are kept"),
        ChangeKind::Remove => ("Remove", "these accounts are deleted"),
        _ => ("Clash", "two claims on one account or value: you decide"),
    }
}

/// The heading of a kind of change to a group, and its meaning.
#[must_use]
pub fn group_kind(kind: GroupChangeKind) -> (&'static str, &'static str) {
    match kind {
        GroupChangeKind::Import => ("Import group", "these groups of the directory are created"),
        GroupChangeKind::Adopt => {
            ("Adopt group", "these groups were made by hand and get linked to a directory group")
        }
        GroupChangeKind::Rename => ("Rename group", "these groups have a new name in the directory"),
        GroupChangeKind::Remove => {
            ("Remove group", "these groups are deleted; their members' accounts are kept")
        }
        _ => ("Update members", "these groups gain or lose members"),
    }
}

/// The number of members who join and leave: `+3 −1`.
#[must_use]
pub fn group_counts(change: &GroupChange) -> String {
    let count = |sign, list: &[String]| (!list.is_empty()).then(|| format!("{sign}{}", list.len()));
    let counts = [count("+", &change.come), count("−", &change.leave)];
    let counts: Vec<String> = counts.into_iter().flatten().collect();
    if counts.is_empty() { "nobody joins or leaves".to_owned() } else { counts.join(" ") }
}

/// Why a person leaves: the cause, and what decided it.
#[must_use]
pub fn departure(departure: &Departure) -> String {
    let detail = departure.detail.as_deref().unwrap_or_else(|| cause(departure.cause));
    format!("{}: {detail}", departure.cause.name())
}

/// A cause in words, if nothing more specific is known.
#[must_use]
pub fn cause(cause: Cause) -> &'static str {
    match cause {
        Cause::Gone => "the entry no longer exists",
        Cause::Outside => "no longer selected",
        Cause::Disabled => "the account in the directory is not active",
        Cause::Incomplete => "a required value is missing",
    }
}

/// The change that is made on a later day, and the day; `None` for other changes.
#[must_use]
pub fn wait(change: &Change) -> Option<String> {
    let wait = change.wait()?;
    let then = format!("{} on {}", wait.then.name(), wait.grace.until);
    Some(match change.departure() {
        Some(_) => format!("missed since {}; {then}", wait.grace.since),
        None => then,
    })
}

/// A name's first value, escaped; the whole text if it is not a name.
#[must_use]
pub fn short(dn: &str) -> String {
    harmless(name::short(dn).trim())
}
