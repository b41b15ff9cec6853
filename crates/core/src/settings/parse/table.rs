//! A TOML table that is read key by key, with source positions for messages.

use super::secrets::without_secrets;
use crate::settings::{SettingsError, SettingsErrorKind};
use miette::{NamedSource, SourceSpan};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// The text being read, and the name of its file.
#[derive(Clone, Copy)]
pub(super) struct SourceText<'i> {
    pub(super) file: &'i str,
    pub(super) text: &'i str,
}

impl SourceText<'_> {
    pub(super) fn error(
        self,
        kind: SettingsErrorKind,
        span: Range<usize>,
        label: impl Into<String>,
        help: impl Into<String>,
    ) -> SettingsError {
        let shown = NamedSource::new(self.file, without_secrets(self.text));
        SettingsError::new(kind, shown, SourceSpan::from(span), label.into(), help.into())
    }
}

/// One table whose keys must all be in `known`.
pub(super) struct Table<'i> {
    source: SourceText<'i>,
    /// The dotted path of the table, for messages; empty at the top.
    path: String,
    span: Range<usize>,
    known: &'static [&'static str],
    table: DeTable<'i>,
}

impl<'i> Table<'i> {
    pub(super) fn new(
        source: SourceText<'i>,
        path: &str,
        table: Spanned<DeTable<'i>>,
        known: &'static [&'static str],
    ) -> Result<Self, SettingsError> {
        let span = table.span();
        let table = table.into_inner();
        for key in table.keys() {
            let name = key.get_ref();
            if !known.contains(&name.as_ref()) {
                return Err(unknown(source, name, key.span(), known));
            }
        }
        Ok(Self { source, path: path.to_owned(), span, known, table })
    }

    fn dotted(&self, key: &str) -> String {
        if self.path.is_empty() { key.to_owned() } else { format!("{}.{key}", self.path) }
    }

    pub(super) fn take(&mut self, key: &'static str) -> Option<Value<'i>> {
        debug_assert!(self.known.contains(&key), "{key} must be declared");
        let path = self.dotted(key);
        let (_, value) = self.table.remove_entry(key)?;
        Some(Value { source: self.source, path, value })
    }

    pub(super) fn require(&mut self, key: &'static str, help: &str) -> Result<Value<'i>, SettingsError> {
        let missing = SettingsErrorKind::MissingKey(self.dotted(key));
        let (source, span) = (self.source, self.span.clone());
        self.take(key).ok_or_else(|| source.error(missing, span, format!("`{key}` belongs here"), help))
    }
}

fn unknown(source: SourceText<'_>, name: &str, span: Range<usize>, known: &[&str]) -> SettingsError {
    let nearest = known
        .iter()
        .map(|known| (strsim::damerau_levenshtein(&name.to_lowercase(), known), known))
        .filter(|(distance, known)| *distance <= 1 + known.len() / 3)
        .min();
    let help = match nearest {
        Some((_, nearest)) => format!("did you mean `{nearest}`?"),
        None => format!("the keys here are: {}", known.join(", ")),
    };
    source.error(SettingsErrorKind::UnknownKey(name.to_owned()), span, "this key is not known here", help)
}

/// One value with its path and position.
pub(super) struct Value<'i> {
    source: SourceText<'i>,
    pub(super) path: String,
    value: Spanned<DeValue<'i>>,
}

/// A string in the settings, with its position.
pub(super) struct Text<'i> {
    source: SourceText<'i>,
    path: String,
    pub(super) text: String,
    span: Range<usize>,
}

impl<'i> Value<'i> {
    pub(super) fn is_text(&self) -> bool {
        self.value.get_ref().is_str()
    }

    /// Whether it is a table with this key.
    pub(super) fn has(&self, key: &str) -> bool {
        self.value.get_ref().as_table().is_some_and(|table| table.contains_key(key))
    }

    /// Its position, for messages after it has been read.
    pub(super) fn place(&self) -> Self {
        let value = Spanned::new(self.value.span(), DeValue::Boolean(false));
        Self { source: self.source, path: self.path.clone(), value }
    }

    pub(super) fn is_list(&self) -> bool {
        self.value.get_ref().is_array()
    }

    pub(super) fn is_integer(&self) -> bool {
        self.value.get_ref().is_integer()
    }

