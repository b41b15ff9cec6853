//! What a run remembers from earlier ones: since when people have been missing, and the state after the last apply;
//! and today's date.

use crate::ldap::identity::Identity;
use jiff::civil::Date;
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
}

/// Days of grace that still run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
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
        Self { today, missed: BTreeMap::new(), known: BTreeMap::new(), applied: None }
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

    /// The number of people first missed on a day in the future: a clock was wrong, or is.
    #[must_use]
    pub fn in_future(&self) -> usize {
        self.missed.values().filter(|since| **since > self.today).count()
    }
}
