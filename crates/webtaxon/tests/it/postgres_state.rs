//! What is remembered from run to run, in a PostgreSQL database, for several hosts.

use crate::cluster::Cluster;
use crate::museum::{ACCOUNTS, Museum, told};
use crate::stores::agreed;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use webtaxon::Workspace;
use webtaxon::model::account::Account;
use webtaxon::model::apply::{Edit, Outcome};
use webtaxon::model::preview::ChangeKind;
use webtaxon::state::Ending;
use webtaxon::store::{AccountStore, CsvStore, Recorder, StoreFuture, Terms};

pub(crate) fn settings(cluster: &Cluster) -> String {
    let server = cluster.socket().display();
    format!(
        "[state]\nstore = \"postgres\"\nserver = \"{server}\"\ndatabase = \"loans\"\nuser = \"postgres\"\n"
    )
}

/// Promise 7, for what is remembered, too.
#[tokio::test]
async fn a_state_in_plain_text_is_warned_of() {
    let museum = Museum::open().await;
    for (server, plain, warns) in [
        ("db.quillmere.example", "plain = true", true),
        ("db.quillmere.example", "", false),
        ("/run/postgresql", "plain = true", false),
    ] {
        let state = format!(
            "\n[state]\nstore = \"postgres\"\nserver = \"{server}\"\ndatabase = \"ops\"\nuser = \"w\"\n{plain}\n"
        );
        museum.write("webtaxon.toml", museum.settings() + &state);
        let warnings = museum.workspace().unwrap().warnings();
        let told = warnings.iter().any(|one| one.contains("the state at db.quillmere.example"));
        assert_eq!(told, warns, "{server} {plain}: {warnings:?}");
    }
}

/// A museum whose state is on a server, and a second host with the same settings and the same list.
async fn two_hosts(cluster: &Cluster) -> (Museum, PathBuf) {
    let museum = Museum::open().await;
    let list = museum.path().join("accounts.csv");
    let own = museum.settings().replace("\"accounts.csv\"", &format!("\"{}\"", list.display()));
    museum.write("webtaxon.toml", own + &settings(cluster));
    let other = museum.path().join("other");
    std::fs::create_dir(&other).unwrap();
    for file in ["webtaxon.toml", "museum-password.txt", "museum-ca.pem"] {
        std::fs::copy(museum.path().join(file), other.join(file)).unwrap();
    }
    (museum, other.join("webtaxon.toml"))
}

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn what_one_host_applied_another_takes_back_by_postgres() {
    let cluster = Cluster::start();
    let (museum, other) = two_hosts(&cluster).await;
    let (here, there) = (museum.workspace().unwrap(), Workspace::open(other).unwrap());
    assert!(here.journal().await.unwrap().is_none(), "before the first apply");
    assert_eq!(
        cluster.run("SELECT count(*) FROM pg_namespace WHERE nspname = 'webtaxon'").trim(),
        "0",
        "a preview makes nothing"
    );
    let (_, work) = here.work().await.unwrap();
    assert!(here.apply(&work, &agreed()).await.unwrap().is_complete());
    assert!(!museum.path().join("webtaxon.state.sqlite").exists());
    let runs = there.journal().await.unwrap().unwrap().runs().unwrap();
    let counts: Vec<_> = runs[0].counts.iter().map(|(what, count)| (what.as_str(), *count)).collect();
    assert_eq!(
        counts,
        [("adopt", 2), ("import", 7), ("remove", 3), ("restore", 2), ("suspend", 7), ("update", 10)]
    );
    assert_eq!((runs[0].ending, runs[0].who.as_str()), (Some(Ending::Done), "ada"));
    assert_eq!(there.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)]);
    let back = there.apply(&there.way_back(1).await.unwrap(), &agreed()).await.unwrap();
    assert!(back.is_complete(), "{back:?}");
    let rows = |text: &str| {
        let mut rows: Vec<String> = text.lines().map(str::to_owned).collect();
        rows.sort();
        rows
    };
    let list = std::fs::read_to_string(museum.path().join("accounts.csv")).unwrap();
    assert_eq!(rows(&list), rows(ACCOUNTS));
    assert_eq!(here.journal().await.unwrap().unwrap().runs().unwrap()[1].undone, Some(2));
    let days = jiff::civil::date(2999, 1, 1);
    assert_eq!(here.forget_before(days, "ada").await.unwrap(), 1, "all but the latest");
    assert_eq!(there.journal().await.unwrap().unwrap().runs().unwrap().len(), 1);
}

/// A store that is at work until it is told to die.
struct Endless(CsvStore, Arc<tokio::sync::Notify>);

impl AccountStore for Endless {
    fn describe(&self) -> String {
        self.0.describe()
    }

    fn place(&self) -> String {
        self.0.place()
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        self.0.accounts(fields)
    }

