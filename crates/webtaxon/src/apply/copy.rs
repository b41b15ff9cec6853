//! Copying the accounts and groups before an apply changes them.

use super::Work;
use crate::box_error::BoxError;
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::links::Linked;
use crate::setup::Setup;
use crate::state::backups_of;
use crate::store::{AccountStore as _, StoreErrorKind, group_store, groups_beside};
use crate::{crash, private};
use jiff::Timestamp;
use serde::Serialize;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use webtaxon_core::apply::{GroupEdit, Standing, group_standings, standings};

/// Copies the whole list, or the accounts and groups to be changed, to a new file.
pub(super) async fn copy(
    setup: &Setup,
    store: &Linked<'_>,
    fields: &Arc<[String]>,
    run: i64,
    work: &Work,
) -> Result<PathBuf, Error> {
    let folder = backups_of(&setup.file);
    let failed = |file: &Path, source: BoxError| {
        ApplyError::from(ApplyErrorKind::NoCopy { file: file.to_owned(), source })
    };
    private::folder(&folder).map_err(|error| failed(&folder, error.into()))?;
    let stem = new_stem(&folder, run);
    let whole = store.copy(stem.clone()).await.map_err(|error| match error.kind() {
        StoreErrorKind::Unwritable { .. } => Error::from(failed(&stem, error.into())),
        // The list cannot be read.
        _ => error.into(),
    })?;
    let file = match whole {
        Some(file) => file,
        None => {
            let accounts = store.accounts(Arc::clone(fields)).await?;
            let file = stem.with_extension("jsonl");
            let standings = standings(&work.edits, &accounts, &[""; 0]);
            write_concerned(&file, &standings, &accounts).map_err(|error| failed(&file, error.into()))?;
            file
        }
    };
    let groups = groups_beside(&file, "jsonl");
    let is_copied = ["csv", "jsonl"].iter().any(|end| groups_beside(&file, end).exists());
    if !work.groups.is_empty() && !is_copied {
        let list = group_store(store)?.all_groups().await?.list;
        let edits: Vec<GroupEdit> = work.groups.all().cloned().collect();
        let standings = group_standings(&edits, &list);
        write_concerned(&groups, &standings, &list).map_err(|error| failed(&groups, error.into()))?;
    }
    crash::point();
    Ok(file)
}

/// A file name not in use: after a deleted journal, copies of runs with the same number may exist.
fn new_stem(folder: &Path, run: i64) -> PathBuf {
    let plain = folder.join(format!("run-{run}"));
    let is_taken = ["csv", "jsonl"].iter().any(|end| plain.with_extension(end).exists());
    match is_taken {
        true => folder.join(format!("run-{run}-{}", Timestamp::now().as_millisecond())),
        false => plain,
    }
}

/// Writes the items to be changed to a new file, one to a line.
fn write_concerned<T: Serialize>(file: &Path, standings: &[Standing], list: &[T]) -> std::io::Result<()> {
    let mut out = std::io::BufWriter::new(private::file(file)?);
    for standing in standings {
        if let Standing::Ready(Some(at)) = standing
            && let Some(one) = list.get(*at)
        {
            serde_json::to_writer(&mut out, one)?;
            out.write_all(b"\n")?;
        }
    }
    out.into_inner().map_err(std::io::IntoInnerError::into_error)?.sync_all()
}
