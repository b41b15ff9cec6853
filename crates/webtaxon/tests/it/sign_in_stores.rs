//! Sign-ins with every store: whoever they are, the application's list is the same one, and so is what becomes of them.

use crate::museum::DIRECTORY;
use crate::stores::{Kind, database, seated};
use secrecy::SecretString;
use serde_json::Value;
use webtaxon::model::account::Account;
use webtaxon::report;
use webtaxon::sign_in::SignInOutcome;
use webtaxon::{SignIns, Workspace};

fn logins() -> Vec<&'static str> {
    DIRECTORY.lines().filter_map(|line| line.strip_prefix("sAMAccountName: ")).collect()
}

/// Every third person's examination, without a password.
async fn examined(workspace: &Workspace) -> Vec<(&'static str, Value)> {
    let sign_ins = SignIns::open(workspace).await.unwrap();
    let mut all = Vec::new();
    for login in logins().into_iter().step_by(3) {
        let examination = sign_ins.examine(login, None, "test").await.unwrap();
        all.push((login, report::examination(&examination)));
    }
    all
}

/// What all stores tell in the same way: no words about a store's own form of a value.
fn told((login, examination): &(&str, Value)) -> Value {
    let why = &examination["why"];
    serde_json::json!([
        login,
        examination["reason"],
        examination["in"],
        why["account"]["login"],
        why["change"]["kind"]
    ])
}

async fn everybody_stands_as_in_a_file(kind: Kind) {
    let expected = examined(&seated(Kind::Csv, "").await.workspace().unwrap()).await;
    let own = examined(&seated(kind, "").await.workspace().unwrap()).await;
    for (own, expected) in own.iter().zip(&expected) {
        assert_eq!(told(own), told(expected), "{kind:?}");
    }
    assert!(own.iter().filter(|(_, one)| one["in"] == true).count() > 10);
}

/// What becomes of the list by some sign-ins: somebody new, somebody to be refreshed, and somebody who is out.
async fn the_list_becomes_the_same(kind: Kind) {
    let settings = "\n[sign_in]\nnew = \"import\"\nleavers = \"suspend\"\n";
    let mut lists: Vec<Vec<Account>> = Vec::new();
    for kind in [Kind::Csv, kind] {
        let museum = seated(kind, settings).await;
        let workspace = museum.workspace().unwrap();
        let sign_ins = SignIns::open(&workspace).await.unwrap();
        for (login, is_in) in
            [("bthornbury", true), ("ecarrick", true), ("gfennimore", false), ("bthornbury", true)]
        {
            let password = SecretString::from(format!("heron-{login}"));
            let outcome = sign_ins.sign_in(login, &password, "test").await;
            assert_eq!(
                matches!(outcome, SignInOutcome::SignedIn(_)),
                is_in,
                "{kind:?}, {login}: {outcome:?}"
            );
        }
        let mut accounts = workspace.accounts().await.unwrap();
        accounts.sort_by(|one, other| one.login.cmp(&other.login));
        lists.push(accounts);
    }
    // Roles come in any order.
    let field = |account: &Account, name: &str| {
        let mut parts: Vec<String> = account.value(name).split(';').map(str::to_owned).collect();
        parts.sort();
        parts
    };
    assert_eq!(lists[0].len(), lists[1].len());
    for (own, expected) in lists[1].iter().zip(&lists[0]) {
        assert_eq!(
            (&own.login, &own.link, own.state),
            (&expected.login, &expected.link, expected.state),
            "{kind:?}"
        );
        for name in ["name", "email", "department", "room", "roles"] {
            assert_eq!(field(own, name), field(expected, name), "{kind:?}, {}, {name}", own.login);
        }
    }
}

const KINDS: [Kind; 5] = [Kind::Plain, Kind::Own, Kind::Scim, Kind::HalfScim, Kind::BareScim];

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn everybody_stands_alike_in_every_store() {
    for kind in KINDS {
        everybody_stands_as_in_a_file(kind).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn sign_ins_change_every_list_alike() {
    for kind in KINDS {
        the_list_becomes_the_same(kind).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
#[ignore = "needs PostgreSQL"]
async fn sign_ins_with_accounts_in_postgres() {
    everybody_stands_as_in_a_file(Kind::Postgres).await;
    the_list_becomes_the_same(Kind::Postgres).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
#[ignore = "needs MariaDB"]
async fn sign_ins_with_accounts_in_mariadb() {
    everybody_stands_as_in_a_file(Kind::Mysql).await;
    the_list_becomes_the_same(Kind::Mysql).await;
}

/// Links that somebody wrote by hand are found as well, and a linked person's sign-in does not read the list: a row of
/// somebody else that makes it unusable holds up those only whose account is not found by its link.
#[tokio::test]
async fn a_linked_account_is_found_without_the_list() {
    let museum = seated(Kind::Plain, "").await;
    let db = rusqlite::Connection::open(database(&museum)).unwrap();
    let sign_ins = SignIns::open(&museum.workspace().unwrap()).await.unwrap();
    let password = SecretString::from("heron-aibbotson");
    for (change, expected) in [
        ("UPDATE account SET link = upper(link) WHERE login = 'aibbotson'", "in"),
        ("INSERT INTO account (login, state) VALUES ('twice', 'active'), ('twice', 'active')", "unavailable"),
        ("UPDATE account SET link = lower(link) WHERE login = 'aibbotson'", "in"),
        // The directory's value is another one by now, which somebody else may have: the list would tell.
        ("UPDATE account SET email = 'other@quillmere.example' WHERE login = 'aibbotson'", "unavailable"),
    ] {
        assert_ne!(db.execute(change, []).unwrap(), 0);
        let outcome = sign_ins.sign_in("aibbotson", &password, "test").await;
        let outcome = match outcome {
            SignInOutcome::SignedIn(_) => "in",
            SignInOutcome::Unavailable(_) => "unavailable",
            other => panic!("{other:?}"),
        };
        assert_eq!(outcome, expected, "{change}");
    }
}
