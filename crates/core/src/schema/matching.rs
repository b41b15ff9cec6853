//! Comparing values: preparation and matching rules (RFC 4517 §4, RFC 4518 §2).
//!
//! A rule turns a value into prepared bytes ([`prepare`]); equality is equality of those bytes,
//! ordering is [`compare`], substrings are looked for inside them. A value that the rule cannot
//! read has no prepared form, and a filter item over it is Undefined (RFC 4511 §4.5.1.7).

use crate::name::{Dn, Rdn};
use jiff::SignedDuration;
use jiff::civil::DateTime;
use std::borrow::Cow;
use std::cmp::Ordering;

/// How the values of an attribute type are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Rule {
    /// Text, case and outer blanks do not matter (caseIgnoreMatch and its companions).
    CaseIgnore,
    /// Text, case matters.
    CaseExact,
    /// Text, blanks and hyphens do not matter either (telephoneNumberMatch).
    Telephone,
    /// A whole number (integerMatch).
    Integer,
    /// `TRUE` or `FALSE` (booleanMatch).
    Boolean,
    /// A time (generalizedTimeMatch), in UTC.
    Time,
    /// The bytes as they are (octetStringMatch).
    Octets,
    /// A distinguished name (distinguishedNameMatch).
    Name,
    /// A domain controller's objectCategory: a name, or the short name of the category.
    Category,
    /// An OID or its short name (objectIdentifierMatch).
    ObjectIdentifier,
    /// A UUID in its text form (uuidMatch).
    Uuid,
    /// The OID at the front of a definition (objectIdentifierFirstComponentMatch).
    FirstComponent,
}

impl Rule {
    /// Equality, ordering and substrings rule, and syntax, as a subschema names them.
    pub(super) fn standard_names(self) -> (&'static str, &'static str, &'static str, &'static str) {
        match self {
            Rule::CaseIgnore => (
                "caseIgnoreMatch",
                "caseIgnoreOrderingMatch",
                "caseIgnoreSubstringsMatch",
                "1.3.6.1.4.1.1466.115.121.1.15",
            ),
            Rule::CaseExact => (
                "caseExactMatch",
                "caseExactOrderingMatch",
                "caseExactSubstringsMatch",
                "1.3.6.1.4.1.1466.115.121.1.15",
            ),
            Rule::Telephone => (
                "telephoneNumberMatch",
                "",
                "telephoneNumberSubstringsMatch",
                "1.3.6.1.4.1.1466.115.121.1.50",
            ),
            Rule::Integer => ("integerMatch", "integerOrderingMatch", "", "1.3.6.1.4.1.1466.115.121.1.27"),
            Rule::Boolean => ("booleanMatch", "", "", "1.3.6.1.4.1.1466.115.121.1.7"),
            Rule::Time => {
                ("generalizedTimeMatch", "generalizedTimeOrderingMatch", "", "1.3.6.1.4.1.1466.115.121.1.24")
            }
            Rule::Octets => {
                ("octetStringMatch", "octetStringOrderingMatch", "", "1.3.6.1.4.1.1466.115.121.1.40")
            }
            Rule::Name | Rule::Category => {
                ("distinguishedNameMatch", "", "", "1.3.6.1.4.1.1466.115.121.1.12")
            }
            Rule::ObjectIdentifier => ("objectIdentifierMatch", "", "", "1.3.6.1.4.1.1466.115.121.1.38"),
            Rule::Uuid => ("uuidMatch", "uuidOrderingMatch", "", "1.3.6.1.1.16.1"),
            Rule::FirstComponent => {
                ("objectIdentifierFirstComponentMatch", "", "", "1.3.6.1.4.1.1466.115.121.1.3")
            }
        }
    }

    /// Whether `>=` and `<=` have a meaning for these values.
    #[must_use]
    pub fn has_ordering(self) -> bool {
        !self.standard_names().1.is_empty()
    }

    /// Whether a `*` inside a value has a meaning for these values.
    #[must_use]
    pub fn has_substrings(self) -> bool {
        !self.standard_names().2.is_empty()
    }
}

