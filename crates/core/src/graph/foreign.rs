//! Members of a domain controller's groups that stand for identities outside the domain ([MS-ADTS] §6.1.1.4.10): an
//! account or a group of another domain, or everybody who has signed in.

use crate::ldap::name::Dn;

/// The identity behind such a member.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Foreign {
    /// An account or a group of another domain, by its SID. It contains nobody of this domain.
    OtherDomain(String),
    /// A part of the system, not people; by its SID.
    System(String),
    /// People whom no list shows: the SID, and its usual name if known.
    Unlisted(String, Option<&'static str>),
}

/// SIDs that are the same in every domain ([MS-DTYP] §2.4.2.4) and stand for people.
const PEOPLE: [(&str, &str); 6] = [
    ("S-1-1-0", "Everyone"),
    ("S-1-2-0", "Local"),
    ("S-1-5-2", "Network"),
    ("S-1-5-4", "Interactive"),
    ("S-1-5-11", "Authenticated Users"),
    ("S-1-5-15", "This Organization"),
];

/// Well-known SIDs that stand for no people: the null SID, controllers, services.
const SYSTEM: [&str; 7] = ["S-1-0-0", "S-1-5-7", "S-1-5-9", "S-1-5-17", "S-1-5-18", "S-1-5-19", "S-1-5-20"];

impl Foreign {
    /// The identity behind a name; `None` for an entry of the domain itself, or a text that is not a name.
    #[must_use]
    pub fn of(name: &str) -> Option<Self> {
        // Most names need not be parsed: a SID begins with S, unless it is escaped or in the # form.
        let own = name.split_once('=')?.1.trim_start();
        if !own.starts_with(['S', 's', '\\', '#']) {
            return None;
        }
        let dn = Dn::parse(name).ok()?;
        let mut parts = dn.rdns().iter().map(|rdn| rdn.avas().first().map(|ava| ava.value.as_slice()));
        let (sid, place) = (parts.next()??, parts.next()??);
        let sid = std::str::from_utf8(sid).ok()?.to_ascii_uppercase();
        let is_sid = sid.strip_prefix("S-1-").is_some_and(|rest| {
            rest.split('-').all(|part| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()))
        });
        if !is_sid || !place.eq_ignore_ascii_case(b"ForeignSecurityPrincipals") {
            return None;
        }
        if sid.starts_with("S-1-5-21-") {
            return Some(Self::OtherDomain(sid));
        }
        if SYSTEM.contains(&sid.as_str()) {
            return Some(Self::System(sid));
        }
        let called = PEOPLE.iter().find(|(known, _)| *known == sid).map(|(_, name)| *name);
        Some(Self::Unlisted(sid, called))
    }

    /// The SID.
    #[must_use]
    pub fn sid(&self) -> &str {
        match self {
            Self::OtherDomain(sid) | Self::System(sid) | Self::Unlisted(sid, _) => sid,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whom_a_foreign_member_stands_for() {
        let sid = |text: &str| text.to_owned();
        for (dn, expected) in [
            (
                "CN=S-1-5-21-1-2-3-1104,CN=ForeignSecurityPrincipals,DC=x",
                Some(Foreign::OtherDomain(sid("S-1-5-21-1-2-3-1104"))),
            ),
            (
                "cn=s-1-5-11,cn=foreignsecurityprincipals,DC=x",
                Some(Foreign::Unlisted(sid("S-1-5-11"), Some("Authenticated Users"))),
            ),
            ("CN=S-1-5-18,CN=ForeignSecurityPrincipals,DC=x", Some(Foreign::System(sid("S-1-5-18")))),
            ("CN=S-1-99-1,CN=ForeignSecurityPrincipals,DC=x", Some(Foreign::Unlisted(sid("S-1-99-1"), None))),
            ("CN=S-1-5-11,CN=Users,DC=x", None),
            (
                r"CN=\53-1-5-4,CN=Foreign\53ecurityPrincipals,DC=x",
                Some(Foreign::Unlisted(sid("S-1-5-4"), Some("Interactive"))),
            ),
            (
                "cn= S-1-5-4, cn=ForeignSecurityPrincipals, dc=x",
                Some(Foreign::Unlisted(sid("S-1-5-4"), Some("Interactive"))),
            ),
            ("S-1-5-11", None),
            ("CN=S-1-x,CN=ForeignSecurityPrincipals,DC=x", None),
            ("CN=Ada,CN=ForeignSecurityPrincipals,DC=x", None),
            ("CN=Ada", None),
        ] {
            assert_eq!(Foreign::of(dn), expected, "{dn}");
        }
    }
}
