//! One suite for every store that Webtaxon has: what it reads, that it carries out exactly what was shown,
//! and that it comes back to where it was.

use crate::museum::{ACCOUNTS, Museum, told};
use rusqlite::Connection;
use rusqlite::types::Value;
use std::path::PathBuf;
use webtaxon::apply::Consent;
use webtaxon::core::preview::ChangeKind;
use webtaxon::store::Outcome;

/// A way in which the application keeps its list.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Kind {
    Csv,
    /// A table whose columns are called like the fields.
    Plain,
    /// Names of its own, some of them hostile; numbers for states; a table of roles; columns that are no
    /// business of the directory's.
    Own,
}

const KINDS: [Kind; 3] = [Kind::Csv, Kind::Plain, Kind::Own];

const OWN: &str = r#"
store     = "sqlite"
path      = "loans.sqlite"
table     = "the \"accounts\"; DROP TABLE x"
columns   = { login = "user name", link = "directory", state = "is_active", email = "e-mail", room = "select" }
states    = { active = "1", suspended = "0" }
role_table = { table = "account role", account = "account", key = "id", role = "role" }
protected"#;

const OWN_TABLE: &str = r#"
CREATE TABLE "the ""accounts""; DROP TABLE x" (
  id INTEGER PRIMARY KEY,
  "user name" TEXT NOT NULL UNIQUE COLLATE NOCASE,
  directory TEXT UNIQUE,
  is_active INTEGER NOT NULL DEFAULT 1 CHECK (is_active IN (0, 1)),
  name TEXT NOT NULL DEFAULT '',
  "e-mail" TEXT UNIQUE,
  department TEXT,
  "select" TEXT,
  photo BLOB,
  weight REAL,
  made TEXT NOT NULL DEFAULT 'long ago'
);
CREATE TABLE "account role" (
  account INTEGER NOT NULL REFERENCES "the ""accounts""; DROP TABLE x" (id),
  role TEXT NOT NULL,
  PRIMARY KEY (account, role)
);
CREATE TABLE loan (borrower INTEGER REFERENCES "the ""accounts""; DROP TABLE x" (id));
"#;

fn database(museum: &Museum) -> PathBuf {
    museum.path().join("loans.sqlite")
}

/// The museum with its accounts in a store of this kind.
async fn museum(kind: Kind) -> Museum {
    let museum = Museum::open().await;
    let csv = "store     = \"csv\"\npath      = \"accounts.csv\"\nprotected";
    let mut reader = csv::Reader::from_reader(ACCOUNTS.as_bytes());
    let rows: Vec<Vec<String>> =
        reader.records().map(|row| row.unwrap().iter().map(str::to_owned).collect()).collect();
    let null = |text: &str| if text.is_empty() { Value::Null } else { Value::Text(text.to_owned()) };
    match kind {
        Kind::Csv => {}
        Kind::Plain => {
            museum.change(csv, "store = \"sqlite\"\npath = \"loans.sqlite\"\ntable = \"account\"\nprotected");
            let db = Connection::open(database(&museum)).unwrap();
            db.execute_batch("CREATE TABLE account (login TEXT, link TEXT, state TEXT, name TEXT, email TEXT, department TEXT, room TEXT, roles TEXT)").unwrap();
            for row in &rows {
                let values = row.iter().map(|cell| null(cell));
                db.execute(
                    "INSERT INTO account VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                    rusqlite::params_from_iter(values),
                )
                .unwrap();
            }
        }
        Kind::Own => {
            museum.change(csv, OWN.trim_start());
            let db = Connection::open(database(&museum)).unwrap();
            db.execute_batch(OWN_TABLE).unwrap();
            for (id, row) in rows.iter().enumerate() {
                let id = i64::try_from(id).unwrap() + 100;
                let sql = "INSERT INTO \"the \"\"accounts\"\"; DROP TABLE x\" VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'then')";
                let values = rusqlite::params![
                    id,
                    row[0],
                    null(&row[1]),
                    row[2] == "active",
                    row[3],
                    null(&row[4]),
                    null(&row[5]),
                    null(&row[6]),
                    vec![0_u8, 255, 39],
                    0.1 + 0.2
                ];
                db.execute(sql, values).unwrap();
                for role in row[7].split(';').filter(|role| !role.is_empty()) {
                    db.execute("INSERT INTO \"account role\" VALUES (?, ?)", rusqlite::params![id, role])
                        .unwrap();
                }
            }
        }
    }
    museum
}

