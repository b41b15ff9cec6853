//! RFC 4515's own examples, the truth tables of RFC 4511, and the laws of printing and matching.

use super::*;
use crate::ldap::entry::Entries;
use crate::ldap::schema::Schema;
use proptest::prelude::*;

#[test]
fn the_standards_examples_parse_and_print() {
    // RFC 4515 §4, and the corners of its grammar
    for (text, printed, why) in [
        ("(cn=Babs Jensen)", "(cn=Babs Jensen)", "equality"),
        ("(!(cn=Tim Howes))", "(!(cn=Tim Howes))", "not"),
        (
            "(&(objectClass=Person)(|(sn=Jensen)(cn=Babs J*)))",
            "(&(objectClass=Person)(|(sn=Jensen)(cn=Babs J*)))",
            "joined",
        ),
        ("(o=univ*of*mich*)", "(o=univ*of*mich*)", "substrings"),
        ("(seeAlso=)", "(seeAlso=)", "an empty value"),
        ("(cn:caseExactMatch:=Fred Flintstone)", "(cn:caseExactMatch:=Fred Flintstone)", "a rule by name"),
        ("(cn:=Betty Rubble)", "(cn:=Betty Rubble)", "no rule"),
        ("(sn:dn:2.4.6.8.10:=Barney Rubble)", "(sn:dn:2.4.6.8.10:=Barney Rubble)", "dn and a rule"),
        ("(o:dn:=Ace Industry)", "(o:dn:=Ace Industry)", "dn"),
        ("(:1.2.3:=Wilma Flintstone)", "(:1.2.3:=Wilma Flintstone)", "a rule alone"),
        ("(:DN:2.4.6.8.10:=Dino)", "(:dn:2.4.6.8.10:=Dino)", "no attribute"),
        (
            r"(o=Parens R Us \28for all your parenthetical needs\29)",
            r"(o=Parens R Us \28for all your parenthetical needs\29)",
            "parentheses",
        ),
        (r"(cn=*\2A*)", r"(cn=*\2a*)", "a star"),
        (r"(filename=C:\5cMyFile)", r"(filename=C:\5cMyFile)", "a backslash"),
        (r"(bin=\00\00\00\04)", r"(bin=\00\00\00\04)", "bytes"),
        (r"(sn=Lu\c4\8di\c4\87)", "(sn=Lučić)", "UTF-8 in hexadecimal"),
        (r"(1.3.6.1.4.1.1466.0=\04\02\48\69)", r"(1.3.6.1.4.1.1466.0=\04\02Hi)", "an OID"),
        ("(&)", "(&)", "absolute true (RFC 4526)"),
        ("(|)", "(|)", "absolute false (RFC 4526)"),
        ("(a=**)", "(a=*)", "two stars"),
        ("(cn;lang-de=x)", "(cn;lang-de=x)", "an option"),
    ] {
        let filter = Filter::parse(text).unwrap_or_else(|error| panic!("{why}: {text}: {error}"));
        assert_eq!(filter.to_string(), printed, "{why}");
    }
}

#[test]
fn what_is_no_filter_is_refused_at_its_place() {
    use FilterErrorKind as Kind;
    for (text, kind, at, why) in [
        ("", Kind::Empty, 0, "nothing"),
        ("cn=Ada", Kind::NoOpening, 0, "no parentheses"),
        ("(cn=Ada", Kind::NoClosing, 0, "not closed"),
        ("(&(cn=Ada)", Kind::NoClosing, 0, "the outer one not closed"),
        ("(cn=Ada))", Kind::Trailing, 8, "one too many"),
        ("(cn=Ada)(sn=B)", Kind::Trailing, 8, "two filters"),
        (")", Kind::NoOpening, 0, "a closing one first"),
        ("(&(cn=a) (cn=b))", Kind::NoOpening, 8, "a blank between clauses"),
        ("(!)", Kind::NotOne, 0, "nothing to negate"),
        ("(!(a=1)(b=2))", Kind::NotOne, 0, "two to negate"),
        ("(=Ada)", Kind::NoAttribute, 1, "no attribute"),
        ("()", Kind::NoAttribute, 1, "empty parentheses"),
        ("(c n=Ada)", Kind::BadAttribute, 1, "a blank in the name"),
        ("(cn)", Kind::NoComparison, 1, "no comparison"),
        ("(cn>5)", Kind::NoComparison, 1, "greater alone"),
        ("(a:b c:=1)", Kind::NoComparison, 1, "a blank in the rule"),
        ("(a:b:c:=1)", Kind::BadRule, 5, "two rules"),
        ("(a>=1*)", Kind::Star, 5, "a star in an ordering"),
        ("(cn=a(b)", Kind::Parenthesis, 5, "a bare parenthesis"),
        (r"(cn=a\zz)", Kind::BadEscape, 5, "an escape that is none"),
        ("(cn=a\0)", Kind::Nul, 5, "a NUL"),
        ("(cn=a)é", Kind::Trailing, 6, "text behind it, not ASCII"),
    ] {
        let error = Filter::parse(text).expect_err(why);
        assert_eq!((error.kind(), error.span().offset()), (kind, at), "{why}: {text}");
    }
}

