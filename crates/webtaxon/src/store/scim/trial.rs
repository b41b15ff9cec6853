//! A trial of a SCIM service with a scratch user: what it keeps, how it is changed, and whether it goes.

use super::resource::{find, patch, put, read, sendable, text, version, write};
use super::schema::{Kind, Place};
use super::service::{Fault, Resource, Service, Wish, escaped};
use super::session::{Everybody, Session};
use crate::secure::random_secret;
use crate::store::{StoreError, StoreErrorKind, Trial, TrialFinding};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use reqwest::Method;
use secrecy::{ExposeSecret as _, SecretString};
use serde_json::json;

/// The externalId of a scratch user, by which one is known that an interrupted trial left behind.
const MARK: &str = "webtaxon-scratch";

/// A value for each field, by the index of its place.
type Values = Vec<(usize, String)>;

/// A trial in progress.
struct Attempt<'a> {
    session: &'a Session,
    everybody: &'a Everybody,
    login: &'a str,
    /// The places, by index, that keep a new user's values as they were written.
    kept: Vec<usize>,
    findings: Vec<TrialFinding>,
}

/// Creates a user with this login, changes, suspends and removes it.
pub(super) async fn try_out(session: &Session, login: &str, unique: &[String]) -> Result<Trial, StoreError> {
    let service = &session.service;
    if let Some(user) = service.called(login).await? {
        if text(&user, "externalId") != MARK {
            let (store, login) = (service.name().to_owned(), login.to_owned());
            return Err(StoreErrorKind::ScratchTaken { store, login }.into());
        }
        delete(service, text(&user, "id")).await.map_err(|fault| service.told(fault))?;
    }
    let everybody = session.everybody().await?;
    let mut attempt =
        Attempt { session, everybody: &everybody, login, kept: Vec::new(), findings: Vec::new() };
    service.habits.add(|habits| habits.whole = false);
    attempt.all_steps(unique).await?;
    let today = Timestamp::now().to_zoned(TimeZone::UTC).date();
    service.habits.add(|habits| habits.tried = Some(today));
    Ok(Trial { habits: service.habits.now(), findings: attempt.findings })
}

/// What became of a change.
enum Effect {
    Whole,
    /// These fields are not as written.
    Lost(Vec<usize>),
    Refused(String),
}

impl<'a> Attempt<'a> {
    async fn all_steps(&mut self, unique: &[String]) -> Result<(), StoreError> {
        let Some(id) = self.create(unique).await? else { return Ok(()) };
        let steps = self.change_and_suspend(&id, unique).await;
        // Whatever happened, the user goes again.
        self.remove(&id).await?;
        steps
    }

    /// Creates the user, with made-up values or, if these are refused, with values that others have.
    async fn create(&mut self, unique: &[String]) -> Result<Option<String>, StoreError> {
        let service = &self.session.service;
        let mut refusal = String::new();
        let secrets = self
            .session
            .places
            .iter()
            .enumerate()
            .filter(|(_, (field, _))| self.session.secrets.contains(field));
        let secrets = secrets.filter_map(|(at, _)| Some((at, random_secret().ok()?)));
        let secrets: Vec<(usize, SecretString)> = secrets.collect();
        for may_invent in [true, false] {
            let values = self.values(1, unique, may_invent);
            let mut user = Resource::new();
            for (name, value) in
                [("userName", json!(self.login)), ("externalId", json!(MARK)), ("active", json!(true))]
            {
                put(&mut user, name, Some(value));
            }
            self.fill(&mut user, &values);
            for (at, secret) in &secrets {
                self.fill(&mut user, &vec![(*at, secret.expose_secret().to_owned())]);
            }
            let wish = Wish {
                method: Method::POST,
                path: "Users".to_owned(),
                body: Some(sendable(&user)),
                version: None,
            };
            let answer = service.ask(&wish).await;
            let is_made = answer.is_ok();
            match answer {
                Ok(_) => {}
                Err(Fault::Refused { words, .. } | Fault::Unclear(words)) => refusal = words,
                Err(fault) => return Err(service.told(fault)),
            }
            // Somebody else may have come by this login meanwhile.
            let there = service.called(self.login).await?;
            if let Some(there) = there.filter(|user| is_made || text(user, "externalId") == MARK) {
                self.look_at_new(&there, &values);
                return Ok(Some(text(&there, "id").to_owned()));
            }
        }
        let words = format!("the user {} cannot be created: {refusal}", self.login);
        let words =
            secrets.iter().fold(words, |words, (_, secret)| words.replace(secret.expose_secret(), "***"));
        self.bad(words, "give the token the right to create users, or name a login that the service accepts");
        Ok(None)
    }