/// The form of `value` in which equal values are equal bytes; none where the rule cannot read it.
#[must_use]
pub fn prepare(rule: Rule, value: &[u8]) -> Option<Cow<'_, [u8]>> {
    match rule {
        Rule::Octets => Some(Cow::Borrowed(value)),
        Rule::CaseIgnore => text(value, true, true),
        Rule::CaseExact => text(value, false, true),
        Rule::Telephone => {
            let kept: String = std::str::from_utf8(value)
                .ok()?
                .chars()
                .filter(|character| !matches!(character, ' ' | '-'))
                .flat_map(char::to_lowercase)
                .collect();
            Some(Cow::Owned(kept.into_bytes()))
        }
        Rule::Integer => integer(value),
        Rule::Boolean => match value {
            b"TRUE" | b"FALSE" => Some(Cow::Borrowed(value)),
            _ => None,
        },
        Rule::Time => time(value),
        Rule::Name => name(value),
        Rule::Category => category(value),
        Rule::ObjectIdentifier => std::str::from_utf8(value)
            .ok()
            .filter(|text| {
                !text.is_empty()
                    && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.'))
            })
            .map(|text| Cow::Owned(text.to_ascii_lowercase().into_bytes())),
        Rule::Uuid => {
            let text = std::str::from_utf8(value).ok()?;
            let parsed = uuid::Uuid::try_parse(text).ok().filter(|_| text.len() == 36)?;
            Some(Cow::Owned(parsed.as_bytes().to_vec()))
        }
        Rule::FirstComponent => {
            let text = std::str::from_utf8(value).ok()?;
            let first = text.trim_start_matches(['(', ' ']).split(' ').next()?;
            Some(Cow::Owned(first.to_ascii_lowercase().into_bytes()))
        }
    }
}

/// How two prepared values of one rule stand to each other.
#[must_use]
pub fn compare(rule: Rule, left: &[u8], right: &[u8]) -> Ordering {
    if rule != Rule::Integer {
        return left.cmp(right);
    }
    let sign = |value: &[u8]| value.first() == Some(&b'-');
    match (sign(left), sign(right)) {
        (false, true) => Ordering::Greater,
        (true, false) => Ordering::Less,
        (false, false) => left.len().cmp(&right.len()).then_with(|| left.cmp(right)),
        (true, true) => right.len().cmp(&left.len()).then_with(|| right.cmp(left)),
    }
}

/// Whether `value` is equal to a value that is prepared already: what [`prepare`] and a comparison
/// of bytes say, without an allocation for most values.
pub(crate) fn equals(rule: Rule, value: &[u8], prepared: &[u8]) -> bool {
    match rule {
        Rule::Octets => value == prepared,
        Rule::CaseIgnore if value.eq_ignore_ascii_case(prepared) => true,
        Rule::CaseIgnore if is_simple(value) => false,
        // What is no identifier cannot be equal to one.
        Rule::ObjectIdentifier => value.eq_ignore_ascii_case(prepared),
        _ => prepare(rule, value).is_some_and(|value| *value == *prepared),
    }
}

/// Whether a value has pieces that are prepared already, in this order and without overlap.
pub(crate) fn has_pieces(rule: Rule, value: &[u8], initial: &[u8], any: &[Vec<u8>], last: &[u8]) -> bool {
    if rule == Rule::CaseIgnore && is_simple(value) {
        return in_order(value, initial, any, last, <[u8]>::eq_ignore_ascii_case);
    }
    prepare(rule, value)
        .is_some_and(|value| in_order(&value, initial, any, last, |left, right| left == right))
}

fn in_order(
    value: &[u8],
    initial: &[u8],
    any: &[Vec<u8>],
    last: &[u8],
    same: fn(&[u8], &[u8]) -> bool,
) -> bool {
    let Some((front, rest)) = value.split_at_checked(initial.len()) else { return false };
    let Some(cut) = rest.len().checked_sub(last.len()) else { return false };
    let Some((mut rest, back)) = rest.split_at_checked(cut) else { return false };
    if !same(front, initial) || !same(back, last) {
        return false;
    }
    for piece in any {
        let found = rest.windows(piece.len()).position(|window| same(window, piece));
        match found.and_then(|at| rest.get(at + piece.len()..)) {
            Some(after) => rest = after,
            None => return false,
        }
    }
    true
}

/// Whether preparing a text would only make its letters small: ASCII without control characters,
/// without blanks at its ends or next to one another.
fn is_simple(value: &[u8]) -> bool {
    let mut before = b' ';
    for &byte in value {
        if !(b' '..=b'~').contains(&byte) || (byte == b' ' && before == b' ') {
            return false;
        }
        before = byte;
    }
    before != b' ' || value.is_empty()
}

/// Prepares a piece of a value for a substrings match: like the whole, but the blanks at its ends
/// count, since they stand inside the value.
pub(crate) fn prepare_piece(rule: Rule, piece: &[u8]) -> Option<Cow<'_, [u8]>> {
    match rule {
        Rule::CaseIgnore => text(piece, true, false),
        Rule::CaseExact => text(piece, false, false),
        Rule::Telephone => prepare(rule, piece),
        _ => None,
    }
}

