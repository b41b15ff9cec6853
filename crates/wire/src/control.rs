//! The controls that go with a search.

use crate::message::{Control, Octets};
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

/// The page size and cookie in a message's controls, if there is such a control and it is sound.
#[must_use]
pub fn paged_value(controls: Option<&[Control]>) -> Option<(u32, Octets)> {
    let control = controls?.iter().find(|control| control.oid == PAGED_RESULTS.as_bytes())?;
    let value: PagedValue = rasn::ber::decode(control.value.as_ref()?).ok()?;
    Some((value.size, value.cookie))
}
