//! Each kind of change and each clash on a small museum; the promises, under faults and by laws.

mod adopted;
mod compared;
mod evidence;
mod groups;
mod narrowed;
mod settled;
mod several;
mod story;
mod waiting;
mod written;

use super::*;
use crate::account::Account;
use crate::account::State;
use crate::apply::{Edit, Plan};
use crate::ldap::identity::Identity;
use crate::ldap::name::Dn;
use crate::reading::Reading;
use crate::reading::{Ended, Part, PartId, ReadingBuilder, Request, Source};
use crate::settings::Settings;

use crate::settings::{Adopt, GroupPurpose, LeavingAction, Removals};
use proptest::prelude::*;

/// Settings with three fields, whose link is entryUUID, and `CN=Out` as the group to keep out.
fn settings() -> Settings {
    let text = r#"
        [directory.d]
        servers = "ldaps://dc1"
        [accounts]
        store = "csv"
        path = "accounts.csv"
        protected = ["root"]
        seats = 3
        [[intake]]
        name = "staff"
        directory = "d"
        bases = "OU=People"
        filter = "(objectClass=person)"
        not_in_group = "CN=Out"
        active = "(!(employeeType=off))"
        [intake.fields]
        login = { from = "uid" }
        name = { from = "cn" }
        email = { from = "mail", required = true, unique = true }
        [intake.leaving]
        gone = { do = "remove" }
        [brakes]
        removals = "50%"
        fewest = 2
    "#;
    Settings::parse("test", text.as_bytes()).unwrap()
}

fn today() -> Memory {
    Memory::on(jiff::civil::date(2026, 11, 25))
}

#[derive(Clone, Debug)]
struct Person {
    id: String,
    uid: String,
    name: String,
    mail: String,
    off: bool,
    out: bool,
}

fn person(id: &str) -> Person {
    let mail = format!("{id}@quillmere.example");
    Person { id: id.into(), uid: id.into(), name: id.into(), mail, off: false, out: false }
}

fn account(id: &str) -> Account {
    let fields = [("name".into(), id.into()), ("email".into(), format!("{id}@quillmere.example").into())];
    let fields = fields.into_iter().collect();
    Account { login: id.into(), link: Identity::from_link(id), state: State::Active, fields }
}

fn by_hand(login: &str) -> Account {
    Account { link: None, ..account(login) }
}

fn dn(text: &str) -> Dn {
    Dn::parse(text).unwrap()
}

/// A reading of `people`; `absent` were looked up and are nowhere, `elsewhere` are outside. The
/// parts end as `endings` say: people, group, look-up.
fn read(people: &[Person], absent: &[&str], elsewhere: &[&str], endings: [bool; 3]) -> Reading {
    let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
    let end = |builder: &mut ReadingBuilder, part: PartId, whole: bool| {
        let ended = if whole { Ended::Complete } else { Ended::Short("cut".into()) };
        builder.close(part, ended);
    };
    let part = builder.open(Part::People { base: dn("OU=People") });
    for one in people {
        let mut values =
            vec![("entryUUID", &one.id), ("uid", &one.uid), ("cn", &one.name), ("mail", &one.mail)];
        let off = "off".to_owned();
        if one.off {
            values.push(("employeeType", &off));
        }
        values.retain(|(_, value)| !value.is_empty());
        let values = values.into_iter().map(|(name, value)| (name, [value.as_bytes()]));
        builder.person(&format!("CN={},OU=People", one.id), values).unwrap();
    }
    end(&mut builder, part, endings[0]);
    let part = builder.open_group(&dn("CN=Out"), GroupPurpose::Exclude);
    let out: Vec<String> =
        people.iter().filter(|one| one.out).map(|one| format!("CN={},OU=People", one.id)).collect();
    builder.graph_mut().add_group(
        dn("CN=Out").key(),
        "CN=Out",
        out.iter().map(|name| (dn(name).key(), name.as_str())),
    );
    end(&mut builder, part, endings[1]);
    let bare = |id: &&str| id.split('=').next().and_then(Identity::from_link);
    let asked = absent.iter().chain(elsewhere).filter_map(bare).collect();
    let part = builder.open(Part::Lookup { people: asked });
    for id in elsewhere {
        // `id` or `id=uid`, with a mailbox of that name.
        let (id, uid) = id.split_once('=').unwrap_or((id, id));
        let mail = format!("{uid}@quillmere.example");
        let values = [("entryUUID", id), ("uid", uid), ("mail", &mail)];
        let values =
            values.into_iter().filter(|_| !uid.is_empty()).map(|(name, value)| (name, [value.as_bytes()]));
        builder.found(Identity::from_link(id).unwrap(), &format!("CN={id},OU=Elsewhere"), values).unwrap();
    }
    end(&mut builder, part, endings[2]);
    builder.finish_shown(&Request::of(&settings().intakes.first))
}

