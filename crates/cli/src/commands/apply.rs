//! `webtaxon apply`: carries out exactly what was previewed.

use crate::arguments::Apply as Options;
use crate::output::width;
use crate::session::{Exit, Failure, Session, create, who};
use crate::text;
use std::io::{self, IsTerminal as _};
use std::path::Path;
use webtaxon::apply::{Consent, Work};
use webtaxon::{Workspace, report};

/// Changes of each kind shown before the question.
const LISTED: usize = 10;

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    if session.common.from.is_some() {
        let reason = "apply reads the directory itself: a snapshot may be out of date";
        return Err(Failure::wrong(reason));
    }
    let workspace = session.open()?;
    let work = work(&workspace, options, session).await?;
    let consent = Consent { who: who(), release: options.release.clone(), stop_after: options.stop_after };
    workspace.may_apply(&work, &consent)?;
    if let Some(file) = &options.statements {
        let script = workspace.statements(&work, &consent).await?;
        return write_down(&work, &script, file, session);
    }
    if !work.is_empty() && !options.yes && !ask(&work, session).await? {
        session.output.answer("Nothing was changed.\n");
        return Ok(Exit::Done);
    }
    session.output.begin();
    let applied = workspace.apply(&work, &consent).await?;
    let option = session.same_options();
    session.answer(
        |width| text::applied(&work, &applied, width, &option),
        || report::applied(&work, &applied, workspace.settings()),
    );
    Ok(if applied.is_complete() { Exit::Done } else { Exit::Failed })
}

/// The work of a saved preview, or of a new one, shown to the user.
async fn work(workspace: &Workspace, options: &Options, session: &Session<'_>) -> Result<Work, Failure> {
    let is_text = session.is_text();
    if let Some(file) = &options.saved {
        let (work, made) = workspace.read_saved(file).await?;
        if is_text {
            session.output.answer(&text::work(
                &work,
                Some((file, made)),
                workspace.settings(),
                (width(), LISTED),
            ));
        }
        return Ok(work);
    }
    let (preview, work) = workspace.work().await?;
    if is_text {
        session.output.answer(&text::apply_preview(&preview, workspace.settings(), width(), LISTED));
    }
    Ok(work)
}

/// Writes the statements of an apply to a file, to be run by an administrator.
fn write_down(work: &Work, script: &str, file: &Path, session: &Session<'_>) -> Result<Exit, Failure> {
    // The file contains accounts, so only its owner may read it.
    create(file, script, true).map_err(|error| Failure::unwritable(file, error))?;
    session.output.aside(&text::statements(work, file, &session.same_options()));
    Ok(Exit::Done)
}

/// Asks whether to go on, if there is a terminal.
async fn ask(work: &Work, session: &Session<'_>) -> Result<bool, Failure> {
    if !session.is_text() || !io::stdin().is_terminal() {
        return Err(Failure::wrong("there is no terminal to ask at: add --yes to go ahead"));
    }
    let line = session.line(&format!("Carry out {}? Type yes: ", text::counts(work))).await;
    Ok(line.is_some_and(|line| line.eq_ignore_ascii_case("yes")))
}
