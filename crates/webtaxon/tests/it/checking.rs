//! A check: each step in order, what blocks and what does not, what the account may do.

use crate::museum::{DIRECTORY, Museum};
use std::time::Duration;
use webtaxon::check::{CheckStep, StepOutcome};
use webtaxon_standin::Options;

async fn check(museum: &Museum) -> Vec<CheckStep> {
    museum.workspace().unwrap().check(Duration::ZERO, |_| {}).await
}

/// The steps of one name, by outcome and message.
fn of<'s>(steps: &'s [CheckStep], name: &str) -> Vec<(StepOutcome, &'s str)> {
    steps.iter().filter(|step| step.name == name).map(|step| (step.outcome, step.message.as_str())).collect()
}

#[tokio::test]
async fn every_step_is_reported_as_it_ends_in_the_order_of_the_work() {
    let museum = Museum::open().await;
    let mut reported = Vec::new();
    let steps = museum.workspace().unwrap().check(Duration::ZERO, |step| reported.push(step.name)).await;
    let names: Vec<_> = steps.iter().map(|step| step.name).collect();
    assert_eq!(reported, names);
    let mut once = names.clone();
    once.dedup();
    assert_eq!(
        once,
        [
            "name",
            "connect",
            "tls",
            "server",
            "clock",
            "password",
            "bind",
            "rights",
            "base",
            "filter",
            "attribute",
            "active",
            "identity",
            "group",
            "accounts",
            "state",
            "reading"
        ]
    );
    let strange: Vec<_> = steps.iter().filter(|step| step.outcome != StepOutcome::Good).collect();
    assert!(strange.len() == 1 && strange[0].message.contains("242 of 244"), "{strange:?}");
}

/// What accounts are linked by is tried: there, one each, and to be found by a search.
#[tokio::test]
async fn the_identity_is_tried_before_a_preview() {
    let options = |hidden: &[&str], unsearchable: &[&str]| Options {
        hidden: hidden.iter().map(|name| (*name).to_owned()).collect(),
        unsearchable: unsearchable.iter().map(|name| (*name).to_owned()).collect(),
        ..Options::default()
    };
    for (options, identity, outcome, message) in [
        (options(&[], &[]), "", StepOutcome::Good, "objectGUID: 244 of 244 have it, and a search finds it"),
        (options(&[], &["objectGUID"]), "", StepOutcome::Bad, "a search by objectGUID does not find CN="),
        (
            options(&["objectGUID"], &[]),
            "",
            StepOutcome::Bad,
            "nobody shows objectGUID, entryUUID, nsUniqueId",
        ),
        (
            options(&[], &[]),
            "department",
            StepOutcome::Bad,
            "have a value of department that somebody else has",
        ),
        (options(&[], &[]), "objectClass", StepOutcome::Bad, "244 of 244 have several values of objectClass"),
    ] {
        let museum = Museum::with(DIRECTORY, options).await;
        if !identity.is_empty() {
            museum.change("match        = ", &format!("identity     = \"{identity}\"\nmatch        = "));
        }
        let steps = museum.workspace().unwrap().check(Duration::ZERO, |_| {}).await;
        let step = steps.iter().find(|step| step.name == "identity").unwrap();
        assert!(step.outcome == outcome && step.message.contains(message), "{step:?}");
        assert_eq!(step.remedy.is_empty(), outcome == StepOutcome::Good);
    }
}

#[tokio::test]
async fn a_filter_for_active_people_is_tried_before_a_preview() {
    let museum = Museum::open().await;
    for (active, outcome, message) in [
        ("(!(userAccountControl:1.2.840.113556.1.4.803:=2))", StepOutcome::Good, "is true for 241 of 244"),
        ("(department=Closed)", StepOutcome::Warning, "is true for 0 of 244"),
        ("(objectGUID=*a*)", StepOutcome::Warning, "and undefined for 244"),
    ] {
        museum.change("(!(userAccountControl:1.2.840.113556.1.4.803:=2))", active);
        let steps = museum.workspace().unwrap().check(Duration::ZERO, |_| {}).await;
        let step = steps.iter().find(|step| step.name == "active").unwrap();
        assert!(step.outcome == outcome && step.message.contains(message), "{active}: {step:?}");
    }
}

#[tokio::test]
async fn a_check_goes_on_where_it_can_and_skips_what_it_cannot() {
    use StepOutcome::{Bad, Good, Skipped, Warning};
    let museum = Museum::open().await;
    for (from, to, name, outcome, message, skipped) in [
        ("OU=People,DC=quillmere", "OU=Peeple,DC=quillmere", "base", Bad, "did you mean OU=People,", 2),
        ("OU=People,DC=quillmere,DC=example", "DC=elsewhere", "base", Bad, "this server holds DC=quill", 2),
        (
            "OU=People,DC=quillmere",
            "OU=Groups,DC=quillmere",
            "base",
            Warning,
            "0 matched by the filter, 40 groups",
            1,
        ),
        ("CN=Leavers,", "CN=Leevers,", "group", Bad, "did you mean CN=Leavers,", 0),
        ("bases  = [\"OU=Groups,", "bases  = [\"OU=Guilds,", "base", Bad, "OU=Guilds,DC=quillmere", 0),
        ("CN=Loans Desk Users,", "CN=Student Lenders,", "group", Warning, "lists no members", 0),
        (
            "(&(objectCategory=person)(objectClass=user))",
            "(objectClass=user)",
            "filter",
            Warning,
            "computers are users",
            0,
        ),
        ("(objectClass=user)", "(objectClass=usher)", "filter", Warning, "matches nobody", 1),
        ("(objectClass=user)", "(objectKlass=user)", "filter", Warning, "(did you mean objectClass?)", 1),
        (
            "from = \"department\"",
            "from = \"departement\"",
            "attribute",
            Warning,
            "did you mean department?",
            0,
        ),
        ("from = \"department\"", "from = \"info\"", "attribute", Warning, "info: 0 of 244 have it", 0),
        ("path      = \"accounts.csv\"", "path = \"none.csv\"", "accounts", Bad, "none.csv", 0),
    ] {
        museum.change(from, to);
        let steps = check(&museum).await;
        let found = of(&steps, name).iter().any(|(its, text)| *its == outcome && text.contains(message));
        assert!(found, "{to}: {:?}", of(&steps, name));
        assert_eq!(steps.iter().filter(|step| step.outcome == Skipped).count(), skipped, "{to}");
        for step in steps.iter().filter(|step| matches!(step.outcome, Bad | Warning)) {
            assert!(!step.remedy.is_empty(), "{to}: {}", step.message);
        }
    }
    museum.write("webtaxon.toml", museum.settings());
    museum.write("museum-password.txt", "wrong");
    let steps = check(&museum).await;
    assert_eq!(of(&steps, "bind")[0].0, Bad);
    assert_eq!((of(&steps, "base")[0].0, of(&steps, "accounts")[0].0), (Skipped, Good));
}

