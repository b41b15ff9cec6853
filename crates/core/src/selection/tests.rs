//! Each step lets the right people through, and the counts add up.

use super::*;
use crate::ldap::filter::Filter;
use crate::ldap::name::DnKey;
use crate::reading::{ReadingBuilder, Request, Source};
use crate::settings::Locked;
use crate::settings::rules::FieldRule;
use proptest::prelude::*;

fn key(dn: &str) -> DnKey {
    Dn::parse(dn).unwrap().key()
}

/// A person of the museum: CN, userAccountControl, and whether there is a mail and an identity.
fn builder(
    people: &[(&str, &str, bool, bool)],
    users: &[&str],
    leavers: &[&str],
    kind: ServerKind,
) -> ReadingBuilder {
    let mut builder =
        ReadingBuilder::new(Source { kind, identity: "entryUUID".to_owned(), ..Source::default() });
    for (cn, control, mail, identity) in people {
        let mut attributes =
            vec![("cn", vec![cn.as_bytes()]), ("userAccountControl", vec![control.as_bytes()])];
        if *mail {
            attributes.push(("mail", vec![b"a@quillmere.example".as_slice()]));
        }
        if *identity {
            attributes.push(("entryUUID", vec![cn.as_bytes()]));
        }
        builder.person(&format!("CN={cn},OU=People"), attributes).unwrap();
    }
    for (group, members) in [("CN=Users", users), ("CN=Leavers", leavers)] {
        let members: Vec<String> = members.iter().map(|cn| format!("cn={cn}, OU=People")).collect();
        let members = members.iter().map(|dn| (key(dn), dn.as_str()));
        builder.graph_mut().add_group(key(group), group, members);
    }
    builder
}

fn intake() -> Intake {
    let mut intake = Intake::for_tests();
    let rule = |from: &str| FieldRule { required: true, ..FieldRule::from(&[from]) };
    intake.fields.insert("login".to_owned(), rule("cn"));
    intake.fields.insert("email".to_owned(), rule("mail"));
    intake.groups = vec![Dn::parse("CN=Users").unwrap()];
    intake.not_in_group = vec![Dn::parse("CN=Leavers").unwrap()];
    intake
}

#[test]
fn everybody_falls_out_at_the_first_step_that_refuses_them() {
    let people = [
        ("ada", "512", true, true),
        ("ben", "512", true, true),
        ("cleo", "512", true, true),
        ("dora", "514", true, true),
        ("eli", "512", false, true),
        ("fay", "512", true, false),
        ("gus", "514", false, false),
    ];
    let members = ["ada", "cleo", "dora", "eli", "fay", "gus"];
    let intake = intake();
    let reading = builder(&people, &members, &["cleo", "gus"], ServerKind::Controller)
        .finish_shown(&Request::of(&intake));
    let selection = Selection::new(&reading, &intake);
    let steps: Vec<_> =
        selection.funnel.iter().map(|step| (step.step.name(), step.left, step.lost)).collect();
    assert_eq!(
        steps,
        [("found", 7, 0), ("groups", 6, 1), ("not_in_group", 4, 2), ("active", 3, 1), ("complete", 1, 2)]
    );
    assert_eq!(selection.candidates.iter().map(|one| one.proposal.login()).collect::<Vec<_>>(), ["ada"]);
    assert_eq!(selection.path(&reading, 0).groups, ["CN=Users"]);
    let reasons: Vec<_> = selection.dropped.iter().map(|one| (one.person, one.reason.clone())).collect();
    let missing = MissingField { field: "email".to_owned(), why: "has no value (from mail)".to_owned() };
    assert_eq!(
        reasons,
        [
            (1, Reason::NotAMember),
            (2, Reason::Excluded),
            (3, Reason::NotActive(None)),
            (4, Reason::Missing(missing)),
            (5, Reason::NoIdentity),
            (6, Reason::Excluded),
        ]
    );
}

