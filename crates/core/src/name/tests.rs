//! RFC 4514's own examples, the laws of printing and comparing, and what must be refused.

use super::*;
use proptest::prelude::*;

#[test]
fn the_standards_examples_parse_and_print() {
    // RFC 4514 §4
    for (text, printed, why) in [
        ("UID=jsmith,DC=example,DC=net", "UID=jsmith,DC=example,DC=net", "three relative names"),
        (
            "OU=Sales+CN=J.  Smith,DC=example,DC=net",
            "OU=Sales+CN=J.  Smith,DC=example,DC=net",
            "two values in one",
        ),
        (
            r#"CN=James \"Jim\" Smith\, III,DC=example,DC=net"#,
            r#"CN=James \"Jim\" Smith\, III,DC=example,DC=net"#,
            "quotes",
        ),
        (r"CN=Before\0dAfter,DC=example,DC=net", r"CN=Before\0DAfter,DC=example,DC=net", "a carriage return"),
        ("1.3.6.1.4.1.1466.0=#04024869", "1.3.6.1.4.1.1466.0=#04024869", "an encoded value"),
        (r"CN=Lu\C4\8Di\C4\87", "CN=Lučić", "UTF-8 in hexadecimal"),
        ("", "", "the root"),
        (r"CN=\ lead and trail\ ,DC=x", r"CN=\ lead and trail\ ,DC=x", "blanks that count"),
        ("cn = spaced , dc = x", "cn=spaced,dc=x", "blanks that do not"),
        (r"CN=\#1", r"CN=\#1", "a number sign in front"),
        ("CN=", "CN=", "an empty value"),
    ] {
        let dn = Dn::parse(text).unwrap_or_else(|error| panic!("{why}: {text}: {error}"));
        assert_eq!(dn.to_string(), printed, "{why}");
    }
}

#[test]
fn what_is_no_name_is_refused_at_its_place() {
    for (text, kind, at, why) in [
        ("People", ParseErrorKind::NoEquals, 6, "a bare word"),
        ("OU=People,", ParseErrorKind::NoType, 10, "nothing after the comma"),
        ("OU=A,,DC=x", ParseErrorKind::NoType, 5, "two commas"),
        ("CN=Ada, Ibbotson,DC=x", ParseErrorKind::NoEquals, 16, "a bare comma in a value"),
        ("CN=a;DC=x", ParseErrorKind::Unescaped, 4, "a semicolon"),
        (r"CN=a\zz", ParseErrorKind::BadEscape, 4, "an escape that is none"),
        (r"CN=a\", ParseErrorKind::BadEscape, 4, "a backslash at the end"),
        ("CN=#0", ParseErrorKind::BadHex, 4, "half a byte"),
        ("CN=#", ParseErrorKind::BadHex, 3, "no digits"),
        ("2.05.4=x", ParseErrorKind::BadType, 0, "a leading zero in an OID"),
        ("1=x", ParseErrorKind::BadType, 0, "one arc is no OID"),
    ] {
        let error = Dn::parse(text).expect_err(why);
        assert_eq!((error.kind(), error.span().offset()), (kind, at), "{why}: {text}");
    }
}

#[test]
fn names_are_compared_by_meaning() {
    for (left, right, same, why) in [
        ("CN=Ada,DC=x", "cn=ADA,dc=X", true, "case"),
        (r"CN=a\,b", r"CN=a\2Cb", true, "the way of escaping"),
        ("CN=a  b", "CN=a b", true, "blanks between words"),
        ("2.5.4.3=a", "CN=a", true, "an OID and its name"),
        ("userId=a", "UID=a", true, "a long name and its short one"),
        ("CN=a+OU=b", "OU=b+CN=a", true, "the order within one relative name"),
        ("CN=a,OU=b", "OU=b,CN=a", false, "the order of relative names"),
        (r"CN=a\+ou=b", "CN=a+OU=b", false, "an escaped plus is a value's"),
        ("CN=Ärger", "CN=ärger", true, "case beyond ASCII"),
        ("CN=a", "CN=b", false, "other values"),
    ] {
        let keys = (Dn::parse(left).unwrap().key(), Dn::parse(right).unwrap().key());
        assert_eq!(keys.0 == keys.1, same, "{why}: {left} {right}");
    }
}

#[test]
fn a_name_lies_under_its_parents_and_under_nobody_else() {
    let key = |text: &str| Dn::parse(text).unwrap().key();
    let ada = key("CN=Ada,OU=People,DC=quillmere,DC=example");
    assert!(ada.is_within(&key("ou=people,dc=quillmere,dc=example")));
    assert!(ada.is_within(&key("")));
    assert!(!ada.is_within(&key("OU=Peop,DC=quillmere,DC=example")));
    assert!(!key("DC=example").is_within(&ada));
    assert_eq!(ada.parent().unwrap(), key("OU=People,DC=quillmere,DC=example"));
    assert_eq!((ada.depth(), key("").depth(), key("").parent()), (4, 0, None));
    assert_eq!(short(r"CN=Ibbotson\, Ada,DC=x"), "Ibbotson, Ada");
    assert_eq!(short("not a name"), "not a name");
}

fn any_dn() -> impl Strategy<Value = Dn> {
    let ava =
        ("[a-zA-Z][a-zA-Z0-9-]{0,5}", proptest::collection::vec(any::<u8>(), 0..8), any::<bool>()).prop_map(
            |(attribute, value, encoded)| Ava { encoded: encoded && !value.is_empty(), attribute, value },
        );
    let rdn = proptest::collection::vec(ava, 1..3).prop_map(|avas| Rdn { avas });
    proptest::collection::vec(rdn, 0..5).prop_map(|rdns| Dn { rdns })
}

proptest! {
    /// Printing and parsing must not lose anything.
    #[test]
    fn print_then_parse_is_identity(dn in any_dn()) {
        prop_assert_eq!(Dn::parse(&dn.to_string()).unwrap(), dn);
    }

    /// Whatever the text, no panic, and the place lies within it, between two characters.
    #[test]
    fn any_text_is_parsed_or_refused(text in r##"([a-zA-Z=,+\\"#; ä0-9.]|\PC){0,40}"##) {
        if let Err(error) = Dn::parse(&text) {
            let span = error.span();
            prop_assert!(text.get(span.offset()..span.offset() + span.len()).is_some());
        }
    }
}
