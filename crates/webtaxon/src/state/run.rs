//! One apply in the journal, and its edits.

use jiff::Timestamp;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::PathBuf;
use webtaxon_core::apply::{Edit, Outcome};

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Ending {
    /// Every edit has an outcome.
    Done,
    /// It stopped early: the store failed, or too many edits were refused.
    Stopped,
    /// It was interrupted; a later run found out what had been done.
    Interrupted,
}

impl Ending {
    /// The keyword.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Stopped => "stopped",
            Self::Interrupted => "interrupted",
        }
    }

    pub(super) fn read(text: &str) -> Option<Self> {
        [Self::Done, Self::Stopped, Self::Interrupted].into_iter().find(|ending| ending.name() == text)
    }
}

/// One apply in the journal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Run {
    /// Its number.
    pub run: i64,
    /// When it began.
    pub at: Timestamp,
    /// The time of its end; `None` while it runs, or if it was interrupted and that has not been resolved.
    pub ended: Option<Timestamp>,
    /// Who started it.
    pub who: String,
    /// The run that it undid, if any.
    pub undoes: Option<i64>,
    /// The run that undid it, if any.
    pub undone: Option<i64>,
    /// The digest of the settings.
    pub settings: String,
    /// The account list.
    pub store: String,
    /// The brakes released for it.
    pub released: Vec<String>,
    /// The copy of the accounts from before.
    pub backup: Option<PathBuf>,
    /// How it ended.
    pub ending: Option<Ending>,
    /// The number of edits of each kind, and, of those not done, of each outcome.
    pub counts: BTreeMap<String, u64>,
}

/// One edit of a run, with its outcome if known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recorded<E = Edit> {
    /// Its position in the run.
    pub place: usize,
    /// The edit.
    pub edit: E,
    /// Its outcome.
    pub outcome: Option<Outcome>,
}
