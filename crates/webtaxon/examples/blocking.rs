//! A preview in a program without async: `cargo run --example blocking -- webtaxon.toml`.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use webtaxon::{Blocking, Workspace};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let workspace = Workspace::open(std::env::args().nth(1).unwrap_or_else(|| "webtaxon.toml".to_owned()))?;
    let blocking = Blocking::new()?;
    let preview = blocking.wait(workspace.preview())?;
    println!("{} changes, whole: {}", preview.changes.len(), preview.is_whole());
    Ok(())
}
