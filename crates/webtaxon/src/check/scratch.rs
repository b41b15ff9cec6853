//! Trying the account store with a scratch account, which it does only if the administrator names one.

use super::steps::{CheckStep, Finding, StepOutcome, Steps, bad, good, warning};
use crate::background;
use crate::error::Error;
use crate::setup::Setup;
use crate::state::Journal;
use crate::store::{Terms, Trial, TrialFinding, names};
use std::time::Instant;

/// The step.
const SCRATCH: &str = "scratch";

/// Tries the store, and keeps what was found in the state.
pub(crate) async fn try_scratch(
    setup: &Setup,
    login: &str,
    who: &str,
    mut report: impl FnMut(&CheckStep) + Send,
) -> Vec<CheckStep> {
    let mut steps = Steps::new(&mut report);
    let began = Instant::now();
    let store = setup.store();
    let Some(own) = store.trial() else {
        let words = format!(
            "{} has nothing to be tried out: what it keeps is known from its columns",
            store.describe()
        );
        steps.end(SCRATCH, began, good(words));
        return steps.finish();
    };
    let (fields, unique) = (setup.settings.account_fields(), setup.settings.unique_fields());
    let terms = Terms { fields: names(fields), unique: names(unique), ..Terms::default() };
    let tried = async {
        let trial = own.try_out(login.to_owned(), terms).await?;
        keep(setup, &trial, store.place(), who.to_owned()).await?;
        Ok::<_, Error>(trial)
    };
    match tried.await {
        Err(error) => steps.end(SCRATCH, began, bad(&error)),
        Ok(trial) => {
            for (at, finding) in trial.findings.into_iter().enumerate() {
                steps.end(SCRATCH, if at == 0 { began } else { Instant::now() }, told(finding));
            }
        }
    }
    steps.finish()
}

async fn keep(setup: &Setup, trial: &Trial, list: String, who: String) -> Result<(), Error> {
    let (place, habits) = (setup.state(), trial.habits.clone());
    Ok(background::run(move || Journal::write(&*place, &who)?.set_habits(&list, &habits)).await?)
}

fn told(finding: TrialFinding) -> Finding {
    match finding {
        TrialFinding::Good(words) => good(words),
        TrialFinding::Odd(words, remedy) => warning(words, remedy),
        TrialFinding::Bad(words, remedy) => Finding { outcome: StepOutcome::Bad, ..warning(words, remedy) },
    }
}
