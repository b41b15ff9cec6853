//! The application's groups in a SCIM service (RFC 7643 §4.2): read at once, changed one by one.
//!
//! Each change is one request, made completely or not at all; if its response is lost, the group is read. Members
//! that are not users of the service, such as nested groups, are never touched.

use super::ScimStore;
use super::resource::{find, patch_of, text};
use super::service::{Fault, Resource, Service, Wish, escaped};
use super::session::{People, group as read_group};
use crate::crash;
use crate::store::{KnownHabits, Recorder, Rows, StoreError, StoreErrorKind, Terms};
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::sync::atomic::{AtomicU8, Ordering};
use webtaxon_core::account::Group;
use webtaxon_core::apply::{GroupEdit, Outcome, Standing, group_standings};
use webtaxon_core::ldap::identity::Identity;

/// The schema of a group.
const GROUP: &str = "urn:ietf:params:scim:schemas:core:2.0:Group";

/// All groups of a service, and its users by id.
struct Everything {
    service: Service,
    people: People,
    groups: Vec<Group>,
    /// The ids of the groups, in order.
    ids: Vec<String>,
    /// The parts of a change that were seen to have their effect by PATCH, as bits.
    patched: AtomicU8,
}

impl ScimStore {
    async fn everything(&self, habits: KnownHabits) -> Result<Everything, StoreError> {
        let service = Service::open(&self.settings, &self.folder, habits).await?;
        let mut people = People::default();
        for user in service.all("Users").await? {
            people.add(text(&user, "id"), text(&user, "userName"));
        }
        let (groups, ids) = people.groups(&service).await?;
        Ok(Everything { service, people, groups, ids, patched: AtomicU8::new(0) })
    }

    pub(super) async fn all_groups(&self) -> Result<Vec<Group>, StoreError> {
        Ok(self.everything(KnownHabits::default()).await?.groups)
    }

    pub(super) async fn change_groups(
        &self,
        edits: &[GroupEdit],
        terms: &Terms,
        mut record: Recorder,
    ) -> Result<(), StoreError> {
        let all = self.everything(terms.habits.clone()).await?;
        let mut failed = 0;
        for (at, (edit, standing)) in edits.iter().zip(group_standings(edits, &all.groups)).enumerate() {
            let outcome = match standing {
                Standing::Ready(place) => all.make(edit, place.and_then(|place| all.ids.get(place))).await?,
                other => Outcome::from(other),
            };
            failed += usize::from(matches!(outcome, Outcome::Failed(_)));
            if record(at, outcome).is_break() || terms.stop_after.is_some_and(|most| failed >= most) {
                break;
            }
        }
        Ok(())
    }
}

impl People {
    /// All groups of a service, with their ids.
    pub(super) async fn groups(&self, service: &Service) -> Result<(Vec<Group>, Vec<String>), StoreError> {
        let (mut groups, mut ids) = (Vec::new(), Vec::new());
        for resource in service.all("Groups").await? {
            ids.push(text(&resource, "id").to_owned());
            groups.push(self.group(&resource));
        }
        let mut links: HashMap<&Identity, &str> = HashMap::new();
        for group in &groups {
            if let Some(link) = &group.link
                && let Some(other) = links.insert(link, &group.name)
            {
                return Err(StoreErrorKind::BadRow {
                    store: service.name().to_owned(),
                    row: Rows::Groups.one(),
                    login: group.name.clone(),
                    what: format!("has the externalId of the group `{other}`"),
                    help: "no two may have one: correct the application's groups first",
                }
                .into());
            }
        }
        Ok((groups, ids))
    }

    /// A group with the users who are its members.
    fn group(&self, resource: &Resource) -> Group {
        let super::session::Group { name, members, .. } = read_group(resource);
        let mut members: Vec<String> = members.iter().filter_map(|id| self.logins.get(id).cloned()).collect();
        members.sort_unstable();
        let link = Identity::from_link(text(resource, "externalId"));
        Group { name, link, members, ..Group::default() }
    }
}

