//! Somebody else approves what is applied, in a process of its own:
//! `cargo run --example approval -- webtaxon.toml monday.json seats`.
//!
//! The first run writes the file. The next one applies what is in it, but nothing that takes an account away:
//! only that much was approved.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use std::path::PathBuf;
use webtaxon::apply::Consent;
use webtaxon::{ChangeKind, Error, Workspace};

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Error> {
    let mut arguments = std::env::args().skip(1);
    let workspace = Workspace::open(arguments.next().unwrap_or_else(|| "webtaxon.toml".to_owned()))?;
    let file = PathBuf::from(arguments.next().unwrap_or_else(|| "monday.json".to_owned()));
    if !file.exists() {
        let (preview, work) = workspace.work().await?;
        workspace.save(&work, &file, "the example").await?;
        println!("{} changes wait for an approval", preview.changes.len());
        return Ok(());
    }
    let (work, _made) = workspace.read_saved(&file).await?;
    let takes_away = |kind| matches!(kind, ChangeKind::Remove | ChangeKind::Suspend);
    let approved = work.part(|edit| !takes_away(edit.kind));
    let release = arguments.next().unwrap_or_default();
    let release = release.split(',').filter(|name| !name.is_empty()).map(str::to_owned).collect();
    let consent = Consent { who: "whoever approved it".to_owned(), release, stop_after: None };
    let applied = workspace.apply(&approved, &consent).await?;
    println!(
        "{} of {} applied: complete: {}",
        approved.edits().len(),
        work.edits().len(),
        applied.is_complete()
    );
    Ok(())
}
