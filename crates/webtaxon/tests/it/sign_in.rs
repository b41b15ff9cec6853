//! Sign-ins as an application makes them, against the simulated directory: who gets in, who does not, and what is told to
//! whom.

use crate::museum::Museum;
use secrecy::SecretString;
use webtaxon::SignIns;
use webtaxon::model::preview::ChangeKind;
use webtaxon::model::sign_in::{Refusal, Sentence};
use webtaxon::sign_in::{AuditLine, SignInOutcome, SignedIn};
use webtaxon_standin::{Fault, Options};

/// The password of everybody in the museum.
fn password(login: &str) -> SecretString {
    SecretString::from(format!("heron-{login}"))
}

async fn sign_ins(museum: &Museum) -> SignIns {
    SignIns::open(&museum.workspace().unwrap()).await.unwrap()
}

async fn with(settings: &str) -> Museum {
    let museum = Museum::open().await;
    museum.write("webtaxon.toml", museum.settings() + settings);
    museum
}

/// Signs somebody in with their right password.
async fn right(sign_ins: &SignIns, name: &str, login: &str) -> SignInOutcome {
    sign_ins.sign_in(name, &password(login), "10.0.0.1").await
}

fn signed_in(outcome: SignInOutcome) -> Box<SignedIn> {
    match outcome {
        SignInOutcome::SignedIn(signed_in) => signed_in,
        other => panic!("{other:?}"),
    }
}

fn reason(outcome: &SignInOutcome) -> &'static str {
    match outcome {
        SignInOutcome::SignedIn(_) => "in",
        SignInOutcome::Refused(refusal) => refusal.name(),
        SignInOutcome::Undecided(_) => "unknown",
        _ => "unavailable",
    }
}

fn audit(museum: &Museum) -> Vec<AuditLine> {
    let mut lines = Vec::new();
    assert_eq!(museum.workspace().unwrap().recorded_sign_ins(|line| lines.push(line)).unwrap(), 0);
    lines
}

#[tokio::test]
async fn each_person_is_told_what_they_may_know_and_the_record_says_why() {
    let museum = with("\n[sign_in]\nnames = [\"login\", \"email\"]\n").await;
    let sign_ins = sign_ins(&museum).await;
    for (name, typed, expected, sentence) in [
        ("aibbotson", "heron-aibbotson", "in", None),
        (" AIbbotson ", "heron-aibbotson", "in", None),
        ("aibbotson@quillmere.example", "heron-aibbotson", "in", None),
        ("aibbotson", "heron-", "wrong_password", Some(Sentence::NameOrPassword)),
        ("aibbotson", "", "no_password", Some(Sentence::NameOrPassword)),
        ("nobody", "heron-nobody", "unknown_name", Some(Sentence::NameOrPassword)),
        ("", "heron-", "bad_name", Some(Sentence::NameOrPassword)),
        ("a*", "heron-aibbotson", "unknown_name", Some(Sentence::NameOrPassword)),
        ("*)(objectClass=*", "heron-aibbotson", "unknown_name", Some(Sentence::NameOrPassword)),
        ("dhawksworth", "heron-dhawksworth", "locked", Some(Sentence::NameOrPassword)),
        ("shargreave", "heron-shargreave", "disabled", Some(Sentence::NameOrPassword)),
        ("hemberson", "heron-hemberson", "password_must_change", Some(Sentence::ChangePassword)),
        ("gfennimore", "heron-gfennimore", "not_selected", Some(Sentence::NoAccess)),
        ("gfennimore", "wrong", "wrong_password", Some(Sentence::NameOrPassword)),
        ("bthornbury", "heron-bthornbury", "new", Some(Sentence::NoAccess)),
        ("odovecote", "heron-odovecote", "suspended", Some(Sentence::NoAccess)),
        ("dpryce", "heron-dpryce", "contested", Some(Sentence::NoAccess)),
        ("lgadsby", "heron-lgadsby", "no_account", Some(Sentence::NoAccess)),
        ("admin", "heron-admin", "unknown_name", Some(Sentence::NameOrPassword)),
    ] {
        let outcome = sign_ins.sign_in(name, &SecretString::from(typed), name).await;
        assert_eq!(reason(&outcome), expected, "{name}: {outcome:?}");
        assert_eq!(outcome.sentence(), sentence, "{name}");
        let line = audit(&museum).pop().unwrap();
        assert_eq!((line.name.as_str(), line.reason.as_str()), (name, expected));
    }
    let text = std::fs::read_to_string(museum.workspace().unwrap().audit_file()).unwrap();
    assert!(!text.contains("heron-"), "a password in the record");
}

