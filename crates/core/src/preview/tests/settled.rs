//! Every claim settles: what is moved in one apply, who waits, who clashes, and what each offered word does.

use super::*;
use crate::preview::{HeldReason, Word};
use crate::settings::{Anew, LeavingRule, MatchBy};

/// A mailbox, as in [`account`].
fn at(name: &str) -> String {
    format!("{name}@quillmere.example")
}

/// Somebody with this login and mailbox.
fn is(id: &str, uid: &str, mailbox: &str) -> Person {
    let mail = if mailbox.is_empty() { String::new() } else { at(mailbox) };
    Person { uid: uid.into(), mail, ..person(id) }
}

fn out(person: Person) -> Person {
    Person { out: true, ..person }
}

fn linked(id: &str, login: &str, mailbox: &str) -> Account {
    let fields = [("name".into(), id.into()), ("email".into(), at(mailbox).into())];
    Account {
        login: login.into(),
        link: Identity::from_link(id),
        state: State::Active,
        fields: fields.into_iter().collect(),
    }
}

/// Settings in which people who are gone are removed after some days.
fn after_days(days: u32) -> Settings {
    let mut settings = settings();
    settings.intakes.first.leaving.gone =
        LeavingRule { action: LeavingAction::Remove, after_days: days, refused: None };
    settings
}

fn preview(settings: &Settings, people: &[Person], accounts: &[Account]) -> Preview {
    Preview::of(Situation::new(settings, &read_all(people, accounts), accounts, &today()))
}

#[test]
fn each_claim_takes_effect_waits_or_clashes() {
    let suspended = |one: Account| Account { state: State::Suspended, ..one };
    for (why, days, people, accounts, expected) in [
        (
            "two people swap their addresses",
            0,
            vec![is("ada", "ada", "bo"), is("bo", "bo", "ada")],
            vec![account("ada"), account("bo")],
            vec!["update ada email", "update bo email"],
        ),
        (
            "an address goes from one to the next, in a chain of three",
            0,
            vec![is("ada", "ada", "bo"), is("bo", "bo", "cy"), is("cy", "cy", "new")],
            vec![account("ada"), account("bo"), account("cy")],
            vec!["update ada email", "update bo email", "update cy email"],
        ),
        (
            "somebody new gets the address that another gives up",
            0,
            vec![is("ada", "ada", "new"), is("bo", "bo", "ada")],
            vec![account("ada")],
            vec!["import bo login name email", "update ada email"],
        ),
        (
            "somebody new gets the login of somebody who is gone",
            0,
            vec![is("bo", "ada", "bo")],
            vec![account("ada")],
            vec!["import ada login name email", "remove ada gone"],
        ),
        (
            "and waits for it while the days of grace run, as does whoever comes after",
            14,
            vec![is("bo", "ada", "bo"), is("cy", "bo", "cy")],
            vec![account("ada"), account("bo")],
            vec!["wait ada gone", "wait bo", "wait bo"],
        ),
        (
            "somebody who is out makes room, in one go",
            0,
            vec![is("bo", "ada", "bo"), out(is("ada", "ada-old", "ada-old"))],
            vec![account("ada")],
            vec!["import ada login name email", "suspend ada outside"],
        ),
        (
            "and so does somebody who has been suspended for long",
            0,
            vec![is("bo", "ada", "bo"), out(is("ada", "ada-old", "ada-old"))],
            vec![suspended(account("ada"))],
            vec!["import ada login name email", "update ada login email"],
        ),
        (
            "a required address is not taken away; whose it is a person says",
            0,
            vec![is("bo", "bo", "ada"), out(is("ada", "ada", ""))],
            vec![suspended(account("ada"))],
            vec!["clash bo"],
        ),
        (
            "what is not contested goes on, and so does the loss of access",
            0,
            vec![is("ada", "bo", "ada"), is("bo", "bo", "bo"), out(is("cy", "bo", "cy2"))],
            vec![linked("ada", "ada", "x"), account("bo"), account("cy")],
            vec!["update ada email", "suspend cy outside", "clash ada"],
        ),
        (
            "a protected account keeps its names",
            0,
            vec![is("bo", "bo", "bo"), out(is("root", "root-old", "root-old"))],
            vec![account("bo"), account("root")],
            vec!["held root Protected"],
        ),
        (
            "somebody who is out never gets what somebody in draws",
            0,
            vec![is("ada", "x", "ada"), out(is("bo", "x", "bo"))],
            vec![account("ada"), account("bo")],
            vec!["update ada login", "suspend bo outside"],
        ),
    ] {
        let settings = after_days(days);
        let first = preview(&settings, &people, &accounts);
        let mut told = words(&first);
        told.sort();
        let mut expected: Vec<String> = expected.into_iter().map(str::to_owned).collect();
        expected.sort();
        assert_eq!(told, expected, "{why}");
        let after = carry_out(&first, &accounts);
        assert!(!preview(&settings, &people, &after).has_work(), "{why}");
    }
}