    fn look_at_new(&mut self, there: &Resource, values: &Values) {
        let lost = self.lost(there, values);
        let is_unlinked = text(there, "externalId") != MARK;
        if is_unlinked {
            self.bad(
                "the service does not keep `externalId`, by which an account is linked to its person",
                "without it nobody is found again under another login; ask the service's operators for it",
            );
        }
        let (mut dropped, mut other) = (Vec::new(), Vec::new());
        for (at, written) in values.iter().filter(|(at, _)| lost.contains(at)) {
            let Some((field, place)) = self.session.places.get(*at) else { continue };
            match self.shown(there, place) {
                None => dropped.push(field.as_str()),
                Some(value) => other.push(format!("{field}: {written} becomes {value}")),
            }
        }
        if !dropped.is_empty() {
            let told: Vec<String> = dropped.iter().map(|field| self.named(field)).collect();
            let words = format!("the service takes {} and does not keep it", told.join(", "));
            self.session.learn(&dropped);
            self.bad(words, "keep it in another place, by `attributes` in [accounts], or remove its rule");
        }
        if !other.is_empty() {
            let words = format!("the service changes what is written: {}", other.join("; "));
            self.odd(words, "each preview would change it again: let the rule draw it in that form");
        }
        self.kept = values.iter().map(|(at, _)| *at).filter(|at| !lost.contains(at)).collect();
        let kept: Vec<&str> = self.kept.iter().filter_map(|at| self.field(*at)).collect();
        // What is known from earlier is out of date.
        let paths: Vec<&str> = kept.iter().filter_map(|field| self.session.path(field)).collect();
        self.session
            .service
            .habits
            .add(|habits| habits.drops.retain(|path, _| !paths.contains(&path.as_str())));
        let link = if is_unlinked { "" } else { "its link, " };
        let kept =
            if kept.is_empty() { "its login".to_owned() } else { format!("its login, {}", kept.join(", ")) };
        self.good(format!("the user {} was created, with {link}{kept}", self.login));
    }

    async fn change_and_suspend(&mut self, id: &str, unique: &[String]) -> Result<(), StoreError> {
        let mut values = self.values(2, unique, true);
        values.retain(|(at, _)| self.kept.contains(at));
        let set = |attempt: &Self, user: &mut Resource| attempt.fill(user, &values);
        if !values.is_empty() {
            self.change(id, "changed", &values, &set).await?;
        }
        let empty: Values = self.kept.iter().map(|at| (*at, String::new())).collect();
        let clear = |attempt: &Self, user: &mut Resource| attempt.fill(user, &empty);
        if !empty.is_empty() {
            self.change(id, "emptied", &empty, &clear).await?;
        }
        let service = &self.session.service;
        let suspend = |_: &Self, user: &mut Resource| put(user, "active", Some(json!(false)));
        self.change(id, "suspended", &Vec::new(), &suspend).await?;
        let is_active =
            service.user(id).await?.is_none_or(|user| find(&user, "active") != Some(&json!(false)));
        match is_active {
            true => self.bad(
                "the user cannot be suspended: `active` stays as it is",
                "whoever leaves would still be able to sign in: use removal in [intake.leaving], or ask the service's operators",
            ),
            false => self.good("the user was suspended"),
        }
        Ok(())
    }

