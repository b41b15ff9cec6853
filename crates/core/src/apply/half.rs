//! Units of an interrupted run of which only a part was made, in a store that cannot make a unit at once.

use super::{Edit, Plan};
use crate::account::Account;
use crate::ldap::identity::Identity;
use foldhash::HashMap;

/// The value that stands in for that of a unique field while another account takes it
/// ([`Step::PutAside`](super::Step::PutAside)): no other account has it, nothing can be delivered to it if it was an
/// address, and it is known again after a crash.
#[must_use]
pub fn aside(account: &Account, field: &str) -> String {
    let link = account.link.as_ref().map_or("aside", Identity::as_str);
    let short: String = link.chars().filter(char::is_ascii_alphanumeric).take(8).collect();
    format!("{}.{short}", account.value(field))
}

/// The progress of an edit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Progress {
    /// Not begun.
    Before,
    /// A value was put aside.
    Aside,
    /// Made.
    After,
}

/// The edits of an interrupted run that complete units of which a part was made: by index, each as an edit of the list
/// as it is now. A unit in which somebody has changed an account since is left as it is.
///
/// `unique` names the fields whose values must be unique; logins and links always are.
#[must_use]
pub fn half_made(edits: &[Edit], accounts: &[Account], unique: &[impl AsRef<str>]) -> Vec<(usize, Edit)> {
    let by_link: HashMap<&Identity, usize> =
        accounts.iter().enumerate().filter_map(|(at, one)| Some((one.link.as_ref()?, at))).collect();
    let find = |edit: &Edit| {
        let (before, after) = (edit.before.as_ref()?, edit.after.as_ref()?);
        let mut links = [before, after].into_iter().filter_map(|side| side.link.as_ref());
        links.find_map(|link| by_link.get(link).copied())
    };
    let mut was = accounts.to_vec();
    let mut states: Vec<Option<(usize, Progress)>> = Vec::with_capacity(edits.len());
    for edit in edits {
        let state = find(edit).and_then(|at| Some((at, progress(edit, accounts.get(at)?, unique)?)));
        if let (Some((at, Progress::Aside | Progress::After)), Some(before)) = (state, &edit.before)
            && let Some(account) = was.get_mut(at)
        {
            edit.changed().for_each(|name| account.set(name, before.get(name)));
        }
        states.push(state);
    }
    let plan = Plan::of(edits, &was, unique);
    let mut half = Vec::new();
    for unit in plan.units().filter(|unit| unit.edits.len() > 1) {
        let states: Option<Vec<(usize, usize, Progress)>> =
            unit.edits.iter().map(|place| states.get(*place)?.map(|(at, how)| (*place, at, how))).collect();
        let Some(states) = states else { continue };
        let is_begun = states.iter().any(|(_, _, how)| *how != Progress::Before);
        for (place, at, _) in states.iter().filter(|(_, _, how)| is_begun && *how != Progress::After) {
            if let (Some(edit), Some(there)) = (edits.get(*place), accounts.get(*at)) {
                half.push((*place, from_now(edit, there)));
            }
        }
    }
    half.sort_by_key(|(place, _)| *place);
    half
}

/// The progress of an edit; `None` if somebody else has changed the account.
fn progress(edit: &Edit, there: &Account, unique: &[impl AsRef<str>]) -> Option<Progress> {
    let (before, after) = (edit.before.as_ref()?, edit.after.as_ref()?);
    if edit.changed().all(|name| there.value(name) == after.value(name)) {
        return Some(Progress::After);
    }
    let mut is_aside = false;
    for name in edit.changed().filter(|name| there.value(name) != before.value(name)) {
        let is_unique = name == "login" || unique.iter().any(|one| one.as_ref() == name);
        if !is_unique || there.value(name) != aside(before, name) {
            return None;
        }
        is_aside = true;
    }
    Some(if is_aside { Progress::Aside } else { Progress::Before })
}

/// The same edit from an account as it is now.
fn from_now(edit: &Edit, there: &Account) -> Edit {
    let mut before = edit.before.clone();
    if let Some(before) = &mut before {
        edit.changed().for_each(|name| before.set(name, there.get(name)));
    }
    Edit { before, ..edit.clone() }
}
