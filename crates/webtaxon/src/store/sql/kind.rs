//! Declared types, and what their columns hold.

use super::number::Number;
use smol_str::SmolStr;
use std::net::IpAddr;
use webtaxon_core::account::Form;

/// The kind of values of a column, as far as its declaration says.
#[derive(Clone, Debug, PartialEq)]
#[cfg_attr(not(feature = "mysql"), allow(dead_code))]
pub(in super::super) enum Kind {
    /// Text of at most this many characters.
    Text(Option<usize>),
    /// A whole number between two limits.
    Integer(i128, i128),
    /// A number with at most this many digits, and as many of them behind the point.
    Decimal(Option<(usize, usize)>),
    /// Yes or no, as 1 and 0.
    Boolean,
    /// A number with exactly this many places, and at most this many digits.
    Fixed(usize, usize),
    /// Text whose blanks at the end are not kept.
    Trimmed(usize),
    /// Text of at most this many bytes.
    Bytes(usize),
    /// One of these words, in any case.
    Word(Vec<String>),
    /// A date.
    Date,
    /// A date and a time in UTC, with this many digits of a second.
    Moment(usize),
    /// A UUID.
    Uuid,
    /// An address of the internet; true if it has 16 bytes.
    Address(bool),
    /// Anything else.
    Any,
}

impl Kind {
    /// A declared type by the rules of SQLite: what its name contains decides
    /// (<https://www.sqlite.org/datatype3.html>, section 3.1).
    #[cfg(feature = "sqlite")]
    pub(in super::super) fn of_sqlite(declared: &str) -> Self {
        let upper = declared.to_uppercase();
        let has = |part: &str| upper.contains(part);
        match () {
            () if has("BOOL") => Self::Boolean,
            () if has("INT") && !has("POINT") => Self::Integer(i64::MIN.into(), i64::MAX.into()),
            () if has("CHAR") => Self::Text(sizes(declared).map(|(most, _)| most)),
            () if has("CLOB") || has("TEXT") => Self::Text(None),
            () if has("REAL") || has("FLOA") || has("DOUB") => Self::Decimal(None),
            () if has("NUMERIC") || has("DECIMAL") => Self::Decimal(sizes(declared)),
            () => Self::Any,
        }
    }

    /// A declared type of MySQL or MariaDB.
    #[cfg(feature = "mysql")]
    pub(in super::super) fn of_mysql(declared: &str) -> Self {
        let name = declared.split(['(', ' ']).next().unwrap_or_default();
        let size = sizes(declared).map(|(size, _)| size);
        let whole = |bits: u32| {
            let half = 1_i128 << (bits - 1);
            if declared.contains("unsigned") {
                Self::Integer(0, 2 * half - 1)
            } else {
                Self::Integer(-half, half - 1)
            }
        };
        match name {
            "tinyint" if size == Some(1) => Self::Boolean,
            "tinyint" => whole(8),
            "smallint" => whole(16),
            "mediumint" => whole(24),
            "int" | "integer" => whole(32),
            "bigint" => whole(64),
            "decimal" | "numeric" => {
                let (digits, places) = sizes(declared).unwrap_or((10, 0));
                Self::Fixed(digits, places)
            }
            "float" | "double" => Self::Decimal(None),
            "varchar" => Self::Text(size),
            "char" => Self::Trimmed(size.unwrap_or(1)),
            "tinytext" => Self::Bytes(255),
            "text" => Self::Bytes(65_535),
            "mediumtext" => Self::Bytes(16_777_215),
            "enum" => Self::Word(words(declared)),
            "date" => Self::Date,
            "datetime" | "timestamp" => Self::Moment(size.unwrap_or(0)),
            "uuid" => Self::Uuid,
            "inet4" | "inet6" => Self::Address(name == "inet6"),
            _ => Self::Any,
        }
    }

    /// The form of a value; `None` if it is kept as it is, as far as the declaration tells.
    pub(in super::super) fn form(&self, text: &str, declared: &str) -> Option<Form> {
        match self.kept(text, declared) {
            Ok(kept) => Some(Form::As(kept?)),
            Err(why) => Some(Form::Unfit(why)),
        }
    }

