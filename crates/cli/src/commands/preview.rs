//! `webtaxon preview`: what would happen to everybody.

use crate::arguments::{Format, Preview as Options};
use crate::output::width;
use crate::session::{Exit, Failure, Session};
use crate::text;
use crate::wanted::{Sort as WantedSort, Wanted, Written};
use jiff::Timestamp;
use std::path::Path;
use webtaxon::model::preview::{ChangeKind, Narrow, Preview, Sort};
use webtaxon::model::words::counted;
use webtaxon::{Workspace, report};

/// The beginnings of files that `--as` writes; other files are not overwritten.
const OURS: [&str; 2] = [
    "<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><meta http-equiv=\"Content-Security-Policy\"",
    "kind,login,person,dn,cause,why,path",
];

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    let workspace = session.open()?;
    if options.save.is_some() && session.common.from.is_some() {
        return Err(Failure::wrong(
            "a preview of a snapshot cannot be saved for an apply: it may be out of date",
        ));
    }
    let (mut preview, to_save) = match &options.save {
        Some(file) => {
            let (preview, work) = workspace.work().await?;
            (preview, Some((work, file)))
        }
        None => (workspace.preview().await?, None),
    };
    let exit = exit(&preview, options.changes_exit_code);
    let is_whole = preview.is_whole();
    preview.narrow(&narrow(options));
    let answer = written(&preview, &workspace, options, session);
    match &options.out {
        Some(file) => {
            overwrite(file, &answer).map_err(|reason| Failure::unwritable(file, reason))?;
            session.output.answer(&in_a_file(&preview, file));
        }
        None => {
            session.output.answer(&answer);
            if options.written == Some(Written::Csv) && !is_whole {
                session
                    .output
                    .warning("the directory was not read to its end: no account is removed or suspended");
            }
        }
    }
    if let Some((work, file)) = &to_save {
        session.save(&workspace, work, file).await?;
    }
    Ok(exit)
}

fn exit(preview: &Preview, tells_changes: bool) -> Exit {
    let has_groups = preview.groups.as_ref().is_some_and(|groups| !groups.changes.is_empty());
    match (preview.is_whole(), tells_changes && (has_groups || !preview.changes.is_empty())) {
        (false, _) => Exit::NotWhole,
        (true, true) => Exit::Changes,
        (true, false) => Exit::Done,
    }
}

/// The preview in the chosen format.
fn written(preview: &Preview, workspace: &Workspace, options: &Options, session: &Session<'_>) -> String {
    let settings = workspace.settings();
    match (options.written, session.common.format) {
        (Some(Written::Html), _) => {
            let made = workspace.snapshot().and_then(|snapshot| snapshot.header.taken);
            report::preview_html(preview, settings, made.unwrap_or_else(Timestamp::now))
        }
        (Some(Written::Csv), _) => report::preview_csv(preview),
        (None, Format::Json) => format!("{:#}\n", report::preview(preview)),
        (None, Format::Text) => {
            let limit = options.limit.unwrap_or(usize::MAX);
            text::preview(preview, settings, width(), &session.same_options(), limit)
        }
    }
}

/// The summary printed for a preview that went to a file.
fn in_a_file(preview: &Preview, file: &Path) -> String {
    let (group_changes, group_held) =
        preview.groups.as_ref().map_or((0, 0), |groups| (groups.changes.len(), groups.held.len()));
    let whole = if preview.is_whole() { "" } else { "; the directory was not read to its end" };
    format!(
        "Written to {}: {}, {} held back{whole}. Nothing was changed: this was a preview.\n",
        file.display(),
        counted(preview.changes.len() + group_changes, "change", "changes"),
        preview.held.len() + group_held
    )
}

/// The filter and order that the options ask for.
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

/// Writes a file, replacing only an earlier one of the same format.
fn overwrite(file: &Path, text: &str) -> Result<(), String> {
    match std::fs::read(file) {
        Ok(there) if !there.is_empty() && !OURS.iter().any(|ours| there.starts_with(ours.as_bytes())) => {
            return Err("a file of this name exists that Webtaxon did not write".to_owned());
        }
        _ => {}
    }
    std::fs::write(file, text).map_err(|error| error.to_string())
}
