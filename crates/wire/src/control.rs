//! The controls and extended operations that this job needs.

use crate::message::{Control, Octets, ResultCode};
use crate::{ProtocolError, ProtocolErrorKind};
use rasn::prelude::*;

/// Simple paged results (RFC 2696).
pub const PAGED_RESULTS: &str = "1.2.840.113556.1.4.319";

/// Keeps a search within one domain of a domain controller: no references to other domains.
pub const DOMAIN_SCOPE: &str = "1.2.840.113556.1.4.1339";

/// Reports the password's state with a bind (draft-behera-ldap-password-policy-10 §6).
pub const PASSWORD_POLICY: &str = "1.3.6.1.4.1.42.2.27.8.5.1";

/// Starts TLS on the connection (RFC 4511 §4.14).
pub const START_TLS: &str = "1.3.6.1.4.1.1466.20037";

/// Returns the identity that the server assumes (RFC 4532).
pub const WHO_AM_I: &str = "1.3.6.1.4.1.4203.1.11.3";

#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
struct PagedValue {
    size: u32,
    cookie: OctetString,
}

/// Requests a page of at most `size` entries, after the page that `cookie` ends.
#[must_use]
pub fn paged(size: u32, cookie: &[u8]) -> Control {
    let value = PagedValue { size, cookie: Octets::from_slice(cookie) };
    Control {
        oid: Octets::from_static(PAGED_RESULTS.as_bytes()),
        critical: true,
        value: rasn::ber::encode(&value).ok().map(Octets::from),
    }
}

/// Keeps a search within one domain.
#[must_use]
pub fn domain_scope() -> Control {
    Control { oid: Octets::from_static(DOMAIN_SCOPE.as_bytes()), critical: false, value: None }
}

/// The page size and cookie in a message's controls; `None` without such a control.
///
/// # Errors
/// [`ProtocolErrorKind::Malformed`] for a control without a valid value: taken for "last page", it would make a
/// partial reading look whole.
/// page", it would make half a reading look whole.
pub fn paged_value(controls: Option<&[Control]>) -> Result<Option<(u32, Octets)>, ProtocolError> {
    let paged = |control: &&Control| control.oid == PAGED_RESULTS.as_bytes();
    let Some(control) = controls.unwrap_or_default().iter().find(paged) else { return Ok(None) };
    let value = control.value.as_ref().and_then(|value| rasn::ber::decode::<PagedValue>(value).ok());
    let value = value.ok_or(ProtocolErrorKind::Malformed)?;
    Ok(Some((value.size, value.cookie)))
}

/// Requests the password's state with a bind.
#[must_use]
pub fn password_policy() -> Control {
    Control { oid: Octets::from_static(PASSWORD_POLICY.as_bytes()), critical: false, value: None }
}

/// The state of the password just used.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PasswordState {
    /// Seconds until it expires.
    pub expires_in: Option<u32>,
    /// Binds left after it has expired.
    pub grace_left: Option<u32>,
    /// Why it was rejected: 0 expired, 1 locked, 2 must be changed; higher numbers concern changes.
    pub fault: Option<u32>,
}

#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
struct PolicyValue {
    #[rasn(tag(explicit(0)))]
    warning: Option<PolicyWarning>,
    #[rasn(tag(1))]
    error: Option<ResultCode>,
}

#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(choice)]
enum PolicyWarning {
    #[rasn(tag(0))]
    ExpiresIn(u32),
    #[rasn(tag(1))]
    GraceLeft(u32),
}

/// The password's state in the controls of a bind response; `None` without such a control.
#[must_use]
pub fn password_state(controls: &[Control]) -> Option<PasswordState> {
    let control = controls.iter().find(|control| control.oid == PASSWORD_POLICY.as_bytes())?;
    let value: PolicyValue = rasn::ber::decode(control.value.as_ref()?).ok()?;
    let (mut expires_in, mut grace_left) = (None, None);
    match value.warning {
        Some(PolicyWarning::ExpiresIn(seconds)) => expires_in = Some(seconds),
        Some(PolicyWarning::GraceLeft(left)) => grace_left = Some(left),
        None => {}
    }
    Some(PasswordState { expires_in, grace_left, fault: value.error.map(|error| error.0) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_passwords_state_is_read_from_the_drafts_own_forms() {
        let state = |expires_in, grace_left, fault| Some(PasswordState { expires_in, grace_left, fault });
        for (bytes, expected, why) in [
            (&[0x30, 0][..], state(None, None, None), "nothing to tell"),
            (&[0x30, 5, 0xa0, 3, 0x80, 1, 90], state(Some(90), None, None), "90 seconds left"),
            (&[0x30, 5, 0xa0, 3, 0x81, 1, 2], state(None, Some(2), None), "two grace binds left"),
            (&[0x30, 3, 0x81, 1, 2], state(None, None, Some(2)), "must be changed"),
            (&[0x30, 3, 0x81, 1, 77], state(None, None, Some(77)), "a number nobody knows"),
            (&[0x30, 9], None, "cut off"),
            (&[], None, "no bytes"),
        ] {
            let value = Some(Octets::from_slice(bytes));
            let control = Control { value, ..password_policy() };
            assert_eq!(password_state(&[control]), expected, "{why}");
        }
    }
}
