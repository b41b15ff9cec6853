//! Making edits in a SCIM service, where no transaction holds several of them together.
//!
//! Edits that do not depend on each other go in one request, if the service offers that. What is refused is
//! told and the rest goes on; where an answer is lost, the user is looked at before anything is said of it.

use super::resource::{find, patch, patch_of, sendable, text, write};
use super::service::{Fault, Resource, Wish, bytes_of, escaped};
use super::{Everybody, Group, Session};
use crate::crash;
use crate::store::{Outcome, Record, StoreError, Terms};
use reqwest::Method;
use serde_json::{Map, Value, json};
use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::{Mutex, PoisonError};
use webtaxon_core::account::{Account, State};
use webtaxon_core::apply::{Edit, Standing, order, standings};
use webtaxon_core::field::LIST;

/// The most changes of one bulk request, whatever more the service takes: so many answers can be lost at once.
const BATCH: usize = 100;

/// The edits under way.
struct Work<'a> {
    session: &'a Session,
    everybody: Everybody,
    edits: &'a [Edit],
    standings: Vec<Standing>,
    /// Users as they were before the edits that these take back, by link and by login.
    originals: HashMap<String, Resource>,
    /// Never waited for: it only makes this a value that several threads may look at.
    record: Mutex<Record<'a>>,
    stop_after: Option<usize>,
    failed: usize,
    is_over: bool,
}

/// A change that is ready to be asked for.
struct Prepared {
    place: usize,
    /// The user before and after; none where it comes or goes.
    before: Option<Resource>,
    after: Option<Resource>,
    /// None where only groups change.
    wish: Option<Wish>,
}

/// Why a change cannot be asked for.
enum Hindrance {
    /// What becomes of it.
    Told(Outcome),
    /// It names a person who may come in yet.
    Later(String),
}

impl From<String> for Hindrance {
    fn from(words: String) -> Self {
        Self::Told(Outcome::Failed(words))
    }
}

pub(super) async fn carry_out(
    session: &Session,
    everybody: Everybody,
    edits: &[Edit],
    terms: &Terms<'_>,
    record: Record<'_>,
) -> Result<(), StoreError> {
    let standings = standings(edits, &everybody.accounts, terms.unique);
    let groups = order(edits, &standings, &everybody.accounts);
    let mut work = Work {
        session,
        everybody,
        edits,
        standings,
        originals: terms.original.map(originals).unwrap_or_default(),
        record: Mutex::new(record),
        stop_after: terms.stop_after,
        failed: 0,
        is_over: false,
    };
    let idle: Vec<(usize, Outcome)> = work
        .standings
        .iter()
        .enumerate()
        .filter(|(_, standing)| !standing.is_ready())
        .map(|(place, standing)| (place, Outcome::from(standing.clone())))
        .collect();
    for (place, outcome) in idle {
        work.tell(place, outcome);
    }
    let mut waiting = work.make(groups).await?;
    // Who waits for somebody goes on once that person is there; the last round says of whom nobody came.
    while !waiting.is_empty() && !work.is_over {
        let before = waiting.len();
        let again = waiting.iter().map(|(place, _)| vec![*place]).collect();
        waiting = work.make(again).await?;
        if waiting.len() == before {
            for (place, words) in std::mem::take(&mut waiting) {
                work.tell(place, Outcome::Failed(words));
            }
        }
    }
    Ok(())
}

