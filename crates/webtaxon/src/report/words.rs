//! The words of a preview that are the same in a terminal and in a page.

use super::harmless;
use webtaxon_core::ldap::name;
use webtaxon_core::preview::{Cause, ChangeKind, GroupChange, GroupChangeKind, Wait};
use webtaxon_core::selection::{FunnelStep, Step};
use webtaxon_core::settings::Intake;
use webtaxon_core::words::counted;

/// A step of the funnel, as the settings at hand mean it.
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
        Step::Groups => format!("in {}, nested members too", names(&intake.groups)),
        Step::NotInGroup => format!("not in {}", names(&intake.not_in_group)),
        Step::Active => "active".to_owned(),
        Step::Earlier => "whom no earlier intake has".to_owned(),
        Step::Complete => {
            let required =
                intake.fields.iter().filter(|(_, rule)| rule.required).map(|(name, _)| name.as_str());
            format!("with a value for {}", required.collect::<Vec<_>>().join(" and "))
        }
        other => other.name().to_owned(),
    }
}

/// What a kind of change is called in a heading, and what it means.
#[must_use]
pub fn kind(kind: ChangeKind) -> (&'static str, &'static str) {
    match kind {
        ChangeKind::Import => ("Import", "these people get an account"),
        ChangeKind::Adopt => ("Adopt", "these accounts were made by hand and become the directory's"),
        ChangeKind::Update => ("Update", "these accounts get other values"),
        ChangeKind::Restore => ("Restore", "these accounts are opened again"),
        ChangeKind::Wait => ("Wait", "the days of grace of these accounts still run"),
        ChangeKind::Suspend => ("Suspend", "nobody may sign in to these any more; they are kept"),
        ChangeKind::Remove => ("Remove", "these accounts are deleted"),
        _ => ("Clash", "two claims on one account: you decide"),
    }
}

/// What a kind of change of a group is called in a heading, and what it means.
#[must_use]
pub fn group_kind(kind: GroupChangeKind) -> (&'static str, &'static str) {
    match kind {
        GroupChangeKind::Import => ("Import group", "these groups of the directory come in"),
        GroupChangeKind::Adopt => {
            ("Adopt group", "these groups were made by hand and become the directory's")
        }
        GroupChangeKind::Rename => ("Rename group", "the directory calls these groups otherwise now"),
        GroupChangeKind::Remove => ("Remove group", "these groups are deleted; their members' accounts stay"),
        _ => ("Update members", "these groups get or lose members"),
    }
}

/// How many come into a group and leave it: `+3 −1`.
#[must_use]
pub fn group_counts(change: &GroupChange) -> String {
    let count = |sign, list: &[String]| (!list.is_empty()).then(|| format!("{sign}{}", list.len()));
    let counts = [count("+", &change.come), count("−", &change.leave)];
    let counts: Vec<String> = counts.into_iter().flatten().collect();
    if counts.is_empty() { "nobody comes or leaves".to_owned() } else { counts.join(" ") }
}

/// A cause in words, where nothing more exact is known.
#[must_use]
pub fn cause(cause: Cause) -> &'static str {
    match cause {
        Cause::Gone => "no such entry any more",
        Cause::Outside => "not selected any more",
        Cause::Disabled => "the directory's account is not active",
        Cause::Incomplete => "a required value is missing",
    }
}

/// What is done when the days of grace are over, and when that is.
#[must_use]
pub fn wait(wait: &Wait) -> String {
    format!("missed since {}; {} on {}", wait.grace.since, wait.then.name(), wait.grace.until)
}

/// A name's first value, harmless; the whole name where it is not one.
#[must_use]
pub fn short(dn: &str) -> String {
    harmless(name::short(dn).trim())
}
