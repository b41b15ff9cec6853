//! Brakes: limits that stop an apply, not a preview.

use super::matching::Decisions;
use super::situation::{Selected, Situation};
use super::{AccountCounts, Change, ChangeKind, GroupPreview};
use crate::account::{Effect, counted_rows};
use crate::ldap::name::{Dn, short};
use crate::settings::Settings;
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
    /// Far fewer people, members or values than at the last apply.
    Shrunk,
    /// Another account is bound, or another kind of server answers, than at the last apply.
    View,
    /// Too many rows of other tables would be deleted together with accounts.
    Cascades,
    /// The first apply of the settings takes away accounts that are linked already.
    First,
}

impl BrakeKind {
    /// All brakes.
    pub const ALL: [Self; 12] = [
        Self::Removals,
        Self::Fewest,
        Self::Seats,
        Self::SettingsChanged,
        Self::Reading,
        Self::Clock,
        Self::Memberships,
        Self::Nobody,
        Self::Shrunk,
        Self::View,
        Self::Cascades,
        Self::First,
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
            Self::Shrunk => "shrunk",
            Self::View => "view",
            Self::Cascades => "cascades",
            Self::First => "first",
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
    /// The names behind the figure: the settings that changed, the intakes and groups without people, the counts that
    /// fell, the differences in view.
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
            BrakeKind::Shrunk => format!("far less is seen than before: {}", self.which.join("; ")),
            BrakeKind::View => format!("the directory is {}", self.which.join("; ")),
            BrakeKind::Cascades => format!(
                "{} of other tables would be deleted together with accounts, {limit} are allowed: {}",
                counted("row", "rows"),
                self.which.join("; ")
            ),
            BrakeKind::First => format!(
                "the first apply of these settings would suspend or remove {}",
                counted("account that is linked already", "accounts that are linked already")
            ),
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
    decisions: &Decisions,
    unseated: &[String],
    counts: &AccountCounts,
) -> Vec<Brake> {
    let Situation { settings, accounts, memory, .. } = situation;
    let leaves = |change: &&Change| matches!(change.kind(), ChangeKind::Remove | ChangeKind::Suspend);
    let leaving = wide(decisions.changes.iter().filter(leaves).count());
    let linked = accounts.iter().filter(|account| account.link.is_some()).count();
    let removals = settings.brakes.leaving(wide(linked));
    let candidates = wide(parts.iter().map(|part| part.selection.candidates.len()).sum());
    let gaps = parts.iter().flat_map(|part| part.reading.gaps()).filter(|gap| !gap.is_fall);
    let gaps = wide(gaps.count());
    let (future, active) = (wide(memory.in_future()), wide(counts.active_after));
    let is_watched = settings.brakes.settings_changed;
    let changed = if is_watched { memory.changed(&settings.selecting()) } else { Vec::new() };
    let of_lists = [
        (BrakeKind::SettingsChanged, changed),
        (BrakeKind::Nobody, parts.iter().flat_map(empty).collect()),
        (BrakeKind::Shrunk, shrunk(settings, parts, decisions)),
        (BrakeKind::View, parts.iter().flat_map(views).collect()),
    ];
    let mut brakes: Vec<Brake> = [
        (BrakeKind::Removals, leaving, (leaving > removals).then_some(removals)),
        (BrakeKind::Fewest, candidates, settings.brakes.fewest.filter(|limit| candidates < *limit)),
        // If there are too few seats already, changes that take none are still allowed.
        (BrakeKind::Seats, active, counts.seats.filter(|_| !unseated.is_empty())),
        (BrakeKind::First, leaving, (memory.applied.is_none() && leaving > 0).then_some(0)),
        (BrakeKind::Reading, gaps, (gaps > 0).then_some(0)),
        (BrakeKind::Clock, future, (future > 0).then_some(0)),
    ]
    .into_iter()
    .filter_map(|(kind, figure, limit)| Some(Brake { kind, figure, limit: limit?, which: Vec::new() }))
    .collect();
    let of_lists = of_lists.into_iter().filter(|(_, which)| !which.is_empty());
    brakes.extend(of_lists.map(|(kind, which)| Brake { kind, figure: wide(which.len()), limit: 0, which }));
    brakes.extend(cascades(settings, &decisions.changes));
    brakes.sort_by_key(|brake| BrakeKind::ALL.iter().position(|kind| *kind == brake.kind));
    brakes
}

/// The brake on rows of other tables that removals delete.
fn cascades(settings: &Settings, changes: &[Change]) -> Option<Brake> {
    let (mut figure, mut which) = (0, Vec::new());
    for change in changes.iter().filter(|change| change.kind() == ChangeKind::Remove) {
        let dependents = change.departure().map(|departure| departure.dependents.as_slice());
        let deleted = || dependents.into_iter().flatten().filter(|rows| rows.effect == Effect::Deleted);
        let rows: u64 = deleted().map(|dependents| dependents.rows).sum();
        if rows > 0 {
            figure += rows;
            which.push(format!("{}: {}", change.login, counted_rows(deleted())));
        }
    }
    let limit = settings.brakes.cascades;
    (figure > limit).then_some(Brake { kind: BrakeKind::Cascades, figure, limit, which })
}

/// The counts that fell to nothing, or further than the settings tolerate, and the fields that would lose values.
fn shrunk(settings: &Settings, parts: &[Selected<'_>], decisions: &Decisions) -> Vec<String> {
    let mut words = Vec::new();
    for Selected { reading, .. } in parts {
        words.extend(reading.gaps().iter().filter(|gap| gap.is_fall).map(|gap| gap.part.clone()));
        let pair = reading.footprint().zip(reading.footprint_before());
        if let Some((now, before)) = pair.filter(|_| reading.gaps().iter().all(|gap| gap.is_fall)) {
            let falls = now.falls(before).into_iter();
            let falls = falls.filter(|fall| !fall.is_to_nothing() && fall.is_beyond(settings.brakes.shrunk));
            words.extend(falls.map(|fall| fall.in_words()));
        }
    }
    words.extend(decisions.emptied.iter().cloned());
    words
}

/// Differences in how an intake's directory is seen: the bind account, the kind of server.
fn views(part: &Selected<'_>) -> Vec<String> {
    let pair = part.reading.footprint().zip(part.reading.footprint_before());
    pair.map(|(now, before)| now.views(before)).unwrap_or_default()
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
    let limit = settings.brakes.memberships?.of(wide(groups.memberships));
    let figure = wide(groups.leaving);
    (figure > limit).then(|| Brake { kind: BrakeKind::Memberships, figure, limit, which: Vec::new() })
}

fn wide(count: usize) -> u64 {
    u64::try_from(count).unwrap_or(u64::MAX)
}
