//! The steps of `check`: everything that a run needs, tried in order.
//!
//! A failed step causes those that depend on it to be skipped; the rest goes on.

mod content;
mod reach;
mod rights;
mod scratch;
mod steps;
mod whole;

pub(crate) use scratch::try_scratch;
pub use steps::{CheckStep, StepOutcome};

use crate::background;
use crate::directory::{Access, DirectoryError, is_catalog};
use crate::setup::Setup;
use crate::state::Journal;
use crate::store::group_store;
use std::time::{Duration, Instant};
use steps::{Steps, bad, good, warning};
use webtaxon_core::account::{Habits, folded};
use webtaxon_core::reading::Request;
use webtaxon_core::settings::{Bind, Intake};
use webtaxon_core::words::counted;

/// Tries everything that a run needs. A server that cannot be reached is tried again for up to `wait`.
///
/// The application's side is always checked; the directory, as far as possible.
pub(crate) async fn check(
    setup: &Setup,
    wait: Duration,
    mut report: impl FnMut(&CheckStep) + Send,
) -> Vec<CheckStep> {
    let mut steps = Steps::new(&mut report);
    let mut seen: Vec<&str> = Vec::new();
    for intake in &setup.settings.intakes {
        steps.intake = (!setup.settings.intakes.is_single()).then(|| intake.name.clone());
        // The connection's own steps have reported its failure, possibly for an earlier intake.
        if seen.contains(&intake.directory.as_str()) && setup.snapshot.is_none() {
            if let Ok(mut connection) = setup.connect(intake).await {
                content::read(intake, &mut connection, &mut steps).await;
                connection.close().await;
            }
        } else {
            seen.push(&intake.directory);
            let _ = directory(setup, intake, wait, &mut steps).await;
        }
    }
    steps.intake = None;
    accounts(setup, &mut steps).await;
    state(setup, &mut steps).await;
    whole::read(setup, &mut steps).await;
    steps.finish()
}

/// The state between runs.
async fn state(setup: &Setup, steps: &mut Steps<'_>) {
    let began = Instant::now();
    let place = setup.state().describe();
    let at = setup.state();
    let runs = background::run(move || Journal::read(&*at)?.map(|journal| journal.runs()).transpose()).await;
    let finding = match runs {
        Err(error) => bad(&error),
        Ok(None) => good(format!("no state yet: the first apply creates {place}")),
        Ok(Some(runs)) => good(match runs.first() {
            None => format!("{place}: no apply that changed anything"),
            Some(latest) => {
                let applies = counted(runs.len(), "apply", "applies");
                format!("{place}: {applies}, the latest at {:.0}", latest.at)
            }
        }),
    };
    steps.end("state", began, finding);
}

/// The steps that need the directory; an error has already been reported by its step.
async fn directory(
    setup: &Setup,
    intake: &Intake,
    wait: Duration,
    steps: &mut Steps<'_>,
) -> Result<(), DirectoryError> {
    const NEEDS_CONNECTION: [&str; 7] =
        ["password", "bind", "rights", "base", "filter", "attribute", "group"];
    let directory = setup.directory(intake)?;
    if setup.snapshot.is_some() {
        return offline(setup, intake, steps).await;
    }
    let access = Access::new(directory, &setup.folder, None);
    let reached = reach::servers(&access, wait, steps).await;
    let Some(mut connection) = reached else {
        for name in NEEDS_CONNECTION {
            if directory.bind.name().is_some() || name != "password" {
                steps.skip(name, "there is no connection");
            }
        }
        return Ok(());
    };
    if !rights::bind(setup, directory, &mut connection, steps).await {
        for name in NEEDS_CONNECTION.iter().skip(2) {
            steps.skip(name, "the bind did not succeed");
        }
        return Ok(());
    }
    if is_catalog(connection.server()) {
        steps.end(
            "server",
            Instant::now(),
            warning(CATALOG, "write port 636 in `servers`, or 389 with StartTLS"),
        );
    }
    let told = content::read(intake, &mut connection, steps).await;
    if directory.bind != Bind::Anonymous {
        let began = Instant::now();
        if let Some(finding) = rights::anonymous(&access, intake, told.candidates).await {
            steps.end("rights", began, finding);
        }
    }
    connection.close().await;
    Ok(())
}

