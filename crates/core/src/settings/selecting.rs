//! The settings that decide who is in and what becomes of those who are not, as text, to be compared
//! with those of an earlier run.

use super::{GroupIntake, Intake, Leaving, LeavingAction, LeavingRule, Settings};
use crate::ldap::name::Dn;
use std::collections::BTreeMap;

impl Settings {
    /// From the name of each setting that selects people to what it says; with the intake's name before
    /// it where there are several. No secret is among them.
    #[must_use]
    pub fn selecting(&self) -> BTreeMap<String, String> {
        let mut all = BTreeMap::new();
        for intake in self.intakes.iter() {
            let servers = self.directories.get(&intake.directory).map(|one| format!("{:?}", one.servers));
            let own = [("servers", servers.unwrap_or_default())].into_iter().chain(texts(intake));
            for (name, text) in own.filter(|(_, text)| !text.is_empty()) {
                let name = if self.intakes.is_single() {
                    name.to_owned()
                } else {
                    format!("{}: {name}", intake.name)
                };
                all.insert(name, text);
            }
        }
        if !self.intakes.is_single() {
            let order: Vec<&str> = self.intakes.iter().map(|intake| intake.name.as_str()).collect();
            all.insert("order of the intakes".to_owned(), order.join("\n"));
        }
        all
    }
}

fn texts(intake: &Intake) -> [(&'static str, String); 14] {
    let Intake { bases, filter, groups, not_in_group, group_bases, active, leaving, .. } = intake;
    let required = intake.fields.iter().filter(|(_, rule)| rule.required);
    [
        ("bases", names(bases)),
        ("filter", filter.to_string()),
        ("only", intake.only.join("\n")),
        ("except", intake.except.join("\n")),
        ("groups", names(groups)),
        ("not_in_group", names(not_in_group)),
        ("group_bases", names(group_bases)),
        ("active", active.as_ref().map(ToString::to_string).unwrap_or_default()),
        ("locked", format!("{:?}", intake.locked)),
        ("identity", intake.identity.clone().unwrap_or_default()),
        ("member_login", intake.member_login.clone().unwrap_or_default()),
        ("required fields", required.map(|(name, _)| name.as_str()).collect::<Vec<_>>().join("\n")),
        ("leaving", in_words(leaving)),
        ("application_groups", intake.application_groups.as_ref().map(groups_in).unwrap_or_default()),
    ]
}

fn groups_in(groups: &GroupIntake) -> String {
    let GroupIntake { members, adopt, gone, .. } = groups;
    format!("{}\n{members:?} {adopt} {gone:?}", groups.which())
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
