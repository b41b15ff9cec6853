//! 389 Directory Server: what it answers otherwise than others.

use super::{Desk, PLAIN};
use tokio::sync::Mutex;
use webtaxon::model::preview::HeldReason;

const SERVER: &str = "ldap://127.0.0.1:3891";
/// One test at a time: some change what others would read.
pub(super) static TURN: Mutex<()> = Mutex::const_new(());

pub(super) fn desk() -> Desk {
    let desk = Desk::new(PLAIN, SERVER).with("[directory.museum]", "[directory.museum]\nplain = true");
    let desk = desk.with("(!(pwdAccountLockedTime=*))", "(!(nsAccountLock=true))");
    let none = "login,link,state,name,email,department,room,roles\n";
    std::fs::write(desk.folder.path().join("accounts.csv"), none).unwrap();
    desk
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn the_museum_is_read_as_anywhere() {
    let _turn = TURN.lock().await;
    for strategy in ["lists", "sweep", "downwards"] {
        let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
        let desk = self::desk().with("[intake.fields]", &line);
        desk.is_read(strategy).await;
    }
}

/// A search in pages below an entry that is not there ends with success and nothing here.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_base_that_is_not_there_is_told() {
    let _turn = TURN.lock().await;
    let desk = desk().with("bases        = [\"OU=People,", "bases        = [\"OU=Peple,");
    let preview = desk.preview().await.unwrap();
    let gaps: Vec<String> = preview.gaps.iter().map(ToString::to_string).collect();
    assert!(gaps.iter().any(|gap| gap.contains("did you mean OU=People")), "{gaps:?}");
}

/// It finds `~=` by sound; whoever is found otherwise here is left alone, and told.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn whom_it_finds_by_sound_is_told() {
    let _turn = TURN.lock().await;
    let desk = desk().with("(!(nsAccountLock=true))", "(!(sn~=Thornberry))");
    let preview = desk.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    let held = preview.held.iter().filter(|held| held.reason == HeldReason::JudgedOtherwise);
    let logins: Vec<&str> = held.map(|held| held.login.as_str()).collect();
    assert_eq!(logins, ["bthornbury"]);
}