#[tokio::test]
async fn the_first_sign_in_makes_the_account_that_an_apply_would_import() {
    let museum = with("\n[sign_in]\nnew = \"import\"\n").await;
    museum.change("seats     = 75", "seats     = 90");
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    museum.write("webtaxon.toml", settings + "\n[sign_in]\nnew = \"import\"\n");
    let preview = museum.preview().await.unwrap();
    let import =
        preview.of_kind(ChangeKind::Import).find(|change| change.login == "bthornbury").unwrap().clone();
    let sign_ins = sign_ins(&museum).await;
    let both = tokio::join!(
        right(&sign_ins, "bthornbury", "bthornbury"),
        right(&sign_ins, "bthornbury", "bthornbury")
    );
    let (one, two) = (signed_in(both.0), signed_in(both.1));
    assert_eq!(one.account, two.account);
    for (name, field) in &import.fields {
        assert_eq!(one.account.value(name), field.new.as_deref().unwrap_or_default(), "{name}");
    }
    let accounts = museum.workspace().unwrap().accounts().await.unwrap();
    assert_eq!(accounts.iter().filter(|account| account.login == "bthornbury").count(), 1);
    assert_eq!(accounts.len(), 82, "nobody else came in");
    let after = museum.preview().await.unwrap();
    assert!(
        !after.changes.iter().any(|change| change.login == "bthornbury"),
        "nothing is left to do for them"
    );
    let journal = museum.workspace().unwrap().journal().await.unwrap().unwrap();
    assert_eq!(journal.runs().unwrap().iter().filter(|run| run.who == "sign-in").count(), 1);
    // Another server may not know them yet: that is remembered of each, as after an apply.
    let next = preview.of_kind(ChangeKind::Import).find(|change| change.login != "bthornbury").unwrap();
    signed_in(right(&sign_ins, &next.login, &next.login).await);
    let journal = museum.workspace().unwrap().journal().await.unwrap().unwrap();
    let fresh = journal.memory().unwrap().fresh;
    let links: Vec<_> = [&import, next].into_iter().map(|change| change.link.clone().unwrap()).collect();
    assert!(fresh.len() == 2 && links.iter().all(|link| fresh.contains_key(link)), "{fresh:?}");
}

/// A server that may not know yet whom another one showed takes nobody's account away, and refuses nobody.
#[tokio::test]
async fn a_server_that_lags_behind_takes_nobody_out() {
    let leavers = "dn: CN=Leavers,OU=Groups,DC=quillmere,DC=example";
    let person = "CN=Beatrice Thornbury,OU=Registry,OU=People,DC=quillmere,DC=example";
    let earlier = crate::museum::DIRECTORY.replace(leavers, &format!("{leavers}\nmember: {person}"));
    let museum = Museum::with(&earlier, Options::default()).await;
    let ahead = Museum::open().await;
    let authorities = format!("{}\n{}", museum.standin().authority_pem(), ahead.standin().authority_pem());
    museum.write("museum-ca.pem", authorities);
    let url = museum.standin().url();
    let both = format!("[\"{}\", \"{url}\"]", ahead.standin().url());
    let settings = museum.settings().replace("seats     = 75", "seats     = 90");
    museum.write(
        "webtaxon.toml",
        settings.replace(&format!("[\"{url}\"]"), &both)
            + "\n[sign_in]\nnew = \"import\"\nleavers = \"suspend\"\n",
    );
    let sign_ins = sign_ins(&museum).await;
    signed_in(right(&sign_ins, "bthornbury", "bthornbury").await);
    drop(ahead);
    let outcome = right(&sign_ins, "bthornbury", "bthornbury").await;
    assert_eq!(reason(&outcome), "unknown", "{outcome:?}");
    let accounts = museum.workspace().unwrap().accounts().await.unwrap();
    let account = accounts.iter().find(|account| account.login == "bthornbury").unwrap();
    assert_eq!(account.state.name(), "active");
}