#[tokio::test]
async fn a_check_tries_every_server_and_waits_for_one_that_comes_late() {
    let museum = Museum::open().await;
    let url = museum.standin().url();
    museum.change(&format!("\"{url}\""), &format!("\"ldaps://no-such-host.invalid\", \"{url}\""));
    let steps = check(&museum).await;
    assert_eq!(of(&steps, "name")[0].0, StepOutcome::Warning, "the other one works");
    assert_eq!(of(&steps, "bind")[0].0, StepOutcome::Good);

    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    museum.change(&url, &format!("ldaps://localhost:{port}"));
    let workspace = museum.workspace().unwrap();
    let late = async {
        tokio::time::sleep(Duration::from_secs(1)).await;
        museum.twin(port).await
    };
    let (steps, _twin) = tokio::join!(workspace.check(Duration::from_secs(60), |_| {}), late);
    assert_eq!(of(&steps, "connect"), [(StepOutcome::Good, format!("127.0.0.1:{port} answers").as_str())]);
}

#[tokio::test]
async fn more_rights_than_reading_are_told() {
    const ACCOUNT: &str = "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example";
    let group = |cn: &str, sid: &str, member: &str| {
        format!(
            "\ndn: CN={cn},OU=Groups,DC=quillmere,DC=example\nobjectClass: group\ncn: {cn}\nobjectSid:: {sid}\nmember: {member}\n"
        )
    };
    // Two SIDs of the museum's domain: 1700 means nothing, 512 are the administrators.
    let plain = "AQUAAAAAAAUVAAAAAQAAAAIAAAADAAAApAYAAA==";
    let mighty = "AQUAAAAAAAUVAAAAAQAAAAIAAAADAAAAAAIAAA==";
    let helpers = group("Desk Helpers", plain, ACCOUNT);
    let nested =
        format!("{helpers}{}", group("Keepers", mighty, "CN=Desk Helpers,OU=Groups,DC=quillmere,DC=example"));
    let by_name = format!(
        "{helpers}{}",
        group("Server Admins", plain, "CN=Desk Helpers,OU=Groups,DC=quillmere,DC=example")
    );
    let marked = DIRECTORY.replace(&format!("dn: {ACCOUNT}\n"), &format!("dn: {ACCOUNT}\nadminCount: 1\n"));
    for (ldif, outcome, message) in [
        (format!("{DIRECTORY}{helpers}"), StepOutcome::Good, "able only to read"),
        (format!("{DIRECTORY}{nested}"), StepOutcome::Warning, "it is in Domain Admins (S-1-5-21-1-2-3-512)"),
        (format!("{DIRECTORY}{by_name}"), StepOutcome::Warning, "it is in CN=Server Admins,OU=Groups"),
        (marked, StepOutcome::Warning, "adminCount"),
    ] {
        let museum = Museum::with(&ldif, Options::default()).await;
        let steps = check(&museum).await;
        let (its, said) = of(&steps, "rights")[0];
        assert!(its == outcome && said.contains(message), "{message}: {said}");
    }
    let museum = Museum::with(DIRECTORY, Options { anonymous: true, ..Options::default() }).await;
    let steps = check(&museum).await;
    assert!(
        of(&steps, "rights")[1].1.contains("an anonymous search finds the same people"),
        "{:?}",
        of(&steps, "rights")
    );
}

#[tokio::test]
async fn a_password_or_a_certificate_that_ends_soon_is_told() {
    const ACCOUNT: &str = "dn: CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example\n";
    let ticks = |days: i64| {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
        (i64::try_from(now).unwrap() + 11_644_473_600 + days * 86_400 + 3600) * 10_000_000
    };
    for (attribute, days, outcome, message) in [
        ("msDS-UserPasswordExpiryTimeComputed", 5, StepOutcome::Warning, "the password expires in 5 days"),
        ("msDS-UserPasswordExpiryTimeComputed", 90, StepOutcome::Good, "the password expires in 90 days"),
        ("accountExpires", 3, StepOutcome::Warning, "the bind account itself expires in 3 days"),
    ] {
        let ldif = DIRECTORY.replace(ACCOUNT, &format!("{ACCOUNT}{attribute}: {}\n", ticks(days)));
        let museum = Museum::with(&ldif, Options::default()).await;
        let steps = check(&museum).await;
        let told = of(&steps, "password");
        assert!(told[1].0 == outcome && told[1].1.contains(message), "{told:?}");
    }
}