#[test]
fn one_more_than_a_limit_is_refused() {
    let nested = |depth: usize| format!("{}(a=1){}", "(!".repeat(depth - 1), ")".repeat(depth - 1));
    let limits = Limits { depth: 7, bytes: 1000, clauses: 20 };
    assert!(Filter::parse_within(&nested(7), limits).is_ok());
    assert_eq!(Filter::parse_within(&nested(8), limits).unwrap_err().kind(), FilterErrorKind::TooDeep);
    let long = format!("(a={})", "x".repeat(997));
    assert_eq!(Filter::parse_within(&long, limits).unwrap_err().kind(), FilterErrorKind::TooLong);
    let many = |count: usize| format!("(|{})", "(a=1)".repeat(count));
    assert!(Filter::parse_within(&many(19), limits).is_ok());
    assert_eq!(Filter::parse_within(&many(20), limits).unwrap_err().kind(), FilterErrorKind::TooMany);
    let generous = Limits { depth: 100, bytes: usize::MAX, clauses: usize::MAX };
    for (text, kind, generously, why) in [
        (
            "(".repeat(10 << 20),
            FilterErrorKind::TooLong,
            Some(FilterErrorKind::NoAttribute),
            "10 MB of parentheses",
        ),
        ("(&".repeat(5 << 20), FilterErrorKind::TooLong, Some(FilterErrorKind::TooDeep), "and of signs"),
        (")".repeat(10 << 20), FilterErrorKind::TooLong, Some(FilterErrorKind::NoOpening), "the other ones"),
        (many(1_000_000), FilterErrorKind::TooLong, None, "1,000,000 clauses"),
        (many(100_000), FilterErrorKind::TooMany, None, "100,000 clauses"),
    ] {
        assert_eq!(Filter::parse_pasted(&text).unwrap_err().kind(), kind, "{why}");
        let read = Filter::parse_within(&text, generous);
        assert_eq!(read.as_ref().err().map(FilterError::kind), generously, "{why}");
    }
}

#[test]
fn a_filter_that_is_built_escapes_every_value() {
    let built = Filter::all([
        Filter::equal("cn", "a*(b)\\"),
        !Filter::begins_with("mail", "x*"),
        Filter::any([Filter::present("sn"), Filter::at_least("uidNumber", "5")]),
    ]);
    let text = r"(&(cn=a\2a\28b\29\5c)(!(mail=x\2a*))(|(sn=*)(uidNumber>=5)))";
    assert_eq!(built.to_string(), text);
    assert_eq!(
        built.indented(),
        "(&\n  (cn=a\\2a\\28b\\29\\5c)\n  (!\n    (mail=x\\2a*)\n  )\n  (|\n    (sn=*)\n    (uidNumber>=5)\n  )\n)\n"
    );
}

#[test]
fn a_deep_tree_is_printed_walked_and_dropped_without_recursion() {
    let mut filter = Filter::equal("a", "1");
    for _ in 0..300_000 {
        filter = Filter::Not(Box::new(filter));
    }
    assert_eq!(filter.depth(), 300_001);
    assert_eq!(filter.items().count(), 1);
    assert!(filter.to_string().starts_with("(!(!("));
}

fn ada() -> Entries {
    let mut entries = Entries::new();
    entries.push(
        "CN=Ada Ibbotson,OU=People,DC=quillmere,DC=example",
        [
            ("cn", vec![b"Ada Ibbotson".as_slice()]),
            ("sn", vec![b"Ibbotson"]),
            ("objectClass", vec![b"top".as_slice(), b"person", b"user"]),
            ("userAccountControl", vec![b"514"]),
            ("mail", vec![b"Ada.Ibbotson@quillmere.example"]),
            ("memberOf", vec![r"CN=Curators\, Chief,OU=Groups,DC=quillmere,DC=example".as_bytes()]),
            ("whenCreated", vec![b"20240102030405.0Z"]),
            ("objectGUID", vec![&[0, 1, 2, 0xff, 42][..]]),
            ("badgeColour", vec![b"Green"]),
        ],
    );
    entries
}

fn truth(text: &str, entries: &Entries) -> Truth {
    Matcher::new(&Filter::parse(text).unwrap(), Schema::builtin(), entries.names())
        .truth(entries.get(0).unwrap())
}

