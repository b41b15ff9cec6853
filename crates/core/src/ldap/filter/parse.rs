//! From text to a [`Filter`] (RFC 4515 §3), with an explicit stack.

use super::{Filter, FilterError, FilterErrorKind, Item, Limits, Octets, SmolStr};
use crate::ldap::name::{hex_pair, is_attribute_type};
use smallvec::SmallVec;

impl Filter {
    /// Parses the string form of a search filter (RFC 4515 §3) within the default [`Limits`].
    ///
    /// # Errors
    /// As [`Filter::parse_within`].
    ///
    /// # Examples
    /// ```
    /// use webtaxon_core::ldap::filter::Filter;
    /// let filter = Filter::parse(r"(&(department=Botany)(!(cn=*\2a*)))").unwrap();
    /// assert_eq!(filter.to_string(), r"(&(department=Botany)(!(cn=*\2a*)))");
    /// ```
    pub fn parse(text: &str) -> Result<Filter, FilterError> {
        Self::parse_within(text, Limits::default())
    }

    /// Parses the string form of a search filter (RFC 4515 §3).
    ///
    /// # Errors
    /// [`FilterErrorKind::TooDeep`] past `limits.depth` parentheses, [`FilterErrorKind::TooLong`]
    /// past `limits.bytes`, [`FilterErrorKind::TooMany`] past `limits.clauses`, otherwise the first
    /// byte that breaks the grammar. The span is a range of bytes (not characters) in `text`.
    pub fn parse_within(text: &str, limits: Limits) -> Result<Filter, FilterError> {
        let mut parser = Parser { text, bytes: text.as_bytes(), at: 0 };
        parser.filter(limits).map_err(|(kind, start, end)| FilterError {
            kind,
            text: if kind == FilterErrorKind::TooLong { String::new() } else { text.to_owned() },
            span: (start..end.max(start)).into(),
        })
    }
}

/// Bytes allowed in a short name; most attribute descriptions are one.
const SHORT_NAME: [bool; 256] = table(b"-0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz");
/// Bytes that end an attribute description.
const ENDS_ATTRIBUTE: [bool; 256] = table(b"=><~:()");
/// Bytes that need attention within a value.
const NOT_PLAIN: [bool; 256] = table(b"*)(\\\0");

#[allow(clippy::indexing_slicing, reason = "a byte is below 256")]
const fn table(bytes: &[u8]) -> [bool; 256] {
    let mut table = [false; 256];
    let mut rest = bytes;
    while let [first, tail @ ..] = rest {
        table[*first as usize] = true;
        rest = tail;
    }
    table
}

/// Number of bytes before the first for which the table says `end`.
fn before(table: &[bool; 256], end: bool, bytes: &[u8]) -> usize {
    let is_end = |byte: &u8| table.get(usize::from(*byte)).copied() == Some(end);
    bytes.iter().position(is_end).unwrap_or(bytes.len())
}

/// Initial capacity for the children of a joining clause.
const USUAL: usize = 6;

type Failure = (FilterErrorKind, usize, usize);

struct Parser<'a> {
    text: &'a str,
    bytes: &'a [u8],
    at: usize,
}

/// A clause that is not closed yet.
struct Open {
    sign: u8,
    at: usize,
    parts: Vec<Filter>,
    /// The child of a negation.
    only: Option<Box<Filter>>,
}

