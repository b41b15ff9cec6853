//! What a run remembers from earlier ones: since when people have been missing, and the state after the last apply;
//! and today's date.

use crate::ldap::identity::Identity;
use crate::reading::Footprint;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Today's date, and what earlier runs remembered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Memory {
    /// The day of this run.
    pub today: Date,
    /// By link, the day on which an apply first missed a person whose days of grace are running.
    pub missed: BTreeMap<Identity, Date>,
    /// By link, the logins of linked accounts after the last apply.
    pub known: BTreeMap<Identity, String>,
    /// The settings that select people, as of the last apply; `None` before the first.
    pub applied: Option<BTreeMap<String, String>>,
    /// By intake, what the reading of the last apply saw.
    pub footprints: BTreeMap<String, Footprint>,
    /// By link, the people whom an apply brought in a short while ago, with the server that showed them.
    pub fresh: BTreeMap<Identity, Fresh>,
    /// By link, the directory that it comes from; where the settings have one directory alone, links from others.
    pub origins: BTreeMap<Identity, String>,
    /// The number of a run that was interrupted, if what it did is not known yet.
    pub interrupted: Option<i64>,
}

/// Somebody whom an apply brought in a short while ago: other servers may not know about it yet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fresh {
    /// The server that showed them.
    pub server: String,
    /// The day of the apply.
    pub since: Date,
}

/// Days after which a directory's servers must have caught up with one another.
const CATCH_UP: i64 = 14;

/// Days of grace that still run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Grace {
    /// The day on which the person was first missed.
    pub since: Date,
    /// The first day on which the change is made.
    pub until: Date,
}

impl Memory {
    /// No memory of earlier runs.
    #[must_use]
    pub fn on(today: Date) -> Self {
        Self {
            today,
            missed: BTreeMap::new(),
            known: BTreeMap::new(),
            applied: None,
            footprints: BTreeMap::new(),
            fresh: BTreeMap::new(),
            origins: BTreeMap::new(),
            interrupted: None,
        }
    }

    /// The days of grace of a person missed today; `None` once they are over.
    #[must_use]
    pub fn grace(&self, link: &Identity, days: u32) -> Option<Grace> {
        let since = self.missed.get(link).copied().unwrap_or(self.today);
        let until = since.saturating_add(jiff::Span::new().days(i64::from(days)));
        (self.today < until).then_some(Grace { since, until })
    }

    /// The names of the settings in `selecting` that differ from the last apply.
    #[must_use]
    pub fn changed(&self, selecting: &BTreeMap<String, String>) -> Vec<String> {
        let Some(applied) = &self.applied else { return Vec::new() };
        let names: BTreeSet<&String> = applied.keys().chain(selecting.keys()).collect();
        names.into_iter().filter(|name| applied.get(*name) != selecting.get(*name)).cloned().collect()
    }

    /// Those who were brought in so short a while ago that some server may not know about it.
    pub(super) fn still_fresh(&self) -> impl Iterator<Item = (&Identity, &Fresh)> {
        self.fresh.iter().filter(|(_, fresh)| self.is_fresh(fresh))
    }

    /// True if somebody was brought in so short a while ago.
    pub(super) fn is_fresh(&self, fresh: &Fresh) -> bool {
        self.today < fresh.since.saturating_add(jiff::Span::new().days(CATCH_UP))
    }

    /// The number of people first missed on a day in the future: a clock was wrong, or is.
    #[must_use]
    pub fn in_future(&self) -> usize {
        self.missed.values().filter(|since| **since > self.today).count()
    }
}