/// Everything that is in the store, row by row, with every type as it is.
fn dump(museum: &Museum, kind: Kind) -> Vec<String> {
    if kind == Kind::Csv {
        let text = std::fs::read_to_string(museum.path().join("accounts.csv")).unwrap();
        return text.lines().map(str::to_owned).collect();
    }
    let db = Connection::open(database(museum)).unwrap();
    let tables: Vec<String> = db
        .prepare("SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY name")
        .unwrap()
        .query_map([], |row| row.get(0))
        .unwrap()
        .map(Result::unwrap)
        .collect();
    let mut rows = Vec::new();
    for table in tables {
        let mut query = db.prepare(&format!("SELECT * FROM \"{}\"", table.replace('"', "\"\""))).unwrap();
        let columns = query.column_count();
        let mut found: Vec<String> = query
            .query_map([], |row| {
                Ok((0..columns)
                    .map(|at| format!("{:?}", row.get::<_, Value>(at).unwrap()))
                    .collect::<Vec<_>>()
                    .join(" "))
            })
            .unwrap()
            .map(Result::unwrap)
            .collect();
        found.sort();
        rows.extend(found.into_iter().map(|row| format!("{table}: {row}")));
    }
    rows
}

fn agreed() -> Consent {
    Consent { who: "ada".into(), release: vec!["seats".into()], stop_after: None }
}

#[tokio::test]
async fn a_preview_is_carried_out_exactly_and_taken_back_to_the_row() {
    for kind in KINDS {
        let museum = museum(kind).await;
        let before = dump(&museum, kind);
        let workspace = museum.workspace().unwrap();
        let (preview, work) = workspace.work().await.unwrap();
        let counts: Vec<_> = preview.kinds.iter().map(|(kind, count)| (kind.name(), *count)).collect();
        assert_eq!(
            counts,
            [
                ("import", 7),
                ("adopt", 2),
                ("update", 4),
                ("restore", 2),
                ("suspend", 7),
                ("remove", 3),
                ("clash", 2)
            ],
            "{kind:?}"
        );
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        assert!(applied.is_complete(), "{kind:?}: {applied:?}");
        assert!(applied.backup.unwrap().exists());
        let after = dump(&museum, kind);
        assert_ne!(after, before, "{kind:?}");
        let again = museum.preview().await.unwrap();
        assert_eq!(again.kinds, [(ChangeKind::Clash, 2)], "{kind:?}: nothing is left to do");
        assert_eq!((again.accounts.now, again.accounts.active_now), (85, 77), "{kind:?}");
        let back = workspace.apply(&workspace.way_back(1).unwrap(), &agreed()).await.unwrap();
        assert!(back.is_complete(), "{kind:?}: {back:?}");
        let restored = dump(&museum, kind);
        for (one, other) in restored.iter().zip(&before) {
            assert_eq!(one, other, "{kind:?}");
        }
        assert_eq!(restored.len(), before.len(), "{kind:?}");
    }
}

#[tokio::test]
async fn what_somebody_changed_since_is_left_out_of_each() {
    for kind in KINDS {
        let museum = museum(kind).await;
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        match kind {
            Kind::Csv => museum.write("accounts.csv", ACCOUNTS.replace("Entomology 3,", "Attic 1,")),
            Kind::Plain | Kind::Own => {
                let (table, room, login) = match kind {
                    Kind::Plain => ("account", "room", "login"),
                    _ => ("\"the \"\"accounts\"\"; DROP TABLE x\"", "\"select\"", "\"user name\""),
                };
                let sql = format!("UPDATE {table} SET {room} = 'Attic 1' WHERE {login} = 'bedgeworth'");
                assert_eq!(Connection::open(database(&museum)).unwrap().execute(&sql, []).unwrap(), 1);
            }
        }
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        let odd: Vec<_> = applied.outcomes.iter().flatten().filter(|one| **one != Outcome::Done).collect();
        assert_eq!(odd, [&Outcome::Left("room is Attic 1 now".to_owned())], "{kind:?}");
        assert!(dump(&museum, kind).iter().any(|row| row.contains("Attic 1")), "{kind:?}");
    }
}

