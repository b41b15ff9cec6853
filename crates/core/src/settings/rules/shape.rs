//! What is done with a value on its way into a field, step by step, in a fixed order: read as a time or
//! identifier, followed, cut, put in small or large letters, looked up in a table.
//!
//! Sources of the forms: RFC 4517 §3.3.13 (times), [MS-DTYP] §2.3.3, §2.4.2 (a controller's times and
//! SIDs), RFC 2307 §3 (days since 1970).

use crate::ldap::value::{FileTime, generalized_time, sid};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use indexmap::IndexMap;
use jiff::Timestamp;
use serde::Serialize;
use std::borrow::Cow;

/// The steps. Those that are left out do nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Shape {
    /// Whether every value counts, not only the first.
    pub every: bool,
    /// How the value's bytes are read; none for text.
    pub read_as: Option<ReadAs>,
    /// The value is an entry's name: this field of that entry is meant.
    pub follow: Option<String>,
    /// What comes behind this text counts; without it, the whole.
    pub after: Option<String>,
    /// What comes before this text counts; without it, the whole.
    pub before: Option<String>,
    /// Only values that begin like this count, without it. Letters' case does not matter.
    pub cut_prefix: Option<String>,
    /// Only values that end like this count, without it. Letters' case does not matter.
    pub cut_suffix: Option<String>,
    /// Whether letters are made small or large.
    pub case: Option<Case>,
    /// The value is looked up here; the key `*` is for all others.
    pub map: Option<IndexMap<String, String>>,
}

/// What happens to a field's letters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Case {
    /// All small.
    Lower,
    /// All large.
    Upper,
}

/// How bytes or numbers are read that are no text for people.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum ReadAs {
    /// A time, as the day on which it is in UTC: `2026-11-25`.
    Date,
    /// A time: `2026-11-25T09:15:00Z`.
    Time,
    /// Sixteen bytes of a domain controller: `7f1c0a52-…`.
    Guid,
    /// A security identifier: `S-1-5-…`.
    Sid,
    /// Any bytes, in base64 (RFC 4648 §4).
    Base64,
}

impl ReadAs {
    /// The word for it in the settings.
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

    /// The value as text; nothing inside where it means that there is none, like a time that never
    /// comes.
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

/// A time in one of the three forms that directories have; nothing inside for one that never comes.
fn time(text: &str) -> Option<Option<Timestamp>> {
    if let Some(at) = generalized_time(text) {
        return Some(Some(at));
    }
    let number: i64 = text.parse().ok()?;
    // Days since 1970 (RFC 2307): a controller's numbers of 100 ns are far larger.
    match number {
        ..=0 => Some(None),
        1..=99_999 => Timestamp::from_second(number.checked_mul(86_400)?).ok().map(Some),
        _ => FileTime::parse(text).map(|time| match time {
            FileTime::Never => None,
            FileTime::At(at) => Some(at),
        }),
    }
}

/// What a whole value must look like: a regular expression.
#[derive(Clone, Debug)]
pub struct Pattern {
    text: String,
    compiled: regex::Regex,
}

impl Pattern {
    /// Reads a regular expression, which must match from the first to the last character.
    ///
    /// # Errors
    /// Why it cannot be read, or is too large.
    pub fn parse(text: &str) -> Result<Self, String> {
        // Alone first, so that a parenthesis too many cannot close the one that is put around it.
        regex::Regex::new(text).map_err(|error| last_line(&error))?;
        let compiled = regex::Regex::new(&format!("^(?:{text})$")).map_err(|error| last_line(&error))?;
        Ok(Self { text: text.to_owned(), compiled })
    }

    /// Whether a value looks like that.
    #[must_use]
    pub fn fits(&self, value: &str) -> bool {
        self.compiled.is_match(value)
    }

    /// The expression, as the settings have it.
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

/// A value that a rule could not take, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// The value, as a person reads it.
    pub value: String,
    /// What is wrong with it, in words: "is longer than 20 characters".
    pub why: String,
}

impl Shape {
    /// The value as text, before it is followed or cut; none where it is no text, blank, or says that
    /// there is none.
    pub(crate) fn read<'v>(&self, value: &'v [u8]) -> Result<Option<Cow<'v, str>>, Fault> {
        match self.read_as {
            Some(read_as) => Ok(read_as.read(value)?.map(Cow::Owned)),
            None => {
                let text = std::str::from_utf8(value).ok().map(trimmed);
                Ok(text.filter(|text| !text.is_empty()).map(Cow::Borrowed))
            }
        }
    }

    /// The steps behind reading and following; none for a value that does not count.
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

    /// Whether all of a value counts.
    fn is_whole(&self) -> bool {
        let cuts = [&self.after, &self.before, &self.cut_prefix, &self.cut_suffix];
        cuts.iter().all(|cut| cut.is_none())
    }

    /// The part of a text, without blanks around it, that counts.
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

/// As [`str::trim`], and quicker for the most, which have no blank at their ends.
fn trimmed(text: &str) -> &str {
    let is_visible = |byte: Option<&u8>| byte.is_some_and(u8::is_ascii_graphic);
    let bytes = text.as_bytes();
    if is_visible(bytes.first()) && is_visible(bytes.last()) { text } else { text.trim() }
}

/// Whether a text is ASCII, with no letter of the other case.
fn is_plain(text: &str, is_other: fn(&u8) -> bool) -> bool {
    text.bytes().all(|byte| byte.is_ascii() && !is_other(&byte))
}

fn same_letters(one: &str, other: &str) -> bool {
    one == other || one.to_lowercase() == other.to_lowercase()
}
