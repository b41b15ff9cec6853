//! Readings that show less than the last apply remembers, or than the accounts have.

use super::*;
use crate::reading::{ChangeMark, Footprint};

/// Settings with a role by an attribute, which `active` tests as well.
fn with_role() -> Settings {
    let text = r#"
        [directory.d]
        servers = "ldaps://dc1"
        [accounts]
        store = "csv"
        path = "accounts.csv"
        [[intake]]
        name = "staff"
        directory = "d"
        bases = "OU=People"
        filter = "(objectClass=person)"
        not_in_group = "CN=Out"
        adopt = "same-login"
        match = ["link", "login"]
        [intake.fields]
        login = { from = "uid" }
        name = { from = "cn" }
        email = { from = "mail" }
        [[intake.role]]
        name = "approver"
        when = "(employeeType=off)"
        [intake.leaving]
        gone = { do = "remove" }
    "#;
    Settings::parse("test", text.as_bytes()).unwrap()
}

fn with_role_account(id: &str) -> Account {
    let mut one = account(id);
    one.fields.insert("roles".into(), "approver".into());
    one
}

fn off(id: &str) -> Person {
    Person { off: true, ..person(id) }
}

const MANY: [&str; 8] = ["p1", "p2", "p3", "p4", "p5", "p6", "p7", "p8"];

/// The footprint of a reading of these people.
fn remembered(settings: &Settings, people: &[Person]) -> Footprint {
    Footprint::of(&whole(people, &[], &[]), &settings.intakes.first)
}

/// The changes of a reading that is held against what an apply remembers.
fn held_against(
    settings: &Settings,
    (people, absent): (&[Person], &[&str]),
    before: Option<&Footprint>,
    accounts: &[Account],
) -> Preview {
    let mut reading = whole(people, absent, &[]);
    reading.hold_against(&settings.intakes.first, before);
    let memory = Memory { applied: Some(settings.selecting()), ..today() };
    Preview::of(Situation::new(settings, &reading, accounts, &memory))
}

fn brakes(preview: &Preview) -> Vec<&'static str> {
    preview.brakes.iter().map(|brake| brake.kind.name()).collect()
}

#[test]
fn a_role_by_an_attribute_that_nobody_shows_stays() {
    let settings = with_role();
    let accounts = MANY.map(with_role_account);
    let before = remembered(&settings, &MANY.map(off));
    let hidden = held_against(&settings, (&MANY.map(person), &[]), Some(&before), &accounts);
    assert!(words(&hidden).is_empty(), "{:?}", words(&hidden));
    assert!(!hidden.is_whole() && brakes(&hidden) == ["shrunk"], "{:?}", hidden.brakes);
    // Where nothing is remembered, the accounts show that too many would lose it.
    let first = held_against(&settings, (&MANY.map(person), &[]), None, &accounts);
    assert!(words(&first).is_empty(), "{:?}", words(&first));
    assert_eq!(brakes(&first), ["shrunk"]);
    // One of them may lose it.
    let mut people = MANY.map(off);
    people[0] = person("p1");
    let one = held_against(&settings, (&people, &[]), Some(&before), &accounts);
    assert_eq!((words(&one), brakes(&one)), (vec!["update p1 roles".to_owned()], vec![]));
}

#[test]
fn values_that_too_many_would_lose_stay() {
    let settings = with_role();
    let accounts = MANY.map(account);
    let without = |count: usize| -> Vec<Person> {
        let mail =
            |at: usize, id: &str| if at < count { String::new() } else { format!("{id}@quillmere.example") };
        MANY.iter().enumerate().map(|(at, id)| Person { mail: mail(at, id), ..person(id) }).collect()
    };
    let before = remembered(&settings, &MANY.map(person));
    for (count, remembers, lost, brake) in [
        (1, true, 1, ""),
        (4, true, 4, ""),
        (5, true, 0, "shrunk"),
        (8, true, 0, "shrunk"),
        (4, false, 4, ""),
        (5, false, 0, "shrunk"),
        (8, false, 0, "shrunk"),
    ] {
        let before = remembers.then_some(&before);
        let preview = held_against(&settings, (&without(count), &[]), before, &accounts);
        assert_eq!(preview.of_kind(ChangeKind::Update).count(), lost, "{count} {remembers}");
        assert_eq!(brakes(&preview).join(" "), brake, "{count} {remembers}");
    }
    // Once an apply has accepted it, it is as before.
    let accepted = remembered(&settings, &without(8));
    let preview = held_against(&settings, (&without(8), &[]), Some(&accepted), &accounts);
    assert_eq!((preview.of_kind(ChangeKind::Update).count(), brakes(&preview)), (8, vec![]));
}

