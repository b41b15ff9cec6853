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
        (Rule::Time, "2026112512.5Z", "202611251230Z", true, "RFC 4517 3.3.13: a fraction of an hour"),
        (Rule::Time, "202611251230,25Z", "20261125123015Z", true, "of a minute, behind a comma"),
        (Rule::Time, "20261231235960Z", "20270101000000Z", true, "a leap second"),
        (Rule::Time, "20261125120000.5Z", "20261125120000Z", false, "half a second later"),
        (Rule::CaseIgnoreIa5, "Ada@X.example", "ada@x.EXAMPLE", true, "ASCII text without case"),
        (Rule::CaseExactIa5, "/home/Ada", "/home/ada", false, "ASCII text with case"),
        (Rule::Numeric, "15 079 672 281", "15079672281", true, "RFC 4517 4.2.22: blanks between digits"),
        (
            Rule::List,
            r"1234 Main St.$Anytown",
            r"1234  MAIN St. $anytown",
            true,
            "RFC 4517 4.2.9: line by line",
        ),
        (Rule::List, r"a$b", r"a b", false, "a line break counts"),
        (Rule::Bits, "'0101111101'B", "'0101111101'B", true, "RFC 4517 3.3.2"),
        (Rule::Bits, "'010'B", "'01'B", false, "bits at the end count"),
        (Rule::NameAndUid, "CN=a,DC=x#'0101'B", "cn=A,dc=x#'0101'B", true, "RFC 4517 3.3.21"),
        (Rule::NameAndUid, "CN=a,DC=x#'0101'B", "cn=a,dc=x", false, "the bits count"),
        (Rule::NameAndUid, "CN=a#1,DC=x", r"cn=a\231,dc=x", true, "a number sign inside a name"),
        (Rule::Marks, "Jürgen", "JURGEN", true, "a controller's text"),
        (Rule::Telephone, "+44 1632\u{2011}960", "+441632960", true, "RFC 4518 2.6.3: other hyphens"),
        (Rule::FirstComponent, "( 2.5.4.3 NAME 'cn' )", "2.5.4.3", true, "RFC 4517 4.2.27"),
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
    assert_eq!(schema.rule, Some(Rule::Category));
    let parse = |text: &str| crate::ldap::filter::Filter::parse(text).unwrap();
    let mut entries = crate::ldap::entry::Entries::new();
    entries.push("CN=Ada", [("objectCategory", [stored.as_slice()])]);
    for (text, matches) in [
        ("(objectCategory=person)", true),
        ("(objectCategory=user)", true),
        ("(objectCategory=computer)", false),
        ("(objectCategory=cn=person,cn=Schema,CN=Configuration,DC=quillmere,DC=example)", true),
    ] {
        let filter = parse(text);
        let matcher = crate::ldap::filter::Matcher::new(&filter, Schema::builtin(), entries.names());
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
        (Rule::Name, "CN=,DC=x"),
        (Rule::Name, " "),
        (Rule::Uuid, "7f1c0a52"),
        (Rule::ObjectIdentifier, "per son"),
        (Rule::ObjectIdentifier, "20261125"),
        (Rule::Telephone, "0161;ext=5"),
        (Rule::Numeric, "12a"),
        (Rule::Bits, "'012'B"),
        (Rule::Bits, "0101"),
        (Rule::CaseIgnoreIa5, "ä"),
        (Rule::Time, "20261125120000.Z"),
        (Rule::NameAndUid, "Loans Desk"),
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
fn definitions_are_read_as_servers_write_them() {
    let uuid = "( 1.3.6.1.1.16.4 NAME 'entryUUID' DESC 'UUID of (the) entry' EQUALITY UUIDMatch ORDERING UUIDOrderingMatch SYNTAX 1.3.6.1.1.16.1 SINGLE-VALUE NO-USER-MODIFICATION USAGE directoryOperation )";
    for (text, oid, names, single, operational, why) in [
        (
            "( 2.5.4.3 NAME ( 'cn' 'commonName' ) SUP name )",
            "2.5.4.3",
            "cn commonName",
            false,
            false,
            "RFC 4519",
        ),
        (uuid, "1.3.6.1.1.16.4", "entryUUID", true, true, "RFC 4530: parentheses in a quoted text"),
        (
            "( 1.2.840.113556.1.4.221 NAME 'sAMAccountName' SYNTAX '1.3.6.1.4.1.1466.115.121.1.15' SINGLE-VALUE )",
            "1.2.840.113556.1.4.221",
            "sAMAccountName",
            true,
            false,
            "a controller quotes the syntax",
        ),
        ("(2.5.4.0 NAME 'objectClass')", "2.5.4.0", "objectClass", false, false, "without blanks"),
        ("( 1.2 X-NEW ( 'a' 'b' ) NAME 'x' )", "1.2", "x", false, false, "words that are not known"),
        ("( 1.2 )", "1.2", "", false, false, "no name"),
        ("( 1.2 NAME ( 'a;b' '' 'c' ) )", "1.2", "c", false, false, "what nobody could ask for is no name"),
    ] {
        let read = AttributeType::parse(text).unwrap_or_else(|error| panic!("{why}: {error}"));
        let found = (read.oid.as_str(), read.names.join(" "), read.single, read.operational);
        assert_eq!(found, (oid, names.to_owned(), single, operational), "{why}");
    }
    let class = ObjectClass::parse(
        "( 2.5.6.6 NAME 'person' SUP top STRUCTURAL MUST ( sn $ cn ) MAY (userPassword$seeAlso ) )",
    )
    .unwrap();
    assert_eq!(
        (class.superiors.concat(), class.must.join(" "), class.may.join(" "), class.kind),
        ("top".to_owned(), "sn cn".to_owned(), "userPassword seeAlso".to_owned(), ClassKind::Structural)
    );
    let syntax = Syntax::parse("( 1.3.6.1.4.1.1466.115.121.1.27 DESC 'Integer' )").unwrap();
    assert_eq!(syntax.description, "Integer");
    for (text, error, why) in [
        ("", DefinitionError::NoParentheses, "nothing"),
        ("cn", DefinitionError::NoParentheses, "a name"),
        ("(", DefinitionError::NoOid, "an end in the middle"),
        ("()", DefinitionError::NoOid, "nothing inside"),
        ("( 'a' )", DefinitionError::NoOid, "a quoted OID"),
        ("( 1;2 NAME 'a' )", DefinitionError::NoOid, "an option is no part of an OID"),
        ("( 1.2 NAME ( 'a'", DefinitionError::NotEnded, "a list that does not end"),
        (&"(".repeat(LONGEST + 1), DefinitionError::TooLong, "too long"),
    ] {
        assert_eq!(AttributeType::parse(text), Err(error), "{why}");
    }
}

#[test]
fn the_builtin_types_are_sound() {
    for (kind, schema) in [ServerKind::Plain, ServerKind::Controller].map(|kind| (kind, Schema::of(kind))) {
        assert_eq!(schema.problems(), [], "{kind:?}");
        let mut oids: Vec<_> = schema.types().map(|known| &known.oid).collect();
        let all = oids.len();
        oids.sort_unstable();
        oids.dedup();
        assert_eq!(oids.len(), all, "{kind:?}: every OID once");
        assert!(all > 150 && schema.classes().count() > 30 && schema.rules().count() > 30);
    }
    // Every rule that the standards' definitions name is one that values can be compared by.
    for known in Schema::builtin().types().filter(|known| known.equality.is_some()) {
        if known.name() == "userCertificate" {
            continue; // certificateExactMatch takes a certificate apart, which nobody filters by
        }
        assert!(known.rule.is_some(), "{known:?}");
    }
    for rule in Schema::builtin().rules().flat_map(|rule| &rule.names).filter(|name| !name.contains("Bit")) {
        assert!(Rule::named(rule).is_some(), "{rule}");
    }
    assert_eq!(Schema::builtin().find("sAMAccountNam"), None);
}

#[test]
fn each_kind_of_server_compares_in_its_own_way() {
    use ServerKind::{Controller, Plain};
    for (kind, name, rule, is_ordered, has_pieces, single, why) in [
        (Plain, "surname;lang-de", Some(Rule::CaseIgnore), false, true, false, "from its superior"),
        (Controller, "sn", Some(Rule::Marks), true, true, true, "by its syntax"),
        (Plain, "mail", Some(Rule::CaseIgnoreIa5), false, true, false, "RFC 4524"),
        (Controller, "mail", Some(Rule::Marks), true, true, true, "one mail there"),
        (
            Plain,
            "sAMAccountName",
            Some(Rule::CaseIgnore),
            true,
            true,
            true,
            "a controller's, by the standard",
        ),
        (Plain, "jpegPhoto", None, false, false, false, "no equality at all"),
        (Plain, "createTimestamp", Some(Rule::Time), true, false, true, "RFC 4512"),
        (Controller, "accountExpires", Some(Rule::Integer), true, false, true, "a large integer"),
        (Plain, "uniqueMember", Some(Rule::NameAndUid), false, false, false, "RFC 4519"),
        (Plain, "entryCSN", Some(Rule::CaseExactIa5), true, false, true, "OpenLDAP's marks of changes"),
        (Plain, "2.5.4.20", Some(Rule::Telephone), false, true, false, "by OID"),
        (Controller, "entryDN", Some(Rule::Name), false, false, true, "a standard one that it may have"),
    ] {
        let known = Schema::of(kind).find(name).unwrap_or_else(|| panic!("{name}"));
        let found = (known.rule, known.is_ordered, known.has_pieces, known.single);
        assert_eq!(found, (rule, is_ordered, has_pieces, single), "{why}: {name}");
    }
}

#[test]
fn a_type_covers_the_kinds_of_it() {
    let covered = Schema::builtin().covered("name;lang-de");
    for expected in ["name;lang-de", "sn;lang-de", "surname;lang-de", "2.5.4.4;lang-de", "title;lang-de"] {
        assert!(covered.iter().any(|name| name == expected), "{expected}");
    }
    assert_eq!(Schema::builtin().covered("badgeColour"), ["badgeColour"], "what is not known is itself");
    assert!(!Schema::of(ServerKind::Controller).covered("name").contains(&"sn".to_owned()), "no kinds there");
}

#[test]
fn a_schema_of_nonsense_is_told_and_does_no_harm() {
    let published: Vec<(&str, &[u8])> = vec![
        ("attributeTypes", b"( 1 NAME 'a' SUP b EQUALITY caseIgnoreMatch )"),
        ("attributeTypes", b"( 2 NAME 'b' SUP c )"),
        ("attributeTypes", b"( 3 NAME 'c' SUP a )"),
        ("attributeTypes", b"( 4 NAME 'self' SUP self )"),
        ("attributeTypes", b"( 5 NAME 'lost' SUP nowhere EQUALITY noSuchMatch )"),
        ("attributeTypes", b"( 6 NAME 'mail' EQUALITY caseIgnoreIA5Match )"),
        ("attributetypes", b"( 7 NAME ( 'department' 'dept' ) )"),
        ("attributeTypes", b"\xff\xfe"),
        ("objectClasses", b"person"),
        ("objectClasses", b"( 8 NAME 'robot' )"),
        ("whatever", b"( 1.2 )"),
    ];
    let schema = Schema::read(ServerKind::Plain, published);
    let told: Vec<&str> = schema.problems().iter().map(|problem| problem.place.as_str()).collect();
    assert_eq!(told, ["\u{fffd}\u{fffd}", "person", "a", "b", "c", "self"]);
    assert_eq!(schema.find("c").unwrap().rule, Some(Rule::CaseIgnore), "as far as the circle goes");
    assert_eq!((schema.find("lost").unwrap().rule, schema.find("DEPT;x").is_some()), (None, true));
    assert!(schema.is_complete() && schema.find_class("robot").is_some());
    for (wanted, nearest) in
        [("departement", Some("department")), ("maill", Some("mail")), ("telephoneNumber", None)]
    {
        assert_eq!((schema.nearest(wanted), schema.find(wanted).is_none()), (nearest, true), "{wanted}");
    }
    assert_eq!(schema.nearest_class("robots"), Some("robot"));
}

proptest! {
    /// Comparing in place gives what preparing and comparing gives.
    #[test]
    fn comparing_in_place_equals_preparing(value in "[aAbBäÄ \t-]{0,6}", wanted in "[aAbBäÄ \t-]{0,6}") {
        for rule in [Rule::CaseIgnore, Rule::CaseExact, Rule::Marks, Rule::CaseIgnoreIa5, Rule::Telephone, Rule::ObjectIdentifier, Rule::Octets] {
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
    /// The same of names, in every way of writing them.
    #[test]
    fn comparing_names_in_place_equals_preparing(
        value in r#"(CN|uid|userId|OID\.2\.5\.4\.3) ?= ?[aAb\\"+=#4é\u{301} ]{0,5}(\+uid=[ab])?([,;] ?o=[xX])?"#,
        wanted in r#"(cn|commonName|UID|2\.5\.4\.3)=[aAb\\"+=#4é\u{301} ]{0,5}(\+uid=[ab])?(,o=x)?"#,
    ) {
        if let Some(prepared) = prepare(Rule::Name, wanted.as_bytes()) {
            let slow = prepare(Rule::Name, value.as_bytes()).is_some_and(|value| value == prepared);
            prop_assert_eq!(equals(Rule::Name, value.as_bytes(), &prepared), slow);
        }
    }
    /// A server may publish anything.
    #[test]
    fn any_text_is_read_or_refused(texts in proptest::collection::vec("[( )'A-Z0-9.$ä]{0,60}|\\( [1-9] NAME '[a-c]' SUP [a-c] \\)", 0..6)) {
        let schema = Schema::read(
            ServerKind::Plain,
            texts.iter().flat_map(|text| ["attributeTypes", "objectClasses"].map(|kind| (kind, text.as_bytes()))),
        );
        prop_assert!(schema.types().count() <= texts.len());
    }
}

/// 389 Directory Server compares by syntax what has no rule, and orders what has no ordering rule.
#[test]
fn a_server_that_goes_by_syntax_compares_what_names_no_rule() {
    let of = |definition: &str| {
        let read = Schema::read(ServerKind::Plain, [("attributeTypes", definition.as_bytes())]);
        [read.clone(), read.by_syntax(ServerKind::Plain)]
            .map(|schema| schema.find("x").map(|known| (known.rule, known.is_ordered)).unwrap())
    };
    let text = "1.3.6.1.4.1.1466.115.121.1.15";
    let lock = format!("( 1.2.3 NAME 'x' SYNTAX {text} )");
    assert_eq!(of(&lock), [(None, false), (Some(Rule::CaseIgnore), true)]);
    let exact = format!("( 1.2.3 NAME 'x' EQUALITY caseExactMatch SYNTAX {text} )");
    assert_eq!(of(&exact), [(Some(Rule::CaseExact), false), (Some(Rule::CaseExact), true)]);
}
