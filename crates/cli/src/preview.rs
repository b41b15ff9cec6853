//! `webtaxon preview`, `compare` and `why`: what would happen to everybody, by other settings, and to one.

use crate::arguments::{Common, Format, Preview as Options};
use crate::output::{Output, harmless, width};
use crate::run::{Exit, failed, open, same_options};
use crate::wanted::{Sort as WantedSort, Wanted, Written};
use crate::{apply, text};
use jiff::Timestamp;
use std::path::Path;
use webtaxon::core::preview::{ChangeKind, Narrow, Sort};
use webtaxon::{Answer, report};

/// How files begin that `--as` writes: one that begins otherwise is somebody else's.
const OURS: [&str; 2] = [
    "<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><meta http-equiv=\"Content-Security-Policy\"",
    "kind,login,person,dn,cause,why,path",
];

pub(crate) async fn run(options: &Options, common: &Common, output: &Output) -> Exit {
    let workspace = match open(common, output) {
        Ok(workspace) => workspace,
        Err(exit) => return exit,
    };
    if options.save.is_some() && common.from.is_some() {
        output.error_text(
            "what a snapshot shows cannot be saved to be applied: it may be older than you think",
        );
        return Exit::Wrong;
    }
    let made = match &options.save {
        Some(file) => workspace.work().await.map(|(preview, work)| (preview, Some((work, file)))),
        None => workspace.preview().await.map(|preview| (preview, None)),
    };
    let (mut preview, to_save) = match made {
        Ok(made) => made,
        Err(error) => return failed(&error, output),
    };
    let saved = |exit| match &to_save {
        Some((work, file)) => match apply::save(work, file, &same_options(common), output) {
            Exit::Done => exit,
            failed => failed,
        },
        None => exit,
    };
    let is_whole = preview.is_whole();
    let has_groups = preview.groups.as_ref().is_some_and(|groups| !groups.changes.is_empty());
    let has_changes = has_groups || !preview.changes.is_empty();
    let exit = match (is_whole, options.changes_exit_code && has_changes) {
        (false, _) => Exit::NotWhole,
        (true, true) => Exit::Changes,
        (true, false) => Exit::Done,
    };
    preview.narrow(&narrow(options));
    let settings = workspace.settings();
    let answer = match (options.written, common.format) {
        (Some(Written::Html), _) => {
            let made = workspace.snapshot().and_then(|snapshot| snapshot.header.taken);
            report::preview_html(&preview, settings, made.unwrap_or_else(Timestamp::now))
        }
        (Some(Written::Csv), _) => report::preview_csv(&preview),
        (None, Format::Json) => format!("{:#}\n", report::preview(&preview)),
        (None, Format::Text) => {
            let limit = options.limit.unwrap_or(usize::MAX);
            text::preview(&preview, settings, width(), &same_options(common), limit)
        }
    };
    let Some(file) = &options.out else {
        output.answer(&answer);
        if options.written == Some(Written::Csv) && !is_whole {
            output.warning("the directory was not read to its end: nobody's account is removed or suspended");
        }
        return saved(exit);
    };
    if let Err(reason) = overwrite(file, &answer) {
        output.error_text(&format!("{} cannot be written: {reason}", file.display()));
        return Exit::Failed;
    }
    let (group_changes, group_held) =
        preview.groups.as_ref().map_or((0, 0), |groups| (groups.changes.len(), groups.held.len()));
    let whole = if is_whole { "" } else { "; the directory was not read to its end" };
    output.answer(&format!(
        "Written to {}: {}, {} held back{whole}. Nothing was changed: this was a preview.\n",
        file.display(),
        report::words::counted(preview.changes.len() + group_changes, "change", "changes"),
        preview.held.len() + group_held
    ));
    saved(exit)
}

/// What of the preview is wanted.
fn narrow(options: &Options) -> Narrow {
    let kind = |wanted: &Wanted| {
        Some(match wanted {
            Wanted::Import => ChangeKind::Import,
            Wanted::Adopt => ChangeKind::Adopt,
            Wanted::Update => ChangeKind::Update,
            Wanted::Restore => ChangeKind::Restore,
            Wanted::Wait => ChangeKind::Wait,
            Wanted::Suspend => ChangeKind::Suspend,
            Wanted::Remove => ChangeKind::Remove,
            Wanted::Clash => ChangeKind::Clash,
            Wanted::Held | Wanted::Groups => return None,
        })
    };
    Narrow {
        only: options.only.iter().filter_map(kind).collect(),
        held: options.only.contains(&Wanted::Held),
        groups: options.only.contains(&Wanted::Groups),
        find: options.find.clone(),
        sort: match options.sort {
            WantedSort::Login => Sort::Login,
            WantedSort::Place => Sort::Place,
            WantedSort::Cause => Sort::Cause,
        },
    }
}

/// Writes a file, over an earlier one of the same kind only.
fn overwrite(file: &Path, text: &str) -> Result<(), String> {
    match std::fs::read(file) {
        Ok(there) if !there.is_empty() && !OURS.iter().any(|ours| there.starts_with(ours.as_bytes())) => {
            return Err("there is a file of this name that Webtaxon did not write".to_owned());
        }
        _ => {}
    }
    std::fs::write(file, text).map_err(|error| error.to_string())
}

pub(crate) async fn compare(other: &Path, common: &Common, output: &Output) -> Exit {
    let theirs = Common { settings: other.to_owned(), ..common.clone() };
    let (workspace, proposed) = match (open(common, output), open(&theirs, output)) {
        (Ok(workspace), Ok(proposed)) => (workspace, proposed),
        (Err(exit), _) | (_, Err(exit)) => return exit,
    };
    let comparison = match workspace.compare(&proposed).await {
        Ok(comparison) => comparison,
        Err(error) => return failed(&error, output),
    };
    output.answer(&match common.format {
        Format::Text => {
            text::comparison(&comparison, width(), (&common.settings, other), &same_options(&theirs))
        }
        Format::Json => format!("{:#}\n", report::comparison(&comparison)),
    });
    if comparison.is_whole() { Exit::Done } else { Exit::NotWhole }
}

pub(crate) async fn why(person: &str, common: &Common, output: &Output) -> Exit {
    let workspace = match open(common, output) {
        Ok(workspace) => workspace,
        Err(exit) => return exit,
    };
    let why = match workspace.why(person).await {
        Ok(Answer::One(why)) => why,
        Ok(Answer::Several(names)) => {
            let count = names.len();
            output.error_text(&format!("\"{person}\" may be any of {count}; name one of them in full:"));
            for name in names.iter().take(20) {
                output.aside(&format!("  {}\n", harmless(name)));
            }
            return Exit::Failed;
        }
        Ok(Answer::Nobody) => {
            output.error_text(&format!("nobody in the directory or the application is called \"{person}\""));
            let option = same_options(common);
            output.aside(&format!(
                "  To do: webtaxon browse{option} --find PIECE looks for a piece of a name, login or mail\n"
            ));
            return Exit::Failed;
        }
        Err(error) => return failed(&error, output),
    };
    output.answer(&match common.format {
        Format::Text => text::why(&why, workspace.settings(), width(), &same_options(common)),
        Format::Json => format!("{:#}\n", report::why(&why)),
    });
    if why.whole { Exit::Done } else { Exit::NotWhole }
}