    fn carry_out(&self, _: Arc<[Edit]>, _: Terms, _: Recorder) -> StoreFuture<'_, ()> {
        Box::pin(async {
            self.1.notified().await;
            panic!("killed")
        })
    }
}

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn one_apply_at_a_time_across_hosts_by_postgres() {
    let cluster = Cluster::start();
    let (museum, other) = two_hosts(&cluster).await;
    let (here, there) = (museum.workspace().unwrap(), Workspace::open(other).unwrap());
    let (_, work) = here.work().await.unwrap();
    let dies = Arc::new(tokio::sync::Notify::new());
    let accounts = CsvStore::new(museum.path().join("accounts.csv"), indexmap::IndexMap::new());
    let endless = Endless(accounts, Arc::clone(&dies));
    let consent = agreed();
    let here = here.with_store(Arc::new(endless));
    let agreed = consent.clone();
    let mut applying = tokio::spawn(async move { here.apply(&work, &agreed).await });
    assert!(tokio::time::timeout(Duration::from_secs(2), &mut applying).await.is_err());
    let (_, same) = there.work().await.unwrap();
    let error = there.apply(&same, &consent).await.unwrap_err();
    let (said, code, _) = told(&error);
    assert!(code == "WX0602" && said.contains("ada, process "), "{said}");
    dies.notify_one();
    assert!(applying.await.unwrap_err().is_panic());
    let applied = there.apply(&same, &consent).await.unwrap();
    assert!(applied.is_complete(), "{applied:?}");
    assert_eq!(applied.interrupted.unwrap().run, 1, "what the first had begun is looked at");
}

/// The journal cannot be written any more in the middle: that is told, and the next apply looks.
#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn a_state_that_is_cut_off_in_postgres_is_looked_at_by_the_next() {
    let cluster = Cluster::start();
    let (museum, _) = two_hosts(&cluster).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    workspace.apply(&work.part(|_| false), &agreed()).await.unwrap();
    // The session that writes what became of edits ends there.
    cluster.run(
        "CREATE FUNCTION cut() RETURNS trigger AS $$ BEGIN PERFORM pg_terminate_backend(pg_backend_pid()); RETURN new; END $$ LANGUAGE plpgsql;
         CREATE TRIGGER cut BEFORE UPDATE ON webtaxon.edit FOR EACH ROW EXECUTE FUNCTION cut()",
    );
    let error = workspace.apply(&work, &agreed()).await.unwrap_err();
    assert_eq!(told(&error).1, "WX0610");
    cluster.run("DROP TRIGGER cut ON webtaxon.edit");
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    assert_eq!(applied.interrupted.map(|one| (one.done, one.open)), Some((31, 0)), "{applied:?}");
    assert_eq!(applied.count(|outcome| *outcome == Outcome::Made), 31);
    assert_eq!(museum.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)]);
}

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn a_state_in_postgres_that_cannot_be_used_is_told() {
    let cluster = Cluster::start();
    let (museum, _) = two_hosts(&cluster).await;
    let (_, work) = museum.workspace().unwrap().work().await.unwrap();
    let file = museum.path().join("webtaxon.toml");
    let good = std::fs::read_to_string(&file).unwrap();
    let at = good.find("[state]").unwrap();
    for (spoil, (from, to), message, code) in [
        ("", ("\"loans\"", "\"loan\""), "database \"loan\" does not exist", "WX0613"),
        (
            "",
            ("\"postgres\"\n", "\"postgres\"\npassword = { env = \"NO_SUCH_THING\" }\n"),
            "NO_SUCH_THING",
            "WX0613",
        ),
        (
            "CREATE ROLE clerk LOGIN",
            ("user = \"postgres\"", "user = \"clerk\""),
            "permission denied for database loans",
            "WX0613",
        ),
        (
            "CREATE SCHEMA taken; CREATE TABLE taken.loan (x text)",
            ("\"loans\"", "\"loans\"\nschema = \"taken\""),
            "another program's tables",
            "WX0613",
        ),
        (
            "CREATE SCHEMA later; CREATE TABLE later.form (number bigint); INSERT INTO later.form VALUES (9)",
            ("\"loans\"", "\"loans\"\nschema = \"later\""),
            "a newer Webtaxon",
            "WX0601",
        ),
    ] {
        cluster.run(spoil);
        let state = good[at..].replacen(from, to, 1);
        assert_ne!(state, good[at..], "{from}");
        std::fs::write(&file, format!("{}{state}", &good[..at])).unwrap();
        let workspace = museum.workspace().unwrap();
        // Whoever may only read finds nothing to read; the apply says what it may not.
        let error = match workspace.work().await {
            Ok((_, work)) => workspace.apply(&work, &agreed()).await.map(drop).unwrap_err(),
            Err(error) => error,
        };
        let (said, its_code, help) = told(&error);
        assert!(said.contains(message) && !help.is_empty(), "{to}: {said}");
        assert_eq!(its_code, code, "{said}");
    }
    assert_eq!(std::fs::read_to_string(museum.path().join("accounts.csv")).unwrap(), ACCOUNTS);
    drop(work);
}
