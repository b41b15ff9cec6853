//! The application's list as a CSV file (RFC 4180): one account a row, names in the first line.
//!
//! `login`, `link`, `state` and `roles` are columns of these names unless the settings say otherwise;
//! every other column is a field of its own name. The whole list is held in memory, and written as a
//! whole: a new file takes the old one's place at once, or nothing happens.

mod replace;
mod sheet;
mod write;

use super::{AccountStore, Answer, Outcome, Record, StoreError, StoreErrorKind, Terms};
use indexmap::IndexMap;
use sheet::Sheet;
use std::path::{Path, PathBuf};
use webtaxon_core::account::Account;
use webtaxon_core::apply::{Edit, Standing, standings};

/// A CSV file.
#[derive(Clone, Debug)]
pub struct CsvStore {
    file: PathBuf,
    columns: IndexMap<String, String>,
    has_links: bool,
}

impl CsvStore {
    /// The list in `file`; `columns` names the columns that are not called `login`, `link`, `state` or
    /// `roles`.
    #[must_use]
    pub fn new(file: PathBuf, columns: IndexMap<String, String>) -> Self {
        Self { file, columns, has_links: true }
    }

    /// The same without a column for the link.
    #[must_use]
    pub fn without_links(self) -> Self {
        Self { has_links: false, ..self }
    }

    fn bytes(&self) -> Result<Vec<u8>, StoreError> {
        let file = || self.file.clone();
        Ok(std::fs::read(&self.file).map_err(|reason| StoreErrorKind::Unreadable { file: file(), reason })?)
    }

    fn sheet<'a>(&'a self, bytes: &'a [u8], fields: &[&str]) -> Result<Sheet<'a>, StoreError> {
        Sheet::read(self, bytes, fields)
    }

    /// The file as it would be, and how each edit stood to it.
    fn changed(
        &self,
        bytes: &[u8],
        edits: &[Edit],
        terms: &Terms<'_>,
    ) -> Result<(Vec<u8>, Vec<Standing>), StoreError> {
        let sheet = self.sheet(bytes, terms.fields)?;
        let standings = standings(edits, &sheet.accounts, terms.unique);
        let mut ready = edits.iter().zip(&standings).filter(|(_, standing)| standing.is_ready());
        let text = if ready.next().is_some() { sheet.with(edits, &standings) } else { bytes.to_vec() };
        Ok((text, standings))
    }

    /// The original, byte for byte, where the file is nothing but the original with these edits undone.
    fn original(&self, now: &[u8], edits: &[Edit], terms: &Terms<'_>) -> Option<Vec<u8>> {
        let original = std::fs::read(terms.original?).ok()?;
        // The last edit is taken back first.
        let forward: Vec<Edit> = edits.iter().rev().map(Edit::back).collect();
        let (made, _) = self.changed(&original, &forward, terms).ok()?;
        (made == now).then_some(original)
    }
}

impl AccountStore for CsvStore {
    fn describe(&self) -> String {
        self.file.display().to_string()
    }

    fn place(&self) -> String {
        self.file.canonicalize().unwrap_or_else(|_| self.file.clone()).display().to_string()
    }

    fn accounts<'a>(&'a self, fields: &'a [&'a str]) -> Answer<'a, Vec<Account>> {
        let store = self.clone();
        let fields: Vec<String> = fields.iter().map(|field| (*field).to_owned()).collect();
        // Beside whatever else goes on: a directory is read meanwhile.
        let read = move || {
            let fields: Vec<&str> = fields.iter().map(String::as_str).collect();
            Ok(store.sheet(&store.bytes()?, &fields)?.accounts)
        };
        Box::pin(async {
            let read = tokio::task::spawn_blocking(read).await;
            read.unwrap_or_else(|error| std::panic::resume_unwind(error.into_panic()))
        })
    }

    fn is_writable(&self) -> Answer<'_, bool> {
        // Opened for appending, the file stays as it is.
        let opened = std::fs::OpenOptions::new().append(true).open(&self.file);
        Box::pin(async move { Ok(opened.is_ok()) })
    }

    fn copy<'a>(&'a self, stem: &'a Path) -> Answer<'a, Option<PathBuf>> {
        Box::pin(async move {
            let to = stem.with_extension("csv");
            replace::create(&to, &self.bytes()?).map_err(|reason| self.unwritable(reason))?;
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
            let _held = replace::hold(&self.file).map_err(|reason| self.unwritable(reason))?;
            let now = self.bytes()?;
            let (mut text, standings) = self.changed(&now, edits, terms)?;
            if let Some(original) = self.original(&now, edits, terms) {
                text = original;
            }
            if text != now {
                replace::replace(&self.file, &now, &text).map_err(|reason| self.unwritable(reason))?;
            }
            for (at, standing) in standings.into_iter().enumerate() {
                record(at, Outcome::from(standing));
            }
            Ok(())
        })
    }
}

impl CsvStore {
    fn unwritable(&self, reason: std::io::Error) -> StoreError {
        StoreErrorKind::Unwritable { file: self.file.clone(), reason }.into()
    }
}
