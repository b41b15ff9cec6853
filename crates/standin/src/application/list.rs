//! The simulated application's users and groups, and the standard's rules for changing them.

use super::exchange::{Refusal, Reply, Wish};
use super::patch::patch;
use super::schema::{self, BASE, Kind, LOANS};
use indexmap::IndexMap;
use serde_json::{Map, Value, json};
use webtaxon_core::settings::{ENTERPRISE, USER};

/// The longest `userName`, in bytes.
const LONGEST: usize = 256;

/// The users and groups of an application.
#[derive(Clone, Debug, Default)]
pub struct List {
    users: IndexMap<String, Stored>,
    groups: IndexMap<String, Stored>,
    /// Number of resources ever created, from which ids are made.
    made: u64,
    /// Whether each address gets a `display`.
    pub(super) adorns: bool,
    /// True if no two users may have one address.
    pub(super) unique_emails: bool,
}

#[derive(Clone, Debug)]
struct Stored {
    resource: Map<String, Value>,
    version: u64,
}

impl List {
    /// Reads the Loans Desk's list from a CSV file with the columns `login`, `link`, `state`, `name`, `email`,
    /// `department`, `room` and `roles`. Roles are values of `roles`, or with `role_groups` groups.
    ///
    /// The fault in the file, in words.
    /// What is wrong with the file, in words.
    pub fn from_csv(text: &str, role_groups: bool) -> Result<Self, String> {
        let mut list = Self::default();
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        let names = reader.headers().map_err(|error| error.to_string())?.clone();
        for row in reader.records() {
            let row = row.map_err(|error| error.to_string())?;
            let cell = |name: &str| {
                let at = names.iter().position(|column| column == name)?;
                row.get(at).filter(|text| !text.is_empty())
            };
            let roles: Vec<&str> = cell("roles").map(|roles| roles.split(';').collect()).unwrap_or_default();
            let mut user = Map::new();
            let mut schemas = vec![USER];
            let text = |text: &str| Value::String(text.to_owned());
            user.insert("userName".to_owned(), text(cell("login").unwrap_or_default()));
            if let Some(link) = cell("link") {
                user.insert("externalId".to_owned(), text(link));
            }
            user.insert("active".to_owned(), Value::Bool(cell("state") != Some("suspended")));
            if let Some(name) = cell("name") {
                user.insert("displayName".to_owned(), text(name));
            }
            if let Some(email) = cell("email") {
                user.insert("emails".to_owned(), json!([{"value": email, "type": "work", "primary": true}]));
            }
            if !roles.is_empty() && !role_groups {
                let roles = roles.iter().map(|role| json!({"value": role}));
                user.insert("roles".to_owned(), roles.collect());
            }
            if let Some(department) = cell("department") {
                schemas.push(ENTERPRISE);
                user.insert(ENTERPRISE.to_owned(), json!({"department": department}));
            }
            if let Some(room) = cell("room") {
                schemas.push(LOANS);
                user.insert(LOANS.to_owned(), json!({"room": room}));
            }
            user.insert("schemas".to_owned(), json!(schemas));
            let body = Value::Object(user);
            let wish = Wish { method: "POST", kind: Kind::User, id: None, version: None, body: &body };
            let id = list.perform(&wish, false).map_err(|refusal| refusal.words)?.id;
            for role in roles.iter().filter(|_| role_groups) {
                list.add_to_group(role, &id);
            }
        }
        Ok(list)
    }

