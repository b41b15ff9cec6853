//! A real PostgreSQL server holds to the suite of every store, and to what is its own: refusals, rights, TLS.

use crate::certificates::self_signed;
use crate::cluster::Cluster;
use crate::museum::{Museum, told};
use crate::stores::{self, Kind, POSTGRES_TABLE, agreed, dump, museum, postgres_settings};
use webtaxon::model::apply::Outcome;

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn postgres_carries_out_exactly_and_takes_back_to_the_row() {
    stores::carried_out_and_taken_back(Kind::Postgres).await;
}

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn postgres_leaves_out_what_somebody_changed_since() {
    stores::changed_since(Kind::Postgres).await;
}

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn postgres_lets_unique_values_change_hands() {
    stores::logins_change_hands(Kind::Postgres).await;
    stores::addresses_change_hands(Kind::Postgres).await;
}

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn statements_of_postgres_do_what_an_apply_does() {
    let run = |museum: &stores::Prepared, script: &str| {
        museum.cluster.as_ref().unwrap().run(script);
    };
    stores::statements_do_what_an_apply_does(Kind::Postgres, run).await;
}

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn postgres_refuses_one_change_and_the_rest_goes_on() {
    let museum = museum(Kind::Postgres).await;
    let cluster = museum.cluster.as_ref().unwrap();
    cluster.run(
        "CREATE FUNCTION refuse() RETURNS trigger AS $$ BEGIN RAISE 'no, % stays', coalesce(old.\"user name\", new.\"user name\"); END $$ LANGUAGE plpgsql;
         CREATE TRIGGER no_end BEFORE DELETE ON loans.\"account list\" FOR EACH ROW WHEN (old.\"user name\" = 'hvanish') EXECUTE FUNCTION refuse();
         CREATE TRIGGER no_tom BEFORE INSERT ON loans.\"account list\" FOR EACH ROW WHEN (new.\"user name\" = 'tashdown2') EXECUTE FUNCTION refuse();
         ALTER TABLE loans.\"account list\" ALTER \"select\" TYPE varchar(20)",
    );
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    let refused: Vec<String> = work
        .edits()
        .iter()
        .zip(&applied.outcomes)
        .filter_map(|(edit, outcome)| match outcome {
            Some(Outcome::Failed(reason)) => Some(format!("{}: {reason}", edit.login())),
            _ => None,
        })
        .collect();
    assert_eq!(refused.len(), 2, "{refused:?}");
    assert!(
        refused[0].contains("tashdown2: no, tashdown2 stays")
            && refused[1].contains("hvanish: no, hvanish stays"),
        "{refused:?}"
    );
    assert_eq!(applied.count(|one| *one == Outcome::Done), 29);
    assert!(dump(&museum, Kind::Postgres).iter().any(|row| row.contains("hvanish")));
}

/// What was carried out when the server was cut off is carried out, or nothing was: the next looks.
#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn postgres_cut_off_in_the_middle_leaves_nothing_half_done() {
    let museum = museum(Kind::Postgres).await;
    let cluster = museum.cluster.as_ref().unwrap();
    let before = dump(&museum, Kind::Postgres);
    // The third import ends the session that makes it, as a server that goes away does.
    cluster.run(
        "CREATE FUNCTION cut() RETURNS trigger AS $$ BEGIN PERFORM pg_terminate_backend(pg_backend_pid()); RETURN new; END $$ LANGUAGE plpgsql;
         CREATE TRIGGER cut BEFORE INSERT ON loans.\"account list\" FOR EACH ROW WHEN (new.\"user name\" = 'bthornbury') EXECUTE FUNCTION cut()",
    );
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    assert!(applied.stopped.is_some(), "{applied:?}");
    assert_eq!(applied.count(|one| *one == Outcome::Done), 0);
    assert_eq!(dump(&museum, Kind::Postgres), before);
    cluster.run("DROP TRIGGER cut ON loans.\"account list\"");
    assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
}

#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn postgres_says_what_is_missing() {
    for (spoil, change, message, code) in [
        ("", ("loans.account list", "loans.accounts"), "no table `loans.accounts`", "WX0510"),
        ("", ("\"e-mail\"", "\"mail\""), "no column `mail`", "WX0511"),
        ("", ("active = \"in\"", "active = \"on\""), "cannot hold the state `on`", "WX0525"),
        ("", ("database  = \"loans\"", "database  = \"loan\""), "database \"loan\" does not exist", "WX0513"),
        (
            "",
            ("user      = \"postgres\"", "user      = \"nobody\""),
            "role \"nobody\" does not exist",
            "WX0513",
        ),
        (
            "CREATE ROLE reader LOGIN; GRANT USAGE ON SCHEMA loans TO reader",
            ("user      = \"postgres\"", "user      = \"reader\""),
            "permission denied",
            "WX0513",
        ),
    ] {
        let museum = museum(Kind::Postgres).await;
        museum.cluster.as_ref().unwrap().run(spoil);
        let file = museum.path().join("webtaxon.toml");
        let settings = std::fs::read_to_string(&file).unwrap();
        assert!(settings.contains(change.0), "{}", change.0);
        std::fs::write(&file, settings.replace(change.0, change.1)).unwrap();
        let error = museum.preview().await.unwrap_err();
        let (said, its_code, _) = told(&error);
        assert!(said.contains(message), "{said}");
        assert_eq!(its_code, code, "{said}");
    }
}

/// Promise 7, for the accounts' database, too: encrypted, by a certificate that is trusted, or not at all.
#[tokio::test]
#[ignore = "needs PostgreSQL"]
async fn postgres_is_asked_over_tls_or_not_at_all() {
    let files = ["ssl_cert_file=../server.crt", "ssl_key_file=../server.key", "listen_addresses=127.0.0.1"];
    for (ssl, trust, message) in [
        ("ssl=on", "trust = { authority = \"db.pem\" }", ""),
        ("ssl=on", "", "invalid peer certificate"),
        ("ssl=on", "plain = true", ""),
        ("ssl=off", "trust = { authority = \"db.pem\" }", "server does not support TLS"),
    ] {
        let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let cluster = Cluster::with(free, &[&files[..], &[ssl]].concat(), self_signed);
        cluster.run("ALTER USER postgres PASSWORD 'loans-of-42'");
        cluster.run(POSTGRES_TABLE);
        let museum = Museum::open().await;
        let own = postgres_settings(std::path::Path::new("localhost"))
            .replace("\"localhost\"", &format!("\"localhost:{free}\""))
            .replace(
                "table     =",
                &format!("password = {{ file = \"db-password.txt\" }}\n{trust}\ntable     ="),
            );
        museum.change("store     = \"csv\"\npath      = \"accounts.csv\"\nprotected", &own);
        museum.write("db-password.txt", "loans-of-42\n");
        std::fs::copy(cluster.socket().join("server.crt"), museum.path().join("db.pem")).unwrap();
        match museum.preview().await {
            Ok(preview) => {
                assert_eq!(message, "", "{ssl} {trust}");
                assert_eq!(preview.accounts.now, 0);
                museum.write("db-password.txt", "wrong\n");
                let error = museum.preview().await.unwrap_err();
                let (said, code, _) = told(&error);
                assert!(said.contains("password authentication failed") && !said.contains("wrong"), "{said}");
                assert_eq!(code, "WX0513");
            }
            Err(error) => {
                assert!(!message.is_empty() && error.to_string().contains(message), "{ssl} {trust}: {error}")
            }
        }
    }
}
