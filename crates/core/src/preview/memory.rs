//! What a run knows beside directory and accounts: which day it is, since when people are missing, and
//! what the last apply left behind.

use crate::ldap::identity::Identity;
use jiff::civil::Date;
use std::collections::{BTreeMap, BTreeSet};

/// Today, and what earlier runs left behind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Memory {
    /// The day of this run.
    pub today: Date,
    /// By link: the day on which an apply first found that the person is no candidate any more, for
    /// those whose days of grace run.
    pub missed: BTreeMap<Identity, Date>,
    /// By link: the logins of the linked accounts that there were after the last apply.
    pub known: BTreeMap<Identity, String>,
    /// The settings that select people, as the last apply had them: from name to text; none before the
    /// first.
    pub applied: Option<BTreeMap<String, String>>,
}

/// Days of grace that still run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Grace {
    /// The day on which the person was first missed.
    pub since: Date,
    /// The first day on which it would be done.
    pub until: Date,
}

impl Memory {
    /// Nobody was missed before.
    #[must_use]
    pub fn on(today: Date) -> Self {
        Self { today, missed: BTreeMap::new(), known: BTreeMap::new(), applied: None }
    }

    /// The days of grace of somebody who is missed today; none once they are over.
    #[must_use]
    pub fn grace(&self, link: &Identity, days: u32) -> Option<Grace> {
        let since = self.missed.get(link).copied().unwrap_or(self.today);
        let until = since.saturating_add(jiff::Span::new().days(i64::from(days)));
        (self.today < until).then_some(Grace { since, until })
    }

    /// The names of the settings in `selecting` that are not what the last apply had.
    #[must_use]
    pub fn changed(&self, selecting: &BTreeMap<String, String>) -> Vec<String> {
        let Some(applied) = &self.applied else { return Vec::new() };
        let names: BTreeSet<&String> = applied.keys().chain(selecting.keys()).collect();
        names.into_iter().filter(|name| applied.get(*name) != selecting.get(*name)).cloned().collect()
    }

    /// How many people were first missed on a day that has not come: a clock was, or is, wrong.
    #[must_use]
    pub fn in_future(&self) -> usize {
        self.missed.values().filter(|since| **since > self.today).count()
    }
}
