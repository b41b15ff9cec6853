//! Changes to a directory in memory, with what a domain controller does of its own: it keeps names in values right, and
//! numbers its changes.

use crate::directory::Directory;
use crate::manner::Manner;
use std::collections::HashMap;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::ldif::{self, LdifError};
use webtaxon_core::ldap::name::{Dn, DnKey};

/// Attributes that a directory makes up for its entries, and makes up again.
const MADE_UP: [&str; 3] = ["entryDN", "subschemaSubentry", "hasSubordinates"];
/// Attributes by name, with their values.
type Attributes = Vec<(String, Vec<Vec<u8>>)>;

impl Directory {
    /// The directory after the changes in an LDIF text (RFC 2849); entries keep their identities.
    ///
    /// # Errors
    /// The first line that is not LDIF, or whose change does not fit the entries.
    pub fn changed(&self, text: &[u8]) -> Result<Self, LdifError> {
        let before = listed(self.entries().map(|entry| (entry.dn().to_owned(), lasting(entry))));
        let after = ldif::changed(&before, text)?;
        if self.manner() != Manner::Controller {
            return Ok(Self::of(&after, Some(self.manner())));
        }
        let moved = moved(&before, &after);
        let next = (self.last_change() + 1).to_string();
        let old: HashMap<Vec<u8>, Entry<'_>> =
            before.iter().filter_map(|entry| Some((identity(entry)?, entry))).collect();
        let numbered = after.iter().map(|entry| {
            let was = identity(entry).and_then(|identity| old.get(&identity).copied());
            let mut attributes = lasting(entry);
            // Neither a value that follows a name nor an entry below a renamed one has a change of its own.
            let has_changed =
                was.is_none_or(|was| attributes != lasting(was) || is_moved_itself(was, entry, &moved));
            for (_, values) in &mut attributes {
                values.retain_mut(|value| follow(value, &moved));
            }
            attributes.retain(|(_, values)| !values.is_empty());
            if has_changed {
                attributes.retain(|(name, _)| !name.eq_ignore_ascii_case("uSNChanged"));
                attributes.push(("uSNChanged".to_owned(), vec![next.clone().into_bytes()]));
            }
            (entry.dn().to_owned(), attributes)
        });
        Ok(Self::of(&listed(numbered), Some(self.manner())))
    }
}

/// The attributes of an entry that are not made up.
fn lasting(entry: Entry<'_>) -> Attributes {
    let kept = entry.attributes().filter(|(name, _)| !MADE_UP.contains(name));
    kept.map(|(name, values)| (name.to_owned(), values.map(<[u8]>::to_vec).collect())).collect()
}

fn listed(all: impl Iterator<Item = (String, Attributes)>) -> Entries {
    let mut entries = Entries::new();
    for (dn, attributes) in all {
        let attributes = attributes.iter();
        entries.push(&dn, attributes.map(|(name, values)| (name.as_str(), values.iter().map(Vec::as_slice))));
    }
    entries
}

fn identity(entry: Entry<'_>) -> Option<Vec<u8>> {
    entry.values("objectGUID").next().map(<[u8]>::to_vec)
}

/// Whether an entry has another name, and not because one above it has.
fn is_moved_itself(was: Entry<'_>, now: Entry<'_>, moved: &HashMap<DnKey, Option<String>>) -> bool {
    let above = Dn::parse(was.dn()).ok().and_then(|dn| dn.key().parent());
    was.dn() != now.dn() && !above.is_some_and(|above| moved.contains_key(&above))
}

/// Names that are nobody's any more, each with the new one, if the entry has one.
fn moved(before: &Entries, after: &Entries) -> HashMap<DnKey, Option<String>> {
    let now: HashMap<Vec<u8>, &str> =
        after.iter().filter_map(|entry| Some((identity(entry)?, entry.dn()))).collect();
    let gone = before.iter().filter_map(|entry| {
        let key = Dn::parse(entry.dn()).ok()?.key();
        let new = identity(entry).and_then(|identity| now.get(&identity).copied());
        (new != Some(entry.dn())).then(|| (key, new.map(str::to_owned)))
    });
    gone.collect()
}