/// Text in lower case (if asked), with runs of blanks as one, and none at the ends (if asked).
fn text(value: &[u8], fold: bool, trim: bool) -> Option<Cow<'_, [u8]>> {
    let plain = value.iter().all(|byte| byte.is_ascii_graphic() && !(fold && byte.is_ascii_uppercase()));
    if plain {
        return Some(Cow::Borrowed(value));
    }
    let text = std::str::from_utf8(value).ok()?;
    let mut prepared = Vec::with_capacity(value.len());
    for character in text.chars() {
        if character.is_whitespace() {
            if prepared.last() != Some(&b' ') {
                prepared.push(b' ');
            }
        } else if character.is_ascii() {
            let byte = u8::try_from(character).unwrap_or(b' ');
            prepared.push(if fold { byte.to_ascii_lowercase() } else { byte });
        } else if fold {
            let mut room = [0; 4];
            for lower in character.to_lowercase() {
                prepared.extend_from_slice(lower.encode_utf8(&mut room).as_bytes());
            }
        } else {
            prepared.extend_from_slice(character.encode_utf8(&mut [0; 4]).as_bytes());
        }
    }
    if trim {
        if prepared.last() == Some(&b' ') {
            prepared.pop();
        }
        if prepared.first() == Some(&b' ') {
            prepared.remove(0);
        }
    }
    Some(Cow::Owned(prepared))
}

/// A whole number without leading zeros; `-0` is `0`.
fn integer(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    let (sign, digits) = match value.strip_prefix(b"-") {
        Some(digits) => ("-", digits),
        None => ("", value),
    };
    if digits.is_empty() || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    if digits.first() != Some(&b'0') {
        return Some(Cow::Borrowed(value));
    }
    let digits = std::str::from_utf8(digits).ok()?.trim_start_matches('0');
    let text = if digits.is_empty() { "0".to_owned() } else { format!("{sign}{digits}") };
    Some(Cow::Owned(text.into_bytes()))
}

/// Generalized time (RFC 4517 §3.3.13) as `YYYYMMDDhhmmss` and a fraction without trailing zeros,
/// in UTC. Minutes and seconds may be missing, an offset is taken off.
fn time(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    let text = std::str::from_utf8(value).ok()?;
    let zone_at = text.find(['Z', '+', '-'])?;
    let (clock, zone) = text.split_at_checked(zone_at)?;
    let (whole, fraction) = clock.split_once(['.', ',']).unwrap_or((clock, ""));
    let digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
    if !digits(whole) || !digits(fraction) || !matches!(whole.len(), 10 | 12 | 14) {
        return None;
    }
    if clock.len() != whole.len() && (fraction.is_empty() || whole.len() != 14) {
        return None; // a fraction of an hour or of a minute: nobody writes it
    }
    let part = |from: usize, to: usize| whole.get(from..to).map_or(Some(0), |text| text.parse::<i8>().ok());
    let year = whole.get(..4)?.parse().ok()?;
    let offset = match zone {
        "Z" => 0,
        _ => {
            let (sign, rest) = (if zone.starts_with('-') { -1 } else { 1 }, zone.get(1..)?);
            if !digits(rest) || !matches!(rest.len(), 2 | 4) {
                return None;
            }
            let minutes =
                rest.get(2..).filter(|text| !text.is_empty()).map_or(Some(0), |text| text.parse().ok())?;
            sign * (rest.get(..2)?.parse::<i64>().ok()? * 60 + minutes)
        }
    };
    let local =
        DateTime::new(year, part(4, 6)?, part(6, 8)?, part(8, 10)?, part(10, 12)?, part(12, 14)?, 0).ok()?;
    let utc = local.checked_sub(SignedDuration::from_mins(offset)).ok()?;
    let fraction = fraction.trim_end_matches('0');
    let dot = if fraction.is_empty() { "" } else { "." };
    Some(Cow::Owned(format!("{}{dot}{fraction}", utc.strftime("%Y%m%d%H%M%S")).into_bytes()))
}

fn name(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    let dn = Dn::parse(std::str::from_utf8(value).ok()?).ok()?;
    Some(Cow::Owned(dn.key().as_bytes().to_vec()))
}

/// `person` stands for the category's whole name on a domain controller; classes without a
/// category of their own belong to their parent's.
fn category(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    let text = std::str::from_utf8(value).ok()?;
    let first = Dn::parse(text).ok().and_then(|dn| dn.first().map(Rdn::text));
    let folded = first.as_deref().unwrap_or(text).to_ascii_lowercase();
    let category = match folded.as_str() {
        "user" | "contact" | "inetorgperson" => "person",
        "organizationalunit" => "organizational-unit",
        other => other,
    };
    Some(Cow::Owned(category.as_bytes().to_vec()))
}