/// A server need not keep the classes above the one that an entry is given (OpenLDAP does not), and finds it by them.
#[test]
fn an_entry_is_of_the_classes_above_its_own() {
    let mut entries = Entries::new();
    entries.push("uid=ada", [("objectClass", [b"inetOrgPerson".as_slice()])]);
    for (text, expected) in [
        ("(objectClass=inetOrgPerson)", Truth::True),
        ("(objectClass=organizationalPerson)", Truth::True),
        ("(objectClass=2.5.6.6)", Truth::True),
        ("(objectClass=TOP)", Truth::True),
        ("(objectClass=groupOfNames)", Truth::False),
        ("(!(objectClass=person))", Truth::False),
    ] {
        assert_eq!(truth(text, &entries), expected, "{text}");
    }
}

#[test]
fn one_entry_against_every_kind_of_comparison() {
    use Truth::{False, True, Undefined};
    let entries = ada();
    for (text, expected, why) in [
        ("(cn=ada  IBBOTSON)", True, "case and blanks do not matter"),
        ("(commonName=Ada Ibbotson)", True, "another name of the type"),
        ("(2.5.4.3=Ada Ibbotson)", True, "the type's OID"),
        ("(cn=Ada*son)", True, "initial and last"),
        ("(cn=*a i*b*)", True, "pieces in between, with a blank"),
        ("(cn=A*A*A*)", False, "pieces may not overlap"),
        ("(cn=*b*a*)", False, "pieces in order"),
        ("(mail=ada.ibbotson@*)", True, "initial"),
        ("(title=*)", False, "known, not there"),
        ("(title=Curator)", False, "known, not there"),
        ("(title=)", Undefined, "text has at least one character (RFC 4517 3.3.6); slapd says so, too"),
        ("(nonsense=1)", Undefined, "not known"),
        ("(!(nonsense=1))", Undefined, "the opposite of undefined"),
        ("(badgeColour=green)", True, "not in the schema, but in the entry: text"),
        ("(objectClass=PERSON)", True, "one of several values"),
        ("(userAccountControl:1.2.840.113556.1.4.803:=2)", True, "every bit"),
        ("(userAccountControl:1.2.840.113556.1.4.803:=3)", False, "not every bit"),
        ("(userAccountControl:1.2.840.113556.1.4.804:=3)", True, "some bit"),
        ("(cn:1.2.840.113556.1.4.803:=2)", Undefined, "bits of a text"),
        ("(userAccountControl>=99)", True, "as numbers, not as text"),
        ("(userAccountControl<=99)", False, "as numbers, not as text"),
        ("(userAccountControl=disabled)", Undefined, "no number"),
        ("(userAccountControl=51*)", Undefined, "numbers have no pieces"),
        (
            r"(memberOf=cn=Curators\5c2c Chief,ou=Groups,dc=quillmere,dc=example)",
            True,
            "a name, escaped otherwise",
        ),
        ("(memberOf=Curators*)", Undefined, "names have no pieces"),
        ("(memberOf>=CN=A)", Undefined, "names have no order"),
        ("(whenCreated>=20240102030404Z)", True, "a time"),
        ("(whenCreated>=2025)", Undefined, "no time"),
        (r"(objectGUID=\00\01\02\ff\2a)", True, "bytes"),
        ("(cn:caseExactMatch:=ada ibbotson)", False, "a rule of the filter's own"),
        ("(cn:caseExactMatch:=Ada Ibbotson)", True, "a rule of the filter's own"),
        ("(cn:9.9.9:=Ada)", Undefined, "an unknown rule"),
        ("(ou:dn:=people)", True, "in the entry's own name"),
        ("(ou:=people)", False, "not without :dn"),
        ("(&)", True, "absolute true"),
        ("(|)", False, "absolute false"),
        ("(cn~=ada ibbotson)", True, "approximate is at least equal"),
    ] {
        assert_eq!(truth(text, &entries), expected, "{why}: {text}");
    }
}

#[test]
fn the_truth_tables_of_three_values() {
    // RFC 4511 §4.5.1.7: T, F, U written as filters
    let entries = ada();
    let (t, f, u) = ("(cn=*)", "(title=*)", "(nonsense=*)");
    for (join, left, right, expected) in [
        ('&', t, t, Truth::True),
        ('&', t, f, Truth::False),
        ('&', t, u, Truth::Undefined),
        ('&', u, f, Truth::False),
        ('&', f, u, Truth::False),
        ('&', u, u, Truth::Undefined),
        ('|', f, f, Truth::False),
        ('|', t, f, Truth::True),
        ('|', f, u, Truth::Undefined),
        ('|', u, t, Truth::True),
        ('|', t, u, Truth::True),
        ('|', u, u, Truth::Undefined),
    ] {
        let text = format!("({join}{left}{right})");
        assert_eq!(truth(&text, &entries), expected, "{text}");
        assert_eq!(truth(&format!("(!{text})"), &entries), !expected, "not {text}");
        assert_eq!(truth(&format!("(&(|{text})(&))"), &entries), expected, "wrapped {text}");
    }
}

