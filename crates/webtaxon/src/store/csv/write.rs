//! The file after edits: every other row, and every other cell of a changed row, keeps its bytes.

use super::super::Secrets;
use super::sheet::{Column, Sheet};
use std::borrow::Cow;
use std::collections::HashMap;
use webtaxon_core::account::Account;
use webtaxon_core::apply::{Outcome, Plan, Step};

/// A file after edits, with the outcome of each.
pub(super) struct Changed {
    pub(super) text: Vec<u8>,
    pub(super) outcomes: Vec<Outcome>,
}

impl Sheet<'_> {
    /// The file after a plan. New accounts come last, with their secret fields.
    pub(super) fn with(&self, plan: &Plan<'_>, secrets: &Secrets) -> Changed {
        let outcomes = plan.outcomes().map(|(_, outcome)| outcome).collect();
        if plan.is_empty() {
            return Changed { text: self.bytes.to_vec(), outcomes };
        }
        let mut changed: HashMap<usize, Step<'_>> = HashMap::new();
        let mut new: Vec<&Account> = Vec::new();
        for step in plan.units().flat_map(|unit| unit.steps) {
            match step {
                // The file is replaced as a whole.
                Step::PutAside { .. } => {}
                Step::Insert { account } => new.push(account),
                Step::Update { at, .. } | Step::Delete { at } => drop(changed.insert(at, step)),
            }
        }
        let mut out = Vec::with_capacity(self.bytes.len() + 256 * new.len());
        let first = self.rows.first().map_or(self.bytes.len(), |row| row.start);
        out.extend_from_slice(self.bytes.get(..first).unwrap_or_default());
        for (at, range) in self.rows.iter().enumerate() {
            let row = self.bytes.get(range.clone()).unwrap_or_default();
            match changed.get(&at) {
                Some(Step::Delete { .. }) => {}
                Some(Step::Update { set, .. }) => {
                    if let Some(there) = self.accounts.get(at) {
                        self.rewrite(&mut out, row, there, set);
                    }
                }
                _ => out.extend_from_slice(row),
            }
        }
        self.append(&mut out, new.into_iter().map(|account| secrets.complete(account)));
        Changed { text: out, outcomes }
    }

    /// One row with the changed cells rewritten.
    fn rewrite(&self, out: &mut Vec<u8>, row: &[u8], there: &Account, set: &[(&str, Option<&str>)]) {
        let (start, end) = bounds(row);
        out.extend_from_slice(row.get(..start).unwrap_or_default());
        let new = |name: &str| {
            let (_, value) = set.iter().find(|(field, _)| *field == name)?;
            Some(value.unwrap_or_default())
        };
        let cells = cells(row.get(start..end).unwrap_or_default());
        // Quotes that RFC 4180 does not allow are ambiguous: then the whole row is rewritten.
        let is_sound = cells.len() == self.columns.len();
        for (at, column) in self.columns.iter().enumerate() {
            if at > 0 {
                out.push(b',');
            }
            let cell = cells.get(at).copied().filter(|_| is_sound);
            match (cell, new(name(column))) {
                (Some(cell), None) => out.extend_from_slice(cell),
                (cell, new) => {
                    let value = match (new, column) {
                        (Some(new), _) => Cow::Borrowed(new),
                        (None, Column::Secret(_)) => unread(row, at),
                        (None, column) => Cow::Borrowed(value(column, there)),
                    };
                    put(out, &value, cell.is_some_and(|cell| cell.starts_with(b"\"")));
                }
            }
        }
        out.extend_from_slice(row.get(end..).unwrap_or_default());
    }

    /// New rows at the end, quoted and terminated like the last one.
    fn append<'a>(&self, out: &mut Vec<u8>, accounts: impl Iterator<Item = Cow<'a, Account>>) {
        let first = self.rows.first().map_or(self.bytes.len(), |row| row.start);
        let header = self.bytes.get(..first).unwrap_or_default();
        let like = self.rows.last().and_then(|row| self.bytes.get(row.clone())).unwrap_or(header);
        let (start, end) = bounds(like);
        let quoted =
            cells(like.get(start..end).unwrap_or_default()).iter().all(|cell| cell.starts_with(b"\""));
        let ends: &[u8] = if header.ends_with(b"\r\n") { b"\r\n" } else { b"\n" };
        let closed = out.is_empty() || out.ends_with(b"\n") || out.ends_with(b"\r");
        let mut accounts = accounts.peekable();
        if !closed && accounts.peek().is_some() {
            out.extend_from_slice(ends);
        }
        while let Some(account) = accounts.next() {
            for (at, column) in self.columns.iter().enumerate() {
                if at > 0 {
                    out.push(b',');
                }
                put(out, value(column, &account), quoted);
            }
            // A file without a final line break keeps none.
            if closed || accounts.peek().is_some() {
                out.extend_from_slice(ends);
            }
        }
    }
}

fn name(column: &Column) -> &str {
    match column {
        Column::Login => "login",
        Column::Link => "link",
        Column::State => "state",
        Column::Field(name) | Column::Secret(name) => name,
    }
}

fn value<'a>(column: &Column, account: &'a Account) -> &'a str {
    match column {
        Column::Field(name) | Column::Secret(name) => account.field(name),
        own => account.value(name(own)),
    }
}

/// Writes one cell (RFC 4180 §2, rules 5 to 7), quoted if necessary or requested.
fn put(out: &mut Vec<u8>, value: &str, quoted: bool) {
    // A plain loop over all bytes is faster than one that stops early.
    let is_sign = |byte| matches!(byte, b',' | b'"' | b'\r' | b'\n');
    let must = value.bytes().fold(false, |must, byte| must | is_sign(byte));
    if !(quoted || must) {
        return out.extend_from_slice(value.as_bytes());
    }
    out.push(b'"');
    for byte in value.bytes() {
        if byte == b'"' {
            out.push(b'"');
        }
        out.push(byte);
    }
    out.push(b'"');
}

/// The text of a cell that is not part of the account.
fn unread(row: &[u8], at: usize) -> Cow<'static, str> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(row);
    let mut cells = csv::ByteRecord::new();
    let _ = reader.read_byte_record(&mut cells);
    Cow::Owned(String::from_utf8_lossy(cells.get(at).unwrap_or_default()).into_owned())
}

/// The start and end of a row's text, without preceding blank lines and its line break.
fn bounds(row: &[u8]) -> (usize, usize) {
    let is_break = |byte: &&u8| matches!(byte, b'\r' | b'\n');
    let start = row.iter().take_while(is_break).count();
    let after = row.iter().rev().take_while(is_break).count();
    (start, row.len().saturating_sub(after).max(start))
}

/// The cells of a row as written, including quotes.
fn cells(row: &[u8]) -> Vec<&[u8]> {
    let mut cells = Vec::new();
    let (mut start, mut inside) = (0, false);
    for (at, byte) in row.iter().enumerate() {
        match byte {
            // A quote opens only at the start of a cell; a doubled quote inside closes and reopens it.
            b'"' if inside || at == start || row.get(start) == Some(&b'"') => inside = !inside,
            b',' if !inside => {
                cells.push(row.get(start..at).unwrap_or_default());
                start = at + 1;
            }
            _ => {}
        }
    }
    cells.push(row.get(start..).unwrap_or_default());
    cells
}
