//! What holds for a MariaDB server as for every store.

use crate::certificates::self_signed;
use crate::mariadb_server::Mariadb;
use crate::museum::{Museum, told};
use crate::stores::{self, Kind, Prepared};

#[tokio::test]
#[ignore = "needs MariaDB"]
async fn mariadb_carries_out_exactly_and_takes_back_to_the_row() {
    stores::carried_out_and_taken_back(Kind::Mysql).await;
}

#[tokio::test]
#[ignore = "needs MariaDB"]
async fn mariadb_leaves_out_what_somebody_changed_since() {
    stores::changed_since(Kind::Mysql).await;
}

#[tokio::test]
#[ignore = "needs MariaDB"]
async fn mariadb_lets_unique_values_change_hands() {
    stores::logins_change_hands(Kind::Mysql).await;
    stores::addresses_change_hands(Kind::Mysql).await;
}

#[tokio::test]
#[ignore = "needs MariaDB"]
async fn statements_of_mariadb_do_what_an_apply_does() {
    let run = |museum: &Prepared, script: &str| drop(museum.mariadb().run(script));
    stores::statements_do_what_an_apply_does(Kind::Mysql, run).await;
}

/// Promise 7, for this database, too: encrypted, by a certificate that is trusted, or not at all.
#[tokio::test]
#[ignore = "needs MariaDB"]
async fn mariadb_is_asked_over_tls_or_not_at_all() {
    for (ssl, trust, message) in [
        (true, "trust = { authority = \"db.pem\" }", ""),
        (true, "", "certificate"),
        (true, "plain = true", ""),
        (false, "trust = { authority = \"db.pem\" }", "Client asked for SSL"),
    ] {
        let folder = tempfile::tempdir().unwrap();
        self_signed(folder.path());
        let file = |name: &str| folder.path().join(name).display().to_string();
        let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let mut options = vec![format!("--port={free}"), "--bind-address=127.0.0.1".to_owned()];
        if ssl {
            options.push(format!("--ssl-cert={}", file("server.crt")));
            options.push(format!("--ssl-key={}", file("server.key")));
        }
        let authority = std::fs::read(file("server.crt")).unwrap();
        let server = Mariadb::with(folder, &options);
        server.run("CREATE USER desk@localhost IDENTIFIED BY 'loans-of-42'; GRANT SELECT ON loans.* TO desk@localhost;
            CREATE TABLE account (login varchar(20) NOT NULL, link varchar(80), state varchar(10) NOT NULL, name text, email text, department text, room text, roles text)");
        let museum = Museum::open().await;
        let own = format!(
            "store = \"mysql\"\nserver = \"localhost:{free}\"\ndatabase = \"loans\"\nuser = \"desk\"\npassword = {{ file = \"db-password.txt\" }}\n{trust}\ntable = \"account\"\nprotected"
        );
        museum.change("store     = \"csv\"\npath      = \"accounts.csv\"\nprotected", &own);
        museum.write("db-password.txt", "loans-of-42\n");
        museum.write("db.pem", authority);
        match museum.preview().await {
            Ok(preview) => {
                assert_eq!(message, "", "{ssl} {trust}");
                assert_eq!(preview.accounts.now, 0);
                assert!(!museum.workspace().unwrap().store().is_writable().await.unwrap(), "only SELECT");
                museum.write("db-password.txt", "wrong\n");
                let (said, code, _) = told(&museum.preview().await.unwrap_err());
                assert!(said.contains("Access denied") && !said.contains("wrong"), "{said}");
                assert_eq!(code, "WX0513");
            }
            Err(error) => {
                let log = server.log();
                assert!(
                    !message.is_empty() && error.to_string().contains(message),
                    "{ssl} {trust}: {error}; {log}"
                );
            }
        }
    }
}
