//! The controls that go with a search.

use crate::message::{Control, Octets};
use crate::{ProtocolError, ProtocolErrorKind};
use rasn::prelude::*;

/// Simple paged results (RFC 2696).
pub const PAGED_RESULTS: &str = "1.2.840.113556.1.4.319";

/// Keeps the search inside one domain of a domain controller: no references to other domains.
pub const DOMAIN_SCOPE: &str = "1.2.840.113556.1.4.1339";

#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
struct PagedValue {
    size: u32,
    cookie: OctetString,
}

/// Asks for a page of at most `size` entries, after the page that `cookie` ends.
#[must_use]
pub fn paged(size: u32, cookie: &[u8]) -> Control {
    let value = PagedValue { size, cookie: Octets::from_slice(cookie) };
    Control {
        oid: Octets::from_static(PAGED_RESULTS.as_bytes()),
        critical: true,
        value: rasn::ber::encode(&value).ok().map(Octets::from),
    }
}

/// Keeps the search inside one domain.
#[must_use]
pub fn domain_scope() -> Control {
    Control { oid: Octets::from_static(DOMAIN_SCOPE.as_bytes()), critical: false, value: None }
}

/// The page size and cookie in a message's controls; none if there is no such control.
///
/// # Errors
/// [`ProtocolErrorKind::Malformed`] for a control without a sound value: taken for "no further
/// page", it would make half a reading look whole.
pub fn paged_value(controls: Option<&[Control]>) -> Result<Option<(u32, Octets)>, ProtocolError> {
    let paged = |control: &&Control| control.oid == PAGED_RESULTS.as_bytes();
    let Some(control) = controls.unwrap_or_default().iter().find(paged) else { return Ok(None) };
    let value = control.value.as_ref().and_then(|value| rasn::ber::decode::<PagedValue>(value).ok());
    let value = value.ok_or(ProtocolErrorKind::Malformed)?;
    Ok(Some((value.size, value.cookie)))
}