    /// The value as it is kept; `None` if as it is, and an error in words if not at all.
    fn kept(&self, text: &str, declared: &str) -> Result<Option<SmolStr>, String> {
        match self {
            Self::Any => Ok(None),
            Self::Text(most) => short(text, *most, declared).map(|()| None),
            Self::Trimmed(most) => {
                short(text, Some(*most), declared).map(|()| Some(text.trim_end_matches(' ').into()))
            }
            Self::Bytes(most) if text.len() > *most => {
                Err(format!("has {} bytes, and {declared} holds {most}", text.len()))
            }
            Self::Bytes(_) => Ok(None),
            Self::Word(words) => {
                let same = words.iter().find(|word| word.to_lowercase() == text.trim().to_lowercase());
                same.map(|word| Some(word.into())).ok_or_else(|| format!("is none of {}", words.join(", ")))
            }
            Self::Boolean => match text.trim().to_ascii_lowercase().as_str() {
                "1" | "true" | "t" | "yes" | "y" | "on" => Ok(Some("1".into())),
                "0" | "false" | "f" | "no" | "n" | "off" => Ok(Some("0".into())),
                _ => Err("is neither true nor false".to_owned()),
            },
            Self::Integer(least, most) => {
                let number = Number::read(text).filter(|number| number.places.is_empty());
                let number = number.ok_or("is not a whole number")?;
                match number.print().parse::<i128>() {
                    Ok(value) if (*least..=*most).contains(&value) => Ok(Some(number.print())),
                    _ => Err(format!("is out of the range of {declared}")),
                }
            }
            Self::Decimal(sizes) => sized(text, *sizes, declared).map(|_| None),
            Self::Fixed(digits, places) => {
                sized(text, Some((*digits, *places)), declared).map(|number| Some(number.fixed(*places)))
            }
            Self::Date => match moment(text).ok_or("is not a date")? {
                moment if moment.time() == jiff::civil::Time::midnight() => {
                    Ok(Some(moment.date().to_string().into()))
                }
                _ => Err("has a time, which a date would lose".to_owned()),
            },
            Self::Moment(places) => printed(text, *places, declared).map(Some),
            Self::Uuid => uuid(text).map(Some).ok_or_else(|| "is not a UUID".to_owned()),
            Self::Address(is_long) => match (text.trim().parse::<IpAddr>(), is_long) {
                (Ok(IpAddr::V4(address)), true) => Ok(Some(address.to_ipv6_mapped().to_string().into())),
                (Ok(address), _) if address.is_ipv6() == *is_long => Ok(Some(address.to_string().into())),
                _ => Err(format!("is not an address of the kind {declared}")),
            },
        }
    }
}

/// Whether a text has at most this many characters.
fn short(text: &str, most: Option<usize>, declared: &str) -> Result<(), String> {
    let count = text.chars().count();
    match most {
        Some(most) if count > most => Err(format!("has {count} characters, and {declared} holds {most}")),
        _ => Ok(()),
    }
}

/// A number of at most this many digits, and as many of them behind the point.
fn sized(text: &str, sizes: Option<(usize, usize)>, declared: &str) -> Result<Number, String> {
    let number = Number::read(text).ok_or("is not a number")?;
    match sizes {
        Some((digits, places)) if number.places.len() > places || number.digits.len() + places > digits => {
            Err(format!("does not fit into {declared}"))
        }
        _ => Ok(number),
    }
}

/// A date with a time in UTC, with this many digits of a second.
fn printed(text: &str, places: usize, declared: &str) -> Result<SmolStr, String> {
    let moment = moment(text).ok_or("is not a date with a time")?;
    let fraction = format!("{:09}", moment.subsec_nanosecond());
    let (kept, lost) = fraction.split_at_checked(places).unwrap_or((&fraction, ""));
    if lost.contains(|digit| digit != '0') {
        return Err(format!("has parts of a second, which {declared} would lose"));
    }
    let point = if kept.is_empty() { "" } else { "." };
    Ok(smol_str::format_smolstr!("{}{point}{kept}", moment.strftime("%Y-%m-%d %H:%M:%S")))
}