    pub(super) fn wrong_type(&self, wanted: &str) -> SettingsError {
        let found = match self.value.get_ref() {
            DeValue::String(_) => "a text",
            DeValue::Integer(_) | DeValue::Float(_) => "a number",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        let kind = SettingsErrorKind::WrongType {
            key: self.path.clone(),
            wanted: wanted.to_owned(),
            found: found.to_owned(),
        };
        self.source.error(kind, self.value.span(), format!("this is {found}"), format!("write {wanted}"))
    }

    pub(super) fn secret(&self) -> SettingsError {
        self.source.error(
            SettingsErrorKind::Secret,
            self.value.span(),
            "a secret in clear text",
            "give its source instead: { env = \"MUSEUM_PASSWORD\" } or { file = \"/run/secrets/museum\" }; and change this one, since others may have read it",
        )
    }

    pub(super) fn bad(&self, reason: &str, help: &str) -> SettingsError {
        let kind = SettingsErrorKind::BadValue { key: self.path.clone(), reason: reason.to_owned() };
        self.source.error(kind, self.value.span(), reason, help)
    }

    pub(super) fn text(self) -> Result<Text<'i>, SettingsError> {
        let span = self.value.span();
        match self.value.get_ref() {
            DeValue::String(text) => {
                Ok(Text { source: self.source, path: self.path, text: text.to_string(), span })
            }
            _ => Err(self.wrong_type("a string")),
        }
    }

    /// A list of strings, or a single one.
    pub(super) fn texts(self) -> Result<Vec<Text<'i>>, SettingsError> {
        if self.is_text() {
            return Ok(vec![self.text()?]);
        }
        self.items("a list of strings, like [\"one\", \"two\"]")?.into_iter().map(Value::text).collect()
    }

    fn items(self, wanted: &str) -> Result<Vec<Value<'i>>, SettingsError> {
        if !self.value.get_ref().is_array() {
            return Err(self.wrong_type(wanted));
        }
        let (source, path) = (self.source, self.path);
        let DeValue::Array(items) = self.value.into_inner() else { return Ok(Vec::new()) };
        Ok(items.into_iter().map(|value| Value { source, path: path.clone(), value }).collect())
    }

    /// The tables of a `[[list]]`.
    pub(super) fn tables(self, wanted: &str) -> Result<Vec<Value<'i>>, SettingsError> {
        self.items(wanted)
    }

    pub(super) fn boolean(self) -> Result<bool, SettingsError> {
        self.value.get_ref().as_bool().ok_or_else(|| self.wrong_type("true or false"))
    }

    /// An integer of at least `least`.
    pub(super) fn number(self, least: u64) -> Result<u64, SettingsError> {
        let Some(number) = self.value.get_ref().as_integer() else {
            return Err(self.wrong_type("a whole number"));
        };
        let digits = number.as_str().replace('_', "");
        let parsed = u64::from_str_radix(digits.trim_start_matches('+'), number.radix()).ok();
        parsed
            .filter(|number| *number >= least)
            .ok_or_else(|| self.bad(&format!("it must be {least} or more"), "write a larger integer"))
    }

    pub(super) fn table(self, known: &'static [&'static str]) -> Result<Table<'i>, SettingsError> {
        let span = self.value.span();
        if !self.value.get_ref().is_table() {
            return Err(self.wrong_type(&format!("a table with {}", known.join(", "))));
        }
        let DeValue::Table(table) = self.value.into_inner() else { return Err(unreachable_table()) };
        Table::new(self.source, &self.path, Spanned::new(span, table), known)
    }

    /// The entries of a table whose keys are chosen by the administrator, in order.
    pub(super) fn entries(self, wanted: &str) -> Result<Vec<(String, Value<'i>)>, SettingsError> {
        if !self.value.get_ref().is_table() {
            return Err(self.wrong_type(wanted));
        }
        let (source, path) = (self.source, self.path);
        let DeValue::Table(table) = self.value.into_inner() else { return Ok(Vec::new()) };
        let mut entries: Vec<_> = table.into_iter().collect();
        entries.sort_by_key(|(key, _)| key.span().start);
        Ok(entries
            .into_iter()
            .map(|(key, value)| {
                let name = key.into_inner().into_owned();
                let path = format!("{path}.{name}");
                (name, Value { source, path, value })
            })
            .collect())
    }
}

