//! What is a SCIM service's own: answers that are lost, refusals, services that are none, and secrets.

use crate::museum::{DIRECTORY, fails};
use crate::stores::{Kind, Prepared, TOKEN, agreed, dump, museum, offering, prepared, users};
use serde_json::json;
use std::time::Duration;
use webtaxon::apply::Consent;
use webtaxon::model::apply::{Edit, Outcome};
use webtaxon::model::preview::{BrakeKind, ChangeKind};
use webtaxon_standin::{Application, ApplicationOptions, List, Trouble, TroubleKind};

const ROOM: &str = "attributes = { room = \"urn:quillmere:loans:2.0:User:room\" }";

async fn troubled(kind: Kind, trouble: Trouble) -> Prepared {
    offering(kind, DIRECTORY, ApplicationOptions { trouble: Some(trouble), ..kind.offer() }).await
}

/// Ends the trouble: another application with the same list, of which the settings speak from now on.
async fn healed(museum: &mut Prepared, kind: Kind) {
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let old = museum.application().url();
    let list = museum.application().list();
    let own = Application::start(list, kind.offer()).await.unwrap();
    museum.write("webtaxon.toml", settings.replace(&old, &own.url()));
    museum.application = Some(own);
}

/// Where an answer is lost, before or after the change was made, what is said of each change is true, and
/// another preview carries the rest out.
#[tokio::test]
async fn lost_answers_lose_nothing_and_double_nothing() {
    let singly = ApplicationOptions { bulk: None, ..Kind::Scim.offer() };
    for (kind, offer, step) in [
        (Kind::Scim, Kind::Scim.offer(), 1),
        (Kind::Scim, singly, 6),
        (Kind::BareScim, Kind::BareScim.offer(), 6),
    ] {
        let whole = offering(kind, DIRECTORY, offer.clone()).await;
        let workspace = whole.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
        let (after, writes) = (dump(&whole, kind), whole.application().requests().1);
        for trouble in
            [TroubleKind::Cut, TroubleKind::CutBefore, TroubleKind::Forgetful, TroubleKind::Failing]
        {
            for at in (1..=writes).step_by(step) {
                let told = format!("{kind:?} {trouble:?} at {at} of {writes}");
                let trouble = Some(Trouble::at(trouble.clone(), at));
                let offer = ApplicationOptions { trouble, ..offer.clone() };
                let mut museum = offering(kind, DIRECTORY, offer).await;
                let workspace = museum.workspace().unwrap();
                let (_, work) = workspace.work().await.unwrap();
                let applied = workspace.apply(&work, &agreed()).await.unwrap();
                assert_eq!(applied.stopped, None, "{told}");
                let there = museum.application().list().users();
                for (edit, outcome) in work.edits().iter().zip(&applied.outcomes) {
                    let is_done = matches!(outcome, Some(Outcome::Done));
                    let (login, is_new) = (edit.login(), edit.kind == ChangeKind::Import);
                    let has = there.iter().any(|user| user["userName"] == *login);
                    if is_new || edit.kind == ChangeKind::Remove {
                        assert_eq!(has, is_done == is_new, "{told}: {login} {outcome:?}");
                    }
                }
                let is_lost = applied.outcomes.iter().flatten().any(|one| *one != Outcome::Done);
                assert_eq!(is_lost, dump(&museum, kind) != after, "{told}: {:?}", applied.outcomes);
                healed(&mut museum, kind).await;
                // The settings name another address now, so that it is another list: a journal of its own.
                std::fs::remove_file(museum.path().join("webtaxon.state.sqlite")).unwrap();
                let workspace = museum.workspace().unwrap();
                let (_, rest) = workspace.work().await.unwrap();
                assert!(workspace.apply(&rest, &agreed()).await.unwrap().is_complete(), "{told}");
                assert_eq!(dump(&museum, kind), after, "{told}");
            }
        }
    }
}