fn whole(people: &[Person], absent: &[&str], elsewhere: &[&str]) -> Reading {
    read(people, absent, elsewhere, [true; 3])
}

/// The changes as words: kind, login, and the fields that change or the cause.
fn words(preview: &Preview) -> Vec<String> {
    let mut words: Vec<String> = preview
        .changes
        .iter()
        .map(|change| {
            let fields: Vec<&str> = change.fields.keys().map(String::as_str).collect();
            let rest = change.cause().map_or_else(|| fields.join(" "), |cause| cause.name().to_owned());
            format!("{} {} {rest}", change.kind().name(), change.login).trim_end().to_owned()
        })
        .collect();
    words.extend(preview.held.iter().map(|held| format!("held {} {:?}", held.login, held.reason)));
    words
}

#[test]
fn each_kind_of_change_comes_from_its_own_case() {
    let mut all = settings();
    all.intakes.first.adopt = Adopt::same_login();
    let suspended = |id| Account { state: State::Suspended, ..account(id) };
    let renamed = || Person { uid: "ada2".into(), name: "Ada Married".into(), ..person("ada") };
    for (people, accounts, absent, elsewhere, expected, why) in [
        (
            vec![person("ada")],
            vec![],
            vec![],
            vec![],
            vec!["import ada login name email"],
            "nobody there yet",
        ),
        (vec![person("ada")], vec![account("ada")], vec![], vec![], vec![], "all the same"),
        (
            vec![renamed()],
            vec![account("ada")],
            vec![],
            vec![],
            vec!["update ada login name"],
            "married: found by the link",
        ),
        (
            vec![person("ada")],
            vec![suspended("ada")],
            vec![],
            vec![],
            vec!["restore ada state"],
            "back again",
        ),
        (
            vec![person("ada")],
            vec![by_hand("ADA")],
            vec![],
            vec![],
            vec!["adopt ADA login name email link"],
            "made by hand, one login",
        ),
        (
            vec![Person { off: true, ..person("ada") }],
            vec![account("ada")],
            vec![],
            vec![],
            vec!["suspend ada disabled"],
            "not active",
        ),
        (
            vec![Person { out: true, ..person("ada") }],
            vec![account("ada")],
            vec![],
            vec![],
            vec!["suspend ada outside"],
            "in the group to keep out",
        ),
        (vec![], vec![account("ada")], vec![], vec!["ada"], vec!["suspend ada outside"], "moved"),
        (vec![], vec![account("ada")], vec!["ada"], vec![], vec!["remove ada gone"], "deleted"),
        (vec![], vec![suspended("ada")], vec![], vec!["ada"], vec![], "suspended already"),
        (
            vec![],
            vec![suspended("ada")],
            vec!["ada"],
            vec![],
            vec!["remove ada gone"],
            "suspended, now deleted",
        ),
        (
            vec![Person { mail: String::new(), ..person("ada") }],
            vec![account("ada")],
            vec![],
            vec![],
            vec!["held ada Kept"],
            "a value missing: kept",
        ),
        (vec![], vec![account("ada")], vec![], vec![], vec!["held ada NotLookedUp"], "nobody could look"),
        (vec![], vec![by_hand("ada")], vec![], vec![], vec![], "made by hand: not ours"),
        (
            vec![Person { name: "New".into(), ..person("root") }],
            vec![account("root")],
            vec![],
            vec![],
            vec!["held root Protected"],
            "protected",
        ),
        (
            vec![],
            vec![account("root")],
            vec!["root"],
            vec![],
            vec!["held root Protected"],
            "protected and gone",
        ),
    ] {
        let preview =
            Preview::of(Situation::new(&all, &whole(&people, &absent, &elsewhere), &accounts, &today()));
        assert_eq!(words(&preview), expected, "{why}");
    }
}

