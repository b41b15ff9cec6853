//! Reading the file: its accounts, and the position of each row.

use super::super::groups::MEMBERS;
use super::super::{Rows, apart};
use super::super::{StoreError, StoreErrorKind};
use csv::{ByteRecord, ErrorKind, ReaderBuilder};
use foldhash::HashMap;
use indexmap::IndexMap;
use smol_str::SmolStr;
use std::ops::Range;
use std::path::{Path, PathBuf};
use webtaxon_core::account::{Account, Fields, State};
use webtaxon_core::ldap::identity::Identity;

/// Columns with a meaning of their own.
const OWN: [&str; 4] = ["login", "link", "state", "roles"];

/// A file and its column names.
#[derive(Clone, Debug)]
pub(super) struct ListFile {
    pub(super) file: PathBuf,
    /// Columns with other than the usual names.
    pub(super) columns: IndexMap<String, String>,
    pub(super) has_links: bool,
    /// Fields that are written in new rows, and never read.
    pub(super) secrets: Vec<String>,
    pub(super) rows: Rows,
}

/// The content of a column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Column {
    Login,
    Link,
    State,
    Field(SmolStr),
    Secret(SmolStr),
}

/// A file that has been read.
pub(super) struct Sheet<'a> {
    pub(super) bytes: &'a [u8],
    pub(super) columns: Vec<Column>,
    /// The range of each row in `bytes`, including its line break and preceding blank lines.
    pub(super) rows: Vec<Range<usize>>,
    pub(super) accounts: Vec<Account>,
}

impl<'a> Sheet<'a> {
    /// Parses a file; `fields` are those that must have a column, and in a file of groups the members.
    pub(super) fn read(store: &ListFile, bytes: &'a [u8], fields: &[String]) -> Result<Self, StoreError> {
        let path = store.file.as_path();
        // Spreadsheets write a byte order mark in front of UTF-8.
        let mark = if bytes.starts_with(MARK) { MARK.len() } else { 0 };
        let mut reader = ReaderBuilder::new().from_reader(bytes.get(mark..).unwrap_or_default());
        let header = reader.byte_headers().map_err(|error| refused(path, error))?.clone();
        let columns = store.columns_of(&text_row(path, &header, 1)?, fields)?;
        let (mut accounts, mut starts) = (Vec::new(), Vec::new());
        let mut seen = Seen { store, logins: HashMap::default(), links: HashMap::default() };
        let mut row = ByteRecord::new();
        while reader.read_byte_record(&mut row).map_err(|error| refused(path, error))? {
            let line = row.position().map_or(0, csv::Position::line);
            let start = row.position().map_or(0, csv::Position::byte);
            let start = mark + usize::try_from(start).unwrap_or(usize::MAX);
            // The parser ends a row within a CRLF.
            let halved = bytes.get(start.saturating_sub(1)..=start) == Some(b"\r\n");
            starts.push(start + usize::from(halved));
            accounts.push(seen.account(&columns, &row, line)?);
        }
        let ends = starts.iter().skip(1).copied().chain([bytes.len()]);
        let rows = starts.iter().zip(ends).map(|(start, end)| *start..end).collect();
        Ok(Self { bytes, columns, rows, accounts })
    }
}

impl ListFile {
    /// The content of each column; `fields` are those that must have one.
    fn columns_of(&self, header: &[String], fields: &[String]) -> Result<Vec<Column>, StoreError> {
        for (index, name) in header.iter().enumerate() {
            if header.iter().take(index).any(|earlier| earlier == name) {
                let (file, column) = (self.file.clone(), name.clone());
                return Err(StoreErrorKind::TwoColumns { file, column }.into());
            }
        }
        let login_at = self.place("login", header)?;
        let state_at = (self.rows == Rows::Accounts).then(|| self.place("state", header)).transpose()?;
        let link_at = self.has_links.then(|| self.place("link", header)).transpose()?;
        if !self.has_links && header.iter().any(|name| name == "link") {
            return Err(StoreErrorKind::HasLinks { store: self.file.display().to_string() }.into());
        }
        let fields = match self.rows {
            Rows::Accounts => fields.iter().chain(&self.secrets).map(String::as_str).collect(),
            Rows::Groups => vec![MEMBERS],
        };
        for field in fields.into_iter().filter(|field| *field != "login") {
            self.place(field, header)?;
        }
        let roles = self.column("roles");
        let column = |(at, name): (usize, &String)| match at {
            at if at == login_at => Column::Login,
            at if Some(at) == link_at => Column::Link,
            at if Some(at) == state_at => Column::State,
            _ if self.secrets.contains(name) => Column::Secret(name.into()),
            _ if *name == roles => Column::Field("roles".into()),
            // A column of the application's own that happens to have a reserved name.
            _ if OWN.contains(&name.as_str()) => Column::Field(format!("\"{name}\"").into()),
            _ => Column::Field(name.into()),
        };
        Ok(header.iter().enumerate().map(column).collect())
    }

