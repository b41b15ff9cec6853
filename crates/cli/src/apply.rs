//! `webtaxon apply` and `journal`: carry out what was previewed, look back, and make the way back.

use crate::arguments::{Apply as Options, Common, Format, Journal as JournalOptions};
use crate::output::{Output, width};
use crate::run::{Exit, create, failed, open, same_options};
use crate::text;
use std::io::{self, BufRead as _, IsTerminal as _};
use std::path::Path;
use webtaxon::apply::{Applied, Consent, Work};
use webtaxon::{Error, Workspace, report};

/// Changes of each kind that are listed before the question.
const LISTED: usize = 10;

pub(crate) async fn run(options: &Options, common: &Common, output: &Output) -> Exit {
    if common.from.is_some() {
        output.error_text("apply reads the directory itself: a snapshot may be older than you think");
        return Exit::Wrong;
    }
    let workspace = match open(common, output) {
        Ok(workspace) => workspace,
        Err(exit) => return exit,
    };
    let as_text = common.format == Format::Text;
    let option = same_options(common);
    let work = match &options.saved {
        Some(file) => match Work::read(file) {
            Ok((work, made)) => {
                if as_text {
                    output.answer(&text::work(&work, Some((file, made)), width(), LISTED));
                }
                work
            }
            Err(error) => return failed(&error.into(), output),
        },
        None => match workspace.work().await {
            Ok((preview, work)) => {
                if as_text {
                    let settings = workspace.settings();
                    output.answer(&text::apply_preview(&preview, settings, width(), LISTED));
                }
                work
            }
            Err(error) => return failed(&error, output),
        },
    };
    let consent = Consent { who: who(), release: options.release.clone(), stop_after: options.stop_after };
    if let Err(error) = workspace.may_apply(&work, &consent) {
        return failed(&error, output);
    }
    if let Some(file) = &options.statements {
        return write_down(&workspace, (&work, &consent), file, &option, output).await;
    }
    if !work.is_empty() && !options.yes {
        match ask(&work, as_text, output).await {
            Ok(true) => {}
            Ok(false) => {
                output.answer("Nothing was changed.\n");
                return Exit::Done;
            }
            Err(exit) => return exit,
        }
    }
    output.begin();
    match workspace.apply(&work, &consent).await {
        Ok(applied) => told(&work, &applied, common, &option, output),
        Err(error) => failed(&error, output),
    }
}

/// Writes the statements of an apply to a file, for somebody who runs them.
async fn write_down(
    workspace: &Workspace,
    (work, consent): (&Work, &Consent),
    file: &Path,
    option: &str,
    output: &Output,
) -> Exit {
    let script = match workspace.statements(work, consent).await {
        Ok(script) => script,
        Err(error) => return failed(&error, output),
    };
    // The accounts in it are for its owner's eyes.
    if let Err(error) = create(file, &script, true) {
        output.error_text(&format!("{} cannot be written: {error}", file.display()));
        return Exit::Failed;
    }
    output.aside(&text::statements(work, file, option));
    Exit::Done
}

fn told(work: &Work, applied: &Applied, common: &Common, option: &str, output: &Output) -> Exit {
    output.answer(&match common.format {
        Format::Text => text::applied(work, applied, width(), option),
        Format::Json => format!("{:#}\n", report::applied(work, applied)),
    });
    if applied.is_complete() { Exit::Done } else { Exit::Failed }
}

/// Asks whether to go on; on a terminal only.
async fn ask(work: &Work, as_text: bool, output: &Output) -> Result<bool, Exit> {
    if !as_text || !io::stdin().is_terminal() {
        output.error_text("nobody is there to be asked: add --yes if it is what you want");
        return Err(Exit::Wrong);
    }
    output.aside(&format!("Carry out {}? Type yes: ", text::counts(work)));
    // On a thread of its own, so that Ctrl-C ends the question.
    let read = tokio::task::spawn_blocking(|| {
        let mut line = String::new();
        io::stdin().lock().read_line(&mut line).map(|_| line)
    });
    match read.await {
        Ok(Ok(line)) => Ok(line.trim().eq_ignore_ascii_case("yes")),
        _ => Ok(false),
    }
}

/// Who runs this, for the journal.
fn who() -> String {
    let user = ["USER", "LOGNAME", "USERNAME"].into_iter().find_map(|name| std::env::var(name).ok());
    let host = std::fs::read_to_string("/etc/hostname").ok().or_else(|| std::env::var("COMPUTERNAME").ok());
    let user = user.filter(|user| !user.is_empty()).unwrap_or_else(|| "somebody".to_owned());
    match host.as_deref().map(str::trim).filter(|host| !host.is_empty()) {
        Some(host) => format!("{user} at {host}"),
        None => user,
    }
}

/// Writes what an apply would do to a new file, for `preview --save` and `journal --undo --save`.
pub(crate) fn save(work: &Work, file: &Path, option: &str, output: &Output) -> Exit {
    if let Err(error) = work.save(file) {
        return failed(&error.into(), output);
    }
    output.aside(&text::saved(work, file, option));
    Exit::Done
}

pub(crate) fn journal(options: &JournalOptions, common: &Common, output: &Output) -> Exit {
    let workspace = match open(common, output) {
        Ok(workspace) => workspace,
        Err(exit) => return exit,
    };
    look_back(&workspace, options, common, output).unwrap_or_else(|error| failed(&error, output))
}

fn look_back(
    workspace: &Workspace,
    options: &JournalOptions,
    common: &Common,
    output: &Output,
) -> Result<Exit, Error> {
    let option = same_options(common);
    if let Some(day) = options.forget_before {
        let forgotten = workspace.forget_before(day, &who())?;
        output.answer(&text::forgotten(forgotten, day));
        return Ok(Exit::Done);
    }
    if let (Some(run), true) = (options.run, options.undo) {
        let work = workspace.way_back(run)?;
        output.answer(&match common.format {
            Format::Text => text::work(&work, None, width(), usize::MAX),
            Format::Json => format!("{:#}\n", report::work(&work)),
        });
        return Ok(match &options.save {
            Some(file) => save(&work, file, &option, output),
            None => {
                output.aside(&text::how_to_undo(run, &option));
                Exit::Done
            }
        });
    }
    let journal = workspace.journal()?;
    let runs = journal.as_ref().map(webtaxon::state::Journal::runs).transpose()?.unwrap_or_default();
    if let Some(number) = options.run {
        let Some((run, journal)) = runs.iter().find(|run| run.run == number).zip(journal.as_ref()) else {
            return Err(webtaxon::apply::ApplyError::no_run(number).into());
        };
        let (entries, groups) = (journal.entries(number)?, journal.group_entries(number)?);
        output.answer(&match (options.lines, common.format) {
            (true, _) => report::journal_lines(run, &entries, &groups),
            (false, Format::Text) => text::run(run, (&entries, &groups), width(), &option),
            (false, Format::Json) => format!("{:#}\n", report::run(run, &entries, &groups)),
        });
        return Ok(Exit::Done);
    }
    if options.lines {
        for run in runs.iter().rev() {
            let Some(journal) = &journal else { continue };
            let (entries, groups) = (journal.entries(run.run)?, journal.group_entries(run.run)?);
            output.answer(&report::journal_lines(run, &entries, &groups));
        }
        return Ok(Exit::Done);
    }
    output.answer(&match common.format {
        Format::Text => text::runs(&runs, width(), &option),
        Format::Json => format!("{:#}\n", report::runs(&runs)),
    });
    Ok(Exit::Done)
}
