//! Values in readable form: identifiers, flags and times that directories store as bytes or numbers.
//!
//! Sources: RFC 4517 §3.3 (times), RFC 4122 (UUIDs); for a domain controller's values [MS-DTYP]
//! §2.4.2 (SIDs), §2.3.3 (times) and [MS-ADTS] §2.2.16 (userAccountControl), §2.2.12 (groupType).

use crate::ldap::name::{self, Dn};
use crate::ldap::schema::{self, Rule, Schema};
use jiff::civil::DateTime;
use jiff::tz::Offset;
use jiff::{SignedDuration, Timestamp};
use std::fmt::Write as _;

/// Seconds from 1601, the epoch of a domain controller, to 1970.
const TO_UNIX: i64 = 11_644_473_600;
/// Maximum bytes of a value shown.
const SHOWN: usize = 24;

/// A domain controller's time, stored as a count of 100 ns since 1601.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileTime {
    /// No limit: 0, or the largest number.
    Never,
    /// A point in time.
    At(Timestamp),
}

impl FileTime {
    /// Parses the decimal form; `None` if it is not a number, or outside the calendar.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        match text.parse().ok()? {
            0 | i64::MAX => Some(Self::Never),
            ticks => Timestamp::from_second(ticks.div_euclid(10_000_000) - TO_UNIX).ok().map(Self::At),
        }
    }
}

/// Parses a generalized time (RFC 4517 §3.3.13): `20261125091500Z`, with an optional fraction or offset.
#[must_use]
pub fn generalized_time(text: &str) -> Option<Timestamp> {
    // The prepared form is in UTC and has every field.
    let prepared = schema::prepare(Rule::Time, text.as_bytes())?;
    let digits = std::str::from_utf8(prepared.get(..14)?).ok()?;
    let time = DateTime::strptime("%Y%m%d%H%M%S", digits).ok()?;
    Offset::UTC.to_timestamp(time).ok()
}

/// A security identifier (SID) as `S-1-5-…`.
#[must_use]
pub fn sid(bytes: &[u8]) -> Option<String> {
    let (head, rest) = bytes.split_at_checked(8)?;
    let (revision, count) = (*head.first()?, usize::from(*head.get(1)?));
    if rest.len() != count * 4 {
        return None;
    }
    let authority = head.get(2..)?.iter().fold(0_u64, |sum, byte| (sum << 8) | u64::from(*byte));
    let mut text = format!("S-{revision}-{authority}");
    for part in rest.chunks_exact(4) {
        let _ = write!(text, "-{}", u32::from_le_bytes(part.try_into().ok()?));
    }
    Some(text)
}

/// The last part of a SID, which identifies an account or group within its domain.
#[must_use]
pub fn relative_id(sid: &[u8]) -> Option<u32> {
    let last = sid.last_chunk::<4>().filter(|_| sid.len() >= 12)?;
    Some(u32::from_le_bytes(*last))
}

/// The part of a SID that identifies the domain: all but the last number.
#[must_use]
pub fn domain_of(sid: &[u8]) -> Option<&[u8]> {
    sid.get(..sid.len().checked_sub(4)?).filter(|domain| domain.len() >= 8)
}

const ACCOUNT_FLAGS: [(u32, &str); 15] = [
    (0x2, "disabled"),
    (0x10, "locked"),
    (0x20, "no password needed"),
    (0x40, "cannot change its password"),
    (0x80, "password kept readable"),
    (0x200, "normal account"),
    (0x800, "trust account"),
    (0x1000, "workstation or server"),
    (0x2000, "domain controller"),
    (0x10000, "password never expires"),
    (0x40000, "smart card needed"),
    (0x80000, "trusted for delegation"),
    (0x10_0000, "not to be delegated"),
    (0x40_0000, "no pre-authentication"),
    (0x80_0000, "password expired"),
];

const GROUP_FLAGS: [(u32, &str); 5] = [
    (0x1, "made by the system"),
    (0x2, "global"),
    (0x4, "domain local"),
    (0x8, "universal"),
    (0x8000_0000, "security group"),
];

fn flags(text: &str, known: &[(u32, &str)]) -> Option<String> {
    let number: i64 = text.parse().ok()?;
    // Flags are stored as a signed 32-bit number.
    let bits = u32::try_from(number & 0xffff_ffff).ok()?;
    let named: Vec<&str> = known.iter().filter(|(bit, _)| bits & bit != 0).map(|(_, name)| *name).collect();
    Some(if named.is_empty() { text.to_owned() } else { format!("{text} ({})", named.join(", ")) })
}

