//! Features of domain controllers ([MS-ADTS]): `tokenGroups`, references at the domain's root, name forms and
//! sub-codes of a bind.

use crate::directory::Directory;
use std::collections::{HashSet, VecDeque};
use std::time::{SystemTime, UNIX_EPOCH};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::value::{FileTime, sid};
use webtaxon_wire::message::LdapResult;

/// The entry that a bind name refers to: a DN, `user@domain`, `DOMAIN\user`, `<GUID=…>` or `<SID=…>`, but never
/// `user` alone.
pub(crate) fn named<'d>(directory: &'d Directory, name: &str) -> Option<Entry<'d>> {
    let is = |attribute: &str, wanted: &str, entry: Entry<'_>| {
        entry.text(attribute).is_some_and(|value| value.eq_ignore_ascii_case(wanted))
    };
    // A backslash in a DN escapes a character.
    let down_level = name.split_once('\\').filter(|(domain, _)| !domain.contains('='));
    if let Some((domain, user)) = down_level {
        let short = directory.first_label();
        return (short.is_some_and(|short| short.eq_ignore_ascii_case(domain)))
            .then(|| directory.entries().find(|entry| is("sAMAccountName", user, *entry)))?;
    }
    let inside = |kind: &str| {
        let start = name.get(..kind.len()).filter(|start| start.eq_ignore_ascii_case(kind));
        start.and_then(|_| name.get(kind.len()..)?.strip_suffix('>'))
    };
    if let Some(guid) = inside("<GUID=").and_then(|guid| uuid::Uuid::parse_str(guid).ok()) {
        return directory
            .entries()
            .find(|entry| entry.values("objectGUID").any(|value| value == guid.to_bytes_le()));
    }
    if let Some(wanted) = inside("<SID=") {
        return directory.entries().find(|entry| {
            entry.values("objectSid").filter_map(sid).any(|sid| sid.eq_ignore_ascii_case(wanted))
        });
    }
    if name.contains('@') {
        return directory.entries().find(|entry| is("userPrincipalName", name, *entry));
    }
    directory.at(&Dn::parse(name).ok()?)
}

/// The result of a bind, with the sub-code of a failure (§5.1.1.1; [MS-ERREF] §2.2).
pub(crate) fn bind(directory: &Directory, name: &str, password: &[u8]) -> LdapResult {
    let refused = |data: &str| {
        LdapResult::new(
            49,
            &format!(
                "80090308: LdapErr: DSID-0C0903A9, comment: AcceptSecurityContext error, data {data}, v1db1"
            ),
        )
    };
    let Some(entry) = named(directory, name) else { return refused("525") };
    let number =
        |attribute: &str| entry.text(attribute).and_then(|text| text.parse::<i64>().ok()).unwrap_or(0);
    if number("lockoutTime") > 0 {
        return refused("775");
    }
    if !entry.values("userPassword").any(|value| value == password) {
        return refused("52e");
    }
    let flags = number("userAccountControl");
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    let is_over = |attribute: &str| match entry.text(attribute).and_then(FileTime::parse) {
        Some(FileTime::At(at)) => u64::try_from(at.as_second()).is_ok_and(|end| end < now),
        _ => false,
    };
    let never = entry.values("logonHours").next().is_some_and(|hours| hours.iter().all(|hour| *hour == 0));
    let faults = [
        (never, "530"),
        (entry.text("userWorkstations").is_some_and(|list| !list.is_empty()), "531"),
        (flags & 0x80_0000 != 0, "532"),
        (flags & 2 != 0, "533"),
        (is_over("accountExpires"), "701"),
        (entry.text("pwdLastSet") == Some("0"), "773"),
    ];
    match faults.iter().find(|(is, _)| *is) {
        Some((_, data)) => refused(data),
        None => LdapResult::new(0, ""),
    }
}

/// The references returned by a search from the domain's root (§3.1.1.3.4.5).
pub(crate) fn references(directory: &Directory, base: &Dn) -> Vec<String> {
    let Some(top) = directory.top().filter(|top| top.key() == base.key()) else { return Vec::new() };
    let domain: Vec<String> = top.rdns().iter().map(webtaxon_core::ldap::name::Rdn::text).collect();
    let domain = domain.join(".");
    vec![
        format!("ldap://DomainDnsZones.{domain}/DC=DomainDnsZones,{top}"),
        format!("ldap://ForestDnsZones.{domain}/DC=ForestDnsZones,{top}"),
        format!("ldap://{domain}/CN=Configuration,{top}"),
    ]
}

impl Directory {
    /// `tokenGroups`: every group that contains an entry, directly, nested or as primary group (§3.1.1.4.5.19). Only
    /// returned by name and at base scope.
    pub(crate) fn token_groups(&self, entry: Entry<'_>) -> Vec<Vec<u8>> {
        let mut sids = Vec::new();
        let mut seen: HashSet<DnKey> = HashSet::new();
        let mut waiting: VecDeque<String> =
            entry.values("memberOf").filter_map(|group| String::from_utf8(group.to_vec()).ok()).collect();
        if let Some(primary) = entry.text("primaryGroupID").and_then(|id| id.parse::<u32>().ok()) {
            let is_primary = |group: &Entry<'_>| {
                let last = group.values("objectSid").next().and_then(webtaxon_core::ldap::value::relative_id);
                last == Some(primary)
            };
            waiting.extend(self.entries().find(is_primary).map(|group| group.dn().to_owned()));
        }
        while let Some(name) = waiting.pop_front() {
            let Ok(dn) = Dn::parse(&name) else { continue };
            if !seen.insert(dn.key()) {
                continue;
            }
            if let Some(group) = self.at(&dn) {
                sids.extend(group.values("objectSid").map(<[u8]>::to_vec));
                waiting.extend(
                    group.values("memberOf").filter_map(|group| String::from_utf8(group.to_vec()).ok()),
                );
            }
        }
        sids
    }
}