/// People who moved out of every base, too; but a value that is not shown there is given up only to somebody who is in.
#[test]
fn somebody_in_no_base_makes_room() {
    let mut settings = settings();
    settings.intakes.first.fields["email"].required = false;
    let suspended = [Account { state: State::Suspended, ..account("ada") }];
    for (why, people, elsewhere, expected) in [
        (
            "renamed there",
            vec![is("bo", "ada", "bo")],
            "ada=left",
            vec!["import ada login name email", "update ada login email"],
        ),
        ("as before", vec![is("bo", "bo", "bo")], "ada", vec!["import bo login name email"]),
        ("no mailbox is shown", vec![is("bo", "bo", "bo")], "ada=", vec!["import bo login name email"]),
        (
            "and somebody else has it",
            vec![is("bo", "bo", "ada")],
            "ada=",
            vec!["import bo login name email", "update ada email"],
        ),
    ] {
        let reading = whole(&people, &[], &[elsewhere]);
        let preview = Preview::of(Situation::new(&settings, &reading, &suspended, &today()));
        assert_eq!(words(&preview), expected, "{why}");
    }
}

/// Where everybody draws one login, or may own one account, each clash lists a few of the others, not all.
#[test]
fn a_value_that_everybody_draws_lists_a_few() {
    let people: Vec<Person> = (0..300).map(|at| is(&format!("p{at}"), "same", &format!("p{at}"))).collect();
    let mut adopting = settings();
    adopting.intakes.first.adopt = Adopt::same_login();
    for (settings, accounts) in [(settings(), vec![]), (adopting, vec![by_hand("same")])] {
        let preview = preview(&settings, &people, &accounts);
        assert_eq!(preview.of_kind(ChangeKind::Clash).count(), 300);
        for change in &preview.changes {
            let message = change.clash().unwrap().message();
            assert!(
                message.ends_with(" and others") && message.matches("OU=People").count() == 8,
                "{message}"
            );
        }
    }
}

/// Two intakes that draw different logins for somebody who is out leave the login alone: nobody knows which of them the
/// account is of.
#[test]
fn a_name_that_two_intakes_draw_otherwise_stays() {
    let people = [out(is("ada", "ada-old", "ada-old"))];
    let accounts = [account("ada")];
    for (rule, expected) in [("uid", "suspend ada outside login email"), ("cn", "suspend ada outside email")]
    {
        let mut settings = settings();
        let mut guests = settings.intakes.first.clone();
        guests.name = "guests".into();
        let text = format!("login = {{ from = \"{rule}\" }}");
        let source = format!(
            "[directory.d]\nservers = \"ldaps://dc1\"\n[accounts]\nstore = \"csv\"\npath = \"a\"\n[[intake]]\nname = \"g\"\n\
             directory = \"d\"\nbases = \"OU=People\"\nfilter = \"(cn=*)\"\n[intake.fields]\n{text}\n"
        );
        let other = Settings::parse("test", source.as_bytes()).unwrap();
        guests.fields["login"] = other.intakes.first.fields["login"].clone();
        settings.intakes.further.push(guests);
        let readings = [whole(&people, &[], &[]), whole(&people, &[], &[])];
        let preview = Preview::of(Situation::new(&settings, &readings[..], &accounts, &today()));
        let change = preview.changes.first().unwrap();
        let fields: Vec<&str> =
            change.fields.keys().map(String::as_str).filter(|name| *name != "state").collect();
        assert_eq!(format!("{} {}", words(&preview).join(" "), fields.join(" ")), expected, "{rule}");
    }
}

