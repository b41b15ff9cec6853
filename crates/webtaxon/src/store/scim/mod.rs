//! The application's list behind a SCIM service (RFC 7643, 7644): users as accounts, changed one by one, or
//! many in a request where the service offers that.
//!
//! There are no transactions: each change is made and recorded by itself. Where an answer is lost, the user
//! is looked at, so that what was done counts as done, and nothing is done twice.

mod change;
mod groups;
mod resource;
mod schema;
mod service;

use super::{AccountStore, Answer, Record, Rows, StoreError, StoreErrorKind, Terms, sound};
use crate::crash;
use resource::{find, read, text};
use schema::{Place, Schemas};
use serde_json::Value;
use service::{Resource, Service};
use std::collections::{HashMap, HashSet};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use webtaxon_core::account::{Account, Fields, Groups, State};
use webtaxon_core::apply::{Edit, GroupEdit};
use webtaxon_core::field::LIST;
use webtaxon_core::identity::Identity;
use webtaxon_core::settings::Scim;

/// A SCIM service.
#[derive(Debug)]
pub struct ScimStore {
    settings: Scim,
    folder: PathBuf,
}

/// A service that was asked what it is, and where each field stands in its users.
struct Session {
    service: Service,
    places: Vec<(String, Place)>,
    /// Whether roles are groups.
    role_groups: bool,
}

/// Everybody whom the service has.
struct Everybody {
    users: Vec<Resource>,
    accounts: Vec<Account>,
    people: People,
    groups: Vec<Group>,
}

/// Users by their ids and back, for attributes that name another user.
#[derive(Default)]
struct People {
    logins: HashMap<String, String>,
    ids: HashMap<String, String>,
}

impl People {
    fn add(&mut self, id: &str, login: &str) {
        self.logins.insert(id.to_owned(), login.to_owned());
        self.ids.insert(Account::login_key(login), id.to_owned());
    }

    /// The id of whoever signs in so.
    fn id(&self, login: &str) -> Option<&str> {
        self.ids.get(&Account::login_key(login)).map(String::as_str)
    }
}

/// A group whose members have a role.
struct Group {
    id: String,
    name: String,
    members: HashSet<String>,
}

impl ScimStore {
    /// The list of a service; paths in the settings start from `folder`.
    #[must_use]
    pub fn new(settings: Scim, folder: &Path) -> Self {
        Self { settings, folder: folder.to_owned() }
    }

    /// Connects, and finds the place of each field, of those named in the settings besides.
    async fn session(&self, fields: &[&str]) -> Result<Session, StoreError> {
        let service = Service::open(&self.settings, &self.folder).await?;
        let schemas = Schemas::read(&service).await?;
        let role_groups = self.settings.role_groups;
        let more = self.settings.attributes.keys().map(String::as_str).filter(|name| !fields.contains(name));
        let mut places = Vec::new();
        for field in fields.iter().copied().chain(more) {
            let is_own = ["login", "link", "state"].contains(&field);
            if !(is_own || field == "roles" && role_groups) {
                let path = self.settings.attribute(field);
                places.push((field.to_owned(), schemas.place(service.name(), field, &path)?));
            }
        }
        Ok(Session { service, places, role_groups: role_groups && fields.contains(&"roles") })
    }
}

impl Session {
    /// Reads everybody, and the groups if they are roles.
    async fn everybody(&self) -> Result<Everybody, StoreError> {
        let users = self.service.all("Users").await?;
        let mut people = People::default();
        for user in &users {
            people.add(text(user, "id"), text(user, "userName"));
        }
        let groups = match self.role_groups {
            true => self.service.all("Groups").await?.iter().map(group).collect(),
            false => Vec::new(),
        };
        let mut roles: HashMap<&str, Vec<&str>> = HashMap::new();
        for group in &groups {
            for member in &group.members {
                roles.entry(member).or_default().push(&group.name);
            }
        }
        let mut accounts = Vec::with_capacity(users.len());
        for user in &users {
            let of = roles.get(text(user, "id")).map_or(&[][..], Vec::as_slice);
            accounts.push(self.account(user, &people, of)?);
        }
        sound(self.service.name(), Rows::Accounts, &accounts)?;
        Ok(Everybody { users, accounts, people, groups })
    }

