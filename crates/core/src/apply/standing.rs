//! Whether an edit can still be made, checked before anything is written.

use super::Edit;
use crate::account::{Account, folded};
use crate::ldap::identity::Identity;
use crate::settings::rules::LIST;
use foldhash::quality::RandomState;
use foldhash::{HashMap, HashMapExt as _};
use serde::Serialize;
use smallvec::SmallVec;
use smol_str::SmolStr;
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::hash::BuildHasher as _;

/// An edit compared with a list of accounts.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Standing {
    /// It can be made, to the account at this index; `None` for a new account.
    Ready(Option<usize>),
    /// It has been made already: the list has its result.
    Made,
    /// The account changed meanwhile, in words; the edit is left out.
    Stale(String),
}

impl Standing {
    /// Whether it can be made.
    #[must_use]
    pub fn is_ready(&self) -> bool {
        matches!(self, Self::Ready(_))
    }
}

/// The outcome of one edit. Exhaustive on purpose: code that records outcomes must handle every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase", tag = "outcome", content = "reason")]
pub enum Outcome {
    /// It was made.
    Done,
    /// It had been made already.
    Made,
    /// The account changed meanwhile, in words; the edit was left out.
    Left(String),
    /// The store refused it, with its message.
    Failed(String),
}

impl From<Standing> for Outcome {
    /// The outcome once every edit that is ready has been made.
    fn from(standing: Standing) -> Self {
        match standing {
            Standing::Made => Self::Made,
            Standing::Stale(words) => Self::Left(words),
            _ => Self::Done,
        }
    }
}

/// A list of accounts, indexed.
struct List<'a> {
    accounts: &'a [Account],
    by_link: HashMap<&'a Identity, usize>,
    by_login: HashMap<Cow<'a, str>, SmallVec<[usize; 1]>>,
}

/// Whether each edit can be made. `unique` names the fields whose values must be unique (logins and links always
/// are): edits that would give two accounts one value are left out.
#[must_use]
pub fn standings(edits: &[Edit], accounts: &[Account], unique: &[impl AsRef<str>]) -> Vec<Standing> {
    let list = List {
        accounts,
        by_link: accounts.iter().enumerate().filter_map(|(at, one)| Some((one.link.as_ref()?, at))).collect(),
        by_login: by_login(accounts),
    };
    let mut standings: Vec<Standing> = edits.iter().map(|edit| list.judge(edit)).collect();
    let names = unique_names(unique);
    // Leaving an edit out returns a value that another edit may have been about to take, so the check is repeated, at
    // most once for each edit.
    while leave_out_rivals(edits, accounts, &names, &mut standings) {}
    standings
}

/// The fields whose values must be unique, including `login` and `link`.
pub(super) fn unique_names(unique: &[impl AsRef<str>]) -> Vec<&str> {
    let own = ["login", "link"];
    let others = unique.iter().map(AsRef::as_ref).filter(|name| !own.contains(name));
    own.into_iter().chain(others).collect()
}

impl List<'_> {
    fn find(&self, account: &Account) -> Option<usize> {
        match &account.link {
            Some(link) => self.by_link.get(link).copied(),
            None => {
                let named = self.by_login.get(&folded(&account.login))?;
                // In some lists logins that differ by case are two.
                let is_exact =
                    |at: &&usize| self.accounts.get(**at).is_some_and(|there| there.login == account.login);
                named.iter().find(is_exact).or_else(|| named.first()).copied()
            }
        }
    }

    fn judge(&self, edit: &Edit) -> Standing {
        let at = |account: &Account| self.find(account).and_then(|at| Some((at, self.accounts.get(at)?)));
        match (&edit.before, &edit.after) {
            (None, None) => Standing::Made,
            (None, Some(after)) => match at(after) {
                Some((_, there)) if differing(after, there).is_none() => Standing::Made,
                Some((_, there)) => {
                    Standing::Stale(format!("the account {} was created meanwhile", there.login))
                }
                None => Standing::Ready(None),
            },
            (Some(before), None) => match at(before) {
                None => Standing::Made,
                Some((at, there)) => match differing(before, there) {
                    None => Standing::Ready(Some(at)),
                    Some(words) => Standing::Stale(words),
                },
            },
            (Some(before), Some(after)) => {
                let Some((at, there)) = at(before).or_else(|| at(after)) else {
                    return Standing::Stale("the account no longer exists".to_owned());
                };
                if edit.changed().all(|name| before.value(name) == there.value(name)) {
                    return Standing::Ready(Some(at));
                }
                let has = |side: &Account, name: &str| are_same(name, side, there);
                if edit.changed().all(|name| has(after, name)) {
                    return Standing::Made;
                }
                match edit.changed().find(|name| !has(before, name)) {
                    None => Standing::Ready(Some(at)),
                    Some(name) => Standing::Stale(now(name, there)),
                }
            }
        }
    }
}

/// The first difference between an account as known and as it is, in words.
fn differing(known: &Account, there: &Account) -> Option<String> {
    let names = ["login", "link", "state"].into_iter().chain(known.fields.keys().map(SmolStr::as_str));
    names.into_iter().find(|name| !are_same(name, known, there)).map(|name| changed(name, there))
}

/// Whether two accounts have the same values in a field, in any order if there are several.
#[must_use]
pub fn are_same(name: &str, one: &Account, other: &Account) -> bool {
    let (one, other) = (one.value(name), other.value(name));
    if one == other {
        return true;
    }
    let items = |list: &'_ str| -> BTreeSet<String> {
        let items = list.split(LIST).map(str::trim).filter(|item| !item.is_empty());
        items.map(str::to_owned).collect()
    };
    one.contains(LIST) && other.contains(LIST) && items(one) == items(other)
}

