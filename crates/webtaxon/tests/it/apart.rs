//! Links that are kept apart from a list which has no place for them.

use crate::museum::{ACCOUNTS, DIRECTORY, Museum, told};
use crate::stores::database;
use rusqlite::Connection;
use std::sync::Arc;
use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::model::apply::Outcome;
use webtaxon::model::preview::ChangeKind;
use webtaxon_standin::{Directory, Options};

fn agreed() -> Consent {
    // The directory is another where something in it changed.
    let release = ["seats", "settings_changed", "first"].map(str::to_owned).to_vec();
    Consent { who: "ada".into(), release, stop_after: None }
}

/// The demo's accounts without their links.
fn without_links() -> Vec<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(ACCOUNTS.as_bytes());
    let rows = reader.records().map(|row| row.unwrap());
    rows.map(|row| {
        row.iter().enumerate().filter(|(at, _)| *at != 1).map(|(_, cell)| cell.to_owned()).collect()
    })
    .collect()
}

#[derive(Clone, Copy, Debug)]
enum Kind {
    Csv,
    Sqlite,
}

async fn museum(kind: Kind) -> Museum {
    let museum = Museum::open().await;
    let rows = without_links();
    let store = match kind {
        Kind::Csv => {
            let mut writer = csv::Writer::from_writer(Vec::new());
            rows.iter().for_each(|row| writer.write_record(row).unwrap());
            museum.write("accounts.csv", writer.into_inner().unwrap());
            "store = \"csv\"\npath = \"accounts.csv\""
        }
        Kind::Sqlite => {
            let db = Connection::open(database(&museum)).unwrap();
            let columns = rows[0].join(", ");
            db.execute_batch(&format!("CREATE TABLE account ({columns}, UNIQUE (login))")).unwrap();
            for row in rows.iter().skip(1) {
                let sql = "INSERT INTO account VALUES (?, ?, ?, ?, ?, ?, ?)";
                db.execute(sql, rusqlite::params_from_iter(row)).unwrap();
            }
            "store = \"sqlite\"\npath = \"loans.sqlite\"\ntable = \"account\""
        }
    };
    museum
        .change("store     = \"csv\"\npath      = \"accounts.csv\"", &format!("{store}\nlinks = \"apart\""));
    museum
}

/// Everything that the list has.
fn dump(museum: &Museum, kind: Kind) -> String {
    match kind {
        Kind::Csv => std::fs::read_to_string(museum.path().join("accounts.csv")).unwrap(),
        Kind::Sqlite => {
            let db = Connection::open(database(museum)).unwrap();
            let mut query = db.prepare("SELECT * FROM account ORDER BY login").unwrap();
            let row = |row: &rusqlite::Row<'_>| {
                Ok((0..7).map(|at| format!("{:?} ", row.get_ref(at).unwrap())).collect::<String>())
            };
            query.query_map([], row).unwrap().map(|row| row.unwrap() + "\n").collect()
        }
    }
}

async fn linked(workspace: &Workspace) -> usize {
    workspace.accounts().await.unwrap().iter().filter(|account| account.link.is_some()).count()
}

/// The directory as it is with some of its text changed, in place of the one that was there.
async fn changed(museum: &Museum, changes: &[(&str, &str)]) -> webtaxon_standin::Standin {
    let mut ldif = DIRECTORY.to_owned();
    for (at, (from, _)) in changes.iter().enumerate() {
        assert!(ldif.contains(from), "{from}");
        ldif = ldif.replace(from, &format!("<{at}>"));
    }
    for (at, (_, to)) in changes.iter().enumerate() {
        ldif = ldif.replace(&format!("<{at}>"), to);
    }
    let directory = Arc::new(Directory::from_ldif(ldif.as_bytes()).unwrap());
    let other = webtaxon_standin::Standin::start(directory, Options::default()).await.unwrap();
    museum.write("museum-ca.pem", other.authority_pem());
    let file = museum.path().join("webtaxon.toml");
    let settings = std::fs::read_to_string(&file).unwrap();
    std::fs::write(file, settings.replace(&museum.standin().url(), &other.url())).unwrap();
    other
}

