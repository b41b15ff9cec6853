//! The application's list as a CSV file (RFC 4180): one account a row, names in the first line.
//!
//! `login`, `link`, `state` and `roles` are columns of these names unless the settings say otherwise;
//! every other column is a field of its own name. The whole list is held in memory.

use super::{AccountStore, Answer, StoreError, StoreErrorKind};
use csv::{ByteRecord, ErrorKind, ReaderBuilder};
use indexmap::IndexMap;
use std::collections::HashMap;
use std::path::PathBuf;
use webtaxon_core::account::{Account, State};
use webtaxon_core::identity::Identity;

/// A CSV file.
#[derive(Debug)]
pub struct CsvStore {
    file: PathBuf,
    columns: IndexMap<String, String>,
}

impl CsvStore {
    /// The list in `file`; `columns` names the columns that are not called `login`, `link`, `state` or
    /// `roles`.
    #[must_use]
    pub fn new(file: PathBuf, columns: IndexMap<String, String>) -> Self {
        Self { file, columns }
    }

    fn column<'a>(&'a self, own: &'a str) -> &'a str {
        self.columns.get(own).map_or(own, String::as_str)
    }

    fn read(&self, fields: &[&str]) -> Result<Vec<Account>, StoreError> {
        let file = || self.file.clone();
        let bytes = std::fs::read(&self.file)
            .map_err(|reason| StoreErrorKind::Unreadable { file: file(), reason })?;
        // Spreadsheets put a mark in front of UTF-8.
        let text = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&bytes);
        let mut reader = ReaderBuilder::new().from_reader(text);
        let header = reader.byte_headers().map_err(|error| self.refused(&error))?.clone();
        let header = self.text_row(&header, 1)?;
        for (index, name) in header.iter().enumerate() {
            if header.iter().take(index).any(|earlier| earlier == name) {
                return Err(StoreErrorKind::TwoColumns { file: file(), column: name.clone() }.into());
            }
        }
        let place = |own: &str| {
            let column = self.column(own);
            header.iter().position(|name| name == column).ok_or_else(|| {
                let help = if ["login", "link", "state", "roles"].contains(&own) {
                    format!("add the column, or say what it is called: [accounts.columns] {own} = \"…\"; the file has {}", header.join(", "))
                } else {
                    format!("add the column, or take `{column}` out of [intake.fields]; the file has {}", header.join(", "))
                };
                StoreErrorKind::NoColumn { file: file(), column: column.to_owned(), help }
            })
        };
        let (login_at, link_at, state_at) = (place("login")?, place("link")?, place("state")?);
        for field in fields.iter().filter(|field| **field != "login") {
            place(field)?;
        }
        let mut accounts = Vec::new();
        let mut logins = HashMap::new();
        let mut links = HashMap::new();
        let mut row = ByteRecord::new();
        while reader.read_byte_record(&mut row).map_err(|error| self.refused(&error))? {
            let line = row.position().map_or(0, csv::Position::line);
            let values = self.text_row(&row, line)?;
            let value = |at: usize| values.get(at).map_or("", |value| value.trim());
            let login = value(login_at).to_owned();
            if login.is_empty() {
                return Err(StoreErrorKind::NoLogin { file: file(), line }.into());
            }
            let twice = |what, value: &str, first: Option<u64>| match first {
                Some(first) => {
                    let value = value.to_owned();
                    Err(StoreErrorKind::Twice { file: file(), line, what, value, first })
                }
                None => Ok(()),
            };
            twice("login", &login, logins.insert(Account::login_key(&login), line))?;
            let link = Identity::from_link(value(link_at));
            if let Some(link) = &link {
                twice("link", link.as_str(), links.insert(link.clone(), line))?;
            }
            let state = match value(state_at).to_lowercase().as_str() {
                "" | "active" => State::Active,
                "suspended" => State::Suspended,
                other => {
                    return Err(
                        StoreErrorKind::NoState { file: file(), line, value: other.to_owned() }.into()
                    );
                }
            };
            let fields = header
                .iter()
                .zip(values)
                .enumerate()
                .filter(|(at, _)| ![login_at, link_at, state_at].contains(at))
                .map(|(_, (name, value))| {
                    let is_roles = name == self.column("roles");
                    (if is_roles { "roles".to_owned() } else { name.clone() }, value)
                })
                .collect();
            accounts.push(Account { login, link, state, fields });
        }
        Ok(accounts)
    }

    fn text_row(&self, row: &ByteRecord, line: u64) -> Result<Vec<String>, StoreError> {
        let not_text = |what| StoreErrorKind::NotText { file: self.file.clone(), line, what };
        row.iter()
            .map(|value| match std::str::from_utf8(value) {
                Err(_) => Err(not_text("a byte that is not UTF-8").into()),
                Ok(text) if text.contains('\0') => Err(not_text("a NUL byte").into()),
                Ok(text) => Ok(text.to_owned()),
            })
            .collect()
    }

    fn refused(&self, error: &csv::Error) -> StoreError {
        let file = self.file.clone();
        match error.kind() {
            ErrorKind::UnequalLengths { pos, expected_len, len } => {
                let line = pos.as_ref().map_or(0, csv::Position::line);
                StoreErrorKind::Ragged { file, line, found: *len, wanted: *expected_len }
            }
            _ => StoreErrorKind::Csv { file, reason: error.to_string() },
        }
        .into()
    }
}

impl AccountStore for CsvStore {
    fn describe(&self) -> String {
        self.file.display().to_string()
    }

    fn accounts<'a>(&'a self, fields: &'a [&'a str]) -> Answer<'a, Vec<Account>> {
        Box::pin(async { self.read(fields) })
    }

    fn is_writable(&self) -> Answer<'_, bool> {
        // Opened for appending, the file stays as it is.
        let opened = std::fs::OpenOptions::new().append(true).open(&self.file);
        Box::pin(async move { Ok(opened.is_ok()) })
    }
}
