//! A MariaDB server of a test's own.

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
    pub(crate) fn with(folder: TempDir, options: &[String]) -> Self {
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
            assert!(began.elapsed() < Duration::from_secs(60), "the server does not answer: {}", own.log());
            std::thread::sleep(Duration::from_millis(50));
        }
        own
    }

    pub(crate) fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
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

    pub(crate) fn client(&self, database: &str, sql: &str) -> (String, bool) {
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
