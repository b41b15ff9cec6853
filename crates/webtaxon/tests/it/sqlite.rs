//! What is an SQLite table's own: its refusals, its hostile values, and what is no list of accounts.

use crate::museum::{DIRECTORY, Museum, told};
use crate::stores::{Kind, agreed, database, dump, museum, prepared};
use rusqlite::Connection;
use webtaxon::apply::Consent;
use webtaxon::model::apply::Outcome;
use webtaxon::model::preview::ChangeKind;

/// Each refusal has the database's own reason; the rest goes on, unless there are too many.
#[tokio::test]
async fn what_the_database_refuses_is_told_and_the_rest_goes_on() {
    for (stop_after, done) in [(None, 27), (Some(2), 0)] {
        let museum = museum(Kind::Own).await;
        let db = Connection::open(database(&museum)).unwrap();
        // Triggers of the application's own, of which no preview can know.
        db.execute_batch(
            "CREATE TRIGGER no_tom BEFORE INSERT ON \"the \"\"accounts\"\"; DROP TABLE x\" WHEN new.\"user name\" = 'tashdown2'
             BEGIN SELECT RAISE(ABORT, 'no second Tom'); END;
             CREATE TRIGGER no_end BEFORE DELETE ON \"the \"\"accounts\"\"; DROP TABLE x\"
             BEGIN SELECT RAISE(ABORT, 'has a loan'); END",
        ).unwrap();
        let before = dump(&museum, Kind::Own);
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let removals = work.part(|edit| edit.kind == ChangeKind::Remove);
        let work = if stop_after.is_some() { removals } else { work };
        let applied = workspace.apply(&work, &Consent { stop_after, ..agreed() }).await.unwrap();
        let refused: Vec<_> = work
            .edits()
            .iter()
            .zip(&applied.outcomes)
            .filter_map(|(edit, outcome)| match outcome {
                Some(Outcome::Failed(reason)) => Some(format!("{}: {reason}", edit.login())),
                _ => None,
            })
            .collect();
        assert_eq!(applied.count(|one| *one == Outcome::Done), done, "{refused:?}");
        let is_held = |login: &str| refused.contains(&format!("{login}: has a loan"));
        assert!(is_held("adrift") && is_held("hvanish"), "{refused:?}");
        match stop_after {
            None => assert!(refused.len() == 4 && refused[0].contains("no second Tom"), "{refused:?}"),
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
    let hostile = "x'); DROP TABLE loan; --";
    let ldif = DIRECTORY.replace("displayName: Emeka Carrick", &format!("displayName: {hostile}"));
    let other = prepared(Kind::Own, &ldif).await;
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
    let rows: [Row<'_>; 8] = [
        (&|museum| std::fs::remove_file(database(museum)).unwrap(), "cannot be read", "WX0501", "path"),
        (
            &|museum| museum.write("loans.sqlite", "not a database at all ".repeat(99)),
            "not a database",
            "WX0513",
            "",
        ),
        (&|museum| museum.write("loans.sqlite", ""), "no table `account`", "WX0510", "no tables"),
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
            &|museum| sql(museum, "UPDATE account SET state = NULL"),
            "no account has one of `active`, `suspended`",
            "WX0512",
            "states",
        ),
        (
            &|museum| sql(museum, "INSERT INTO account (login, state) VALUES (' kiosk', 'active')"),
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
