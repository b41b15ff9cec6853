//! Complete lists of a SCIM service, page by page, and single users.

use super::service::{Fault, Resource, Service, escaped};
use crate::store::{StoreError, StoreErrorKind};
use serde_json::{Value, json};
use std::collections::HashSet;

/// Maximum resources of a list.
const MOST: u64 = 5_000_000;
/// Number of readings of a list that changes meanwhile.
const READINGS: usize = 3;

/// One page of a list.
struct Page {
    /// The length of the whole list, if the service tells it.
    total: Option<u64>,
    /// The cursor of the next page.
    next: Option<String>,
    resources: Vec<Value>,
}

impl Service {
    /// All resources of an endpoint, page by page (RFC 7644 §3.4.2.4, RFC 9865). A list that changes meanwhile is read
    /// again, since shifted positions would lose entries.
    pub(super) async fn all(&self, endpoint: &str) -> Result<Vec<Resource>, StoreError> {
        let mut words = String::new();
        for _ in 0..READINGS {
            match self.pages(endpoint).await? {
                Ok(list) => return Ok(list),
                Err(moved) => words = moved,
            }
        }
        Err(StoreErrorKind::Unsound { store: self.base.clone(), what: words }.into())
    }

    /// All groups; none if the service has no groups.
    pub(super) async fn groups_if_any(&self) -> Result<Vec<Resource>, StoreError> {
        if self.shows_groups().await { self.all("Groups").await } else { Ok(Vec::new()) }
    }

    /// False if the service has no groups, or does not let them be read.
    pub(super) async fn shows_groups(&self) -> bool {
        let place =
            if self.offer.cursor { ("cursor", String::new()) } else { ("startIndex", "1".to_owned()) };
        let first = self.get("Groups", &[place, ("count", "1".to_owned())]).await;
        !matches!(first, Err(Fault::Refused { status: 403 | 404 | 501, .. }))
    }

    /// The pages of a list, read once; or why they are not a complete list.
    async fn pages(&self, endpoint: &str) -> Result<Result<Vec<Resource>, String>, StoreError> {
        let mut list: Vec<Resource> = Vec::new();
        let mut ids: HashSet<String> = HashSet::new();
        let mut expected: Option<u64> = None;
        // An empty cursor asks for the first page.
        let mut cursor = self.offer.cursor.then(String::new);
        loop {
            let Page { total, next, resources } =
                match self.page(endpoint, list.len(), cursor.as_deref()).await {
                    // A cursor may expire between two pages.
                    Err(Fault::Refused { status: 400, words })
                        if cursor.as_ref().is_some_and(|it| !it.is_empty()) =>
                    {
                        return Ok(Err(format!("the list of {endpoint} cannot be read to its end: {words}")));
                    }
                    page => page.map_err(|fault| self.told(fault))?,
                };
            if expected.is_some() && expected != total {
                return Ok(Err(format!("the list of {endpoint} keeps changing while it is read")));
            }
            expected = total;
            let before = list.len();
            for resource in resources {
                let Value::Object(resource) = resource else { continue };
                let id = resource.get("id").and_then(Value::as_str).unwrap_or_default();
                if id.is_empty() || !ids.insert(id.to_owned()) {
                    let what = if id.is_empty() { "without an id".to_owned() } else { format!("{id} twice") };
                    return Ok(Err(format!("the list of {endpoint} has one {what}")));
                }
                list.push(resource);
            }
            let is_whole = total.is_none_or(|total| list.len() as u64 >= total);
            let is_last = if cursor.is_some() { next.is_none() } else { is_whole && total.is_some() };
            match (is_last, is_whole) {
                (true, true) => return Ok(Ok(list)),
                (false, _) if list.len() > before => {}
                _ => {
                    let of = total.map(|total| format!(" of {total}")).unwrap_or_default();
                    return Ok(Err(format!("the list of {endpoint} ends after {}{of}", list.len())));
                }
            }
            cursor = next.or(cursor);
        }
    }

    /// One page: that at a cursor, or that after a number of resources.
    async fn page(&self, endpoint: &str, after: usize, cursor: Option<&str>) -> Result<Page, Fault> {
        let place = match cursor {
            Some(cursor) => ("cursor", cursor.to_owned()),
            None => ("startIndex", (after + 1).to_string()),
        };
        let mut page = self.get(endpoint, &[place, ("count", self.offer.page.to_string())]).await?;
        let total = page.get("totalResults").and_then(Value::as_u64);
        let most = total.unwrap_or(after as u64);
        if most > MOST {
            let what = format!("announces {most} {endpoint}, more than the limit of {MOST}");
            return Err(StoreErrorKind::Unsound { store: self.base.clone(), what }.into());
        }
        let next = page.get("nextCursor").and_then(Value::as_str).filter(|next| !next.is_empty());
        let next = next.map(str::to_owned);
        if total.is_none() && cursor.is_none() && next.is_none() {
            let what = format!("returns no list at {endpoint}: `totalResults` is missing");
            return Err(StoreErrorKind::NotScim { store: self.base.clone(), what }.into());
        }
        let resources = match page.as_object_mut().and_then(|page| page.remove("Resources")) {
            Some(Value::Array(resources)) => resources,
            _ => Vec::new(),
        };
        Ok(Page { total, next, resources })
    }

    /// The user with an id; `None` if it does not exist.
    pub(super) async fn user(&self, id: &str) -> Result<Option<Resource>, StoreError> {
        match self.get(&format!("Users/{}", escaped(id)), &[]).await {
            Ok(Value::Object(user)) => Ok(Some(user)),
            Ok(_) => Ok(None),
            Err(Fault::Refused { status: 404 | 410, .. }) => Ok(None),
            Err(fault) => Err(self.told(fault)),
        }
    }

    /// The user with a `userName`; `None` if it does not exist.
    pub(super) async fn called(&self, user_name: &str) -> Result<Option<Resource>, StoreError> {
        let users = match self.offer.filter {
            true => self.users_with("userName", user_name).await.map_err(|fault| self.told(fault))?,
            false => self.all("Users").await?,
        };
        let is_it = |one: &Resource| {
            let there = one.get("userName").and_then(Value::as_str).unwrap_or_default();
            there.to_lowercase() == user_name.to_lowercase()
        };
        Ok(users.into_iter().find(is_it))
    }

    /// The users on the first page of those with a value, as far as the service filters (RFC 7644 §3.4.2.2).
    pub(super) async fn users_with(&self, attribute: &str, value: &str) -> Result<Vec<Resource>, Fault> {
        let filter = format!("{attribute} eq {}", json!(value));
        let mut page = self.get("Users", &[("filter", filter)]).await?;
        let list = match page.as_object_mut().and_then(|page| page.remove("Resources")) {
            Some(Value::Array(list)) => list,
            _ => Vec::new(),
        };
        let user = |one| match one {
            Value::Object(user) => Some(user),
            _ => None,
        };
        Ok(list.into_iter().filter_map(user).collect())
    }
}
