//! Each kind of rule on one person, as the settings write it; what was not read is never guessed.

use super::*;
use crate::ldap::name::Dn;
use crate::reading::{Ended, Part, Reading, ReadingBuilder, Request, Source as From};
use crate::settings::GroupPurpose;
use crate::settings::Settings;
use crate::settings::rules::Join;
use proptest::prelude::*;

fn settings(fields: &str) -> Settings {
    let text = format!(
        "[directory.d]\nservers = \"ldaps://dc1\"\n[accounts]\nstore = \"csv\"\npath = \"a.csv\"\n\
         [[intake]]\nname = \"staff\"\ndirectory = \"d\"\nbases = \"OU=People\"\nfilter = \"(cn=*)\"\n\
         [intake.fields]\nlogin = {{ from = \"uid\" }}\n{fields}"
    );
    Settings::parse("test", text.as_bytes()).unwrap_or_else(|error| panic!("{error:?}: {fields}"))
}

const GUID: [u8; 16] = [0x52, 0x0a, 0x1c, 0x7f, 0x34, 0x12, 0x78, 0x56, 0x80, 1, 2, 3, 4, 5, 6, 7];
const SID: [u8; 12] = [1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0];

/// Ada, who has everything; her manager Ben, who is one of the people; Cleo, who is not.
fn builder() -> ReadingBuilder {
    let mut builder = ReadingBuilder::new(From::default());
    let ada: [(&str, Vec<&[u8]>); 13] = [
        ("uid", vec![b"AIbbotson"]),
        ("cn", vec![b" Ada Ibbotson "]),
        ("displayName", vec![b"  "]),
        ("jpegPhoto", vec![b"\xff\xd8", b"text"]),
        ("l", vec![b"Stra\xc3\x9fe"]),
        ("department", vec![b"Botany"]),
        ("proxyAddresses", vec![b"SMTP:b@x", b"x500:/o=x", b"smtp:a@x"]),
        ("manager", vec![b"cn=Ben, OU=People"]),
        ("secretary", vec![b"CN=Cleo,OU=Elsewhere"]),
        ("objectGUID", vec![&GUID]),
        ("objectSid", vec![&SID]),
        ("whenCreated", vec![b"20261125091500.0Z"]),
        ("accountExpires", vec![b"9223372036854775807"]),
    ];
    builder.person("CN=Ada,OU=Botany,OU=People", ada).unwrap();
    builder.person("CN=Ben,OU=People", [("uid", vec![b"BEN".as_slice()])]).unwrap();
    let cleo = Dn::parse("CN=Cleo,OU=Elsewhere").unwrap();
    builder.followed(cleo.key(), "CN=Cleo,OU=Elsewhere", [("uid", vec![b"cleo".as_slice()])]);
    let ada = Dn::parse("CN=Ada,OU=Botany,OU=People").unwrap();
    let group = Dn::parse("CN=Curators").unwrap();
    builder.graph_mut().add_group(group.key(), "CN=Curators", [(ada.key(), "CN=Ada,OU=Botany,OU=People")]);
    for part in [
        builder.open(Part::People { base: Dn::parse("OU=People").unwrap() }),
        builder.open_group(&group, GroupPurpose::Decide),
        builder.open(Part::FollowedNames),
    ] {
        builder.close(part, Ended::Complete);
    }
    builder
}

/// What the field `x` of Ada comes to.
fn drawn(settings: &Settings, reading: &Reading) -> String {
    let drawer = Drawer::new(&settings.intakes.first, reading);
    match drawer.field(0, settings.intakes.first.fields.get_index_of("x").unwrap()) {
        Drawn::Value(value, _) => value.into_owned(),
        Drawn::Nothing => "nothing".to_owned(),
        Drawn::Open(open) => open.in_words(),
    }
}

