//! Sign-ins at real servers: one person is judged as everybody is, and each server's own answer to a password is understood.

use super::dirsrv::{TURN, desk as dirsrv};
use super::{Desk, home};
use secrecy::SecretString;
use std::collections::BTreeMap;
use std::process::Command;
use webtaxon::SignIns;
use webtaxon::model::reading::Request;
use webtaxon::model::selection::Selection;
use webtaxon::sign_in::{Examination, SignInOutcome};

/// The whole reading's verdict on everybody: `in`, or the step at which they drop out.
async fn truth(desk: &Desk, attribute: &str) -> BTreeMap<String, String> {
    let workspace = desk.workspace().unwrap();
    let intake = workspace.settings().intakes.first.clone();
    let access = workspace.access().await.unwrap();
    let reading = webtaxon::directory::read(&access, &Request::of(&intake), &[]).await.unwrap();
    assert!(reading.whole().is_some(), "{:?}", reading.gaps());
    let selection = Selection::new(&reading, &intake);
    let login = |person| reading.people().get(person).unwrap().text(attribute).unwrap().to_owned();
    let candidates = selection.candidates.iter().map(|one| (login(one.person), "in".to_owned()));
    let dropped = selection.dropped.iter().map(|one| (login(one.person), one.step.name().to_owned()));
    candidates.chain(dropped).collect()
}

fn verdict(examination: &Examination) -> String {
    match &examination.why {
        _ if examination.is_unknown => "unknown".to_owned(),
        Some(why) if why.selected => "in".to_owned(),
        Some(why) => why.against().next().map_or("nothing", |step| step.name).to_owned(),
        None => examination.refusal.as_ref().map_or("nothing", |refusal| refusal.name()).to_owned(),
    }
}

async fn judges_as_everybody(desk: &Desk, attribute: &str) {
    let truth = truth(desk, attribute).await;
    assert!(truth.len() > 240, "{}", truth.len());
    let sign_ins = SignIns::open(&desk.workspace().unwrap()).await.unwrap();
    for (login, expected) in truth {
        let examination = sign_ins.examine(&login, None, "test").await.unwrap();
        assert_eq!(verdict(&examination), expected, "{login}: {:#?}", examination.steps);
    }
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn one_person_is_judged_as_everybody_is() {
    judges_as_everybody(&Desk::slapd(), "uid").await;
    judges_as_everybody(&Desk::samba(), "sAMAccountName").await;
    let _turn = TURN.lock().await;
    judges_as_everybody(&dirsrv(), "uid").await;
}

/// Groups of every kind: by login, with a bit string behind the name, by a search, and all of them in one.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn every_kind_of_group_is_found_from_below() {
    for kind in ["By Login", "By Unique Name", "By Search", "By All"] {
        let desk = Desk::slapd()
            .with("CN=Loans Desk Users,OU=Groups,", &format!("CN={kind},OU=Kinds,"))
            .with("group_bases  = ", "# group_bases = ");
        let desk = Desk { settings: desk.settings.replace("group_bases = ", "# group_bases = "), ..desk };
        judges_as_everybody(&desk, "uid").await;
    }
}

async fn reason(sign_ins: &SignIns, login: &str, password: &str) -> String {
    match sign_ins.sign_in(login, &SecretString::from(password), password).await {
        SignInOutcome::SignedIn(_) => "in".to_owned(),
        SignInOutcome::Refused(refusal) => refusal.name().to_owned(),
        other => format!("{other:?}"),
    }
}

