//! The transformation of a value on its way into a field, in fixed steps: read as a time or an identifier, follow,
//! cut, change case, look up in a table.
//!
//! Sources of the formats: RFC 4517 §3.3.13 (times), [MS-DTYP] §2.3.3, §2.4.2 (a domain controller's times and SIDs),
//! RFC 2307 §3 (days since 1970).

use crate::ldap::value::{FileTime, generalized_time, sid};
use crate::words::TextError;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use indexmap::IndexMap;
use jiff::Timestamp;
use serde::Serialize;
use std::borrow::Cow;
use std::str::FromStr;

/// The steps. A step that is not set changes nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Shape {
    /// Whether all values are used, not only the first.
    pub every: bool,
    /// How the value's bytes are read; `None` for text.
    pub read_as: Option<ReadAs>,
    /// The value is an entry's name, and this field of that entry is used.
    pub follow: Option<String>,
    /// Keeps the part after this text; without it, the whole.
    pub after: Option<String>,
    /// Keeps the part before this text; without it, the whole.
    pub before: Option<String>,
    /// Keeps only values with this prefix, and removes it. Case is ignored.
    pub cut_prefix: Option<String>,
    /// Keeps only values with this suffix, and removes it. Case is ignored.
    pub cut_suffix: Option<String>,
    /// The case to convert to.
    pub case: Option<Case>,
    /// A table to look the value up in; the key `*` stands for all other values.
    pub map: Option<IndexMap<String, String>>,
}

/// The case of a field's letters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Case {
    /// Lower case.
    Lower,
    /// Upper case.
    Upper,
}

/// How bytes or numbers become text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum ReadAs {
    /// A time, as its day in UTC: `2026-11-25`.
    Date,
    /// A time: `2026-11-25T09:15:00Z`.
    Time,
    /// Sixteen bytes of a domain controller's GUID: `7f1c0a52-…`.
    Guid,
    /// A security identifier: `S-1-5-…`.
    Sid,
    /// Any bytes, in base64 (RFC 4648 §4).
    Base64,
}

impl ReadAs {
    /// The keyword in the settings.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Date => "date",
            Self::Time => "time",
            Self::Guid => "guid",
            Self::Sid => "sid",
            Self::Base64 => "base64",
        }
    }

    /// The value as text; `Ok(None)` if it stands for no value, like a time that never comes.
    fn read(self, value: &[u8]) -> Result<Option<String>, Fault> {
        let no = |wanted: &str| Fault {
            value: crate::ldap::value::readable("", value),
            why: format!("is not {wanted}"),
        };
        match self {
            Self::Base64 => Ok(Some(STANDARD.encode(value))),
            Self::Sid => sid(value).map(Some).ok_or_else(|| no("a SID")),
            Self::Guid => {
                let bytes = value.try_into().map_err(|_| no("a GUID of 16 bytes"))?;
                Ok(Some(uuid::Uuid::from_bytes_le(bytes).to_string()))
            }
            Self::Date | Self::Time => {
                let text = std::str::from_utf8(value).map_err(|_| no("a time"))?;
                let Some(at) = time(text.trim()).ok_or_else(|| no("a time"))? else { return Ok(None) };
                let form = if self == Self::Date { "%Y-%m-%d" } else { "%Y-%m-%dT%H:%M:%SZ" };
                Ok(Some(at.strftime(form).to_string()))
            }
        }
    }
}

/// A time in one of the three formats of directories; `Some(None)` for a time that never comes.
fn time(text: &str) -> Option<Option<Timestamp>> {
    if let Some(at) = generalized_time(text) {
        return Some(Some(at));
    }
    let number: i64 = text.parse().ok()?;
    // Days since 1970 (RFC 2307): a domain controller's counts of 100 ns are far larger.
    match number {
        ..=0 => Some(None),
        1..=99_999 => Timestamp::from_second(number.checked_mul(86_400)?).ok().map(Some),
        _ => FileTime::parse(text).map(|time| match time {
            FileTime::Never => None,
            FileTime::At(at) => Some(at),
        }),
    }
}

/// A regular expression that a whole value must match.
#[derive(Clone, Debug)]
pub struct Pattern {
    text: String,
    compiled: regex::Regex,
}

impl FromStr for Pattern {
    type Err = TextError;

    /// Parses a regular expression, which must match from the first to the last character.
    fn from_str(text: &str) -> Result<Self, TextError> {
        // Parsed alone first, so that an extra parenthesis cannot close the one that is put around it.
        regex::Regex::new(text).map_err(|error| last_line(&error))?;
        let compiled = regex::Regex::new(&format!("^(?:{text})$")).map_err(|error| last_line(&error))?;
        Ok(Self { text: text.to_owned(), compiled })
    }
}