impl Work<'_> {
    fn tell(&mut self, place: usize, outcome: Outcome) {
        self.failed += usize::from(matches!(outcome, Outcome::Failed(_)));
        let record = self.record.get_mut().unwrap_or_else(PoisonError::into_inner);
        self.is_over |= !record(place, outcome);
        self.is_over |= self.stop_after.is_some_and(|most| self.failed >= most);
    }

    fn edit(&self, place: usize) -> Option<&Edit> {
        self.edits.get(place)
    }

    /// Makes groups of edits, one after the other; those who wait for a person, with the reason.
    async fn make(&mut self, groups: Vec<Vec<usize>>) -> Result<Vec<(usize, String)>, StoreError> {
        let mut waiting = Vec::new();
        let mut batch: Vec<Prepared> = Vec::new();
        let mut bytes = 0;
        // Logins that are left within the batch, and may be taken only behind it.
        let mut left: HashSet<String> = HashSet::new();
        let (most, most_bytes) = self.session.service.offer.bulk.unwrap_or((1, usize::MAX));
        for group in groups {
            if self.is_over {
                return Ok(waiting);
            }
            let &[place] = group.as_slice() else {
                self.flush(&mut batch).await?;
                self.ring(&group).await?;
                continue;
            };
            let takes =
                self.edit(place).and_then(|edit| Some(Account::login_key(&edit.after.as_ref()?.login)));
            if takes.is_some_and(|login| left.contains(&login)) {
                self.flush(&mut batch).await?;
                (bytes, left) = (0, HashSet::new());
            }
            let prepared = match self.prepare(place).await? {
                Ok(prepared) => prepared,
                Err(Hindrance::Told(outcome)) => {
                    self.tell(place, outcome);
                    continue;
                }
                Err(Hindrance::Later(words)) => {
                    waiting.push((place, words));
                    continue;
                }
            };
            let size = prepared.wish.as_ref().map_or(0, bytes_of);
            if !batch.is_empty() && (batch.len() >= most.min(BATCH) || bytes + size > most_bytes / 2) {
                self.flush(&mut batch).await?;
                (bytes, left) = (0, HashSet::new());
            }
            left.extend(prepared.before.as_ref().map(|user| Account::login_key(text(user, "userName"))));
            bytes += size;
            batch.push(prepared);
        }
        self.flush(&mut batch).await?;
        Ok(waiting)
    }

    /// Asks for what was gathered, and tells what became of it.
    async fn flush(&mut self, batch: &mut Vec<Prepared>) -> Result<(), StoreError> {
        if self.is_over {
            batch.clear();
        }
        let batch = std::mem::take(batch);
        let wishes: Vec<Wish> = batch.iter().filter_map(|one| one.wish.clone()).collect();
        let mut answers = self.session.service.ask_all(&wishes).await.into_iter();
        if !wishes.is_empty() {
            crash::point();
        }
        for prepared in batch {
            let place = prepared.place;
            let answer = match prepared.wish {
                Some(_) => match answers.next() {
                    Some(answer) => answer,
                    None => return Ok(()), // behind one that ended everything, which was told of
                },
                None => Ok(Value::Null),
            };
            let outcome = self.settle(prepared, answer).await?;
            self.tell(place, outcome);
        }
        Ok(())
    }

    /// What an edit asks for.
    async fn prepare(&self, place: usize) -> Result<Result<Prepared, Hindrance>, StoreError> {
        let gone = || Hindrance::Told(Outcome::Left("the account is not there any more".to_owned()));
        let (Some(edit), Some(Standing::Ready(at))) = (self.edit(place), self.standings.get(place)) else {
            return Ok(Err(gone()));
        };
        let Some(at) = at else { return Ok(self.new_user(place, edit)) };
        let Some(known) = self.everybody.users.get(*at) else { return Ok(Err(gone())) };
        // A service that gives no versions is asked once more, so that little time is left in between.
        if version(known).is_some_and(|_| self.session.service.offer.etag) {
            return Ok(self.changed_user(place, edit, known.clone()));
        }
        let there = self.session.service.user(text(known, "id")).await?;
        match self.judge(edit, there.as_ref())? {
            Standing::Ready(_) => {
                Ok(there.ok_or_else(gone).and_then(|user| self.changed_user(place, edit, user)))
            }
            other => Ok(Err(Hindrance::Told(other.into()))),
        }
    }

    fn new_user(&self, place: usize, edit: &Edit) -> Result<Prepared, Hindrance> {
        let Some(account) = &edit.after else { return Err(Hindrance::Told(Outcome::Made)) };
        let link = account.link.as_ref().map(ToString::to_string);
        let original = link.and_then(|link| self.originals.get(&link));
        let original = original.or_else(|| self.originals.get(&Account::login_key(&account.login)));
        let mut user = original.cloned().unwrap_or_default();
        if user.is_empty() {
            user.insert("active".to_owned(), Value::Bool(true));
        }
        self.fill(&mut user, account, account.fields.keys().map(|name| name.as_str()))?;
        let all = ["login", "link", "state"].into_iter();
        self.fill(&mut user, account, all)?;
        let wish = Wish {
            method: Method::POST,
            path: "Users".to_owned(),
            body: Some(sendable(&user)),
            version: None,
        };
        Ok(Prepared { place, before: None, after: Some(user), wish: Some(wish) })
    }

    fn changed_user(&self, place: usize, edit: &Edit, user: Resource) -> Result<Prepared, Hindrance> {
        let Some(account) = &edit.after else {
            let wish = Wish {
                method: Method::DELETE,
                path: path_of(&user),
                body: None,
                version: version(&user).map(str::to_owned),
            };
            return Ok(Prepared { place, before: Some(user), after: None, wish: Some(wish) });
        };
        let mut after = user.clone();
        self.fill(&mut after, account, edit.fields().keys().map(String::as_str))?;
        let wish = (after != user).then(|| self.wish(&user, &after));
        Ok(Prepared { place, before: Some(user), after: Some(after), wish })
    }

    /// Gives a user these fields of an account.
    fn fill<'n>(
        &self,
        user: &mut Resource,
        account: &Account,
        names: impl Iterator<Item = &'n str>,
    ) -> Result<(), Hindrance> {
        let set = |user: &mut Resource, name: &str, value: Option<Value>| {
            let known = user.keys().find(|known| known.eq_ignore_ascii_case(name)).cloned();
            let name = known.unwrap_or_else(|| name.to_owned());
            match value {
                Some(value) => drop(user.insert(name, value)),
                None => drop(user.shift_remove(&name)),
            }
        };
        for name in names {
            match name {
                "login" => set(user, "userName", Some(json!(account.login))),
                "link" => set(user, "externalId", account.link.as_ref().map(|link| json!(link.as_str()))),
                "state" => set(user, "active", Some(Value::Bool(account.state == State::Active))),
                "roles" if self.session.role_groups => self.known_roles(account)?,
                name => {
                    let place = self.session.places.iter().find(|(field, _)| field == name);
                    let Some((_, place)) = place else { continue };
                    let value = account.value(name);
                    let id = (place.is_person && !value.is_empty()).then(|| self.everybody.people.id(value));
                    let value = match id {
                        None => value,
                        Some(Some(id)) => id,
                        Some(None) => {
                            let words = format!("{name} is {value}, who is no user of the service");
                            return Err(Hindrance::Later(words));
                        }
                    };
                    write(user, place, value).map_err(|words| format!("{name}: {words}"))?;
                }
            }
        }
        Ok(())
    }

    /// Whether there is a group for each role of an account.
    fn known_roles(&self, account: &Account) -> Result<(), String> {
        let groups = &self.everybody.groups;
        match roles(account).find(|role| !groups.iter().any(|group| group.name == *role)) {
            None => Ok(()),
            Some(missing) => {
                let names: Vec<&str> = groups.iter().map(|group| group.name.as_str()).take(10).collect();
                Err(format!("the service has no group `{missing}`; it has {}", names.join(", ")))
            }
        }
    }

    /// The request that turns a user into another.
    fn wish(&self, before: &Resource, after: &Resource) -> Wish {
        let (method, body) = match self.session.service.offer.patch {
            true => (Method::PATCH, patch(before, after)),
            false => (Method::PUT, sendable(after)),
        };
        Wish { method, path: path_of(before), body: Some(body), version: version(before).map(str::to_owned) }
    }

    /// What became of an edit after its answer; its groups are set then.
    async fn settle(
        &mut self,
        prepared: Prepared,
        answer: Result<Value, Fault>,
    ) -> Result<Outcome, StoreError> {
        let Some(edit) = self.edits.get(prepared.place) else { return Ok(Outcome::Made) };
        let answer = match answer {
            Ok(answer) => answer,
            Err(Fault::Fatal(error)) => return Err(error),
            Err(Fault::Refused { status: 404 | 410, .. }) if edit.after.is_none() => {
                return Ok(Outcome::Made);
            }
            Err(Fault::Refused { status: 412, .. }) => {
                // Somebody changed something; it may be nothing that the edit is about.
                let before = prepared.before.as_ref().map(|user| text(user, "id")).unwrap_or_default();
                let there = self.session.service.user(before).await?;
                let again = match (self.judge(edit, there.as_ref())?, there) {
                    (Standing::Ready(_), Some(user)) => self.changed_user(prepared.place, edit, user),
                    (other, _) => return Ok(other.into()),
                };
                let again = match again {
                    Ok(Prepared { wish: Some(wish), .. }) => wish,
                    Ok(_) => return Ok(Outcome::Made),
                    Err(Hindrance::Told(outcome)) => return Ok(outcome),
                    Err(Hindrance::Later(words)) => return Ok(Outcome::Failed(words)),
                };
                match self.session.service.ask(&again).await {
                    Ok(answer) => answer,
                    Err(Fault::Fatal(error)) => return Err(error),
                    Err(Fault::Refused { status: 412, .. }) => {
                        return Ok(Outcome::Left("somebody is changing it at this moment".to_owned()));
                    }
                    Err(Fault::Refused { words, .. }) => return Ok(Outcome::Failed(words)),
                    Err(Fault::Unclear(words)) => match self.look(edit, &prepared).await? {
                        Ok(()) => Value::Null,
                        Err(why) => return Ok(Outcome::Failed(format!("{words}{why}"))),
                    },
                }
            }
            Err(Fault::Refused { words, .. }) => return Ok(Outcome::Failed(words)),
            Err(Fault::Unclear(words)) => match self.look(edit, &prepared).await? {
                Ok(()) => Value::Null,
                Err(why) => return Ok(Outcome::Failed(format!("{words}{why}"))),
            },
        };
        let Some(account) = &edit.after else { return Ok(Outcome::Done) };
        let id = match &prepared.before {
            Some(user) => text(user, "id").to_owned(),
            None => match id_of(&answer) {
                Some(id) => id,
                None => match self.session.service.called(&account.login).await? {
                    Some(user) => text(&user, "id").to_owned(),
                    None => return Ok(Outcome::Failed("it said yes, and has no such user".to_owned())),
                },
            },
        };
        self.everybody.people.add(&id, &account.login);
        let is_about_roles = self.session.role_groups && edit.fields().contains_key("roles");
        if !is_about_roles && edit.before.is_some() || !self.session.role_groups {
            return Ok(Outcome::Done);
        }
        match self.set_roles(&id, account).await? {
            Ok(()) => Ok(Outcome::Done),
            Err(words) => {
                let back = self.take_back(&id, &prepared).await;
                Ok(Outcome::Failed(match back {
                    Ok(()) => words,
                    Err(why) => format!("{words}; the rest of the change stands, since {why}"),
                }))
            }
        }
    }

    /// How an edit stands to the user as it is now.
    fn judge(&self, edit: &Edit, there: Option<&Resource>) -> Result<Standing, StoreError> {
        let account = match there {
            None => None,
            Some(user) => {
                let id = text(user, "id");
                let is_in = |group: &&Group| group.members.iter().any(|member| member == id);
                let groups = self.everybody.groups.iter().filter(is_in);
                let roles: Vec<&str> = groups.map(|group| group.name.as_str()).collect();
                Some(self.session.account(user, &self.everybody.people, &roles)?)
            }
        };
        let found = standings(std::slice::from_ref(edit), account.as_slice(), &[]);
        Ok(found.into_iter().next().unwrap_or(Standing::Made))
    }

    /// Looks whether a change was made of which no answer came; if not, what else there is to say.
    async fn look(&self, edit: &Edit, prepared: &Prepared) -> Result<Result<(), String>, StoreError> {
        let service = &self.session.service;
        let there = match (&prepared.before, &prepared.after) {
            (Some(user), _) => service.user(text(user, "id")).await?,
            (None, Some(user)) => service.called(text(user, "userName")).await?,
            (None, None) => None,
        };
        let is_made = match (&there, &prepared.after, &edit.after) {
            // Groups are set afterwards, so that of a new user only the link is looked at.
            (Some(user), _, Some(account)) if prepared.before.is_none() => {
                let link = account.link.as_ref().map(ToString::to_string).unwrap_or_default();
                text(user, "externalId").eq_ignore_ascii_case(&link)
            }
            (Some(user), Some(after), _) => sendable(user) == sendable(after),
            (there, _, _) => there.is_none() && edit.after.is_none(),
        };
        Ok(if is_made { Ok(()) } else { Err("; it was not made".to_owned()) })
    }

    /// Puts a user into the groups of its roles, and takes it out of the others.
    async fn set_roles(&mut self, id: &str, account: &Account) -> Result<Result<(), String>, StoreError> {
        let wanted: HashSet<&str> = roles(account).collect();
        let mut done: Vec<(usize, bool)> = Vec::new();
        for at in 0..self.everybody.groups.len() {
            let Some(group) = self.everybody.groups.get(at) else { continue };
            let is_in = group.members.iter().any(|member| member == id);
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
                        // What cannot be taken back is found by the next preview.
                        let _ = self.set_member(at, id, !was_added).await;
                    }
                    return Ok(Err(format!("the role {name}: {words}")));
                }
            }
        }
        Ok(Ok(()))
    }

    /// Puts a user into one group, or takes it out.
    async fn set_member(&mut self, at: usize, id: &str, is_in: bool) -> Result<(), Fault> {
        let service = &self.session.service;
        let Some(group) = self.everybody.groups.get(at) else { return Ok(()) };
        let path = format!("Groups/{}", escaped(&group.id));
        let member = || json!({"value": id, "type": "User"});
        let (method, body) = if service.offer.patch {
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
                Value::Object(there) => super::group(&there),
                _ => return Err(Fault::Unclear(words)),
            };
            if there.members.iter().any(|member| member == id) != is_in {
                return Err(Fault::Unclear(words));
            }
        }
        if let Some(group) = self.everybody.groups.get_mut(at) {
            group.members.retain(|member| member != id);
            group.members.extend(is_in.then(|| id.to_owned()));
        }
        Ok(())
    }

    /// Takes a change of a user back, of which the rest was refused.
    async fn take_back(&self, id: &str, prepared: &Prepared) -> Result<(), String> {
        let service = &self.session.service;
        let words = |fault: Fault| match fault {
            Fault::Refused { words, .. } | Fault::Unclear(words) => words,
            Fault::Fatal(error) => error.to_string(),
        };
        let Some(before) = &prepared.before else {
            let path = format!("Users/{}", escaped(id));
            let wish = Wish { method: Method::DELETE, path, body: None, version: None };
            return service.ask(&wish).await.map(|_| ()).map_err(words);
        };
        let Ok(Some(now)) = service.user(id).await else { return Err("the user cannot be read".to_owned()) };
        if sendable(&now) == sendable(before) {
            return Ok(());
        }
        service.ask(&self.wish(&now, before)).await.map(|_| ()).map_err(words)
    }

    /// Makes a ring of people who take each other's logins: the first is put aside, under a name of its own.
    async fn ring(&mut self, group: &[usize]) -> Result<(), StoreError> {
        // What is changed, and what it was before, in the order in which it was done.
        let mut done: Vec<(Resource, Resource)> = Vec::new();
        let mut prepared = Vec::new();
        let mut hindered = None;
        for place in group {
            match self.prepare(*place).await? {
                Ok(one) => prepared.push(one),
                Err(Hindrance::Told(Outcome::Failed(words)) | Hindrance::Later(words)) => {
                    hindered = Some(words)
                }
                Err(Hindrance::Told(_)) => {
                    hindered = Some("another of the same ring was left out".to_owned())
                }
            }
        }
        let mut steps: Vec<(Option<usize>, Resource)> = Vec::new();
        if let Some(first) = prepared.first().and_then(|first| first.before.clone()) {
            let mut aside = first.clone();
            let name = format!("{}.{}", text(&first, "userName"), text(&first, "id"));
            aside.insert("userName".to_owned(), json!(name));
            steps.push((None, aside));
        }
        let others = prepared.iter().enumerate().skip(1).rev();
        for (at, one) in others.chain(prepared.iter().enumerate().take(1)) {
            steps.extend(one.after.clone().map(|after| (Some(at), after)));
        }
        let mut now: HashMap<usize, Resource> =
            prepared.iter().enumerate().filter_map(|(at, one)| Some((at, one.before.clone()?))).collect();
        for (at, after) in steps {
            if hindered.is_some() {
                break;
            }
            let Some(before) = now.get(&at.unwrap_or(0)).cloned() else { continue };
            match self.turn(&before, &after).await {
                Ok(user) => {
                    now.insert(at.unwrap_or(0), user.clone());
                    done.push((user, before));
                }
                Err(Fault::Fatal(error)) => return Err(error),
                Err(Fault::Refused { words, .. } | Fault::Unclear(words)) => hindered = Some(words),
            }
        }
        let Some(mut words) = hindered else {
            for one in prepared {
                let place = one.place;
                let mut one = one;
                one.wish = None;
                let outcome = self.settle(one, Ok(Value::Null)).await?;
                self.tell(place, outcome);
            }
            return Ok(());
        };
        for (user, before) in done.into_iter().rev() {
            let there = self.session.service.user(text(&user, "id")).await?.unwrap_or(user);
            if self.turn(&there, &before).await.is_err() {
                words += &format!("; {} could not be put back", text(&before, "userName"));
            }
        }
        for place in group {
            self.tell(*place, Outcome::Failed(words.clone()));
        }
        Ok(())
    }

    /// Turns a user into another at once, and gives it as it is then.
    async fn turn(&self, before: &Resource, after: &Resource) -> Result<Resource, Fault> {
        let service = &self.session.service;
        let answer = service.ask(&self.wish(before, after)).await;
        crash::point();
        let lost = match answer {
            Ok(Value::Object(user)) if find(&user, "userName").is_some() => return Ok(user),
            Ok(_) => None,
            Err(Fault::Unclear(words)) => Some(words),
            Err(fault) => return Err(fault),
        };
        match (service.user(text(before, "id")).await.map_err(Fault::Fatal)?, lost) {
            (Some(user), None) => Ok(user),
            (Some(user), Some(_)) if text(&user, "userName") == text(after, "userName") => Ok(user),
            (_, words) => Err(Fault::Unclear(words.unwrap_or_else(|| "the user is gone".to_owned()))),
        }
    }
}