#[test]
fn each_clash_tells_both_sides_and_changes_nothing() {
    let settings = settings();
    let same = |uid: &str, id: &str| Person { uid: uid.into(), ..person(id) };
    let mail = |mail: &str, id: &str| Person { mail: mail.into(), ..person(id) };
    let email = "ada@quillmere.example";
    for (people, accounts, expected, why) in [
        (
            vec![same("x", "ada"), same("X", "ben")],
            vec![],
            vec!["the same login as CN=ben,OU=People", "the same login as CN=ada,OU=People"],
            "two people, one login",
        ),
        (
            vec![person("ada")],
            vec![by_hand("ada")],
            vec!["the login of ada, an account made by hand"],
            "made by hand, never adopted",
        ),
        (
            vec![same("root", "ada")],
            vec![by_hand("root")],
            vec!["the login of root, which is protected"],
            "protected",
        ),
        (
            vec![Person { mail: "ben@quillmere.example".into(), ..same("ben", "ada") }],
            vec![Account { link: Identity::from_link("old"), ..account("ben") }],
            vec!["the login and email of ben, whose person's entry is gone: the same person, made anew?"],
            "made anew",
        ),
        (
            vec![same("ben", "ada"), person("ben")],
            vec![account("ada"), account("ben")],
            vec!["the same login as CN=ben,OU=People"],
            "renamed onto somebody, who stays as they are",
        ),
        (
            vec![person("ada")],
            vec![Account { login: "a".into(), ..by_hand("ada") }],
            vec!["the email ada@quillmere.example of a, an account made by hand"],
            "made by hand, one address",
        ),
        (
            vec![mail(email, "ben"), person("ada")],
            vec![],
            vec![
                "the same email ada@quillmere.example as CN=ben,OU=People",
                "the same email ada@quillmere.example as CN=ada,OU=People",
            ],
            "two people, one address",
        ),
    ] {
        let preview =
            Preview::of(Situation::new(&settings, &whole(&people, &["old"], &[]), &accounts, &today()));
        let told: Vec<String> =
            preview.changes.iter().filter_map(|change| change.clash()).map(Clash::message).collect();
        assert_eq!(told, expected, "{why}");
        assert_eq!(preview.changes.len(), expected.len(), "{why}: nothing but the clash");
        assert_eq!(preview.accounts.after, preview.accounts.now, "{why}");
    }
}

/// Two entries with one identity: both clash if both are candidates, one if the other has dropped out; and the account
/// that is linked to it stays as it is, whoever of them drops out.
#[test]
fn one_identity_in_two_entries_is_a_clash_of_both_and_leaves_the_account_alone() {
    let settings = settings();
    let linked = || Account { login: "ada".into(), ..account("one") };
    for (off, accounts, clashes) in [
        ([false, false], vec![], 2),
        ([false, false], vec![linked()], 2),
        ([false, true], vec![linked()], 1),
        ([true, false], vec![linked()], 1),
        ([true, true], vec![linked()], 0),
    ] {
        let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
        for (uid, off) in ["ada", "ben"].into_iter().zip(off) {
            let mail = format!("{uid}@quillmere.example");
            let values = [
                ("entryUUID", "one"),
                ("uid", uid),
                ("cn", uid),
                ("mail", &mail),
                ("employeeType", if off { "off" } else { "on" }),
            ];
            let values = values.map(|(name, value)| (name, [value.as_bytes()]));
            builder.person(&format!("CN={uid},OU=People"), values).unwrap();
        }
        let part = builder.open(Part::People { base: dn("OU=People") });
        builder.close(part, Ended::Complete);
        let part = builder.open_group(&dn("CN=Out"), GroupPurpose::Exclude);
        builder.close(part, Ended::Complete);
        let reading = builder.finish_shown(&Request::of(&settings.intakes.first));
        let preview = Preview::of(Situation::new(&settings, &reading, &accounts, &today()));
        let same = preview.of_kind(ChangeKind::Clash);
        let others: Vec<&str> = same
            .filter_map(|change| match change.clash() {
                Some(Clash::SameIdentity { other }) => Some(other.as_str()),
                _ => None,
            })
            .collect();
        assert_eq!(
            (others.len(), preview.changes.len()),
            (clashes, clashes),
            "{off:?} {:?}",
            preview.changes
        );
        let held = usize::from(clashes == 0);
        assert_eq!(
            preview.held.iter().filter(|held| held.reason == HeldReason::SharedIdentity).count(),
            held
        );
    }
}

