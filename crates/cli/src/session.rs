//! One run of a command: its options and output, the workspace it opens, and its exit code.

use crate::arguments::{Common, Format};
use crate::output::{Output, harmless, width};
use miette::Diagnostic;
use secrecy::SecretString;
use serde_json::Value;
use std::io;
use std::path::Path;
use std::process::ExitCode;
use webtaxon::apply::Work;
use webtaxon::directory::DirectoryError;
use webtaxon::state::StateErrorKind;
use webtaxon::{ApplyError, ApplyErrorKind, Error, Workspace};

/// The exit codes that scripts may rely on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    Done = 0,
    Failed = 1,
    Wrong = 2,
    Braked = 3,
    NotWhole = 4,
    Refused = 5,
    Changes = 10,
}

impl Exit {
    /// The exit code of a command that read something: complete or not.
    pub(crate) fn by_whole(is_whole: bool) -> Self {
        if is_whole { Self::Done } else { Self::NotWhole }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        ExitCode::from(exit as u8)
    }
}

/// Why a command ends without an answer: the exit code, and the message.
pub(crate) struct Failure {
    exit: Exit,
    fault: Fault,
    /// Lines after the message, each with its line break.
    aside: String,
}

enum Fault {
    Told(Box<dyn Diagnostic + Send + Sync>),
    Text(String),
}

impl Failure {
    fn new(exit: Exit, fault: Fault) -> Self {
        Self { exit, fault, aside: String::new() }
    }

    /// The command could not do its work.
    pub(crate) fn failed(reason: impl Into<String>) -> Self {
        Self::new(Exit::Failed, Fault::Text(reason.into()))
    }

    /// The usage or the settings are wrong.
    pub(crate) fn wrong(reason: impl Into<String>) -> Self {
        Self::new(Exit::Wrong, Fault::Text(reason.into()))
    }

    /// An error with its position and remedy.
    pub(crate) fn told(exit: Exit, fault: impl Diagnostic + Send + Sync + 'static) -> Self {
        Self::new(exit, Fault::Told(Box::new(fault)))
    }

    /// A file that cannot be written.
    pub(crate) fn unwritable(file: &Path, reason: impl std::fmt::Display) -> Self {
        Self::failed(format!("{} cannot be written: {reason}", file.display()))
    }

    /// This failure with more lines after it.
    pub(crate) fn with(mut self, aside: impl AsRef<str>) -> Self {
        self.aside += aside.as_ref();
        self
    }

    /// Shows the message, and returns the exit code.
    pub(crate) fn show(&self, output: &Output) -> Exit {
        match &self.fault {
            Fault::Told(fault) => output.error(&**fault),
            Fault::Text(reason) => output.error_text(reason),
        }
        if !self.aside.is_empty() {
            output.aside(&self.aside);
        }
        self.exit
    }
}

/// The exit code of each error of the library.
impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        let exit = match &error {
            Error::NoSettings { .. }
            | Error::SeveralIntakes(_)
            | Error::NoIntake { .. }
            | Error::Settings(_)
            | Error::NoSnapshot { .. } => Exit::Wrong,
            Error::State(state) => match state.kind() {
                StateErrorKind::Busy { .. } => Exit::Failed,
                _ => Exit::Wrong,
            },
            Error::Apply(apply) => match apply.kind() {
                ApplyErrorKind::Braked { .. } => Exit::Braked,
                ApplyErrorKind::NoCopy { .. } | ApplyErrorKind::Unrecorded { .. } => Exit::Failed,
                _ => Exit::Wrong,
            },
            _ => Exit::Failed,
        };
        Self::told(exit, error)
    }
}

impl From<DirectoryError> for Failure {
    fn from(error: DirectoryError) -> Self {
        Error::from(error).into()
    }
}

impl From<ApplyError> for Failure {
    fn from(error: ApplyError) -> Self {
        Error::from(error).into()
    }
}

/// One run of a command.
#[derive(Clone, Copy)]
pub(crate) struct Session<'s> {
    pub(crate) common: &'s Common,
    pub(crate) output: &'s Output,
}

