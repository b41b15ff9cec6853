//! Several attributes joined in one text: `{physicalDeliveryOfficeName} ({l})`.

use crate::ldap::name::is_attribute_type;
use serde::Serialize;

/// A text with placeholders for attributes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Join(Vec<Piece>);

#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
enum Piece {
    Text(String),
    Attribute(String),
}

/// Why a text with placeholders was refused, and at which byte.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct JoinError {
    /// The byte.
    pub at: usize,
    /// The fault.
    pub reason: &'static str,
}

impl Join {
    /// Parses `{attribute}` as a placeholder, `{{` and `}}` as literal braces.
    ///
    /// # Errors
    /// A placeholder that is not closed or not an attribute name, or a text without any.
    pub fn parse(text: &str) -> Result<Self, JoinError> {
        let mut pieces: Vec<Piece> = Vec::new();
        let mut plain = String::new();
        let mut at = 0;
        while let Some(sign) = text.get(at..).and_then(|rest| rest.chars().next()) {
            let rest = text.get(at + sign.len_utf8()..).unwrap_or("");
            match sign {
                '{' | '}' if rest.starts_with(sign) => {
                    plain.push(sign);
                    at += 2;
                }
                '}' => {
                    return Err(JoinError { at, reason: "a } without its {; write }} for a literal brace" });
                }
                '{' => {
                    let Some((name, _)) = rest.split_once('}') else {
                        return Err(JoinError {
                            at,
                            reason: "a { without its }; write {{ for a literal brace",
                        });
                    };
                    if !is_attribute_type(name) {
                        return Err(JoinError { at, reason: "an attribute name stands between { and }" });
                    }
                    if !plain.is_empty() {
                        pieces.push(Piece::Text(std::mem::take(&mut plain)));
                    }
                    pieces.push(Piece::Attribute(name.to_owned()));
                    at += name.len() + 2;
                }
                other => {
                    plain.push(other);
                    at += other.len_utf8();
                }
            }
        }
        if !plain.is_empty() {
            pieces.push(Piece::Text(plain));
        }
        let join = Self(pieces);
        if join.attributes().next().is_none() {
            return Err(JoinError { at: 0, reason: "it contains no {attribute}" });
        }
        Ok(join)
    }

    /// The attributes in the placeholders.
    pub fn attributes(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|piece| match piece {
            Piece::Attribute(name) => Some(name.as_str()),
            Piece::Text(_) => None,
        })
    }

    /// The text with every placeholder filled; `None` if an attribute has no value.
    pub(crate) fn fill<'v>(&self, value: impl Fn(&str) -> Option<&'v str>) -> Option<String> {
        let mut text = String::new();
        for piece in &self.0 {
            match piece {
                Piece::Text(plain) => text.push_str(plain),
                Piece::Attribute(name) => text.push_str(value(name)?),
            }
        }
        Some(text)
    }
}
