//! What each command does, and its exit code.

use crate::arguments::{
    Arguments, Command, Common, Format, Snapshot as SnapshotOptions, Standin as StandinOptions,
};
use crate::output::{Output, harmless, width};
use crate::{apply, code, demo, draft, filter, members, preview, survey, text};
use miette::Diagnostic;
use secrecy::SecretString;
use std::io;
use std::net::SocketAddr;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;
use webtaxon::apply::ApplyErrorKind;
use webtaxon::core::entry::Entries;
use webtaxon::core::ldif;
use webtaxon::directory::Outcome;
use webtaxon::state::StateErrorKind;
use webtaxon::{Error, Workspace, report};
use webtaxon_standin::{Application, ApplicationOptions, Directory, List, Options, Standin};

/// The exit codes that scripts may rely on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    Done = 0,
    Failed = 1,
    Wrong = 2,
    Braked = 3,
    NotWhole = 4,
    Changes = 10,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        ExitCode::from(exit as u8)
    }
}

pub(crate) async fn run(arguments: Arguments) -> ExitCode {
    let output = Output::new(arguments.common.color);
    let common = &arguments.common;
    // These end with Ctrl-C in their own way.
    let goes_on = matches!(arguments.command, Command::Demo(_) | Command::Standin(_));
    let command = carry_out(arguments.command, common, &output);
    if goes_on {
        return command.await.into();
    }
    tokio::pin!(command);
    tokio::select! {
        biased;
        exit = &mut command => exit.into(),
        () = until_interrupted() => {
            if output.has_begun() {
                output.aside("What was begun is finished first.\n");
                return command.await.into();
            }
            let read = output.progress.in_words();
            output.aside(&format!("Stopped{read}. Nothing was changed.\n"));
            Exit::Failed.into()
        }
    }
}

async fn carry_out(command: Command, common: &Common, output: &Output) -> Exit {
    match command {
        Command::Demo(options) => demo::run(&options, common, output).await,
        Command::Check(options) => check(options.wait, common, output).await,
        Command::Draft(options) => draft::run(&options, common, output).await,
        Command::Browse(options) => survey::browse(&options, common, output).await,
        Command::Fields(options) => survey::fields(&options, common, output).await,
        Command::Filter(options) => filter::run(&options, common, output).await,
        Command::Members(options) => members::run(&options, common, output).await,
        Command::Preview(options) => preview::run(&options, common, output).await,
        Command::Compare(options) => preview::compare(&options.other, common, output).await,
        Command::Why(options) => preview::why(&options.person, common, output).await,
        Command::Apply(options) => apply::run(&options, common, output).await,
        Command::Journal(options) => apply::journal(&options, common, output),
        Command::Snapshot(options) => snapshot(&options, common, output).await,
        Command::Standin(options) => standin(&options, output).await,
        Command::Code { code } => explain(&code, output),
    }
}

/// Shows a fault and says how the command ends.
pub(crate) fn failed(error: &Error, output: &Output) -> Exit {
    output.error(error);
    match error {
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
    }
}

pub(crate) fn open(common: &Common, output: &Output) -> Result<Workspace, Exit> {
    let workspace = Workspace::open(&common.settings).map_err(|error| failed(&error, output))?;
    let mut workspace = workspace.with_prompt(ask).watched(output.progress.watch());
    if let Some(file) = &common.from {
        workspace = workspace.with_snapshot(file).map_err(|error| failed(&error, output))?;
        return Ok(workspace);
    }
    for warning in workspace.warnings() {
        output.warning(&warning);
    }
    Ok(workspace)
}

/// The same for what looks at one intake: the one that is named, or the first.
pub(crate) fn open_for(intake: Option<&str>, common: &Common, output: &Output) -> Result<Workspace, Exit> {
    let workspace = open(common, output)?;
    if let Some(name) = intake {
        return workspace.for_intake(name).map_err(|error| failed(&error, output));
    }
    let settings = workspace.settings();
    if !settings.further.is_empty() {
        let others: Vec<&str> = settings.further.iter().map(|intake| intake.name.as_str()).collect();
        output.aside(&format!(
            "This looks at the intake {}; --intake NAME looks at another: {}\n",
            harmless(&settings.intake.name),
            harmless(&others.join(", "))
        ));
    }
    Ok(workspace)
}

/// Asks at the terminal for a password, without showing it.
pub(crate) fn ask(whose: &str) -> io::Result<SecretString> {
    rpassword::prompt_password(format!("{}: ", harmless(whose))).map(SecretString::from)
}

/// How the settings file is named in a command that the user may type next.
pub(crate) fn settings_option(file: &Path) -> String {
    if file == Path::new("webtaxon.toml") { String::new() } else { format!(" --settings {}", file.display()) }
}

/// The same, and what answers in place of the directory, for a command that goes on from this one.
pub(crate) fn same_options(common: &Common) -> String {
    let from = common.from.as_ref().map_or_else(String::new, |file| format!(" --from {}", file.display()));
    settings_option(&common.settings) + &from
}