#[tokio::test]
async fn without_a_seat_nobody_comes_in() {
    let museum = with("\n[sign_in]\nnew = \"import\"\n").await;
    let outcome = right(&sign_ins(&museum).await, "bthornbury", "bthornbury").await;
    assert_eq!(reason(&outcome), "no_seat");
    assert_eq!(museum.workspace().unwrap().accounts().await.unwrap().len(), 81);
}

#[tokio::test]
async fn fields_and_roles_are_drawn_anew_for_this_person_alone() {
    let museum = Museum::open().await;
    let before = museum.workspace().unwrap().accounts().await.unwrap();
    let signed = signed_in(right(&sign_ins(&museum).await, "ecarrick", "ecarrick").await);
    assert_eq!(signed.change, Some(ChangeKind::Update));
    assert_eq!(signed.account.field("department"), "Palaeontology");
    let after = museum.workspace().unwrap().accounts().await.unwrap();
    let changed: Vec<&str> = after
        .iter()
        .filter(|account| !before.contains(account))
        .map(|account| account.login.as_str())
        .collect();
    assert_eq!(changed, ["ecarrick"]);
    let museum = with("\n[sign_in]\nrefresh = false\n").await;
    let signed = signed_in(right(&sign_ins(&museum).await, "ecarrick", "ecarrick").await);
    assert_eq!((signed.change, signed.account.field("department")), (None, "Exhibitions"));
}

#[tokio::test]
async fn somebody_who_is_out_is_suspended_if_the_settings_say_so() {
    for (settings, state) in [("", "active"), ("\n[sign_in]\nleavers = \"suspend\"\n", "suspended")] {
        let museum = with(settings).await;
        let outcome = right(&sign_ins(&museum).await, "gfennimore", "gfennimore").await;
        assert_eq!(reason(&outcome), "not_selected");
        let accounts = museum.workspace().unwrap().accounts().await.unwrap();
        let account = accounts.iter().find(|account| account.login == "gfennimore").unwrap();
        assert_eq!(account.state.name(), state);
        assert_eq!(
            accounts.iter().filter(|account| account.state.name() == "suspended").count(),
            if state == "active" { 4 } else { 5 }
        );
    }
}

#[tokio::test]
async fn an_account_that_was_suspended_a_moment_ago_is() {
    let museum = Museum::open().await;
    let sign_ins = sign_ins(&museum).await;
    // The list is read, and read again where it may have changed.
    tokio::time::sleep(std::time::Duration::from_millis(2_500)).await;
    for _ in 0..2 {
        assert_eq!(reason(&right(&sign_ins, "aibbotson", "aibbotson").await), "in");
    }
    let list = std::fs::read_to_string(museum.path().join("accounts.csv")).unwrap();
    let at = "aibbotson,5fad6505-1296-539b-b8e3-4ec69cea5357,";
    assert!(list.contains(&format!("{at}active")));
    museum.write("accounts.csv", list.replace(&format!("{at}active"), &format!("{at}suspended")));
    assert_eq!(reason(&right(&sign_ins, "aibbotson", "aibbotson").await), "suspended");
}