impl Parser<'_> {
    fn peek(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    /// Ends at the next character boundary, so that a caret never splits a character.
    fn here(&self, kind: FilterErrorKind) -> Failure {
        let width = self.text.get(self.at..).and_then(|rest| rest.chars().next()).map_or(0, char::len_utf8);
        (kind, self.at, self.at + width)
    }

    fn filter(&mut self, limits: Limits) -> Result<Filter, Failure> {
        if self.bytes.len() > limits.bytes {
            return Err((FilterErrorKind::TooLong, 0, 0));
        }
        if self.bytes.is_empty() {
            return Err((FilterErrorKind::Empty, 0, 0));
        }
        let mut open: SmallVec<[Open; 4]> = SmallVec::new();
        let mut clauses = 0;
        loop {
            // Here either a clause begins, or the innermost open one ends.
            let done = match self.peek() {
                Some(b'(') => {
                    let start = self.at;
                    self.at += 1;
                    if open.len() >= limits.depth {
                        return Err((FilterErrorKind::TooDeep, start, start + 1));
                    }
                    clauses += 1;
                    if clauses > limits.clauses {
                        return Err((FilterErrorKind::TooMany, start, start + 1));
                    }
                    if let Some(sign @ (b'&' | b'|' | b'!')) = self.peek() {
                        self.at += 1;
                        open.push(Open { sign, at: start, parts: Vec::new(), only: None });
                        continue;
                    }
                    Filter::Item(self.item(start)?)
                }
                Some(b')') => {
                    let Some(ended) = open.pop() else {
                        return Err(self.here(FilterErrorKind::NoOpening));
                    };
                    self.at += 1;
                    match ended.sign {
                        b'&' => Filter::And(ended.parts),
                        b'|' => Filter::Or(ended.parts),
                        _ => match ended.only {
                            Some(part) => Filter::Not(part),
                            None => return Err((FilterErrorKind::NotOne, ended.at, ended.at + 2)),
                        },
                    }
                }
                Some(_) => return Err(self.here(FilterErrorKind::NoOpening)),
                None => {
                    let at = open.last().map_or(0, |open| open.at);
                    return Err((FilterErrorKind::NoClosing, at, at + 1));
                }
            };
            match open.last_mut() {
                Some(outer) if outer.sign != b'!' => {
                    if outer.parts.is_empty() {
                        outer.parts.reserve(USUAL);
                    }
                    outer.parts.push(done);
                }
                Some(outer) if outer.only.is_none() => outer.only = Some(Box::new(done)),
                Some(outer) => return Err((FilterErrorKind::NotOne, outer.at, outer.at + 2)),
                None if self.at == self.bytes.len() => return Ok(done),
                None => return Err((FilterErrorKind::Trailing, self.at, self.bytes.len())),
            }
        }
    }

    /// The content of one comparison, and its closing parenthesis; `start` is the opening one.
    fn item(&mut self, start: usize) -> Result<Item, Failure> {
        let from = self.at;
        let rest = self.bytes.get(from..).unwrap_or(&[]);
        let short = before(&SHORT_NAME, false, rest);
        let length = short + before(&ENDS_ATTRIBUTE, true, rest.get(short..).unwrap_or(&[]));
        let is_short = length == short && rest.first().is_some_and(u8::is_ascii_alphabetic);
        let to = from + length;
        self.at = to;
        let attribute = SmolStr::new(self.text.get(from..to).unwrap_or(""));
        let compared = self.bytes.get(self.at + 1) == Some(&b'=');
        let item = match self.peek() {
            None => return Err((FilterErrorKind::NoClosing, start, start + 1)),
            Some(b':') => return self.extensible(start, from, attribute, is_short),
            Some(b'=') => {
                self.check_attribute(&attribute, from, is_short)?;
                self.at += 1;
                self.equal_or_substrings(attribute)?
            }
            Some(sign @ (b'>' | b'<' | b'~')) if compared => {
                self.check_attribute(&attribute, from, is_short)?;
                self.at += 2;
                let value = self.whole_value()?;
                match sign {
                    b'>' => Item::GreaterOrEqual { attribute, value },
                    b'<' => Item::LessOrEqual { attribute, value },
                    _ => Item::Approx { attribute, value },
                }
            }
            Some(_) if from == to => return Err(self.here(FilterErrorKind::NoAttribute)),
            Some(_) => return Err((FilterErrorKind::NoComparison, from, to)),
        };
        self.close(start)?;
        Ok(item)
    }

    fn close(&mut self, start: usize) -> Result<(), Failure> {
        match self.peek() {
            Some(b')') => {
                self.at += 1;
                Ok(())
            }
            None => Err((FilterErrorKind::NoClosing, start, start + 1)),
            Some(_) => Err(self.here(FilterErrorKind::Parenthesis)),
        }
    }

    fn check_attribute(&self, attribute: &str, from: usize, is_short: bool) -> Result<(), Failure> {
        if is_short {
            return Ok(());
        }
        let mut parts = attribute.split(';');
        let kind = parts.next().unwrap_or("");
        if kind.is_empty() {
            return Err((FilterErrorKind::NoAttribute, from, from + 1));
        }
        let option = |part: &str| {
            !part.is_empty()
                && part.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'='))
        };
        if is_attribute_type(kind) && parts.all(option) {
            return Ok(());
        }
        Err((FilterErrorKind::BadAttribute, from, from + attribute.len()))
    }

    /// `attribute:dn:rule:=value`, after `attribute`.
    fn extensible(
        &mut self,
        start: usize,
        from: usize,
        attribute: SmolStr,
        is_short: bool,
    ) -> Result<Item, Failure> {
        let mut dn = false;
        let mut rule = None;
        loop {
            self.at += 1; // the colon
            if self.peek() == Some(b'=') {
                self.at += 1;
                break;
            }
            let word_at = self.at;
            while self.peek().is_some_and(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.'))
            {
                self.at += 1;
            }
            let word = self.text.get(word_at..self.at).unwrap_or("");
            if self.peek() != Some(b':') {
                return Err((FilterErrorKind::NoComparison, from, self.at.max(from + 1)));
            }
            if word.eq_ignore_ascii_case("dn") && !dn && rule.is_none() {
                dn = true;
            } else if rule.is_none() && is_attribute_type(word) {
                rule = Some(SmolStr::new(word));
            } else {
                return Err((FilterErrorKind::BadRule, word_at, self.at.max(word_at + 1)));
            }
        }
        if attribute.is_empty() {
            if rule.is_none() {
                return Err((FilterErrorKind::NoAttribute, from, from + 1));
            }
        } else {
            self.check_attribute(&attribute, from, is_short)?;
        }
        let value = self.whole_value()?;
        self.close(start)?;
        Ok(Item::Extensible { attribute: Some(attribute).filter(|name| !name.is_empty()), rule, dn, value })
    }

    fn equal_or_substrings(&mut self, attribute: SmolStr) -> Result<Item, Failure> {
        let first = self.value()?;
        if self.peek() != Some(b'*') {
            return Ok(Item::Equal { attribute, value: first });
        }
        let (mut any, mut last) = (Vec::new(), Octets::new());
        while self.peek() == Some(b'*') {
            self.at += 1;
            if !last.is_empty() {
                any.push(last);
            }
            last = self.value()?;
        }
        let given = |piece: Octets| Some(piece).filter(|piece| !piece.is_empty());
        let (initial, last) = (given(first), given(last));
        if initial.is_none() && last.is_none() && any.is_empty() {
            return Ok(Item::Present { attribute });
        }
        Ok(Item::Substrings { attribute, initial, any, last })
    }

    fn whole_value(&mut self) -> Result<Octets, Failure> {
        let value = self.value()?;
        if self.peek() == Some(b'*') {
            return Err(self.here(FilterErrorKind::Star));
        }
        Ok(value)
    }

    /// Up to a star, a parenthesis or the end, with escapes resolved.
    fn value(&mut self) -> Result<Octets, Failure> {
        let rest = self.bytes.get(self.at..).unwrap_or(&[]);
        let length = before(&NOT_PLAIN, true, rest);
        let mut value = Octets::from_slice(rest.get(..length).unwrap_or(&[]));
        self.at += length;
        while let Some(byte) = self.peek() {
            match byte {
                b'*' | b')' | b'(' => break,
                0 => return Err(self.here(FilterErrorKind::Nul)),
                b'\\' => {
                    let first = self.bytes.get(self.at + 1).copied();
                    let pair = first.and_then(|first| hex_pair(first, self.bytes.get(self.at + 2).copied()));
                    let Some(byte) = pair else { return Err(self.here(FilterErrorKind::BadEscape)) };
                    value.push(byte);
                    self.at += 3;
                }
                _ => {
                    value.push(byte);
                    self.at += 1;
                }
            }
        }
        Ok(value)
    }
}
