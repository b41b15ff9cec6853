//! One person's membership in the application's groups, now and in future, and the directory groups behind it.

use super::{GroupChange, GroupChangeKind, Preview};
use crate::account::{Group, Groups, folded};
use crate::graph::GroupPath;
use crate::ldap::identity::{Identity, Lasting};
use crate::ldap::name::DnKey;
use crate::reading::Reading;
use serde::Serialize;
use std::collections::HashMap;

/// One of the application's groups, and whether a person is in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Belonging {
    /// The group's name in the application, or its future name.
    pub group: String,
    /// Whether the person is a member now.
    pub is_in: bool,
    /// Whether the person would be a member.
    pub would_be: bool,
    /// Whether the directory determines the group's members.
    pub linked: bool,
    /// The path of directory groups to the person, beginning with the imported one; empty if the person is not a
    /// member.
    #[serde(flatten)]
    pub path: GroupPath,
}

/// The groups of an account, under its current and its future login, sorted by name. `key` is its person's entry.
pub(super) fn belongings(
    preview: &Preview,
    groups: &Groups,
    readings: &[Reading],
    (login, after): (Option<&str>, &str),
    key: Option<&DnKey>,
) -> Vec<Belonging> {
    let Some(plan) = &preview.groups else { return Vec::new() };
    let lists = |list: &[String], login: &str| list.iter().any(|one| folded(one) == folded(login));
    let path = |link: Option<&Identity>| -> GroupPath {
        let through = |reading: &Reading| {
            let (link, key) = (link?, key?);
            let entries = reading.application_groups();
            let lasting = Lasting::new(reading.group_identity(), entries.names());
            let at = entries.iter().position(|entry| lasting.of(entry).as_ref() == Some(link))?;
            let reach = reading.graph().reach([reading.application_group_key(at)?]);
            let path = reach.path(reading.graph(), key);
            (!path.is_empty()).then_some(path)
        };
        readings.iter().find_map(through).unwrap_or_default()
    };
    let by_name: HashMap<&str, &GroupChange> =
        plan.changes.iter().map(|change| (change.name.as_str(), change)).collect();
    let now = groups.list.iter().map(|group: &Group| {
        let change = by_name.get(group.name.as_str()).copied();
        (group.name.as_str(), group.link.as_ref(), Some(group), change)
    });
    let new = plan.changes.iter().filter(|change| change.kind == GroupChangeKind::Import);
    let new = new.map(|change| (change.name.as_str(), change.link.as_ref(), None, Some(change)));
    let mut all: Vec<Belonging> = now
        .chain(new)
        .filter_map(|(name, link, group, change)| {
            let is_in = login.is_some_and(|login| group.is_some_and(|group| lists(&group.members, login)));
            let leaves = login.is_some_and(|login| change.is_some_and(|change| lists(&change.leave, login)));
            let comes = change.is_some_and(|change| lists(&change.come, after));
            let group = change.and_then(|change| change.new_name.clone()).unwrap_or_else(|| name.to_owned());
            let link = link.or(change.and_then(|change| change.link.as_ref()));
            (is_in || comes).then(|| Belonging {
                group,
                is_in,
                would_be: (is_in && !leaves) || comes,
                linked: link.is_some(),
                path: path(link),
            })
        })
        .collect();
    all.sort_by_cached_key(|one| folded(&one.group).into_owned());
    all
}
