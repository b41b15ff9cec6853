//! Prints what the application would change: `cargo run --example preview -- demo/webtaxon.toml`.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), webtaxon::Error> {
    let file = std::env::args().nth(1).unwrap_or_else(|| "webtaxon.toml".to_owned());
    let preview = webtaxon::Workspace::open(file)?.preview().await?;
    for change in &preview.changes {
        println!("{:8} {}", change.kind().name(), change.login);
    }
    Ok(())
}