#[tokio::test]
async fn everybody_is_tied_without_a_place_in_the_list_and_untied_again() {
    for kind in [Kind::Csv, Kind::Sqlite] {
        let museum = museum(kind).await;
        let before = dump(&museum, kind);
        let workspace = museum.workspace().unwrap();
        let (preview, work) = workspace.work().await.unwrap();
        let counts: Vec<_> = preview.kinds.iter().map(|(kind, count)| (kind.name(), *count)).collect();
        assert_eq!(counts, [("import", 8), ("adopt", 63), ("clash", 2)], "{kind:?}");
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        assert!(applied.is_complete(), "{kind:?}: {applied:?}");
        assert_eq!(applied.count(|outcome| *outcome == Outcome::Done), 71, "{kind:?}");
        assert_eq!(linked(&workspace).await, 71, "{kind:?}");
        assert_eq!(workspace.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)], "{kind:?}");
        let back = workspace.apply(&workspace.way_back(1).await.unwrap(), &agreed()).await.unwrap();
        assert!(back.is_complete(), "{kind:?}: {back:?}");
        assert_eq!((dump(&museum, kind), linked(&workspace).await), (before, 0), "{kind:?}");
    }
}

/// A new login is the same person; somebody who is gone leaves; a login that is another's waits.
#[tokio::test]
async fn people_are_known_under_a_new_login() {
    for kind in [Kind::Csv, Kind::Sqlite] {
        let museum = museum(kind).await;
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        workspace.apply(&work, &agreed()).await.unwrap();
        let names = ["ecarrick", "aibbotson", "bskelton", "jgadsby"]
            .map(|login| format!("sAMAccountName: {login}\n"));
        let [emeka, ada, bronwen, jonas] = names.each_ref().map(String::as_str);
        let _other = changed(
            &museum,
            &[
                (emeka, "sAMAccountName: emeka.carrick\n"),
                (ada, bronwen),
                (bronwen, ada),
                (jonas, "sAMAccountName: jgadsby\nuserAccountControl: 514\n"),
            ],
        )
        .await;
        let workspace = museum.workspace().unwrap();
        let (preview, work) = workspace.work().await.unwrap();
        assert_eq!(preview.of_kind(ChangeKind::Import).count(), 0, "{kind:?}: nobody is new");
        let updated: Vec<&str> =
            preview.of_kind(ChangeKind::Update).map(|change| change.login.as_str()).collect();
        assert_eq!(updated, ["aibbotson", "bskelton", "ecarrick"], "{kind:?}");
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        let left: Vec<&str> = work
            .edits()
            .iter()
            .zip(&applied.outcomes)
            .filter(|(_, outcome)| **outcome != Some(Outcome::Done))
            .map(|(edit, outcome)| {
                assert!(
                    matches!(outcome, Some(Outcome::Left(words)) if words.contains("logins pass from one account to another only")),
                    "{kind:?}: {outcome:?}"
                );
                edit.login()
            })
            .collect();
        assert_eq!(left, ["aibbotson", "bskelton"], "{kind:?}: they swap");
        let again = workspace.preview().await.unwrap();
        let updated: Vec<&str> =
            again.of_kind(ChangeKind::Update).map(|change| change.login.as_str()).collect();
        assert_eq!(updated, ["aibbotson", "bskelton"], "{kind:?}");
        let accounts = workspace.accounts().await.unwrap();
        let link =
            |login: &str| accounts.iter().find(|one| one.login == login).and_then(|one| one.link.clone());
        assert!(link("emeka.carrick").is_some() && link("ecarrick").is_none(), "{kind:?}");
    }
}

/// Without the state nobody is tied to anybody, so that nobody leaves.
#[tokio::test]
async fn a_state_that_is_lost_takes_nobodys_account_away() {
    let museum = museum(Kind::Csv).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    workspace.apply(&work, &agreed()).await.unwrap();
    std::fs::remove_file(museum.path().join("webtaxon.state.sqlite")).unwrap();
    let _other = changed(
        &museum,
        &[("sAMAccountName: jgadsby\n", "sAMAccountName: jgadsby\nuserAccountControl: 514\n")],
    )
    .await;
    let kinds = museum.preview().await.unwrap().kinds;
    assert!(kinds.iter().all(|(kind, _)| [ChangeKind::Adopt, ChangeKind::Clash].contains(kind)), "{kinds:?}");
}

