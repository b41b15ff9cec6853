//! The brakes that apply when only some edits of a preview are carried out.

use super::Edit;
use crate::account::{Account, State};
use crate::preview::{Brake, BrakeKind, ChangeKind};
use crate::settings::Settings;
use serde::{Deserialize, Serialize};

/// The application's seats: each active account takes one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seats {
    /// The number of seats.
    pub limit: u64,
    /// Seats taken before the edits.
    pub taken: u64,
}

/// The brakes of a part of a preview: `whole` are those of the whole, `edits` the edits that were kept.
///
/// Removals and seats are counted anew: if a removal was left out, an import may find no seat. Limits on the people
/// found still apply, since they are about the reading. Groups are not edited.
#[must_use]
pub fn brakes_of_part(whole: &[Brake], seats: Option<Seats>, edits: &[Edit]) -> Vec<Brake> {
    let leaves = |edit: &&Edit| matches!(edit.kind, ChangeKind::Remove | ChangeKind::Suspend);
    let leaving = u64::try_from(edits.iter().filter(leaves).count()).unwrap_or(u64::MAX);
    let is_removed = |which: &&String| {
        let removed = edits.iter().filter(|edit| edit.kind == ChangeKind::Remove);
        removed
            .map(Edit::login)
            .any(|login| which.strip_prefix(login).is_some_and(|rest| rest.starts_with(": ")))
    };
    let held = whole.iter().filter_map(|brake| match brake.kind {
        BrakeKind::Removals => (leaving > brake.limit).then(|| Brake { figure: leaving, ..brake.clone() }),
        BrakeKind::First => (leaving > 0).then(|| Brake { figure: leaving, ..brake.clone() }),
        BrakeKind::Cascades => {
            let which: Vec<String> = brake.which.iter().filter(is_removed).cloned().collect();
            (!which.is_empty()).then(|| Brake { which, ..brake.clone() })
        }
        BrakeKind::Seats | BrakeKind::Memberships => None,
        BrakeKind::Fewest
        | BrakeKind::SettingsChanged
        | BrakeKind::Reading
        | BrakeKind::Clock
        | BrakeKind::Nobody
        | BrakeKind::Shrunk
        | BrakeKind::View => Some(brake.clone()),
    });
    let mut brakes: Vec<Brake> = held.collect();
    brakes.extend(seats.and_then(|seats| too_few(seats, edits)));
    brakes
}

/// The brakes on undoing a run: the accounts that go away again, and the seats of those that come back.
#[must_use]
pub fn brakes_of_undo(
    settings: &Settings,
    accounts: &[Account],
    edits: &[Edit],
) -> (Vec<Brake>, Option<Seats>) {
    let wide = |count: usize| u64::try_from(count).unwrap_or(u64::MAX);
    let linked = accounts.iter().filter(|account| account.link.is_some()).count();
    let limit = settings.brakes.leaving(wide(linked));
    let all = Brake { kind: BrakeKind::Removals, figure: 0, limit, which: Vec::new() };
    let taken = wide(accounts.iter().filter(|account| account.state == State::Active).count());
    let seats = settings.accounts.seats.map(|limit| Seats { limit, taken });
    let mut brakes = brakes_of_part(&[all], seats, edits);
    // Too few seats already are no reason against taking something back.
    brakes.retain(|brake| brake.kind != BrakeKind::Seats || brake.figure > taken);
    (brakes, seats)
}

/// The brake on seats: an edit takes one, and there are too few.
fn too_few(seats: Seats, edits: &[Edit]) -> Option<Brake> {
    let is_seated = |account: Option<&Account>| account.is_some_and(|one| one.state == State::Active);
    let (mut figure, mut does_one_come) = (seats.taken, false);
    for edit in edits {
        match (is_seated(edit.before.as_ref()), is_seated(edit.after.as_ref())) {
            (false, true) => (figure, does_one_come) = (figure + 1, true),
            (true, false) => figure = figure.saturating_sub(1),
            _ => {}
        }
    }
    let is_held = does_one_come && figure > seats.limit;
    is_held.then(|| Brake { kind: BrakeKind::Seats, figure, limit: seats.limit, which: Vec::new() })
}
