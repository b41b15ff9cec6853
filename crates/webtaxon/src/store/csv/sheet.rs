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
    pub(super) rows: Rows,
}

/// The content of a column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Column {
    Login,
    Link,
    State,
    Field(SmolStr),
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
    /// Parses a file; `fields` are those that must have a column.
    pub(super) fn read(store: &ListFile, bytes: &'a [u8], fields: &[&str]) -> Result<Self, StoreError> {
        let path = store.file.as_path();
        let file = || path.to_owned();
        let column = |own: &str| store.columns.get(own).cloned().unwrap_or_else(|| own.to_owned());
        // Spreadsheets write a byte order mark in front of UTF-8.
        let mark = if bytes.starts_with(MARK) { MARK.len() } else { 0 };
        let rest = bytes.get(mark..).unwrap_or_default();
        let mut reader = ReaderBuilder::new().from_reader(rest);
        let header = reader.byte_headers().map_err(|error| refused(path, &error))?.clone();
        let header = text_row(path, &header, 1)?;
        for (index, name) in header.iter().enumerate() {
            if header.iter().take(index).any(|earlier| earlier == name) {
                return Err(StoreErrorKind::TwoColumns { file: file(), column: name.clone() }.into());
            }
        }
        let place = |own: &str| {
            let column = column(own);
            header.iter().position(|name| *name == column).ok_or_else(|| {
                let help = if store.rows == Rows::Groups {
                    let own = if own == "login" { "name" } else if own == MEMBERS { "members" } else { own };
                    format!("add the column, or give its name: [accounts.groups] columns = {{ {own} = \"…\" }}; the file has {}", header.join(", "))
                } else if OWN.contains(&own) {
                    format!("add the column, or give its name: [accounts.columns] {own} = \"…\"{}; the file has {}", apart(own), header.join(", "))
                } else {
                    format!("add the column, or remove `{column}` from [intake.fields]; the file has {}", header.join(", "))
                };
                StoreErrorKind::NoColumn { file: file(), column, help }
            })
        };
        let login_at = place("login")?;
        let state_at = if store.rows == Rows::Accounts { Some(place("state")?) } else { None };
        let link_at = if store.has_links { Some(place("link")?) } else { None };
        if !store.has_links && header.iter().any(|name| name == "link") {
            return Err(StoreErrorKind::HasLinks { store: path.display().to_string() }.into());
        }
        for field in fields.iter().filter(|field| **field != "login") {
            place(field)?;
        }
        let roles = column("roles");
        let columns: Vec<Column> = header
            .iter()
            .enumerate()
            .map(|(at, name)| match at {
                at if at == login_at => Column::Login,
                at if Some(at) == link_at => Column::Link,
                at if Some(at) == state_at => Column::State,
                _ if *name == roles => Column::Field("roles".into()),
                // A column of the application's own that happens to have a reserved name.
                _ if OWN.contains(&name.as_str()) => Column::Field(format!("\"{name}\"").into()),
                _ => Column::Field(name.into()),
            })
            .collect();
        let mut accounts = Vec::new();
        let mut starts = Vec::new();
        let mut logins: HashMap<SmolStr, u64> = HashMap::default();
        let mut links: HashMap<Identity, u64> = HashMap::default();
        let mut row = ByteRecord::new();
        while reader.read_byte_record(&mut row).map_err(|error| refused(path, &error))? {
            let line = row.position().map_or(0, csv::Position::line);
            let start = row.position().map_or(0, csv::Position::byte);
            let start = mark + usize::try_from(start).unwrap_or(usize::MAX);
            // The parser ends a row within a CRLF.
            let halved = bytes.get(start.saturating_sub(1)..=start) == Some(b"\r\n");
            starts.push(start + usize::from(halved));
            let (mut login, mut link, mut state) = ("", "", "");
            let mut fields = Fields::with_capacity(columns.len());
            for (column, value) in columns.iter().zip(&row) {
                let value = text(path, value, line)?;
                match column {
                    Column::Login => login = value.trim(),
                    Column::Link => link = value.trim(),
                    Column::State => state = value.trim(),
                    Column::Field(name) => fields.push(name.clone(), value.into()),
                }
            }
            if login.is_empty() {
                let kind = match store.rows {
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
            twice(store.rows.name(), login, logins.insert(Account::login_key(login).into(), line))?;
            let link = Identity::from_link(link);
            if let Some(link) = &link {
                twice("link", link.as_str(), links.insert(link.clone(), line))?;
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
            accounts.push(Account { login: login.to_owned(), link, state, fields });
        }
        let ends = starts.iter().skip(1).copied().chain([bytes.len()]);
        let rows = starts.iter().zip(ends).map(|(start, end)| *start..end).collect();
        Ok(Self { bytes, columns, rows, accounts })
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

fn refused(file: &Path, error: &csv::Error) -> StoreError {
    let file = file.to_owned();
    match error.kind() {
        ErrorKind::UnequalLengths { pos, expected_len, len } => {
            let line = pos.as_ref().map_or(0, csv::Position::line);
            StoreErrorKind::Ragged { file, line, found: *len, wanted: *expected_len }
        }
        _ => StoreErrorKind::Csv { file, reason: error.to_string() },
    }
    .into()
}
