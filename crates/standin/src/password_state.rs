//! The answers of servers other than domain controllers to a password: of OpenLDAP with its password policy, and of 389
//! Directory Server, as measured on both.

use crate::manner::Manner;
use webtaxon_core::ldap::entry::Entry;
use webtaxon_wire::control::PASSWORD_POLICY;
use webtaxon_wire::message::{Control, LdapResult, Octets};

/// The remark that a server adds to its answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum PasswordState {
    Locked,
    MustChange,
}

impl PasswordState {
    /// The control for it; OpenLDAP adds one only if it was asked for.
    pub(crate) fn control(self, manner: Manner, is_asked: bool) -> Option<Control> {
        // draft-behera-ldap-password-policy-10 §6.2: accountLocked (1), changeAfterReset (2).
        let fault = match self {
            Self::Locked => 1,
            Self::MustChange => 2,
        };
        let policy = [0x30, 3, 0x81, 1, fault];
        match manner {
            // draft-vchu-ldap-pwd-policy-00 §2
            Manner::Dirsrv => (self == Self::MustChange).then(|| control("2.16.840.1.113730.3.4.4", b"0")),
            _ => is_asked.then(|| control(PASSWORD_POLICY, &policy)),
        }
    }
}

fn control(oid: &'static str, value: &[u8]) -> Control {
    let (oid, value) = (Octets::from_static(oid.as_bytes()), Some(Octets::from_slice(value)));
    Control { oid, value, ..webtaxon_wire::control::password_policy() }
}

/// The answer to a password.
pub(crate) fn answer(
    entry: Entry<'_>,
    password: &[u8],
    is_dirsrv: bool,
) -> (LdapResult, Option<PasswordState>) {
    let is_right = entry.values("userPassword").any(|value| value == password);
    let is = |attribute: &str| entry.text(attribute).is_some_and(|value| value.eq_ignore_ascii_case("true"));
    if is_dirsrv && is_right && is("nsAccountLock") {
        return (LdapResult::new(53, "Account inactivated. Contact system administrator."), None);
    }
    if !is_dirsrv && entry.text("pwdAccountLockedTime").is_some() {
        return (LdapResult::new(49, ""), Some(PasswordState::Locked));
    }
    if !is_right {
        return (LdapResult::new(49, ""), None);
    }
    (LdapResult::new(0, ""), is("pwdReset").then_some(PasswordState::MustChange))
}
