//! A group of the application before and after a change, and whether the change can still be made.

use super::Standing;
use crate::account::{Group, folded};
use crate::ldap::identity::Identity;
use crate::preview::{GroupChange, GroupChangeKind};
use foldhash::HashMap;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeSet;

/// A group before and after a change: what is carried out, checked and undone.
///
/// If the group remains, `before` has only the members who leave, `after` only those who join; other members do not
/// matter. If it is created or deleted, the one side has all of its members.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct GroupEdit {
    /// The kind of change, as in the preview.
    pub kind: GroupChangeKind,
    /// The group's entry, where one is known.
    pub dn: Option<String>,
    /// The group before; `None` if it is created.
    pub before: Option<Group>,
    /// The group after; `None` if it is deleted.
    pub after: Option<Group>,
}

impl GroupEdit {
    /// A change as its two steps: members leave before accounts are changed, and join afterwards.
    #[must_use]
    pub fn of(change: &GroupChange) -> [Option<Self>; 2] {
        let edit = |kind, before, after| Self { kind, dn: change.dn.clone(), before, after };
        let side = |name: &str, link: &Option<Identity>, members: Vec<String>| {
            Some(Group { name: name.to_owned(), link: link.clone(), members, ..Group::default() })
        };
        let Some(there) = change.there() else {
            let after = side(&change.name, &change.link, change.come.clone());
            return [None, Some(edit(change.kind, None, after))];
        };
        if change.kind == GroupChangeKind::Remove {
            return [Some(edit(change.kind, Some(there.clone()), None)), None];
        }
        let now = |members| side(&there.name, &there.link, members);
        let first = (!change.leave.is_empty())
            .then(|| edit(GroupChangeKind::Members, now(change.leave.clone()), now(Vec::new())));
        let [old, new] = change.replaced_logins();
        let name = change.new_name.as_ref().unwrap_or(&there.name);
        let before = now(old);
        let after = side(name, &change.link, change.come.iter().cloned().chain(new).collect());
        let last = (before != after).then(|| edit(change.kind, before, after));
        [first, last]
    }

    /// The edit that undoes this one.
    #[must_use]
    pub fn back(&self) -> Self {
        let kind = match self.kind {
            GroupChangeKind::Import => GroupChangeKind::Remove,
            GroupChangeKind::Remove => GroupChangeKind::Import,
            GroupChangeKind::Rename => GroupChangeKind::Rename,
            GroupChangeKind::Adopt | GroupChangeKind::Members => GroupChangeKind::Members,
        };
        Self { kind, dn: self.dn.clone(), before: self.after.clone(), after: self.before.clone() }
    }

    /// The name of the group: the current one, or the future one of a new group.
    #[must_use]
    pub fn name(&self) -> &str {
        self.before.as_ref().or(self.after.as_ref()).map_or("", |group| &group.name)
    }

    /// Whether it only takes away: the group itself, or members.
    #[must_use]
    pub fn lets_go(&self) -> bool {
        let same = |one: &Group, other: &Group| (&one.name, &one.link) == (&other.name, &other.link);
        match (&self.before, &self.after) {
            (Some(before), Some(after)) => after.members.is_empty() && same(before, after),
            (_, after) => after.is_none(),
        }
    }

    /// Members who leave; all of them if the group is deleted.
    #[must_use]
    pub fn leaving(&self) -> &[String] {
        self.before.as_ref().map_or(&[], |group| &group.members)
    }

    /// Members who join; all of them if the group is created.
    #[must_use]
    pub fn coming(&self) -> &[String] {
        self.after.as_ref().map_or(&[], |group| &group.members)
    }

    /// The members of the group after the edit.
    #[must_use]
    pub fn members_of(&self, there: &Group) -> Vec<String> {
        let (leaving, coming) = (keys(self.leaving()), keys(self.coming()));
        let stays = |login: &&String| {
            let key = folded(login);
            !leaving.contains(&key) && !coming.contains(&key)
        };
        there.members.iter().filter(stays).chain(self.coming()).cloned().collect()
    }
}