#[test]
fn steps_that_the_settings_do_not_ask_for_are_not_shown() {
    let mut intake = intake();
    intake.groups.clear();
    intake.not_in_group.clear();
    let reading = builder(&[("dora", "514", true, true)], &[], &[], ServerKind::Plain)
        .finish_shown(&Request::of(&intake));
    let selection = Selection::new(&reading, &intake);
    assert_eq!(
        selection.funnel.iter().map(|step| step.step).collect::<Vec<_>>(),
        [Step::Found, Step::Complete]
    );
    intake.active = Some(Filter::parse("(userAccountControl=512)").unwrap());
    assert_eq!(
        Selection::new(&reading, &intake).candidates.len(),
        0,
        "the administrator's own filter counts"
    );
}

proptest! {
    /// Whoever is read is a candidate or fell out, once; the counts of the funnel say the same.
    #[test]
    fn the_funnel_adds_up(
        people in proptest::collection::vec((any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>()), 0..30),
    ) {
        let names: Vec<String> = (0..people.len()).map(|number| format!("p{number}")).collect();
        let list: Vec<_> = people.iter().zip(&names)
            .map(|((_, _, on, mail, identity), name)| (name.as_str(), if *on { "512" } else { "514" }, *mail, *identity))
            .collect();
        let pick = |which: fn(&(bool, bool, bool, bool, bool)) -> bool| -> Vec<&str> {
            people.iter().zip(&names).filter(|(person, _)| which(person)).map(|(_, name)| name.as_str()).collect()
        };
        let intake = intake();
        let reading = builder(&list, &pick(|one| one.0), &pick(|one| one.1), ServerKind::Controller).finish_shown(&Request::of(&intake));
        let selection = Selection::new(&reading, &intake);
        prop_assert_eq!(selection.candidates.len() + selection.dropped.len(), people.len());
        let mut before = people.len();
        for step in &selection.funnel {
            prop_assert_eq!(step.left + step.lost, before);
            before = step.left;
        }
        prop_assert_eq!(before, selection.candidates.len());
        let expected = people.iter().filter(|one| one.0 && !one.1 && one.2 && one.3 && one.4).count();
        prop_assert_eq!(before, expected);
    }
}

#[test]
fn people_are_named_one_by_one() {
    let people = [("ada", "512", true, true), ("ben", "512", true, true), ("cleo", "512", true, true)];
    for (only, except, expected, nobody, why) in [
        (&["ADA", "cn=Ben, ou=People"][..], &[][..], "ada ben", "", "by login and by name"),
        (&[], &["ben", "dora"], "ada cleo", "dora", "but these; one is nobody"),
        (&["ada", "ben"], &["ben"], "ada", "", "except is stronger"),
        (&["CN=ada"], &[], "", "CN=ada", "a name is a whole name"),
    ] {
        let mut intake = intake();
        intake.not_in_group.clear();
        intake.groups.clear();
        let list = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
        (intake.only, intake.except) = (list(only), list(except));
        let reading = builder(&people, &[], &[], ServerKind::Plain).finish_shown(&Request::of(&intake));
        let selection = Selection::new(&reading, &intake);
        let logins: Vec<&str> = selection.candidates.iter().map(|one| one.proposal.login()).collect();
        assert_eq!(
            (logins.join(" ").as_str(), selection.nobody.join(" ").as_str()),
            (expected, nobody),
            "{why}"
        );
        assert_eq!(selection.funnel[1].step, Step::Listed, "{why}");
    }
}

/// OpenLDAP's schema knows no order of `shadowExpire`, so that the server itself would compare nothing; whether it
/// has passed is told all the same.
#[test]
fn an_expiry_counts_where_the_server_knows_no_order() {
    for (days, left) in [("20419", 0), ("20420", 1)] {
        let mut intake = intake();
        (intake.groups, intake.not_in_group) = (Vec::new(), Vec::new());
        let at = "2025-11-27T12:00:00Z".parse().unwrap();
        let source =
            Source { kind: ServerKind::Plain, at, identity: "entryUUID".to_owned(), ..Source::default() };
        let mut builder = ReadingBuilder::new(source);
        let expire = "( 1.3.6.1.1.1.1.10 NAME 'shadowExpire' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )";
        let own = [("attributeTypes", expire.as_bytes())];
        builder
            .set_schema(crate::ldap::schema::Schema::read(ServerKind::Plain, own).filled(ServerKind::Plain));
        let values = [("cn", "ada"), ("mail", "a@x"), ("entryUUID", "1"), ("shadowExpire", days)];
        builder.person("CN=ada,OU=People", values.map(|(name, value)| (name, [value.as_bytes()]))).unwrap();
        let reading = builder.finish_shown(&Request::of(&intake));
        assert_eq!(Selection::new(&reading, &intake).candidates.len(), left, "{days}");
    }
}

