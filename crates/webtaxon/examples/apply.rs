//! Carries out what a preview shows, and takes it back: `cargo run --example apply -- webtaxon.toml seats`.
//! The second argument names brakes to release.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::progress::{Progress, Watch};

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), webtaxon::Error> {
    let mut arguments = std::env::args().skip(1);
    let file = arguments.next().unwrap_or_else(|| "webtaxon.toml".to_owned());
    let release = arguments.next().unwrap_or_default();
    let release = release.split(',').filter(|name| !name.is_empty()).map(str::to_owned).collect();
    let watch = Watch::new(|event| {
        if let Progress::CarriedOut { edits, of } = event
            && edits == of
        {
            println!("{edits} of {of} looked at");
        }
    });
    let workspace = Workspace::open(file)?.watched(watch);
    let consent = Consent { who: "the example".to_owned(), release, stop_after: None };

    // What would be done, kept as a value: it may be saved, shown, and agreed to.
    let (preview, work) = workspace.work().await?;
    println!("{} changes, {} brakes", preview.changes.len(), work.brakes().len());
    let applied = workspace.apply(&work, &consent).await?;
    let Some(run) = applied.run else {
        println!("nothing to do");
        return Ok(());
    };
    println!("run {run}: complete: {}", applied.is_complete());

    let back = workspace.way_back(run).await?;
    let undone = workspace.apply(&back, &consent).await?;
    println!("taken back: complete: {}", undone.is_complete());
    Ok(())
}
