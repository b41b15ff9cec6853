//! A SCIM service as the account store, and the names of its attributes (RFC 7644 §3.10).

use super::{PasswordSource, Trust};
use crate::words::TextError;
use indexmap::IndexMap;
use serde::Serialize;
use std::fmt;
use std::str::FromStr;

/// The schema of a user (RFC 7643 §4.1).
pub const USER: &str = "urn:ietf:params:scim:schemas:core:2.0:User";
/// The enterprise extension of a user (RFC 7643 §4.3).
pub const ENTERPRISE: &str = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";

/// The attributes of familiar fields, unless the settings name others.
const USUAL: [(&str, &str); 5] = [
    ("name", "displayName"),
    ("email", "emails[type eq \"work\"].value"),
    ("phone", "phoneNumbers[type eq \"work\"].value"),
    ("department", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department"),
    ("manager", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager"),
];

/// A SCIM service, and how to authenticate to it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Scim {
    /// The base URL, `https://…`, without a trailing slash.
    pub service: String,
    /// How to authenticate.
    pub credentials: Credentials,
    /// The trusted certificates.
    pub trust: Trust,
    /// Whether an unencrypted network connection is allowed.
    pub plain: bool,
    /// The attributes of fields that differ from the usual ones.
    pub attributes: IndexMap<String, AttributePath>,
    /// Whether a role is a group of the service, by its `displayName`; otherwise it is a value of `roles`.
    pub role_groups: bool,
    /// Fields that are written in new users, and never read.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub secrets: Vec<String>,
}

/// How a client authenticates.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Credentials {
    /// Not at all.
    None,
    /// A bearer token (RFC 6750).
    Token(PasswordSource),
    /// A name and a password (RFC 7617).
    Basic {
        /// The name.
        user: String,
        /// The source of the password.
        password: PasswordSource,
    },
}

impl Scim {
    /// The attribute that holds a field.
    #[must_use]
    pub fn attribute(&self, field: &str) -> AttributePath {
        if let Some(path) = self.attributes.get(field) {
            return path.clone();
        }
        let usual = USUAL.iter().find(|(name, _)| *name == field);
        let usual = usual.and_then(|(_, path)| path.parse::<AttributePath>().ok());
        usual.unwrap_or_else(|| AttributePath { attribute: field.to_owned(), ..AttributePath::default() })
    }
}

/// One attribute of a user, or a part of one (RFC 7644 §3.10, with a value filter of one comparison).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AttributePath {
    /// The extension's URN; `None` for the core schema of a user.
    pub extension: Option<String>,
    /// The attribute.
    pub attribute: String,
    /// Which of several values: the one whose sub-attribute of this name equals the literal.
    pub select: Option<(String, Literal)>,
    /// The sub-attribute of a complex value.
    pub part: Option<String>,
}

/// The literal in a value filter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Literal {
    /// A text.
    Text(String),
    /// True or false.
    Boolean(bool),
}

impl FromStr for AttributePath {
    type Err = TextError;

    /// Parses `userName`, `name.givenName`, `emails[type eq "work"].value`, or any of these after the URN of an
    /// extension and a colon.
    fn from_str(text: &str) -> Result<Self, TextError> {
        let (before, rest) = match text.find('[') {
            Some(at) => text.split_at(at),
            None => (text, ""),
        };
        let (extension, name) = match before.rsplit_once(':') {
            Some((urn, name)) => (Some(urn), name),
            None => (None, before),
        };
        if extension.is_some_and(|urn| !urn.to_ascii_lowercase().starts_with("urn:")) {
            return Err("an extension begins with `urn:`".into());
        }
        let (attribute, mut part) = match name.split_once('.') {
            Some((attribute, part)) => (attribute, Some(part)),
            None => (name, None),
        };
        let mut select = None;
        if let Some(inside) = rest.strip_prefix('[') {
            if part.is_some() {
                return Err("the sub-attribute of a value comes after the bracket".into());
            }
            let (comparison, behind) = closed(inside).ok_or("the bracket is not closed")?;
            select = Some(equality(comparison)?);
            part = match behind.strip_prefix('.') {
                Some(part) => Some(part),
                None if behind.is_empty() => None,
                None => return Err(format!("`{behind}` comes after the bracket").into()),
            };
        }
        for name in [Some(attribute), part].into_iter().flatten() {
            if !is_name(name) {
                return Err(format!("`{name}` is not the name of an attribute").into());
            }
        }
        let extension = extension.filter(|urn| !urn.eq_ignore_ascii_case(USER)).map(str::to_owned);
        Ok(Self { extension, attribute: attribute.to_owned(), select, part: part.map(str::to_owned) })
    }
}

impl AttributePath {
    /// Whether it refers to another user: the manager, stored as the id.
    #[must_use]
    pub fn is_person(&self) -> bool {
        let is_enterprise = self.extension.as_ref().is_some_and(|urn| urn.eq_ignore_ascii_case(ENTERPRISE));
        is_enterprise
            && self.attribute.eq_ignore_ascii_case("manager")
            && self.part.as_ref().is_none_or(|part| part.eq_ignore_ascii_case("value"))
    }
}