#[test]
fn each_rule_draws_its_value() {
    for (rule, expected, why) in [
        (r#"{ from = "uid", case = "lower" }"#, "aibbotson", "small letters"),
        (r#"{ from = "l", case = "upper" }"#, "STRASSE", "large letters"),
        (
            r#"{ from = ["displayName", "cn"] }"#,
            "Ada Ibbotson",
            "a blank value is none, blanks at the ends go",
        ),
        (r#"{ from = "jpegPhoto" }"#, "text", "bytes that are no text are passed over"),
        (r#"{ from = "mail" }"#, "nothing", "no value"),
        (r#"{ value = "en-GB" }"#, "en-GB", "the same for everybody"),
        (r#"{ join = "{cn} ({l}) {{x}}" }"#, "Ada Ibbotson (Straße) {x}", "several attributes"),
        (r#"{ join = "{cn} {mail}" }"#, "nothing", "one of them has no value"),
        (
            r#"{ from = "proxyAddresses", every = true, cut_prefix = "smtp:" }"#,
            "a@x;b@x",
            "each that has the prefix, in order",
        ),
        (r#"{ from = "proxyAddresses", cut_prefix = "x500:" }"#, "/o=x", "the first that has the prefix"),
        (r#"{ from = "cn", cut_suffix = " ibbotson" }"#, "Ada", "letters' case does not matter"),
        (r#"{ from = "cn", cut_suffix = "x" }"#, "nothing", "one without the suffix does not count"),
        (r#"{ from = "cn", before = " " }"#, "Ada", "what comes before"),
        (r#"{ from = "cn", after = " " }"#, "Ibbotson", "what comes behind"),
        (
            r#"{ from = "cn", after = "@", before = "@" }"#,
            "Ada Ibbotson",
            "the whole, where the mark is missing",
        ),
        (r#"{ from = "department", map = { botany = "BOT" } }"#, "BOT", "looked up"),
        (r#"{ from = "l", map = { Botany = "BOT", "*" = "OTHER" } }"#, "OTHER", "all others"),
        (
            r#"{ from = "l", map = { Botany = "BOT" } }"#,
            "\u{201c}Straße\u{201d} is not in the map",
            "none of them",
        ),
        (r#"{ from = "objectGUID", read_as = "guid" }"#, "7f1c0a52-1234-5678-8001-020304050607", "a GUID"),
        (r#"{ from = "objectSid", read_as = "sid" }"#, "S-1-5-18", "a SID"),
        (r#"{ from = "objectSid", read_as = "base64" }"#, "AQEAAAAAAAUSAAAA", "bytes"),
        (r#"{ from = "whenCreated", read_as = "date" }"#, "2026-11-25", "a day"),
        (r#"{ from = "whenCreated", read_as = "time" }"#, "2026-11-25T09:15:00Z", "a time"),
        (r#"{ from = "accountExpires", read_as = "date" }"#, "nothing", "a time that never comes"),
        (r#"{ from = "cn", read_as = "date" }"#, "\u{201c} Ada Ibbotson \u{201d} is not a time", "no time"),
        (r#"{ from = "manager", follow = "login" }"#, "BEN", "one of the people"),
        (r#"{ from = "secretary", follow = "login" }"#, "cleo", "somebody who is none of the people"),
        (
            r#"{ from = "cn", follow = "login" }"#,
            "\u{201c}Ada Ibbotson\u{201d} is not the name of an entry",
            "no name",
        ),
        (
            r#"{ from = "cn", longest = 11 }"#,
            "\u{201c}Ada Ibbotson\u{201d} is longer than 11 characters",
            "too long",
        ),
        (r#"{ from = "cn", longest = 12 }"#, "Ada Ibbotson", "as long as may be"),
        (
            r#"{ from = "cn", pattern = 'a|Ada' }"#,
            "\u{201c}Ada Ibbotson\u{201d} does not match the pattern a|Ada",
            "a pattern is for the whole value",
        ),
        (r#"{ from = "jpegPhoto", pattern = 't.*' }"#, "text", "a value that fits"),
        (r#"[{ when = "(department=botany)", value = "40" }, { value = "10" }]"#, "40", "the first choice"),
        (r#"[{ when = "(department=Estates)", value = "40" }, { value = "10" }]"#, "10", "the last choice"),
        (r#"[{ in_group = "CN=Curators", value = "100" }, { value = "10" }]"#, "100", "a member"),
        (
            r#"[{ under = "OU=Estates,OU=People", value = "1" }, { under = "OU=Botany,OU=People", value = "2" }]"#,
            "2",
            "by place",
        ),
        (
            r#"[{ when = "(department=*)", from = "mail" }, { value = "10" }]"#,
            "10",
            "a choice without a value is passed over",
        ),
        (
            r#"{ choose = [{ in_group = "CN=Curators", under = "OU=Estates", value = "1" }], longest = 2 }"#,
            "nothing",
            "everything that is asked must hold",
        ),
    ] {
        let settings = settings(&format!("x = {rule}"));
        let reading = builder().finish_shown(&Request::of(&settings.intakes.first));
        assert!(reading.whole().is_some(), "{:?}", reading.gaps());
        assert_eq!(drawn(&settings, &reading), expected, "{why}: {rule}");
    }
}

#[test]
fn what_was_not_read_is_not_guessed() {
    let in_group = settings("x = [{ in_group = \"CN=Others\", value = \"1\" }, { value = \"2\" }]");
    let mut short = builder();
    let part = short.open_group(&Dn::parse("CN=Others").unwrap(), GroupPurpose::Decide);
    short.close(part, Ended::Short("cut".to_owned()));
    let followed = settings("x = { from = \"manager\", follow = \"login\" }");
    let mut unread = ReadingBuilder::new(From::default());
    unread.person("CN=Ada", [("manager", vec![b"CN=Ben".as_slice()]), ("uid", vec![b"ada"])]).unwrap();
    for (settings, builder, why) in [
        (&in_group, short, "is undecided: in Others was not read to its end"),
        (&followed, unread, "is undecided: the entry CN=Ben was not read"),
    ] {
        let reading = builder.finish_shown(&Request::of(&settings.intakes.first));
        assert!(reading.whole().is_none());
        assert_eq!(drawn(settings, &reading), why);
        assert!(Drawer::new(&settings.intakes.first, &reading).draw(0).unwrap().is_unsure());
    }
}

#[test]
fn an_entry_that_is_gone_has_no_field() {
    let settings = settings("x = { from = \"secretary\", follow = \"login\" }");
    let mut builder = builder();
    builder.followed_gone(Dn::parse("CN=Cleo,OU=Elsewhere").unwrap().key());
    assert_eq!(drawn(&settings, &builder.finish_shown(&Request::of(&settings.intakes.first))), "nothing");
}

#[test]
fn a_required_field_without_a_value_is_named() {
    for (rule, why) in [
        ("{ from = \"mail\", required = true }", "has no value (from mail)"),
        (
            "{ from = \"cn\", longest = 2, required = true }",
            "\u{201c}Ada Ibbotson\u{201d} is longer than 2 characters",
        ),
    ] {
        let settings = settings(&format!("x = {rule}"));
        let reading = builder().finish_shown(&Request::of(&settings.intakes.first));
        let missing = Drawer::new(&settings.intakes.first, &reading).draw(0).unwrap_err();
        assert_eq!((missing.field.as_str(), missing.why.as_str()), ("x", why));
    }
}

#[test]
fn a_text_with_places_is_read_or_refused_where_it_is_wrong() {
    for (text, at, why) in [
        ("{cn", 0, "not closed"),
        ("ä {cn}}", 7, "closed twice"),
        ("a {c n}", 2, "no attribute name"),
        ("plain", 0, "no place"),
    ] {
        assert_eq!(Join::parse(text).unwrap_err().at, at, "{why}");
    }
}

proptest! {
    /// Whatever a directory holds, drawing ends in a value of the rule's own form or says why not.
    #[test]
    fn any_bytes_are_drawn_or_refused(value in proptest::collection::vec(any::<u8>(), 0..24), at in 0..6_usize) {
        let rule = [
            r#"{ from = "x", read_as = "date", pattern = '\d{4,}-\d\d-\d\d|-.*' }"#,
            r#"{ from = "x", read_as = "guid", longest = 36 }"#,
            r#"{ from = "x", follow = "login" }"#,
            r#"{ from = "x", cut_prefix = "ß", cut_suffix = "ß", longest = 20 }"#,
            r#"{ join = "{x}{x}", before = "a", after = "b" }"#,
            r#"{ from = "x", every = true, map = { a = "b", "*" = "" } }"#,
        ][at];
        let settings = settings(&format!("x = {rule}"));
        let mut builder = ReadingBuilder::new(From::default());
        builder.person("CN=a", [("x", vec![value.as_slice()]), ("uid", vec![b"a"])]).unwrap();
        let reading = builder.finish_shown(&Request::of(&settings.intakes.first));
        let drawer = Drawer::new(&settings.intakes.first, &reading);
        if let Drawn::Value(text, choice) = drawer.field(0, 1) {
            prop_assert!(choice == 0 && !text.trim().is_empty());
        }
    }
}
