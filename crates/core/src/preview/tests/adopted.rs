//! An account made by hand becomes a person's only as set in the settings, and never two people's.

use super::*;
use crate::settings::MatchBy;

fn by(adopt: Adopt) -> Settings {
    let mut settings = settings();
    settings.intakes.first.matching = vec![MatchBy::Link, MatchBy::Login, MatchBy::Field("email".into())];
    settings.intakes.first.adopt = adopt;
    settings
}

fn with_mail(login: &str, mail: &str) -> Account {
    let mut account = by_hand(login);
    account.fields.insert("email".into(), mail.into());
    account
}

#[test]
fn what_the_settings_say_decides_whose_an_account_becomes() {
    let email = || MatchBy::Field("email".into());
    let mail = "ada@quillmere.example";
    let same_mail = || Adopt::Same(vec![email()]);
    let both = || Adopt::Same(vec![MatchBy::Login, email()]);
    let two = || [person("ada"), Person { mail: mail.to_uppercase(), ..person("ben") }];
    for (adopt, people, accounts, expected, why) in [
        (Adopt::Never, vec![person("ada")], vec![with_mail("old", mail)], "clash ada", "never"),
        (
            same_mail(),
            vec![person("ada")],
            vec![with_mail("old", mail)],
            "adopt old login name link",
            "by mail",
        ),
        (
            same_mail(),
            vec![person("ada")],
            vec![with_mail("old", "ADA@Quillmere.example")],
            "adopt old login name email link",
            "in any case",
        ),
        (
            same_mail(),
            vec![person("ada")],
            vec![with_mail("ada", "x@x")],
            "clash ada",
            "the login is not enough",
        ),
        (
            Adopt::same_login(),
            vec![person("ada")],
            vec![with_mail("ada", "x@x")],
            "adopt ada email link",
            "the login is enough",
        ),
        (
            Adopt::same_login(),
            vec![person("ada")],
            vec![with_mail("old", mail)],
            "clash ada",
            "the mail is not enough",
        ),
        (both(), vec![person("ada")], vec![with_mail("ada", mail)], "adopt ada link", "both are one"),
        (
            both(),
            vec![person("ada")],
            vec![with_mail("ada", "x@x"), with_mail("old", mail)],
            "clash ada",
            "one of two",
        ),
        (
            same_mail(),
            vec![person("ada")],
            vec![with_mail("a", mail), with_mail("b", mail)],
            "clash ada",
            "two with the mail",
        ),
        (
            same_mail(),
            two().to_vec(),
            vec![with_mail("old", mail)],
            "clash ada, clash ben",
            "two people for one account",
        ),
        (same_mail(), vec![person("ada")], vec![with_mail("root", mail)], "clash ada", "a protected one"),
        (
            same_mail(),
            vec![Person { mail: "x@x".into(), ..person("ada") }],
            vec![with_mail("old", "")],
            "import ada login name email",
            "no mail is nobody's",
        ),
        (Adopt::Ask, vec![person("ada")], vec![with_mail("old", mail)], "clash ada", "ask"),
        (Adopt::Ask, vec![person("ada")], vec![account("ada")], "", "a link needs no asking"),
    ] {
        let preview = Preview::of(Situation::new(&by(adopt), &whole(&people, &[], &[]), &accounts, &today()));
        assert_eq!(words(&preview).join(", "), expected, "{why}");
    }
}

