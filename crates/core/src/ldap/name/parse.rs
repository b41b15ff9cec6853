//! From the string form to a [`Dn`] (RFC 4514 §3), or from one of the older forms (RFC 1779,
//! RFC 2253 §4): one pass, no recursion.

use super::{Ava, Dn, DnError, DnErrorKind, Pasted, Rdn};

/// The longest name accepted, in bytes.
pub const LONGEST: usize = 1 << 16;
/// The most relative names accepted in a name.
pub const DEEPEST: usize = 1000;

impl Dn {
    /// Parses the string form (RFC 4514 §3). The empty text is the root's name.
    ///
    /// # Errors
    /// The first byte that breaks the grammar, with its position.
    ///
    /// # Examples
    /// ```
    /// use webtaxon_core::ldap::name::Dn;
    /// let comma: Dn = r"CN=Ibbotson\, Ada,OU=People,DC=quillmere,DC=example".parse().unwrap();
    /// let hex: Dn = r"cn=ibbotson\2C ada,ou=people,dc=Quillmere,dc=example".parse().unwrap();
    /// assert_eq!(comma.key(), hex.key());
    /// ```
    pub fn parse(text: &str) -> Result<Self, DnError> {
        let mut parser = Parser::new(text, false);
        parser.dn().map_err(|failure| {
            let mut error = failed(text, failure);
            // A name in an older form is an error that shows the standard form.
            error.instead = Self::parse_pasted(text).ok().map(|pasted| pasted.dn.to_string());
            error
        })
    }

    /// Parses pasted text: the string form, and the older forms of a name (RFC 1779, RFC 2253 §4) with semicolons,
    /// quotation marks, blanks or `OID.`. Each departure is reported.
    ///
    /// # Errors
    /// As [`Dn::parse`].
    ///
    /// # Examples
    /// ```
    /// use webtaxon_core::ldap::name::Dn;
    /// let pasted = Dn::parse_pasted(r#"CN="Ibbotson, Ada"; OU=People; DC=example"#).unwrap();
    /// assert_eq!(pasted.dn.to_string(), r"CN=Ibbotson\, Ada,OU=People,DC=example");
    /// assert_eq!(pasted.remarks.len(), 3);
    /// ```
    pub fn parse_pasted(text: &str) -> Result<Pasted, DnError> {
        let mut parser = Parser::new(text, true);
        let dn = parser.dn().map_err(|failure| failed(text, failure))?;
        Ok(Pasted { dn, remarks: parser.remarks })
    }
}

fn failed(text: &str, (kind, start, end): Failure) -> DnError {
    let text = if kind == DnErrorKind::TooLong { String::new() } else { text.to_owned() };
    DnError { kind, text, span: (start..end.max(start)).into(), instead: None }
}

type Failure = (DnErrorKind, usize, usize);

struct Parser<'a> {
    text: &'a str,
    bytes: &'a [u8],
    at: usize,
    /// Whether older forms are accepted.
    older: bool,
    /// Departures from the standard form, each once.
    remarks: Vec<&'static str>,
}

const BLANKS: &str = "blanks around separators were removed";
const SEMICOLONS: &str = "semicolons were read as commas";
const QUOTES: &str = "quotation marks around values were removed";
const PREFIX: &str = "OID. in front of a numeric type was removed";
const LABEL: &str = "dn: in front was removed";

impl<'a> Parser<'a> {
    fn new(text: &'a str, older: bool) -> Self {
        Self { text, bytes: text.as_bytes(), at: 0, older, remarks: Vec::new() }
    }

    fn remark(&mut self, remark: &'static str) {
        if !self.remarks.contains(&remark) {
            self.remarks.push(remark);
        }
    }