#[tokio::test]
async fn tries_are_throttled_by_name_and_source() {
    let museum = Museum::open().await;
    let sign_ins = sign_ins(&museum).await;
    let wrong = SecretString::from("wrong");
    for _ in 0..3 {
        assert_eq!(reason(&sign_ins.sign_in("aibbotson", &wrong, "10.0.0.1").await), "wrong_password");
    }
    for typed in ["wrong", "heron-aibbotson"] {
        let outcome = sign_ins.sign_in("AIBBOTSON", &SecretString::from(typed), "10.0.0.1").await;
        assert_eq!(reason(&outcome), "throttled");
        assert_eq!(outcome.sentence(), Some(Sentence::TooManyTries));
    }
    let outcome = sign_ins.sign_in("aibbotson", &password("aibbotson"), "10.0.0.2").await;
    assert_eq!(reason(&outcome), "in", "the owner, from elsewhere");
    for _ in 0..3 {
        assert_eq!(reason(&sign_ins.sign_in("nobody", &wrong, "10.0.0.3").await), "unknown_name");
    }
    assert_eq!(
        reason(&sign_ins.sign_in("nobody", &wrong, "10.0.0.3").await),
        "throttled",
        "as for a name that exists"
    );
}

#[tokio::test]
async fn a_directory_that_fails_anywhere_lets_nobody_in() {
    let reference = Museum::open().await;
    let sign_ins_at = |museum: &Museum| {
        let workspace = museum.workspace().unwrap();
        async move { SignIns::open(&workspace).await.unwrap() }
    };
    assert_eq!(
        reason(&right(&sign_ins_at(&reference).await, "gfennimore", "gfennimore").await),
        "not_selected"
    );
    for kind in ["cut", "cut-inside", "notice", "wrong-id", "busy"] {
        for after in 0..14 {
            let fault: Fault = format!("{kind}@{after}").parse().unwrap();
            let museum =
                Museum::with(crate::museum::DIRECTORY, Options { fault: Some(fault), ..Options::default() })
                    .await;
            museum.change("timeout  = \"10s\"", "timeout  = \"2s\"");
            let sign_ins = sign_ins_at(&museum).await;
            for (name, allowed) in [("gfennimore", "not_selected"), ("aibbotson", "in")] {
                let outcome = right(&sign_ins, name, name).await;
                let reason = reason(&outcome);
                assert!(
                    reason == allowed || ["unavailable", "unknown"].contains(&reason),
                    "{kind}@{after}: {name}: {outcome:?}"
                );
            }
            let outcome = sign_ins.sign_in("aibbotson", &SecretString::from("wrong"), "10.0.0.9").await;
            assert!(!matches!(outcome, SignInOutcome::SignedIn(_)), "{kind}@{after}: {outcome:?}");
        }
    }
}

#[tokio::test]
async fn two_entries_with_one_name_are_nobody() {
    let museum = with("\n[sign_in]\nnames = [\"name\"]\n").await;
    let outcome = right(&sign_ins(&museum).await, "Tom Ashdown", "tashdown").await;
    let SignInOutcome::Refused(Refusal::SeveralEntries(names)) = &outcome else { panic!("{outcome:?}") };
    assert_eq!(names.len(), 2);
    assert_eq!(outcome.sentence(), Some(Sentence::NameOrPassword));
}

/// Ada Ibbotson's entry.
const ADA: &str = "CN=Ibbotson\\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example";

/// The record of an entry in the museum's LDIF.
fn record(start: &str) -> &'static str {
    let all = crate::museum::DIRECTORY;
    let at = all.find(&format!("dn: {start}\n")).unwrap();
    all[at..].split("\n\n").next().unwrap()
}

