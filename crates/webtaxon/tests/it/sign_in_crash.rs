//! A program that dies in the middle of a sign-in: nobody has half an account, and the next sign-in finishes it.

use crate::stores::{Kind, Prepared, agreed, seated};
use secrecy::SecretString;
use std::path::Path;
use std::process::Command;
use webtaxon::sign_in::SignInOutcome;
use webtaxon::{SignIns, Workspace};

const FOLDER: &str = "WEBTAXON_TEST_FOLDER";
const SETTINGS: &str = "\n[sign_in]\nnew = \"import\"\n";

async fn sign_in(folder: &Path, login: &str) -> SignInOutcome {
    let workspace = Workspace::open(folder.join("webtaxon.toml")).unwrap();
    let sign_ins = SignIns::open(&workspace).await.unwrap();
    sign_ins.sign_in(login, &SecretString::from(format!("heron-{login}")), "test").await
}

/// Two sign-ins, of somebody new and of somebody to be refreshed. The tests below run this in a process of its own, in a
/// folder of theirs.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_sign_ins_that_change_accounts() {
    let (folder, _museum) = match std::env::var_os(FOLDER) {
        Some(folder) => (folder.into(), None),
        None => {
            let museum = seated(Kind::Csv, SETTINGS).await;
            (museum.path().to_owned(), Some(museum))
        }
    };
    for login in ["bthornbury", "ecarrick"] {
        let outcome = sign_in(&folder, login).await;
        assert!(matches!(outcome, SignInOutcome::SignedIn(_)), "{outcome:?}");
    }
}

/// Runs it until it dies at a point; true if it came to its end.
async fn dies_at(point: usize, museum: &Prepared) -> bool {
    let mut child = Command::new(std::env::current_exe().unwrap());
    child.args(["--exact", "sign_in_crash::two_sign_ins_that_change_accounts"]);
    child.env(FOLDER, museum.path()).env("WEBTAXON_DIE_AT", point.to_string());
    let output = tokio::task::spawn_blocking(move || child.output().unwrap()).await.unwrap();
    let out = String::from_utf8_lossy(&output.stdout);
    assert!(!out.contains("FAILED"), "{out}");
    output.status.success()
}

async fn killed_anywhere(kind: Kind) {
    let mut point = 1;
    loop {
        let museum = seated(kind, SETTINGS).await;
        let is_over = dies_at(point, &museum).await;
        let told = format!("{kind:?}, point {point}");
        let workspace = museum.workspace().unwrap();
        let count = |accounts: &[webtaxon::Account]| {
            accounts.iter().filter(|account| account.login == "bthornbury").count()
        };
        let killed = workspace.accounts().await.unwrap();
        assert!(count(&killed) <= 1 && killed.len() == 81 + count(&killed), "{told}");
        for login in ["bthornbury", "ecarrick"] {
            let outcome = sign_in(museum.path(), login).await;
            assert!(matches!(outcome, SignInOutcome::SignedIn(_)), "{told}, {login}: {outcome:?}");
        }
        let accounts = workspace.accounts().await.unwrap();
        assert_eq!((accounts.len(), count(&accounts)), (82, 1), "{told}");
        let preview = workspace.preview().await.unwrap();
        let is_open = |login: &str| preview.changes.iter().any(|change| change.login == login);
        assert!(!is_open("bthornbury") && !is_open("ecarrick"), "{told}");
        // What the killed one did is found out by the next that changes something, at the latest by an apply.
        let (_, work) = workspace.work().await.unwrap();
        assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete(), "{told}");
        assert_eq!(workspace.preview().await.unwrap().interrupted, None, "{told}");
        if is_over {
            break;
        }
        point += 1;
    }
    assert!(point > 15, "{kind:?}: {point} points");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn killed_anywhere_a_sign_in_is_finished_by_the_next() {
    for kind in [Kind::Csv, Kind::Plain] {
        killed_anywhere(kind).await;
    }
}