/// A service may refuse an address that another user has, too, and does so at every moment: addresses are swapped and
/// passed on all the same, in one apply.
#[tokio::test]
async fn addresses_are_swapped_where_no_two_may_have_one() {
    for (kind, bulk) in [(Kind::Scim, Some(1000)), (Kind::Scim, None), (Kind::BareScim, None)] {
        let offer = ApplicationOptions { bulk, unique_emails: true, ..kind.offer() };
        let museum = offering(kind, DIRECTORY, offer).await;
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        assert!(applied.is_complete(), "{kind:?} {bulk:?}: {:?}", applied.outcomes);
        assert_eq!(workspace.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)], "{kind:?}");
    }
}

/// What is refused is told in the service's words, and the rest goes on, unless there are too many.
#[tokio::test]
async fn a_refusal_is_told_and_the_rest_goes_on() {
    let offer = || ApplicationOptions { bulk: None, ..Kind::Scim.offer() };
    for (trouble, reason) in [
        (TroubleKind::Conflict, "somebody else has this (uniqueness)"),
        (TroubleKind::Denied, "you may not do this"),
    ] {
        let trouble = Some(Trouble { kind: trouble, at: 2, times: 3 });
        for (stop_after, done) in [(None, 28), (Some(2), 1)] {
            let offer = ApplicationOptions { trouble: trouble.clone(), ..offer() };
            let museum = offering(Kind::Scim, DIRECTORY, offer).await;
            let workspace = museum.workspace().unwrap();
            let (_, work) = workspace.work().await.unwrap();
            let applied = workspace.apply(&work, &Consent { stop_after, ..agreed() }).await.unwrap();
            assert_eq!(applied.count(|one| *one == Outcome::Done), done);
            let failed = Outcome::Failed(reason.to_owned());
            assert_eq!(applied.count(|one| *one == failed), stop_after.unwrap_or(3));
        }
    }
}

/// A service that has no time is asked again after as long as it says.
#[tokio::test]
async fn a_busy_service_is_waited_for() {
    let museum = troubled(Kind::Scim, Trouble { kind: TroubleKind::Busy(1), at: 1, times: 2 }).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let began = std::time::Instant::now();
    assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
    assert!(began.elapsed() >= Duration::from_secs(2), "it waits as long as the service says");
    let museum = troubled(Kind::Scim, Trouble::always(TroubleKind::Busy(3600))).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    let busy = Outcome::Failed("too many requests".to_owned());
    assert_eq!(applied.count(|one| *one == busy), work.edits().len(), "nobody waits for an hour");
}

#[tokio::test]
async fn what_is_no_service_of_accounts_is_told() {
    for (trouble, message, code) in [
        (TroubleKind::Page, "answers with text/html instead of JSON", "WX0514"),
        (TroubleKind::Garbled, "answers with something other than JSON", "WX0514"),
        (TroubleKind::Huge, "exceeds 64 MB", "WX0516"),
        (TroubleKind::Endless, "more than the limit of 5000000", "WX0518"),
        (TroubleKind::Short, "ends after 81 of 84", "WX0518"),
        (TroubleKind::SamePage, "twice", "WX0518"),
    ] {
        let museum = troubled(Kind::Scim, Trouble::always(trouble)).await;
        fails(&museum, message, code, "").await;
    }
    let museum = museum(Kind::Scim).await;
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let port = museum.application().address().port();
    for (from, to, message, code, help) in [
        ("/scim/v2", "/scim", "answers 404", "WX0514", "/ServiceProviderConfig"),
        ("token.txt", "wrong.txt", "refuses the credentials: who are you?", "WX0515", "token"),
        ("token.txt", "none.txt", "was not asked: the token file", "WX0520", "[accounts]"),
        (&port.to_string(), "1", "does not answer: no connection", "WX0516", "running"),
        (
            ":room",
            ":rooms",
            "no attribute `urn:quillmere:loans:2.0:User:rooms`",
            "WX0517",
            "did you mean `room`?",
        ),
        (ROOM, "", "no attribute `room` for the field `room`", "WX0517", "[accounts.attributes] room"),
        ("urn:quillmere:loans:2.0:User:room", "groups", "no attribute `groups`", "WX0517", "read-only"),
        ("urn:quillmere:loans:2.0:User:room", "name", "no attribute `name`", "WX0517", "givenName"),
        (
            "urn:quillmere:loans:2.0:User:room",
            "title.x",
            "no attribute `title.x`",
            "WX0517",
            "no sub-attributes",
        ),
    ] {
        museum.write("wrong.txt", "no-token\n");
        assert!(settings.contains(from), "{from}");
        museum.write("webtaxon.toml", settings.replace(from, to));
        fails(&museum, message, code, help).await;
    }
}