/// Puts the new name in the place of an old one; `false` if the entry is gone, and the value goes with it.
fn follow(value: &mut Vec<u8>, moved: &HashMap<DnKey, Option<String>>) -> bool {
    let name = std::str::from_utf8(value).ok().filter(|text| !moved.is_empty() && text.contains('='));
    let key = name.and_then(|text| Dn::parse(text).ok()).map(|dn| dn.key());
    match key.and_then(|key| moved.get(&key)) {
        None => true,
        Some(None) => false,
        Some(Some(new)) => {
            *value = new.clone().into_bytes();
            true
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LDIF: &str = "dn: DC=quillmere,DC=example\nobjectClass: domainDNS\n\n\
        dn: CN=Ada,DC=quillmere,DC=example\nobjectClass: user\ncn: Ada\n\n\
        dn: CN=Bo,DC=quillmere,DC=example\nobjectClass: user\ncn: Bo\n\n\
        dn: CN=Staff,DC=quillmere,DC=example\nobjectClass: group\ncn: Staff\n\
        member: CN=Ada,DC=quillmere,DC=example\nmember: CN=Bo,DC=quillmere,DC=example\n";
    const CHANGES: &str = "dn: CN=Ada,DC=quillmere,DC=example\nchangetype: modrdn\nnewrdn: CN=Ada Finch\n\
        deleteoldrdn: 1\n\ndn: CN=Bo,DC=quillmere,DC=example\nchangetype: delete\n";

    fn entry<'a>(directory: &'a Directory, dn: &str) -> Entry<'a> {
        directory.at(&Dn::parse(dn).unwrap()).unwrap()
    }

    #[test]
    fn a_controller_keeps_members_right_and_numbers_what_was_changed_itself() {
        let before = Directory::with_manner(LDIF.as_bytes(), Manner::Controller).unwrap();
        let after = before.changed(CHANGES.as_bytes()).unwrap();
        let staff = entry(&after, "CN=Staff,DC=quillmere,DC=example");
        assert_eq!(staff.values("member").collect::<Vec<_>>(), [b"CN=Ada Finch,DC=quillmere,DC=example"]);
        let ada = entry(&after, "CN=Ada Finch,DC=quillmere,DC=example");
        let was = entry(&before, "CN=Ada,DC=quillmere,DC=example");
        assert_eq!(ada.values("objectGUID").next(), was.values("objectGUID").next());
        assert_eq!(ada.text("memberOf"), Some("CN=Staff,DC=quillmere,DC=example"));
        assert_eq!((staff.text("uSNChanged"), ada.text("uSNChanged")), (None, Some("2")));
    }

    #[test]
    fn entries_below_a_renamed_container_keep_their_marks() {
        let ldif = format!(
            "{LDIF}\ndn: OU=A,DC=quillmere,DC=example\nobjectClass: organizationalUnit\n\n\
             dn: CN=Cy,OU=A,DC=quillmere,DC=example\nobjectClass: user\nmanager: CN=Cy,OU=A,DC=quillmere,DC=example\n"
        );
        let changes = "dn: OU=A,DC=quillmere,DC=example\nchangetype: modrdn\nnewrdn: OU=B\ndeleteoldrdn: 1\n";
        let before = Directory::with_manner(ldif.as_bytes(), Manner::Controller).unwrap();
        let after = before.changed(changes.as_bytes()).unwrap();
        let cy = entry(&after, "CN=Cy,OU=B,DC=quillmere,DC=example");
        assert_eq!((cy.text("uSNChanged"), cy.text("manager")), (None, Some(cy.dn())));
        assert_eq!(entry(&after, "OU=B,DC=quillmere,DC=example").text("uSNChanged"), Some("2"));
    }

    #[test]
    fn another_server_changes_what_it_is_told_to() {
        let before = Directory::with_manner(LDIF.as_bytes(), Manner::Plain).unwrap();
        let after = before.changed(CHANGES.as_bytes()).unwrap();
        let staff = entry(&after, "CN=Staff,DC=quillmere,DC=example");
        assert_eq!(staff.values("member").count(), 2);
        assert_eq!(staff.text("uSNChanged"), None);
    }
}
