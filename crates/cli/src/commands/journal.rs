//! `webtaxon journal`: past runs, how to undo one, and deleting old ones.

use crate::arguments::{Format, Journal as Options};
use crate::output::width;
use crate::session::{Exit, Failure, Session, who};
use crate::text;
use webtaxon::model::settings::Settings;
use webtaxon::state::{Journal, Run};
use webtaxon::{ApplyError, Error, Workspace, report};

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    let workspace = session.open()?;
    if let Some(day) = options.forget_before {
        let forgotten = workspace.forget_before(day, &who()).await?;
        session.output.answer(&text::forgotten(forgotten, day));
        return Ok(Exit::Done);
    }
    if let (Some(run), true) = (options.run, options.undo) {
        return way_back(&workspace, run, options, session).await;
    }
    let journal = workspace.journal().await?;
    let runs = journal.as_ref().map(Journal::runs).transpose().map_err(Error::from)?.unwrap_or_default();
    match (options.run, &journal) {
        (Some(number), Some(journal)) if runs.iter().any(|run| run.run == number) => {
            let mut run = runs.iter().find(|run| run.run == number).into_iter();
            run.try_for_each(|run| one(run, journal, (options, workspace.settings()), session))?;
        }
        (Some(number), _) => return Err(ApplyError::no_run(number).into()),
        (None, journal) if options.lines => {
            for run in runs.iter().rev() {
                journal
                    .iter()
                    .try_for_each(|journal| one(run, journal, (options, workspace.settings()), session))?;
            }
        }
        (None, _) => {
            let option = session.same_options();
            session.answer(|width| text::runs(&runs, width, &option), || report::runs(&runs));
        }
    }
    Ok(Exit::Done)
}

/// Shows one run.
fn one(
    run: &Run,
    journal: &Journal,
    (options, settings): (&Options, &Settings),
    session: &Session<'_>,
) -> Result<(), Error> {
    let (entries, groups) = (journal.entries(run.run)?, journal.group_entries(run.run)?);
    session.output.answer(&match (options.lines, session.common.format) {
        (true, _) => report::journal_lines(run, &entries, &groups, settings),
        (false, Format::Text) => {
            text::run(run, (&entries, &groups), settings, width(), &session.same_options())
        }
        (false, Format::Json) => format!("{:#}\n", report::run(run, &entries, &groups, settings)),
    });
    Ok(())
}

/// Shows how to undo a run, and saves it if asked to.
async fn way_back(
    workspace: &Workspace,
    run: i64,
    options: &Options,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let work = workspace.way_back(run).await?;
    let settings = workspace.settings();
    let limit = usize::MAX;
    session
        .answer(|width| text::work(&work, None, settings, (width, limit)), || report::work(&work, settings));
    match &options.save {
        Some(file) => session.save(workspace, &work, file).await?,
        None => session.output.aside(&text::how_to_undo(run, &session.same_options())),
    }
    Ok(Exit::Done)
}
