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

    /// The ways in which a text may have come of this join, ignoring case: the value of each placeholder. At most `most`
    /// ways; none for two placeholders without a text between them.
    pub(super) fn divided<'j>(&'j self, text: &'j str, most: usize) -> Vec<Vec<(&'j str, &'j str)>> {
        let mut ways = vec![Way { values: Vec::new(), open: None, rest: text }];
        for piece in &self.0 {
            let mut next = Vec::new();
            for way in ways {
                way.go_on(piece, most, &mut next);
            }
            ways = next;
        }
        ways.into_iter().filter_map(Way::end).take(most).collect()
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

/// A text, divided among some pieces of a join.
struct Way<'j> {
    values: Vec<(&'j str, &'j str)>,
    /// The placeholder whose value the rest begins with.
    open: Option<&'j str>,
    rest: &'j str,
}

impl<'j> Way<'j> {
    /// Adds the ways to go on with another piece.
    fn go_on(self, piece: &'j Piece, most: usize, next: &mut Vec<Self>) {
        let Self { values, open, rest } = self;
        let plain = match (piece, open) {
            (Piece::Attribute(name), None) => {
                next.push(Self { values, open: Some(name), rest });
                return;
            }
            (Piece::Attribute(_), Some(_)) => return,
            (Piece::Text(plain), _) => plain,
        };
        let is_there = |at: usize| {
            let there = rest.get(at..at + plain.len());
            there.is_some_and(|there| there.eq_ignore_ascii_case(plain)) && (at == 0) == open.is_none()
        };
        for at in rest.char_indices().map(|(at, _)| at).filter(|at| is_there(*at)) {
            let value = open.map(|name| (name, rest.get(..at).unwrap_or_default()));
            if next.len() < most {
                let values = values.iter().copied().chain(value).collect();
                next.push(Self {
                    values,
                    open: None,
                    rest: rest.get(at + plain.len()..).unwrap_or_default(),
                });
            }
        }
    }

    /// The values, if the text ends here.
    fn end(mut self) -> Option<Vec<(&'j str, &'j str)>> {
        self.values.extend(self.open.map(|name| (name, self.rest)));
        (self.open.is_some() != self.rest.is_empty()).then_some(self.values)
    }
}
