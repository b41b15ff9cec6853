//! `webtaxon snapshot`: a reading as a file.

use crate::arguments::Snapshot as Options;
use crate::session::{Exit, Failure, Session, create, settings_option};
use crate::text;

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    if options.file.exists() {
        let file = options.file.display();
        return Err(Failure::failed(format!("{file} exists already, and nothing is overwritten")));
    }
    let workspace = match &options.looked_at.intake {
        Some(name) => session.open_for(Some(name))?,
        None => session.open()?,
    };
    let snapshot = workspace.take_snapshot(options.mask).await?;
    create(&options.file, &snapshot.write(), true)
        .map_err(|error| Failure::unwritable(&options.file, error))?;
    let option = settings_option(&session.common.settings);
    session.output.answer(&text::snapshot(&snapshot, &options.file, &option));
    Ok(Exit::by_whole(snapshot.header.whole))
}
