//! From text to records (RFC 2849): one pass, borrowing from the text where possible.

use super::{Change, Control, LdifError, LdifErrorKind, Modification, Operation, Record};
use base64::Engine as _;
use std::borrow::Cow;

/// The longest record that is read, in bytes of text.
pub const LONGEST: usize = 1 << 26;
/// The usual length of folded lines, in bytes.
const LINE: usize = 76;

/// A line with its folds joined: its number, its first line in the text, and all its bytes.
type Line<'t> = (usize, &'t [u8], Cow<'t, [u8]>);
/// An attribute description with one value.
type Attribute<'t> = (Cow<'t, str>, Cow<'t, [u8]>);

/// Iterates over the records of a text; continues after a record that cannot be read.
#[derive(Clone, Debug)]
pub struct Records<'t> {
    rest: &'t [u8],
    /// Lines consumed.
    line: usize,
    /// Whether the place for `version:` has passed.
    started: bool,
    /// Whether the last line was empty, which ends a record.
    ended: bool,
    longest: usize,
    /// The last entry's attributes: the next one usually has the same, in the same order.
    usual: Vec<Option<&'t str>>,
    /// Start of the record: the bytes left at that point, and its first line.
    began: (usize, usize),
}

impl<'t> Records<'t> {
    pub(super) fn new(text: &'t [u8], line: usize, started: bool, longest: usize) -> Self {
        // Some editors put a byte order mark in front of UTF-8.
        let rest = if line == 0 { text.strip_prefix(b"\xef\xbb\xbf").unwrap_or(text) } else { text };
        Self { rest, line, started, ended: true, longest, usual: Vec::new(), began: (rest.len(), line + 1) }
    }

    pub(super) fn line(&self) -> usize {
        self.line
    }

    pub(super) fn started(&self) -> bool {
        self.started
    }