/// A claim of somebody else never hides that an account's person leaves.
#[test]
fn whoever_leaves_leaves_whoever_claims_the_account() {
    let mut kept = settings();
    kept.intakes.first.leaving.gone = LeavingAction::Suspend.into();
    let (people, accounts) = ([is("bo", "ada", "bo")], [account("ada")]);
    let first = preview(&kept, &people, &accounts);
    assert_eq!(words(&first), ["suspend ada gone", "clash ada"]);
    let clash = first.of_kind(ChangeKind::Clash).next().unwrap();
    assert_eq!(clash.clash().unwrap().message(), "the login of ada, whose person's entry is gone");
    assert_eq!(clash.dn.as_deref(), Some("CN=bo,OU=People"));
    let second = preview(&kept, &people, &carry_out(&first, &accounts));
    assert_eq!((words(&second), second.unchanged), (vec!["clash ada".to_owned()], 1));
    let waits = preview(&after_days(14), &people, &accounts);
    let wait = waits.changes.iter().find(|change| change.awaits()).unwrap();
    assert_eq!(wait.detail().unwrap(), "waits for the login of ada, which is deleted on 2026-12-09");
    assert_eq!(wait.wait().unwrap().then, ChangeKind::Import);
    let unread = read(&people, &["ada"], &[], [true, true, false]);
    let unsure = Preview::of(Situation::new(&kept, &unread, &accounts, &today()));
    assert_eq!(words(&unsure), ["clash ada", "held ada NotWhole"]);
    let message = unsure.changes[0].clash().unwrap().message();
    assert!(message.ends_with("whether that person is there was not seen"), "{message}");
}

#[test]
fn a_setting_leaves_the_names_of_those_who_are_out() {
    let mut settings = settings();
    let people = [is("bo", "ada", "bo"), out(is("ada", "ada-old", "ada-old"))];
    let accounts = [Account { state: State::Suspended, ..account("ada") }];
    settings.intakes.first.leaving.refresh = false;
    let first = preview(&settings, &people, &accounts);
    assert_eq!(words(&first), ["clash ada"]);
    let message = first.changes[0].clash().unwrap().message();
    assert_eq!(message, "the login of ada, whose person is out (outside: CN=ada,OU=People)");
}

/// An entry made anew is one decision: by a word, by a rule, or by the word that it is somebody else.
#[test]
fn an_entry_made_anew_is_recognised() {
    let anew = Person { name: "ada".into(), ..is("new", "ada", "ada") };
    let (people, accounts) = ([anew], [account("ada")]);
    let said = |link: &str| {
        let mut settings = settings();
        settings.accounts.whose =
            [("ada".to_owned(), Identity::from_link(link).unwrap())].into_iter().collect();
        settings
    };
    let mut ruled = settings();
    ruled.accounts.anew = Anew::SameLoginAndEmail;
    for (why, settings, expected) in [
        ("asked", settings(), vec!["clash ada", "held ada MadeAnew"]),
        ("asked while days run", after_days(14), vec!["wait ada gone", "clash ada"]),
        ("the same person", said("new"), vec!["adopt ada link"]),
        ("by a rule", ruled.clone(), vec!["adopt ada link"]),
        ("somebody else", said("ada"), vec!["import ada login name email", "remove ada gone"]),
    ] {
        assert_eq!(words(&preview(&settings, &people, &accounts)), expected, "{why}");
    }
    let adopted = preview(&ruled, &people, &accounts);
    assert_eq!(adopted.changes[0].detail().unwrap(), "was linked to an entry that is gone");
    // A role that no rule gives is handed over by a word only.
    ruled.intakes.first.roles = vec![crate::settings::rules::RoleRule {
        name: "borrower".into(),
        condition: crate::settings::rules::Condition::default(),
    }];
    let mut trusted = accounts.clone();
    trusted[0].fields.insert("roles".into(), "administrator".into());
    assert_eq!(words(&preview(&ruled, &people, &trusted)), ["held ada RoleHandedOver"]);
}

