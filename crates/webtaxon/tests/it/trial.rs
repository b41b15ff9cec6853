//! Trying a SCIM service with a scratch user, and what is remembered of what it does otherwise than it says.

use crate::museum::{DIRECTORY, fails};
use crate::stores::{Kind, Prepared, agreed, offering, prepared, users};
use serde_json::json;
use std::time::Duration;
use webtaxon::check::StepOutcome::{self, Bad, Good, Warning};
use webtaxon::model::apply::Outcome;
use webtaxon::model::preview::ChangeKind;
use webtaxon_standin::{Application, ApplicationOptions, Trouble, TroubleKind};

const LOGIN: &str = "webtaxon.scratch";
const ROOM: &str = "urn:quillmere:loans:2.0:User";
const PLACE: &str = "urn:quillmere:loans:2.0:User:room";

/// The results of a trial, in words.
async fn tried(museum: &Prepared) -> Vec<(StepOutcome, String)> {
    let steps = museum.workspace().unwrap().try_scratch(LOGIN, "tester", |_| {}).await;
    steps.into_iter().map(|step| (step.outcome, step.message)).collect()
}

/// Another application with the same list at another address, of which the settings speak from now on.
async fn replaced(museum: &mut Prepared, offer: ApplicationOptions) {
    let own = Application::start(museum.application().list(), offer).await.unwrap();
    rewrite(museum, &museum.application().url(), &own.url());
    museum.application = Some(own);
}

/// Replaces a text in the settings.
fn rewrite(museum: &Prepared, from: &str, to: &str) {
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    assert!(settings.contains(from), "{from}");
    museum.write("webtaxon.toml", settings.replace(from, to));
}

/// A room in nobody's user, so that a service that keeps no rooms shows it of nobody.
fn without_rooms(museum: &Prepared) {
    let mut list = museum.application().list();
    for user in museum.application().list().users() {
        list.set(user["userName"].as_str().unwrap(), ROOM, json!({}));
    }
    museum.application().set_list(list);
}