impl Everything {
    /// Makes one edit, of the group with this id if it exists.
    async fn make(&self, edit: &GroupEdit, id: Option<&String>) -> Result<Outcome, StoreError> {
        let wish = match self.wish(edit, id, self.service.patches()).await? {
            Ok(wish) => wish,
            Err(words) => return Ok(Outcome::Failed(words)),
        };
        let is_patch = wish.method == Method::PATCH;
        let answer = self.service.ask(&wish).await;
        crash::point();
        match answer {
            Ok(_) if is_patch && !self.is_kept(edit, id).await? => self.put_instead(edit, id, None).await,
            Ok(_) => Ok(Outcome::Done),
            Err(Fault::Fatal(error)) => Err(error),
            Err(fault) if is_patch && fault.is_of_the_request() => {
                self.put_instead(edit, id, Some(fault)).await
            }
            Err(Fault::Refused { status: 404 | 410, .. }) if edit.after.is_none() => Ok(Outcome::Made),
            Err(Fault::Refused { words, .. }) => Ok(Outcome::Failed(words)),
            // It may have been made all the same.
            Err(Fault::Unclear(words)) => {
                let groups = self.service.all("Groups").await?;
                let groups: Vec<Group> = groups.iter().map(|one| self.people.group(one)).collect();
                match group_standings(std::slice::from_ref(edit), &groups).first() {
                    Some(Standing::Made) => Ok(Outcome::Done),
                    _ => Ok(Outcome::Failed(format!("{words}; it was not made"))),
                }
            }
        }
    }

    /// Makes an edit by PUT that was refused by PATCH, or not made; keeps to PUT if that works.
    async fn put_instead(
        &self,
        edit: &GroupEdit,
        id: Option<&String>,
        refused: Option<Fault>,
    ) -> Result<Outcome, StoreError> {
        let wish = match self.wish(edit, id, false).await? {
            Ok(wish) => wish,
            Err(words) => return Ok(Outcome::Failed(words)),
        };
        let answer = self.service.ask(&wish).await;
        crash::point();
        // If its answer is lost, it may have been made all the same.
        let is_over = matches!(answer, Err(Fault::Fatal(_) | Fault::Refused { .. }));
        if !is_over && self.is_made(edit, id).await? {
            self.service.give_up_patch();
            return Ok(Outcome::Done);
        }
        match (answer, refused) {
            (Err(Fault::Fatal(error)), _) => Err(error),
            (Err(_), Some(Fault::Refused { words, .. } | Fault::Unclear(words)))
            | (Err(Fault::Refused { words, .. } | Fault::Unclear(words)), _) => Ok(Outcome::Failed(words)),
            (Ok(_), _) => {
                Ok(Outcome::Failed("the service accepts the change and does not keep it".to_owned()))
            }
        }
    }

    /// True if a change by PATCH has the effect that it should. Each part of a change is looked at until it has.
    async fn is_kept(&self, edit: &GroupEdit, id: Option<&String>) -> Result<bool, StoreError> {
        let (is_renamed, is_linked_anew) =
            edit.after.as_ref().map_or((false, false), |after| differences(edit, after));
        let parts = [!edit.coming().is_empty(), !edit.leaving().is_empty(), is_renamed, is_linked_anew];
        let parts = parts.into_iter().fold(0, |bits, part| (bits << 1) | u8::from(part));
        if self.patched.load(Ordering::Relaxed) & parts == parts {
            return Ok(true);
        }
        let is_kept = self.is_made(edit, id).await?;
        if is_kept {
            self.patched.fetch_or(parts, Ordering::Relaxed);
        }
        Ok(is_kept)
    }

    /// True if a group is as an edit leaves it.
    async fn is_made(&self, edit: &GroupEdit, id: Option<&String>) -> Result<bool, StoreError> {
        let path = format!("Groups/{}", escaped(id.map_or("", String::as_str)));
        let there = match self.service.get(&path, &[]).await.map_err(|fault| self.service.told(fault))? {
            Value::Object(there) => vec![self.people.group(&there)],
            _ => Vec::new(),
        };
        let standing = group_standings(std::slice::from_ref(edit), &there);
        Ok(matches!(standing.first(), Some(Standing::Made)))
    }

