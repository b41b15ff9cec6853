//! Brakes: limits that stop an apply, not a preview.

use super::situation::{Selected, Situation};
use super::{AccountCounts, Change, ChangeKind, GroupPreview};
use crate::settings::{Removals, Settings};
use crate::words::counted;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// One of the limits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum BrakeKind {
    /// Too many accounts would be removed or suspended.
    Removals,
    /// Too few people would be in.
    Fewest,
    /// More accounts would be in use than there are seats.
    Seats,
    /// The settings that select people are not those of the last apply.
    SettingsChanged,
    /// The reading is not whole.
    Reading,
    /// Somebody was first missed on a day that has not come yet.
    Clock,
    /// Too many people would leave the application's groups.
    Memberships,
}

impl BrakeKind {
    /// Every brake there is.
    pub const ALL: [Self; 7] = [
        Self::Removals,
        Self::Fewest,
        Self::Seats,
        Self::SettingsChanged,
        Self::Reading,
        Self::Clock,
        Self::Memberships,
    ];

    /// Its name in the settings, and for `--release`.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Removals => "removals",
            Self::Fewest => "fewest",
            Self::Seats => "seats",
            Self::SettingsChanged => "settings_changed",
            Self::Reading => "reading",
            Self::Clock => "clock",
            Self::Memberships => "memberships",
        }
    }
}

impl fmt::Display for BrakeKind {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.pad(self.name())
    }
}

/// A name that no brake has.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("there is no brake {0}")]
pub struct UnknownBrake(pub String);

impl FromStr for BrakeKind {
    type Err = UnknownBrake;

    fn from_str(name: &str) -> Result<Self, UnknownBrake> {
        let found = Self::ALL.into_iter().find(|kind| kind.name() == name);
        found.ok_or_else(|| UnknownBrake(name.to_owned()))
    }
}

/// A limit that is passed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Brake {
    /// Which limit.
    #[serde(rename = "name")]
    pub kind: BrakeKind,
    /// What there would be.
    pub figure: u64,
    /// What the settings allow.
    pub limit: u64,
    /// The settings that changed, by name; for [`BrakeKind::SettingsChanged`] alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub which: Vec<String>,
}

impl Brake {
    /// What there would be, and what is allowed.
    #[must_use]
    pub fn in_words(&self) -> String {
        let Self { figure, limit, .. } = self;
        let counted = |one, many| counted(usize::try_from(*figure).unwrap_or(usize::MAX), one, many);
        match self.kind {
            BrakeKind::Removals => {
                format!("{figure} accounts would be removed or suspended, {limit} are allowed")
            }
            BrakeKind::Fewest => {
                format!("only {figure} people would be in, at least {limit} are expected")
            }
            BrakeKind::Seats => format!("{figure} accounts would be in use, there are {limit} seats"),
            BrakeKind::SettingsChanged => format!(
                "the settings that select people are not those of the last apply: {}",
                self.which.join(", ")
            ),
            BrakeKind::Reading => {
                format!("{} not read to the end", counted("part was", "parts were"))
            }
            BrakeKind::Clock => format!(
                "{} first missed on a day that has not come yet: a clock is wrong, here or when that was written",
                counted("person was", "people were")
            ),
            BrakeKind::Memberships => format!(
                "{} taken out of groups, {limit} are allowed",
                counted("membership would be", "memberships would be")
            ),
        }
    }
}

/// The brakes on accounts that hold.
pub(super) fn brakes(
    situation: Situation<'_>,
    parts: &[Selected<'_>],
    changes: &[Change],
    unseated: &[String],
    counts: &AccountCounts,
) -> Vec<Brake> {
    let Situation { settings, accounts, memory, .. } = situation;
    let leaves = |change: &&Change| matches!(change.kind, ChangeKind::Remove | ChangeKind::Suspend);
    let leaving = wide(changes.iter().filter(leaves).count());
    let linked = accounts.iter().filter(|account| account.link.is_some()).count();
    let removals = settings.brakes.removals.map(|removals| most(removals, linked));
    let candidates = wide(parts.iter().map(|part| part.selection.candidates.len()).sum());
    let gaps = wide(parts.iter().map(|part| part.reading.gaps().len()).sum());
    let (future, active) = (wide(memory.in_future()), wide(counts.active_after));
    let is_watched = settings.brakes.settings_changed;
    let changed = if is_watched { memory.changed(&settings.selecting()) } else { Vec::new() };
    let edited = wide(changed.len());
    let mut brakes: Vec<Brake> = [
        (BrakeKind::Removals, leaving, removals.filter(|limit| leaving > *limit)),
        (BrakeKind::Fewest, candidates, settings.brakes.fewest.filter(|limit| candidates < *limit)),
        // Where there are too few seats already, whoever takes none more may be changed.
        (BrakeKind::Seats, active, counts.seats.filter(|_| !unseated.is_empty())),
        (BrakeKind::SettingsChanged, edited, (edited > 0).then_some(0)),
        (BrakeKind::Reading, gaps, (gaps > 0).then_some(0)),
        (BrakeKind::Clock, future, (future > 0).then_some(0)),
    ]
    .into_iter()
    .filter_map(|(kind, figure, limit)| Some(Brake { kind, figure, limit: limit?, which: Vec::new() }))
    .collect();
    if let Some(brake) = brakes.iter_mut().find(|brake| brake.kind == BrakeKind::SettingsChanged) {
        brake.which = changed;
    }
    brakes
}

/// The brake on people who would leave the application's groups.
pub(super) fn memberships(settings: &Settings, groups: &GroupPreview) -> Option<Brake> {
    let limit = most(settings.brakes.memberships?, groups.memberships);
    let figure = wide(groups.leaving);
    (figure > limit).then(|| Brake { kind: BrakeKind::Memberships, figure, limit, which: Vec::new() })
}

fn wide(count: usize) -> u64 {
    u64::try_from(count).unwrap_or(u64::MAX)
}

/// How many of `of` a limit allows.
#[expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "a share of a count: both far below 2^52, and not negative"
)]
fn most(limit: Removals, of: usize) -> u64 {
    match limit {
        Removals::Number(number) => number,
        Removals::Percent(percent) => (of as f64 * percent / 100.0).floor() as u64,
    }
}
