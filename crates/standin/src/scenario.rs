//! The museum's directory, converted for other servers.
//!
//! `demo/directory.ldif` is written for a domain controller. Other servers need other object classes ([`plain`]); a
//! real domain controller, when loaded, generates some of the values itself ([`to_load`]).

use std::collections::HashSet;
use std::fmt::Write as _;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::ldap::ldif::{write_addition, write_comment, write_record};
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::value;

/// The value of an operational attribute for an account locked by an administrator.
const LOCKED: &str = "000001010000Z";

/// One record: a name, and each attribute with its values.
type Attributes = Vec<(&'static str, Vec<Vec<u8>>)>;

/// The directory as a server with groupOfNames, inetOrgPerson and entryUUID has it.
#[must_use]
pub fn plain(controller: &Entries) -> String {
    let mut out = String::new();
    write_comment(
        &mut out,
        "The museum's directory as a server without a domain controller's schema has it.\n\
         Made from directory.ldif; README.md says how.",
    );
    out.push('\n');
    let primary = primary_members(controller);
    for entry in controller.iter() {
        write(&mut out, entry.dn(), as_plain(entry, &primary));
    }
    out
}

/// Primary groups and their people, who are in no list of members: other servers have no primary groups. The group of
/// everybody is left out.
fn primary_members(controller: &Entries) -> Vec<(String, String)> {
    const EVERYBODY: u32 = 513;
    let mut pairs = Vec::new();
    for person in controller.iter() {
        let number = person.text("primaryGroupID").and_then(|text| text.parse::<u32>().ok());
        let Some(number) = number.filter(|number| *number != EVERYBODY) else { continue };
        let is_it = |group: &Entry<'_>| {
            is(*group, "group")
                && group.values("objectSid").next().and_then(value::relative_id) == Some(number)
        };
        if let Some(group) = controller.iter().find(is_it) {
            pairs.push((group.dn().to_owned(), person.dn().to_owned()));
        }
    }
    pairs
}

/// Many people with ten attributes, for benches: the naming context and `count` entries below it.
#[must_use]
pub fn crowd(count: usize) -> String {
    let top = "dc=crowd,dc=example";
    let mut out =
        format!("dn: {top}\nobjectClass: dcObject\nobjectClass: organization\ndc: crowd\no: crowd\n\n");
    for number in 0..count {
        let _ = write!(
            out,
            "dn: uid=p{number:06},{top}\nobjectClass: inetOrgPerson\nuid: p{number:06}\ncn: Person Number {number}\n\
             sn: Number {number}\ngivenName: Person\ndisplayName: Person Number {number}\n\
             mail: person.number.{number}@quillmere.example\ntelephoneNumber: +44 1632 {number:06}\n\
             title: Curator of Mosses\ndepartmentNumber: {}\nemployeeNumber: {number}\n\
             entryUUID: {number:08x}-0000-4000-8000-000000000000\nuserPassword: heron-p{number:06}\n\n",
            number % 50
        );
    }
    out
}

/// Groups for the people of [`crowd`]: the first [`ROOTS`] contain all others, in chains of twelve groups, with forty
/// people in each, some of them twice, and a few cycles.
#[must_use]
pub fn crowd_groups(people: usize, groups: usize) -> String {
    let top = "dc=crowd,dc=example";
    let width = (groups / 12).max(1);
    let mut out = String::new();
    for number in 0..groups {
        let _ = write!(out, "dn: cn=g{number:05},{top}\nobjectClass: groupOfNames\ncn: g{number:05}\n");
        for member in 0..40 {
            let person = (number * 41 + member * 7919) % people.max(1);
            let _ = writeln!(out, "member: uid=p{person:06},{top}");
        }
        let root = (number < ROOTS).then(|| (ROOTS..width).filter(|inner| inner % ROOTS == number));
        let inner = (number + width < groups).then_some(number + width);
        let back = number.is_multiple_of(1000).then_some(number / 2 + ROOTS).filter(|back| *back < groups);
        for group in root.into_iter().flatten().chain(inner).chain(back) {
            let _ = writeln!(out, "member: cn=g{group:05},{top}");
        }
        out.push('\n');
    }
    out
}

/// Number of groups of [`crowd_groups`] that contain all others.
pub const ROOTS: usize = 5;