    /// Adds groups from a CSV file with the columns `name`, `link` and `members`, the logins of which are separated by
    /// semicolons.
    ///
    /// # Errors
    /// The fault in the file, in words.
    pub fn add_groups(&mut self, text: &str) -> Result<(), String> {
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        for row in reader.records() {
            let row = row.map_err(|error| error.to_string())?;
            let cell = |at: usize| row.get(at).unwrap_or_default();
            let mut group = json!({"schemas": [schema::GROUP], "displayName": cell(0), "members": []});
            if let (false, Some(group)) = (cell(1).is_empty(), group.as_object_mut()) {
                group.insert("externalId".to_owned(), json!(cell(1)));
            }
            let wish = Wish { method: "POST", kind: Kind::Group, id: None, version: None, body: &group };
            self.perform(&wish, false).map_err(|refusal| refusal.words)?;
            for login in cell(2).split(';').filter(|login| !login.is_empty()) {
                let is_it = |user: &Value| user.get("userName").and_then(Value::as_str) == Some(login);
                let users = self.users();
                let id = users.iter().find(|user| is_it(user)).and_then(|user| user.get("id")?.as_str());
                self.add_to_group(cell(0), id.ok_or_else(|| format!("nobody is called {login}"))?);
            }
        }
        Ok(())
    }

    /// Every user as a client sees it, in order of creation.
    #[must_use]
    pub fn users(&self) -> Vec<Value> {
        self.users.keys().filter_map(|id| self.shown(Kind::User, id, true)).collect()
    }

    /// Every group as a client sees it.
    #[must_use]
    pub fn groups(&self) -> Vec<Value> {
        self.groups.keys().filter_map(|id| self.shown(Kind::Group, id, true)).collect()
    }

    /// The password of the user with this name, which no client sees.
    #[must_use]
    pub fn password(&self, user_name: &str) -> Option<&str> {
        let is_it =
            |stored: &&Stored| stored.resource.get("userName").and_then(Value::as_str) == Some(user_name);
        self.users.values().find(is_it)?.resource.get(PASSWORD)?.as_str()
    }

    /// Changes an attribute of the user with this name, as somebody in the application would.
    pub fn set(&mut self, user_name: &str, attribute: &str, value: Value) {
        for stored in self.users.values_mut() {
            if stored.resource.get("userName").and_then(Value::as_str) == Some(user_name) {
                stored.resource.insert(attribute.to_owned(), value.clone());
                stored.version += 1;
            }
        }
    }

    /// Adds a user to the group with this name, creating it if needed.
    fn add_to_group(&mut self, name: &str, user: &str) {
        let is_it =
            |stored: &Stored| stored.resource.get("displayName").and_then(Value::as_str) == Some(name);
        if !self.groups.values().any(is_it) {
            self.made += 1;
            let resource = json!({"schemas": [schema::GROUP], "displayName": name, "members": []});
            let resource = resource.as_object().cloned().unwrap_or_default();
            self.groups.insert(format!("g{:07x}", self.made), Stored { resource, version: 1 });
        }
        let group = self.groups.values_mut().find(|stored| is_it(stored));
        if let Some(members) = group.and_then(|stored| stored.resource.get_mut("members")?.as_array_mut()) {
            members.push(json!({"value": user, "type": "User"}));
        }
    }

    fn of(&self, kind: Kind) -> &IndexMap<String, Stored> {
        match kind {
            Kind::User => &self.users,
            Kind::Group => &self.groups,
        }
    }

    fn of_mut(&mut self, kind: Kind) -> &mut IndexMap<String, Stored> {
        match kind {
            Kind::User => &mut self.users,
            Kind::Group => &mut self.groups,
        }
    }

    /// The ids that match a filter; all without one.
    pub(super) fn matching(&self, kind: Kind, filter: Option<&str>) -> Result<Vec<String>, Refusal> {
        let Some(filter) = filter else { return Ok(self.of(kind).keys().cloned().collect()) };
        let refused = || Refusal::bad("invalidFilter", "only `attribute eq \"value\"` is known here");
        let (name, rest) = filter.split_once(' ').ok_or_else(refused)?;
        let (operator, value) = rest.split_once(' ').ok_or_else(refused)?;
        let value: String = serde_json::from_str(value).map_err(|_| refused())?;
        if !operator.eq_ignore_ascii_case("eq") {
            return Err(refused());
        }
        let (name, _) = schema::canonical(kind, None, name).ok_or_else(refused)?;
        // A `userName` is the same in any case (RFC 7643 §8.7.1: caseExact false); an `externalId` is not.
        let is_exact = name == "externalId";
        let fits = |stored: &Stored| {
            let there = stored.resource.get(name).and_then(Value::as_str);
            there.is_some_and(|there| {
                if is_exact { there == value } else { there.to_lowercase() == value.to_lowercase() }
            })
        };
        Ok(self.of(kind).iter().filter(|(_, stored)| fits(stored)).map(|(id, _)| id.clone()).collect())
    }