    /// The request for an edit of an existing group by PATCH or PUT, or of another one; or why there is none.
    async fn wish(
        &self,
        edit: &GroupEdit,
        id: Option<&String>,
        by_patch: bool,
    ) -> Result<Result<Wish, String>, StoreError> {
        let path = id.map_or_else(|| "Groups".to_owned(), |id| format!("Groups/{}", escaped(id)));
        let Some(after) = &edit.after else {
            return Ok(Ok(Wish { method: Method::DELETE, path, body: None, version: None }));
        };
        let joining = match self.ids(&after.members) {
            Ok(ids) => ids,
            Err(words) => return Ok(Err(words)),
        };
        // A deleted user is in no group.
        let leaving: Vec<&str> = edit.leaving().iter().filter_map(|login| self.people.id(login)).collect();
        let (method, body) = match id {
            None => (Method::POST, new_group(after, &joining)),
            Some(_) if by_patch => (Method::PATCH, patch(edit, after, &leaving, &joining)),
            Some(_) => {
                let now = self.service.get(&path, &[]).await.map_err(|fault| self.service.told(fault))?;
                let Value::Object(now) = now else {
                    return Ok(Err("the service does not return the group".to_owned()));
                };
                (Method::PUT, replaced(now, edit, after, &leaving, &joining))
            }
        };
        Ok(Ok(Wish { method, path, body: Some(body), version: None }))
    }

    fn ids(&self, logins: &[String]) -> Result<Vec<String>, String> {
        let id = |login: &String| self.people.id(login).map(str::to_owned);
        let of = |login| id(login).ok_or_else(|| format!("the service has no user {login}"));
        logins.iter().map(of).collect()
    }
}

fn members(ids: &[String]) -> Vec<Value> {
    ids.iter().map(|id| json!({"value": id, "type": "User"})).collect()
}

/// Whether the group gets another name, and another link.
fn differences(edit: &GroupEdit, after: &Group) -> (bool, bool) {
    let before = edit.before.as_ref();
    (
        before.is_some_and(|before| before.name != after.name),
        before.is_some_and(|before| before.link != after.link),
    )
}

/// The body of the request that creates a group.
fn new_group(after: &Group, joining: &[String]) -> Value {
    let mut body = json!({"schemas": [GROUP], "displayName": after.name, "members": members(joining)});
    if let (Some(link), Some(body)) = (&after.link, body.as_object_mut()) {
        body.insert("externalId".to_owned(), json!(link.to_string()));
    }
    body
}

/// The PATCH that changes a group.
fn patch(edit: &GroupEdit, after: &Group, leaving: &[&str], joining: &[String]) -> Value {
    let (is_renamed, is_linked_anew) = differences(edit, after);
    let mut operations = Vec::new();
    if is_renamed {
        operations.push(json!({"op": "replace", "path": "displayName", "value": after.name}));
    }
    if is_linked_anew {
        operations.push(match &after.link {
            Some(link) => json!({"op": "replace", "path": "externalId", "value": link.to_string()}),
            None => json!({"op": "remove", "path": "externalId"}),
        });
    }
    let removal = |id: &&str| json!({"op": "remove", "path": format!("members[value eq {}]", json!(id))});
    operations.extend(leaving.iter().map(removal));
    if !joining.is_empty() {
        operations.push(json!({"op": "add", "path": "members", "value": members(joining)}));
    }
    patch_of(&operations)
}

/// The body of the PUT that changes a group; other members are kept.
fn replaced(
    mut now: Resource,
    edit: &GroupEdit,
    after: &Group,
    leaving: &[&str],
    joining: &[String],
) -> Value {
    let there = find(&now, "members").and_then(Value::as_array).cloned().unwrap_or_default();
    let is_other = |one: &Value| {
        let id = one.get("value").and_then(Value::as_str).unwrap_or_default();
        !leaving.contains(&id) && !joining.iter().any(|joining| joining == id)
    };
    let mut list: Vec<Value> = there.into_iter().filter(is_other).collect();
    list.extend(members(joining));
    now.retain(|name, _| !["id", "meta", "members"].contains(&name.as_str()));
    now.insert("members".to_owned(), Value::Array(list));
    let (is_renamed, is_linked_anew) = differences(edit, after);
    if is_renamed {
        now.insert("displayName".to_owned(), json!(after.name));
    }
    if is_linked_anew {
        now.retain(|name, _| !name.eq_ignore_ascii_case("externalId"));
        now.extend(after.link.as_ref().map(|link| ("externalId".to_owned(), json!(link.to_string()))));
    }
    Value::Object(now)
}