#[test]
fn each_kind_of_server_says_in_its_own_way_who_is_active() {
    use ServerKind::{Controller, Plain};
    let (expired, locked) = ("has expired", "locked after wrong passwords");
    for (kind, values, verdict, verdict_of_locked, why) in [
        (Controller, &[("userAccountControl", "512")][..], "", "", "enabled"),
        (Controller, &[("userAccountControl", "514")], "-", "-", "disabled"),
        (Controller, &[("userAccountControl", "512"), ("accountExpires", "0")], "", "", "never"),
        (
            Controller,
            &[("userAccountControl", "512"), ("accountExpires", "9223372036854775807")],
            "",
            "",
            "never",
        ),
        (
            Controller,
            &[("userAccountControl", "512"), ("accountExpires", "134087148000000000")],
            expired,
            expired,
            "an hour ago",
        ),
        (
            Controller,
            &[("userAccountControl", "512"), ("accountExpires", "134087220000000000")],
            "",
            "",
            "in an hour",
        ),
        (
            Controller,
            &[("userAccountControl", "512"), ("msDS-User-Account-Control-Computed", "16")],
            "",
            locked,
            "locked out",
        ),
        (
            Controller,
            &[("userAccountControl", "512"), ("msDS-User-Account-Control-Computed", "8388608")],
            "",
            "",
            "password too old",
        ),
        (Plain, &[], "", "", "the directory says nothing"),
        (Plain, &[("nsAccountLock", "true")], "-", "-", "switched off, whatever the case"),
        (Plain, &[("nsAccountLock", "FALSE")], "", "", "on"),
        (Plain, &[("shadowExpire", "-1")], "", "", "never"),
        (Plain, &[("shadowExpire", "20419")], expired, expired, "since today"),
        (Plain, &[("shadowExpire", "20420")], "", "", "from tomorrow"),
        (Plain, &[("pwdAccountLockedTime", "000001010000Z")], "-", "-", "for good"),
        (Plain, &[("pwdAccountLockedTime", "20251127115900Z")], "", locked, "for a while"),
        (
            Plain,
            &[("accountExpires", "1"), ("userAccountControl", "2")],
            "",
            "",
            "what a controller would say",
        ),
    ] {
        let mut intake = intake();
        (intake.groups, intake.not_in_group) = (Vec::new(), Vec::new());
        for (which, verdict) in [(Locked::Active, verdict), (Locked::Inactive, verdict_of_locked)] {
            intake.locked = which;
            let at = "2025-11-27T12:00:00Z".parse().unwrap();
            let source = Source { kind, at, identity: "entryUUID".to_owned(), ..Source::default() };
            let mut builder = ReadingBuilder::new(source);
            let always = [("cn", "ada"), ("mail", "a@x"), ("entryUUID", "1")];
            let values = always.iter().chain(values).map(|(name, value)| (*name, [value.as_bytes()]));
            builder.person("CN=ada,OU=People", values).unwrap();
            let reading = builder.finish_shown(&Request::of(&intake));
            let selection = Selection::new(&reading, &intake);
            let told = match selection.dropped.first().map(|one| &one.reason) {
                None => "",
                Some(Reason::NotActive(words)) => words.unwrap_or("-"),
                Some(other) => panic!("{why}: {other:?}"),
            };
            assert!(told.ends_with(verdict) && told.is_empty() == verdict.is_empty(), "{why}: {told}");
        }
    }
}