#[test]
fn an_incomplete_reading_takes_nobodys_account_away() {
    // Promise 1: whichever part is short, and whatever the settings say.
    let mut settings = settings();
    for action in [LeavingAction::Remove, LeavingAction::Suspend] {
        let leaving = &mut settings.intakes.first.leaving;
        (leaving.gone, leaving.outside, leaving.disabled, leaving.incomplete) =
            (action.into(), action.into(), action.into(), action.into());
        let people = [
            Person { off: true, ..person("off") },
            Person { out: true, ..person("out") },
            Person { mail: String::new(), ..person("half") },
            person("new"),
        ];
        let accounts = ["off", "out", "half", "gone", "moved"].map(account);
        let leaves = |preview: &Preview| {
            preview.of_kind(ChangeKind::Remove).chain(preview.of_kind(ChangeKind::Suspend)).count()
        };
        for short in 0..3 {
            let mut endings = [true; 3];
            endings[short] = false;
            let preview = Preview::of(Situation::new(
                &settings,
                &read(&people, &["gone"], &["moved"], endings),
                &accounts,
                &today(),
            ));
            assert_eq!(leaves(&preview), 0, "part {short} short");
            assert!(!preview.is_whole());
            assert_eq!(preview.held.iter().filter(|held| held.reason == HeldReason::NotWhole).count(), 5);
            let imported = preview.of_kind(ChangeKind::Import).count();
            assert_eq!(imported, usize::from(short != 1), "who must stay out is not known: nobody comes in");
        }
        assert_eq!(
            leaves(&Preview::of(Situation::new(
                &settings,
                &whole(&people, &["gone"], &["moved"]),
                &accounts,
                &today()
            ))),
            5
        );
    }
}

#[test]
fn new_accounts_can_be_switched_off() {
    let mut settings = settings();
    settings.intakes.first.new = false;
    let preview = Preview::of(Situation::new(&settings, &whole(&[person("ada")], &[], &[]), &[], &today()));
    assert_eq!(words(&preview), ["held ada NoNewAccounts"]);
}

#[test]
fn figures_and_brakes_follow_the_changes() {
    let mut settings = settings();
    let people = ["new1", "new2", "stay"].map(person);
    let accounts = [account("stay"), account("gone1"), account("gone2"), by_hand("hand"), by_hand("kiosk")];
    let reading = whole(&people, &["gone1", "gone2"], &[]);
    let preview = Preview::of(Situation::new(&settings, &reading, &accounts, &today()));
    let counts = preview.accounts;
    assert_eq!((counts.now, counts.after, counts.active_now, counts.active_after), (5, 5, 5, 5));
    let brakes: Vec<_> =
        preview.brakes.iter().map(|brake| (brake.kind.name(), brake.figure, brake.limit)).collect();
    assert_eq!(brakes, [("removals", 2, 1), ("seats", 5, 3), ("first", 2, 0)]);
    for (seats, unseated) in [(0, "new1 new2"), (3, "new1 new2"), (4, "new2"), (5, "")] {
        settings.accounts.seats = Some(seats);
        let preview = Preview::of(Situation::new(&settings, &reading, &accounts, &today()));
        assert_eq!(preview.unseated.join(" "), unseated, "{seats} seats");
    }
    settings.brakes.removals = Some(Removals::Number(2));
    settings.brakes.fewest = Some(4);
    settings.accounts.seats = Some(5);
    let preview = Preview::of(Situation::new(&settings, &reading, &accounts, &today()));
    let brakes: Vec<_> =
        preview.brakes.iter().map(|brake| (brake.kind.name(), brake.figure, brake.limit)).collect();
    assert_eq!(brakes, [("fewest", 3, 4), ("first", 2, 0)], "a limit that is met is not passed");
    settings.accounts.seats = Some(1);
    let nobody_comes =
        Preview::of(Situation::new(&settings, &whole(&people[2..], &[], &[]), &accounts[..1], &today()));
    assert!(
        !nobody_comes.brakes.iter().any(|brake| brake.kind == BrakeKind::Seats),
        "nobody takes a seat more"
    );
}