/// A redirection is told and not followed: the secret goes nowhere else.
#[tokio::test]
async fn the_token_goes_to_nobody_else() {
    let other = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}/scim/v2/Users", other.local_addr().unwrap());
    let museum = troubled(Kind::Scim, Trouble::always(TroubleKind::Elsewhere(url.clone()))).await;
    fails(&museum, &format!("redirects to {url}"), "WX0514", "").await;
    let asked = tokio::time::timeout(Duration::from_millis(200), other.accept()).await;
    assert!(asked.is_err(), "somebody called there");
}

/// No message, journal or copy has the token in it.
#[tokio::test]
async fn the_token_stands_nowhere() {
    let museum = troubled(Kind::Scim, Trouble::at(TroubleKind::Denied, 1)).await;
    let workspace = museum.workspace().unwrap();
    let (preview, work) = workspace.work().await.unwrap();
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    let mut all = format!("{preview:?} {work:?} {applied:?} {workspace:?}");
    let mut folders = vec![museum.path().to_owned()];
    while let Some(folder) = folders.pop() {
        for file in std::fs::read_dir(folder).unwrap().map(|file| file.unwrap().path()) {
            if file.is_dir() {
                folders.push(file);
            } else if !file.ends_with("token.txt") {
                all += &String::from_utf8_lossy(&std::fs::read(file).unwrap());
            }
        }
    }
    assert!(all.contains("externalId") && !all.contains(TOKEN));
}

/// A name and a password are as good as a token, where the service wants them.
#[tokio::test]
async fn a_name_and_a_password_let_in() {
    let basic = Some(("desk".to_owned(), "specimen 8".to_owned()));
    let offer = ApplicationOptions { token: None, basic, ..ApplicationOptions::default() };
    let museum = offering(Kind::Scim, DIRECTORY, offer).await;
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    museum.write("token.txt", "specimen 8\n");
    fails(&museum, "refuses the credentials", "WX0515", "").await;
    let token = "token      = {";
    assert!(settings.contains(token));
    museum.write("webtaxon.toml", settings.replace(token, "user = \"desk\"\npassword = {"));
    assert_eq!(museum.preview().await.unwrap().accounts.now, 81);
}

/// The service's certificate is checked like a directory's.
#[tokio::test]
async fn a_service_with_a_private_authority_is_trusted_by_its_file_alone() {
    let museum = museum(Kind::Scim).await;
    let inner = museum.application().address();
    let signed = rcgen::generate_simple_self_signed(["localhost".to_owned()]).unwrap();
    let key = rustls::pki_types::PrivateKeyDer::try_from(signed.signing_key.serialize_der()).unwrap();
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![signed.cert.der().clone()], key)
        .unwrap();
    let acceptor = tokio_rustls::TlsAcceptor::from(std::sync::Arc::new(config));
    let outer = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = outer.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((stream, _)) = outer.accept().await {
            let acceptor = acceptor.clone();
            tokio::spawn(async move {
                let Ok(mut stream) = acceptor.accept(stream).await else { return };
                let mut service = tokio::net::TcpStream::connect(inner).await.unwrap();
                let _ = tokio::io::copy_bidirectional(&mut stream, &mut service).await;
            });
        }
    });
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let secure = settings.replace(&format!("http://{inner}"), &format!("https://localhost:{port}"));
    let secure = secure.replace("plain      = true\n", "");
    assert_ne!(secure, settings);
    museum.write("webtaxon.toml", &secure);
    fails(&museum, "invalid peer certificate", "WX0516", "").await;
    museum.write("service.pem", signed.cert.pem());
    let trusting = secure.replace("token      =", "trust = { authority = \"service.pem\" }\ntoken      =");
    museum.write("webtaxon.toml", trusting);
    assert_eq!(museum.preview().await.unwrap().accounts.now, 81);
}