    fn column(&self, own: &str) -> String {
        self.columns.get(own).cloned().unwrap_or_else(|| own.to_owned())
    }

    /// The index of a column.
    fn place(&self, own: &str, header: &[String]) -> Result<usize, StoreError> {
        let column = self.column(own);
        let place = header.iter().position(|name| *name == column);
        Ok(place.ok_or_else(|| {
            let has = header.join(", ");
            let help = if self.rows == Rows::Groups {
                let own = if own == "login" { "name" } else if own == MEMBERS { "members" } else { own };
                format!("add the column, or give its name: [accounts.groups] columns = {{ {own} = \"…\" }}; the file has {has}")
            } else if OWN.contains(&own) {
                format!("add the column, or give its name: [accounts.columns] {own} = \"…\"{}; the file has {has}", apart(own))
            } else {
                format!("add the column, or remove `{column}` from [intake.fields]; the file has {has}")
            };
            StoreErrorKind::NoColumn { file: self.file.clone(), column, help }
        })?)
    }
}

/// The lines of the logins and links so far.
struct Seen<'s> {
    store: &'s ListFile,
    logins: HashMap<SmolStr, u64>,
    links: HashMap<Identity, u64>,
}

impl Seen<'_> {
    /// The account in one row.
    fn account(&mut self, columns: &[Column], row: &ByteRecord, line: u64) -> Result<Account, StoreError> {
        let file = || self.store.file.clone();
        let (mut login, mut link, mut state) = ("", "", "");
        let mut fields = Fields::with_capacity(columns.len());
        for (column, value) in columns.iter().zip(row) {
            let value = text(&self.store.file, value, line)?;
            match column {
                Column::Login => login = value.trim(),
                Column::Link => link = value.trim(),
                Column::State => state = value.trim(),
                Column::Field(name) => fields.push(name.clone(), value.into()),
                Column::Secret(_) => {}
            }
        }
        if login.is_empty() {
            let kind = match self.store.rows {
                Rows::Accounts => StoreErrorKind::NoLogin { file: file(), line },
                Rows::Groups => StoreErrorKind::NoGroupName { file: file(), line },
            };
            return Err(kind.into());
        }
        let twice = |what, value: &str, first: Option<u64>| match first {
            Some(first) => {
                let value = value.to_owned();
                Err(StoreErrorKind::Twice { file: file(), line, what, value, first })
            }
            None => Ok(()),
        };
        let first = self.logins.insert(Account::login_key(login).into(), line);
        twice(self.store.rows.name(), login, first)?;
        let link = Identity::from_link(link);
        if let Some(link) = &link {
            twice("link", link.as_str(), self.links.insert(link.clone(), line))?;
        }
        let is = |word: &str| state.eq_ignore_ascii_case(word);
        let state = match state {
            "" => State::Active,
            _ if is("active") => State::Active,
            _ if is("suspended") => State::Suspended,
            other => {
                let value = other.to_lowercase();
                return Err(StoreErrorKind::NoState { file: file(), line, value }.into());
            }
        };
        Ok(Account { login: login.to_owned(), link, state, fields })
    }
}

/// The byte order mark that some programs write in front of UTF-8.
const MARK: &[u8] = b"\xef\xbb\xbf";

fn text_row(file: &Path, row: &ByteRecord, line: u64) -> Result<Vec<String>, StoreError> {
    row.iter().map(|value| Ok(text(file, value, line)?.to_owned())).collect()
}

fn text<'v>(file: &Path, value: &'v [u8], line: u64) -> Result<&'v str, StoreError> {
    let not_text = |what| StoreErrorKind::NotText { file: file.to_owned(), line, what }.into();
    match std::str::from_utf8(value) {
        Err(_) => Err(not_text("a byte that is not UTF-8")),
        Ok(text) if text.contains('\0') => Err(not_text("a NUL byte")),
        Ok(text) => Ok(text),
    }
}

fn refused(file: &Path, error: csv::Error) -> StoreError {
    let file = file.to_owned();
    match error.kind() {
        ErrorKind::UnequalLengths { pos, expected_len, len } => {
            let line = pos.as_ref().map_or(0, csv::Position::line);
            StoreErrorKind::Ragged { file, line, found: *len, wanted: *expected_len }
        }
        _ => StoreErrorKind::Csv { file, source: error.into() },
    }
    .into()
}
