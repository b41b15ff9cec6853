//! A MariaDB server of a test's own, and what holds for it as for every store.

use crate::certificates::self_signed;
use crate::museum::{Museum, told};
use crate::stores::{self, Kind, Prepared};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// A server in a temporary folder, reached by a socket there, ended with the test.
pub(crate) struct Mariadb {
    folder: TempDir,
    server: Child,
}

impl Mariadb {
    /// Starts a server with one empty database, `loans`, and waits until it answers.
    pub(crate) fn start() -> Self {
        Self::with(tempfile::tempdir().unwrap(), &["--skip-networking".to_owned()])
    }

    /// The same in a folder that has files for these options.
    fn with(folder: TempDir, options: &[String]) -> Self {
        let data = folder.path().join("data");
        // A server that starts removes the temporary tables that it finds, another server's too.
        let scratch = folder.path().join("scratch");
        std::fs::create_dir(&scratch).unwrap();

        let user = String::from_utf8(Command::new("id").arg("-un").output().unwrap().stdout).unwrap();
        let user = format!("--user={}", user.trim());
        let log = std::fs::File::create(folder.path().join("log")).unwrap();
        let made = Command::new("mariadb-install-db")
            .args([
                "--no-defaults",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
                "--innodb-use-native-aio=0",
                &user,
            ])
            .env("TMPDIR", &scratch)
            .arg(format!("--datadir={}", data.display()))
            .stdout(log.try_clone().unwrap())
            .stderr(log.try_clone().unwrap())
            .status()
            .expect("MariaDB is not installed");
        let told = || std::fs::read_to_string(folder.path().join("log")).unwrap_or_default();
        assert!(made.success(), "mariadb-install-db: {}", told());
        let server = Command::new("mariadbd")
            .args(["--no-defaults", "--innodb-flush-log-at-trx-commit=0", "--innodb-use-native-aio=0", &user])
            .env("TMPDIR", &scratch)
            .arg(format!("--datadir={}", data.display()))
            .arg(format!("--socket={}", folder.path().join("socket").display()))
            .args(options)
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .unwrap();
        let own = Self { folder, server };
        let began = Instant::now();
        while !own.client("mysql", "CREATE DATABASE loans CHARACTER SET utf8mb4").1 {
            let log = || std::fs::read_to_string(own.folder.path().join("log")).unwrap_or_default();
            assert!(began.elapsed() < Duration::from_secs(60), "the server does not answer: {}", log());
            std::thread::sleep(Duration::from_millis(50));
        }
        own
    }

    pub(crate) fn socket(&self) -> PathBuf {
        self.folder.path().join("socket")
    }

    /// Runs SQL in the database, and gives its rows back, with bars between the cells.
    pub(crate) fn run(&self, sql: &str) -> String {
        let (text, is_good) = self.client("loans", sql);
        assert!(is_good, "{text}");
        text.replace('\t', "|").replace("NULL", "")
    }

    fn client(&self, database: &str, sql: &str) -> (String, bool) {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), sql).unwrap();
        let output = Command::new("mariadb")
            .args(["--no-defaults", "-uroot", "-N", "-B", "--default-character-set=utf8mb4", database])
            .arg(format!("--socket={}", self.socket().display()))
            .stdin(std::fs::File::open(file.path()).unwrap())
            .output()
            .unwrap();
        let text = String::from_utf8_lossy(&output.stdout) + String::from_utf8_lossy(&output.stderr);
        (text.into_owned(), output.status.success())
    }
}

impl Drop for Mariadb {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

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
                let log = std::fs::read_to_string(server.folder.path().join("log")).unwrap_or_default();
                assert!(
                    !message.is_empty() && error.to_string().contains(message),
                    "{ssl} {trust}: {error}; {log}"
                );
            }
        }
    }
}