    /// A user as an account.
    fn account(&self, user: &Resource, people: &People, roles: &[&str]) -> Result<Account, StoreError> {
        let login = text(user, "userName").trim().to_owned();
        if login.is_empty() {
            return Err(StoreErrorKind::BadRow {
                store: self.service.name().to_owned(),
                row: Rows::Accounts.one(),
                login: text(user, "id").to_owned(),
                what: "has no userName".to_owned(),
                help: "every user of a SCIM service has one, by which the person signs in (RFC 7643 §4.1.1)",
            }
            .into());
        }
        // A service that says nothing of `active` has nobody suspended.
        let is_suspended = find(user, "active") == Some(&Value::Bool(false));
        let state = if is_suspended { State::Suspended } else { State::Active };
        let mut fields = Fields::default();
        for (field, place) in &self.places {
            let value = read(user, place).map(|value| match place.is_person {
                true => people.logins.get(&value).cloned().unwrap_or(value),
                false => value,
            });
            fields.extend(value.map(|value| (field.into(), value.into())));
        }
        if self.role_groups && !roles.is_empty() {
            fields.insert("roles".into(), roles.join(&LIST.to_string()).into());
        }
        Ok(Account { login, link: Identity::from_link(text(user, "externalId")), state, fields })
    }
}

/// A group as the service gives it.
fn group(resource: &Resource) -> Group {
    let members = find(resource, "members").and_then(Value::as_array).into_iter().flatten();
    let ids = members.filter_map(|one| find(one.as_object()?, "value")?.as_str());
    Group {
        id: text(resource, "id").to_owned(),
        name: text(resource, "displayName").to_owned(),
        members: ids.map(str::to_owned).collect(),
    }
}

impl AccountStore for ScimStore {
    fn describe(&self) -> String {
        self.settings.service.clone()
    }

    fn place(&self) -> String {
        format!("scim {}", self.settings.service)
    }

    fn accounts<'a>(&'a self, fields: &'a [&'a str]) -> Answer<'a, Vec<Account>> {
        Box::pin(async { Ok(self.session(fields).await?.everybody().await?.accounts) })
    }

    fn copy<'a>(&'a self, stem: &'a Path) -> Answer<'a, Option<PathBuf>> {
        Box::pin(async move {
            let users = Service::open(&self.settings, &self.folder).await?.all("Users").await?;
            let to = stem.with_extension("jsonl");
            let write = || -> std::io::Result<()> {
                let mut out = std::io::BufWriter::new(crate::state::private(&to)?);
                for user in &users {
                    serde_json::to_writer(&mut out, user)?;
                    out.write_all(b"\n")?;
                }
                out.into_inner().map_err(std::io::IntoInnerError::into_error)?.sync_all()
            };
            write().map_err(|reason| StoreErrorKind::Unwritable { file: to.clone(), reason })?;
            crash::point();
            Ok(Some(to))
        })
    }

    fn carry_out<'a>(
        &'a self,
        edits: &'a [Edit],
        terms: &'a Terms<'a>,
        record: Record<'a>,
    ) -> Answer<'a, ()> {
        Box::pin(async move {
            let session = self.session(terms.fields).await?;
            let everybody = session.everybody().await?;
            change::carry_out(&session, everybody, edits, terms, record).await
        })
    }

    fn accounts_and_groups<'a>(&'a self, fields: &'a [&'a str]) -> Answer<'a, (Vec<Account>, Groups)> {
        Box::pin(async {
            self.are_groups_apart()?;
            let session = self.session(fields).await?;
            let Everybody { accounts, people, .. } = session.everybody().await?;
            let (list, _) = people.groups(&session.service).await?;
            Ok((accounts, Groups { list, by_login: false }))
        })
    }

    fn groups(&self) -> Answer<'_, Groups> {
        Box::pin(async { Ok(Groups { list: self.all_groups().await?, by_login: false }) })
    }

    fn carry_out_groups<'a>(
        &'a self,
        edits: &'a [GroupEdit],
        terms: &'a Terms<'a>,
        record: Record<'a>,
    ) -> Answer<'a, ()> {
        Box::pin(self.change_groups(edits, terms, record))
    }
}
