//! From the string form to a [`Dn`] (RFC 4514 §3): one pass, no recursion.

use super::{Ava, Dn, ParseError, ParseErrorKind, Rdn};

pub(super) fn parse(text: &str) -> Result<Dn, ParseError> {
    let mut parser = Parser { text, bytes: text.as_bytes(), at: 0 };
    parser.dn().map_err(|(kind, start, end)| ParseError {
        kind,
        text: text.to_owned(),
        span: (start..end.max(start)).into(),
    })
}

type Failure = (ParseErrorKind, usize, usize);

struct Parser<'a> {
    text: &'a str,
    bytes: &'a [u8],
    at: usize,
}

impl Parser<'_> {
    fn peek(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    fn skip_blanks(&mut self) {
        while self.peek() == Some(b' ') {
            self.at += 1;
        }
    }

    /// Ends at the character boundary after `at`, so that a caret never splits a character.
    fn here(&self, kind: ParseErrorKind) -> Failure {
        let width = self.text.get(self.at..).and_then(|rest| rest.chars().next()).map_or(0, char::len_utf8);
        (kind, self.at, self.at + width)
    }

    fn dn(&mut self) -> Result<Dn, Failure> {
        let mut rdns = Vec::new();
        self.skip_blanks();
        if self.peek().is_none() {
            return Ok(Dn { rdns });
        }
        loop {
            rdns.push(self.rdn()?);
            match self.peek() {
                Some(b',') => self.at += 1,
                None => return Ok(Dn { rdns }),
                Some(_) => return Err(self.here(ParseErrorKind::Unescaped)),
            }
        }
    }

    fn rdn(&mut self) -> Result<Rdn, Failure> {
        let mut avas = vec![self.ava()?];
        while self.peek() == Some(b'+') {
            self.at += 1;
            avas.push(self.ava()?);
        }
        Ok(Rdn { avas })
    }

    fn ava(&mut self) -> Result<Ava, Failure> {
        let attribute = self.attribute_type()?;
        self.skip_blanks();
        if self.peek() != Some(b'=') {
            return Err(self.here(ParseErrorKind::NoEquals));
        }
        self.at += 1;
        self.skip_blanks();
        if self.peek() == Some(b'#') {
            let value = self.hex_value()?;
            return Ok(Ava { attribute, value, encoded: true });
        }
        let value = self.value()?;
        Ok(Ava { attribute, value, encoded: false })
    }

    fn attribute_type(&mut self) -> Result<String, Failure> {
        self.skip_blanks();
        let start = self.at;
        while self.peek().is_some_and(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'.') {
            self.at += 1;
        }
        let name = self.text.get(start..self.at).unwrap_or("");
        if name.is_empty() {
            return Err(self.here(ParseErrorKind::NoType));
        }
        if !is_attribute_type(name) {
            return Err((ParseErrorKind::BadType, start, self.at));
        }
        Ok(name.to_owned())
    }

    fn hex_value(&mut self) -> Result<Vec<u8>, Failure> {
        let start = self.at;
        self.at += 1;
        let mut value = Vec::new();
        while let Some(first) = self.peek() {
            if matches!(first, b',' | b'+' | b' ') {
                break;
            }
            let byte = hex_pair(first, self.bytes.get(self.at + 1).copied());
            let Some(byte) = byte else { return Err(self.here(ParseErrorKind::BadHex)) };
            value.push(byte);
            self.at += 2;
        }
        self.skip_blanks();
        if value.is_empty() {
            return Err((ParseErrorKind::BadHex, start, self.at));
        }
        Ok(value)
    }

    fn value(&mut self) -> Result<Vec<u8>, Failure> {
        let mut value = Vec::new();
        let mut keep = 0; // trailing blanks count only where they were escaped
        while let Some(byte) = self.peek() {
            match byte {
                b',' | b'+' => break,
                b'"' | b';' | b'<' | b'>' | 0 => return Err(self.here(ParseErrorKind::Unescaped)),
                b'\\' => {
                    value.push(self.escape()?);
                    keep = value.len();
                }
                _ => {
                    value.push(byte);
                    self.at += 1;
                    if byte != b' ' {
                        keep = value.len();
                    }
                }
            }
        }
        value.truncate(keep);
        Ok(value)
    }

    fn escape(&mut self) -> Result<u8, Failure> {
        let start = self.at;
        let next = self.bytes.get(self.at + 1).copied();
        let (byte, width) = match next {
            Some(b'\\' | b'"' | b'+' | b',' | b';' | b'<' | b'>' | b' ' | b'#' | b'=') => (next, 2),
            Some(first) => (hex_pair(first, self.bytes.get(self.at + 2).copied()), 3),
            None => (None, 1),
        };
        self.at += width;
        byte.ok_or((ParseErrorKind::BadEscape, start, start + 1))
    }
}

pub(crate) fn hex_pair(first: u8, second: Option<u8>) -> Option<u8> {
    let high = char::from(first).to_digit(16)?;
    let low = char::from(second?).to_digit(16)?;
    u8::try_from(high * 16 + low).ok()
}

/// A short name (`keystring`) or a numeric OID (RFC 4512 §1.4).
pub(crate) fn is_attribute_type(name: &str) -> bool {
    if name.starts_with(|first: char| first.is_ascii_alphabetic()) {
        return name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
    }
    name.contains('.')
        && name.split('.').all(|arc| {
            !arc.is_empty()
                && arc.bytes().all(|byte| byte.is_ascii_digit())
                && (arc == "0" || !arc.starts_with('0'))
        })
}
