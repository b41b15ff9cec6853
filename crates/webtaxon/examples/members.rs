//! Who is in a group, directly or through other groups:
//! `cargo run --example members -- webtaxon.toml Curators`.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use webtaxon::model::membership::Nest;
use webtaxon::{Named, Workspace};

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let workspace = Workspace::open(arguments.next().unwrap_or_else(|| "webtaxon.toml".to_owned()))?;
    let text = arguments.next().unwrap_or_else(|| "Curators".to_owned());
    let group = match workspace.find_group(&text).await? {
        Named::One(dn) => dn,
        Named::Several(names) => return Err(format!("{text} may be any of {}", names.join("; ")).into()),
        Named::Nothing => return Err(format!("no group is called {text}").into()),
    };
    let reading = workspace.nest(&group).await?;
    let Some(nest) = Nest::of(&reading, &group.key()) else {
        return Err(format!("{group} was not read as a group").into());
    };
    for member in nest.people() {
        println!(
            "{} {}",
            member.name,
            if member.path.len() == 1 { "directly" } else { "through other groups" }
        );
    }
    // A part that was not read may have more.
    println!("whole: {}", reading.gaps().is_empty());
    Ok(())
}
