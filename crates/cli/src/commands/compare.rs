//! `webtaxon compare`: what other settings would change.

use crate::arguments::Common;
use crate::session::{Exit, Failure, Session};
use crate::text;
use std::path::Path;
use webtaxon::report;

pub(crate) async fn run(other: &Path, session: &Session<'_>) -> Result<Exit, Failure> {
    let common = Common { settings: other.to_owned(), ..session.common.clone() };
    let theirs = Session { common: &common, output: session.output };
    let (workspace, proposed) = (session.open()?, theirs.open()?);
    let comparison = workspace.compare(&proposed).await?;
    let files = (session.common.settings.as_path(), other);
    session.answer(
        |width| text::comparison(&comparison, width, files, &theirs.same_options()),
        || report::comparison(&comparison),
    );
    Ok(Exit::by_whole(comparison.is_whole()))
}
