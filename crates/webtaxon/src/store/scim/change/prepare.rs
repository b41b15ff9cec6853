//! From an edit to its request.

use super::super::resource::{patch, put, sendable, text, version, write};
use super::super::service::{Resource, Wish, escaped};
use super::work::{Hindrance, Prepared, Work};
use crate::store::StoreError;
use reqwest::Method;
use serde_json::{Value, json};
use webtaxon_core::account::{Account, State};
use webtaxon_core::apply::{Edit, Outcome, Standing};

impl Work<'_> {
    /// The request for an edit; `is_again` if its user may have been changed since the list was read.
    pub(super) async fn prepare(
        &self,
        place: usize,
        is_again: bool,
    ) -> Result<Result<Prepared, Hindrance>, StoreError> {
        let gone = || Hindrance::Told(Outcome::Left("the account no longer exists".to_owned()));
        let (Some(edit), Some(Standing::Ready(at))) = (self.edit(place), self.plan.standings().get(place))
        else {
            return Ok(Err(gone()));
        };
        let Some(at) = at else { return Ok(self.new_user(place, edit)) };
        let Some(known) = self.everybody.users.get(*at) else { return Ok(Err(gone())) };
        // Without versions the user is read once more, to keep the window short.
        if version(known).is_some_and(|_| self.session.service.offer.etag) && !is_again {
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
        let account = &*self.secrets.complete(account);
        let mut user = self.originals.of(account).map(|(user, _)| user.clone()).unwrap_or_default();
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

    pub(super) fn changed_user(
        &self,
        place: usize,
        edit: &Edit,
        user: Resource,
    ) -> Result<Prepared, Hindrance> {
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
        self.fill(&mut after, account, edit.changed())?;
        let wish = (after != user).then(|| self.wish(&user, &after));
        Ok(Prepared { place, before: Some(user), after: Some(after), wish })
    }

    /// Sets these fields of a user to those of an account.
    pub(super) fn fill<'n>(
        &self,
        user: &mut Resource,
        account: &Account,
        names: impl Iterator<Item = &'n str>,
    ) -> Result<(), Hindrance> {
        for name in names {
            match name {
                "login" => put(user, "userName", Some(json!(account.login))),
                "link" => put(user, "externalId", account.link.as_ref().map(|link| json!(link.as_str()))),
                "state" => put(user, "active", Some(Value::Bool(account.state == State::Active))),
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
                            let words = format!("{name} is {value}, who is not a user of the service");
                            return Err(Hindrance::Later(words));
                        }
                    };
                    write(user, place, value).map_err(|words| format!("{name}: {words}"))?;
                }
            }
        }
        Ok(())
    }

    /// The request that replaces a user.
    pub(super) fn put_wish(&self, before: &Resource, after: &Resource) -> Wish {
        let (method, body) = (Method::PUT, Some(sendable(after)));
        Wish { method, path: path_of(before), body, version: version(before).map(str::to_owned) }
    }

    /// The request that turns one user into another.
    pub(super) fn wish(&self, before: &Resource, after: &Resource) -> Wish {
        let (method, body) = match self.session.service.patches() {
            true => (Method::PATCH, patch(before, after)),
            false => (Method::PUT, sendable(after)),
        };
        Wish { method, path: path_of(before), body: Some(body), version: version(before).map(str::to_owned) }
    }
}

/// The path of a user.
fn path_of(user: &Resource) -> String {
    format!("Users/{}", escaped(text(user, "id")))
}