/// The accounts by login, in the form for comparison.
fn by_login(accounts: &[Account]) -> HashMap<Cow<'_, str>, SmallVec<[usize; 1]>> {
    let mut by_login: HashMap<Cow<'_, str>, SmallVec<[usize; 1]>> = HashMap::with_capacity(accounts.len());
    for (at, account) in accounts.iter().enumerate() {
        by_login.entry(folded(&account.login)).or_default().push(at);
    }
    by_login
}

/// Whether an edit touches a field.
fn changes(edit: &Edit, name: &str) -> bool {
    let mut sides = [&edit.before, &edit.after].into_iter().flatten();
    ["login", "link"].contains(&name) || sides.any(|side| side.fields.contains_key(name))
}

/// A field of a whole account that was changed, in words. Only a familiar one has its value: another may be secret.
pub(super) fn changed(name: &str, there: &Account) -> String {
    match name {
        "login" | "link" | "state" | "roles" | "name" | "email" => now(name, there),
        _ => format!("{name} has changed"),
    }
}

fn now(name: &str, there: &Account) -> String {
    match there.value(name) {
        "" => format!("{name} is empty now"),
        value => format!("{name} is {value} now"),
    }
}

/// The holders of a value after all edits: the edit that gives it, if any, and the login.
type Holders<'a> = SmallVec<[(Option<usize>, &'a str); 1]>;

/// The value that an edit gives a field, in the form for comparison; `None` if it does not change the field.
pub(super) fn taken<'e>(edit: &'e Edit, name: &str) -> Option<Cow<'e, str>> {
    let value = folded(edit.after.as_ref()?.value(name));
    let old = edit.before.as_ref().map(|before| before.value(name));
    (!value.is_empty() && old.is_none_or(|old| folded(old) != value)).then_some(value)
}

/// The fields in which two accounts may end up with one value, found by hashes in one pass: a field may be listed
/// without need, but none is missed.
fn doubtful<'n>(
    edits: &[Edit],
    accounts: &[Account],
    names: &[&'n str],
    standings: &[Standing],
) -> Vec<&'n str> {
    let state = RandomState::default();
    let mut given: Vec<(&str, Vec<u64>)> = names.iter().map(|name| (*name, Vec::new())).collect();
    for (edit, _) in edits.iter().zip(standings).filter(|(_, standing)| standing.is_ready()) {
        for (name, hashes) in &mut given {
            hashes.extend(taken(edit, name).map(|value| state.hash_one(value)));
        }
    }
    let mut is_doubtful = vec![false; names.len()];
    for ((_, hashes), is_doubtful) in given.iter_mut().zip(&mut is_doubtful) {
        hashes.sort_unstable();
        *is_doubtful = !hashes.is_sorted_by(|one, next| one < next);
    }
    for account in accounts {
        for ((name, hashes), is_doubtful) in given.iter().zip(&mut is_doubtful) {
            let is_given = || hashes.binary_search(&state.hash_one(folded(account.value(name)))).is_ok();
            *is_doubtful = *is_doubtful || (!hashes.is_empty() && is_given());
        }
    }
    names.iter().zip(is_doubtful).filter_map(|(name, is_doubtful)| is_doubtful.then_some(*name)).collect()
}

/// Leaves out every edit that would give an account a value that another has or gets. True if there was one.
fn leave_out_rivals(
    edits: &[Edit],
    accounts: &[Account],
    names: &[&str],
    standings: &mut [Standing],
) -> bool {
    let doubtful = doubtful(edits, accounts, names, standings);
    if doubtful.is_empty() {
        return false;
    }
    let mut of_account: HashMap<usize, usize> = HashMap::new();
    for (edit, standing) in standings.iter().enumerate() {
        if let Standing::Ready(Some(account)) = standing {
            of_account.insert(*account, edit);
        }
    }
    let mut rivals: Vec<(usize, String)> = Vec::new();
    for name in doubtful {
        // The holders of each value that an edit gives, after all edits.
        let mut given: HashMap<Cow<'_, str>, Holders<'_>> = HashMap::new();
        for (at, edit) in edits.iter().enumerate() {
            if standings.get(at).is_some_and(Standing::is_ready)
                && let Some(key) = taken(edit, name)
            {
                given.entry(key).or_default().push((Some(at), edit.login()));
            }
        }
        if given.is_empty() {
            continue;
        }
        for (at, account) in accounts.iter().enumerate() {
            let value = account.value(name);
            let Some(holders) = given.get_mut(folded(value).as_ref()) else { continue };
            let stays = match of_account.get(&at).and_then(|edit| edits.get(*edit)) {
                None => true,
                Some(edit) => match &edit.after {
                    None => false,
                    // It is unchanged unless the edit changes it; one that does is already counted.
                    Some(after) if changes(edit, name) => {
                        folded(after.value(name)) == folded(value) && taken(edit, name).is_none()
                    }
                    Some(_) => true,
                },
            };
            if stays {
                holders.push((None, &account.login));
            }
        }
        for (edit, others) in given.values().filter(|holders| holders.len() > 1).flat_map(|holders| {
            holders.iter().enumerate().filter_map(|(place, (edit, _))| {
                let other = holders.iter().enumerate().find(|(other, _)| *other != place)?;
                Some(((*edit)?, other.1.1))
            })
        }) {
            rivals.push((edit, format!("{others} has the same {name} now")));
        }
    }
    for (edit, words) in &rivals {
        if let Some(standing) = standings.get_mut(*edit) {
            *standing = Standing::Stale(words.clone());
        }
    }
    !rivals.is_empty()
}
