//! Values of options that are no plain text or number.

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::path::PathBuf;
use std::time::Duration;
use webtaxon::model::ldap::name::Dn;

/// A duration: a number with a unit.
pub(crate) fn time(text: &str) -> Result<Duration, String> {
    let parsed = text.parse::<jiff::SignedDuration>().ok().and_then(|span| Duration::try_from(span).ok());
    parsed.ok_or_else(|| "write a number with a unit, like 30s or 2m".to_owned())
}

/// A file, and the number of searches before its changes are made.
pub(crate) fn later(text: &str) -> Result<(PathBuf, u64), String> {
    let parsed =
        text.rsplit_once('@').and_then(|(file, searches)| Some((file.into(), searches.parse().ok()?)));
    parsed.ok_or_else(|| "write a file and a number of searches, like moved.ldif@40".to_owned())
}

/// An entry's name (RFC 4514), as written.
pub(crate) fn name(text: &str) -> Result<String, String> {
    Dn::parse(text).map(|_| text.to_owned()).map_err(|error| error.to_string())
}

/// A day, or a time back from now.
#[derive(Clone, Copy, Debug)]
pub(crate) enum When {
    Day(Date),
    Ago(Duration),
}

impl When {
    /// The time itself.
    pub(crate) fn since(self, now: Timestamp) -> Timestamp {
        match self {
            Self::Day(day) => day.to_zoned(TimeZone::system()).map_or(Timestamp::MIN, |day| day.timestamp()),
            Self::Ago(time) => now.checked_sub(time).unwrap_or(Timestamp::MIN),
        }
    }
}

/// A day like 2026-12-01, or a time back from now like 2h.
pub(crate) fn when(text: &str) -> Result<When, String> {
    let day = text.parse().map(When::Day).ok();
    day.or_else(|| time(text).ok().map(When::Ago))
        .ok_or_else(|| "write a day like 2026-12-01, or a time back from now like 2h".to_owned())
}
