//! Is everything in order? Each step that a run needs, tried one after the other.
//!
//! A step that fails stops what depends on it, which is then skipped; the rest goes on.

mod content;
mod reach;
mod rights;

use super::{Access, DirectoryError};
use crate::Workspace;
use miette::Diagnostic;
use serde::Serialize;
use std::time::{Duration, Instant};
use webtaxon_core::account::folded;
use webtaxon_core::settings::Bind;

/// How a step ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// As it should be.
    Good,
    /// It works, but the administrator should know something.
    Warning,
    /// A run cannot work like this.
    Bad,
    /// Not tried, since something before it failed or the server does not tell.
    Skipped,
}

/// One step of a check.
#[derive(Clone, Debug, Serialize)]
pub struct CheckStep {
    /// Which step: `name`, `connect`, `tls`, `server`, `password`, `bind`, `rights`, `clock`, `base`, `filter`,
    /// `attribute`, `group`, `accounts`.
    pub name: &'static str,
    /// How it ended.
    pub outcome: Outcome,
    /// What was found.
    pub message: String,
    /// What to do next; empty where nothing is to be done.
    pub remedy: String,
    /// The code of the message that explains a failure.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// How long it took, in milliseconds.
    pub milliseconds: u64,
}

/// What a step found: how it ended, in words, and what to do next.
pub(super) struct Finding {
    outcome: Outcome,
    message: String,
    remedy: String,
    code: Option<String>,
}

fn good(message: impl Into<String>) -> Finding {
    Finding { outcome: Outcome::Good, message: message.into(), remedy: String::new(), code: None }
}

fn warning(message: impl Into<String>, remedy: impl Into<String>) -> Finding {
    Finding { outcome: Outcome::Warning, message: message.into(), remedy: remedy.into(), code: None }
}

fn bad(error: &(impl Diagnostic + ?Sized)) -> Finding {
    Finding {
        outcome: Outcome::Bad,
        message: error.to_string(),
        remedy: error.help().map(|help| help.to_string()).unwrap_or_default(),
        code: error.code().map(|code| code.to_string()),
    }
}

/// Runs the steps and reports each as it ends.
pub(super) struct Steps<'r> {
    report: &'r mut (dyn FnMut(&CheckStep) + Send),
    steps: Vec<CheckStep>,
    /// The intake that is looked at, where there are several.
    intake: Option<String>,
}

impl Steps<'_> {
    fn end(&mut self, name: &'static str, began: Instant, finding: Finding) {
        let milliseconds = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
        let Finding { outcome, message, remedy, code } = finding;
        let message = match &self.intake {
            Some(intake) => format!("{intake}: {message}"),
            None => message,
        };
        let step = CheckStep { name, outcome, message, remedy, code, milliseconds };
        (self.report)(&step);
        self.steps.push(step);
    }

    fn skip(&mut self, name: &'static str, why: &str) {
        let message = format!("not tried: {why}");
        let finding = Finding { outcome: Outcome::Skipped, message, remedy: String::new(), code: None };
        self.end(name, Instant::now(), finding);
    }
}

/// Tries everything that a run needs. A server that cannot be reached is tried again until `wait`
/// is over.
///
/// What the application keeps is looked at in any case; what needs the directory, as far as it
/// goes.
pub async fn check(
    workspace: &Workspace,
    wait: Duration,
    mut report: impl FnMut(&CheckStep) + Send,
) -> Vec<CheckStep> {
    let mut steps = Steps { report: &mut report, steps: Vec::new(), intake: None };
    let mut seen: Vec<String> = Vec::new();
    for one in workspace.each() {
        let intake = &one.settings().intake;
        steps.intake = (!workspace.settings().further.is_empty()).then(|| intake.name.clone());
        // The connection's own steps have told what ended them, for an earlier intake, too.
        if seen.contains(&intake.directory) && workspace.snapshot().is_none() {
            if let Ok(mut connection) = one.connect().await {
                content::read(&one, &mut connection, &mut steps).await;
                connection.close().await;
            }
        } else {
            seen.push(intake.directory.clone());
            let _ = directory(&one, wait, &mut steps).await;
        }
    }
    steps.intake = None;
    accounts(workspace, &mut steps).await;
    state(workspace, &mut steps);
    steps.steps
}

/// What is remembered from run to run.
fn state(workspace: &Workspace, steps: &mut Steps<'_>) {
    let began = Instant::now();
    let place = workspace.state().describe();
    let runs =
        workspace.journal().and_then(|journal| Ok(journal.map(|journal| journal.runs()).transpose()?));
    let finding = match runs {
        Err(error) => bad(&error),
        Ok(None) => good(format!("nothing is remembered yet: the first apply makes {place}")),
        Ok(Some(runs)) => good(match runs.first() {
            None => format!("{place}: no apply that changed anything"),
            Some(latest) => format!("{place}: {} applies, the latest at {:.0}", runs.len(), latest.at),
        }),
    };
    steps.end("state", began, finding);
}