/// A kind of service with what it offers, and the results of a trial, each a part of its words.
type Case = (Kind, ApplicationOptions, Vec<(StepOutcome, &'static str)>);

#[tokio::test]
async fn a_trial_tells_what_a_service_does_and_leaves_nothing() {
    let half = ApplicationOptions { unique_emails: false, ..Kind::HalfScim.offer() };
    let forgetful = ApplicationOptions { forgets: Some("displayName".to_owned()), ..Kind::Scim.offer() };
    let created = (Good, "was created, with its link, its login, name, email, department, room, roles");
    let gone = [(Good, "the user was suspended"), (Good, "was removed")];
    let cases: [Case; 4] = [
        (
            Kind::Scim,
            Kind::Scim.offer(),
            vec![created, (Good, "changed by PATCH"), (Good, "emptied by PATCH")],
        ),
        (
            Kind::HalfScim,
            half,
            vec![
                created,
                (Warning, "PATCH has no effect on department, room"),
                (Good, "changed by PUT"),
                (Good, "emptied by PUT"),
            ],
        ),
        (
            Kind::BareScim,
            Kind::BareScim.offer(),
            vec![
                (Good, "was created, with its link, its login, name, email, department, room"),
                (Good, "changed by PUT"),
                (Good, "emptied by PUT"),
            ],
        ),
        (
            Kind::Scim,
            forgetful,
            vec![
                (Bad, "the service takes name (`displayName`) and does not keep it"),
                (Good, "with its link, its login, email, department, room, roles"),
                (Good, "changed by PATCH"),
                (Good, "emptied by PATCH"),
            ],
        ),
    ];
    for (kind, offer, mut expected) in cases {
        expected.extend(gone);
        let museum = offering(kind, DIRECTORY, offer).await;
        let before = users(&museum.application().list());
        let found = tried(&museum).await;
        assert_eq!(found.len(), expected.len(), "{kind:?}: {found:#?}");
        for ((outcome, words), (wanted, part)) in found.iter().zip(&expected) {
            assert!(outcome == wanted && words.contains(part), "{kind:?}: {part}: {found:#?}");
        }
        assert_eq!(users(&museum.application().list()), before, "{kind:?}");
    }
}

/// A request that fails, or whose answer is lost, leaves a scratch user at most, which the next trial removes.
#[tokio::test]
async fn a_trial_that_fails_anywhere_is_made_again() {
    for kind in [Kind::Scim, Kind::BareScim] {
        let museum = prepared(kind, DIRECTORY).await;
        tried(&museum).await;
        let writes = museum.application().requests().1;
        assert!(writes >= 5, "{writes}");
        let before = users(&museum.application().list());
        for trouble in [
            TroubleKind::Failing,
            TroubleKind::Forgetful,
            TroubleKind::Cut,
            TroubleKind::CutBefore,
            TroubleKind::Denied,
            TroubleKind::Conflict,
        ] {
            for at in 1..=writes {
                let told = format!("{kind:?} {trouble:?} at {at}");
                let trouble = Some(Trouble { kind: trouble.clone(), at, times: u64::MAX });
                let mut museum =
                    offering(kind, DIRECTORY, ApplicationOptions { trouble, ..kind.offer() }).await;
                let found = tried(&museum).await;
                let left = users(&museum.application().list());
                let more: Vec<&String> = left.iter().filter(|user| !before.contains(user)).collect();
                assert!(more.len() <= 1 && more.iter().all(|user| user.contains(LOGIN)), "{told}: {more:?}");
                let is_told = found.iter().any(|(outcome, _)| *outcome != Good);
                assert!(is_told || more.is_empty(), "{told}: {found:?}");
                replaced(&mut museum, kind.offer()).await;
                let found = tried(&museum).await;
                assert!(found.iter().all(|(outcome, _)| *outcome == Good), "{told}: {found:?}");
                assert_eq!(users(&museum.application().list()), before, "{told}");
            }
        }
    }
}

/// Somebody's user is no scratch user.
#[tokio::test]
async fn nobody_is_taken_for_a_scratch_user() {
    let museum = prepared(Kind::Scim, DIRECTORY).await;
    let before = users(&museum.application().list());
    let steps = museum.workspace().unwrap().try_scratch("AIbbotson", "tester", |_| {}).await;
    let codes: Vec<_> = steps.iter().map(|step| (step.outcome, step.code.as_deref())).collect();
    assert_eq!(codes, [(Bad, Some("WX0528"))]);
    assert_eq!((users(&museum.application().list()), museum.application().requests().1), (before, 0));
}

/// What a trial or an apply found out of PATCH is known to the next apply, which does not try it again.
#[tokio::test]
async fn a_service_that_patches_by_halves_is_known_from_then_on() {
    let offer = ApplicationOptions { half_patch: true, bulk: None, ..Kind::Scim.offer() };
    let mut writes = Vec::new();
    for is_tried in [false, true] {
        let museum = offering(Kind::Scim, DIRECTORY, offer.clone()).await;
        let workspace = museum.workspace().unwrap();
        if is_tried {
            tried(&museum).await;
        }
        let before = museum.application().requests().1;
        let (_, work) = workspace.work().await.unwrap();
        assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
        let first = museum.application().requests().1;
        let back = workspace.way_back(1).await.unwrap();
        assert!(workspace.apply(&back, &agreed()).await.unwrap().is_complete());
        writes.push((first - before, museum.application().requests().1 - first));
    }
    let [(untried, back), (known, back_known)] = writes[..] else { panic!("{writes:?}") };
    assert!(untried > known, "{writes:?}: a first apply finds it out, unless a trial did");
    assert_eq!(back, back_known, "{writes:?}: the undoing knows it from the apply");
}

/// What a service refuses or fails to do once says nothing about PATCH.
#[tokio::test]
async fn one_refusal_is_no_habit() {
    for trouble in [TroubleKind::Conflict, TroubleKind::Denied, TroubleKind::Failing, TroubleKind::Cut] {
        for at in [1, 4, 9, 15, 22] {
            let trouble = Some(Trouble { kind: trouble.clone(), at, times: 4 });
            let offer = ApplicationOptions { trouble, bulk: None, ..Kind::Scim.offer() };
            let museum = offering(Kind::Scim, DIRECTORY, offer).await;
            let workspace = museum.workspace().unwrap();
            let (_, work) = workspace.work().await.unwrap();
            workspace.apply(&work, &agreed()).await.unwrap();
            let state = rusqlite::Connection::open(museum.path().join("webtaxon.state.sqlite")).unwrap();
            let habits: i64 = state.query_row("SELECT count(*) FROM habit", [], |row| row.get(0)).unwrap();
            assert_eq!(habits, 0, "{at}");
        }
    }
}

/// A field that is not kept reads as empty for everybody: that is told, and taken for nobody's value.
#[tokio::test]
async fn what_is_not_kept_is_never_taken_for_empty() {
    for kind in [Kind::Scim, Kind::BareScim] {
        for by_trial in [true, false] {
            let told = format!("{kind:?}, by a trial: {by_trial}");
            let offer = ApplicationOptions { forgets: Some(ROOM.to_owned()), ..kind.offer() };
            let museum = offering(kind, DIRECTORY, offer).await;
            without_rooms(&museum);
            let workspace = museum.workspace().unwrap();
            let (_, work) = workspace.work().await.unwrap();
            let is_import = |one: &webtaxon::model::apply::Edit| one.kind == ChangeKind::Import;
            if by_trial {
                let found = tried(&museum).await;
                assert!(found.iter().any(|(outcome, words)| *outcome == Bad && words.contains("room")));
            } else {
                let applied = workspace.apply(&work.part(is_import), &agreed()).await.unwrap();
                assert!(applied.outcomes.iter().all(|one| *one == Some(Outcome::Done)), "{told}");
                assert_eq!(applied.dropped, [PLACE], "{told}");
            }
            fails(&museum, "does not keep it", "WX0527", "--scratch").await;
            let steps = workspace.check(Duration::ZERO, |_| {}).await;
            assert!(steps.iter().any(|step| step.code.as_deref() == Some("WX0527")), "{told}");
            // Another place is another matter.
            rewrite(&museum, PLACE, "nickName");
            museum.workspace().unwrap().preview().await.unwrap();
            rewrite(&museum, "nickName", PLACE);
            fails(&museum, "does not keep it", "WX0527", "--scratch").await;
            // A value there shows that the service keeps them by now.
            let mut list = museum.application().list();
            list.set("aibbotson", ROOM, json!({"room": "B 2"}));
            museum.application().set_list(list);
            museum.workspace().unwrap().preview().await.unwrap();
        }
    }
}
