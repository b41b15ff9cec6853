//! The settings that decide who is in and what becomes of those who are not, as text, to be compared
//! with those of an earlier run.

use super::{Intake, Leaving, LeavingAction, LeavingRule, Settings};
use crate::name::Dn;
use std::collections::BTreeMap;

impl Settings {
    /// From the name of each setting that selects people to what it says. No secret is among them.
    #[must_use]
    pub fn selecting(&self) -> BTreeMap<String, String> {
        let Intake { bases, filter, groups, not_in_group, group_bases, active, leaving, .. } = &self.intake;
        let servers = self.directory().map(|directory| format!("{:?}", directory.servers));
        let required = self.intake.fields.iter().filter(|(_, rule)| rule.required);
        [
            ("servers", servers.unwrap_or_default()),
            ("bases", names(bases)),
            ("filter", filter.to_string()),
            ("only", self.intake.only.join("\n")),
            ("except", self.intake.except.join("\n")),
            ("groups", names(groups)),
            ("not_in_group", names(not_in_group)),
            ("group_bases", names(group_bases)),
            ("active", active.as_ref().map(ToString::to_string).unwrap_or_default()),
            ("locked", format!("{:?}", self.intake.locked)),
            ("identity", self.intake.identity.clone().unwrap_or_default()),
            ("member_login", self.intake.member_login.clone().unwrap_or_default()),
            ("required fields", required.map(|(name, _)| name.as_str()).collect::<Vec<_>>().join("\n")),
            ("leaving", in_words(leaving)),
        ]
        .into_iter()
        .filter(|(_, text)| !text.is_empty())
        .map(|(name, text)| (name.to_owned(), text))
        .collect()
    }
}

fn names(list: &[Dn]) -> String {
    list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

fn in_words(leaving: &Leaving) -> String {
    let one = |name: &str, rule: LeavingRule| {
        let action = match rule.action {
            LeavingAction::Remove => "remove",
            LeavingAction::Suspend => "suspend",
            LeavingAction::Keep => "keep",
        };
        format!("{name} {action} {}", rule.after_days)
    };
    let Leaving { gone, outside, disabled, incomplete } = *leaving;
    [("gone", gone), ("outside", outside), ("disabled", disabled), ("incomplete", incomplete)]
        .map(|(name, rule)| one(name, rule))
        .join("\n")
}
