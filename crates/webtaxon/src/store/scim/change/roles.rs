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

    /// Adds a user to one group, or removes it.
    async fn set_member(&mut self, at: usize, id: &str, is_in: bool) -> Result<(), Fault> {
        let service = &self.session.service;
        let Some(group) = self.everybody.groups.get(at) else { return Ok(()) };
        let path = format!("Groups/{}", escaped(&group.id));
        let member = || json!({"value": id, "type": "User"});
        let (method, body) = if service.patches() {
            let operation = match is_in {
                true => json!({"op": "add", "path": "members", "value": [member()]}),
                false => json!({"op": "remove", "path": format!("members[value eq {}]", json!(id))}),
            };
            (Method::PATCH, patch_of(&[operation]))
        } else {
            let mut now = match service.get(&path, &[]).await? {
                Value::Object(group) => group,
                _ => Map::new(),
            };
            let members = find(&now, "members").and_then(Value::as_array).cloned().unwrap_or_default();
            let is_other = |one: &Value| one.get("value").and_then(Value::as_str) != Some(id);
            let mut members: Vec<Value> = members.into_iter().filter(is_other).collect();
            members.extend(is_in.then(member));
            now.insert("members".to_owned(), Value::Array(members));
            now.retain(|name, _| !["id", "meta"].contains(&name.as_str()));
            (Method::PUT, Value::Object(now))
        };
        let wish = Wish { method, path: path.clone(), body: Some(body), version: None };
        let answer = service.ask(&wish).await;
        crash::point();
        if let Err(fault) = answer {
            let Fault::Unclear(words) = fault else { return Err(fault) };
            let there = match service.get(&path, &[]).await? {
                Value::Object(there) => read_group(&there),
                _ => return Err(Fault::Unclear(words)),
            };
            if there.members.contains(id) != is_in {
                return Err(Fault::Unclear(words));
            }
        }
        if let Some(group) = self.everybody.groups.get_mut(at) {
            match is_in {
                true => group.members.insert(id.to_owned()),
                false => group.members.remove(id),
            };
        }
        Ok(())
    }
}

fn roles(account: &Account) -> impl Iterator<Item = &str> {
    account.value("roles").split(LIST).map(str::trim).filter(|role| !role.is_empty())
}