impl Pattern {
    /// Whether a value matches.
    #[must_use]
    pub fn fits(&self, value: &str) -> bool {
        self.compiled.is_match(value)
    }

    /// The expression, as written in the settings.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }
}

fn last_line(error: &regex::Error) -> String {
    let text = error.to_string();
    text.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned()
}

impl Serialize for Pattern {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.text())
    }
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Pattern {}

/// A value that a rule could not use, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// The value in readable form.
    pub value: String,
    /// The fault, in words: "is longer than 20 characters".
    pub why: String,
}

impl Shape {
    /// The value as text, before it is followed or cut; `None` if it is not text, is blank, or stands for no value.
    pub(crate) fn read<'v>(&self, value: &'v [u8]) -> Result<Option<Cow<'v, str>>, Fault> {
        match self.read_as {
            Some(read_as) => Ok(read_as.read(value)?.map(Cow::Owned)),
            None => {
                let text = std::str::from_utf8(value).ok().map(trimmed);
                Ok(text.filter(|text| !text.is_empty()).map(Cow::Borrowed))
            }
        }
    }

    /// The steps after reading and following; `None` for a value that is dropped.
    pub(crate) fn cut<'v>(&'v self, text: Cow<'v, str>) -> Result<Option<Cow<'v, str>>, Fault> {
        let kept = match &text {
            Cow::Borrowed(text) => self.kept(text).map(Cow::Borrowed),
            Cow::Owned(text) => self.kept(text).map(|kept| Cow::Owned(kept.to_owned())),
        };
        let Some(kept) = kept else { return Ok(None) };
        let text = match self.case {
            None => kept,
            Some(Case::Lower) if is_plain(&kept, u8::is_ascii_uppercase) => kept,
            Some(Case::Upper) if is_plain(&kept, u8::is_ascii_lowercase) => kept,
            Some(Case::Lower) => Cow::Owned(kept.to_lowercase()),
            Some(Case::Upper) => Cow::Owned(kept.to_uppercase()),
        };
        let Some(map) = &self.map else { return Ok(Some(text)) };
        let known = map.iter().find(|(key, _)| same_letters(key, &text)).or_else(|| map.get_key_value("*"));
        match known {
            Some((_, value)) => Ok(Some(value.as_str()).filter(|value| !value.is_empty()).map(Cow::Borrowed)),
            None => Err(Fault { value: text.into_owned(), why: "is not in the map".to_owned() }),
        }
    }

    /// Whether the whole value is kept.
    fn is_whole(&self) -> bool {
        let cuts = [&self.after, &self.before, &self.cut_prefix, &self.cut_suffix];
        cuts.iter().all(|cut| cut.is_none())
    }

    /// The part of a text that is kept, without surrounding blanks.
    fn kept<'t>(&self, text: &'t str) -> Option<&'t str> {
        if self.is_whole() {
            return Some(text);
        }
        let mut rest = text;
        if let Some((_, behind)) = self.after.as_deref().and_then(|mark| rest.split_once(mark)) {
            rest = behind;
        }
        if let Some((before, _)) = self.before.as_deref().and_then(|mark| rest.split_once(mark)) {
            rest = before;
        }
        if let Some(prefix) = &self.cut_prefix {
            match rest.get(..prefix.len()).filter(|start| same_letters(start, prefix)) {
                Some(_) => rest = rest.get(prefix.len()..).unwrap_or(""),
                None => return None,
            }
        }
        if let Some(suffix) = &self.cut_suffix {
            let at = rest.len().checked_sub(suffix.len());
            match at.and_then(|at| rest.split_at_checked(at)).filter(|(_, end)| same_letters(end, suffix)) {
                Some((start, _)) => rest = start,
                None => return None,
            }
        }
        Some(rest.trim()).filter(|rest| !rest.is_empty())
    }
}

/// As [`str::trim`], but faster for the usual text without outer blanks.
fn trimmed(text: &str) -> &str {
    let is_visible = |byte: Option<&u8>| byte.is_some_and(u8::is_ascii_graphic);
    let bytes = text.as_bytes();
    if is_visible(bytes.first()) && is_visible(bytes.last()) { text } else { text.trim() }
}

/// Whether a text is ASCII without letters of the other case.
fn is_plain(text: &str, is_other: fn(&u8) -> bool) -> bool {
    text.bytes().all(|byte| byte.is_ascii() && !is_other(&byte))
}

fn same_letters(one: &str, other: &str) -> bool {
    one == other || one.to_lowercase() == other.to_lowercase()
}
