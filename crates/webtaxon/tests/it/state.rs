//! The state file across versions, and when somebody has damaged it.

use crate::museum::{Museum, told};
use rusqlite::Connection;
use webtaxon::Error;
use webtaxon::apply::{Applied, Consent};
use webtaxon::model::preview::BrakeKind;

async fn apply(museum: &Museum) -> Result<Applied, Error> {
    let workspace = museum.workspace()?;
    let (_, work) = workspace.work().await?;
    let release = BrakeKind::ALL.map(|kind| kind.name().to_owned()).to_vec();
    workspace.apply(&work, &Consent { who: "ada".to_owned(), release, stop_after: None }).await
}

fn file(museum: &Museum) -> Connection {
    Connection::open(museum.path().join("webtaxon.state.sqlite")).unwrap()
}

fn text(file: &Connection, sql: &str) -> String {
    file.query_row(sql, [], |row| row.get(0)).unwrap()
}

/// Nothing is braked only since a newer version writes the same settings in another form.
#[tokio::test]
async fn files_of_every_earlier_form_are_read_and_brought_up() {
    const THIRD: &str =
        "DROP TABLE footprint; DROP TABLE fresh; DROP TABLE origin; DROP TABLE seal; DROP TABLE habit;
        DELETE FROM applied WHERE setting IN ('bind', 'references', 'strategy');";
    for (form, earlier) in [
        (1, format!("{THIRD} DROP TABLE kept; PRAGMA user_version = 1;")),
        (2, format!("{THIRD} PRAGMA user_version = 2;")),
        (3, "DROP TABLE habit; PRAGMA user_version = 3;".to_owned()),
        (4, String::new()),
    ] {
        let museum = Museum::open().await;
        apply(&museum).await.unwrap();
        let (of_servers, of_locked) = ["servers", "locked"]
            .map(|name| format!("SELECT says FROM applied WHERE setting = '{name}'"))
            .into();
        let newest = {
            let file = file(&museum);
            let newest: i64 = file.query_row("PRAGMA user_version", [], |row| row.get(0)).unwrap();
            assert_eq!(text(&file, &of_servers), museum.standin().url());
            let port = museum.standin().address().port();
            file.execute_batch(&format!(
                "{earlier}
                 UPDATE applied SET says = 'Named([Host {{ scheme: Ldaps, host: \"localhost\", port: {port} }}])'
                  WHERE setting = 'servers';
                 UPDATE applied SET says = 'Active' WHERE setting = 'locked';"
            ))
            .unwrap();
            newest
        };
        let changed = async || {
            let preview = museum.preview().await.unwrap();
            let brake = preview.brakes.into_iter().find(|brake| brake.kind == BrakeKind::SettingsChanged);
            brake.map(|brake| brake.which)
        };
        assert_eq!(changed().await, None, "form {form}");
        museum.change("(objectClass=user))", "(objectClass=user)(cn=*))");
        assert_eq!(changed().await, Some(vec!["filter".to_owned()]), "form {form}");
        museum.write("webtaxon.toml", museum.settings());
        let runs = museum.workspace().unwrap().journal().await.unwrap().unwrap().runs().unwrap();
        assert_eq!(runs.len(), 1, "form {form}");
        apply(&museum).await.unwrap();
        let file = file(&museum);
        assert_eq!(text(&file, &of_servers), museum.standin().url(), "form {form}");
        assert_eq!(text(&file, &of_locked), "active", "form {form}");
        let now: i64 = file.query_row("PRAGMA user_version", [], |row| row.get(0)).unwrap();
        assert_eq!(now, newest, "form {form}");
    }
}

/// What no version ever wrote is an error, and not passed over: a lost link would take an account out of reach,
/// a lost day would let days of grace begin anew, a lost outcome would let an edit be made twice.
#[tokio::test]
async fn damage_is_told_and_not_passed_over() {
    for (damage, said) in [
        ("UPDATE known SET link = ' ' WHERE link = (SELECT min(link) FROM known)", "is not a valid link"),
        (
            "INSERT INTO missed VALUES ('3f1f7a8c-52aa-4f0e-9b91-c6021181d5f8', '2026-13-45')",
            "`2026-13-45` is not a valid day",
        ),
        ("INSERT INTO missed VALUES ('', '2026-11-05')", "is not a valid link"),
        ("UPDATE run SET begun = 'yesterday'", "`yesterday` is not a valid time"),
        ("UPDATE run SET ended = ''", "`` is not a valid time"),
        ("UPDATE run SET ending = 'perhaps'", "`perhaps` is not a valid ending"),
        ("UPDATE edit SET outcome = 'perhaps' WHERE place = 3", "`perhaps` is not a valid outcome"),
        ("UPDATE edit SET edit = '{}' WHERE place = 3", "missing field"),
    ] {
        let museum = Museum::open().await;
        apply(&museum).await.unwrap();
        file(&museum).execute_batch(damage).unwrap();
        let workspace = museum.workspace().unwrap();
        let read = async {
            workspace.preview().await?;
            let journal = workspace.journal().await?.unwrap();
            journal.runs()?;
            journal.entries(1)?;
            Ok::<_, Error>(())
        };
        let (words, code, _) = told(&read.await.expect_err(damage));
        assert!(code == "WX0108" && words.contains(said), "{damage}: {words}");
    }
}