/// A UUID in its usual form.
fn uuid(text: &str) -> Option<SmolStr> {
    let digits: String = text.trim().trim_matches(['{', '}']).split('-').collect();
    let is_hex = digits.len() == 32 && digits.bytes().all(|byte| byte.is_ascii_hexdigit());
    let lower = digits.to_lowercase();
    let part = |from, to| lower.get(from..to).unwrap_or_default();
    let parts = [part(0, 8), part(8, 12), part(12, 16), part(16, 20), part(20, 32)];
    is_hex.then(|| parts.join("-").into())
}

/// The words of an enumeration.
#[cfg(feature = "mysql")]
fn words(declared: &str) -> Vec<String> {
    let inner =
        declared.split_once('(').and_then(|(_, rest)| rest.rsplit_once(')')).map_or("", |(inner, _)| inner);
    let inner = inner.trim().trim_start_matches('\'').trim_end_matches('\'');
    inner.split("','").map(|word| word.replace("''", "'")).collect()
}

/// A date, or a date with a time; with a zone, in UTC.
fn moment(text: &str) -> Option<jiff::civil::DateTime> {
    let text = text.trim();
    match text.parse::<jiff::Timestamp>() {
        Ok(moment) => Some(moment.to_zoned(jiff::tz::TimeZone::UTC).datetime()),
        Err(_) => text.parse::<jiff::civil::DateTime>().ok(),
    }
}

/// The numbers in the parentheses of a declared type.
fn sizes(declared: &str) -> Option<(usize, usize)> {
    let (_, inner) = declared.split_once('(')?;
    let mut sizes = inner.split_once(')')?.0.split(',').map(|size| size.trim().parse::<usize>().ok());
    Some((sizes.next()??, sizes.next().flatten().unwrap_or(0)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[cfg(feature = "sqlite")]
    fn what_a_declaration_cannot_hold_is_told() {
        let form = |declared: &str, text: &str| Kind::of_sqlite(declared).form(text, declared);
        for (declared, text, kept) in [
            ("VARCHAR(3)", "äöü", None),
            ("VARCHAR(3)", "äöüß", Some(None)),
            ("INTEGER", "007", Some(Some("7"))),
            ("INTEGER", "7.5", Some(None)),
            ("BIGINT", "9223372036854775808", Some(None)),
            ("BOOLEAN", "Yes", Some(Some("1"))),
            ("BOOLEAN", "maybe", Some(None)),
            ("DECIMAL(5,2)", "123.45", None),
            ("DECIMAL(5,2)", "1234.5", Some(None)),
            ("DECIMAL(5,2)", "1.234", Some(None)),
            ("DATETIME", "2026-12-01", None),
            ("TEXT", "anything", None),
        ] {
            let form = form(declared, text).map(|form| match form {
                Form::As(kept) => Some(kept.to_string()),
                _ => None,
            });
            let kept = kept.map(|kept| kept.map(str::to_owned));
            assert_eq!(form, kept, "{declared} {text}");
        }
    }

    #[test]
    #[cfg(feature = "mysql")]
    fn a_server_keeps_values_in_its_own_form() {
        for (declared, text, kept) in [
            ("int(11)", "007", Some("7")),
            ("int(10) unsigned", "-1", None),
            ("tinyint(1)", "Yes", Some("1")),
            ("decimal(8,2)", "10.5", Some("10.50")),
            ("decimal(8,2)", "10.505", None),
            ("char(5)", "ada  ", Some("ada")),
            ("enum('On','it''s off')", "IT'S OFF", Some("it's off")),
            ("enum('On','it''s off')", "x", None),
            ("date", "2026-12-01T00:00:00Z", Some("2026-12-01")),
            ("date", "2026-12-01T10:00:00Z", None),
            ("datetime(3)", "2026-12-01T10:00:00.5+02:00", Some("2026-12-01 08:00:00.500")),
            ("timestamp", "2026-12-01 10:00:00.5", None),
            ("uuid", "{A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11}", Some("a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11")),
            ("inet6", "10.0.0.1", Some("::ffff:10.0.0.1")),
            ("inet4", "::1", None),
        ] {
            let form = Kind::of_mysql(declared).form(text, declared);
            let form = match form {
                Some(Form::As(kept)) => Some(kept.to_string()),
                _ => None,
            };
            assert_eq!(form.as_deref(), kept, "{declared} {text}");
        }
    }
}