/// The steps that need the directory; an error is one that a step has told already.
async fn directory(
    workspace: &Workspace,
    wait: Duration,
    steps: &mut Steps<'_>,
) -> Result<(), DirectoryError> {
    const NEEDS_CONNECTION: [&str; 7] =
        ["password", "bind", "rights", "base", "filter", "attribute", "group"];
    let directory = workspace.directory()?;
    if workspace.snapshot().is_some() {
        return offline(workspace, steps).await;
    }
    let access = Access::new(directory, workspace.folder(), None);
    let reached = reach::servers(&access, wait, steps).await;
    let Some(mut connection) = reached else {
        for name in NEEDS_CONNECTION {
            if directory.bind.name().is_some() || name != "password" {
                steps.skip(name, "there is no connection");
            }
        }
        return Ok(());
    };
    if !rights::bind(workspace, directory, &mut connection, steps).await {
        for name in NEEDS_CONNECTION.iter().skip(2) {
            steps.skip(name, "the bind did not succeed");
        }
        return Ok(());
    }
    let told = content::read(workspace, &mut connection, steps).await;
    if directory.bind != Bind::Anonymous {
        let began = Instant::now();
        if let Some(finding) = rights::anonymous(&access, &workspace.settings().intake, told.candidates).await
        {
            steps.end("rights", began, finding);
        }
    }
    connection.close().await;
    Ok(())
}

/// The steps that a snapshot can answer.
async fn offline(workspace: &Workspace, steps: &mut Steps<'_>) -> Result<(), DirectoryError> {
    let began = Instant::now();
    let Some(snapshot) = workspace.snapshot() else { return Ok(()) };
    let header = &snapshot.header;
    let taken = header
        .taken
        .map_or_else(|| "at a time that it does not say".to_owned(), |taken| format!("at {taken}"));
    let message =
        format!("a snapshot of {} entries, taken {taken} from {}", snapshot.entries.len(), header.server);
    let missing = snapshot.missing(&workspace.settings().intake);
    let finding = match missing.is_empty() {
        true => good(message),
        false => warning(
            format!("{message}; it is not whole: {}", missing.join("; ")),
            "nobody's account is taken away on such a reading: take a new snapshot with these settings",
        ),
    };
    steps.end("server", began, finding);
    let directory = workspace.directory()?;
    let access = Access::new(directory, workspace.folder(), None).from_snapshot(workspace.snapshot_shared());
    let mut connection = access.open_first(&[]).await?;
    content::read(workspace, &mut connection, steps).await;
    Ok(())
}

async fn accounts(workspace: &Workspace, steps: &mut Steps<'_>) {
    let began = Instant::now();
    let store = workspace.store();
    let finding = match workspace.accounts().await {
        Err(error) => bad(&error),
        Ok(accounts) => {
            let linked = accounts.iter().filter(|account| account.link.is_some()).count();
            let settings = &workspace.settings().accounts;
            let place = if settings.store.has_links() { "" } else { " in Webtaxon's own state" };
            let message =
                format!("{}: {} accounts, {linked} of them linked{place}", store.describe(), accounts.len());
            let known = |login: &str| accounts.iter().any(|one| folded(&one.login) == folded(login));
            if let Some(login) = settings.whose.keys().find(|login| !known(login)) {
                let remedy = "correct the login, or take it out of whose";
                let finding =
                    warning(format!("{message}; whose names {login}, which is none of them"), remedy);
                return steps.end("accounts", began, finding);
            }
            match store.is_writable().await {
                Ok(true) => good(message),
                Ok(false) => warning(
                    format!("{message}; it can be read, but not written"),
                    "a preview works like this; to carry it out, whoever runs this must be allowed to write it",
                ),
                Err(error) => bad(&error),
            }
        }
    };
    steps.end("accounts", began, finding);
    application_groups(workspace, steps).await;
}

/// The application's own groups, if some come in.
async fn application_groups(workspace: &Workspace, steps: &mut Steps<'_>) {
    if !workspace.settings().brings_groups() {
        return;
    }
    let began = Instant::now();
    let finding = match workspace.store().groups().await {
        Err(error) => bad(&error),
        Ok(groups) => {
            let linked = groups.list.iter().filter(|group| group.link.is_some()).count();
            good(format!("the application has {} groups, {linked} of them linked", groups.list.len()))
        }
    };
    steps.end("accounts", began, finding);
}
