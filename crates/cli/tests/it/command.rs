//! Running `webtaxon`, and a simulated directory beside it.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use tempfile::TempDir;

pub(crate) const BINARY: &str = env!("CARGO_BIN_EXE_webtaxon");

/// What a command printed, and how it ended.
#[derive(Debug)]
pub(crate) struct Run {
    pub(crate) code: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

/// `webtaxon` with these arguments, in a known environment.
pub(crate) fn webtaxon(arguments: &[&str]) -> Command {
    let mut command = Command::new(BINARY);
    command.args(arguments).env_remove("WEBTAXON_SETTINGS").env_remove("NO_COLOR").env("COLUMNS", "100");
    command
}

pub(crate) fn run(command: &mut Command) -> Run {
    let output = command.stdin(Stdio::null()).output().unwrap();
    let text = |bytes| String::from_utf8(bytes).unwrap();
    Run { code: output.status.code().unwrap(), out: text(output.stdout), err: text(output.stderr) }
}

/// The museum's files in a folder, and its directory as a process of its own.
pub(crate) struct Museum {
    folder: TempDir,
    standin: Child,
}

impl Museum {
    /// Starts `webtaxon standin` with further options.
    pub(crate) fn open(options: &[&str]) -> Self {
        Self::changed(options, str::to_owned)
    }

    /// The same over a directory with some of its text changed.
    pub(crate) fn changed(options: &[&str], change: impl Fn(&str) -> String) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
        for name in ["directory.ldif", "accounts.csv", "museum-password.txt", "webtaxon.toml"] {
            std::fs::copy(demo.join(name), folder.path().join(name)).unwrap();
        }
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            let secret = folder.path().join("museum-password.txt");
            std::fs::set_permissions(secret, std::fs::Permissions::from_mode(0o600)).unwrap();
        }
        let file = folder.path().join("directory.ldif");
        std::fs::write(&file, change(&std::fs::read_to_string(&file).unwrap())).unwrap();
        let mut command = webtaxon(&["standin", "--ldif", "directory.ldif", "--listen", "127.0.0.1:0"]);
        command.args(["--authority", "museum-ca.pem"]).args(options).current_dir(folder.path());
        let mut standin = command.stdout(Stdio::piped()).spawn().unwrap();
        let mut first = String::new();
        BufReader::new(standin.stdout.as_mut().unwrap()).read_line(&mut first).unwrap();
        let url = first.rsplit(' ').next().unwrap().trim();
        let museum = Self { folder, standin };
        museum.change("ldaps://localhost:6360", url);
        museum
    }

    /// Ends the directory.
    pub(crate) fn end(&self) {
        let ended = Command::new("kill").args(["-KILL", &self.standin.id().to_string()]).status().unwrap();
        assert!(ended.success());
        std::thread::sleep(std::time::Duration::from_millis(100));
    }

    /// The directory's address.
    pub(crate) fn url(&self) -> String {
        let settings = std::fs::read_to_string(self.file("webtaxon.toml")).unwrap();
        let from = settings.find("ldaps://").unwrap();
        settings[from..].split('"').next().unwrap().to_owned()
    }

    pub(crate) fn file(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.file(name), text).unwrap();
    }

    /// Changes one text of the settings.
    pub(crate) fn change(&self, from: &str, to: &str) {
        let settings = std::fs::read_to_string(self.file("webtaxon.toml")).unwrap();
        assert!(settings.contains(from), "{from}");
        self.write("webtaxon.toml", settings.replace(from, to));
    }

    /// Runs a command in the museum's folder.
    pub(crate) fn run(&self, arguments: &[&str]) -> Run {
        run(webtaxon(arguments).current_dir(self.folder.path()))
    }
}

impl Drop for Museum {
    fn drop(&mut self) {
        let _ = self.standin.kill();
        let _ = self.standin.wait();
    }
}