pub(crate) async fn check(wait: Duration, common: &Common, output: &Output) -> Exit {
    let workspace = match open(common, output) {
        Ok(workspace) => workspace,
        Err(exit) => return exit,
    };
    let as_text = common.format == Format::Text;
    let steps = workspace
        .check(wait, |step| {
            if as_text {
                output.answer(&text::step(step, width()));
            }
        })
        .await;
    if as_text {
        output.answer(&text::checked(&steps, &same_options(common)));
    } else {
        output.answer(&format!("{:#}\n", report::check(&steps)));
    }
    if steps.iter().any(|step| step.outcome == Outcome::Bad) { Exit::Failed } else { Exit::Done }
}

async fn snapshot(options: &SnapshotOptions, common: &Common, output: &Output) -> Exit {
    if options.file.exists() {
        output.error_text(&format!("{} exists already, and nothing is overwritten", options.file.display()));
        return Exit::Failed;
    }
    let opened = match &options.looked_at.intake {
        Some(name) => open_for(Some(name), common, output),
        None => open(common, output),
    };
    let workspace = match opened {
        Ok(workspace) => workspace,
        Err(exit) => return exit,
    };
    let snapshot = match workspace.take_snapshot(options.mask).await {
        Ok(snapshot) => snapshot,
        Err(error) => return failed(&error, output),
    };
    if let Err(error) = create(&options.file, &snapshot.write(), true) {
        output.error_text(&format!("{} cannot be written: {error}", options.file.display()));
        return Exit::Failed;
    }
    let option = settings_option(&common.settings);
    output.answer(&text::snapshot(&snapshot, &options.file, &option));
    if snapshot.header.whole { Exit::Done } else { Exit::NotWhole }
}

/// Writes a new file, never over another one; a secret one is for its owner's eyes only.
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

async fn standin(options: &StandinOptions, output: &Output) -> Exit {
    let mut entries = Entries::new();
    for file in std::iter::once(&options.ldif).chain(&options.changes) {
        let text = match std::fs::read(file) {
            Ok(text) => text,
            Err(error) => {
                output.error_text(&format!("the LDIF file {} cannot be read: {error}", file.display()));
                return Exit::Failed;
            }
        };
        let read = if *file == options.ldif { ldif::entries(&text) } else { ldif::changed(&entries, &text) };
        entries = match read {
            Ok(entries) => entries,
            Err(error) => {
                output.error_text(&format!("{}, {error}", file.display()));
                output.aside(&help_line(&error));
                return Exit::Failed;
            }
        };
    }
    let directory = Arc::new(Directory::of(&entries, options.manner));
    let application = match &options.application {
        None => None,
        Some(file) => match application(file, options.application_listen).await {
            Ok(application) => Some(application),
            Err(error) => {
                output.error_text(&error);
                return Exit::Failed;
            }
        },
    };
    let settings = Options {
        listen: options.listen,
        tls: !options.plain,
        size_limit: options.size_limit,
        anonymous: options.anonymous,
        fault: options.fault,
        ..Options::default()
    };
    let entries = directory.len();
    let standin = match Standin::start(directory, settings).await {
        Ok(standin) => standin,
        Err(error) => {
            output.error(&error);
            return Exit::Failed;
        }
    };
    if let Some(file) = &options.authority
        && let Err(error) = std::fs::write(file, standin.authority_pem())
    {
        output.error_text(&format!(
            "the authority's certificate cannot be written to {}: {error}",
            file.display()
        ));
        return Exit::Failed;
    }
    output.answer(&format!(
        "The simulated directory holds {entries} entries and answers at {}\n",
        standin.url()
    ));
    match &options.authority {
        Some(file) => output.answer(&format!("Its certificate's authority: {}\n", file.display())),
        None if !options.plain => {
            output.warning(
                "a client needs the authority's certificate to trust this server: add --authority FILE",
            );
        }
        None => {}
    }
    if let Some(application) = &application {
        output.answer(&format!(
            "The simulated application holds {} users and answers at {}\n",
            application.list().users().len(),
            application.url()
        ));
    }
    output.answer("It stops with Ctrl-C.\n");
    until_interrupted().await;
    output.answer("Stopped.\n");
    Exit::Done
}

/// Starts a simulated application with the accounts of a file.
async fn application(file: &Path, listen: SocketAddr) -> Result<Application, String> {
    let text = std::fs::read_to_string(file);
    let text =
        text.map_err(|error| format!("the accounts file {} cannot be read: {error}", file.display()))?;
    let list = List::from_csv(&text, false).map_err(|error| format!("{}: {error}", file.display()))?;
    let options = ApplicationOptions { listen, ..ApplicationOptions::default() };
    Application::start(list, options).await.map_err(|error| error.to_string())
}

fn help_line(error: &dyn Diagnostic) -> String {
    error.help().map(|help| format!("  To do: {help}\n")).unwrap_or_default()
}

/// Waits for Ctrl-C, or for the signal by which a service is ended.
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

fn explain(code: &str, output: &Output) -> Exit {
    match code::chapter(code) {
        Some(chapter) => {
            output.answer(&chapter);
            Exit::Done
        }
        None => {
            output.error_text(&format!("there is no message {code}; codes look like WX0307"));
            Exit::Wrong
        }
    }
}
