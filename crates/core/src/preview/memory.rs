//! What a run knows beside directory and accounts: which day it is, and since when people are missing.

use crate::identity::Identity;
use jiff::civil::Date;
use std::collections::BTreeMap;

/// Today, and the day on which each person was first missed whose days of grace run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Memory {
    /// The day of this run.
    pub today: Date,
    /// By link: the day on which a run first found that the person is no candidate any more.
    pub missed: BTreeMap<Identity, Date>,
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
        Self { today, missed: BTreeMap::new() }
    }

    /// The days of grace of somebody who is missed today; none once they are over.
    #[must_use]
    pub fn grace(&self, link: &Identity, days: u32) -> Option<Grace> {
        let since = self.missed.get(link).copied().unwrap_or(self.today);
        let until = since.saturating_add(jiff::Span::new().days(i64::from(days)));
        (self.today < until).then_some(Grace { since, until })
    }

    /// How many people were first missed on a day that has not come: a clock was, or is, wrong.
    #[must_use]
    pub fn in_future(&self) -> usize {
        self.missed.values().filter(|since| **since > self.today).count()
    }
}