/// People who are renamed, into logins that are free, or that their holders leave in the same way.
#[test]
fn people_swap_their_logins_and_follow_one_another() {
    let named = |id: &str, uid: &str| Person { uid: uid.into(), ..person(id) };
    let all = [account("ada"), account("bo"), account("cy")];
    let taken = Person { out: true, ..person("cy") };
    let rows: [(&[Person], &[&str], &str); 7] = [
        (&[named("ada", "bo"), named("bo", "ada")], &["update ada login", "update bo login"], "they swap"),
        (
            &[named("ada", "bo"), named("bo", "cy"), named("cy", "new")],
            &["update ada login", "update bo login", "update cy login"],
            "one follows another",
        ),
        (
            &[named("ada", "bo"), named("bo", "cy"), named("cy", "ada")],
            &["update ada login", "update bo login", "update cy login"],
            "a ring of three",
        ),
        (
            &[named("ada", "bo"), named("bo", "cy"), person("cy")],
            &["clash ada", "clash bo"],
            "the last one stays, and so does everybody behind",
        ),
        (
            &[named("ada", "bo"), named("bo", "cy"), taken],
            &["suspend cy outside", "clash ada", "clash bo"],
            "kept, too",
        ),
        (&[named("ada", "x"), named("bo", "X")], &["clash ada", "clash bo"], "rivals for one login stay"),
        (
            &[named("ada", "x"), named("new", "ada")],
            &["import ada login name email", "update ada login"],
            "somebody new follows",
        ),
    ];
    for (people, expected, why) in rows {
        let accounts: Vec<Account> =
            all.iter().filter(|one| people.iter().any(|person| person.id == one.login)).cloned().collect();
        let preview =
            Preview::of(Situation::new(&settings(), &read_all(people, &accounts), &accounts, &today()));
        assert_eq!(words(&preview), expected, "{why}");
        carry_out(&preview, &accounts);
    }
    let mut once = settings();
    once.intakes.first.fields["login"].write = crate::settings::rules::Write::Once;
    let people = [named("ada", "bo"), named("bo", "ada")];
    let preview = Preview::of(Situation::new(&once, &read_all(&people, &all[..2]), &all[..2], &today()));
    assert!(words(&preview).is_empty(), "logins are written once: nobody claims another");
}

/// The list once everything is carried out, as an apply does it; nothing may be stale.
fn carry_out(preview: &Preview, accounts: &[Account]) -> Vec<Account> {
    let of = |change: &Change| accounts.iter().find(|one| one.login == change.login);
    let edits: Vec<Edit> = preview.changes.iter().filter_map(|change| Edit::of(change, of(change))).collect();
    let plan = Plan::of(&edits, accounts, &["email"]);
    assert_eq!(plan.left_out().next(), None);
    plan.made()
}

fn any_museum() -> impl Strategy<Value = (Vec<Person>, Vec<Account>, bool)> {
    let id = || "[a-f]";
    let one = (id(), id(), "[a-c]", any::<bool>(), any::<bool>(), any::<bool>()).prop_map(
        |(id, uid, name, mail, off, out)| {
            let mail = if mail { format!("{uid}@x") } else { String::new() };
            Person { mail, uid, name, off: off && out, out: out && !off, id }
        },
    );
    let people = proptest::collection::vec(one, 0..8).prop_map(|mut people| {
        people.sort_by(|left, right| left.id.cmp(&right.id));
        people.dedup_by(|left, right| left.id == right.id);
        people
    });
    let list =
        proptest::collection::vec((id(), proptest::option::of(id()), any::<bool>()), 0..8).prop_map(|rows| {
            let mut accounts: Vec<Account> = Vec::new();
            for (login, link, active) in rows {
                let link = link.and_then(|link| Identity::from_link(&link));
                if accounts.iter().any(|one| one.login == login || (link.is_some() && one.link == link)) {
                    continue;
                }
                let state = if active { State::Active } else { State::Suspended };
                accounts.push(Account { link, state, ..account(&login) });
            }
            accounts
        });
    (people, list, any::<bool>())
}