    fn physical(&mut self) -> Option<&'t [u8]> {
        if self.rest.is_empty() {
            return None;
        }
        self.line += 1;
        let end = memchr::memchr(b'\n', self.rest).unwrap_or(self.rest.len());
        let (line, tail) = self.rest.split_at_checked(end)?;
        self.rest = tail.get(1..).unwrap_or(&[]);
        let line = without_return(line);
        self.ended = line.is_empty();
        Some(line)
    }

    /// The next line with its folds joined; comments are skipped.
    fn logical(&mut self) -> Result<Option<Line<'t>>, LdifError> {
        loop {
            let Some(first) = self.physical() else { return Ok(None) };
            let number = self.line;
            let mut whole = Cow::Borrowed(first);
            // An empty line has ended the record: it cannot be continued.
            while !first.is_empty() && self.rest.first() == Some(&b' ') {
                let folded = self.physical().and_then(|line| line.get(1..)).unwrap_or(&[]);
                whole.to_mut().extend_from_slice(folded);
            }
            let (left, line) = self.began;
            if left - self.rest.len() > self.longest {
                return Err(LdifErrorKind::TooLong.at(line));
            }
            if whole.first() != Some(&b'#') {
                return Ok(Some((number, first, whole)));
            }
        }
    }

    /// The next line of this record; `None` at its end.
    fn inside(&mut self) -> Result<Option<Line<'t>>, LdifError> {
        Ok(self.logical()?.filter(|(_, _, line)| !line.is_empty()))
    }

    /// The first line of the next record; `None` at the end.
    fn first(&mut self) -> Result<Option<Line<'t>>, LdifError> {
        loop {
            match self.logical()? {
                None => return Ok(None),
                Some((_, _, line)) if line.is_empty() => self.began = (self.rest.len(), self.line + 1),
                Some((number, first, line)) if !self.started => {
                    self.started = true;
                    let (name, behind) = split(&line, number)?;
                    if !name.eq_ignore_ascii_case("version") {
                        return Ok(Some((number, first, line)));
                    }
                    if *value(behind).map_err(|kind| kind.at(number))? != *b"1" {
                        return Err(LdifErrorKind::Version.at(number));
                    }
                }
                Some(other) => return Ok(Some(other)),
            }
        }
    }

    fn record(&mut self) -> Result<Option<Record<'t>>, LdifError> {
        let before = self.line;
        let (line, value) = match self.started.then(|| self.expected("dn")).flatten() {
            Some(value) => (before + 1, Cow::Borrowed(value)),
            None => {
                let Some(first) = self.first()? else { return Ok(None) };
                let line = first.0;
                let (name, value) = take(first)?;
                if !name.eq_ignore_ascii_case("dn") {
                    return Err(LdifErrorKind::NoDn.at(line));
                }
                (line, value)
            }
        };
        let dn = text(value).ok_or(LdifErrorKind::NotUtf8.at(line))?;
        let mut record = Record {
            line,
            dn,
            controls: Vec::new(),
            attributes: Vec::with_capacity(self.usual.len()),
            change: None,
        };
        loop {
            if let Some(name) = self.usual_lines(&mut record.attributes)
                && let Some(value) = self.expected_otherwise(name)
            {
                record.attributes.push((Cow::Borrowed(name), Cow::Owned(value)));
                continue;
            }
            let Some(line) = self.inside()? else { break };
            let number = line.0;
            let (name, value) = take(line)?;
            if name.eq_ignore_ascii_case("dn") {
                return Err(LdifErrorKind::NoBlankLine.at(number));
            }
            if name.len() == 7 && name.eq_ignore_ascii_case("control") && record.attributes.is_empty() {
                record.controls.push(control(&value).ok_or(LdifErrorKind::BadControl.at(number))?);
            } else if name.len() == 10 && name.eq_ignore_ascii_case("changetype") {
                if !record.attributes.is_empty() {
                    return Err(LdifErrorKind::LateChange.at(number));
                }
                record.change = Some(self.change(&value, number, &mut record.attributes)?);
                return Ok(Some(record));
            } else {
                if let Cow::Borrowed(name) = name {
                    let at = record.attributes.len();
                    self.usual.resize(self.usual.len().max(at + 1), None);
                    if let Some(usual) = self.usual.get_mut(at) {
                        *usual = Some(name);
                    }
                }
                record.attributes.push((name, value));
            }
        }
        // A record with controls is a change.
        match record.controls.is_empty() {
            true => Ok(Some(record)),
            false => Err(LdifErrorKind::NoChange.at(record.line)),
        }
    }

    /// Consumes lines while they are plain ones of the expected attributes; returns the attribute that would have
    /// been next.
    fn usual_lines(&mut self, attributes: &mut Vec<Attribute<'t>>) -> Option<&'t str> {
        loop {
            let name = (*self.usual.get(attributes.len())?)?;
            let Some(value) = self.expected(name) else { return Some(name) };
            attributes.push((Cow::Borrowed(name), Cow::Borrowed(value)));
        }
    }

    /// The value of the next line if it is a plain one of this attribute, as most are.
    #[inline]
    fn expected(&mut self, name: &str) -> Option<&'t [u8]> {
        let value = self.rest.strip_prefix(name.as_bytes())?.strip_prefix(b": ")?;
        let end = memchr::memchr(b'\n', value)?;
        let (value, next) = (value.get(..end)?, value.get(end + 1..)?);
        if next.first() == Some(&b' ') || self.began.0 - next.len() > self.longest {
            return None;
        }
        (self.rest, self.ended) = (next, false);
        self.line += 1;
        Some(plain(without_return(value)))
    }

    /// The same for a value that is folded or in base64. Faults are left to the slow path, which reports them.
    fn expected_otherwise(&mut self, name: &str) -> Option<Vec<u8>> {
        let behind = self.rest.strip_prefix(name.as_bytes())?.strip_prefix(b":")?;
        let end = memchr::memchr(b'\n', behind)?;
        let (line, mut rest) = (without_return(behind.get(..end)?), behind.get(end + 1..)?);
        let mut lines = 1;
        let value = if rest.first() == Some(&b' ') {
            let mut whole = Vec::with_capacity(line.len() + LINE);
            whole.extend_from_slice(line);
            while let Some(folded) = rest.strip_prefix(b" ") {
                let end = memchr::memchr(b'\n', folded)?;
                whole.extend_from_slice(without_return(folded.get(..end)?));
                (lines, rest) = (lines + 1, folded.get(end + 1..)?);
            }
            owned_value(whole)
        } else {
            value(line).map(Cow::into_owned)
        };
        let value = value.ok()?;
        if self.began.0 - rest.len() > self.longest {
            return None;
        }
        (self.rest, self.ended) = (rest, false);
        self.line += lines;
        Some(value)
    }

    /// The rest of a change record, after `changetype:`.
    fn change(
        &mut self,
        kind: &[u8],
        line: usize,
        attributes: &mut Vec<Attribute<'t>>,
    ) -> Result<Change<'t>, LdifError> {
        let is = |name: &str| kind.trim_ascii_end().eq_ignore_ascii_case(name.as_bytes());
        if is("add") {
            while let Some(line) = self.inside()? {
                attributes.push(take(line)?);
            }
            return Ok(Change::Add);
        }
        if is("delete") {
            return match self.inside()? {
                None => Ok(Change::Delete),
                Some((number, ..)) => Err(LdifErrorKind::NothingMore.at(number)),
            };
        }
        if is("modify") {
            return self.modifications().map(Change::Modify);
        }
        if is("modrdn") || is("moddn") {
            return self.rename(line);
        }
        Err(LdifErrorKind::BadChange.at(line))
    }

    fn modifications(&mut self) -> Result<Vec<Modification<'t>>, LdifError> {
        let mut modifications = Vec::new();
        while let Some(line) = self.inside()? {
            let number = line.0;
            let (name, attribute) = take(line)?;
            let operation = match name.to_ascii_lowercase().as_str() {
                "add" => Operation::Add,
                "delete" => Operation::Delete,
                "replace" => Operation::Replace,
                _ => return Err(LdifErrorKind::BadOperation.at(number)),
            };
            let attribute = text(attribute).ok_or(LdifErrorKind::NotUtf8.at(number))?;
            let mut values = Vec::new();
            loop {
                match self.logical()? {
                    Some((_, _, line)) if *line == *b"-" => break,
                    Some(line) if !line.2.is_empty() => {
                        let number = line.0;
                        let (name, value) = take(line)?;
                        if !name.eq_ignore_ascii_case(&attribute) {
                            return Err(LdifErrorKind::OtherAttribute.at(number));
                        }
                        values.push(value);
                    }
                    _ => return Err(LdifErrorKind::NoDash.at(self.line)),
                }
            }
            modifications.push(Modification { operation, attribute, values });
        }
        Ok(modifications)
    }

    fn rename(&mut self, line: usize) -> Result<Change<'t>, LdifError> {
        let (mut new_rdn, mut delete_old, mut new_superior) = (None, None, None);
        while let Some(line) = self.inside()? {
            let number = line.0;
            let (name, value) = take(line)?;
            let value = text(value).ok_or(LdifErrorKind::NotUtf8.at(number))?;
            match name.to_ascii_lowercase().as_str() {
                "newrdn" => new_rdn = Some(value),
                "deleteoldrdn" if value == "0" || value == "1" => delete_old = Some(value == "1"),
                "newsuperior" => new_superior = Some(value),
                _ => return Err(LdifErrorKind::BadRename.at(number)),
            }
        }
        match (new_rdn, delete_old) {
            (Some(new_rdn), Some(delete_old)) => Ok(Change::Rename { new_rdn, delete_old, new_superior }),
            _ => Err(LdifErrorKind::BadRename.at(line)),
        }
    }
}

