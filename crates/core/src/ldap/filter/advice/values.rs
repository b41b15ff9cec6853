//! Advice on the values compared: times, identifiers, blanks, stars, and values that the attribute cannot have.

use super::look::{Look, Weight, is};
use crate::ldap::filter::{Filter, Item, Octets};
use crate::ldap::schema::ServerKind;
use crate::ldap::schema::{Rule, prepare};
use jiff::civil::Date;
use jiff::tz::TimeZone;

/// Attributes that count intervals of 100 ns since 1601.
const COUNTS: [&str; 7] = [
    "accountExpires",
    "pwdLastSet",
    "lastLogon",
    "lastLogonTimestamp",
    "lockoutTime",
    "badPasswordTime",
    "lastLogoff",
];
/// Seconds from 1601 to 1970.
const TO_UNIX: i64 = 11_644_473_600;
/// Number of entries above which a leading star is slow.
const MANY: usize = 5000;

pub(super) fn look(look: &mut Look<'_, '_>, number: usize) {
    let Some(clause) = look.clause(number) else { return };
    let Filter::Item(item) = clause.filter else { return };
    let Some(attribute) = item.attribute() else { return };
    let known = look.context.schema.find(attribute);
    let rule = look.rule_of(attribute);
    match item {
        Item::Equal { value, .. } | Item::GreaterOrEqual { value, .. } | Item::LessOrEqual { value, .. } => {
            let ordering = !matches!(item, Item::Equal { .. });
            if ordering && known.is_some_and(|known| !known.is_ordered) {
                look.say(
                    "WX0218",
                    Weight::Wrong,
                    number,
                    format!("the values of {attribute} have no ordering: >= and <= match nobody"),
                );
                return;
            }
            compared(look, number, item, attribute, rule, value);
        }
        Item::Substrings { initial, any, last, .. } => {
            if initial.is_none() && look.context.entries.is_none_or(|entries| entries >= MANY) {
                look.say("WX0223", Weight::Note, number, "with a leading * the server must examine every entry; on a large directory that is slow, or exceeds its time limit");
            }
            let blank = |piece: &Octets| piece.first() == Some(&b' ') && piece.last() == Some(&b' ');
            let around = any.iter().any(blank)
                || (initial.as_ref().is_some_and(|piece| piece.last() == Some(&b' '))
                    && last.as_ref().is_some_and(|piece| piece.first() == Some(&b' ')));
            if around {
                look.say(
                    "WX0231",
                    Weight::Note,
                    number,
                    "the * stands for any text; a star that is part of the value is written \\2a",
                );
            }
            if known.is_some_and(|known| !known.has_pieces && known.rule != Some(Rule::Name)) {
                look.say(
                    "WX0239",
                    Weight::Wrong,
                    number,
                    format!("{attribute} has no substrings: a * matches nobody"),
                );
            }
        }
        _ => {}
    }
}

fn compared(
    look: &mut Look<'_, '_>,
    number: usize,
    item: &Item,
    attribute: &str,
    rule: Option<Rule>,
    value: &[u8],
) {
    let Ok(text) = std::str::from_utf8(value) else { return };
    let mend = |look: &Look<'_, '_>, new: Vec<u8>| look.with(number, Filter::Item(valued(item, new)));
    let is_text = rule.is_some_and(Rule::is_never_empty);
    if value.is_empty() && is_text {
        let absent = Filter::Not(Box::new(Filter::present(attribute)));
        let rewrite = look.with(number, absent);
        let message = format!(
            "{attribute} is never empty: this matches nobody, and on most servers neither does its negation"
        );
        look.say_with("WX0237", Weight::Wrong, number, message, rewrite, false);
    } else if let Some((message, rewrite)) = identifier(attribute, value, text) {
        let rewrite = rewrite.and_then(|bytes| mend(look, bytes));
        look.say_with("WX0222", Weight::Wrong, number, message, rewrite, false);
    } else if COUNTS.iter().any(|count| is(attribute, count)) && text.parse::<i64>().is_err() {
        let ticks = date(text).map(|seconds| ((seconds + TO_UNIX) * 10_000_000).to_string());
        let rewrite = ticks.and_then(|ticks| mend(look, ticks.into_bytes()));
        look.say_with(
            "WX0221",
            Weight::Wrong,
            number,
            format!("{attribute} counts intervals of 100 ns since 1601: a date matches nobody"),
            rewrite,
            false,
        );
    } else if rule == Some(Rule::Time) {
        time(look, number, attribute, text, &mend);
    } else if rule == Some(Rule::Boolean) && prepare(Rule::Boolean, value).is_none() {
        let upper = text.trim().to_ascii_uppercase();
        let rewrite =
            ["TRUE", "FALSE"].contains(&upper.as_str()).then(|| mend(look, upper.into_bytes())).flatten();
        look.say_with(
            "WX0237",
            Weight::Wrong,
            number,
            format!("{attribute} is TRUE or FALSE, in capital letters"),
            rewrite,
            false,
        );
    } else if rule
        .is_some_and(|rule| !matches!(rule, Rule::Name | Rule::Category) && prepare(rule, value).is_none())
    {
        look.say(
            "WX0237",
            Weight::Wrong,
            number,
            format!("\"{text}\" cannot be a value of {attribute}: this matches nobody"),
        );
    } else if text != text.trim() {
        blanks(look, number, rule, text, &mend);
    } else if rule == Some(Rule::Marks) && !text.is_ascii() && matches!(item, Item::Equal { .. }) {
        look.say("WX0234", Weight::Note, number, "marks on letters make no difference to Active Directory, nor does case: ü equals u, and é equals e");
    } else if matches!(rule, Some(Rule::CaseIgnore | Rule::CaseIgnoreIa5 | Rule::Marks))
        && text.chars().any(char::is_uppercase)
        && matches!(item, Item::Equal { .. })
    {
        look.say("WX0234", Weight::Note, number, "case makes no difference");
    }
}