fn roles(account: &Account) -> impl Iterator<Item = &str> {
    account.value("roles").split(LIST).map(str::trim).filter(|role| !role.is_empty())
}

/// Where a user is.
fn path_of(user: &Resource) -> String {
    format!("Users/{}", escaped(text(user, "id")))
}

/// The version that a service gave of a user (RFC 7644 §3.14).
fn version(user: &Resource) -> Option<&str> {
    find(find(user, "meta")?.as_object()?, "version")?.as_str()
}

/// The id of a user who was made, in the answer to one request or to many.
fn id_of(answer: &Value) -> Option<String> {
    let object = answer.as_object()?;
    if let Some(id) = find(object, "id").and_then(Value::as_str) {
        return Some(id.to_owned());
    }
    let location = find(object, "location").and_then(Value::as_str)?;
    location.rsplit('/').next().filter(|id| !id.is_empty()).map(str::to_owned)
}

/// The users in a copy, by link and by login; none where it cannot be read.
fn originals(file: &Path) -> HashMap<String, Resource> {
    let copy = std::fs::read_to_string(file).unwrap_or_default();
    let users = copy.lines().filter_map(|line| serde_json::from_str::<Resource>(line).ok());
    let mut all = HashMap::new();
    for mut user in users {
        for name in ["id", "meta", "groups"] {
            user.shift_remove(name);
        }
        let link = webtaxon_core::identity::Identity::from_link(text(&user, "externalId"));
        let login = Account::login_key(text(&user, "userName"));
        if let Some(link) = link {
            all.insert(link.to_string(), user.clone());
        }
        all.insert(login, user);
    }
    all
}