const CATALOG: &str = "this is the port of the global catalog, which holds only some attributes of people, and the members of some groups: nobody leaves on its word";

/// The steps that a snapshot can answer.
async fn offline(setup: &Setup, intake: &Intake, steps: &mut Steps<'_>) -> Result<(), DirectoryError> {
    let began = Instant::now();
    let Some(snapshot) = &setup.snapshot else { return Ok(()) };
    let header = &snapshot.header;
    let taken = header.taken.map_or_else(|| "at an unknown time".to_owned(), |taken| format!("at {taken}"));
    let message =
        format!("a snapshot of {} entries, taken {taken} from {}", snapshot.entries.len(), header.server);
    let missing = snapshot.missing(&Request::of(intake));
    let finding = match missing.is_empty() {
        true => good(message),
        false => warning(
            format!("{message}; it is not whole: {}", missing.join("; ")),
            "such a reading suspends and removes no account: take a new snapshot with these settings",
        ),
    };
    steps.end("server", began, finding);
    let directory = setup.directory(intake)?;
    let access = Access::new(directory, &setup.folder, None).from_snapshot(setup.snapshot.clone());
    let mut connection = access.open_first(&[]).await?;
    content::read(intake, &mut connection, steps).await;
    Ok(())
}

async fn accounts(setup: &Setup, steps: &mut Steps<'_>) {
    let began = Instant::now();
    let store = setup.store();
    let finding = match setup.accounts().await {
        Err(error) => bad(&error),
        Ok(accounts) if let Err(error) = setup.are_kept(&*store, &accounts).await => bad(&error),
        Ok(accounts) => {
            let linked = accounts.iter().filter(|account| account.link.is_some()).count();
            let settings = &setup.settings.accounts;
            let place = if settings.store.has_links() { "" } else { " in the state" };
            let habits = match store.trial() {
                Some(_) => setup.habits().await.map_or("", |habits| in_words(&habits)),
                None => "",
            };
            let message = format!(
                "{}: {} accounts, {linked} of them linked{place}{habits}",
                store.describe(),
                accounts.len()
            );
            let known = |login: &str| accounts.iter().any(|one| folded(&one.login) == folded(login));
            if let Some(login) = settings.whose.keys().find(|login| !known(login)) {
                let remedy = "correct the login, or remove it from whose";
                let finding =
                    warning(format!("{message}; whose lists {login}, which is not among them"), remedy);
                return steps.end("accounts", began, finding);
            }
            match store.is_writable().await {
                Ok(true) => good(message),
                Ok(false) => warning(
                    format!("{message}; it can be read, but not written"),
                    "a preview works like this; an apply needs the right to write it",
                ),
                Err(error) => bad(&error),
            }
        }
    };
    steps.end("accounts", began, finding);
    application_groups(setup, steps).await;
}

/// What is known of a store that may do otherwise than it says.
fn in_words(habits: &Habits) -> &'static str {
    match (habits.whole, habits.tried) {
        (true, _) => "; users are changed as a whole (PUT), since PATCH was found to do only a part",
        (false, None) => {
            "; whether it keeps all that is written has not been tried: --scratch LOGIN does that, with an account of its own"
        }
        (false, Some(_)) => "",
    }
}

/// The application's own groups, if the settings import any.
async fn application_groups(setup: &Setup, steps: &mut Steps<'_>) {
    if !setup.settings.brings_groups() {
        return;
    }
    let began = Instant::now();
    let store = setup.store();
    let groups = async { group_store(&*store)?.all_groups().await };
    let finding = match groups.await {
        Err(error) => bad(&error),
        Ok(groups) => {
            let linked = groups.list.iter().filter(|group| group.link.is_some()).count();
            good(format!("the application has {} groups, {linked} of them linked", groups.list.len()))
        }
    };
    steps.end("accounts", began, finding);
}
