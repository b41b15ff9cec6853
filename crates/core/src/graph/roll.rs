//! Members outside any list of names: by login (`memberUid`, RFC 2307 §2.2), and by the number of their primary group
//! (`gidNumber` there; `primaryGroupID`, [MS-ADTS] §3.1.1.6.1.1).
//!
//! No I/O, no recursion; memory is linear in the people.

use crate::ldap::entry::{Entries, NameId};
use crate::ldap::schema::ServerKind;
use crate::ldap::value;
use foldhash::{HashMap, HashMapExt as _};
use std::sync::OnceLock;

/// Attributes that mark an account of a domain controller.
const ACCOUNT: [&str; 2] = ["objectSid", "sAMAccountName"];

/// The people of a reading, indexed by login and primary group. People are identified by their index in the entries.
#[derive(Clone, Debug, Default)]
pub struct Roll {
    /// The attribute that `memberUid` refers to.
    login: Option<String>,
    /// Built when a group first lists a login, since most groups list none.
    by_login: OnceLock<HashMap<Box<[u8]>, Vec<usize>>>,
    by_number: HashMap<u32, Vec<usize>>,
    hidden: usize,
    may_lack: bool,
}

/// The attribute with the number of a person's primary group.
#[must_use]
pub fn primary_group(kind: ServerKind) -> &'static str {
    match kind {
        ServerKind::Controller => "primaryGroupID",
        _ => "gidNumber",
    }
}

impl Roll {
    /// Indexes the people of a server of this kind; `login` is the attribute that `memberUid` refers to, if known.
    #[must_use]
    pub fn of(people: &Entries, kind: ServerKind, login: Option<&str>) -> Self {
        let may_lack = kind != ServerKind::Controller && !people.is_empty();
        let mut roll = Self { login: login.map(str::to_owned), may_lack, ..Self::default() };
        let controller = kind == ServerKind::Controller;
        let numbers: Vec<NameId> = people.names().covered_by(primary_group(kind)).collect();
        if numbers.is_empty() && !controller {
            return roll;
        }
        for (person, entry) in people.iter().enumerate() {
            let texts = numbers.iter().flat_map(|id| entry.values_by_id(*id)).map(str::from_utf8);
            let first = texts.flatten().find(|text| !text.is_empty());
            match first.and_then(|text| text.parse().ok()) {
                Some(number) => roll.by_number.entry(number).or_default().push(person),
                // Every account of a domain controller has a primary group.
                None if controller && ACCOUNT.iter().any(|name| entry.values(name).next().is_some()) => {
                    roll.hidden += 1;
                }
                None => {}
            }
        }
        roll
    }

    /// The people with exactly this login; `people` must be the entries that the roll was made of.
    #[must_use]
    pub fn with_login(&self, people: &Entries, login: &[u8]) -> &[usize] {
        let by_login = self.by_login.get_or_init(|| {
            let mut by_login: HashMap<Box<[u8]>, Vec<usize>> = HashMap::with_capacity(people.len());
            for (person, entry) in people.iter().enumerate() {
                for value in self.login.iter().flat_map(|login| entry.values(login)) {
                    by_login.entry(value.into()).or_default().push(person);
                }
            }
            by_login
        });
        by_login.get(login).map_or(&[], Vec::as_slice)
    }