/// An account that somebody made by hand under a login that was a linked account's is nobody's.
#[tokio::test]
async fn a_link_does_not_outlive_its_account() {
    let museum = museum(Kind::Csv).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    workspace.apply(&work, &agreed()).await.unwrap();
    let file = museum.path().join("accounts.csv");
    let all = std::fs::read_to_string(&file).unwrap();
    let row = all.lines().find(|line| line.starts_with("ecarrick,")).unwrap();
    std::fs::write(&file, all.replace(&format!("{row}\n"), "")).unwrap();
    let gone = "sAMAccountName: ecarrick\nuserAccountControl: 514\n";
    let _other = changed(&museum, &[("sAMAccountName: ecarrick\n", gone)]).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    workspace.apply(&work, &agreed()).await.unwrap();
    std::fs::write(&file, &all).unwrap();
    let kinds = workspace.preview().await.unwrap().kinds;
    assert_eq!(kinds, [(ChangeKind::Clash, 2)], "the account that is back is nobody's");
}

/// The same logins in another list are other accounts.
#[tokio::test]
async fn links_are_one_lists_own() {
    let museum = museum(Kind::Csv).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    workspace.apply(&work, &agreed()).await.unwrap();
    std::fs::copy(museum.path().join("accounts.csv"), museum.path().join("other.csv")).unwrap();
    let file = museum.path().join("webtaxon.toml");
    let settings = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, settings.replace("\"accounts.csv\"", "\"other.csv\"")).unwrap();
    let other = museum.workspace().unwrap();
    assert_eq!((linked(&other).await, linked(&workspace).await), (0, 71));
    let (_, work) = other.work().await.unwrap();
    other.apply(&work, &agreed()).await.unwrap();
    assert_eq!((linked(&other).await, linked(&workspace).await), (71, 71));
}

#[tokio::test]
async fn what_links_kept_apart_cannot_have_is_told() {
    let museum = museum(Kind::Sqlite).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let error = workspace.statements(&work, &agreed()).await.unwrap_err();
    assert_eq!(told(&error).1, "WX0612");
    let db = Connection::open(database(&museum)).unwrap();
    db.execute_batch("ALTER TABLE account ADD COLUMN link TEXT").unwrap();
    assert_eq!(told(&workspace.preview().await.unwrap_err()).1, "WX0521");
    let museum = self::museum(Kind::Csv).await;
    museum.write("accounts.csv", ACCOUNTS);
    assert_eq!(told(&museum.preview().await.unwrap_err()).1, "WX0521");
}

/// The form of the state before links could be kept in it.
#[tokio::test]
async fn a_state_of_the_first_form_is_read_and_brought_up() {
    let museum = museum(Kind::Csv).await;
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    workspace.apply(&work.part(|_| false), &agreed()).await.unwrap();
    let state = || Connection::open(museum.path().join("webtaxon.state.sqlite")).unwrap();
    state().execute_batch("DROP TABLE kept; DROP TABLE footprint; DROP TABLE fresh; DROP TABLE origin; DROP TABLE seal; DROP TABLE habit; PRAGMA user_version = 1;").unwrap();
    assert_eq!(linked(&workspace).await, 0);
    let (_, work) = workspace.work().await.unwrap();
    assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
    let form: i64 = state().query_row("PRAGMA user_version", [], |row| row.get(0)).unwrap();
    assert_eq!((form, linked(&workspace).await), (4, 71));
}

/// One word in the settings settles a clash, whatever the store.
#[tokio::test]
async fn the_settings_say_whose_an_account_is() {
    for is_apart in [false, true] {
        let museum = if is_apart { museum(Kind::Csv).await } else { Museum::open().await };
        let preview = museum.preview().await.unwrap();
        let clash = preview.of_kind(ChangeKind::Clash).find(|change| change.login == "ghollow").unwrap();
        let remedy = clash.remedy();
        let (_, line) = remedy.split_once("write ").unwrap();
        let (line, _) = line.split_once(" in [accounts]").unwrap();
        let file = museum.path().join("webtaxon.toml");
        let settings = std::fs::read_to_string(&file).unwrap();
        std::fs::write(file, settings.replace("[accounts] ", &format!("[accounts]\n{line}\n#"))).unwrap();
        let preview = museum.preview().await.unwrap();
        let adopted = preview.of_kind(ChangeKind::Adopt).find(|change| change.login == "gus.h").unwrap();
        assert_eq!(adopted.fields["login"].new.as_deref(), Some("ghollow"), "{is_apart}");
        assert!(preview.of_kind(ChangeKind::Clash).all(|change| change.login != "ghollow"), "{is_apart}");
    }
}
