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

/// SIDs that are the same in every domain ([MS-DTYP] §2.4.2.4), with the name of their entry in the configuration
/// partition.
const WELL_KNOWN: [(&str, &str); 22] = [
    ("S-1-1-0", "Everyone"),
    ("S-1-2-0", "Local"),
    ("S-1-2-1", "Console Logon"),
    ("S-1-3-0", "Creator Owner"),
    ("S-1-3-1", "Creator Group"),
    ("S-1-3-4", "Owner Rights"),
    ("S-1-5-1", "Dialup"),
    ("S-1-5-2", "Network"),
    ("S-1-5-3", "Batch"),
    ("S-1-5-4", "Interactive"),
    ("S-1-5-6", "Service"),
    ("S-1-5-7", "Anonymous Logon"),
    ("S-1-5-9", "Enterprise Domain Controllers"),
    ("S-1-5-10", "Self"),
    ("S-1-5-11", "Authenticated Users"),
    ("S-1-5-13", "Terminal Server User"),
    ("S-1-5-14", "Remote Interactive Logon"),
    ("S-1-5-15", "This Organization"),
    ("S-1-5-17", "IUSR"),
    ("S-1-5-18", "System"),
    ("S-1-5-19", "Local Service"),
    ("S-1-5-20", "Network Service"),
];

/// The container of these entries; elsewhere they are called by their SID.
const PRINCIPALS: &str = "WellKnown Security Principals";

/// Well-known SIDs that stand for no people: the null SID, controllers, services.
const SYSTEM: [&str; 7] = ["S-1-0-0", "S-1-5-7", "S-1-5-9", "S-1-5-17", "S-1-5-18", "S-1-5-19", "S-1-5-20"];

impl Foreign {
    /// The identity behind a name; `None` for an entry of the domain itself, or a text that is not a name.
    #[must_use]
    pub fn of(name: &str) -> Option<Self> {
        // Most names need not be parsed: a SID begins with S, unless it is escaped or in the # form.
        let own = name.split_once('=')?.1.trim_start();
        let is_principal =
            || own.split_once('=').is_some_and(|(_, place)| starts_with(place.trim_start(), PRINCIPALS));
        if !own.starts_with(['S', 's', '\\', '#']) && !is_principal() {
            return None;
        }
        let dn = Dn::parse(name).ok()?;
        let mut parts = dn.rdns().iter().map(|rdn| rdn.avas().first().map(|ava| ava.value.as_slice()));
        let (sid, place) = (parts.next()??, parts.next()??);
        let own = std::str::from_utf8(sid).ok()?;
        if place.eq_ignore_ascii_case(PRINCIPALS.as_bytes()) {
            let known = WELL_KNOWN.iter().find(|(_, name)| name.eq_ignore_ascii_case(own));
            return Some(
                known.map_or_else(|| Self::Unlisted(own.to_owned(), None), |(sid, _)| Self::well_known(sid)),
            );
        }
        let sid = own.to_ascii_uppercase();
        let is_sid = sid.strip_prefix("S-1-").is_some_and(|rest| {
            rest.split('-').all(|part| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()))
        });
        if !is_sid || !place.eq_ignore_ascii_case(b"ForeignSecurityPrincipals") {
            return None;
        }
        if sid.starts_with("S-1-5-21-") {
            return Some(Self::OtherDomain(sid));
        }
        Some(Self::well_known(&sid))
    }

    /// A SID that is the same in every domain.
    fn well_known(sid: &str) -> Self {
        if SYSTEM.contains(&sid) {
            return Self::System(sid.to_owned());
        }
        let called = WELL_KNOWN.iter().find(|(known, _)| *known == sid).map(|(_, name)| *name);
        Self::Unlisted(sid.to_owned(), called)
    }

    /// The SID.
    #[must_use]
    pub fn sid(&self) -> &str {
        match self {
            Self::OtherDomain(sid) | Self::System(sid) | Self::Unlisted(sid, _) => sid,
        }
    }
}

fn starts_with(text: &str, start: &str) -> bool {
    text.get(..start.len()).is_some_and(|own| own.eq_ignore_ascii_case(start))
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
                "CN=Authenticated Users,CN=WellKnown Security Principals,CN=Configuration,DC=x",
                Some(Foreign::Unlisted(sid("S-1-5-11"), Some("Authenticated Users"))),
            ),
            (
                "cn=everyone, cn=wellknown security principals,CN=Configuration,DC=x",
                Some(Foreign::Unlisted(sid("S-1-1-0"), Some("Everyone"))),
            ),
            (
                "CN=Local Service,CN=WellKnown Security Principals,CN=Configuration,DC=x",
                Some(Foreign::System(sid("S-1-5-19"))),
            ),
            (
                "CN=Of Tomorrow,CN=WellKnown Security Principals,CN=Configuration,DC=x",
                Some(Foreign::Unlisted(sid("Of Tomorrow"), None)),
            ),
            ("CN=Everyone,OU=Groups,DC=x", None),
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