    /// Makes a change by PATCH, and by PUT where that does less.
    async fn change(
        &mut self,
        id: &str,
        what: &str,
        values: &Values,
        set: &(dyn Fn(&Self, &mut Resource) + Sync),
    ) -> Result<(), StoreError> {
        let service = &self.session.service;
        let names = |attempt: &Self, lost: &[usize]| match lost {
            [] => "active".to_owned(),
            lost => lost.iter().filter_map(|at| attempt.field(*at)).collect::<Vec<_>>().join(", "),
        };
        if service.patches() {
            match self.ask(id, Method::PATCH, values, set).await? {
                Effect::Whole => {
                    self.say_changed(what, values, "PATCH");
                    return Ok(());
                }
                Effect::Lost(lost) => {
                    let words = format!("PATCH has no effect on {}", names(self, &lost));
                    self.odd(words, "");
                }
                Effect::Refused(words) => self.odd(format!("PATCH is refused: {words}"), ""),
            }
        }
        match self.ask(id, Method::PUT, values, set).await? {
            Effect::Whole => {
                if service.offer.patch {
                    service.give_up_patch();
                }
                self.say_changed(what, values, "PUT");
            }
            // The suspension, of which its own line tells.
            Effect::Lost(lost) if lost.is_empty() => {}
            Effect::Lost(lost) => {
                let words = format!("{} cannot be {what}, neither by PATCH nor by PUT", names(self, &lost));
                self.odd(words, "such changes will be refused, and told by each apply");
            }
            Effect::Refused(words) => {
                self.bad(
                    format!("the user cannot be {what}: {words}"),
                    "give the token the right to change users",
                );
            }
        }
        Ok(())
    }

    fn say_changed(&mut self, what: &str, values: &Values, how: &str) {
        let fields: Vec<&str> = values.iter().filter_map(|(at, _)| self.field(*at)).collect();
        if !fields.is_empty() {
            self.good(format!("{} can be {what} by {how}", fields.join(", ")));
        }
    }

    /// Requests one change, and looks at its effect.
    async fn ask(
        &self,
        id: &str,
        method: Method,
        values: &Values,
        set: &(dyn Fn(&Self, &mut Resource) + Sync),
    ) -> Result<Effect, StoreError> {
        let service = &self.session.service;
        let Some(before) = service.user(id).await? else {
            return Ok(Effect::Refused("it is gone".to_owned()));
        };
        let mut after = before.clone();
        set(self, &mut after);
        let body = if method == Method::PATCH { patch(&before, &after) } else { sendable(&after) };
        let path = format!("Users/{}", escaped(id));
        match service
            .ask(&Wish { method, path, body: Some(body), version: version(&before).map(str::to_owned) })
            .await
        {
            Ok(_) | Err(Fault::Unclear(_)) => {}
            Err(Fault::Refused { words, .. }) => return Ok(Effect::Refused(words)),
            Err(fault) => return Err(service.told(fault)),
        }
        let there = service.user(id).await?.unwrap_or_default();
        let lost = self.lost(&there, values);
        let is_active = find(&there, "active") == find(&after, "active");
        Ok(match lost.is_empty() && is_active {
            true => Effect::Whole,
            false => Effect::Lost(lost),
        })
    }

    /// Removes the user.
    async fn remove(&mut self, id: &str) -> Result<(), StoreError> {
        let service = &self.session.service;
        match delete(service, id).await {
            Ok(()) | Err(Fault::Refused { status: 404 | 410, .. } | Fault::Unclear(_)) => {}
            Err(Fault::Refused { words, .. }) => {
                let words = format!("the user {} cannot be removed: {words}", self.login);
                self.bad(
                    words,
                    "remove it by hand; with gone = \"suspend\" in [intake.leaving] nobody is removed",
                );
                return Ok(());
            }
            Err(fault) => return Err(service.told(fault)),
        }
        match service.user(id).await? {
            None => self.good(format!("the user {} was removed", self.login)),
            Some(_) => self.odd(
                format!("the user {} is still there after its removal", self.login),
                "remove it by hand; with gone = \"suspend\" in [intake.leaving] nobody is removed",
            ),
        }
        Ok(())
    }