/// Whether each edit can still be made, given the application's groups. Other members of a group that remains do not
/// matter; one that is deleted must be as it was known.
#[must_use]
pub fn group_standings(edits: &[GroupEdit], groups: &[Group]) -> Vec<Standing> {
    let by_link: HashMap<&Identity, usize> =
        groups.iter().enumerate().filter_map(|(at, group)| Some((group.link.as_ref()?, at))).collect();
    let by_name: HashMap<Cow<'_, str>, usize> =
        groups.iter().enumerate().map(|(at, group)| (folded(&group.name), at)).collect();
    let find = |group: &Group| {
        let at = match &group.link {
            Some(link) => by_link.get(link),
            None => by_name.get(&folded(&group.name)),
        };
        at.and_then(|at| Some((*at, groups.get(*at)?)))
    };
    let named = |name: &str| by_name.get(&folded(name)).copied();
    edits.iter().map(|edit| judge(edit, &find, &named)).collect()
}

/// The groups after the edits that are ready, for applications that hold their groups in memory.
#[must_use]
pub fn made_groups(edits: &[GroupEdit], standings: &[Standing], groups: &[Group]) -> Vec<Group> {
    let mut list: Vec<Option<Group>> = groups.iter().cloned().map(Some).collect();
    for (edit, standing) in edits.iter().zip(standings) {
        match standing {
            Standing::Ready(None) => list.push(edit.after.clone()),
            Standing::Ready(Some(at)) => {
                let Some(slot) = list.get_mut(*at) else { continue };
                *slot = edit.after.as_ref().zip(slot.as_ref()).map(|(after, there)| Group {
                    name: after.name.clone(),
                    link: after.link.clone(),
                    members: edit.members_of(there),
                    fields: there.fields.clone(),
                });
            }
            _ => {}
        }
    }
    list.into_iter().flatten().collect()
}

/// Finds a group by its link, or by its name if it has none.
type Find<'f, 'g> = dyn Fn(&Group) -> Option<(usize, &'g Group)> + 'f;

fn judge(edit: &GroupEdit, find: &Find<'_, '_>, named: &dyn Fn(&str) -> Option<usize>) -> Standing {
    let taken = |name: &str| Standing::Stale(format!("another group is called {name} now"));
    match (&edit.before, &edit.after) {
        (None, None) => Standing::Made,
        (None, Some(after)) => match (find(after), named(&after.name)) {
            (Some((_, there)), _) if are_alike(after, there) => Standing::Made,
            (Some(_), _) => Standing::Stale(format!("the group {} was created meanwhile", after.name)),
            (None, Some(_)) => taken(&after.name),
            (None, None) => Standing::Ready(None),
        },
        (Some(before), None) => match find(before) {
            None => Standing::Made,
            Some((at, there)) if are_alike(before, there) => Standing::Ready(Some(at)),
            Some((_, there)) if there.name != before.name => renamed(there),
            Some(_) => Standing::Stale("it has other members now".to_owned()),
        },
        (Some(before), Some(after)) => {
            let Some((at, there)) = find(before).or_else(|| find(after)) else {
                return Standing::Stale("the group no longer exists".to_owned());
            };
            let has = keys(&there.members);
            let is_named = there.name == after.name;
            let members = after.members.iter().all(|login| has.contains(&folded(login)))
                && !before.members.iter().any(|login| has.contains(&folded(login)));
            if is_named && there.link == after.link && members {
                return Standing::Made;
            }
            if !is_named && there.name != before.name {
                return renamed(there);
            }
            if there.link != before.link && there.link != after.link {
                return Standing::Stale("it is linked to another group now".to_owned());
            }
            match named(&after.name) {
                Some(other) if other != at => taken(&after.name),
                _ => Standing::Ready(Some(at)),
            }
        }
    }
}

fn renamed(there: &Group) -> Standing {
    Standing::Stale(format!("it is called {} now", there.name))
}

fn are_alike(known: &Group, there: &Group) -> bool {
    known.name == there.name && known.link == there.link && keys(&known.members) == keys(&there.members)
}

/// Logins in the form in which they are compared.
fn keys(logins: &[String]) -> BTreeSet<Cow<'_, str>> {
    logins.iter().map(|login| folded(login)).collect()
}
