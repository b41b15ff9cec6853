//! `webtaxon compare`: what other settings would change.

use crate::arguments::{Common, Compare as Options};
use crate::session::{Exit, Failure, Session};
use crate::text;
use webtaxon::report;

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    let other = options.other.as_path();
    let common = Common { settings: other.to_owned(), ..session.common.clone() };
    let theirs = Session { common: &common, output: session.output };
    let (workspace, proposed) = (session.open()?, theirs.open()?);
    let comparison = workspace.compare(&proposed).await?;
    let files = (session.common.settings.as_path(), other);
    session.answer(
        |width| text::comparison(&comparison, (width, options.limit), files, &theirs.same_options()),
        || report::comparison(&comparison),
    );
    Ok(Exit::by_whole(comparison.is_whole()))
}