#[test]
fn the_settings_can_say_whose_one_account_is() {
    let linked_to = |login: &str, link: &str| Account { link: Identity::from_link(link), ..by_hand(login) };
    for (people, accounts, whose, expected, why) in [
        (vec![person("ada")], vec![by_hand("old")], "old", "adopt old login name email link", "by hand"),
        (vec![person("ada")], vec![by_hand("old")], "OLD", "adopt old login name email link", "in any case"),
        (vec![person("ada")], vec![by_hand("ada")], "ada", "adopt ada link", "no word of adopt is needed"),
        (vec![person("ada")], vec![linked_to("ada", "gone")], "ada", "adopt ada link", "recreated"),
        (
            vec![person("ada"), person("ben")],
            vec![linked_to("old", "ben")],
            "old",
            "import ada login name email, update old login name email",
            "not from somebody who has it",
        ),
        (
            vec![person("ada")],
            vec![account("ada"), by_hand("old")],
            "old",
            "",
            "not for somebody who has one",
        ),
        (vec![person("ada")], vec![by_hand("root")], "root", "import ada login name email", "protected"),
        (vec![person("ada")], vec![], "old", "import ada login name email", "no such account"),
        (vec![], vec![by_hand("old")], "old", "", "no such person"),
    ] {
        let mut settings = by(Adopt::Never);
        settings.accounts.whose =
            [(whose.to_owned(), Identity::from_link("ada").unwrap())].into_iter().collect();
        let reading = whole(&people, &["gone"], &[]);
        let preview = Preview::of(Situation::new(&settings, &reading, &accounts, &today()));
        assert_eq!(words(&preview).join(", "), expected, "{why}");
    }
}

#[test]
fn each_question_names_both_sides() {
    let mail = "ada@quillmere.example";
    let both = Adopt::Same(vec![MatchBy::Login, MatchBy::Field("email".into())]);
    for (adopt, accounts, expected) in [
        (
            Adopt::Ask,
            vec![with_mail("old", mail)],
            Clash::MayBeTheirs { account: "old".into(), by: "email".into() },
        ),
        (
            Adopt::Ask,
            vec![with_mail("ada", "x@x")],
            Clash::MayBeTheirs { account: "ada".into(), by: "login".into() },
        ),
        (
            both,
            vec![with_mail("ada", "x@x"), with_mail("old", mail)],
            Clash::SeveralAccounts { accounts: vec!["ada".into(), "old".into()] },
        ),
    ] {
        let preview =
            Preview::of(Situation::new(&by(adopt), &whole(&[person("ada")], &[], &[]), &accounts, &today()));
        assert_eq!(preview.changes[0].clash(), Some(&expected));
        // Where both accounts have values of the person's, giving one of them away does not settle it.
        let offers = matches!(expected, Clash::MayBeTheirs { .. });
        let remedy = preview.changes[0].remedy();
        assert_eq!(remedy.contains("whose = { "), offers, "{remedy}");
    }
}

proptest! {
    /// However accounts are matched: nobody gets two, none becomes two people's, and what is carried
    /// out stays.
    #[test]
    fn no_account_becomes_two_peoples((people, accounts, _) in any_museum()) {
        let mut people = people;
        for (at, one) in people.iter_mut().enumerate() {
            if at % 3 == 0 && !one.mail.is_empty() {
                one.mail = "a@quillmere.example".into();
            }
        }
        let settings = by(Adopt::Same(vec![MatchBy::Login, MatchBy::Field("email".into())]));
        let mut settings = settings;
        let told = accounts.iter().zip(people.iter().rev()).step_by(2);
        settings.accounts.whose = told
            .filter_map(|(account, person)| Some((account.login.to_uppercase(), Identity::from_link(&person.id)?)))
            .collect();
        let first = Preview::of(Situation::new(&settings, &read_all(&people, &accounts), &accounts, &today()));
        let mut adopted: Vec<&str> = first.of_kind(ChangeKind::Adopt).map(|change| change.login.as_str()).collect();
        let all = adopted.len();
        adopted.dedup();
        prop_assert_eq!(adopted.len(), all);
        let after = carry_out(&first, &accounts);
        let mut logins: Vec<String> = after.iter().map(|one| Account::login_key(&one.login)).collect();
        logins.sort();
        let count = logins.len();
        logins.dedup();
        prop_assert_eq!(logins.len(), count, "no login twice");
        let second = Preview::of(Situation::new(&settings, &read_all(&people, &after), &after, &today()));
        prop_assert!(!second.has_work(), "{:?} {:?}", words(&first), words(&second));
    }
}