/// A manager is a user of the service: whoever comes in with a new manager waits for them, and a manager who
/// is no user is told.
#[tokio::test]
async fn a_manager_is_another_user_and_may_be_new() {
    let mut ldif = DIRECTORY.to_owned();
    let person = |ldif: &str, login: &str| {
        let at = ldif.find(&format!("sAMAccountName: {login}\n")).unwrap();
        let from = ldif[..at].rfind("dn: ").unwrap();
        let dn = ldif[from + 4..].lines().next().unwrap().to_owned();
        (ldif[at..].find("\n\n").unwrap() + at + 1, dn)
    };
    let museum = museum(Kind::Scim).await;
    let (preview, _) = museum.workspace().unwrap().work().await.unwrap();
    let new: Vec<String> = preview.of_kind(ChangeKind::Import).map(|change| change.login.clone()).collect();
    // The first is led by the last, who comes in behind; two lead each other; one is led by a leaver.
    let leavers: Vec<String> =
        preview.of_kind(ChangeKind::Remove).map(|change| change.login.clone()).collect();
    assert!(new.len() == 7 && !leavers.is_empty());
    for (who, leader) in
        [(&new[0], &new[6]), (&new[6], &"aibbotson".to_owned()), (&new[1], &new[2]), (&new[2], &new[1])]
    {
        let dn = person(&ldif, leader).1;
        let end = person(&ldif, who).0;
        ldif.insert_str(end, &format!("manager: {dn}\n"));
    }
    let museum = prepared(Kind::Scim, &ldif).await;
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let manager = "[intake.fields]\nmanager = { from = \"manager\", follow = \"login\" }";
    museum.write("webtaxon.toml", settings.replace("[intake.fields]", manager));
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    let odd: Vec<String> = applied
        .outcomes
        .iter()
        .flatten()
        .filter_map(|one| match one {
            Outcome::Failed(words) => Some(words.clone()),
            _ => None,
        })
        .collect();
    let missing = |login: &str| format!("manager is {login}, who is not a user of the service");
    assert_eq!(odd, [missing(&new[2]), missing(&new[1])], "a ring of new people cannot begin anywhere");
    let list = museum.application().list().users();
    let user = |login: &str| list.iter().find(|user| user["userName"] == *login).unwrap();
    let enterprise = webtaxon::model::settings::ENTERPRISE;
    assert_eq!(user(&new[0])[enterprise]["manager"]["value"], user(&new[6])["id"]);
    assert_eq!(user(&new[6])[enterprise]["manager"]["value"], user("aibbotson")["id"]);
    let again = museum.preview().await.unwrap();
    assert_eq!(again.kinds, [(ChangeKind::Import, 2), (ChangeKind::Clash, 2)]);
}

/// What no field is about stays as it is, and a removed user comes back with it.
#[tokio::test]
async fn what_no_rule_fills_stays_and_comes_back() {
    for kind in [Kind::Scim, Kind::HalfScim, Kind::BareScim] {
        let museum = museum(kind).await;
        let mut list = museum.application().list();
        list.add_groups("displayName,externalId,members\nBoard,,hvanish;bedgeworth;mfallow\nEmpty,,\n")
            .unwrap();
        for login in ["hvanish", "bedgeworth", "mfallow"] {
            list.set(login, "title", json!("Keeper"));
            list.set(login, "phoneNumbers", json!([{"value": "12", "type": "desk"}, {"value": "13"}]));
        }
        museum.application().set_list(list);
        let before = dump(&museum, kind);
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
        let has = |login: &str| {
            let rows = users(&museum.application().list());
            rows.iter().any(|row| row.contains(login) && row.contains("Keeper") && row.contains("\"desk\""))
        };
        assert!(has("bedgeworth") && !has("hvanish"), "{kind:?}");
        let back = workspace.apply(&workspace.way_back(1).await.unwrap(), &agreed()).await.unwrap();
        assert!(back.is_complete(), "{kind:?}: {back:?}");
        assert_eq!(dump(&museum, kind), before, "{kind:?}");
    }
}

/// A role without a group is told before anything of that person is written, and no group is made.
#[tokio::test]
async fn a_role_without_a_group_is_told() {
    let museum = museum(Kind::BareScim).await;
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    museum.write("webtaxon.toml", settings.replace("name     = \"approver\"", "name     = \"aprover\""));
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    let told = "the service has no group `aprover`; it has administrator, borrower, approver";
    assert!(applied.count(|one| *one == Outcome::Failed(told.to_owned())) > 0, "{:?}", applied.outcomes);
    assert_eq!(
        museum.application().list().groups().len(),
        List::from_csv(crate::museum::ACCOUNTS, true).unwrap().groups().len()
    );
}

