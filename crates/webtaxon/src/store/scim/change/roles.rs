//! Roles that are groups: adding a user to them, and removing it.

use super::super::resource::{find, patch_of};
use super::super::service::{Fault, Wish, escaped};
use super::super::session::group as read_group;
use super::work::Work;
use crate::crash;
use crate::store::StoreError;
use reqwest::Method;
use serde_json::{Map, Value, json};
use std::collections::HashSet;
use webtaxon_core::account::Account;
use webtaxon_core::settings::rules::LIST;

impl Work<'_> {
    /// Checks that every role of an account has a group.
    pub(super) fn known_roles(&self, account: &Account) -> Result<(), String> {
        let groups = &self.everybody.groups;
        match roles(account).find(|role| !groups.iter().any(|group| group.name == *role)) {
            None => Ok(()),
            Some(missing) => {
                let names: Vec<&str> = groups.iter().map(|group| group.name.as_str()).take(10).collect();
                Err(format!("the service has no group `{missing}`; it has {}", names.join(", ")))
            }
        }
    }

    /// Adds a user to the groups of its roles, and removes it from others.
    pub(super) async fn set_roles(
        &mut self,
        id: &str,
        account: &Account,
    ) -> Result<Result<(), String>, StoreError> {
        let wanted: HashSet<&str> = roles(account).collect();
        let mut done: Vec<(usize, bool)> = Vec::new();
        for at in 0..self.everybody.groups.len() {
            let Some(group) = self.everybody.groups.get(at) else { continue };
            let is_in = group.members.contains(id);
            let wants = wanted.contains(group.name.as_str());
            if is_in == wants {
                continue;
            }
            match self.set_member(at, id, wants).await {
                Ok(()) => done.push((at, wants)),
                Err(Fault::Fatal(error)) => return Err(error),
                Err(Fault::Refused { words, .. } | Fault::Unclear(words)) => {
                    let name =
                        self.everybody.groups.get(at).map(|group| group.name.clone()).unwrap_or_default();
                    for (at, was_added) in done {
                        // The next preview finds whatever cannot be undone here.
                        let _ = self.set_member(at, id, !was_added).await;
                    }
                    return Ok(Err(format!("the role {name}: {words}")));
                }
            }
        }
        Ok(Ok(()))
    }

    /// Adds a user who was removed, and now is back under another id, to the groups that the old one was in.
    pub(super) async fn restore_groups(
        &mut self,
        account: &Account,
        id: &str,
    ) -> Result<Result<(), String>, StoreError> {
        let groups = self.originals.of(account).map(|(_, groups)| groups.to_vec()).unwrap_or_default();
        for group in groups {
            match self.put_member(&group, id, true).await {
                // A group that is gone has no members.
                Ok(()) | Err(Fault::Refused { status: 404 | 410, .. }) => {}
                Err(Fault::Fatal(error)) => return Err(error),
                Err(Fault::Refused { words, .. } | Fault::Unclear(words)) => {
                    return Ok(Err(format!("the group {group}: {words}")));
                }
            }
        }
        Ok(Ok(()))
    }

    /// Adds a user to the group of a role, or removes it.
    async fn set_member(&mut self, at: usize, id: &str, is_in: bool) -> Result<(), Fault> {
        let Some(group) = self.everybody.groups.get(at) else { return Ok(()) };
        let group = group.id.clone();
        self.put_member(&group, id, is_in).await?;
        if let Some(group) = self.everybody.groups.get_mut(at) {
            match is_in {
                true => group.members.insert(id.to_owned()),
                false => group.members.remove(id),
            };
        }
        Ok(())
    }

    /// Adds a user to one group, or removes it: by PATCH, and by PUT where the service does not do it by PATCH.
    async fn put_member(&mut self, group: &str, id: &str, is_in: bool) -> Result<(), Fault> {
        let path = format!("Groups/{}", escaped(group));
        let service = &self.session.service;
        let patches = service.patches();
        let mut by_patch = patches;
        let part = if is_in { "members who come" } else { "members who leave" };
        let mut refused = None;
        loop {
            let wish = self.membership(&path, id, is_in, by_patch).await?;
            let answer = service.ask(&wish).await;
            crash::point();
            let is_known = !patches || by_patch && self.seen.contains(part);
            match (answer, by_patch) {
                (Err(Fault::Fatal(error)), _) => return Err(Fault::Fatal(error)),
                (Err(fault), true) if fault.is_of_the_request() => refused = Some(fault),
                (Err(fault @ Fault::Refused { .. }), _) => return Err(refused.unwrap_or(fault)),
                (Ok(_), _) if is_known => break,
                (answer, _) => match (self.is_member(&path, id).await?, answer) {
                    (there, _) if there == is_in => break,
                    (_, Err(fault)) => return Err(fault),
                    (_, Ok(_)) if by_patch => {}
                    (_, Ok(_)) => {
                        let words = "the service accepts the change and does not keep it".to_owned();
                        return Err(Fault::Refused { status: 200, words });
                    }
                },
            }
            by_patch = false;
        }
        match by_patch {
            true => drop(self.seen.insert(part.to_owned())),
            false => service.give_up_patch(),
        }
        Ok(())
    }

    /// True if a user is in a group now.
    async fn is_member(&self, path: &str, id: &str) -> Result<bool, Fault> {
        Ok(match self.session.service.get(path, &[]).await? {
            Value::Object(there) => read_group(&there).members.contains(id),
            _ => false,
        })
    }

    /// The request that adds a user to one group, or removes it.
    async fn membership(&self, path: &str, id: &str, is_in: bool, by_patch: bool) -> Result<Wish, Fault> {
        let path = path.to_owned();
        let member = || json!({"value": id, "type": "User"});
        if by_patch {
            let operation = match is_in {
                true => json!({"op": "add", "path": "members", "value": [member()]}),
                false => json!({"op": "remove", "path": format!("members[value eq {}]", json!(id))}),
            };
            let body = Some(patch_of(&[operation]));
            return Ok(Wish { method: Method::PATCH, path, body, version: None });
        }
        let mut now = match self.session.service.get(&path, &[]).await? {
            Value::Object(group) => group,
            _ => Map::new(),
        };
        let members = find(&now, "members").and_then(Value::as_array).cloned().unwrap_or_default();
        let is_other = |one: &Value| one.get("value").and_then(Value::as_str) != Some(id);
        let mut members: Vec<Value> = members.into_iter().filter(is_other).collect();
        members.extend(is_in.then(member));
        now.insert("members".to_owned(), Value::Array(members));
        now.retain(|name, _| !["id", "meta"].contains(&name.as_str()));
        Ok(Wish { method: Method::PUT, path, body: Some(Value::Object(now)), version: None })
    }
}

fn roles(account: &Account) -> impl Iterator<Item = &str> {
    account.value("roles").split(LIST).map(str::trim).filter(|role| !role.is_empty())
}
