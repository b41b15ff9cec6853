//! What compares as equal, what comes before what, and which values a rule cannot read.

use super::*;
use proptest::prelude::*;
use std::cmp::Ordering;

#[test]
fn equal_values_are_prepared_alike() {
    for (rule, left, right, same, why) in [
        (Rule::CaseIgnore, "Ada  Ibbotson ", "ada ibbotson", true, "case and blanks (RFC 4518 2.6.1)"),
        (Rule::CaseIgnore, "ÅSA", "åsa", true, "case beyond ASCII"),
        (Rule::CaseIgnore, "ada", "adb", false, "another letter"),
        (Rule::CaseExact, "Ada", "ada", false, "case matters"),
        (Rule::CaseExact, "Ada ", "Ada", true, "outer blanks do not"),
        (Rule::Telephone, "+44 1632 960-001", "+441632960001", true, "blanks and hyphens"),
        (Rule::Integer, "0042", "42", true, "leading zeros"),
        (Rule::Integer, "-0", "0", true, "minus nothing"),
        (Rule::Time, "202611251200Z", "20261125120000Z", true, "seconds left out"),
        (Rule::Time, "20261125120000.0Z", "20261125120000Z", true, "an empty fraction"),
        (Rule::Time, "20261125010000+0200", "20261124230000Z", true, "an offset, over midnight"),
        (Rule::Time, "20240301003000+01", "20240229233000Z", true, "over a leap day"),
        (Rule::Name, r"CN=a\2Cb,DC=x", r"cn=A\,b,dc=X", true, "escapes and case"),
        (Rule::ObjectIdentifier, "Person", "person", true, "short names ignore case"),
        (
            Rule::Uuid,
            "7F1C0A52-0000-4000-8000-0123456789AB",
            "7f1c0a52-0000-4000-8000-0123456789ab",
            true,
            "case",
        ),
        (Rule::Octets, "a", "A", false, "bytes are bytes"),
    ] {
        let (left_form, right_form) = (prepare(rule, left.as_bytes()), prepare(rule, right.as_bytes()));
        assert!(left_form.is_some() && right_form.is_some(), "{why}");
        assert_eq!(left_form == right_form, same, "{why}: {left} {right}");
    }
}

#[test]
fn a_category_is_named_in_full_or_in_short() {
    let schema = Schema::builtin().find("OBJECTCATEGORY").unwrap();
    let stored = b"CN=Person,CN=Schema,CN=Configuration,DC=quillmere,DC=example";
    assert_eq!(schema.rule, Rule::Category);
    let parse = |text: &str| crate::filter::Filter::parse(text).unwrap();
    let mut entries = crate::entry::Entries::new();
    entries.push("CN=Ada", [("objectCategory", [stored.as_slice()])]);
    for (text, matches) in [
        ("(objectCategory=person)", true),
        ("(objectCategory=user)", true),
        ("(objectCategory=computer)", false),
        ("(objectCategory=cn=person,cn=Schema,CN=Configuration,DC=quillmere,DC=example)", true),
    ] {
        let filter = parse(text);
        let matcher = crate::filter::Matcher::new(&filter, Schema::builtin(), entries.names());
        assert_eq!(matcher.matches(entries.get(0).unwrap()), matches, "{text}");
    }
}

#[test]
fn values_that_a_rule_cannot_read_have_no_form() {
    for (rule, value) in [
        (Rule::Integer, "12a"),
        (Rule::Integer, ""),
        (Rule::Boolean, "true"),
        (Rule::Time, "2026-11-25"),
        (Rule::Time, "20261325120000Z"),
        (Rule::Time, "20261125120000"),
        (Rule::Time, "é0261125120000Z"),
        (Rule::Name, "Loans Desk Users"),
        (Rule::Uuid, "7f1c0a52"),
        (Rule::ObjectIdentifier, "per son"),
    ] {
        assert_eq!(prepare(rule, value.as_bytes()), None, "{rule:?} {value}");
    }
    assert_eq!(prepare(Rule::CaseIgnore, b"A\xff"), None, "not UTF-8");
}

#[test]
fn numbers_are_ordered_as_numbers() {
    for (left, right, order) in [
        ("9", "10", Ordering::Less),
        ("-9", "-10", Ordering::Greater),
        ("-1", "0", Ordering::Less),
        ("133495740000000000", "9223372036854775807", Ordering::Less),
        ("5", "5", Ordering::Equal),
    ] {
        assert_eq!(compare(Rule::Integer, left.as_bytes(), right.as_bytes()), order, "{left} {right}");
    }
}

#[test]
fn the_builtin_types_are_sound() {
    let schema = Schema::builtin();
    let mut oids: Vec<_> = schema.types().map(|known| known.oid).collect();
    let all = oids.len();
    oids.sort_unstable();
    oids.dedup();
    assert_eq!(oids.len(), all, "every OID once");
    assert_eq!(
        schema.find("surname;lang-de").map(AttributeType::definition).as_deref(),
        Some(
            "( 2.5.4.4 NAME ( 'sn' 'surname' ) EQUALITY caseIgnoreMatch ORDERING caseIgnoreOrderingMatch \
             SUBSTR caseIgnoreSubstringsMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 )"
        )
    );
    assert_eq!(schema.find("sAMAccountNam"), None);
}

proptest! {
    /// Comparing in place gives what preparing and comparing gives.
    #[test]
    fn comparing_in_place_equals_preparing(value in "[aAbBäÄ \t-]{0,6}", wanted in "[aAbBäÄ \t-]{0,6}") {
        for rule in [Rule::CaseIgnore, Rule::CaseExact, Rule::Telephone, Rule::ObjectIdentifier, Rule::Octets] {
            let Some(prepared) = prepare(rule, wanted.as_bytes()) else { continue };
            let slow = prepare(rule, value.as_bytes()).is_some_and(|value| value == prepared);
            prop_assert_eq!(equals(rule, value.as_bytes(), &prepared), slow, "{:?}", rule);
            let (initial, last) = prepared.split_at(prepared.len() / 2);
            let any = [b"b".to_vec()];
            let pieces = |value: &str| has_pieces(rule, value.as_bytes(), initial, &any, last);
            let prepared_value = prepare(rule, value.as_bytes());
            let again = prepared_value.and_then(|value| String::from_utf8(value.into_owned()).ok());
            prop_assert_eq!(pieces(&value), again.is_some_and(|value| pieces(&value)), "{:?}", rule);
        }
    }
}