impl Text<'_> {
    pub(super) fn bad(&self, reason: &str, help: &str) -> SettingsError {
        let kind = SettingsErrorKind::BadValue { key: self.path.clone(), reason: reason.to_owned() };
        self.source.error(kind, self.span.clone(), reason, help)
    }

    /// One of a few keywords.
    pub(super) fn word<T: Copy>(&self, words: &[(&str, T)]) -> Result<T, SettingsError> {
        if let Some((_, meaning)) = words.iter().find(|(word, _)| *word == self.text) {
            return Ok(*meaning);
        }
        let all = words.iter().map(|(word, _)| format!("\"{word}\"")).collect::<Vec<_>>().join(", ");
        Err(self.bad(&format!("`{}` is not a keyword here", self.text), &format!("write one of {all}")))
    }

    /// An error within a string that is a filter or a name.
    pub(super) fn inside(&self, inner: SourceSpan, reason: &str, help: &str, filter: bool) -> SettingsError {
        let (key, reason_owned) = (self.path.clone(), reason.to_owned());
        let kind = if filter {
            SettingsErrorKind::Filter { key, reason: reason_owned }
        } else {
            SettingsErrorKind::Name { key, reason: reason_owned }
        };
        let map = self.source.text.get(self.span.clone()).map(offsets).unwrap_or_default();
        let at = |offset: usize| self.span.start + map.get(offset).or(map.last()).copied().unwrap_or(0);
        let (from, to) = (at(inner.offset()), at(inner.offset() + inner.len()));
        self.source.error(kind, from..to.max(from), reason, help)
    }
}

/// Cannot happen: the type was looked at first.
fn unreachable_table() -> SettingsError {
    SourceText { file: "", text: "" }.error(SettingsErrorKind::Syntax(String::new()), 0..0, "", "")
}

/// For each byte of a TOML string's value, and for its end, the byte of the source where it is written (quotes
/// included).
fn offsets(raw: &str) -> Vec<usize> {
    let triple = raw.starts_with("\"\"\"") || raw.starts_with("'''");
    let quote = if triple { 3 } else { 1 };
    let literal = raw.starts_with('\'');
    let mut map = Vec::new();
    let mut at = quote;
    if triple {
        let newline = raw
            .get(at..)
            .map_or(0, |rest| if rest.starts_with("\r\n") { 2 } else { usize::from(rest.starts_with('\n')) });
        at += newline;
    }
    let end = raw.len().saturating_sub(quote);
    while let Some(character) = raw.get(at..end).and_then(|rest| rest.chars().next()) {
        let (width, bytes) = if character == '\\' && !literal {
            let rest = raw.get(at + 1..end).unwrap_or("");
            match rest.chars().next() {
                Some(kind @ ('u' | 'U' | 'x')) => {
                    let digits = match kind {
                        'u' => 4,
                        'U' => 8,
                        _ => 2,
                    };
                    let code = rest.get(1..=digits).and_then(|hex| u32::from_str_radix(hex, 16).ok());
                    (2 + digits, code.and_then(char::from_u32).map_or(1, char::len_utf8))
                }
                Some(blank) if blank.is_whitespace() => {
                    (1 + rest.len() - rest.trim_start().len(), 0) // a line that goes on
                }
                _ => (2, 1),
            }
        } else {
            (character.len_utf8(), character.len_utf8())
        };
        map.extend((0..bytes).map(|byte| if width == bytes { at + byte } else { at }));
        at += width;
    }
    map.push(at);
    map
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_byte_of_a_string_is_found_in_its_source() {
        for (raw, value, at, expected, why) in [
            (r#""(cn=a)""#, "(cn=a)", 4, 5, "a plain string"),
            (r"'(cn=\2a)'", r"(cn=\2a)", 4, 5, "a literal string"),
            (r#""(cn=\"x\")""#, "(cn=\"x\")", 5, 7, "behind an escape"),
            (r#""\u00e9b""#, "éb", 2, 7, "behind an escaped character"),
            ("\"\"\"\na\"\"\"", "a", 0, 4, "the first line break does not count"),
            ("\"\"\"a\\\n  b\"\"\"", "ab", 1, 8, "a line that goes on"),
        ] {
            let map = offsets(raw);
            assert_eq!(map.len(), value.len() + 1, "{why}");
            assert_eq!(map[at], expected, "{why}");
        }
    }
}
