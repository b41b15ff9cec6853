//! The steps of a check: outcome, message, remedy.

use miette::Diagnostic;
use serde::Serialize;
use std::time::Instant;

/// The outcome of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum StepOutcome {
    /// As it should be.
    Good,
    /// It works, but deserves the administrator's attention.
    Warning,
    /// A run would fail.
    Bad,
    /// Not tried: an earlier step failed, or the server does not show it.
    Skipped,
}

/// One step of a check.
#[derive(Clone, Debug, Serialize)]
pub struct CheckStep {
    /// The step: `name`, `connect`, `tls`, `server`, `password`, `bind`, `rights`, `clock`, `base`, `filter`,
    /// `attribute`, `identity`, `group`, `accounts`, `state`, `reading`, `footprint`, `scratch`.
    pub name: &'static str,
    /// The outcome.
    pub outcome: StepOutcome,
    /// The result in words.
    pub message: String,
    /// The remedy; empty if none is needed.
    pub remedy: String,
    /// The code of the message that explains a failure.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// Duration in milliseconds.
    pub milliseconds: u64,
}

/// The result of a step: outcome, message, remedy.
pub(super) struct Finding {
    pub(super) outcome: StepOutcome,
    pub(super) message: String,
    pub(super) remedy: String,
    pub(super) code: Option<String>,
}

pub(super) fn good(message: impl Into<String>) -> Finding {
    Finding { outcome: StepOutcome::Good, message: message.into(), remedy: String::new(), code: None }
}

pub(super) fn warning(message: impl Into<String>, remedy: impl Into<String>) -> Finding {
    Finding { outcome: StepOutcome::Warning, message: message.into(), remedy: remedy.into(), code: None }
}

pub(super) fn bad(error: &(impl Diagnostic + ?Sized)) -> Finding {
    Finding {
        outcome: StepOutcome::Bad,
        message: error.to_string(),
        remedy: error.help().map(|help| help.to_string()).unwrap_or_default(),
        code: error.code().map(|code| code.to_string()),
    }
}

/// Runs the steps and reports each at its end.
pub(super) struct Steps<'r> {
    report: &'r mut (dyn FnMut(&CheckStep) + Send),
    steps: Vec<CheckStep>,
    /// The current intake, if there are several.
    pub(super) intake: Option<String>,
}

impl<'r> Steps<'r> {
    pub(super) fn new(report: &'r mut (dyn FnMut(&CheckStep) + Send)) -> Self {
        Self { report, steps: Vec::new(), intake: None }
    }

    /// The steps tried, in order.
    pub(super) fn finish(self) -> Vec<CheckStep> {
        self.steps
    }

    pub(super) fn end(&mut self, name: &'static str, began: Instant, finding: Finding) {
        let milliseconds = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
        let Finding { outcome, message, remedy, code } = finding;
        let message = match &self.intake {
            Some(intake) => format!("{intake}: {message}"),
            None => message,
        };
        let step = CheckStep { name, outcome, message, remedy, code, milliseconds };
        (self.report)(&step);
        self.steps.push(step);
    }

    pub(super) fn skip(&mut self, name: &'static str, why: &str) {
        let message = format!("not tried: {why}");
        let finding = Finding { outcome: StepOutcome::Skipped, message, remedy: String::new(), code: None };
        self.end(name, Instant::now(), finding);
    }
}