    /// One resource as a client sees it.
    pub(super) fn shown(&self, kind: Kind, id: &str, etag: bool) -> Option<Value> {
        let stored = self.of(kind).get(id)?;
        let mut resource = stored.resource.clone();
        resource.remove(PASSWORD);
        resource.insert("id".to_owned(), Value::String(id.to_owned()));
        let mut meta =
            json!({"resourceType": kind.name(), "location": format!("{}/{}s/{id}", BASE, kind.name())});
        if let Some(meta) = meta.as_object_mut().filter(|_| etag) {
            meta.insert("version".to_owned(), Value::String(version(stored.version)));
        }
        resource.insert("meta".to_owned(), meta);
        let addresses = resource.get_mut("emails").and_then(Value::as_array_mut).filter(|_| self.adorns);
        for address in addresses.into_iter().flatten().filter_map(Value::as_object_mut) {
            let value = address.get("value").cloned().unwrap_or_default();
            address.insert("display".to_owned(), value);
        }
        if kind == Kind::User {
            let has = |group: &Stored| {
                let members = group.resource.get("members").and_then(Value::as_array);
                members.is_some_and(|list| list.iter().any(|one| one.get("value") == Some(&json!(id))))
            };
            let groups: Vec<Value> = self
                .groups
                .iter()
                .filter(|(_, group)| has(group))
                .map(|(id, group)| json!({"value": id, "display": group.resource.get("displayName")}))
                .collect();
            if !groups.is_empty() {
                resource.insert("groups".to_owned(), Value::Array(groups));
            }
        }
        Some(Value::Object(resource))
    }

    /// Carries out a request, completely or not at all.
    pub(super) fn perform(&mut self, wish: &Wish<'_>, etag: bool) -> Result<Reply, Refusal> {
        let kind = wish.kind;
        let object = || wish.body.as_object().ok_or_else(|| Refusal::syntax("this is no JSON object"));
        let accept =
            |sent: &Map<String, Value>| schema::accept(kind, sent).map_err(|words| Refusal::syntax(&words));
        let Some(id) = wish.id else {
            if wish.method != "POST" {
                return Err(Refusal::new(405, "only POST makes a resource"));
            }
            let mut resource = accept(object()?)?;
            self.hold(kind, None, &mut resource)?;
            self.made += 1;
            let id = format!("{}{:07x}", if kind == Kind::User { 'u' } else { 'g' }, self.made);
            self.of_mut(kind).insert(id.clone(), Stored { resource, version: 1 });
            return Ok(Reply { status: 201, resource: self.shown(kind, &id, etag), id });
        };
        let Some(stored) = self.of(kind).get(id) else {
            return Err(Refusal::new(404, &format!("there is no {} {id}", kind.name())));
        };
        if etag && wish.version.is_some_and(|wanted| wanted != version(stored.version)) {
            return Err(Refusal::new(412, "it was changed in the meantime"));
        }
        let resource = match wish.method {
            "DELETE" => {
                self.of_mut(kind).shift_remove(id);
                for group in self.groups.values_mut() {
                    if let Some(members) = group.resource.get_mut("members").and_then(Value::as_array_mut) {
                        members.retain(|one| one.get("value") != Some(&json!(id)));
                    }
                }
                return Ok(Reply { status: 204, resource: None, id: id.to_owned() });
            }
            "PUT" => {
                let mut resource = accept(object()?)?;
                if let Some(password) =
                    stored.resource.get(PASSWORD).filter(|_| !resource.contains_key(PASSWORD))
                {
                    resource.insert(PASSWORD.to_owned(), password.clone());
                }
                resource
            }
            "PATCH" => {
                let mut resource = stored.resource.clone();
                if !wish.body.is_null() {
                    patch(kind, &mut resource, wish.body)?;
                }
                resource
            }
            _ => return Err(Refusal::new(405, "a resource knows GET, PUT, PATCH and DELETE")),
        };
        let mut resource = resource;
        self.hold(kind, Some(id), &mut resource)?;
        if let Some(stored) = self.of_mut(kind).get_mut(id) {
            stored.version += u64::from(stored.resource != resource);
            stored.resource = resource;
        }
        Ok(Reply { status: 200, resource: self.shown(kind, id, etag), id: id.to_owned() })
    }