/// Advice on an identifier written as text: the message, and its bytes if they can be worked out.
fn identifier(attribute: &str, value: &[u8], text: &str) -> Option<(&'static str, Option<Vec<u8>>)> {
    if is(attribute, "objectGUID") && value.len() != 16 {
        let bytes = uuid::Uuid::try_parse(text).ok().map(|uuid| uuid.to_bytes_le().to_vec());
        return Some((
            "objectGUID holds 16 bytes, the first three fields in reverse order: as text it matches nobody on most servers",
            bytes,
        ));
    }
    let is_sid = is(attribute, "objectSid") && text.starts_with("S-1-");
    let message = "objectSid holds bytes; only some domain controllers accept the text form";
    is_sid.then(|| (message, sid_bytes(text)))
}

/// Advice on leading and trailing blanks.
fn blanks(
    look: &mut Look<'_, '_>,
    number: usize,
    rule: Option<Rule>,
    text: &str,
    mend: &dyn Fn(&Look<'_, '_>, Vec<u8>) -> Option<Filter>,
) {
    if rule.is_none_or(Rule::is_text) {
        let rewrite = mend(look, text.trim().as_bytes().to_vec());
        let message = "leading and trailing blanks make no difference";
        return look.say_with("WX0234", Weight::Note, number, message, rewrite, true);
    }
    let message = "leading and trailing blanks count here: remove them unless they are part of the value";
    look.say("WX0232", Weight::Surprise, number, message);
}

fn time(
    look: &mut Look<'_, '_>,
    number: usize,
    attribute: &str,
    text: &str,
    mend: &dyn Fn(&Look<'_, '_>, Vec<u8>) -> Option<Filter>,
) {
    let controller = look.context.kind == ServerKind::Controller;
    if prepare(Rule::Time, text.as_bytes()).is_none() {
        let literal = date(text).and_then(|seconds| jiff::Timestamp::from_second(seconds).ok());
        let form = if controller { "%Y%m%d%H%M%S.0Z" } else { "%Y%m%d%H%M%SZ" };
        let rewrite = literal.and_then(|at| mend(look, at.strftime(form).to_string().into_bytes()));
        look.say_with("WX0220", Weight::Wrong, number, format!("{attribute} holds times like 20261125091500.0Z: \"{text}\" is not one, so this matches nobody"), rewrite, false);
    } else if controller && !text.contains('.') {
        let rewrite =
            text.strip_suffix('Z').and_then(|digits| mend(look, format!("{digits}.0Z").into_bytes()));
        look.say_with("WX0220", Weight::Surprise, number, "some domain controllers ignore a time without .0, and then everything matches: write .0 before the Z", rewrite, true);
    }
}

/// A date in a common notation, as seconds from 1970 to midnight UTC.
fn date(text: &str) -> Option<i64> {
    let text = text.trim();
    let day = ["%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%Y/%m/%d"]
        .iter()
        .find_map(|form| Date::strptime(form, text).ok());
    let day =
        day.or_else(|| text.split_once('T').and_then(|(day, _)| Date::strptime("%Y-%m-%d", day).ok()))?;
    Some(day.to_zoned(TimeZone::UTC).ok()?.timestamp().as_second())
}

/// The bytes of a SID in text form ([MS-DTYP] §2.4.2.2).
fn sid_bytes(text: &str) -> Option<Vec<u8>> {
    let mut parts = text.strip_prefix("S-1-")?.split('-');
    let authority: u64 = parts.next()?.parse().ok()?;
    let parts: Vec<u32> = parts.map(|part| part.parse().ok()).collect::<Option<_>>()?;
    let mut bytes = vec![1, u8::try_from(parts.len()).ok().filter(|count| *count <= 15)?];
    bytes.extend(authority.to_be_bytes().get(2..)?);
    bytes.extend(parts.iter().flat_map(|part| part.to_le_bytes()));
    Some(bytes)
}

/// The same comparison with another value.
fn valued(item: &Item, new: Vec<u8>) -> Item {
    let mut item = item.clone();
    match &mut item {
        Item::Equal { value, .. }
        | Item::GreaterOrEqual { value, .. }
        | Item::LessOrEqual { value, .. }
        | Item::Approx { value, .. }
        | Item::Extensible { value, .. } => *value = new.into(),
        Item::Substrings { .. } | Item::Present { .. } => {}
    }
    item
}
