//! Several attributes put together: `{physicalDeliveryOfficeName} ({l})`.

use crate::ldap::name::is_attribute_type;
use serde::Serialize;

/// A text with places for attributes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Join(Vec<Piece>);

#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
enum Piece {
    Text(String),
    Attribute(String),
}

/// Why a text cannot be read as one with places, and the byte at which that is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct JoinError {
    /// The byte.
    pub at: usize,
    /// What is wrong there.
    pub reason: &'static str,
}

impl Join {
    /// Reads `{attribute}` as a place, `{{` and `}}` as the signs themselves.
    ///
    /// # Errors
    /// A place that is not closed, is no attribute name, or there is none at all.
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
                    return Err(JoinError { at, reason: "a } without its {; write }} for the sign itself" });
                }
                '{' => {
                    let Some((name, _)) = rest.split_once('}') else {
                        return Err(JoinError {
                            at,
                            reason: "a { without its }; write {{ for the sign itself",
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
            return Err(JoinError { at: 0, reason: "no {attribute} in it" });
        }
        Ok(join)
    }

    /// The attributes of the places.
    pub fn attributes(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|piece| match piece {
            Piece::Attribute(name) => Some(name.as_str()),
            Piece::Text(_) => None,
        })
    }

    /// The text with every place filled; none if one of the attributes has no value.
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