/// Several requests in one, and no more requests than that.
#[tokio::test]
async fn many_changes_go_in_few_requests_where_the_service_offers_that() {
    for (bulk, most) in [(Some(1000), 7), (Some(10), 12), (None, 31)] {
        let offer = ApplicationOptions { bulk, ..Kind::Scim.offer() };
        let museum = offering(Kind::Scim, DIRECTORY, offer).await;
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
        let writes = museum.application().requests().1;
        assert!(writes <= most, "{bulk:?}: {writes}");
    }
}

#[tokio::test]
async fn a_plain_connection_is_warned_of() {
    let museum = museum(Kind::Scim).await;
    let warnings = museum.workspace().unwrap().warnings();
    assert!(
        warnings.iter().any(|one| one.contains("without encryption") && one.contains("/scim/v2")),
        "{warnings:?}"
    );
}

/// Somebody writes to a user at the very moment between reading and changing: what the change is about is
/// left out, and what it is not about stays as that person wrote it.
#[tokio::test]
async fn what_somebody_writes_at_that_very_moment_is_not_lost() {
    let room = json!({"room": "Attic 1"});
    for (bulk, attribute, value, left) in [
        (None, "urn:quillmere:loans:2.0:User", room.clone(), 1),
        (Some(1000), "urn:quillmere:loans:2.0:User", room, 1),
        (None, "title", json!("Keeper"), 0),
        (Some(1000), "title", json!("Keeper"), 0),
    ] {
        let who = "bedgeworth".to_owned();
        let kind = TroubleKind::Meddling(who.clone(), attribute.to_owned(), value.clone());
        let offer = ApplicationOptions { bulk, trouble: Some(Trouble::at(kind, 1)), ..Kind::Scim.offer() };
        let museum = offering(Kind::Scim, DIRECTORY, offer).await;
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        let is_left = |one: &Outcome| *one == Outcome::Left("room is Attic 1 now".to_owned());
        assert_eq!(applied.count(is_left), left, "{:?}", applied.outcomes);
        assert_eq!(applied.count(|one| *one == Outcome::Done), work.edits().len() - left);
        let users = museum.application().list().users();
        let user = users.iter().find(|user| user["userName"] == *who).unwrap();
        assert_eq!(user[attribute], value);
    }
}

/// Two who swap their logins, and something goes wrong at any of the steps: both have one of the two, none is left
/// under the name by which one was put aside, and another apply carries it out.
#[tokio::test]
async fn a_swap_that_goes_wrong_leaves_nobody_aside() {
    let swapped = DIRECTORY
        .replace("sAMAccountName: aibbotson\n", "sAMAccountName: <a>\n")
        .replace("sAMAccountName: ecarrick\n", "sAMAccountName: aibbotson\n")
        .replace("sAMAccountName: <a>\n", "sAMAccountName: ecarrick\n");
    let offer = |trouble| ApplicationOptions { bulk: None, trouble, ..Kind::Scim.offer() };
    let whole = offering(Kind::Scim, &swapped, offer(None)).await;
    let workspace = whole.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
    let (after, writes) = (dump(&whole, Kind::Scim), whole.application().requests().1);
    let mut broken = 0;
    for kind in [TroubleKind::Conflict, TroubleKind::Cut, TroubleKind::CutBefore] {
        for at in 1..=writes {
            let told = format!("{kind:?} at {at} of {writes}");
            let trouble = Some(Trouble::at(kind.clone(), at));
            let mut museum = offering(Kind::Scim, &swapped, offer(trouble)).await;
            let workspace = museum.workspace().unwrap();
            let (_, work) = workspace.work().await.unwrap();
            let applied = workspace.apply(&work, &agreed()).await.unwrap();
            let rows = dump(&museum, Kind::Scim);
            let both = ["\"aibbotson\"", "\"ecarrick\""];
            assert!(both.iter().all(|login| rows.iter().any(|row| row.contains(login))), "{told}: {rows:?}");
            assert!(
                !rows.iter().any(|row| row.contains("aibbotson.u") || row.contains("ecarrick.u")),
                "{told}"
            );
            let is_swap = |login: &str| login == "aibbotson" || login == "ecarrick";
            let swaps = work.edits().iter().zip(&applied.outcomes).filter(|(edit, _)| is_swap(edit.login()));
            let outcomes: Vec<_> = swaps.map(|(_, outcome)| outcome.clone().unwrap()).collect();
            let is_done = outcomes.iter().all(|one| *one == Outcome::Done);
            broken += usize::from(!is_done);
            assert!(
                is_done || outcomes.iter().all(|one| matches!(one, Outcome::Failed(_))),
                "{told}: {outcomes:?}"
            );
            healed(&mut museum, Kind::Scim).await;
            std::fs::remove_file(museum.path().join("webtaxon.state.sqlite")).unwrap();
            let workspace = museum.workspace().unwrap();
            let (_, rest) = workspace.work().await.unwrap();
            assert!(workspace.apply(&rest, &agreed()).await.unwrap().is_complete(), "{told}");
            assert_eq!(dump(&museum, Kind::Scim), after, "{told}");
        }
    }
    assert_eq!(broken, 6, "three steps, refused or cut off before");
}