async fn answers(desk: &Desk, rows: &[(&str, &str, &str)]) {
    let desk_with = desk.workspace().unwrap();
    let sign_ins = SignIns::open(&desk_with).await.unwrap();
    for (login, password, expected) in rows {
        assert_eq!(reason(&sign_ins, login, password).await, *expected, "{login}");
    }
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn slapds_answers_are_understood() {
    answers(
        &Desk::slapd(),
        &[
            ("aibbotson", "heron-aibbotson", "in"),
            ("aibbotson", "wrong", "wrong_password"),
            ("gfennimore", "heron-gfennimore", "not_selected"),
            ("hemberson", "heron-hemberson", "password_must_change"),
            ("jgadsby", "heron-jgadsby", "password_expired"),
            // It says no more of an account whose time is over.
            ("hfarthing", "heron-hfarthing", "locked"),
            ("nobody", "heron-nobody", "unknown_name"),
            ("achisholm", "wrong1", "wrong_password"),
            ("achisholm", "wrong2", "wrong_password"),
            ("achisholm", "wrong3", "wrong_password"),
            ("achisholm", "heron-achisholm", "locked"),
        ],
    )
    .await;
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_domain_controllers_answers_are_understood() {
    let desk = Desk::samba();
    // Its objectGUIDs are its own: nobody has an account yet.
    std::fs::write(
        desk.folder.path().join("accounts.csv"),
        "login,link,state,name,email,department,room,roles\n",
    )
    .unwrap();
    answers(
        &desk,
        &[
            ("aibbotson", "heron-aibbotson", "new"),
            ("aibbotson", "wrong", "wrong_password"),
            ("gfennimore", "heron-gfennimore", "not_selected"),
            ("hemberson", "heron-hemberson", "password_must_change"),
            ("shargreave", "heron-shargreave", "disabled"),
            ("hfarthing", "heron-hfarthing", "expired"),
            ("hfarthing", "wrong", "wrong_password"),
            ("mclatworthy", "heron-mclatworthy", "hours"),
            ("kgadsby", "heron-kgadsby", "machine"),
            ("mtattersall", "heron-mtattersall", "password_expired"),
            ("nobody", "heron-nobody", "unknown_name"),
            ("achisholm", "wrong1", "wrong_password"),
            ("achisholm", "wrong2", "wrong_password"),
            ("achisholm", "wrong3", "wrong_password"),
            ("achisholm", "heron-achisholm", "locked"),
        ],
    )
    .await;
}

/// Changes the configuration of 389 Directory Server, or an entry.
fn modify_dirsrv(ldif: &str) {
    let file = home().join("dirsrv/change.ldif");
    std::fs::write(&file, ldif).unwrap();
    let arguments = [
        "-x",
        "-H",
        "ldap://127.0.0.1:3891",
        "-D",
        "cn=Directory Manager",
        "-w",
        "Keeper-of-the-Keys-7",
        "-f",
    ];
    let done = Command::new("ldapmodify").args(arguments).arg(&file).output().unwrap();
    assert!(done.status.success(), "{ldif}: {}", String::from_utf8_lossy(&done.stderr));
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn the_answers_of_389_directory_server_are_understood() {
    let _turn = TURN.lock().await;
    let config = |is_on: &str| {
        modify_dirsrv(&format!(
            "dn: cn=config\nchangetype: modify\nreplace: passwordLockout\npasswordLockout: {is_on}\n-\nreplace: passwordMaxFailure\npasswordMaxFailure: 3\n-\nreplace: passwordMustChange\npasswordMustChange: {is_on}\n-\nreplace: passwordExp\npasswordExp: {is_on}\n"
        ));
    };
    let change = |entry: &str, attribute: &str, value: &str| {
        modify_dirsrv(&format!(
            "dn: CN={entry},OU=People,DC=quillmere,DC=example\nchangetype: modify\nreplace: {attribute}\n{attribute}: {value}\n"
        ));
    };
    config("on");
    change("Hamish Emberson,OU=Entomology", "userPassword", "heron-hemberson");
    change("Hedda Farthing,OU=Botany", "passwordExpirationTime", "20200101000000Z");
    answers(
        &dirsrv(),
        &[
            ("aibbotson", "wrong", "wrong_password"),
            ("aibbotson", "heron-aibbotson", "new"),
            ("gfennimore", "heron-gfennimore", "not_selected"),
            ("hemberson", "heron-hemberson", "password_must_change"),
            ("shargreave", "heron-shargreave", "disabled"),
            ("hfarthing", "heron-hfarthing", "password_expired"),
            ("hfarthing", "wrong", "wrong_password"),
            ("nobody", "heron-nobody", "unknown_name"),
            ("achisholm", "wrong1", "wrong_password"),
            ("achisholm", "wrong2", "wrong_password"),
            ("achisholm", "wrong3", "wrong_password"),
            ("achisholm", "heron-achisholm", "locked"),
        ],
    )
    .await;
    config("off");
}
