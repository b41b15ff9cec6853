//! Accounts in a SCIM service (RFC 7643, 7644): its users, changed one by one, or many in a request if the service
//! supports bulk.
//!
//! There are no transactions: each change is made and recorded by itself. If a response is lost, the user is read, so
//! that a change counts as done if it was, and is never made twice.

mod change;
mod groups;
mod lists;
mod resource;
mod schema;
mod service;
mod session;
mod trial;

use super::{
    AccountStore, GroupStore, KnownHabits, Recorder, StoreError, StoreErrorKind, StoreFuture, Terms, Trial,
    TrialStore, groups_beside,
};
use crate::crash;
use resource::{find, text};
use serde_json::Value;
use service::{Resource, Service};
use session::{Everybody, Session};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use webtaxon_core::account::{Account, Dependents, Effect, Groups, Inquiry, Replies};
use webtaxon_core::apply::{Edit, GroupEdit};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::settings::Scim;

/// A SCIM service.
#[derive(Debug)]
pub struct ScimStore {
    settings: Scim,
    folder: PathBuf,
}

impl ScimStore {
    /// The list of a service; paths in the settings start from `folder`.
    #[must_use]
    pub fn new(settings: Scim, folder: &Path) -> Self {
        Self { settings, folder: folder.to_owned() }
    }

    /// Removes secret attributes, which a service may return though it should not (RFC 7643 §7).
    fn forget_secrets(&self, user: &mut Resource) {
        for field in &self.settings.secrets {
            let path = self.settings.attribute(field);
            let mut place = Some(&mut *user);
            if let Some(urn) = &path.extension {
                let own = user.iter_mut().find(|(name, _)| name.eq_ignore_ascii_case(urn));
                place = own.and_then(|(_, own)| own.as_object_mut());
            }
            if let Some(place) = place {
                place.retain(|name, _| !name.eq_ignore_ascii_case(&path.attribute));
            }
        }
    }

    /// A session for reading.
    async fn session(&self, fields: &[String]) -> Result<Session, StoreError> {
        Session::open(&self.settings, &self.folder, fields, KnownHabits::default()).await
    }

    /// A session for writing.
    async fn session_for(&self, terms: &Terms) -> Result<Session, StoreError> {
        Session::open(&self.settings, &self.folder, &terms.fields, terms.habits.clone()).await
    }
}

impl AccountStore for ScimStore {
    fn describe(&self) -> String {
        self.settings.service.clone()
    }

    fn place(&self) -> String {
        format!("scim {}", self.settings.service)
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        Box::pin(async move { Ok(self.session(&fields).await?.everybody().await?.accounts) })
    }

    fn accounts_with_link(
        &self,
        fields: Arc<[String]>,
        link: Identity,
    ) -> StoreFuture<'_, Option<Vec<Account>>> {
        Box::pin(async move { Ok(self.session(&fields).await?.with_link(&link).await) })
    }

    fn copy(&self, stem: PathBuf) -> StoreFuture<'_, Option<PathBuf>> {
        Box::pin(async move {
            let service = Service::open(&self.settings, &self.folder, KnownHabits::default()).await?;
            let mut users = service.all("Users").await?;
            for user in &mut users {
                self.forget_secrets(user);
            }
            let to = stem.with_extension("jsonl");
            write_lines(&to, &users)?;
            // A removed user is lost from all groups.
            write_lines(&groups_beside(&to, "jsonl"), &service.groups_if_any().await?)?;
            crash::point();
            Ok(Some(to))
        })
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, record: Recorder) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            let session = self.session_for(&terms).await?;
            let everybody = session.everybody().await?;
            change::carry_out(&session, everybody, &edits, &terms, record).await
        })
    }

    fn accounts_and_groups(&self, fields: Arc<[String]>) -> StoreFuture<'_, (Vec<Account>, Groups)> {
        Box::pin(async move {
            self.groups().ok_or_else(|| StoreErrorKind::NoGroups { store: self.describe() })?;
            let session = self.session(&fields).await?;
            let Everybody { accounts, people, .. } = session.everybody().await?;
            let (list, _) = people.groups(&session.service).await?;
            Ok((accounts, Groups { list, by_login: false }))
        })
    }

    fn is_asked(&self) -> bool {
        true
    }

    fn judges_values(&self) -> bool {
        false
    }

    /// Memberships come back with an undo, unless the groups cannot be read: then a removal loses them for good.
    fn replies(&self, inquiry: Inquiry) -> StoreFuture<'_, Replies> {
        Box::pin(async move {
            let mut replies = Replies::default();
            if inquiry.removals.is_empty() {
                return Ok(replies);
            }
            let service = Service::open(&self.settings, &self.folder, KnownHabits::default()).await?;
            if service.shows_groups().await {
                return Ok(replies);
            }
            for user in service.all("Users").await? {
                let login = text(&user, "userName").trim();
                let groups = find(&user, "groups").and_then(Value::as_array).map_or(0, Vec::len);
                if groups > 0 && inquiry.removals.contains(login) {
                    let (table, rows) = ("Groups, which cannot be read".to_owned(), groups as u64);
                    let lost = Dependents { table, rows, effect: Effect::Deleted };
                    replies.dependents.insert(login.to_owned(), vec![lost]);
                }
            }
            Ok(replies)
        })
    }

    fn place_of(&self, field: &str) -> String {
        self.settings.attribute(field).to_string()
    }

    fn trial(&self) -> Option<&dyn TrialStore> {
        Some(self)
    }

    fn groups(&self) -> Option<&dyn GroupStore> {
        (!self.settings.role_groups).then_some(self)
    }
}

/// Writes resources to a new file, each in a line.
fn write_lines(to: &Path, resources: &[Resource]) -> Result<(), StoreError> {
    let write = || -> std::io::Result<()> {
        let mut out = std::io::BufWriter::new(crate::private::file(to)?);
        for resource in resources {
            serde_json::to_writer(&mut out, resource)?;
            out.write_all(b"\n")?;
        }
        out.into_inner().map_err(std::io::IntoInnerError::into_error)?.sync_all()
    };
    Ok(write().map_err(|source| StoreErrorKind::Unwritable { file: to.to_owned(), source })?)
}

impl TrialStore for ScimStore {
    fn try_out(&self, login: String, terms: Terms) -> StoreFuture<'_, Trial> {
        Box::pin(async move {
            let session = self.session_for(&terms).await?;
            trial::try_out(&session, &login, &terms.unique).await
        })
    }
}

impl GroupStore for ScimStore {
    fn all_groups(&self) -> StoreFuture<'_, Groups> {
        Box::pin(async { Ok(Groups { list: self.all_groups().await?, by_login: false }) })
    }

    fn carry_out_groups(
        &self,
        edits: Arc<[GroupEdit]>,
        terms: Terms,
        record: Recorder,
    ) -> StoreFuture<'_, ()> {
        Box::pin(async move { self.change_groups(&edits, &terms, record).await })
    }
}
