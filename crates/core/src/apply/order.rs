//! The order of edits for a store in which logins must be unique at every moment: whoever gives up a login goes
//! before whoever takes it.

use super::{Edit, Standing};
use crate::account::{Account, folded};
use foldhash::{HashMap, HashMapExt as _};
use std::borrow::Cow;

/// The edits that are ready, by index, in groups to be made one after the other. A group of several is a ring, in
/// which each account takes the login that the next one gives up; its first account must be parked under a temporary
/// login before the last edit is made.
///
/// Time and memory are linear in edits and accounts. Independent edits keep their order.
#[must_use]
pub fn order(edits: &[Edit], standings: &[Standing], accounts: &[Account]) -> Vec<Vec<usize>> {
    let left = |place: usize| -> Option<Cow<'_, str>> {
        let Some(Standing::Ready(Some(at))) = standings.get(place) else { return None };
        let there = folded(&accounts.get(*at)?.login);
        let after = edits.get(place)?.after.as_ref().map(|after| folded(&after.login));
        (after.as_ref() != Some(&there)).then_some(there)
    };
    let places = || (0..edits.len()).filter(|place| standings.get(*place).is_some_and(Standing::is_ready));
    let leaving: HashMap<Cow<'_, str>, usize> =
        places().filter_map(|place| Some((left(place)?, place))).collect();
    // Each edit waits for at most one other: the one that gives up the login it takes.
    let waits_for = |place: usize| -> Option<usize> {
        let taken = folded(&edits.get(place)?.after.as_ref()?.login);
        leaving.get(&taken).copied().filter(|other| *other != place)
    };
    let mut groups = Vec::new();
    let mut is_placed = vec![false; edits.len()];
    for place in places() {
        if waits_for(place).is_none() && is_placed.get(place) == Some(&false) {
            if let Some(slot) = is_placed.get_mut(place) {
                *slot = true;
            }
            groups.push(vec![place]);
            continue;
        }
        // The chain of edits that must go first, starting with this one.
        let mut chain: Vec<usize> = Vec::new();
        let mut on_chain: HashMap<usize, usize> = HashMap::new();
        let mut next = Some(place);
        let mut ring = None;
        while let Some(one) = next.filter(|one| is_placed.get(*one) == Some(&false)) {
            if let Some(from) = on_chain.get(&one) {
                ring = Some(*from);
                break;
            }
            on_chain.insert(one, chain.len());
            chain.push(one);
            next = waits_for(one);
        }
        for one in &chain {
            if let Some(slot) = is_placed.get_mut(*one) {
                *slot = true;
            }
        }
        if let Some(from) = ring {
            groups.push(chain.split_off(from));
        }
        groups.extend(chain.into_iter().rev().map(|one| vec![one]));
    }
    groups
}
