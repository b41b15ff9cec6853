//! Writing LDIF content (RFC 2849 §3); reading it back gives the same entries, whatever the values.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

/// The longest line written, in bytes.
const WIDTH: usize = 76;

/// Keywords at the beginning of a line (RFC 2849 §2). No schema has attributes of these names; a server that invented
/// them could end a record or turn it into a change.
const WORDS: [&str; 3] = ["dn", "changetype", "control"];

/// Appends one record and an empty line. Attributes named like LDIF keywords are left out.
pub fn write_record<'v, A, V>(out: &mut String, dn: &str, attributes: A)
where
    A: IntoIterator<Item = (&'v str, V)>,
    V: IntoIterator<Item = &'v [u8]>,
{
    write_line(out, "dn", dn.as_bytes());
    let is_word = |name: &str| WORDS.iter().any(|word| word.eq_ignore_ascii_case(name));
    for (name, values) in attributes.into_iter().filter(|(name, _)| !is_word(name)) {
        for value in values {
            write_line(out, name, value);
        }
    }
    out.push('\n');
}

/// Appends a change record that adds values to one attribute of an entry, and an empty line.
pub fn write_addition<'v>(
    out: &mut String,
    dn: &str,
    attribute: &str,
    values: impl IntoIterator<Item = &'v [u8]>,
) {
    write_line(out, "dn", dn.as_bytes());
    write_line(out, "changetype", b"modify");
    write_line(out, "add", attribute.as_bytes());
    values.into_iter().for_each(|value| write_line(out, attribute, value));
    out.push_str("-\n\n");
}

/// Appends a comment; a line break in it begins another comment line.
pub fn write_comment(out: &mut String, text: &str) {
    for line in text.lines() {
        out.push_str("# ");
        out.extend(line.chars().map(|character| if character.is_control() { '?' } else { character }));
        out.push('\n');
    }
}

fn write_line(out: &mut String, name: &str, value: &[u8]) {
    let line = match std::str::from_utf8(value) {
        Ok(text) if is_safe(text) => format!("{name}: {text}"),
        _ => format!("{name}:: {}", STANDARD.encode(value)),
    };
    // The text is ASCII, except for an attribute name that a server invented: cut between characters.
    let mut used = 0;
    for character in line.chars() {
        if used + character.len_utf8() > WIDTH {
            out.push_str("\n ");
            used = 1;
        }
        out.push(character);
        used += character.len_utf8();
    }
    out.push('\n');
}

/// SAFE-STRING of RFC 2849, without trailing blanks (note 8).
fn is_safe(text: &str) -> bool {
    let first = |character: char| !matches!(character, ' ' | ':' | '<');
    text.chars().next().is_none_or(first)
        && !text.ends_with(' ')
        && text.chars().all(|character| character.is_ascii() && !matches!(character, '\0' | '\r' | '\n'))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ldap::ldif::records;
    use proptest::prelude::*;

    #[test]
    fn what_is_not_safe_as_text_goes_as_base64() {
        for (value, line, why) in [
            (&b"Ada"[..], "cn: Ada\n", "plain text"),
            (b"", "cn: \n", "nothing"),
            (b" Ada", "cn:: IEFkYQ==\n", "a blank in front"),
            (b"Ada ", "cn:: QWRhIA==\n", "a blank at the end"),
            (b":Ada", "cn:: OkFkYQ==\n", "a colon in front"),
            (b"<Ada", "cn:: PEFkYQ==\n", "a sign that would mean a URL"),
            ("Ä".as_bytes(), "cn:: w4Q=\n", "not ASCII"),
            (b"a\nb", "cn:: YQpi\n", "a line break would begin a line of its own"),
            (&[0xff], "cn:: /w==\n", "not text"),
        ] {
            let mut out = String::new();
            write_line(&mut out, "cn", value);
            assert_eq!(out, line, "{why}");
        }
    }

    #[test]
    fn comments_cannot_become_records() {
        let mut out = String::new();
        write_comment(&mut out, "one\ndn: cn=x\r\u{1b}");
        assert_eq!(out, "# one\n# dn: cn=x??\n");
    }

    #[test]
    fn an_attribute_cannot_begin_or_turn_a_record() {
        for word in ["dn", "DN", "changetype", "control"] {
            let mut out = String::new();
            write_record(&mut out, "cn=a", [(word, [b"delete".as_slice()]), ("cn", [b"a"])]);
            let read: Vec<_> = records(out.as_bytes()).map(Result::unwrap).collect();
            assert_eq!((read.len(), read[0].attributes.len()), (1, 1), "{word}: {out}");
        }
    }

    #[test]
    fn an_addition_is_carried_out_as_it_was_written() {
        let mut entries = crate::ldap::entry::Entries::new();
        entries.push("CN=g", [("member", [b"CN=a".as_slice()])]);
        let mut out = String::new();
        write_addition(&mut out, "CN=g", "member", [b"CN=b".as_slice(), b" CN=c"]);
        let changed = crate::ldap::ldif::changed(&entries, out.as_bytes()).unwrap();
        let members: Vec<&[u8]> = changed.get(0).unwrap().values("member").collect();
        assert_eq!(members, [&b"CN=a"[..], b"CN=b", b" CN=c"], "{out}");
    }

    proptest! {
        /// Writing and reading must not lose or add anything.
        #[test]
        fn write_then_read_is_identity(
            names in proptest::collection::vec("[a-z]{1,8}(;[a-z]{1,4})?", 1..5),
            values in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..200), 1..5),
            dn in "(cn|ou)=[a-zA-Zäß 中]{1,80}",
        ) {
            let attributes: Vec<(&str, [&[u8]; 1])> =
                names.iter().zip(&values).map(|(name, value)| (name.as_str(), [value.as_slice()])).collect();
            let mut out = String::new();
            write_record(&mut out, &dn, attributes.clone());
            prop_assert!(out.lines().all(|line| line.len() <= WIDTH));
            let read = records(out.as_bytes()).next().unwrap().unwrap();
            prop_assert_eq!(&*read.dn, &*dn);
            let attributes = attributes.iter().filter(|(name, _)| !WORDS.contains(name));
            let expected: Vec<(&str, &[u8])> = attributes.map(|(name, [value])| (*name, *value)).collect();
            let have: Vec<(&str, &[u8])> = read.attributes.iter().map(|(name, value)| (&**name, &**value)).collect();
            prop_assert_eq!(have, expected);
        }
    }
}
