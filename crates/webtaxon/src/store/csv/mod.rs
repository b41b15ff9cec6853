//! Accounts in a CSV file (RFC 4180): one to a row, column names in the first line.
//!
//! `login`, `link`, `state` and `roles` are columns of these names unless the settings say otherwise; every other
//! column is a field of its own name. The whole list is held in memory and written at once: a new file replaces the
//! old one, or nothing happens.

mod replace;
mod sheet;
mod write;

use super::groups::{MEMBERS, as_edits, group};
use super::{
    AccountStore, GroupStore, Recorder, Rows, Secrets, StoreError, StoreErrorKind, StoreFuture, Terms,
    groups_beside,
};
use crate::background;
use indexmap::IndexMap;
use sheet::{ListFile, Sheet};
use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use webtaxon_core::account::{Account, Group, Groups, folded};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Plan};
use write::Changed;

/// A CSV file.
#[derive(Clone, Debug)]
pub struct CsvStore {
    accounts: ListFile,
    /// The file of the application's groups, one to a row.
    groups: Option<ListFile>,
}

impl CsvStore {
    /// The list in `file`; `columns` maps `login`, `link`, `state` and `roles` to other column names.
    #[must_use]
    pub fn new(file: PathBuf, columns: IndexMap<String, String>) -> Self {
        let accounts = ListFile { file, columns, has_links: true, secrets: Vec::new(), rows: Rows::Accounts };
        Self { accounts, groups: None }
    }

    /// This store without a column for links.
    #[must_use]
    pub fn without_links(mut self) -> Self {
        self.accounts.has_links = false;
        self
    }

    /// This store with columns that are filled in new rows, and never read.
    #[must_use]
    pub fn with_secrets(mut self, fields: Vec<String>) -> Self {
        self.accounts.secrets = fields;
        self
    }

    /// This store with the application's groups in another file; `columns` maps `name`, `link` and `members` to other
    /// column names.
    #[must_use]
    pub fn with_groups(self, file: PathBuf, columns: &IndexMap<String, String>) -> Self {
        let column = |own: &str| columns.get(own).cloned().unwrap_or_else(|| own.to_owned());
        let called = [("login", "name"), ("link", "link"), (MEMBERS, "members")];
        let columns = called.into_iter().map(|(own, name)| (own.to_owned(), column(name))).collect();
        let secrets = Vec::new();
        Self {
            groups: Some(ListFile { file, columns, has_links: true, secrets, rows: Rows::Groups }),
            ..self
        }
    }

    fn groups_file(&self) -> Result<&ListFile, StoreError> {
        let none = || StoreErrorKind::NoGroups { store: self.describe() };
        Ok(self.groups.as_ref().ok_or_else(none)?)
    }
}

impl ListFile {
    fn bytes(&self) -> Result<Vec<u8>, StoreError> {
        let file = || self.file.clone();
        Ok(std::fs::read(&self.file).map_err(|source| StoreErrorKind::Unreadable { file: file(), source })?)
    }

    fn sheet<'a>(&'a self, bytes: &'a [u8], fields: &[String]) -> Result<Sheet<'a>, StoreError> {
        Sheet::read(self, bytes, fields)
    }

    /// The file after the edits, with the outcome of each.
    fn changed(&self, bytes: &[u8], edits: &[Edit], terms: &Terms) -> Result<Changed, StoreError> {
        let sheet = self.sheet(bytes, &terms.fields)?;
        Ok(sheet.with(&Plan::of(edits, &sheet.accounts, &terms.unique), &terms.secrets))
    }

    /// The file of groups after the edits, with the outcome of each.
    fn with_changed_groups(&self, bytes: &[u8], edits: &[GroupEdit]) -> Result<Changed, StoreError> {
        let sheet = self.sheet(bytes, &[])?;
        let (edits, standings) = as_edits(edits, &sheet.accounts);
        Ok(sheet.with(&Plan::of_standings(&edits, &sheet.accounts, standings, &[""; 0]), &Secrets::default()))
    }

    /// The original file of groups, byte for byte, if its content equals the result.
    fn original_groups(&self, text: &[u8], terms: &Terms) -> Option<Vec<u8>> {
        let original = std::fs::read(groups_beside(terms.original.as_ref()?, "csv")).ok()?;
        let said = |bytes: &[u8]| {
            let rows = self.sheet(bytes, &[]).ok()?.accounts;
            let said = rows.iter().map(|row| {
                let Group { name, link, members, fields } = group(row);
                let members: BTreeSet<String> = members.iter().map(|one| folded(one).into_owned()).collect();
                (name, (link, members, fields))
            });
            Some(said.collect::<HashMap<_, _>>())
        };
        (said(&original)? == said(text)?).then_some(original)
    }

    /// Replaces the file's content.
    fn put(&self, now: &[u8], text: &[u8]) -> Result<(), StoreError> {
        if text == now {
            return Ok(());
        }
        replace::replace(&self.file, now, text).map_err(|reason| self.unwritable(reason))
    }