    /// The fields that are not as written.
    fn lost(&self, there: &Resource, values: &Values) -> Vec<usize> {
        let is_lost = |(at, value): &&(usize, String)| {
            let place = self.session.places.get(*at).map(|(_, place)| place);
            place.is_some_and(|place| self.shown(there, place).unwrap_or_default() != *value)
        };
        values.iter().filter(is_lost).map(|(at, _)| *at).collect()
    }

    /// The value of a place; a person by login.
    fn shown(&self, user: &Resource, place: &Place) -> Option<String> {
        let value = read(user, place).filter(|value| !value.is_empty())?;
        let login = self.everybody.people.logins.get(&value).filter(|_| place.is_person);
        Some(login.cloned().unwrap_or(value))
    }

    fn fill(&self, user: &mut Resource, values: &Values) {
        for (at, value) in values {
            let Some((_, place)) = self.session.places.get(*at) else { continue };
            let id = if place.is_person { self.everybody.people.id(value) } else { None };
            // A value of the wrong kind is left out: it was made up, and others follow.
            let _ = write(user, place, id.unwrap_or(value));
        }
    }

    /// Values for the user's fields: those that others have, or made-up ones. `number` tells one set from another.
    fn values(&self, number: usize, unique: &[String], may_invent: bool) -> Values {
        let value = |(at, (field, place)): (usize, &(String, Place))| {
            if self.session.secrets.contains(field) {
                return None;
            }
            let mut known: Vec<&str> = self.everybody.accounts.iter().map(|one| one.value(field)).collect();
            known.retain(|value| !value.is_empty());
            known.sort_unstable();
            known.dedup();
            let is_shared =
                place.is_person || !unique.contains(field) && !known.iter().any(|one| one.contains('@'));
            let own = || own_value(self.login, number, known.first().copied(), place.kind);
            let value = match known.get(number - 1) {
                Some(known) if is_shared => Some((*known).to_owned()),
                // An only value may be the only one that the service takes.
                None if is_shared && !known.is_empty() => None,
                None if known.is_empty() && (!may_invent || place.is_person) => None,
                _ => Some(own()),
            };
            Some((at, value?))
        };
        self.session.places.iter().enumerate().filter_map(value).collect()
    }

    fn field(&self, at: usize) -> Option<&'a str> {
        self.session.places.get(at).map(|(field, _)| field.as_str())
    }

    /// A field with its path.
    fn named(&self, field: &str) -> String {
        match self.session.path(field) {
            Some(path) if path != field => format!("{field} (`{path}`)"),
            _ => field.to_owned(),
        }
    }

    fn good(&mut self, words: impl Into<String>) {
        self.findings.push(TrialFinding::Good(words.into()));
    }

    fn odd(&mut self, words: impl Into<String>, remedy: &str) {
        self.findings.push(TrialFinding::Odd(words.into(), remedy.to_owned()));
    }

    fn bad(&mut self, words: impl Into<String>, remedy: &str) {
        self.findings.push(TrialFinding::Bad(words.into(), remedy.to_owned()));
    }
}

/// A made-up value: an address in the domain of one that is known, or a word.
fn own_value(login: &str, number: usize, known: Option<&str>, kind: Kind) -> String {
    match kind {
        Kind::Boolean => (number == 1).to_string(),
        Kind::Integer => number.to_string(),
        Kind::Decimal => format!("{number}.5"),
        Kind::Text => match known.and_then(|known| known.split_once('@')) {
            Some((_, domain)) => format!("{login}.{number}@{domain}"),
            None => format!("Scratch {number}"),
        },
    }
}

async fn delete(service: &Service, id: &str) -> Result<(), Fault> {
    let path = format!("Users/{}", escaped(id));
    service.ask(&Wish { method: Method::DELETE, path, body: None, version: None }).await.map(|_| ())
}