fn any_value() -> impl Strategy<Value = Vec<u8>> {
    prop_oneof![
        "[a-c *()\\\\äÄ]{0,4}".prop_map(String::into_bytes),
        proptest::collection::vec(any::<u8>(), 0..4),
        "[0-9]{1,3}".prop_map(String::into_bytes),
    ]
}

fn any_item() -> impl Strategy<Value = Item> {
    let attribute = || {
        prop_oneof![Just("cn"), Just("sn"), Just("userAccountControl"), Just("nonsense"), Just("memberOf")]
    };
    let attribute = move || attribute().prop_map(SmolStr::new);
    let any_value = || any_value().prop_map(Octets::from);
    let piece = || any_value().prop_filter("a piece has bytes", |piece| !piece.is_empty());
    prop_oneof![
        (attribute(), any_value()).prop_map(|(attribute, value)| Item::Equal { attribute, value }),
        (attribute(), any_value()).prop_map(|(attribute, value)| Item::GreaterOrEqual { attribute, value }),
        (attribute(), any_value()).prop_map(|(attribute, value)| Item::LessOrEqual { attribute, value }),
        (attribute(), any_value()).prop_map(|(attribute, value)| Item::Approx { attribute, value }),
        attribute().prop_map(|attribute| Item::Present { attribute }),
        (attribute(), piece(), proptest::collection::vec(piece(), 0..3), proptest::option::of(piece()))
            .prop_map(|(attribute, initial, any, last)| Item::Substrings {
                attribute,
                initial: Some(initial),
                any,
                last
            }),
        (
            attribute(),
            proptest::option::of(Just("1.2.840.113556.1.4.803".into())),
            any::<bool>(),
            any_value()
        )
            .prop_map(|(attribute, rule, dn, value)| Item::Extensible {
                attribute: Some(attribute),
                rule,
                dn,
                value
            }),
    ]
}

pub(crate) fn any_filter() -> impl Strategy<Value = Filter> {
    any_item().prop_map(Filter::Item).prop_recursive(5, 40, 4, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..4).prop_map(Filter::And),
            proptest::collection::vec(inner.clone(), 0..4).prop_map(Filter::Or),
            inner.prop_map(|part| Filter::Not(Box::new(part))),
        ]
    })
}

/// The same rules in the plainest way: recursive, one clause at a time.
fn naive(filter: &Filter, entries: &Entries) -> Truth {
    let fold = |parts: &[Filter], stop: Truth, empty: Truth| {
        let truths: Vec<Truth> = parts.iter().map(|part| naive(part, entries)).collect();
        match (truths.contains(&stop), truths.contains(&Truth::Undefined)) {
            (true, _) => stop,
            (false, true) => Truth::Undefined,
            (false, false) => empty,
        }
    };
    match filter {
        Filter::And(parts) => fold(parts, Truth::False, Truth::True),
        Filter::Or(parts) => fold(parts, Truth::True, Truth::False),
        Filter::Not(part) => !naive(part, entries),
        Filter::Item(_) => {
            Matcher::new(filter, Schema::builtin(), entries.names()).truth(entries.get(0).unwrap())
        }
    }
}

proptest! {
    /// Printing and parsing must not lose anything.
    #[test]
    fn print_then_parse_is_identity(filter in any_filter()) {
        prop_assert_eq!(&Filter::parse_pasted(&filter.indented()).unwrap().filter, &filter);
        prop_assert_eq!(Filter::parse(&filter.to_string()).unwrap(), filter);
    }

    /// Whatever the text, no panic, and the place lies within it, between two characters.
    #[test]
    fn any_text_is_parsed_or_refused(text in r#"([a-c&|!()=*:~<>\\;. é0-9]|\PC){0,40}"#) {
        if let Err(error) = Filter::parse(&text) {
            let span = error.span();
            prop_assert!(text.get(span.offset()..span.offset() + span.len()).is_some());
        }
    }

    /// The flat evaluation with skips gives what the plain recursive one gives.
    #[test]
    fn fast_evaluation_equals_the_naive_one(filter in any_filter()) {
        let entries = ada();
        let matcher = Matcher::new(&filter, Schema::builtin(), entries.names());
        prop_assert_eq!(matcher.truth(entries.get(0).unwrap()), naive(&filter, &entries));
    }
}