    /// The people whose primary group has this number, in the group's own domain if its `sid` is given.
    pub fn with_primary_group<'r>(
        &'r self,
        people: &'r Entries,
        number: u32,
        sid: Option<&'r [u8]>,
    ) -> impl Iterator<Item = usize> + 'r {
        let domain = sid.and_then(value::domain_of);
        let all = self.by_number.get(&number).into_iter().flatten().copied();
        all.filter(move |person| {
            let own = people.get(*person).and_then(|entry| entry.values("objectSid").next());
            match (own.and_then(value::domain_of), domain) {
                (Some(own), Some(domain)) => own == domain,
                _ => true,
            }
        })
    }

    /// The SIDs of the people's primary groups, sorted and each once: the person's domain with the primary group's
    /// number. A person without a SID counts as in the domain of `group`, a group's SID.
    #[must_use]
    pub fn primary_groups(&self, people: &Entries, group: Option<&[u8]>) -> Vec<Vec<u8>> {
        let mut sids: Vec<Vec<u8>> = Vec::new();
        for (number, members) in &self.by_number {
            for person in members {
                let own = people.get(*person).and_then(|entry| entry.values("objectSid").next()).or(group);
                sids.extend(
                    own.and_then(value::domain_of).map(|domain| [domain, &number.to_le_bytes()].concat()),
                );
            }
        }
        sids.sort_unstable();
        sids.dedup();
        sids
    }

    /// Whether people were read, none of them shows a primary group, and their server need not have any.
    #[must_use]
    pub fn shows_no_number(&self) -> bool {
        self.may_lack && self.by_number.is_empty()
    }

    /// Number of people who must have a primary group but do not show it.
    #[must_use]
    pub fn hidden(&self) -> usize {
        self.hidden
    }
}

/// The name in a value of `uniqueMember`, without an optional bit string (RFC 4517 §3.3.21).
#[must_use]
pub fn without_uid(value: &str) -> &str {
    let is_bits = |uid: &str| {
        let bits = uid.strip_prefix('\'').and_then(|uid| uid.strip_suffix("'B"));
        bits.is_some_and(|bits| bits.bytes().all(|bit| matches!(bit, b'0' | b'1')))
    };
    match value.rsplit_once('#') {
        Some((name, uid)) if is_bits(uid) => name,
        _ => value,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sid(domain: u8, last: u32) -> Vec<u8> {
        let mut sid = vec![1, 2, 0, 0, 0, 0, 0, 5, domain, 0, 0, 0];
        sid.extend(last.to_le_bytes());
        sid
    }

    #[test]
    fn people_are_found_by_login_and_by_primary_group() {
        let mut people = Entries::new();
        for (uid, group, own) in
            [("ada", "513", sid(1, 10)), ("Ben", "1613", sid(1, 11)), ("cleo", "1613", sid(2, 12))]
        {
            people.push(
                &format!("cn={uid}"),
                [
                    ("uid", vec![uid.as_bytes()]),
                    ("primaryGroupID", vec![group.as_bytes()]),
                    ("objectSid", vec![&own]),
                ],
            );
        }
        people.push("cn=hidden", [("objectSid", [sid(1, 13).as_slice()])]);
        people.push("cn=contact", [("uid", [b"x".as_slice()])]);
        let roll = Roll::of(&people, ServerKind::Controller, Some("uid"));
        let with = |login| roll.with_login(&people, login);
        assert_eq!((with(b"Ben"), with(b"ben").len()), (&[1][..], 0), "case matters");
        assert_eq!(roll.hidden(), 1);
        let group = sid(1, 1613);
        let of = |number, sid| roll.with_primary_group(&people, number, sid).collect::<Vec<_>>();
        assert_eq!(of(1613, Some(&group)), [1], "of the group's own domain");
        assert_eq!(of(1613, None), [1, 2], "as far as it is known");
        assert!(of(5, None).is_empty());
        assert!(Roll::of(&people, ServerKind::Plain, None).with_login(&people, b"ada").is_empty());
    }

    #[test]
    fn bits_behind_a_name_are_no_part_of_it() {
        for (value, name) in [
            ("CN=a,DC=x#'0101'B", "CN=a,DC=x"),
            ("CN=a,DC=x#''B", "CN=a,DC=x"),
            ("CN=a#1,DC=x", "CN=a#1,DC=x"),
            ("CN=a,DC=x", "CN=a,DC=x"),
            ("#'01'B", ""),
        ] {
            assert_eq!(without_uid(value), name, "{value}");
        }
    }
}