/// Two people who swap their logins, and three who follow one another, where no two may have one login.
#[tokio::test]
async fn logins_change_hands() {
    let renames = [
        ("aibbotson", "ecarrick"),
        ("ecarrick", "aibbotson"),
        ("bskelton", "cgoldacre"),
        ("cgoldacre", "ctarn"),
        ("ctarn", "new.tarn"),
    ];
    let mut ldif = crate::museum::DIRECTORY.to_owned();
    for (at, (old, _)) in renames.iter().enumerate() {
        let line = format!("sAMAccountName: {old}\n");
        assert!(ldif.contains(&line), "{old}");
        ldif = ldif.replace(&line, &format!("sAMAccountName: <{at}>\n"));
    }
    for (at, (_, new)) in renames.iter().enumerate() {
        ldif = ldif.replace(&format!("<{at}>"), new);
    }
    for kind in KINDS {
        let prepared = museum(kind).await;
        let museum = Museum::with(&ldif, webtaxon_standin::Options::default()).await;
        if kind != Kind::Csv {
            std::fs::copy(database(&prepared), database(&museum)).unwrap();
            let settings = std::fs::read_to_string(prepared.path().join("webtaxon.toml")).unwrap();
            museum
                .write("webtaxon.toml", settings.replace(&prepared.standin().url(), &museum.standin().url()));
        }
        let before = dump(&museum, kind);
        let workspace = museum.workspace().unwrap();
        let (preview, work) = workspace.work().await.unwrap();
        let moved = preview.of(ChangeKind::Update).filter(|change| change.fields.contains_key("login"));
        assert_eq!(moved.count(), 6, "{kind:?}: five, and Rosa Pemberton");
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        assert!(applied.is_complete(), "{kind:?}: {applied:?}");
        assert_eq!(museum.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)], "{kind:?}");
        let back = workspace.apply(&workspace.way_back(1).unwrap(), &agreed()).await.unwrap();
        assert!(back.is_complete(), "{kind:?}: {back:?}");
        assert!(dump(&museum, kind) == before, "{kind:?}");
    }
}

/// Each refusal has the database's own reason; the rest goes on, unless there are too many.
#[tokio::test]
async fn what_the_database_refuses_is_told_and_the_rest_goes_on() {
    for (stop_after, done) in [(None, 21), (Some(2), 0)] {
        let museum = museum(Kind::Own).await;
        let db = Connection::open(database(&museum)).unwrap();
        // Loans of the three who would be removed, and a trigger of the application's own.
        for login in ["adrift", "hvanish", "mfallow"] {
            let sql = "INSERT INTO loan SELECT id FROM \"the \"\"accounts\"\"; DROP TABLE x\" WHERE \"user name\" = ?";
            assert_eq!(db.execute(sql, [login]).unwrap(), 1);
        }
        db.execute_batch(
            "CREATE TRIGGER no_tom BEFORE INSERT ON \"the \"\"accounts\"\"; DROP TABLE x\" WHEN new.\"user name\" = 'tashdown2'
             BEGIN SELECT RAISE(ABORT, 'no second Tom'); END",
        ).unwrap();
        let before = dump(&museum, Kind::Own);
        let workspace = museum.workspace().unwrap();
        let (_, mut work) = workspace.work().await.unwrap();
        work.edits.reverse(); // the removals first
        let applied = workspace.apply(&work, &Consent { stop_after, ..agreed() }).await.unwrap();
        let refused: Vec<_> = work
            .edits
            .iter()
            .zip(&applied.outcomes)
            .filter_map(|(edit, outcome)| match outcome {
                Some(Outcome::Failed(reason)) => Some(format!("{}: {reason}", edit.login())),
                _ => None,
            })
            .collect();
        assert_eq!(applied.count(|one| *one == Outcome::Done), done, "{refused:?}");
        assert!(refused[0].contains("mfallow: FOREIGN KEY constraint failed"), "{refused:?}");
        match stop_after {
            None => assert!(refused.len() == 4 && refused[3].contains("no second Tom"), "{refused:?}"),
            Some(_) => {
                assert_eq!(applied.stopped.as_deref(), Some("2 changes were refused"));
                assert_eq!(dump(&museum, Kind::Own), before);
            }
        }
        let roles = db.query_row("SELECT count(*) FROM \"account role\" WHERE account NOT IN (SELECT id FROM \"the \"\"accounts\"\"; DROP TABLE x\")", [], |row| row.get::<_, i64>(0)).unwrap();
        assert_eq!(roles, 0, "a role that nobody has");
    }
}

