//! Comparing values: preparation and matching rules (RFC 4517 §4, RFC 4518 §2).
//!
//! A rule turns a value into prepared bytes ([`prepare`]); equality is equality of those bytes, ordering is
//! [`compare`], and substrings are searched for in them. A value that the rule cannot parse has no prepared form, and
//! a filter item on it is Undefined (RFC 4511 §4.5.1.7).

use super::Rule;
use crate::ldap::name::{Dn, Rdn, is_attribute_type};
use crate::ldap::prepare::{self, Fold, is_simple};
use jiff::SignedDuration;
use jiff::civil::DateTime;
use std::borrow::Cow;
use std::cmp::Ordering;

/// The prepared form of `value`, in which equal values are equal bytes; `None` if the rule cannot parse it.
#[must_use]
pub fn prepare(rule: Rule, value: &[u8]) -> Option<Cow<'_, [u8]>> {
    match rule {
        Rule::Octets => Some(Cow::Borrowed(value)),
        Rule::CaseIgnore => prepare::text(value, Fold::Case),
        Rule::CaseExact => prepare::text(value, Fold::Nothing),
        Rule::Marks => prepare::text(value, Fold::Marks),
        Rule::CaseIgnoreIa5 if value.is_ascii() => prepare::text(value, Fold::Case),
        Rule::CaseExactIa5 if value.is_ascii() => prepare::text(value, Fold::Nothing),
        Rule::CaseIgnoreIa5 | Rule::CaseExactIa5 => None,
        Rule::List => list(value),
        Rule::Numeric | Rule::Telephone => bare(value, rule == Rule::Telephone),
        Rule::Bits => bits(value),
        Rule::NameAndUid => name_and_uid(value),
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
            .filter(|text| is_attribute_type(text))
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

/// The order of two values prepared by one rule.
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

/// Whether `value` equals a prepared value: the same as [`prepare`] and a comparison of bytes, without an allocation
/// for most values.
pub(crate) fn equals(rule: Rule, value: &[u8], prepared: &[u8]) -> bool {
    match rule {
        Rule::Octets => value == prepared,
        Rule::CaseIgnore | Rule::CaseIgnoreIa5 | Rule::Marks if begin_apart(value, prepared) => false,
        Rule::CaseIgnore | Rule::Marks if value.eq_ignore_ascii_case(prepared) => true,
        Rule::CaseIgnore | Rule::Marks if is_simple(value) => false,
        Rule::CaseIgnoreIa5 if is_simple(value) => value.eq_ignore_ascii_case(prepared),
        // A value that is not an identifier equals none.
        Rule::ObjectIdentifier => value.eq_ignore_ascii_case(prepared),
        Rule::Name if names_begin_apart(value, prepared) => false,
        _ => prepare(rule, value).is_some_and(|value| *value == *prepared),
    }
}

/// Whether two texts begin with different ASCII letters, and so cannot be equal: preparation lowers such a letter, or
/// joins it with a mark into one that is not ASCII.
fn begin_apart(value: &[u8], prepared: &[u8]) -> bool {
    match (value.first(), prepared.first()) {
        (Some(one), Some(other)) => {
            one.is_ascii_graphic() && other.is_ascii_graphic() && !one.eq_ignore_ascii_case(other)
        }
        _ => false,
    }
}

/// Whether the first values of two names begin with different ASCII letters, so that the names cannot be equal. This
/// spares parsing each name in a list of members.
fn names_begin_apart(value: &[u8], key: &[u8]) -> bool {
    let own =
        key.strip_suffix(b"\0").and_then(|inner| inner.rsplit(|byte| *byte == 0).next()).unwrap_or_default();
    // In a relative name with several values, any of them may come first.
    if [value, own].iter().any(|name| name.contains(&b'+')) {
        return false;
    }
    let first = |name: &[u8]| {
        let at = name.iter().position(|byte| *byte == b'=')?;
        name.get(at + 1).copied().filter(u8::is_ascii_alphanumeric)
    };
    first(value).zip(first(own)).is_some_and(|(one, other)| !one.eq_ignore_ascii_case(&other))
}

/// Whether a value contains prepared substrings, in this order and without overlap.
pub(crate) fn has_pieces(rule: Rule, value: &[u8], initial: &[u8], any: &[Vec<u8>], last: &[u8]) -> bool {
    if matches!(rule, Rule::CaseIgnore | Rule::CaseIgnoreIa5 | Rule::Marks) && is_simple(value) {
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

/// Prepares a substring: like the whole, but its outer blanks count, since they stand inside the value.
pub(crate) fn prepare_piece(rule: Rule, piece: &[u8]) -> Option<Cow<'_, [u8]>> {
    match rule {
        Rule::CaseIgnore => prepare::piece(piece, Fold::Case),
        Rule::CaseExact => prepare::piece(piece, Fold::Nothing),
        Rule::Marks => prepare::piece(piece, Fold::Marks),
        Rule::CaseIgnoreIa5 if piece.is_ascii() => prepare::piece(piece, Fold::Case),
        Rule::CaseExactIa5 if piece.is_ascii() => prepare::piece(piece, Fold::Nothing),
        Rule::List => prepare::piece(piece, Fold::Case),
        Rule::Numeric | Rule::Telephone => bare(piece, rule == Rule::Telephone),
        Rule::Octets => Some(Cow::Borrowed(piece)),
        _ => None,
    }
}

/// Digits without blanks, or a telephone number without blanks and hyphens (RFC 4518 §2.6.2,
/// §2.6.3), in lower case (RFC 4517 §4.2.29).
fn bare(value: &[u8], is_telephone: bool) -> Option<Cow<'_, [u8]>> {
    // A telephone number is a printable string (RFC 4517 §3.3.29, §3.3.31); other hyphens go below.
    let is_printable = |byte: &u8| byte.is_ascii_alphanumeric() || b" '()+,-./:=?".contains(byte);
    if is_telephone && !value.iter().all(|byte| is_printable(byte) || !byte.is_ascii()) {
        return None;
    }
    let prepared = prepare::text(value, Fold::Case)?;
    let text = std::str::from_utf8(&prepared).ok()?;
    // NFKC has already replaced the small and full-width hyphens.
    let is_hyphen = |character| matches!(character, '-' | '\u{58a}' | '\u{2010}' | '\u{2212}');
    let counts = |character: &char| *character != ' ' && !(is_telephone && is_hyphen(*character));
    let is_digit = |character: char| character.is_ascii_digit();
    let kept: String = text.chars().filter(counts).collect();
    (is_telephone || kept.chars().all(is_digit)).then(|| Cow::Owned(kept.into_bytes()))
}

/// Lines between dollar signs, each compared as text; `\24` and `\5C` stand for a dollar sign and
/// a backslash inside a line (RFC 4517 §3.3.28, §4.2.9).
fn list(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    let lines = value.split(|byte| *byte == b'$').map(|line| prepare::text(line, Fold::Case));
    let lines = lines.collect::<Option<Vec<_>>>()?;
    Some(Cow::Owned(lines.join(&b'$')))
}

/// `'0101'B` (RFC 4517 §3.3.2); trailing zero bits count (§4.2.1).
fn bits(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    let digits = value.strip_prefix(b"'")?.strip_suffix(b"'B")?;
    digits.iter().all(|digit| matches!(digit, b'0' | b'1')).then_some(Cow::Borrowed(digits))
}

/// A name, with an optional bit string after a number sign (RFC 4517 §3.3.21).
fn name_and_uid(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    let at = value.iter().rposition(|byte| *byte == b'#');
    let uid = at.and_then(|at| Some((value.get(..at)?, bits(value.get(at + 1..)?)?)));
    let Some((dn, uid)) = uid else { return name(value) };
    Some(Cow::Owned([&*name(dn)?, b"#", &*uid].concat()))
}

/// An integer without leading zeros; `-0` is `0`.
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

/// Generalized time (RFC 4517 §3.3.13) as `YYYYMMDDhhmmss` and a fraction without trailing zeros, in UTC. Minutes and
/// seconds may be missing, and a fraction applies to the last field given; an offset is subtracted. A leap second is
/// the first second of the next minute.
fn time(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    let text = std::str::from_utf8(value).ok()?;
    let zone_at = text.find(['Z', '+', '-'])?;
    let (clock, zone) = text.split_at_checked(zone_at)?;
    let (whole, fraction) = clock.split_once(['.', ',']).unwrap_or((clock, ""));
    let digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
    let has_point = clock.len() != whole.len();
    if !digits(whole) || !digits(fraction) || has_point == fraction.is_empty() {
        return None;
    }
    let unit: i64 = match whole.len() {
        10 => 3600,
        12 => 60,
        14 => 1,
        _ => return None,
    };
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
    let (second, leap) = match part(12, 14)? {
        60 => (59, 1),
        second => (second, 0),
    };
    // The fraction in units of 10⁻¹², few enough for an hour's to fit.
    let scaled: i64 = format!("{fraction:0<12.12}").parse().ok()?;
    let parts = scaled.checked_mul(unit)?;
    let (more, fraction) = (parts.div_euclid(1_000_000_000_000), parts.rem_euclid(1_000_000_000_000));
    let local = DateTime::new(year, part(4, 6)?, part(6, 8)?, part(8, 10)?, part(10, 12)?, second, 0).ok()?;
    let moved = SignedDuration::from_secs(leap + more - offset * 60);
    let utc = local.checked_add(moved).ok()?;
    let fraction = format!("{fraction:012}");
    let fraction = fraction.trim_end_matches('0');
    let dot = if fraction.is_empty() { "" } else { "." };
    Some(Cow::Owned(format!("{}{dot}{fraction}", utc.strftime("%Y%m%d%H%M%S")).into_bytes()))
}

fn name(value: &[u8]) -> Option<Cow<'_, [u8]>> {
    // Servers accept the older forms, too (RFC 2253 §4).
    let dn = Dn::parse_pasted(std::str::from_utf8(value).ok()?).ok()?.dn;
    // The root's name is the empty text; a naming value has at least one character (RFC 4517 §3.3.6).
    if dn.depth() == 0 && !value.is_empty() {
        return None;
    }
    if dn.rdns().iter().flat_map(Rdn::avas).any(|ava| ava.value.is_empty()) {
        return None;
    }
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
