//! LDIF content (RFC 2849): entries as text, as servers export them; read here, written in `write`.
//!
//! [`records`] goes through the text one record at a time and holds one record in memory. Folded
//! lines, comments, base64 values, CRLF and the version line are understood; values from a URL
//! (`:<`) are refused, since this crate does no I/O. No recursion.

mod error;
#[cfg(test)]
mod tests;
mod write;

pub use error::{ParseError, ParseErrorKind};
pub use write::{write_comment, write_record};

use crate::entry::Entries;
use crate::name::Dn;
use base64::Engine as _;

/// One entry of the file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Record {
    /// The line, counted from 1, on which its `dn:` stands.
    pub line: usize,
    /// The entry's name.
    pub dn: String,
    /// Each attribute description with one value, in the order of the file.
    pub attributes: Vec<(String, Vec<u8>)>,
}

/// Reads every record of an LDIF text.
///
/// # Errors
/// The first line that breaks the form, as [`ParseError`].
///
/// # Examples
/// ```
/// let mut records = webtaxon_core::ldif::records(b"dn: cn=Ada,dc=example\ncn: Ada\n");
/// assert_eq!(records.next().unwrap().unwrap().dn, "cn=Ada,dc=example");
/// ```
pub fn records(text: &[u8]) -> impl Iterator<Item = Result<Record, ParseError>> {
    Reader { rest: text, line: 0, pending: None, started: false, failed: false }
}

/// Reads every record into [`Entries`], the values of one attribute together.
///
/// # Errors
/// The first line that breaks the form, or that gives a name which an earlier record has.
pub fn entries(text: &[u8]) -> Result<Entries, ParseError> {
    let mut entries = Entries::new();
    let mut seen = std::collections::HashSet::new();
    for record in records(text) {
        let record = record?;
        let dn = Dn::parse(&record.dn).map_err(|_| ParseErrorKind::BadName.at(record.line))?;
        if !seen.insert(dn.key()) {
            return Err(ParseErrorKind::Twice.at(record.line));
        }
        let mut attributes: Vec<(&str, Vec<&[u8]>)> = Vec::new();
        for (name, value) in &record.attributes {
            match attributes.iter_mut().find(|(known, _)| known.eq_ignore_ascii_case(name)) {
                Some((_, values)) => values.push(value),
                None => attributes.push((name, vec![value])),
            }
        }
        entries.push(&record.dn, attributes);
    }
    Ok(entries)
}

struct Reader<'a> {
    rest: &'a [u8],
    /// Lines consumed so far.
    line: usize,
    /// A line that was read too far: its number and its unfolded bytes.
    pending: Option<(usize, Vec<u8>)>,
    started: bool,
    failed: bool,
}

impl Reader<'_> {
    fn physical(&mut self) -> Option<&[u8]> {
        if self.rest.is_empty() {
            return None;
        }
        self.line += 1;
        let end = self.rest.iter().position(|byte| *byte == b'\n').unwrap_or(self.rest.len());
        let (line, tail) = self.rest.split_at_checked(end)?;
        self.rest = tail.get(1..).unwrap_or(&[]);
        Some(line.strip_suffix(b"\r").unwrap_or(line))
    }

    /// The next line with its folds joined; comments are skipped. The number is its first line's.
    fn logical(&mut self) -> Option<(usize, Vec<u8>)> {
        if let Some(pending) = self.pending.take() {
            return Some(pending);
        }
        loop {
            let mut whole = self.physical()?.to_vec();
            let number = self.line;
            while self.rest.first() == Some(&b' ') {
                let folded = self.physical()?;
                whole.extend_from_slice(folded.get(1..).unwrap_or(&[]));
            }
            if whole.first() != Some(&b'#') {
                return Some((number, whole));
            }
        }
    }

    fn record(&mut self) -> Result<Option<Record>, ParseError> {
        let (line, first) = loop {
            match self.logical() {
                None => return Ok(None),
                Some((_, blank)) if blank.is_empty() => {}
                Some((number, text)) if !self.started => {
                    self.started = true;
                    let (name, value) = split(&text, number)?;
                    if !name.eq_ignore_ascii_case("version") {
                        break (number, text);
                    }
                    if value != b"1" {
                        return Err(ParseErrorKind::Version.at(number));
                    }
                }
                Some(other) => break other,
            }
        };
        let (name, value) = split(&first, line)?;
        if !name.eq_ignore_ascii_case("dn") {
            return Err(ParseErrorKind::NoDn.at(line));
        }
        let dn = String::from_utf8(value).map_err(|_| ParseErrorKind::NotUtf8.at(line))?;
        let mut record = Record { line, dn, attributes: Vec::new() };
        while let Some((number, text)) = self.logical() {
            if text.is_empty() {
                break;
            }
            let (name, value) = split(&text, number)?;
            if name.eq_ignore_ascii_case("dn") {
                return Err(ParseErrorKind::NoBlankLine.at(number));
            }
            if name.eq_ignore_ascii_case("changetype") || name.eq_ignore_ascii_case("control") {
                return Err(ParseErrorKind::Change.at(number));
            }
            record.attributes.push((name.to_owned(), value));
        }
        Ok(Some(record))
    }
}

impl Iterator for Reader<'_> {
    type Item = Result<Record, ParseError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.failed {
            return None;
        }
        let next = self.record().transpose();
        self.failed = matches!(next, Some(Err(_)));
        next
    }
}

/// `name: text`, `name:: base64`; a `:<` is refused.
fn split(line: &[u8], number: usize) -> Result<(&str, Vec<u8>), ParseError> {
    let fail = |kind: ParseErrorKind| kind.at(number);
    let colon = line.iter().position(|byte| *byte == b':').ok_or(fail(ParseErrorKind::NoColon))?;
    let (name, rest) = line.split_at_checked(colon).ok_or(fail(ParseErrorKind::NoColon))?;
    let name = std::str::from_utf8(name).map_err(|_| fail(ParseErrorKind::NotUtf8))?;
    let described = !name.is_empty()
        && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.' | b';' | b'='));
    if !described {
        return Err(fail(ParseErrorKind::BadAttribute));
    }
    let rest = rest.get(1..).unwrap_or(&[]);
    let value = match rest.first() {
        Some(b'<') => return Err(fail(ParseErrorKind::Url)),
        Some(b':') => {
            let text = rest.get(1..).unwrap_or(&[]).trim_ascii();
            base64::engine::general_purpose::STANDARD
                .decode(text)
                .map_err(|_| fail(ParseErrorKind::BadBase64))?
        }
        _ => rest.trim_ascii_start().to_vec(),
    };
    Ok((name, value))
}
