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
        ("People", DnErrorKind::NoEquals, 6, "a bare word"),
        ("OU=People,", DnErrorKind::NoType, 10, "nothing after the comma"),
        ("OU=A,,DC=x", DnErrorKind::NoType, 5, "two commas"),
        ("CN=Ada, Ibbotson,DC=x", DnErrorKind::NoEquals, 16, "a bare comma in a value"),
        ("CN=a;DC=x", DnErrorKind::Unescaped, 4, "a semicolon"),
        (r"CN=a\zz", DnErrorKind::BadEscape, 4, "an escape that is none"),
        (r"CN=a\", DnErrorKind::BadEscape, 4, "a backslash at the end"),
        ("CN=#0", DnErrorKind::BadHex, 4, "half a byte"),
        ("CN=#", DnErrorKind::BadHex, 3, "no digits"),
        ("2.05.4=x", DnErrorKind::BadType, 0, "a leading zero in an OID"),
        ("1=x", DnErrorKind::BadType, 0, "one arc is no OID"),
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
        ("CN=Anna Weiß", "CN=Anna Weiss", false, "two people on OpenLDAP"),
        ("CN=a\u{200b}b", "CN=ab", false, "a sign that one does not see"),
        ("CN=#04024869", "CN=Hi", true, "an encoded value and the same as text"),
        ("CN=#0c024869", "CN=hi", true, "encoded as another kind of string"),
        ("CN=#04034869", "CN=Hi", false, "encoded with another length"),
        ("CN=#020105", "CN=\\02\\01\\05", false, "encoded, but no string"),
        ("CN=\u{ff21}da", "CN=ada", true, "letters of another width (RFC 4518)"),
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
    let dn = |text: &str| Dn::parse(text).unwrap();
    let relative = dn("CN=Ada,OU=People,DC=x").relative_to(&dn("dc=X"));
    assert_eq!(relative.as_ref().map(Dn::to_string).as_deref(), Some("CN=Ada,OU=People"));
    assert_eq!((dn("DC=x").relative_to(&dn("DC=x")), dn("DC=x").depth()), (Some(Dn::default()), 1));
    assert_eq!(dn("DC=x").relative_to(&dn("OU=a,DC=x")), None);
    assert_eq!(dn("OU=a,DC=y").relative_to(&dn("DC=x")), None);
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

#[test]
fn older_forms_are_read_with_a_remark() {
    for (text, printed, remarks, why) in [
        ("CN=Ada,OU=People", "CN=Ada,OU=People", 0, "the standard's form"),
        ("CN=Ada;OU=People", "CN=Ada,OU=People", 1, "RFC 1779: semicolons"),
        (r#"CN="Ibbotson, Ada",O=x"#, r"CN=Ibbotson\, Ada,O=x", 1, "RFC 1779: quotation marks"),
        (r#"CN="a\"b" + OU=c"#, r#"CN=a\"b+OU=c"#, 2, "an escape inside quotation marks"),
        (r#"CN="" , O=x"#, "CN=,O=x", 2, "nothing between quotation marks"),
        ("OID.2.5.4.3=Ada,oid.2.5.4.10=x", "2.5.4.3=Ada,2.5.4.10=x", 1, "RFC 1779: the OID. prefix"),
        ("CN = Ada , OU = People", "CN=Ada,OU=People", 1, "blanks around separators"),
        ("CN=Ada,\n  OU=People\n", "CN=Ada,OU=People", 1, "over two lines"),
        ("dn: CN=Ada,O=x", "CN=Ada,O=x", 2, "out of an LDIF file"),
        ("2.5.4.3=#0403416461; O=x", "2.5.4.3=#0403416461,O=x", 2, "an encoded value"),
        ("oid=x", "oid=x", 0, "an attribute of that name"),
    ] {
        let pasted = Dn::parse_pasted(text).unwrap_or_else(|error| panic!("{why}: {text}: {error}"));
        assert_eq!((pasted.dn.to_string().as_str(), pasted.remarks.len()), (printed, remarks), "{why}");
        if let Err(error) = Dn::parse(text) {
            assert_eq!(error.instead(), Some(printed), "{why}");
            assert!(miette::Diagnostic::help(&error).unwrap().to_string().contains(printed), "{why}");
        }
    }
    for (text, kind) in [
        (r#"CN="Ada,O=x"#, DnErrorKind::NoQuote),
        ("Loans Desk", DnErrorKind::NoEquals),
        (r#"CN="a"b,O=x"#, DnErrorKind::Unescaped),
    ] {
        assert_eq!(Dn::parse_pasted(text).unwrap_err().kind(), kind, "{text}");
    }
}

#[test]
fn one_more_than_a_limit_is_refused() {
    let deep = |count: usize| vec!["O=x"; count].join(",");
    assert_eq!(Dn::parse(&deep(DEEPEST)).unwrap().depth(), DEEPEST);
    assert_eq!(Dn::parse(&deep(DEEPEST + 1)).unwrap_err().kind(), DnErrorKind::TooDeep);
    assert_eq!(Dn::parse(&deep(100_000)).unwrap_err().kind(), DnErrorKind::TooLong);
    let long = |bytes: usize| format!("O={}", "x".repeat(bytes - 2));
    assert!(Dn::parse(&long(LONGEST)).is_ok());
    assert_eq!(Dn::parse(&long(LONGEST + 1)).unwrap_err().kind(), DnErrorKind::TooLong);
}

proptest! {
    /// Printing and parsing must not lose anything.
    #[test]
    fn print_then_parse_is_identity(dn in any_dn()) {
        prop_assert_eq!(Dn::parse(&dn.to_string()).unwrap(), dn);
    }

    /// What a reader of keys knows of the name before makes no difference.
    #[test]
    fn a_key_is_the_same_whatever_name_was_read_before(
        texts in proptest::collection::vec(
            r##"(cn|ou)=(a|b|\\|\\,|\\2c|,|"|#0403|=|ä| ){0,4},(ou=\\\+b,dc=x|dc=x|dc=x,|x|)"##, 1..8
        ),
    ) {
        let mut reader = KeyReader::default();
        for text in &texts {
            prop_assert_eq!(reader.key(text).ok(), Dn::parse(text).ok().map(|dn| dn.key()), "{}", text);
        }
    }

    /// Whatever the text, no panic, and the place lies within it, between two characters.
    #[test]
    fn any_text_is_parsed_or_refused(text in r##"([a-zA-Z=,+\\"#; ä0-9.]|\PC){0,40}"##) {
        for read in [Dn::parse(&text), Dn::parse_pasted(&text).map(|pasted| pasted.dn)] {
            match read {
                Ok(dn) => prop_assert_eq!(Dn::parse(&dn.to_string()).unwrap(), dn),
                Err(error) => {
                    let span = error.span();
                    prop_assert!(text.get(span.offset()..span.offset() + span.len()).is_some());
                }
            }
        }
        if let Ok(dn) = Dn::parse(&text) {
            prop_assert_eq!(Dn::parse_pasted(&text).unwrap().dn, dn);
        }
    }
}