/// The museum with Ada's entry changed.
fn with_ada(change: impl Fn(&str) -> String) -> String {
    crate::museum::DIRECTORY.replace(record(ADA), &change(record(ADA)))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_changes_during_a_sign_in_nobody_gets_in_as_somebody_else() {
    let leavers = "dn: CN=Leavers,OU=Groups,DC=quillmere,DC=example";
    // Somebody else with an account gets Ada's name.
    let guid = |record: &'static str| record.lines().find(|line| line.starts_with("objectGUID::")).unwrap();
    let astrid = record("CN=Astrid Inglewood,OU=Botany,OU=People,DC=quillmere,DC=example");
    let renamed = with_ada(|ada| {
        ada.replace(guid(record(ADA)), guid(astrid)).replace("heron-aibbotson", "heron-other")
    });
    for (what, later, after) in [
        ("removed", with_ada(|_| String::new()), &["unknown_name"][..]),
        (
            "another password",
            with_ada(|ada| ada.replace("heron-aibbotson", "heron-other")),
            &["wrong_password"],
        ),
        ("disabled", with_ada(|ada| ada.replace("Control: 512", "Control: 514")), &["disabled"]),
        (
            "in Leavers",
            crate::museum::DIRECTORY.replace(leavers, &format!("{leavers}\nmember: {ADA}")),
            &["not_selected"],
        ),
        (
            "moved away",
            crate::museum::DIRECTORY.replace("Ada,OU=Botany,OU=People,", "Ada,OU=Partners,"),
            &["unknown_name"],
        ),
        ("her name given to somebody else", renamed.replace(astrid, ""), &["wrong_password"]),
    ] {
        assert_ne!(later, crate::museum::DIRECTORY, "{what}");
        let later = std::sync::Arc::new(webtaxon_standin::Directory::from_ldif(later.as_bytes()).unwrap());
        let mut reasons = Vec::new();
        for searches in 0..36 {
            let moments = vec![(searches, std::sync::Arc::clone(&later))];
            let museum =
                Museum::with(crate::museum::DIRECTORY, Options { moments, ..Options::default() }).await;
            let outcome = right(&sign_ins(&museum).await, "aibbotson", "aibbotson").await;
            let reason = reason(&outcome);
            if let SignInOutcome::SignedIn(ada) = &outcome {
                assert_eq!(ada.account.login, "aibbotson");
                assert_eq!(
                    ada.identity.as_str(),
                    "5fad6505-1296-539b-b8e3-4ec69cea5357",
                    "{what} after {searches}"
                );
            }
            let undecided =
                ["unknown", "unavailable", "other_entry", "gone", "wrong_password", "not_selected"];
            assert!(
                reason == "in" || after.contains(&reason) || undecided.contains(&reason),
                "{what} after {searches} searches: {outcome:?}"
            );
            reasons.push(reason);
        }
        assert!(after.contains(&reasons[0]), "{what}: {reasons:?}");
        assert_eq!(reasons.last(), Some(&"in"), "{what}: {reasons:?}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_programs_at_once_make_one_account() {
    let museum = with("\n[sign_in]\nnew = \"import\"\n").await;
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    museum.write("webtaxon.toml", settings.replace("seats     = 75", "seats     = 90"));
    let (one, two) = (sign_ins(&museum).await, sign_ins(&museum).await);
    let everybody = ["bthornbury", "bthornbury", "bthornbury", "bthornbury"];
    let tasks: Vec<_> = everybody
        .into_iter()
        .enumerate()
        .map(|(at, login)| {
            let sign_ins = if at % 2 == 0 { one.clone() } else { two.clone() };
            tokio::spawn(async move { sign_ins.sign_in(login, &password(login), &at.to_string()).await })
        })
        .collect();
    for task in tasks {
        assert_eq!(reason(&task.await.unwrap()), "in");
    }
    let accounts = museum.workspace().unwrap().accounts().await.unwrap();
    assert_eq!(accounts.iter().filter(|account| account.login == "bthornbury").count(), 1);
    assert_eq!(audit(&museum).len(), 4);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_try_waits_for_a_dead_server_twice() {
    let museum = Museum::open().await;
    // Nobody answers there: connections are taken, and nothing is said.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let dead = format!("ldaps://localhost:{}", silent.local_addr().unwrap().port());
    let url = museum.standin().url();
    let settings = museum.settings().replace(&format!("[\"{url}\"]"), &format!("[\"{dead}\", \"{url}\"]"));
    let settings = settings.replace("timeout  = \"10s\"", "timeout  = \"5s\"\nconnect_timeout = \"1s\"");
    museum.write("webtaxon.toml", settings);
    let sign_ins = sign_ins(&museum).await;
    let mut slow = 0;
    for _ in 0..20 {
        let began = std::time::Instant::now();
        assert_eq!(reason(&right(&sign_ins, "aibbotson", "aibbotson").await), "in");
        let waits = began.elapsed().as_millis() / 1000;
        assert!(waits <= 2, "{waits} waits of a second");
        slow += usize::from(waits >= 1);
    }
    assert!(slow <= 1, "{slow} tries waited");
}

#[tokio::test]
async fn a_kept_connection_that_its_server_ends_is_opened_again_however_old_it_is() {
    let options = Options { one_search: true, ..Options::default() };
    let museum = Museum::with(crate::museum::DIRECTORY, options).await;
    museum.change("timeout  = \"10s\"", "timeout  = \"1s\"");
    let sign_ins = sign_ins(&museum).await;
    for _ in 0..2 {
        let outcome = right(&sign_ins, "aibbotson", "aibbotson").await;
        assert_eq!(reason(&outcome), "in", "{outcome:?}");
        // Longer than the deadline of the run that opened it: twice the timeout.
        tokio::time::sleep(std::time::Duration::from_millis(2_200)).await;
    }
}

#[tokio::test]
async fn names_and_values_from_outside_are_text() {
    let museum = Museum::open().await;
    let sign_ins = sign_ins(&museum).await;
    for name in [
        "*",
        "a*",
        "(uid=*)",
        "aibbotson)(|(objectClass=*",
        "aibbotson\\2a",
        "\u{202e}aibbotson",
        "aibbotson\0",
        "CN=Ibbotson\\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example",
        "QUILLMERE\\aibbotson",
        "aibbotson@quillmere.example",
        "<GUID=5fad6505-1296-539b-b8e3-4ec69cea5357>",
        &"x".repeat(100_000),
    ] {
        let outcome = right(&sign_ins, name, "aibbotson").await;
        assert!(["unknown_name", "bad_name"].contains(&reason(&outcome)), "{name:.40}: {outcome:?}");
        assert_eq!(outcome.sentence(), Some(Sentence::NameOrPassword));
    }
    assert!(audit(&museum).iter().all(|line| line.name.len() <= 4096));
}

#[tokio::test]
async fn a_wrong_password_is_tried_at_one_server_only() {
    let museum = Museum::open().await;
    // The second server would take another password.
    let other = with_ada(|ada| ada.replace("heron-aibbotson", "heron-other"));
    let other = std::sync::Arc::new(webtaxon_standin::Directory::from_ldif(other.as_bytes()).unwrap());
    let second = webtaxon_standin::Standin::start(other, Options::default()).await.unwrap();
    let authorities = format!("{}\n{}", museum.standin().authority_pem(), second.authority_pem());
    museum.write("museum-ca.pem", authorities);
    let url = museum.standin().url();
    let settings =
        museum.settings().replace(&format!("[\"{url}\"]"), &format!("[\"{url}\", \"{}\"]", second.url()));
    museum.write("webtaxon.toml", settings);
    let sign_ins = sign_ins(&museum).await;
    for (typed, expected) in [("heron-other", "wrong_password"), ("heron-aibbotson", "in")] {
        let outcome = sign_ins.sign_in("aibbotson", &SecretString::from(typed), "10.0.0.1").await;
        assert_eq!(reason(&outcome), expected, "{outcome:?}");
    }
}

#[tokio::test]
async fn what_another_person_draws_too_is_given_to_nobody() {
    let mail = "mail: bthornbury@quillmere.example";
    let double = crate::museum::DIRECTORY.replace("mail: adrummond@quillmere.example", mail);
    assert_eq!(double.matches(mail).count(), 2);
    let museum = Museum::with(&double, Options::default()).await;
    let settings = museum.settings().replace("seats     = 75", "seats     = 90");
    museum.write("webtaxon.toml", settings + "\n[sign_in]\nnew = \"import\"\n");
    let outcome = right(&sign_ins(&museum).await, "bthornbury", "bthornbury").await;
    assert_eq!(reason(&outcome), "no_account", "{outcome:?}");
    assert_eq!(museum.workspace().unwrap().accounts().await.unwrap().len(), 81);
}