/// A word that cannot apply says why.
#[test]
fn each_idle_word_says_why() {
    let people = [is("ada", "ada", "ada"), out(is("bo", "bo", "bo")), is("cy", "cy", "cy")];
    let accounts = [account("ada"), linked("cy", "cy", "cy"), by_hand("root"), by_hand("old")];
    for (login, link, expected) in [
        ("none", "new", "there is no such account"),
        ("root", "ada", "the account is protected"),
        ("old", "nobody", "nobody who was read has this link"),
        ("old", "bo", "its person is not selected (outside)"),
        ("old", "ada", "its person has the account ada already"),
        ("cy", "nobody", "nobody who was read has this link"),
        ("ada", "ada", ""),
        ("renamed-since", "ada", ""),
    ] {
        let mut settings = settings();
        settings.accounts.whose =
            [(login.to_owned(), Identity::from_link(link).unwrap())].into_iter().collect();
        let told: Vec<String> =
            preview(&settings, &people, &accounts).idle_words.iter().map(|word| word.message()).collect();
        match expected {
            "" => assert_eq!(told, Vec::<String>::new(), "{login} {link}"),
            _ => assert!(told.len() == 1 && told[0].contains(expected), "{login} {link}: {told:?}"),
        }
    }
}

/// People with logins and addresses in any order, and accounts with others: linked, made by hand, and left behind.
fn any_claims() -> impl Strategy<Value = (Vec<Person>, Vec<Account>, u8)> {
    let name = || "[a-f]";
    let person = (name(), "[a-e]?", any::<u8>()).prop_map(|(uid, mailbox, state)| {
        let one = is("", &uid, &mailbox);
        Person { out: state % 5 == 0, off: state % 5 == 1, ..one }
    });
    let people = proptest::collection::vec(person, 0..7).prop_map(|people| {
        let named =
            |(at, one): (usize, Person)| Person { id: format!("p{at}"), name: format!("p{at}"), ..one };
        people.into_iter().enumerate().map(named).collect()
    });
    let account = (name(), "[a-e]", proptest::option::of(0_usize..9), any::<bool>());
    let accounts = proptest::collection::vec(account, 0..7).prop_map(|rows| {
        let mut accounts: Vec<Account> = Vec::new();
        for (login, mailbox, link, active) in rows {
            let link = link.and_then(|at| Identity::from_link(&format!("p{at}")));
            let one = Account {
                link,
                state: if active { State::Active } else { State::Suspended },
                ..linked("x", &login, &mailbox)
            };
            let is_like = |other: &Account| {
                other.login == one.login
                    || other.field("email") == one.field("email")
                    || (one.link.is_some() && other.link == one.link)
            };
            if !accounts.iter().any(is_like) {
                accounts.push(one);
            }
        }
        accounts
    });
    (people, accounts, any::<u8>())
}