#[test]
fn who_leaves_with_everybody_else_is_kept() {
    let settings = with_role();
    let accounts = MANY.map(account);
    let before = remembered(&settings, &MANY.map(person));
    let nobody = held_against(&settings, (&[], &MANY), Some(&before), &accounts);
    assert!(nobody.held.iter().all(|held| held.reason == HeldReason::NotWhole) && nobody.held.len() == 8);
    assert!(nobody.gaps.iter().any(|gap| gap.part == "people under OU=People"), "{:?}", nobody.gaps);
    // All of one container, while others are there.
    let others: Vec<Person> = MANY.iter().map(|id| person(id)).collect();
    let mut bigger = remembered(&settings, &others);
    bigger.containers.insert("OU=Botany,OU=People".to_owned(), 6);
    bigger.people.insert("OU=People".to_owned(), 14);
    let part = held_against(&settings, (&others, &["gone"]), Some(&bigger), &[account("gone")]);
    assert_eq!(words(&part).last().unwrap(), "held gone NotWhole");
    assert!(part.gaps[0].part.contains("OU=Botany"), "{:?}", part.gaps);
    // Those who moved to another container are not missing.
    bigger.containers.insert("OU=People".to_owned(), 2);
    let moved = held_against(&settings, (&others, &["gone"]), Some(&bigger), &[account("gone")]);
    assert!(moved.is_whole(), "{:?}", moved.gaps);
}

#[test]
fn another_identity_or_view_is_never_taken_in_silence() {
    let settings = with_role();
    let accounts = MANY.map(account);
    let people = MANY.map(person);
    let mut before = remembered(&settings, &people);
    before.identity = "nsUniqueId".to_owned();
    let preview = held_against(&settings, (&people[..4], &MANY[4..]), Some(&before), &accounts);
    assert!(preview.of_kind(ChangeKind::Remove).next().is_none(), "{:?}", words(&preview));
    assert!(preview.gaps[0].reason.contains("made by nsUniqueId, and people show entryUUID"));
    let mut before = remembered(&settings, &people);
    before.is_controller = true;
    before.bound = Some("somebody".to_owned());
    let preview = held_against(&settings, (&people, &[]), Some(&before), &accounts);
    assert_eq!(brakes(&preview), ["view"], "the reading of a test is nobody's");
}

#[test]
fn a_mark_that_falls_is_a_server_that_fell_back() {
    let times = |list: &[&str]| ChangeMark::Times(list.iter().map(|time| (*time).to_owned()).collect());
    for (now, earlier, is_behind) in [
        (ChangeMark::Number(7), ChangeMark::Number(8), true),
        (ChangeMark::Number(8), ChangeMark::Number(8), false),
        (times(&["20261125", "20261124"]), times(&["20261125", "20261125"]), true),
        (times(&["20261126"]), times(&["20261125"]), false),
        (ChangeMark::Number(1), times(&["20261125"]), false),
    ] {
        assert_eq!(now.is_behind(&earlier), is_behind, "{now:?} {earlier:?}");
    }
}

#[test]
fn adoption_hands_over_no_role_that_no_rule_gives() {
    let mut settings = with_role();
    let mut admin = by_hand("p1");
    admin.fields.insert("roles".into(), "admin;approver".into());
    let told = |settings: &Settings, people: &[Person]| {
        let reading = whole(people, &[], &[]);
        let preview = Preview::of(Situation::new(settings, &reading, std::slice::from_ref(&admin), &today()));
        let about = preview.held.first().map(|held| held.message().into_owned()).unwrap_or_default();
        (words(&preview).join("; "), about)
    };
    let (held, about) = told(&settings, &[off("p1")]);
    assert_eq!(held, "held p1 RoleHandedOver");
    assert!(about.ends_with(": admin"), "{about}");
    let (_, about) = told(&settings, &[person("p1")]);
    assert!(about.ends_with(": admin"), "the rule takes the other away: {about}");
    settings.intakes.first.adopt_roles = true;
    assert_eq!(told(&settings, &[off("p1")]).0, "adopt p1 link");
    settings.intakes.first.adopt_roles = false;
    settings.accounts.whose.insert("p1".to_owned(), Identity::from_link("p1").unwrap());
    assert_eq!(told(&settings, &[off("p1")]).0, "adopt p1 link", "somebody's word");
}

