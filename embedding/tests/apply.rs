//! The demo's museum, whose Loans Desk keeps everything itself: previewed, applied, and taken back.

use loans_desk::{Accounts, State};
use std::path::Path;
use std::sync::Arc;
use webtaxon::apply::Consent;
use webtaxon::model::account::Account;
use webtaxon::model::preview::ChangeKind;
use webtaxon::state::StateStore;
use webtaxon::store::AccountStore as _;
use webtaxon::{Error, Workspace};
use webtaxon_standin::{Directory, Options, Standin};

const DIRECTORY: &str = include_str!("../../demo/directory.ldif");
const SETTINGS: &str = include_str!("../../demo/webtaxon.toml");

fn write(folder: &Path, name: &str, text: &str) {
    std::fs::write(folder.join(name), text).unwrap();
}

/// The demo's settings in a folder, and the directory that they name.
async fn museum(folder: &Path, ldif: &str) -> Standin {
    let directory = Arc::new(Directory::from_ldif(ldif.as_bytes()).unwrap());
    let standin = Standin::start(directory, Options::default()).await.unwrap();
    let list = "store     = \"csv\"\npath      = \"accounts.csv\"";
    assert!(SETTINGS.contains(list));
    let settings =
        SETTINGS.replace("ldaps://localhost:6360", &standin.url()).replace(list, "store = \"own\"");
    write(folder, "webtaxon.toml", &settings);
    write(folder, "museum-password.txt", "botanical-garden-42\n");
    write(folder, "museum-ca.pem", standin.authority_pem());
    standin
}

fn agreed() -> Consent {
    Consent {
        who: "the Loans Desk".to_owned(),
        release: ["seats", "settings_changed", "first", "removals"].map(str::to_owned).to_vec(),
        stop_after: None,
    }
}

async fn list(store: &Accounts) -> Vec<Account> {
    let mut list = store
        .accounts(["name", "email", "department", "room", "roles"].map(str::to_owned).into())
        .await
        .unwrap();
    list.sort_by(|one, other| one.login.cmp(&other.login));
    list
}

#[tokio::test]
async fn everybody_comes_in_once_and_goes_again() {
    let folder = tempfile::tempdir().unwrap();
    let _standin = museum(folder.path(), DIRECTORY).await;
    let store = Accounts::open(&folder.path().join("desk.sqlite")).unwrap();
    let workspace = Workspace::open(folder.path().join("webtaxon.toml"))
        .unwrap()
        .with_store(Arc::new(store.clone()))
        .with_state(Arc::new(State::at(&folder.path().join("remembered.sqlite"))));

    let (preview, work) = workspace.work().await.unwrap();
    let imported = preview.of_kind(ChangeKind::Import).count();
    assert!(imported > 60, "{imported}");
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    assert!(applied.is_complete(), "{applied:?}");
    let all = list(&store).await;
    assert_eq!(all.len(), imported);
    assert!(all.iter().all(|account| account.link.is_some()));

    let (again, none) = workspace.work().await.unwrap();
    assert!(!again.has_work() && none.is_empty());
    let back = workspace.way_back(applied.run.unwrap()).await.unwrap();
    assert!(workspace.apply(&back, &agreed()).await.unwrap().is_complete());
    assert_eq!(list(&store).await, []);
    let runs = workspace.journal().await.unwrap().unwrap().runs().unwrap();
    assert_eq!(runs.iter().map(|run| run.undoes).collect::<Vec<_>>(), [Some(1), None]);
}

/// Two people exchange their logins: each account stays the same person's.
#[tokio::test]
async fn logins_change_hands_in_one_transaction() {
    let folder = tempfile::tempdir().unwrap();
    let store = Accounts::open(&folder.path().join("desk.sqlite")).unwrap();
    let login = |name: &str| format!("sAMAccountName: {name}\n");
    let (one, other, aside) = (login("aibbotson"), login("bskelton"), login("aside"));
    let exchanged = DIRECTORY.replace(&one, &aside).replace(&other, &one).replace(&aside, &other);
    assert!(DIRECTORY.contains(&one) && DIRECTORY.contains(&other));
    let mut emails = Vec::new();
    for ldif in [DIRECTORY, &exchanged] {
        let _standin = museum(folder.path(), ldif).await;
        let workspace = Workspace::open(folder.path().join("webtaxon.toml"))
            .unwrap()
            .with_store(Arc::new(store.clone()))
            .with_state(Arc::new(State::at(&folder.path().join("remembered.sqlite"))));
        let (_, work) = workspace.work().await.unwrap();
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        assert!(applied.is_complete(), "{applied:?}");
        let list = list(&store).await;
        let email =
            |name: &str| list.iter().find(|one| one.login == name).map(|one| one.value("email").to_owned());
        emails.push(["aibbotson", "bskelton"].map(email));
    }
    emails[1].reverse();
    assert_eq!(emails[0], emails[1]);
}

/// The lock is the application's to take, and the library's to ask for.
#[tokio::test]
async fn a_state_that_somebody_has_is_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let _standin = museum(folder.path(), DIRECTORY).await;
    let store = Accounts::open(&folder.path().join("desk.sqlite")).unwrap();
    let state = State::at(&folder.path().join("remembered.sqlite"));
    let settings = folder.path().join("webtaxon.toml");
    let workspace = Workspace::open(settings).unwrap().with_store(Arc::new(store.clone()));
    let own = workspace.clone().with_state(Arc::new(state.clone()));
    let (_, work) = own.work().await.unwrap();
    let held = state.write("somebody else").unwrap();
    let error = own.apply(&work, &agreed()).await.unwrap_err();
    assert!(error.to_string().contains("another apply is running"), "{error}");
    drop(held);
    assert_eq!(list(&store).await, []);
    assert!(own.apply(&work, &agreed()).await.unwrap().is_complete());

    // Without a place for the state there is no apply, and nothing is changed.
    let error: Error = workspace.apply(&work, &agreed()).await.unwrap_err();
    assert!(error.to_string().contains("does not support"), "{error}");
}
