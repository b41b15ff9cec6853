//! Values of options that are no plain text or number.

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
