//! `webtaxon fields`: the attributes of people, and how often they are filled.

use crate::arguments::Fields as Options;
use crate::session::{Exit, Failure, Session};
use crate::text;
use webtaxon::{report, survey};

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    let workspace = session.open_for(options.looked_at.intake.as_deref())?;
    let intake = &workspace.settings().intakes.first;
    let mut connection = workspace.connect().await?;
    let survey = survey::fields(&mut connection, &intake.bases, &intake.filter, options.mask).await;
    connection.close().await;
    let survey = survey?;
    session.answer(|width| text::fields(&survey, width), || report::fields(&survey));
    Ok(Exit::Done)
}