    /// Checks a resource against the others in the list.
    fn hold(&self, kind: Kind, id: Option<&str>, resource: &mut Map<String, Value>) -> Result<(), Refusal> {
        let name = resource.get(kind.title()).and_then(Value::as_str).unwrap_or_default();
        if name.trim().is_empty() || name.len() > LONGEST || name.chars().any(char::is_control) {
            return Err(Refusal::bad("invalidValue", &format!("`{}` is no name", kind.title())));
        }
        let same = |stored: &Stored| {
            let there = stored.resource.get(kind.title()).and_then(Value::as_str).unwrap_or_default();
            there.to_lowercase() == name.to_lowercase()
        };
        if self.of(kind).iter().any(|(other, stored)| Some(other.as_str()) != id && same(stored)) {
            let words = format!("there is a {} {name} already", kind.name());
            return Err(Refusal { status: 409, kind: Some("uniqueness"), words });
        }
        if kind == Kind::User && self.unique_emails {
            let own = addresses(resource);
            let is_taken = |stored: &Stored| addresses(&stored.resource).iter().any(|one| own.contains(one));
            if self.users.iter().any(|(other, stored)| Some(other.as_str()) != id && is_taken(stored)) {
                let words = "another user has this address".to_owned();
                return Err(Refusal { status: 409, kind: Some("uniqueness"), words });
            }
        }
        let manager = resource.get(ENTERPRISE).and_then(|own| own.get("manager")?.get("value")?.as_str());
        let members = resource.get("members").and_then(Value::as_array).into_iter().flatten();
        let mut meant = members.filter_map(|one| one.get("value")?.as_str()).chain(manager);
        if let Some(missing) =
            meant.find(|id| !self.users.contains_key(*id) && !self.groups.contains_key(*id))
        {
            return Err(Refusal::bad("invalidValue", &format!("there is no user {missing}")));
        }
        if kind == Kind::User {
            resource.retain(|name, value| {
                !name.starts_with("urn:") || value.as_object().is_some_and(|own| !own.is_empty())
            });
            let own = [ENTERPRISE, LOANS].into_iter().filter(|urn| resource.contains_key(*urn));
            let schemas: Vec<&str> = std::iter::once(USER).chain(own).collect();
            resource.insert("schemas".to_owned(), json!(schemas));
        }
        Ok(())
    }
}

/// The attribute that is written and never returned (RFC 7643 §4.1.1).
const PASSWORD: &str = "password";

/// A weak entity tag (RFC 9110 §8.8.1).
fn version(number: u64) -> String {
    format!("W/\"{number}\"")
}

/// A user's addresses, in the form for comparison.
fn addresses(user: &Map<String, Value>) -> Vec<String> {
    let emails = user.get("emails").and_then(Value::as_array).into_iter().flatten();
    emails.filter_map(|email| Some(email.get("value")?.as_str()?.to_lowercase())).collect()
}