#[test]
fn a_link_belongs_to_the_directory_that_it_comes_from() {
    let mut settings = with_role();
    let other = settings.directories["d"].clone();
    settings.directories.insert("partner".to_owned(), other);
    let link = Identity::from_link("p1").unwrap();
    let told = |settings: &Settings, origin: &str, people: &[Person]| {
        let reading = whole(people, &["p1"], &[]);
        let memory = Memory { origins: [(link.clone(), origin.to_owned())].into(), ..today() };
        let accounts = [Account { state: State::Suspended, ..account("p1") }];
        words(&Preview::of(Situation::new(settings, &reading, &accounts, &memory))).join("; ")
    };
    assert_eq!(told(&settings, "d", &[person("p1")]), "restore p1 state");
    assert_eq!(told(&settings, "partner", &[person("p1")]), "clash p1");
    assert_eq!(
        told(&settings, "renamed", &[person("p1")]),
        "restore p1 state",
        "the settings call it otherwise now"
    );
    let says = |origin: &str, people: &[Person]| {
        let mut settings = settings.clone();
        settings.accounts.origin = Some("source".to_owned());
        let reading = whole(people, &["p1"], &[]);
        let mut own = Account { state: State::Suspended, ..account("p1") };
        own.fields.extend([("source".into(), origin.into())]);
        let accounts = [own];
        words(&Preview::of(Situation::new(&settings, &reading, &accounts, &today()))).join("; ")
    };
    assert_eq!(says("partner", &[person("p1")]), "clash p1", "the account says so itself");
    assert_eq!(says("d", &[person("p1")]), "restore p1 state");
    assert_eq!(says("", &[person("p1")]), "restore p1 state");
    settings.accounts.whose.insert("p1".to_owned(), link.clone());
    assert_eq!(told(&settings, "partner", &[person("p1")]), "restore p1 state", "somebody's word");
}

#[test]
fn the_present_value_stays_as_long_as_it_is_among_them() {
    let settings = with_role();
    let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
    let part = builder.open(Part::People { base: dn("OU=People") });
    let uids = ["zoe", "ada", "ada2"].map(str::as_bytes).to_vec();
    let one = |text: &'static str| vec![text.as_bytes()];
    builder
        .person(
            "CN=ada,OU=People",
            [
                ("entryUUID", one("ada")),
                ("uid", uids),
                ("cn", one("ada")),
                ("mail", one("ada@quillmere.example")),
            ],
        )
        .unwrap();
    builder.close(part, Ended::Complete);
    let part = builder.open_group(&dn("CN=Out"), GroupPurpose::Exclude);
    builder.close(part, Ended::Complete);
    let reading = builder.finish_shown(&Request::of(&settings.intakes.first));
    for (login, expected) in [("ada", vec![]), ("ada2", vec![]), ("eve", vec!["update eve login".to_owned()])]
    {
        let accounts = [Account { login: login.to_owned(), ..account("ada") }];
        let preview = Preview::of(Situation::new(&settings, &reading, &accounts, &today()));
        assert_eq!(words(&preview), expected, "{login}");
    }
}

#[test]
fn nothing_invisible_becomes_a_login() {
    let settings = with_role();
    for (uid, why) in [("\u{feff}admin", "U+FEFF"), ("ad\0min", "U+0000"), ("ad\u{200b}min", "U+200B")] {
        let people = [Person { uid: uid.to_owned(), ..person("p1") }];
        let preview = held_against(&settings, (&people, &[]), None, &[]);
        assert!(preview.changes.is_empty(), "{why}: {:?}", words(&preview));
        assert!(preview.incomplete[0].missing.contains(why), "{:?}", preview.incomplete);
    }
    let people = [Person { name: "Noura\u{200c} al-Hakim".to_owned(), ..person("p1") }];
    assert_eq!(held_against(&settings, (&people, &[]), None, &[]).changes.len(), 1, "a name may need it");
    let people = [Person { name: "No\0ura".to_owned(), ..person("p1") }];
    let preview = held_against(&settings, (&people, &[]), None, &[]);
    assert!(preview.open_fields[0].why.contains("U+0000"), "{:?}", preview.open_fields);
}