#[tokio::test]
async fn hostile_values_are_values() {
    let museum = museum(Kind::Own).await;
    let hostile = "x'); DROP TABLE loan; --";
    let ldif =
        crate::museum::DIRECTORY.replace("displayName: Emeka Carrick", &format!("displayName: {hostile}"));
    let other = Museum::with(&ldif, webtaxon_standin::Options::default()).await;
    std::fs::copy(database(&museum), database(&other)).unwrap();
    other.change("store     = \"csv\"\npath      = \"accounts.csv\"\nprotected", OWN.trim_start());
    let workspace = other.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
    let rows = dump(&other, Kind::Own);
    assert!(rows.iter().any(|row| row.contains("ecarrick")), "{rows:?}");
    assert_eq!(other.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)]);
    let name: String = Connection::open(database(&other))
        .unwrap()
        .query_row(
            "SELECT name FROM \"the \"\"accounts\"\"; DROP TABLE x\" WHERE \"user name\" = 'ecarrick'",
            [],
            |row| row.get(0),
        )
        .unwrap();
    assert_eq!(name, hostile);
}

#[tokio::test]
async fn what_is_no_list_of_accounts_is_told() {
    let sql = |museum: &Museum, text: &str| {
        Connection::open(database(museum)).unwrap().execute_batch(text).unwrap();
    };
    type Row<'a> = (&'a dyn Fn(&Museum), &'a str, &'a str, &'a str);
    let rows: [Row<'_>; 9] = [
        (&|museum| std::fs::remove_file(database(museum)).unwrap(), "cannot be read", "WX0501", "path"),
        (
            &|museum| museum.write("loans.sqlite", "not a database at all ".repeat(99)),
            "not a database",
            "WX0513",
            "",
        ),
        (&|museum| museum.write("loans.sqlite", ""), "no table `account`", "WX0510", "no table at all"),
        (
            &|museum| sql(museum, "ALTER TABLE account RENAME TO accounts"),
            "no table `account`",
            "WX0510",
            "accounts",
        ),
        (
            &|museum| sql(museum, "ALTER TABLE account RENAME COLUMN email TO mail"),
            "no column `email`",
            "WX0511",
            "[accounts.columns] email",
        ),
        (
            &|museum| sql(museum, "UPDATE account SET state = 'locked' WHERE login = 'kiosk'"),
            "`kiosk` has the state `locked`",
            "WX0512",
            "states",
        ),
        (
            &|museum| sql(museum, "UPDATE account SET state = NULL"),
            "neither `active` nor",
            "WX0512",
            "states",
        ),
        (
            &|museum| sql(museum, "INSERT INTO account (login, state) VALUES ('KIOSK', 'active')"),
            "there twice, by its login",
            "WX0512",
            "",
        ),
        (
            &|museum| sql(museum, "UPDATE account SET login = NULL WHERE login = 'kiosk'"),
            "has no login",
            "WX0512",
            "",
        ),
    ];
    for (spoil, message, code, help) in rows {
        let museum = museum(Kind::Plain).await;
        spoil(&museum);
        let error = museum.preview().await.unwrap_err();
        let (said, its_code, way_out) = told(&error);
        assert!(said.contains(message) && way_out.contains(help), "{said}; {way_out}");
        assert_eq!(its_code, code, "{said}");
    }
}