/// What to load into a real domain controller of the same domain: the entries to add, and the changes that add
/// members to groups.
#[must_use]
pub fn to_load(controller: &Entries) -> (String, String) {
    /// Attributes that it generates itself, or refuses.
    const OWN: [&str; 14] = [
        "objectGUID",
        "objectSid",
        "memberOf",
        "member",
        "whenCreated",
        "objectCategory",
        "primaryGroupID",
        "userPassword",
        "lockoutTime",
        "pwdLastSet",
        "accountExpires",
        "cn",
        "ou",
        "dc",
    ];
    let (mut entries, mut members) = (String::new(), String::new());
    let primary = primary_members(controller);
    let names: HashSet<_> =
        controller.iter().filter_map(|entry| Some(Dn::parse(entry.dn()).ok()?.key())).collect();
    let is_there = |dn: &[u8]| {
        std::str::from_utf8(dn)
            .ok()
            .and_then(|dn| Dn::parse(dn).ok())
            .is_some_and(|dn| names.contains(&dn.key()))
    };
    for entry in controller.iter() {
        let name = entry.text("cn").unwrap_or("");
        if is(entry, "domain") || ["Domain Users", "DC1"].contains(&name) {
            continue; // they are there already
        }
        let kept = entry.attributes().filter(|(name, _)| !OWN.contains(name));
        write_record(&mut entries, entry.dn(), kept);
        // A deleted member cannot be named here.
        let mut list: Vec<&[u8]> = entry.values("member").filter(|member| is_there(member)).collect();
        let unlisted = primary.iter().filter(|(group, _)| group == entry.dn());
        list.extend(unlisted.map(|(_, person)| person.as_bytes()));
        if !list.is_empty() {
            write_addition(&mut members, entry.dn(), "member", list);
        }
    }
    (entries, members)
}

fn write(out: &mut String, dn: &str, attributes: Attributes) {
    let attributes = attributes.iter().map(|(name, values)| (*name, values.iter().map(Vec::as_slice)));
    write_record(out, dn, attributes);
}

fn is(entry: Entry<'_>, class: &str) -> bool {
    entry.values("objectClass").any(|value| value.eq_ignore_ascii_case(class.as_bytes()))
}

/// The object classes of an entry on the other kind of server.
type Classes = &'static [&'static str];
/// The attributes of an entry there, each with the one that it is copied from.
type Copies = &'static [(&'static str, &'static str)];

fn plain_form(entry: Entry<'_>) -> (Classes, Copies) {
    let room = entry.dn().contains("OU=Rooms,");
    if is(entry, "domain") {
        (&["top", "dcObject", "organization"], &[("dc", "dc"), ("o", "dc")])
    } else if is(entry, "organizationalUnit") {
        (&["top", "organizationalUnit"], &[("ou", "ou"), ("description", "description")])
    } else if is(entry, "group") {
        (&["top", "groupOfNames"], &[("cn", "cn"), ("description", "description"), ("member", "member")])
    } else if is(entry, "computer") {
        (&["top", "device"], &[("cn", "cn"), ("description", "description")])
    } else if room {
        (&["top", "room"], &[("cn", "cn"), ("description", "description")])
    } else if entry.text("userPassword").is_some() && entry.text("sn").is_none() {
        (
            &["top", "applicationProcess", "simpleSecurityObject"],
            &[("cn", "cn"), ("description", "description"), ("userPassword", "userPassword")],
        )
    } else if entry.text("sn").is_none() {
        (&["top", "applicationProcess"], &[("cn", "cn"), ("description", "description")])
    } else {
        (
            &["top", "person", "organizationalPerson", "inetOrgPerson"],
            &[
                ("cn", "cn"),
                ("sn", "sn"),
                ("givenName", "givenName"),
                ("displayName", "displayName"),
                ("uid", "sAMAccountName"),
                ("mail", "mail"),
                ("departmentNumber", "department"),
                ("title", "title"),
                ("roomNumber", "physicalDeliveryOfficeName"),
                ("telephoneNumber", "telephoneNumber"),
                ("employeeNumber", "employeeID"),
                ("memberOf", "memberOf"),
                ("userPassword", "userPassword"),
            ],
        )
    }
}

fn as_plain(entry: Entry<'_>, primary: &[(String, String)]) -> Attributes {
    let (classes, copied) = plain_form(entry);
    let classes = classes.iter().map(|class| class.as_bytes().to_vec()).collect();
    let mut attributes: Attributes = vec![("objectClass", classes)];
    for (to, from) in copied {
        let mut values: Vec<Vec<u8>> = entry.values(from).map(<[u8]>::to_vec).collect();
        for (group, person) in primary {
            if *from == "member" && group == entry.dn() {
                values.push(person.clone().into_bytes());
            } else if *from == "memberOf" && person == entry.dn() {
                values.push(group.clone().into_bytes());
            }
        }
        if !values.is_empty() {
            attributes.push((to, values));
        } else if *to == "member" {
            // groupOfNames requires a member (RFC 4519 §3.5): the entry itself is the usual substitute.
            attributes.push((to, vec![entry.dn().as_bytes().to_vec()]));
        }
    }
    if entry.text("userAccountControl").is_some_and(|flags| flags == "514") {
        attributes.push(("pwdAccountLockedTime", vec![LOCKED.as_bytes().to_vec()]));
    }
    if entry.text("pwdLastSet") == Some("0") {
        attributes.push(("pwdReset", vec![b"TRUE".to_vec()]));
    }
    if let Some(identity) = Identity::of(entry, "objectGUID") {
        attributes.push(("entryUUID", vec![identity.as_str().as_bytes().to_vec()]));
    }
    attributes
}
