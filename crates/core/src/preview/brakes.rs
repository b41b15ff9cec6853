//! Brakes: limits that stop an apply, not a preview.

use super::situation::{Selected, Situation};
use super::{AccountCounts, Change, ChangeKind, GroupPreview};
use crate::ldap::name::{Dn, short};
use crate::settings::{Removals, Settings};
use crate::words::counted;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// The kinds of brake.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum BrakeKind {
    /// Too many accounts would be removed or suspended.
    Removals,
    /// Too few people selected.
    Fewest,
    /// More accounts would be active than there are seats.
    Seats,
    /// The settings that select people have changed since the last apply.
    SettingsChanged,
    /// The reading is not whole.
    Reading,
    /// A person was first missed on a day in the future.
    Clock,
    /// Too many memberships in the application's groups would be lost.
    Memberships,
    /// An intake finds nobody, or a group that selects people has no member.
    Nobody,
}

impl BrakeKind {
    /// All brakes.
    pub const ALL: [Self; 8] = [
        Self::Removals,
        Self::Fewest,
        Self::Seats,
        Self::SettingsChanged,
        Self::Reading,
        Self::Clock,
        Self::Memberships,
        Self::Nobody,
    ];

    /// The name in the settings and for `--release`.
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
            Self::Nobody => "nobody",
        }
    }
}

impl fmt::Display for BrakeKind {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.pad(self.name())
    }
}

/// A name that is not a brake's.
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

/// A limit that is exceeded.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Brake {
    /// The kind of limit.
    #[serde(rename = "name")]
    pub kind: BrakeKind,
    /// The figure that the apply would reach.
    pub figure: u64,
    /// The limit in the settings.
    pub limit: u64,
    /// The settings that changed, by name, or the intakes and groups without people; only for
    /// [`BrakeKind::SettingsChanged`] and [`BrakeKind::Nobody`].
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub which: Vec<String>,
}

impl Brake {
    /// The figure and the limit, in words.
    #[must_use]
    pub fn in_words(&self) -> String {
        let Self { figure, limit, .. } = self;
        let counted = |one, many| counted(usize::try_from(*figure).unwrap_or(usize::MAX), one, many);
        match self.kind {
            BrakeKind::Removals => {
                format!("{figure} accounts would be removed or suspended, {limit} are allowed")
            }
            BrakeKind::Fewest => {
                format!("only {figure} people are selected, at least {limit} are expected")
            }
            BrakeKind::Seats => format!("{figure} accounts would be active, there are {limit} seats"),
            BrakeKind::SettingsChanged => format!(
                "settings that select people have changed since the last apply: {}",
                self.which.join(", ")
            ),
            BrakeKind::Reading => {
                format!("{} not read to the end", counted("part was", "parts were"))
            }
            BrakeKind::Clock => format!(
                "{} first missed on a day in the future: a clock is wrong, or was at the time",
                counted("person was", "people were")
            ),
            BrakeKind::Nobody => {
                format!("nobody is in {}: the bind account may not see them", self.which.join(", "))
            }
            BrakeKind::Memberships => format!(
                "{} lost, {limit} are allowed",
                counted("membership would be", "memberships would be")
            ),
        }
    }
}

/// The brakes on accounts that apply.
pub(super) fn brakes(
    situation: Situation<'_>,
    parts: &[Selected<'_>],
    changes: &[Change],
    unseated: &[String],
    counts: &AccountCounts,
) -> Vec<Brake> {
    let Situation { settings, accounts, memory, .. } = situation;
    let leaves = |change: &&Change| matches!(change.kind(), ChangeKind::Remove | ChangeKind::Suspend);
    let leaving = wide(changes.iter().filter(leaves).count());
    let linked = accounts.iter().filter(|account| account.link.is_some()).count();
    let removals = settings.brakes.removals.map(|removals| most(removals, linked));
    let candidates = wide(parts.iter().map(|part| part.selection.candidates.len()).sum());
    let gaps = wide(parts.iter().map(|part| part.reading.gaps().len()).sum());
    let (future, active) = (wide(memory.in_future()), wide(counts.active_after));
    let is_watched = settings.brakes.settings_changed;
    let changed = if is_watched { memory.changed(&settings.selecting()) } else { Vec::new() };
    let edited = wide(changed.len());
    let empty: Vec<String> = parts.iter().flat_map(empty).collect();
    let nobody = wide(empty.len());
    let mut brakes: Vec<Brake> = [
        (BrakeKind::Removals, leaving, removals.filter(|limit| leaving > *limit)),
        (BrakeKind::Fewest, candidates, settings.brakes.fewest.filter(|limit| candidates < *limit)),
        // If there are too few seats already, changes that take none are still allowed.
        (BrakeKind::Seats, active, counts.seats.filter(|_| !unseated.is_empty())),
        (BrakeKind::SettingsChanged, edited, (edited > 0).then_some(0)),
        (BrakeKind::Reading, gaps, (gaps > 0).then_some(0)),
        (BrakeKind::Clock, future, (future > 0).then_some(0)),
        (BrakeKind::Nobody, nobody, (nobody > 0).then_some(0)),
    ]
    .into_iter()
    .filter_map(|(kind, figure, limit)| Some(Brake { kind, figure, limit: limit?, which: Vec::new() }))
    .collect();
    for (kind, which) in [(BrakeKind::SettingsChanged, changed), (BrakeKind::Nobody, empty)] {
        brakes.iter_mut().filter(|brake| brake.kind == kind).for_each(|brake| brake.which.clone_from(&which));
    }
    brakes
}

/// The intake, or those of its groups, that have nobody; none if it was not read whole, since it is held anyway.
fn empty(part: &Selected<'_>) -> Vec<String> {
    let Selected { intake, reading, .. } = part;
    if reading.whole().is_none() {
        return Vec::new();
    }
    if reading.people().is_empty() {
        return vec![format!("the intake {}", intake.name)];
    }
    let graph = reading.graph();
    let has_nobody = |group: &&Dn| {
        let reach = graph.reach([&group.key()]);
        let mut keys = (0..reading.people().len()).filter_map(|person| reading.key(person));
        !keys.any(|key| reach.contains(graph, key))
    };
    intake
        .groups
        .iter()
        .filter(has_nobody)
        .map(|group| format!("the group {}", short(&group.to_string())))
        .collect()
}

/// The brake on memberships in the application's groups.
pub(super) fn memberships(settings: &Settings, groups: &GroupPreview) -> Option<Brake> {
    let limit = most(settings.brakes.memberships?, groups.memberships);
    let figure = wide(groups.leaving);
    (figure > limit).then(|| Brake { kind: BrakeKind::Memberships, figure, limit, which: Vec::new() })
}

fn wide(count: usize) -> u64 {
    u64::try_from(count).unwrap_or(u64::MAX)
}

/// The number out of `of` that a limit allows.
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