    fn peek(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    fn skip_blanks(&mut self) {
        let begin = self.at;
        let is_blank = |byte: u8| byte == b' ' || (self.older && byte.is_ascii_whitespace());
        let blanks = self.bytes.iter().skip(begin).take_while(|byte| is_blank(**byte)).count();
        self.at += blanks;
        if blanks > 0 {
            self.remark(BLANKS);
        }
    }

    /// Skips a keyword, in any case, if older forms are accepted.
    fn skip_word(&mut self, word: &str, remark: &'static str) {
        let here = self.text.get(self.at..self.at + word.len());
        if self.older && here.is_some_and(|here| here.eq_ignore_ascii_case(word)) {
            self.at += word.len();
            self.remark(remark);
        }
    }

    /// Ends at the character boundary after `at`, so that a caret never splits a character.
    fn here(&self, kind: DnErrorKind) -> Failure {
        let width = self.text.get(self.at..).and_then(|rest| rest.chars().next()).map_or(0, char::len_utf8);
        (kind, self.at, self.at + width)
    }

    fn dn(&mut self) -> Result<Dn, Failure> {
        if self.bytes.len() > LONGEST {
            return Err((DnErrorKind::TooLong, 0, 0));
        }
        let mut rdns = Vec::new();
        self.skip_blanks();
        self.skip_word("dn:", LABEL);
        self.skip_blanks();
        if self.peek().is_none() {
            return Ok(Dn { rdns });
        }
        loop {
            if rdns.len() == DEEPEST {
                return Err((DnErrorKind::TooDeep, self.at, self.at));
            }
            rdns.push(self.rdn()?);
            match self.peek() {
                Some(b',') => self.at += 1,
                Some(b';') if self.older => {
                    self.at += 1;
                    self.remark(SEMICOLONS);
                }
                None => return Ok(Dn { rdns }),
                Some(_) => return Err(self.here(DnErrorKind::Unescaped)),
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
            return Err(self.here(DnErrorKind::NoEquals));
        }
        self.at += 1;
        self.skip_blanks();
        if self.older && self.peek() == Some(b'"') {
            let value = self.quoted()?;
            return Ok(Ava { attribute, value, encoded: false });
        }
        if self.peek() == Some(b'#') {
            let value = self.hex_value()?;
            return Ok(Ava { attribute, value, encoded: true });
        }
        let value = self.value()?;
        Ok(Ava { attribute, value, encoded: false })
    }

    fn attribute_type(&mut self) -> Result<String, Failure> {
        self.skip_blanks();
        if self.bytes.get(self.at + 4).is_some_and(u8::is_ascii_digit) {
            self.skip_word("OID.", PREFIX);
        }
        let start = self.at;
        while self.peek().is_some_and(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'.') {
            self.at += 1;
        }
        let name = self.text.get(start..self.at).unwrap_or("");
        if name.is_empty() {
            return Err(self.here(DnErrorKind::NoType));
        }
        if !is_attribute_type(name) {
            return Err((DnErrorKind::BadType, start, self.at));
        }
        Ok(name.to_owned())
    }

    fn hex_value(&mut self) -> Result<Vec<u8>, Failure> {
        let start = self.at;
        self.at += 1;
        let mut value = Vec::new();
        while let Some(first) = self.peek() {
            if matches!(first, b',' | b'+' | b' ') || (self.older && self.ends_older(first)) {
                break;
            }
            let byte = hex_pair(first, self.bytes.get(self.at + 1).copied());
            let Some(byte) = byte else { return Err(self.here(DnErrorKind::BadHex)) };
            value.push(byte);
            self.at += 2;
        }
        self.skip_blanks();
        if value.is_empty() {
            return Err((DnErrorKind::BadHex, start, self.at));
        }
        Ok(value)
    }

    /// Whether a bare value or a blank ends here in an older form.
    fn ends_older(&self, byte: u8) -> bool {
        byte == b';' || byte.is_ascii_whitespace()
    }

    /// A quoted value (RFC 1779 §2.3), and the blanks after it.
    fn quoted(&mut self) -> Result<Vec<u8>, Failure> {
        let start = self.at;
        self.at += 1;
        let mut value = Vec::new();
        loop {
            match self.peek() {
                Some(b'"') => break,
                Some(b'\\') => value.push(self.escape()?),
                Some(byte) => {
                    value.push(byte);
                    self.at += 1;
                }
                None => return Err((DnErrorKind::NoQuote, start, start + 1)),
            }
        }
        self.at += 1;
        self.remark(QUOTES);
        self.skip_blanks();
        Ok(value)
    }

    fn value(&mut self) -> Result<Vec<u8>, Failure> {
        let mut value = Vec::new();
        let mut keep = 0; // trailing blanks count only where they were escaped
        while let Some(byte) = self.peek() {
            match byte {
                b',' | b'+' => break,
                b';' if self.older => break,
                b'"' | b';' | b'<' | b'>' | 0 => return Err(self.here(DnErrorKind::Unescaped)),
                b'\\' => {
                    value.push(self.escape()?);
                    keep = value.len();
                }
                _ => {
                    value.push(byte);
                    self.at += 1;
                    if byte != b' ' && !(self.older && byte.is_ascii_whitespace()) {
                        keep = value.len();
                    }
                }
            }
        }
        if keep < value.len() {
            self.remark(BLANKS);
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
        byte.ok_or((DnErrorKind::BadEscape, start, start + 1))
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
    // At least two arcs of digits, none with a leading zero.
    let (mut arcs, mut zero_in_front, mut digits) = (1, false, 0);
    for byte in name.bytes() {
        match byte {
            b'.' if digits > 0 => (arcs, zero_in_front, digits) = (arcs + 1, false, 0),
            b'0'..=b'9' if !zero_in_front => {
                zero_in_front = digits == 0 && byte == b'0';
                digits += 1;
            }
            _ => return false,
        }
    }
    arcs > 1 && digits > 0
}
