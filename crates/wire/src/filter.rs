//! Search filters as BER and back (RFC 4511 §4.5.1).
//!
//! The codec walks these types recursively; it enforces a depth limit when decoding, and [`WireFilter::new`] enforces
//! [`Limits::depth`] before encoding.

use crate::{ProtocolError, ProtocolErrorKind};
use rasn::prelude::*;
use webtaxon_core::ldap::filter::{Filter, Item, Limits};

/// Bytes of a value or a name, shared without copying.
pub type Octets = OctetString;

/// A filter in its encoded structure.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(choice)]
pub enum WireFilter {
    /// Every part.
    #[rasn(tag(0))]
    And(Vec<WireFilter>),
    /// Some part.
    #[rasn(tag(1))]
    Or(Vec<WireFilter>),
    /// Not the part.
    #[rasn(tag(2))]
    Not(Box<WireFilter>),
    /// Equal.
    #[rasn(tag(3))]
    Equal(Assertion),
    /// Pieces.
    #[rasn(tag(4))]
    Substrings(Substrings),
    /// Greater or equal.
    #[rasn(tag(5))]
    GreaterOrEqual(Assertion),
    /// Less or equal.
    #[rasn(tag(6))]
    LessOrEqual(Assertion),
    /// Present.
    #[rasn(tag(7))]
    Present(Octets),
    /// Approximately equal.
    #[rasn(tag(8))]
    Approx(Assertion),
    /// By a rule.
    #[rasn(tag(9))]
    Extensible(ByRule),
}

/// An attribute and a value.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct Assertion {
    /// The attribute description.
    pub attribute: Octets,
    /// The value.
    pub value: Octets,
}

/// An attribute and substrings of a value.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct Substrings {
    /// The attribute description.
    pub attribute: Octets,
    /// The substrings, in order.
    pub pieces: Vec<Piece>,
}

/// One substring.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(choice)]
pub enum Piece {
    /// At the front.
    #[rasn(tag(0))]
    Initial(Octets),
    /// In between.
    #[rasn(tag(1))]
    Any(Octets),
    /// At the end.
    #[rasn(tag(2))]
    Final(Octets),
}

/// A comparison by a matching rule.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct ByRule {
    /// The matching rule.
    #[rasn(tag(1))]
    pub rule: Option<Octets>,
    /// The attribute description.
    #[rasn(tag(2))]
    pub attribute: Option<Octets>,
    /// The value.
    #[rasn(tag(3))]
    pub value: Octets,
    /// Whether the values in the entry's own name count.
    #[rasn(tag(4), default)]
    pub dn: bool,
}

fn octets(bytes: impl AsRef<[u8]>) -> Octets {
    Octets::from_slice(bytes.as_ref())
}

fn text<T: for<'t> From<&'t str>>(bytes: &Octets) -> Result<T, ProtocolError> {
    std::str::from_utf8(bytes).map(T::from).map_err(|_| ProtocolErrorKind::Malformed.into())
}

impl WireFilter {
    /// The wire form of `filter`.
    ///
    /// # Errors
    /// [`ProtocolErrorKind::FilterTooDeep`] past the default [`Limits::depth`].
    pub fn new(filter: &Filter) -> Result<Self, ProtocolError> {
        if filter.depth() > Limits::default().depth {
            return Err(ProtocolErrorKind::FilterTooDeep.into());
        }
        Ok(Self::of(filter))
    }

    /// Recursive, to the depth that [`WireFilter::new`] has checked.
    fn of(filter: &Filter) -> Self {
        let assertion =
            |attribute: &str, value: &[u8]| Assertion { attribute: octets(attribute), value: octets(value) };
        match filter {
            Filter::And(parts) => Self::And(parts.iter().map(Self::of).collect()),
            Filter::Or(parts) => Self::Or(parts.iter().map(Self::of).collect()),
            Filter::Not(part) => Self::Not(Box::new(Self::of(part))),
            Filter::Item(Item::Equal { attribute, value }) => Self::Equal(assertion(attribute, value)),
            Filter::Item(Item::GreaterOrEqual { attribute, value }) => {
                Self::GreaterOrEqual(assertion(attribute, value))
            }
            Filter::Item(Item::LessOrEqual { attribute, value }) => {
                Self::LessOrEqual(assertion(attribute, value))
            }
            Filter::Item(Item::Approx { attribute, value }) => Self::Approx(assertion(attribute, value)),
            Filter::Item(Item::Present { attribute }) => Self::Present(octets(attribute)),
            Filter::Item(Item::Substrings { attribute, initial, any, last }) => {
                let pieces = initial
                    .iter()
                    .map(|piece| Piece::Initial(octets(piece)))
                    .chain(any.iter().map(|piece| Piece::Any(octets(piece))))
                    .chain(last.iter().map(|piece| Piece::Final(octets(piece))));
                Self::Substrings(Substrings { attribute: octets(attribute), pieces: pieces.collect() })
            }
            Filter::Item(Item::Extensible { attribute, rule, dn, value }) => Self::Extensible(ByRule {
                rule: rule.as_ref().map(octets),
                attribute: attribute.as_ref().map(octets),
                value: octets(value),
                dn: *dn,
            }),
        }
    }

    /// Converts back to a filter. Recursive, to the depth that the codec enforced.
    ///
    /// # Errors
    /// [`ProtocolErrorKind::Malformed`] for an attribute description that is not UTF-8, or for substrings out of
    /// order.
    pub fn to_filter(&self) -> Result<Filter, ProtocolError> {
        let all = |parts: &[Self]| parts.iter().map(Self::to_filter).collect::<Result<Vec<_>, _>>();
        let value = |bytes: &Octets| (&**bytes).into();
        let pair = |one: &Assertion| Ok::<_, ProtocolError>((text(&one.attribute)?, value(&one.value)));
        Ok(match self {
            Self::And(parts) => Filter::And(all(parts)?),
            Self::Or(parts) => Filter::Or(all(parts)?),
            Self::Not(part) => Filter::Not(Box::new(part.to_filter()?)),
            Self::Present(attribute) => Filter::Item(Item::Present { attribute: text(attribute)? }),
            Self::Equal(one) => {
                let (attribute, value) = pair(one)?;
                Filter::Item(Item::Equal { attribute, value })
            }
            Self::GreaterOrEqual(one) => {
                let (attribute, value) = pair(one)?;
                Filter::Item(Item::GreaterOrEqual { attribute, value })
            }
            Self::LessOrEqual(one) => {
                let (attribute, value) = pair(one)?;
                Filter::Item(Item::LessOrEqual { attribute, value })
            }
            Self::Approx(one) => {
                let (attribute, value) = pair(one)?;
                Filter::Item(Item::Approx { attribute, value })
            }
            Self::Substrings(one) => {
                let (mut initial, mut any, mut last) = (None, Vec::new(), None);
                let count = one.pieces.len();
                for (index, piece) in one.pieces.iter().enumerate() {
                    match piece {
                        Piece::Initial(bytes) if index == 0 => initial = Some(value(bytes)),
                        Piece::Any(bytes) => any.push(value(bytes)),
                        Piece::Final(bytes) if index + 1 == count => last = Some(value(bytes)),
                        _ => return Err(ProtocolErrorKind::Malformed.into()),
                    }
                }
                Filter::Item(Item::Substrings { attribute: text(&one.attribute)?, initial, any, last })
            }
            Self::Extensible(one) => Filter::Item(Item::Extensible {
                attribute: one.attribute.as_ref().map(text).transpose()?,
                rule: one.rule.as_ref().map(text).transpose()?,
                dn: one.dn,
                value: value(&one.value),
            }),
        })
    }
}