impl<'t> Iterator for Records<'t> {
    type Item = Result<Record<'t>, LdifError>;

    fn next(&mut self) -> Option<Self::Item> {
        self.began = (self.rest.len(), self.line + 1);
        let next = self.record().transpose();
        if matches!(next, Some(Err(_))) && !self.ended {
            while self.physical().is_some_and(|line| !line.is_empty()) {}
        }
        next
    }
}

fn text(value: Cow<'_, [u8]>) -> Option<Cow<'_, str>> {
    match value {
        Cow::Borrowed(bytes) => std::str::from_utf8(bytes).ok().map(Cow::Borrowed),
        Cow::Owned(bytes) => String::from_utf8(bytes).ok().map(Cow::Owned),
    }
}

/// `1.2.3 true: value`; everything after the OID is optional.
fn control(value: &[u8]) -> Option<Control> {
    let text = std::str::from_utf8(value).ok()?;
    let (head, value) = match text.split_once(':') {
        None => (text, None),
        Some((head, rest)) => (head, Some(rest)),
    };
    let mut words = head.split(' ').filter(|word| !word.is_empty());
    let oid = words.next().filter(|oid| crate::ldap::name::is_attribute_type(oid))?.to_owned();
    let critical = match words.next() {
        None | Some("false") => false,
        Some("true") => true,
        Some(_) => return None,
    };
    let value = match value {
        None => None,
        Some(encoded) if encoded.starts_with(':') => {
            Some(base64::engine::general_purpose::STANDARD.decode(encoded.get(1..)?.trim()).ok()?)
        }
        Some(url) if url.starts_with('<') => return None,
        Some(plain) => Some(plain.trim_start_matches(' ').as_bytes().to_vec()),
    };
    words.next().is_none().then_some(Control { oid, critical, value })
}

/// The name and value of a line, borrowed from the text where possible.
fn take((number, first, line): Line<'_>) -> Result<Attribute<'_>, LdifError> {
    let fail = |kind: LdifErrorKind| kind.at(number);
    let mut line = match line {
        Cow::Borrowed(line) => {
            let (name, rest) = split(line, number)?;
            return Ok((Cow::Borrowed(name), value(rest).map_err(fail)?));
        }
        Cow::Owned(line) => line,
    };
    let (name, rest) = split(&line, number)?;
    let from = line.len() - rest.len();
    // Folds usually come after the name.
    let name = match first.get(..name.len()).and_then(|name| std::str::from_utf8(name).ok()) {
        Some(name) => Cow::Borrowed(name),
        None => Cow::Owned(name.to_owned()),
    };
    line.drain(..from);
    Ok((name, Cow::Owned(owned_value(line).map_err(fail)?)))
}

/// The name before the colon, and everything after it.
fn split(line: &[u8], number: usize) -> Result<(&str, &[u8]), LdifError> {
    let fail = |kind: LdifErrorKind| kind.at(number);
    let is_name = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.' | b';' | b'=');
    let colon = line.iter().position(|byte| !is_name(*byte));
    let colon = match colon.and_then(|at| Some((at, *line.get(at)?))) {
        Some((at, b':')) if at > 0 => at,
        _ if !line.contains(&b':') => return Err(fail(LdifErrorKind::NoColon)),
        Some((_, byte)) if !byte.is_ascii() => return Err(fail(LdifErrorKind::NotUtf8)),
        _ => return Err(fail(LdifErrorKind::BadAttribute)),
    };
    let (name, rest) = line.split_at_checked(colon).ok_or(fail(LdifErrorKind::NoColon))?;
    let name = std::str::from_utf8(name).map_err(|_| fail(LdifErrorKind::NotUtf8))?;
    Ok((name, rest.get(1..).unwrap_or(&[])))
}

/// The part after the name's colon: text, or base64 after a second colon; `<` is refused.
#[inline]
fn value(behind: &[u8]) -> Result<Cow<'_, [u8]>, LdifErrorKind> {
    match behind.first() {
        Some(b'<') => Err(LdifErrorKind::Url),
        Some(b':') => decoded(behind).map(Cow::Owned),
        _ => Ok(Cow::Borrowed(plain(behind))),
    }
}

fn owned_value(mut behind: Vec<u8>) -> Result<Vec<u8>, LdifErrorKind> {
    match behind.first() {
        Some(b'<') => Err(LdifErrorKind::Url),
        Some(b':') => decoded(&behind),
        _ => {
            let blanks = behind.len() - plain(&behind).len();
            behind.drain(..blanks);
            Ok(behind)
        }
    }
}

/// A line without its final carriage return.
#[inline]
fn without_return(line: &[u8]) -> &[u8] {
    line.strip_suffix(b"\r").unwrap_or(line)
}

/// Text without leading blanks.
#[inline]
fn plain(behind: &[u8]) -> &[u8] {
    let blanks = behind.iter().take_while(|byte| **byte == b' ').count();
    behind.get(blanks..).unwrap_or(&[])
}

fn decoded(behind: &[u8]) -> Result<Vec<u8>, LdifErrorKind> {
    let text = behind.get(1..).unwrap_or(&[]).trim_ascii();
    base64::engine::general_purpose::STANDARD.decode(text).map_err(|_| LdifErrorKind::BadBase64)
}
