//! A PostgreSQL server of a test's own: its cluster in a temporary folder, reached by a socket there, ended
//! with the test. `initdb` refuses root, so that root runs it as the user whom Debian's package makes.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

pub(crate) struct Cluster {
    folder: TempDir,
    server: Child,
    port: u16,
}

/// Where Debian's package keeps the programs.
fn program(name: &str) -> PathBuf {
    let versions = std::fs::read_dir("/usr/lib/postgresql").expect("PostgreSQL is not installed");
    let mut found: Vec<PathBuf> = versions
        .map(|version| version.unwrap().path().join("bin").join(name))
        .filter(|path| path.exists())
        .collect();
    found.sort();
    found.pop().expect("PostgreSQL is not installed")
}

fn id(what: &str) -> u32 {
    let output = Command::new("id").args([what, "postgres"]).output().unwrap();
    String::from_utf8(output.stdout).unwrap().trim().parse().expect("there is no user postgres")
}

/// A program as somebody who is not root.
fn unprivileged(name: &str) -> Command {
    let own = Command::new("id").arg("-u").output().unwrap();
    if own.stdout != b"0\n" {
        return Command::new(program(name));
    }
    let mut command = Command::new("setpriv");
    command.args(["--reuid", "postgres", "--regid", "postgres", "--init-groups", "--"]).arg(program(name));
    command
}

impl Cluster {
    /// Starts a server with one empty database, `loans`, and waits until it answers.
    pub(crate) fn start() -> Self {
        Self::with(5432, &[], |_| {})
    }

    /// The same with settings, and with files that `prepare` puts into its folder.
    pub(crate) fn with(port: u16, settings: &[&str], prepare: impl Fn(&Path)) -> Self {
        let folder = tempfile::tempdir().unwrap();
        prepare(folder.path());
        if Command::new("id").arg("-u").output().unwrap().stdout == b"0\n" {
            let (user, group) = (Some(id("-u")), Some(id("-g")));
            std::os::unix::fs::chown(folder.path(), user, group).unwrap();
            for file in std::fs::read_dir(folder.path()).unwrap() {
                std::os::unix::fs::chown(file.unwrap().path(), user, group).unwrap();
            }
        }
        let data = folder.path().join("data");
        let made = unprivileged("initdb")
            .args([
                "--auth-local=trust",
                "--auth-host=scram-sha-256",
                "--no-sync",
                "--username=postgres",
                "--locale=C.UTF-8",
            ])
            .arg(&data)
            .current_dir(folder.path())
            .stdout(Stdio::null())
            .status()
            .unwrap();
        assert!(made.success(), "initdb");
        let mut command = unprivileged("postgres");
        command.arg("-D").arg(&data).arg("-k").arg(folder.path()).args(["-F", "-c", "listen_addresses="]);
        command.args(["-p", &port.to_string()]);
        for setting in settings {
            command.args(["-c", setting]);
        }
        let log = std::fs::File::create(folder.path().join("log")).unwrap();
        let server = command.current_dir(folder.path()).stdout(Stdio::null()).stderr(log).spawn().unwrap();
        let cluster = Self { folder, server, port };
        let began = Instant::now();
        while !cluster.psql("postgres", "CREATE DATABASE loans").1 {
            let log = || std::fs::read_to_string(cluster.folder.path().join("log")).unwrap_or_default();
            assert!(began.elapsed() < Duration::from_secs(30), "the server does not answer: {}", log());
            std::thread::sleep(Duration::from_millis(50));
        }
        cluster
    }

    /// The folder of the socket.
    pub(crate) fn socket(&self) -> &Path {
        self.folder.path()
    }

    /// Runs SQL in the database, and gives its rows back.
    pub(crate) fn run(&self, sql: &str) -> String {
        let (text, is_good) = self.psql("loans", sql);
        assert!(is_good, "{text}");
        text
    }

    fn psql(&self, database: &str, sql: &str) -> (String, bool) {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), sql).unwrap();
        let output = Command::new("psql")
            .args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-U", "postgres", "-h"])
            .arg(self.folder.path())
            .args(["-p", &self.port.to_string(), "-d", database, "-f"])
            .arg(file.path())
            .output()
            .unwrap();
        let text = String::from_utf8_lossy(&output.stdout) + String::from_utf8_lossy(&output.stderr);
        (text.into_owned(), output.status.success())
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        // An interrupt ends its sessions and the server at once, and orderly.
        let _ = Command::new("kill").args(["-INT", &self.server.id().to_string()]).status();
        let _ = self.server.wait();
    }
}
