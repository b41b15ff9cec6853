//! 389 Directory Server: what it answers otherwise than others, and what its access rules hide.

use super::{ACCOUNT, Desk, PLAIN};
use std::io::Write as _;
use std::process::{Command, Stdio};
use tokio::sync::Mutex;
use webtaxon::apply::Consent;
use webtaxon::model::preview::{BrakeKind, Change, ChangeKind, HeldReason, Preview};

const SERVER: &str = "ldap://127.0.0.1:3891";
/// One test at a time: some change what others would read.
static TURN: Mutex<()> = Mutex::const_new(());

const TOP: &str = "DC=quillmere,DC=example";

fn desk() -> Desk {
    let desk = Desk::new(PLAIN, SERVER).with("[directory.museum]", "[directory.museum]\nplain = true");
    let desk = desk.with("(!(pwdAccountLockedTime=*))", "(!(nsAccountLock=true))");
    let none = "login,link,state,name,email,department,room,roles\n";
    std::fs::write(desk.folder.path().join("accounts.csv"), none).unwrap();
    desk
}

/// Adds an access rule, or takes it away.
fn rule(verb: &str, rule: &str) {
    let text = format!("dn: {TOP}\nchangetype: modify\n{verb}: aci\naci: {rule}\n");
    let mut tool = Command::new("ldapmodify")
        .args(["-x", "-H", SERVER, "-D", "cn=Directory Manager", "-w", "Keeper-of-the-Keys-7"])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    tool.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    assert!(tool.wait().unwrap().success(), "{rule}");
}

fn taken(preview: &Preview) -> Vec<String> {
    let empties = |change: &&Change| match change.kind() {
        ChangeKind::Clash | ChangeKind::Wait => false,
        ChangeKind::Update => change.fields.values().any(|field| field.new.as_deref() == Some("")),
        _ => true,
    };
    let words = |change: &Change| format!("{} {}", change.kind().name(), change.login);
    preview.changes.iter().filter(empties).map(words).collect()
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn the_museum_is_read_as_anywhere_and_nothing_hidden_takes_anybody_away() {
    let _turn = TURN.lock().await;
    let desk = desk();
    for strategy in ["lists", "sweep", "downwards"] {
        let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
        let desk = self::desk().with("[intake.fields]", &line);
        desk.is_read(strategy).await;
    }
    let workspace = desk.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let release = BrakeKind::ALL.map(|kind| kind.name().to_owned()).to_vec();
    let consent = Consent { who: "ada".to_owned(), release, stop_after: None };
    assert!(workspace.apply(&work, &consent).await.unwrap().is_complete());
    let settled = desk.preview().await.unwrap();
    assert!(settled.is_whole() && taken(&settled).is_empty(), "{:?}", settled.gaps);
    let entry = |name: &str| format!("(target=\"ldap:///{name},{TOP}\")(targetattr=\"*\")");
    let attribute = |name: &str| format!("(targetattr=\"{name}\")");
    for (what, nobody) in [
        (entry("OU=People"), true),
        (entry("OU=Botany,OU=People"), true),
        (entry("OU=Groups"), true),
        (entry("CN=Loans Desk Users,OU=Groups"), true),
        (entry("CN=Loans Desk Staff,OU=Groups"), true),
        (entry("CN=Leavers,OU=Groups"), true),
        (attribute("member"), true),
        (attribute("uid"), true),
        (attribute("mail"), true),
        (attribute("departmentNumber"), true),
        (attribute("nsAccountLock"), true),
        (attribute("entryUUID"), true),
        (attribute("objectClass"), true),
        (entry("CN=Tom Ashdown,OU=Entomology,OU=People"), false),
    ] {
        let hides = format!("{what}(version 3.0; acl \"hides\"; deny (all) userdn=\"ldap:///{ACCOUNT}\";)");
        rule("add", &hides);
        let preview = desk.preview().await;
        rule("delete", &hides);
        let Ok(preview) = preview else { continue };
        let is_told = !preview.is_whole() || !preview.brakes.is_empty();
        let taken = taken(&preview);
        assert!(!nobody || taken.is_empty() || is_told, "{what}: {taken:?}");
        if !nobody {
            assert_eq!(taken, ["remove tashdown"], "what no client can know");
        }
    }
    let after = desk.preview().await.unwrap();
    assert!(after.is_whole() && taken(&after).is_empty(), "{:?}", after.gaps);
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
