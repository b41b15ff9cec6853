//! RFC 2849's forms, and each way in which a file can be wrong.

use super::*;
use proptest::prelude::*;

#[test]
fn every_form_of_a_line_is_read() {
    let text = b"version: 1\r\n# a comment\r\n#  that goes\r\n  on\r\ndn: cn=Barbara Jensen, ou=Product\r\n \
Development, dc=airius, dc=com\r\nobjectclass: top\r\ncn:: QmFyYmFyYSBKZW5zZW4=\r\ndescription:Babs is a big \r\n \
sailing fan\r\ncn;lang-ja::5bCP56yg5Y6f\r\nempty:\r\n\r\n\r\ndn:: Y249w6Q=\r\nsn: x";
    let read: Vec<Record> = records(text).map(Result::unwrap).collect();
    assert_eq!(read.len(), 2);
    assert_eq!(
        (read[0].line, read[0].dn.as_str()),
        (5, "cn=Barbara Jensen, ou=ProductDevelopment, dc=airius, dc=com")
    );
    let expected: Vec<(&str, &[u8])> = vec![
        ("objectclass", b"top"),
        ("cn", b"Barbara Jensen"),
        ("description", b"Babs is a big sailing fan"),
        ("cn;lang-ja", "小笠原".as_bytes()),
        ("empty", b""),
    ];
    let have: Vec<(&str, &[u8])> =
        read[0].attributes.iter().map(|(name, value)| (name.as_str(), value.as_slice())).collect();
    assert_eq!(have, expected);
    assert_eq!((read[1].dn.as_str(), read[1].attributes.len()), ("cn=ä", 1));
}

#[test]
fn each_fault_is_told_with_its_line() {
    use ParseErrorKind as Kind;
    for (text, kind, line, why) in [
        ("dn: cn=a\ncn a\n", Kind::NoColon, 2, "no colon"),
        ("dn: cn=a\nc n: a\n", Kind::BadAttribute, 2, "a blank in the name"),
        ("cn: a\n", Kind::NoDn, 1, "no dn"),
        ("dn: cn=a\ncn: a\ndn: cn=b\n", Kind::NoBlankLine, 3, "no empty line"),
        ("\n\ndn: a\n", Kind::BadName, 3, "not a name"),
        ("dn: cn=a\n\ndn: CN=A\n", Kind::Twice, 3, "one name twice"),
        ("dn: cn=a\ncn:: &&\n", Kind::BadBase64, 2, "no base64"),
        ("dn: cn=a\nphoto:< file:///etc/passwd\n", Kind::Url, 2, "a URL"),
        ("dn: cn=a\nchangetype: delete\n", Kind::Change, 2, "a change record"),
        ("version: 2\ndn: cn=a\n", Kind::Version, 1, "another version"),
    ] {
        let error = entries(text.as_bytes()).expect_err(why);
        assert_eq!((error.kind(), error.line()), (kind, line), "{why}");
    }
    assert_eq!(entries(b"dn: cn=\xff\n").unwrap_err().kind(), Kind::NotUtf8);
}

proptest! {
    /// Any bytes: records or an error, no panic, and nothing after an error.
    #[test]
    fn any_bytes_are_read_or_refused(text in proptest::collection::vec(prop_oneof![any::<u8>(), Just(b'\n'), Just(b':'), Just(b' ')], 0..200)) {
        let read: Vec<_> = records(&text).collect();
        let failed = read.iter().position(Result::is_err);
        prop_assert!(failed.is_none_or(|at| at + 1 == read.len()));
    }
}