/// A value in readable form. Text is returned as it is: escaping it is up to the caller.
#[must_use]
pub fn readable(attribute: &str, value: &[u8]) -> String {
    let base = attribute.split(';').next().unwrap_or(attribute).to_ascii_lowercase();
    let text = std::str::from_utf8(value).ok().filter(|text| !text.contains('\0'));
    let special = match (base.as_str(), text) {
        ("objectguid" | "msexchmailboxguid" | "ms-ds-consistencyguid", _) => {
            value.try_into().ok().map(|bytes| uuid::Uuid::from_bytes_le(bytes).to_string())
        }
        ("objectsid" | "sidhistory" | "tokengroups" | "securityidentifier", _) => sid(value),
        ("useraccountcontrol" | "msds-user-account-control-computed", Some(text)) => {
            flags(text, &ACCOUNT_FLAGS)
        }
        ("grouptype", Some(text)) => flags(text, &GROUP_FLAGS),
        ("pwdlastset", Some("0")) => Some("0 (must be changed at the next sign-in)".to_owned()),
        (
            "accountexpires"
            | "pwdlastset"
            | "lastlogon"
            | "lastlogontimestamp"
            | "lastlogoff"
            | "lockouttime"
            | "badpasswordtime"
            | "msds-userpasswordexpirytimecomputed",
            Some(text),
        ) => FileTime::parse(text).map(|time| match time {
            FileTime::Never => format!("{text} (never)"),
            FileTime::At(at) => format!("{text} ({})", at.strftime("%Y-%m-%d %H:%M UTC")),
        }),
        ("maxpwdage" | "minpwdage" | "lockoutduration", Some(text)) => {
            text.parse::<i64>().ok().filter(|ticks| *ticks < 0 && *ticks > i64::MIN).map(|ticks| {
                format!("{text} ({} h)", SignedDuration::from_secs(-ticks / 10_000_000).as_hours())
            })
        }
        (_, Some(text)) => match Schema::builtin().find(&base).and_then(|known| known.rule) {
            Some(Rule::Time) => {
                generalized_time(text).map(|at| format!("{text} ({})", at.strftime("%Y-%m-%d %H:%M UTC")))
            }
            Some(Rule::Name) => Dn::parse(text).ok().map(|_| name::short(text)),
            _ => None,
        },
        _ => None,
    };
    special.or_else(|| text.map(str::to_owned)).unwrap_or_else(|| bytes(value))
}

fn bytes(value: &[u8]) -> String {
    let mut text = format!("{} bytes:", value.len());
    for byte in value.iter().take(SHOWN) {
        let _ = write!(text, " {byte:02x}");
    }
    if value.len() > SHOWN {
        text.push_str(" …");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn values_are_shown_as_people_read_them() {
        let sid_bytes = [1, 5, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0, 1, 0, 0, 0, 2, 0, 0, 0, 3, 0, 0, 0, 0, 2, 0, 0];
        let guid = [0x52, 0x0a, 0x1c, 0x7f, 0x34, 0x12, 0x78, 0x56, 0x80, 1, 2, 3, 4, 5, 6, 7];
        for (attribute, value, shown) in [
            ("objectGUID", &guid[..], "7f1c0a52-1234-5678-8001-020304050607"),
            ("objectGUID", b"short", "short"),
            ("objectSid", &sid_bytes, "S-1-5-21-1-2-3-512"),
            ("objectSid", &[1, 5, 0], "3 bytes: 01 05 00"),
            ("userAccountControl", b"514", "514 (disabled, normal account)"),
            ("userAccountControl", b"0", "0"),
            ("groupType", b"-2147483646", "-2147483646 (global, security group)"),
            ("accountExpires", b"9223372036854775807", "9223372036854775807 (never)"),
            ("pwdLastSet", b"134085357000000000", "134085357000000000 (2025-11-25 09:15 UTC)"),
            ("whenCreated", b"20240328090000.0Z", "20240328090000.0Z (2024-03-28 09:00 UTC)"),
            ("whenCreated", b"soon", "soon"),
            ("manager", b"CN=Ibbotson\\, Ada,OU=Botany,DC=quillmere,DC=example", "Ibbotson, Ada"),
            ("mail;lang-en", b"ada@quillmere.example", "ada@quillmere.example"),
            (
                "jpegPhoto",
                &[0xff; 30],
                "30 bytes: ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff ff …",
            ),
        ] {
            assert_eq!(readable(attribute, value), shown, "{attribute}");
        }
        assert_eq!(relative_id(&sid_bytes), Some(512));
    }

    #[test]
    fn generalized_times_are_read_in_every_form() {
        for (text, expected, why) in [
            ("20261125091500Z", Some("2026-11-25T09:15:00Z"), "the usual form"),
            ("202611250915Z", Some("2026-11-25T09:15:00Z"), "no seconds"),
            ("2026112509Z", Some("2026-11-25T09:00:00Z"), "hours alone"),
            ("20261125091500.5Z", Some("2026-11-25T09:15:00Z"), "a fraction"),
            ("20261125101500+0100", Some("2026-11-25T09:15:00Z"), "an offset"),
            ("20261125041500-05", Some("2026-11-25T09:15:00Z"), "an offset in hours"),
            ("20261125091500", None, "no zone"),
            ("20261325091500Z", None, "no such month"),
            ("Z", None, "no digits"),
            ("", None, "nothing"),
        ] {
            assert_eq!(generalized_time(text).map(|at| at.to_string()).as_deref(), expected, "{why}");
        }
    }

    proptest! {
        /// A server may keep anything anywhere.
        #[test]
        fn any_value_can_be_shown(
            attribute in "(objectGUID|objectSid|groupType|accountExpires|maxPwdAge|whenCreated|manager|cn)",
            value in proptest::collection::vec(any::<u8>(), 0..40),
            text in "[0-9.,+Z-]{0,24}",
        ) {
            let _ = readable(&attribute, &value);
            let _ = readable(&attribute, text.as_bytes());
            let _ = generalized_time(&text);
        }
    }
}