impl Session<'_> {
    /// Whether the answer is text for people.
    pub(crate) fn is_text(&self) -> bool {
        self.common.format == Format::Text
    }

    /// Answers as text or as JSON; the text is given its maximum width.
    pub(crate) fn answer(&self, text: impl FnOnce(usize) -> String, json: impl FnOnce() -> Value) {
        let answer = if self.is_text() { text(width()) } else { format!("{:#}\n", json()) };
        self.output.answer(&answer);
    }

    /// Opens the settings, and prints the warnings that apply to every run.
    pub(crate) fn open(&self) -> Result<Workspace, Failure> {
        let workspace = Workspace::open(&self.common.settings)?;
        let workspace = workspace.with_prompt(ask).watched(self.output.progress.watch());
        if let Some(file) = &self.common.from {
            return Ok(workspace.with_snapshot(file)?);
        }
        for warning in workspace.warnings() {
            self.output.warning(&warning);
        }
        Ok(workspace)
    }

    /// Opens them for one intake: the one given, or the first.
    pub(crate) fn open_for(&self, intake: Option<&str>) -> Result<Workspace, Failure> {
        let workspace = self.open()?;
        if let Some(name) = intake {
            return Ok(workspace.for_intake(name)?);
        }
        let intakes = &workspace.settings().intakes;
        if !intakes.is_single() {
            let others: Vec<&str> = intakes.further.iter().map(|intake| intake.name.as_str()).collect();
            self.output.aside(&format!(
                "This looks at the intake {}; --intake NAME looks at another: {}\n",
                harmless(&intakes.first.name),
                harmless(&others.join(", "))
            ));
        }
        Ok(workspace)
    }

    /// The options to repeat in a follow-up command: the same settings and snapshot.
    pub(crate) fn same_options(&self) -> String {
        let from = self.common.from.as_ref();
        let from = from.map_or_else(String::new, |file| format!(" --from {}", file.display()));
        settings_option(&self.common.settings) + &from
    }

    /// Asks a question on the terminal; `None` at the end of the input.
    pub(crate) async fn line(&self, question: &str) -> Option<String> {
        self.output.aside(question);
        // On a thread of its own, so that Ctrl-C ends the question.
        let read = tokio::task::spawn_blocking(|| {
            let mut line = String::new();
            io::stdin().read_line(&mut line).map(|read| (read > 0).then(|| line.trim().to_owned()))
        });
        read.await.ok()?.ok()?
    }

    /// Writes the edits of an apply to a new file, for `preview --save` and `journal --undo --save`.
    pub(crate) async fn save(&self, workspace: &Workspace, work: &Work, file: &Path) -> Result<(), Failure> {
        workspace.save(work, file, &who()).await?;
        self.output.aside(&crate::text::saved(work, file, &self.same_options()));
        Ok(())
    }
}

/// Asks for a password on the terminal, without showing it.
pub(crate) fn ask(whose: &str) -> io::Result<SecretString> {
    rpassword::prompt_password(format!("{}: ", harmless(whose))).map(SecretString::from)
}

/// The option that names the settings file, for a command to be typed next.
pub(crate) fn settings_option(file: &Path) -> String {
    if file == Path::new("webtaxon.toml") { String::new() } else { format!(" --settings {}", file.display()) }
}

/// The user's name, for the journal.
pub(crate) fn who() -> String {
    let user = ["USER", "LOGNAME", "USERNAME"].into_iter().find_map(|name| std::env::var(name).ok());
    let host = std::fs::read_to_string("/etc/hostname").ok().or_else(|| std::env::var("COMPUTERNAME").ok());
    let user = user.filter(|user| !user.is_empty()).unwrap_or_else(|| "somebody".to_owned());
    match host.as_deref().map(str::trim).filter(|host| !host.is_empty()) {
        Some(host) => format!("{user} at {host}"),
        None => user,
    }
}

/// Writes a new file, never replacing one; only its owner can read a secret one.
pub(crate) fn create(file: &Path, text: &str, secret: bool) -> io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(if secret { 0o600 } else { 0o644 });
    }
    #[cfg(not(unix))]
    let _ = secret;
    io::Write::write_all(&mut options.open(file)?, text.as_bytes())
}

/// Waits for Ctrl-C, or for the signal that ends a service.
pub(crate) async fn until_interrupted() {
    #[cfg(unix)]
    {
        use tokio::signal::unix::{SignalKind, signal};
        if let Ok(mut ended) = signal(SignalKind::terminate()) {
            tokio::select! {
                _ = tokio::signal::ctrl_c() => {}
                _ = ended.recv() => {}
            }
            return;
        }
    }
    let _ = tokio::signal::ctrl_c().await;
}