/// A service that announces PATCH, refuses a part of it and ignores another, is asked by PUT.
#[tokio::test]
async fn half_a_patch_is_made_up_for() {
    let offer = ApplicationOptions { half_patch: true, ..Kind::Scim.offer() };
    for bulk in [Some(1000), None] {
        let museum = offering(Kind::Scim, DIRECTORY, ApplicationOptions { bulk, ..offer.clone() }).await;
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        assert!(applied.is_complete(), "{bulk:?}: {applied:?}");
        assert_eq!(museum.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)], "{bulk:?}");
        let back = workspace.apply(&workspace.way_back(1).await.unwrap(), &agreed()).await.unwrap();
        assert!(back.is_complete(), "{bulk:?}: {back:?}");
    }
}

/// A field that a service accepts and does not keep is told, and counts as refused.
#[tokio::test]
async fn what_a_service_does_not_keep_is_told() {
    for kind in [Kind::Scim, Kind::BareScim] {
        let offer = ApplicationOptions { forgets: Some("displayName".to_owned()), ..kind.offer() };
        let museum = offering(kind, DIRECTORY, offer).await;
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let is_named =
            |edit: &Edit| edit.kind == ChangeKind::Update && edit.changed().any(|name| name == "name");
        let work = work.part(is_named);
        assert!(!work.edits().is_empty(), "somebody has another name");
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        for outcome in applied.outcomes.iter().flatten() {
            let Outcome::Failed(words) = outcome else { panic!("{kind:?}: {outcome:?}") };
            assert!(words.contains("accepts name and does not keep it"), "{kind:?}: {words}");
        }
    }
}

/// Memberships that a removal loses for good, since the groups cannot be read, are told before, and need a word.
#[tokio::test]
async fn memberships_that_cannot_be_saved_are_a_brake() {
    for groups in [true, false] {
        let offer = ApplicationOptions { groups, ..Kind::Scim.offer() };
        let museum = offering(Kind::Scim, DIRECTORY, offer).await;
        let mut list = museum.application().list();
        list.add_groups("name,link,members\nCurators,,mfallow;aibbotson\nReaders,,mfallow\n").unwrap();
        museum.application().set_list(list);
        let preview = museum.preview().await.unwrap();
        assert!(preview.of_kind(ChangeKind::Remove).any(|change| change.login == "mfallow"));
        let brake = preview.brakes.iter().find(|brake| brake.kind == BrakeKind::Cascades);
        let told = brake.map(|brake| (brake.figure, brake.which.join(", ")));
        let lost = "mfallow: 2 rows of Groups, which cannot be read".to_owned();
        assert_eq!(told, (!groups).then_some((2, lost)));
        // Nothing is said of values, of which the service was not asked.
        let steps = museum.workspace().unwrap().check(Duration::ZERO, |_| {}).await;
        assert!(steps.iter().all(|step| step.name != "values"), "{steps:?}");
    }
}
