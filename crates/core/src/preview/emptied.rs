//! Fields and roles that so many people would lose at once that what decides them was probably not seen.
//!
//! The last apply remembers how many people had each attribute. Where it remembers nothing, the accounts do.

use super::situation::{Chosen, Selected};
use crate::account::Account;
use crate::reading::{Counted, Fall, Footprint};
use crate::settings::rules::{LIST, Write};
use crate::settings::{Intake, Removals};
use std::collections::HashSet;

/// Fields that an intake does not empty, and roles that it does not take away, by their numbers.
#[derive(Default)]
struct Kept {
    fields: HashSet<usize>,
    roles: HashSet<usize>,
}

/// The fields and roles that intakes leave as they are, in the order of the intakes.
#[derive(Default)]
pub(super) struct Emptied {
    intakes: Vec<Kept>,
    /// The counts, in words.
    pub(super) words: Vec<String>,
}

/// The number of accounts with a value, and of those that would lose it.
#[derive(Clone, Copy, Default)]
struct Loss {
    had: u64,
    lost: u64,
}

impl Loss {
    fn add(&mut self, is_lost: bool) {
        self.had += 1;
        self.lost += u64::from(is_lost);
    }

    fn is_beyond(self, tolerance: Removals) -> bool {
        let what = Counted::Attribute("");
        Fall { what, before: self.had, now: self.had - self.lost }.is_beyond(tolerance)
    }
}

impl Emptied {
    /// Counts what the people with these accounts would lose.
    pub(super) fn of<'a>(
        parts: &[Selected<'a>],
        theirs: impl Iterator<Item = (Chosen<'a>, &'a Account)>,
        tolerance: Removals,
    ) -> Self {
        // The reading of one person was held against the footprint by itself.
        if parts.iter().any(|part| part.reading.is_of_one()) {
            return Self::default();
        }
        let mut losses: Vec<(Vec<Loss>, Vec<Loss>)> = parts
            .iter()
            .map(|part| {
                let Intake { fields, roles, .. } = part.intake;
                (vec![Loss::default(); fields.len()], vec![Loss::default(); roles.len()])
            })
            .collect();
        for (chosen, account) in theirs {
            let at = parts.iter().position(|part| std::ptr::eq(part.intake, chosen.0.intake));
            if let Some((fields, roles)) = at.and_then(|at| losses.get_mut(at)) {
                count(chosen, account, fields, roles);
            }
        }
        let mut emptied = Self::default();
        for (part, (fields, roles)) in parts.iter().zip(losses) {
            emptied.judge(part, &fields, &roles, tolerance);
        }
        emptied
    }

    fn judge(&mut self, part: &Selected<'_>, fields: &[Loss], roles: &[Loss], tolerance: Removals) {
        let mut kept = Kept::default();
        let before = part.reading.footprint_before();
        for (at, ((name, rule), loss)) in part.intake.fields.iter().zip(fields).enumerate() {
            let from = rule.from_attributes();
            let fell = before.filter(|before| knows_all(before, &from));
            let is_kept = match fell {
                Some(before) => fell_far(part, before, &from, tolerance),
                None => loss.is_beyond(tolerance),
            };
            if is_kept && loss.lost > 0 {
                kept.fields.insert(at);
                self.words.push(format!("{name}: {} of {} accounts would lose it", loss.lost, loss.had));
            }
        }
        for (at, (role, loss)) in part.intake.roles.iter().zip(roles).enumerate() {
            if before.is_none() && loss.is_beyond(tolerance) {
                kept.roles.insert(at);
                let name = &role.name;
                self.words.push(format!("role {name}: {} of {} accounts would lose it", loss.lost, loss.had));
            }
        }
        self.intakes.push(kept);
    }

    fn kept(&self, parts: &[Selected<'_>], intake: &Intake) -> Option<&Kept> {
        self.intakes.get(parts.iter().position(|part| std::ptr::eq(part.intake, intake))?)
    }

    /// True for a field whose value nobody loses.
    pub(super) fn keeps_field(&self, parts: &[Selected<'_>], intake: &Intake, field: usize) -> bool {
        !self.words.is_empty() && self.kept(parts, intake).is_some_and(|kept| kept.fields.contains(&field))
    }

    /// True for a role that nobody loses.
    pub(super) fn keeps_role(&self, parts: &[Selected<'_>], intake: &Intake, role: usize) -> bool {
        !self.words.is_empty() && self.kept(parts, intake).is_some_and(|kept| kept.roles.contains(&role))
    }
}

/// True if the last apply counted the people with each of these attributes.
fn knows_all(before: &Footprint, names: &[&str]) -> bool {
    let is_known = |name: &&str| before.attributes.keys().any(|known| known.eq_ignore_ascii_case(name));
    !names.is_empty() && names.iter().all(is_known)
}

/// True if far fewer people have one of these attributes than at the last apply.
fn fell_far(part: &Selected<'_>, before: &Footprint, names: &[&str], tolerance: Removals) -> bool {
    let falls = part.reading.footprint().map(|now| now.falls(before)).unwrap_or_default();
    let is_one = |what: Counted<'_>| match what {
        Counted::Attribute(name) => names.iter().any(|wanted| wanted.eq_ignore_ascii_case(name)),
        _ => false,
    };
    falls.iter().any(|fall| is_one(fall.what) && fall.is_beyond(tolerance))
}

fn count(chosen: Chosen<'_>, account: &Account, fields: &mut [Loss], roles: &mut [Loss]) {
    let (part, candidate) = chosen;
    for (at, ((name, rule), loss)) in part.intake.fields.iter().zip(fields).enumerate() {
        if rule.write == Write::Always && !account.field(name).is_empty() {
            loss.add(candidate.proposal.value(at).is_empty() && candidate.proposal.open(at).is_none());
        }
    }
    if roles.is_empty() {
        return;
    }
    let has: Vec<&str> = account.field("roles").split(LIST).map(str::trim).collect();
    for (at, (role, loss)) in part.intake.roles.iter().zip(roles).enumerate() {
        if has.contains(&role.name.as_str()) {
            loss.add(candidate.proposal.role(at) == Some(false));
        }
    }
}