/// Settings of any kind, by number.
fn any_settings(kind: u8) -> Settings {
    let mut settings = after_days(if kind & 1 == 0 { 0 } else { 14 });
    settings.intakes.first.adopt = match kind >> 1 & 3 {
        0 => Adopt::Never,
        1 => Adopt::same_login(),
        2 => Adopt::Ask,
        _ => Adopt::Same(vec![MatchBy::Field("email".into())]),
    };
    settings.intakes.first.matching = vec![MatchBy::Link, MatchBy::Login, MatchBy::Field("email".into())];
    if kind & 8 != 0 {
        settings.accounts.anew = Anew::SameLoginAndEmail;
    }
    if kind & 16 != 0 {
        settings.intakes.first.leaving.gone = LeavingAction::Suspend.into();
    }
    settings.intakes.first.leaving.refresh = kind & 32 == 0;
    settings.accounts.protected.clear();
    settings
}

/// The people who clash.
fn clashing(preview: &Preview) -> std::collections::BTreeSet<String> {
    preview.of_kind(ChangeKind::Clash).filter_map(|change| change.dn.clone()).collect()
}

fn dn_of(account: &Account) -> Option<String> {
    account.link.as_ref().map(|link| format!("CN={link},OU=People"))
}

/// True if an account is among the changes or held.
fn is_told(preview: &Preview, account: &Account) -> bool {
    let is_of = |change: &Change| {
        let former = change.fields.get("link").and_then(|link| link.old.as_deref());
        change.login == account.login
            && (change.link == account.link || former == account.link.as_ref().map(Identity::as_str))
    };
    let is_held =
        |held: &Held| held.login == account.login && (held.dn.is_none() || held.dn == dn_of(account));
    preview.changes.iter().any(is_of) || preview.held.iter().any(is_held)
}

proptest! {
    /// Once a preview is carried out, nothing is left to do: the same people clash and wait, and everybody else is
    /// as the directory says. No linked account is lost count of, before or after.
    #[test]
    fn after_one_apply_only_waits_and_clashes_are_left((people, accounts, kind) in any_claims()) {
        let settings = any_settings(kind);
        let first = preview(&settings, &people, &accounts);
        let after = carry_out(&first, &accounts);
        let second = preview(&settings, &people, &after);
        prop_assert!(!second.has_work(), "{:?}, then {:?}", words(&first), words(&second));
        prop_assert_eq!(clashing(&first), clashing(&second));
        for (preview, accounts) in [(&first, &accounts), (&second, &after)] {
            let linked: Vec<&Account> = accounts.iter().filter(|one| one.link.is_some()).collect();
            let told = linked.iter().filter(|one| is_told(preview, one)).count();
            prop_assert_eq!(told + preview.unchanged, linked.len(), "{:?}", words(preview));
        }
        for name in ["login", "email"] {
            let mut values: Vec<&str> = after.iter().map(|one| one.field(name)).filter(|one| !one.is_empty()).collect();
            values.sort_unstable();
            let all = values.len();
            values.dedup();
            prop_assert_eq!(values.len(), all, "no {} twice", name);
        }
    }

    /// Each word that is offered settles its clash and makes no other.
    #[test]
    fn each_offered_word_settles_its_clash((people, accounts, kind) in any_claims()) {
        let settings = any_settings(kind);
        let first = preview(&settings, &people, &accounts);
        let after = carry_out(&first, &accounts);
        for accounts in [&accounts, &after] {
            let asked = preview(&settings, &people, accounts);
            for change in asked.of_kind(ChangeKind::Clash) {
                for Word { account, link } in change.ways().iter().filter_map(|way| way.word.as_ref()) {
                    let mut said = settings.clone();
                    said.accounts.whose.insert(account.clone(), link.clone());
                    let then = preview(&said, &people, accounts);
                    let mut left = clashing(&asked);
                    left.remove(change.dn.as_ref().unwrap());
                    prop_assert!(clashing(&then).is_subset(&left), "{}: {:?}", account, words(&then));
                    prop_assert!(then.idle_words.is_empty(), "{:?}", then.idle_words);
                    let is_held = then.held.iter().any(|held| held.dn == change.dn && held.reason == HeldReason::MadeAnew);
                    prop_assert!(!is_held);
                }
            }
        }
    }
}