fn read_all(people: &[Person], accounts: &[Account]) -> Reading {
    let known = |id: &str| people.iter().any(|one| one.id == id);
    let links = accounts.iter().filter_map(|one| one.link.as_ref()).map(Identity::as_str);
    let missing: Vec<&str> = links.filter(|id| !known(id)).collect();
    whole(people, &missing, &[])
}

proptest! {
    /// Carrying a preview out leaves only what a person must decide.
    #[test]
    fn carrying_out_a_preview_leaves_nothing_to_do((people, accounts, adopt) in any_museum()) {
        let mut settings = settings();
        settings.intakes.first.adopt = if adopt { Adopt::same_login() } else { Adopt::Never };
        let first = Preview::of(Situation::new(&settings, &read_all(&people, &accounts), &accounts, &today()));
        let after = carry_out(&first, &accounts);
        let second = Preview::of(Situation::new(&settings, &read_all(&people, &after), &after, &today()));
        prop_assert!(!second.has_work(), "{:?}", words(&second));
        prop_assert_eq!(after.len(), first.accounts.after);
        let back: Vec<Edit> = first.changes.iter()
            .filter_map(|change| Edit::of(change, accounts.iter().find(|one| one.login == change.login)))
            .rev().map(|edit| edit.back()).collect();
        let mut restored = Plan::of(&back, &after, &["email"]).made();
        restored.sort_by(|left, right| left.login.cmp(&right.login));
        let mut before = accounts.clone();
        before.sort_by(|left, right| left.login.cmp(&right.login));
        prop_assert_eq!(restored, before, "undone");
        prop_assert_eq!(after.iter().filter(|one| one.state == State::Active).count(), first.accounts.active_after);
    }

    /// Promise 2: accounts without a link are never changed, except where they are adopted.
    #[test]
    fn accounts_made_by_hand_are_never_touched((people, accounts, adopt) in any_museum()) {
        let mut settings = settings();
        settings.intakes.first.adopt = if adopt { Adopt::same_login() } else { Adopt::Never };
        let preview = Preview::of(Situation::new(&settings, &read_all(&people, &accounts), &accounts, &today()));
        for change in &preview.changes {
            let own = accounts.iter().find(|one| one.login == change.login && change.kind() != ChangeKind::Import);
            let by_hand = own.is_some_and(|one| one.link.is_none());
            let allowed = change.kind() == ChangeKind::Clash || (adopt && change.kind() == ChangeKind::Adopt);
            prop_assert!(!by_hand || allowed, "{} {}", change.kind().name(), change.login);
        }
    }

    /// Promise 5: giving everybody another name removes nobody.
    #[test]
    fn renaming_everybody_takes_nobodys_account_away((people, _, _) in any_museum()) {
        let settings = settings();
        let people: Vec<Person> = people.into_iter().map(|one| Person { mail: format!("{}@x", one.id), uid: one.id.clone(), off: false, out: false, ..one }).collect();
        let accounts: Vec<Account> = people.iter().map(|one| account(&one.id)).collect();
        let renamed: Vec<Person> = people.iter().map(|one| Person { uid: format!("new-{}", one.id), name: "New".into(), ..one.clone() }).collect();
        let preview = Preview::of(Situation::new(&settings, &read_all(&renamed, &accounts), &accounts, &today()));
        prop_assert_eq!(preview.of_kind(ChangeKind::Update).count(), people.len());
        prop_assert_eq!(preview.changes.len(), people.len());
    }

    /// Every candidate and every linked account has one outcome; order does not matter.
    #[test]
    fn everybody_has_one_outcome_in_any_order((mut people, mut accounts, _) in any_museum()) {
        let settings = settings();
        let preview = Preview::of(Situation::new(&settings, &read_all(&people, &accounts), &accounts, &today()));
        let mut names: Vec<_> = preview.changes.iter().filter(|change| change.kind().is_done())
            .filter_map(|change| change.dn.clone()).collect();
        names.sort();
        let all = names.len();
        names.dedup();
        prop_assert_eq!(names.len(), all, "nothing is done to anybody twice");
        people.reverse();
        accounts.reverse();
        let other = Preview::of(Situation::new(&settings, &read_all(&people, &accounts), &accounts, &today()));
        prop_assert_eq!(words(&preview), words(&other));
    }
}
