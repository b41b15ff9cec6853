//! A SCIM service with its features and schemas, and its users.

use super::resource::{find, read, text};
use super::schema::{Place, Schemas};
use super::service::{Resource, Service};
use crate::store::{KnownHabits, Rows, StoreError, StoreErrorKind, sound};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::Value;
use std::collections::{HashMap, HashSet};
use std::path::Path;
use webtaxon_core::account::{Account, Fields, State};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::settings::Scim;
use webtaxon_core::settings::rules::LIST;

/// A service with its features, and the place of each field.
pub(super) struct Session {
    pub(super) service: Service,
    pub(super) places: Vec<(String, Place)>,
    /// The paths of these places, in order.
    paths: Vec<String>,
    /// Whether roles are groups.
    pub(super) role_groups: bool,
    /// The fields that are written in new users, and never read.
    pub(super) secrets: Vec<String>,
}

/// All users of the service.
pub(super) struct Everybody {
    pub(super) users: Vec<Resource>,
    pub(super) accounts: Vec<Account>,
    pub(super) people: People,
    pub(super) groups: Vec<Group>,
}

/// Users by id and by login, for attributes that refer to another user.
#[derive(Default)]
pub(super) struct People {
    pub(super) logins: HashMap<String, String>,
    pub(super) ids: HashMap<String, String>,
}

impl People {
    pub(super) fn add(&mut self, id: &str, login: &str) {
        self.logins.insert(id.to_owned(), login.to_owned());
        self.ids.insert(Account::login_key(login), id.to_owned());
    }

    /// The id of the user with a login.
    pub(super) fn id(&self, login: &str) -> Option<&str> {
        self.ids.get(&Account::login_key(login)).map(String::as_str)
    }
}

/// A group whose members have a role.
pub(super) struct Group {
    pub(super) id: String,
    pub(super) name: String,
    pub(super) members: HashSet<String>,
}

impl Session {
    /// Connects, and finds the place of each field, including those in the settings.
    pub(super) async fn open(
        settings: &Scim,
        folder: &Path,
        fields: &[String],
        habits: KnownHabits,
    ) -> Result<Self, StoreError> {
        let service = Service::open(settings, folder, habits).await?;
        let schemas = Schemas::read(&service).await?;
        let role_groups = settings.role_groups;
        let secrets = settings.secrets.clone();
        let more =
            settings.attributes.keys().filter(|name| !(fields.contains(name) || secrets.contains(name)));
        let (mut places, mut paths) = (Vec::new(), Vec::new());
        for field in fields.iter().chain(&secrets).chain(more) {
            let is_own = ["login", "link", "state"].contains(&field.as_str());
            if !(is_own || field == "roles" && role_groups) {
                let path = settings.attribute(field);
                paths.push(path.to_string());
                places.push((
                    field.clone(),
                    schemas.place(service.name(), (field, secrets.contains(field)), &path)?,
                ));
            }
        }
        let role_groups = role_groups && fields.iter().any(|field| field == "roles");
        Ok(Self { service, places, paths, role_groups, secrets })
    }

    /// The path of a field's place; `None` for one that is no attribute of its own.
    pub(super) fn path(&self, field: &str) -> Option<&str> {
        let at = self.places.iter().position(|(name, _)| name == field)?;
        self.paths.get(at).map(String::as_str)
    }

    /// Learns which of these fields of a user are empty although they were written.
    pub(super) fn learn_dropped(&self, names: &[&str], written: &Account, there: &Account) {
        let is_lost = |name: &&str| !written.value(name).is_empty() && there.value(name).is_empty();
        self.learn(&names.iter().copied().filter(is_lost).collect::<Vec<_>>());
    }

    /// Learns that the service does not keep these fields.
    pub(super) fn learn(&self, dropped: &[&str]) {
        let today = Timestamp::now().to_zoned(TimeZone::UTC).date();
        for path in dropped.iter().filter_map(|name| self.path(name)) {
            self.service.habits.add(|habits| habits.drops.extend([(path.to_owned(), today)]));
        }
    }

    /// Reads all users, and the groups if they are roles.
    pub(super) async fn everybody(&self) -> Result<Everybody, StoreError> {
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
        sound(self.service.name(), Rows::Accounts, &accounts, false)?;
        Ok(Everybody { users, accounts, people, groups })
    }

    /// The accounts with a link, by a filter; `None` if the service does not filter, or if an account depends on more than
    /// its user.
    pub(super) async fn with_link(&self, link: &Identity) -> Option<Vec<Account>> {
        let depends = self.role_groups || self.places.iter().any(|(_, place)| place.is_person);
        if depends || !self.service.offer.filter {
            return None;
        }
        let users = self.service.users_with("externalId", link.as_str()).await.ok()?;
        let account = |user: &Resource| self.account(user, &People::default(), &[]);
        let accounts = users.iter().map(account).collect::<Result<Vec<Account>, _>>().ok()?;
        // A service may ignore the filter.
        Some(accounts.into_iter().filter(|account| account.link.as_ref() == Some(link)).collect())
    }

    /// A user as an account.
    pub(super) fn account(
        &self,
        user: &Resource,
        people: &People,
        roles: &[&str],
    ) -> Result<Account, StoreError> {
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
        // A service without `active` has no suspended users.
        let is_suspended = find(user, "active") == Some(&Value::Bool(false));
        let state = if is_suspended { State::Suspended } else { State::Active };
        let mut fields = Fields::default();
        for (field, place) in self.places.iter().filter(|(field, _)| !self.secrets.contains(field)) {
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

/// A group as returned by the service.
pub(super) fn group(resource: &Resource) -> Group {
    let members = find(resource, "members").and_then(Value::as_array).into_iter().flatten();
    let ids = members.filter_map(|one| find(one.as_object()?, "value")?.as_str());
    Group {
        id: text(resource, "id").to_owned(),
        name: text(resource, "displayName").to_owned(),
        members: ids.map(str::to_owned).collect(),
    }
}
