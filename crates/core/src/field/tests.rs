//! Each kind of rule on one entry.

use super::*;
use crate::entry::Entries;

#[test]
fn each_rule_draws_its_value() {
    let mut entries = Entries::new();
    entries.push(
        "CN=a",
        [
            ("sAMAccountName", vec![b"AIbbotson".as_slice()]),
            ("displayName", vec![b"  ".as_slice()]),
            ("cn", vec![b" Ada Ibbotson ".as_slice()]),
            ("jpegPhoto", vec![b"\xff\xd8".as_slice(), b"text"]),
            ("l", vec![b"Stra\xc3\x9fe".as_slice()]),
        ],
    );
    let from = |names: &[&str]| FieldRule {
        from: names.iter().map(|name| (*name).to_owned()).collect(),
        ..FieldRule::default()
    };
    for (rule, expected, why) in [
        (
            FieldRule { case: Some(Case::Lower), ..from(&["sAMAccountName"]) },
            Some("aibbotson"),
            "small letters",
        ),
        (FieldRule { case: Some(Case::Upper), ..from(&["l"]) }, Some("STRASSE"), "large letters"),
        (from(&["displayName", "cn"]), Some("Ada Ibbotson"), "a blank value is none, blanks at the ends go"),
        (from(&["jpegPhoto"]), Some("text"), "bytes that are no text are passed over"),
        (from(&["mail"]), None, "no value"),
        (
            FieldRule { value: Some("en-GB".to_owned()), ..FieldRule::default() },
            Some("en-GB"),
            "a fixed value",
        ),
    ] {
        assert_eq!(rule.draw(entries.get(0).unwrap()).as_deref(), expected, "{why}");
    }
}

#[test]
fn a_required_field_without_a_value_is_named() {
    let mut entries = Entries::new();
    entries.push("CN=a", [("uid", vec![b"a".as_slice()])]);
    let rule =
        |from: &str, required| FieldRule { from: vec![from.to_owned()], required, ..FieldRule::default() };
    let mut rules =
        IndexMap::from([("login".to_owned(), rule("uid", true)), ("email".to_owned(), rule("mail", false))]);
    let proposal = Proposal::draw(&rules, entries.get(0).unwrap()).unwrap();
    assert_eq!((proposal.login(), proposal.value(1)), ("a", ""));
    rules[1].required = true;
    let missing = Proposal::draw(&rules, entries.get(0).unwrap()).unwrap_err();
    assert_eq!((missing.field.as_str(), missing.from), ("email", vec!["mail".to_owned()]));
}