    /// The original file, byte for byte, if the result equals its content.
    fn original(&self, now: &[u8], edits: &[Edit], terms: &Terms) -> Option<Vec<u8>> {
        let original = std::fs::read(terms.original.as_ref()?).ok()?;
        // The last edit is undone first.
        let forward: Vec<Edit> = edits.iter().rev().map(Edit::back).collect();
        let made = self.changed(&original, &forward, terms).ok()?;
        (made.text == now).then_some(original)
    }

    fn unwritable(&self, source: std::io::Error) -> StoreError {
        StoreErrorKind::Unwritable { file: self.file.clone(), source }.into()
    }
}

/// Time after a change of a file within which another may leave its times as they are.
const SETTLED: std::time::Duration = std::time::Duration::from_secs(2);

/// A text that identifies the present content of a file; `None` shortly after a change.
fn mark(file: &Path) -> Option<String> {
    let about = std::fs::metadata(file).ok()?;
    let changed = about.modified().ok()?;
    changed.elapsed().ok().filter(|since| *since > SETTLED)?;
    #[cfg(unix)]
    let own = {
        use std::os::unix::fs::MetadataExt as _;
        (about.dev(), about.ino(), about.ctime(), about.ctime_nsec())
    };
    #[cfg(not(unix))]
    let own = ();
    Some(format!("{own:?} {} {changed:?}", about.len()))
}

impl CsvStore {
    fn copy_to(&self, stem: &Path) -> Result<PathBuf, StoreError> {
        let to = stem.with_extension("csv");
        replace::create(&to, &self.accounts.bytes()?).map_err(|reason| self.accounts.unwritable(reason))?;
        if let Some(groups) = &self.groups {
            let to = groups_beside(&to, "csv");
            replace::create(&to, &groups.bytes()?).map_err(|reason| groups.unwritable(reason))?;
        }
        Ok(to)
    }

    /// Makes the edits; returns their outcomes.
    fn change(&self, edits: &[Edit], terms: &Terms) -> Result<Vec<Outcome>, StoreError> {
        let file = &self.accounts;
        let _held = replace::hold(&file.file).map_err(|reason| file.unwritable(reason))?;
        let now = file.bytes()?;
        let Changed { text, outcomes } = file.changed(&now, edits, terms)?;
        file.put(&now, &file.original(&now, edits, terms).unwrap_or(text))?;
        Ok(outcomes)
    }

    /// Makes the edits of groups; returns their outcomes.
    fn change_groups(&self, edits: &[GroupEdit], terms: &Terms) -> Result<Vec<Outcome>, StoreError> {
        let file = self.groups_file()?;
        let _held = replace::hold(&file.file).map_err(|reason| file.unwritable(reason))?;
        let now = file.bytes()?;
        let Changed { text, outcomes } = file.with_changed_groups(&now, edits)?;
        file.put(&now, &file.original_groups(&text, terms).unwrap_or(text))?;
        Ok(outcomes)
    }

    /// Does work on another thread, since files block.
    fn work<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Self) -> Result<T, StoreError> + Send + 'static,
    ) -> StoreFuture<'_, T> {
        let own = self.clone();
        Box::pin(background::run(move || work(&own)))
    }
}

impl AccountStore for CsvStore {
    fn describe(&self) -> String {
        self.accounts.file.display().to_string()
    }

    fn place(&self) -> String {
        self.accounts.file.canonicalize().unwrap_or_else(|_| self.accounts.file.clone()).display().to_string()
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        self.work(move |own| Ok(own.accounts.sheet(&own.accounts.bytes()?, &fields)?.accounts))
    }

    fn mark(&self) -> StoreFuture<'_, Option<String>> {
        self.work(|own| Ok(mark(&own.accounts.file)))
    }

    fn is_writable(&self) -> StoreFuture<'_, bool> {
        // Opening for append does not change the file.
        self.work(|own| Ok(std::fs::OpenOptions::new().append(true).open(&own.accounts.file).is_ok()))
    }

    fn copy(&self, stem: PathBuf) -> StoreFuture<'_, Option<PathBuf>> {
        self.work(move |own| own.copy_to(&stem).map(Some))
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, mut record: Recorder) -> StoreFuture<'_, ()> {
        self.work(move |own| {
            for (at, outcome) in own.change(&edits, &terms)?.into_iter().enumerate() {
                let _ = record(at, outcome);
            }
            Ok(())
        })
    }

    fn groups(&self) -> Option<&dyn GroupStore> {
        self.groups.is_some().then_some(self)
    }
}

impl GroupStore for CsvStore {
    fn all_groups(&self) -> StoreFuture<'_, Groups> {
        self.work(|own| {
            let file = own.groups_file()?;
            let list = file.sheet(&file.bytes()?, &[])?.accounts.iter().map(group).collect();
            Ok(Groups { list, by_login: true })
        })
    }

    fn carry_out_groups(
        &self,
        edits: Arc<[GroupEdit]>,
        terms: Terms,
        mut record: Recorder,
    ) -> StoreFuture<'_, ()> {
        self.work(move |own| {
            for (at, outcome) in own.change_groups(&edits, &terms)?.into_iter().enumerate() {
                let _ = record(at, outcome);
            }
            Ok(())
        })
    }
}