impl fmt::Display for AttributePath {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(extension) = &self.extension {
            write!(out, "{extension}:")?;
        }
        out.write_str(&self.attribute)?;
        match &self.select {
            Some((name, Literal::Text(text))) => {
                let text = text.replace('\\', "\\\\").replace('"', "\\\"");
                write!(out, "[{name} eq \"{text}\"]")?;
            }
            Some((name, Literal::Boolean(value))) => write!(out, "[{name} eq {value}]")?,
            None => {}
        }
        match &self.part {
            Some(part) => write!(out, ".{part}"),
            None => Ok(()),
        }
    }
}

/// An attribute name (RFC 7643 §2.1), or `$ref`.
fn is_name(name: &str) -> bool {
    let fits = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_');
    let plain = name.strip_prefix('$').unwrap_or(name);
    plain.bytes().all(fits) && plain.starts_with(|first: char| first.is_ascii_alphabetic())
}

/// The text before the closing bracket, and the text after it.
fn closed(text: &str) -> Option<(&str, &str)> {
    let mut is_quoted = false;
    let mut is_escaped = false;
    for (at, character) in text.char_indices() {
        match character {
            _ if is_escaped => is_escaped = false,
            '\\' if is_quoted => is_escaped = true,
            '"' => is_quoted = !is_quoted,
            ']' if !is_quoted => return Some((text.get(..at)?, text.get(at + 1..)?)),
            _ => {}
        }
    }
    None
}

/// `type eq "work"`, or `primary eq true`.
fn equality(text: &str) -> Result<(String, Literal), String> {
    let unclear = || format!("`{text}` is no comparison like `type eq \"work\"`");
    let mut words = text.trim().splitn(3, ' ');
    let (name, operator) = (words.next().unwrap_or(""), words.next().unwrap_or(""));
    let value = words.next().unwrap_or("").trim();
    if !is_name(name) || !operator.eq_ignore_ascii_case("eq") {
        return Err(unclear());
    }
    let literal = match value {
        "true" => Literal::Boolean(true),
        "false" => Literal::Boolean(false),
        _ => {
            let inside = value.strip_prefix('"').and_then(|value| value.strip_suffix('"'));
            Literal::Text(unescaped(inside.ok_or_else(unclear)?).ok_or_else(unclear)?)
        }
    };
    Ok((name.to_owned(), literal))
}

/// A text with its escapes resolved; `None` for a quotation mark or a backslash that is not escaped.
fn unescaped(text: &str) -> Option<String> {
    let mut plain = String::with_capacity(text.len());
    let mut characters = text.chars();
    while let Some(character) = characters.next() {
        match character {
            '\\' => plain.push(characters.next().filter(|next| matches!(next, '"' | '\\' | '/'))?),
            '"' => return None,
            character => plain.push(character),
        }
    }
    Some(plain)
}

impl serde::Serialize for AttributePath {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn paths_are_read_as_they_are_written() {
        for (text, extension, attribute, part) in [
            ("userName", None, "userName", None),
            ("name.givenName", None, "name", Some("givenName")),
            ("emails[type eq \"work\"].value", None, "emails", Some("value")),
            ("emails[primary eq true]", None, "emails", None),
            ("addresses[type eq \"a ] \\\" b\"].locality", None, "addresses", Some("locality")),
            ("urn:x:y:2.0:User:room", Some("urn:x:y:2.0:User"), "room", None),
            ("urn:x:y:2.0:User:place.floor", Some("urn:x:y:2.0:User"), "place", Some("floor")),
        ] {
            let path = text.parse::<AttributePath>().unwrap();
            assert_eq!(
                (path.extension.as_deref(), path.attribute.as_str(), path.part.as_deref()),
                (extension, attribute, part)
            );
            assert_eq!(path.to_string(), text);
        }
        assert_eq!(format!("{USER}:title").parse::<AttributePath>().unwrap().to_string(), "title");
    }

    #[test]
    fn what_is_no_path_is_told() {
        for (text, words) in [
            ("", "not the name of an attribute"),
            ("e mail", "not the name of an attribute"),
            ("a.b.c", "not the name of an attribute"),
            ("x:y", "begins with `urn:`"),
            ("emails[type eq \"work\"", "not closed"),
            ("emails[type co \"work\"]", "no comparison"),
            ("emails[type eq work]", "no comparison"),
            ("emails[type eq \"a\" or \"b\"]", "no comparison"),
            ("emails[type eq \"work\"]x", "after the bracket"),
            ("emails.value[type eq \"work\"]", "after the bracket"),
        ] {
            let error = text.parse::<AttributePath>().unwrap_err();
            assert!(error.to_string().contains(words), "{text}: {error}");
        }
    }

    #[test]
    fn the_usual_attributes_are_paths() {
        for (_, path) in USUAL {
            assert_eq!(path.parse::<AttributePath>().unwrap().to_string(), path);
        }
    }

    proptest! {
        /// Any text either is a path that prints as itself once more, or is refused.
        #[test]
        fn printing_a_path_loses_nothing(text in "(urn:x:)?[a-z$]{1,3}(\\[[a-z]{1,3} eq \"[a\\\\\"\\] ]{0,4}\"\\])?(\\.[a-z])?") {
            if let Ok(path) = text.parse::<AttributePath>() {
                prop_assert_eq!(path.to_string().parse::<AttributePath>(), Ok(path));
            }
        }
    }
}
