//! `webtaxon check`: is everything in order, step by step.

use crate::output::width;
use crate::session::{Exit, Failure, Session, who};
use crate::text;
use std::time::Duration;
use webtaxon::check::{CheckStep, StepOutcome};
use webtaxon::report;

pub(crate) async fn run(
    wait: Duration,
    scratch: Option<&str>,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let workspace = session.open()?;
    let is_text = session.is_text();
    let tell = |step: &CheckStep| {
        if is_text {
            session.output.answer(&text::step(step, width()));
        }
    };
    let mut steps = workspace.check(wait, tell).await;
    if let Some(login) = scratch {
        steps.extend(workspace.try_scratch(login, &who(), tell).await);
    }
    session.answer(|_| text::checked(&steps, &session.same_options()), || report::check(&steps));
    let is_bad = steps.iter().any(|step| step.outcome == StepOutcome::Bad);
    Ok(if is_bad { Exit::Failed } else { Exit::Done })
}
