//! The plan of a store's edits: which of them can be made, by which steps, and in which order.
//!
//! In many stores logins and other unique fields must be unique at every moment. So whoever gives up a value goes
//! before whoever takes it, and if accounts take each other's, one of them is put aside first.

use super::standing::taken;
use super::{Edit, Outcome, Standing, standings};
use crate::account::{Account, folded};
use crate::graph::components;
use foldhash::{HashMap, HashMapExt as _};
use smallvec::SmallVec;
use std::borrow::Cow;

/// A step of a plan. `at` is an account's index in the list for which the plan was made; fields include `login`,
/// `link` and `state` (`active` or `suspended`). Exhaustive on purpose: a store must handle every kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step<'a> {
    /// Replaces the value of a unique field by one that no account has, or by none: another account of the same unit
    /// takes the value before this one gets its new value. A store that makes a unit step by step uses the value of
    /// [`aside`](super::aside), so that the next apply completes an interrupted unit.
    PutAside {
        /// The account.
        at: usize,
        /// The unique field.
        field: &'a str,
    },
    /// Creates an account.
    Insert {
        /// The new account.
        account: &'a Account,
    },
    /// Changes fields of an account; the others stay as they are.
    Update {
        /// The account.
        at: usize,
        /// Each field with its new value, or `None` if it loses its value; an empty text is a value.
        set: Vec<(&'a str, Option<&'a str>)>,
    },
    /// Deletes an account.
    Delete {
        /// The account.
        at: usize,
    },
}

/// Steps that belong together: they are made in order, and all of them or none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unit<'a> {
    /// The edits that the steps make, by index. More than one if accounts take each other's values.
    pub edits: &'a [usize],
    /// The steps, in order.
    pub steps: Vec<Step<'a>>,
}

/// Edits whose value an edit takes, each with the index of the field.
type Waits = SmallVec<[(usize, usize); 1]>;

/// The steps that make edits of a list of accounts, and the outcomes of edits that cannot be made.
///
/// Time and memory are linear in edits and accounts. Independent edits keep their order.
///
/// ```
/// use webtaxon_core::account::Account;
/// use webtaxon_core::apply::{Edit, Plan, Step};
///
/// /// Makes the edits of a list in memory, step by step.
/// fn make(edits: &[Edit], accounts: &[Account], unique: &[String]) -> Vec<Account> {
///     let plan = Plan::of(edits, accounts, unique);
///     let mut list: Vec<Option<Account>> = accounts.iter().cloned().map(Some).collect();
///     for step in plan.units().flat_map(|unit| unit.steps) {
///         match step {
///             Step::PutAside { .. } => {} // This list may have a value twice for a moment.
///             Step::Insert { account } => list.push(Some(account.clone())),
///             Step::Delete { at } => list[at] = None,
///             Step::Update { at, set } => {
///                 let Some(account) = &mut list[at] else { continue };
///                 set.into_iter().for_each(|(name, value)| account.set(name, value));
///             }
///         }
///     }
///     list.into_iter().flatten().collect()
/// }
/// ```
#[derive(Clone, Debug)]
pub struct Plan<'a> {
    edits: &'a [Edit],
    accounts: &'a [Account],
    standings: Vec<Standing>,
    /// The unique fields.
    unique: Vec<&'a str>,
    /// For each edit, those that must give up a value first; empty if no edit gives up any.
    waits: Vec<Waits>,
    /// The edits of each unit, in the order of units. The last of a unit is made first.
    units: Vec<Vec<usize>>,
}

impl<'a> Plan<'a> {
    /// The plan of edits of the current list. `unique` names the fields whose values must be unique; logins and links
    /// always are.
    #[must_use]
    pub fn of(edits: &'a [Edit], accounts: &'a [Account], unique: &'a [impl AsRef<str>]) -> Self {
        Self::of_standings(edits, accounts, standings(edits, accounts, unique), unique)
    }

    /// As [`Plan::of`], for edits whose standings are known.
    #[must_use]
    pub fn of_standings(
        edits: &'a [Edit],
        accounts: &'a [Account],
        standings: Vec<Standing>,
        unique: &'a [impl AsRef<str>],
    ) -> Self {
        let unique = super::standing::unique_names(unique);
        let mut plan = Self { edits, accounts, standings, unique, waits: Vec::new(), units: Vec::new() };
        plan.waits = plan.waits();
        if plan.waits.is_empty() {
            plan.units = plan.ready().map(|place| vec![place]).collect();
            return plan;
        }
        let next = |place: usize, at: &mut usize| {
            let (other, _) = plan.waits.get(place)?.get(*at)?;
            *at += 1;
            Some(*other)
        };
        plan.units = components(edits.len(), plan.ready(), next);
        plan
    }

    /// The standing of each edit.
    #[must_use]
    pub fn standings(&self) -> &[Standing] {
        &self.standings
    }

    /// The units, in order. Each may be refused by itself; edits of later units that depend on it are then refused,
    /// too.
    pub fn units(&self) -> impl Iterator<Item = Unit<'_>> {
        self.units.iter().map(|edits| Unit { edits, steps: self.steps(edits) })
    }

    /// Whether there is nothing to do.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.units.is_empty()
    }

    /// The outcome of each edit, by index, once every unit has been made.
    pub fn outcomes(&self) -> impl Iterator<Item = (usize, Outcome)> {
        self.standings.iter().map(|standing| Outcome::from(standing.clone())).enumerate()
    }

    /// The outcomes of the edits that no unit makes, by index.
    pub fn left_out(&self) -> impl Iterator<Item = (usize, Outcome)> {
        self.outcomes().zip(&self.standings).filter(|(_, standing)| !standing.is_ready()).map(|(one, _)| one)
    }

    /// The edits of the plan.
    #[must_use]
    pub fn edits(&self) -> &'a [Edit] {
        self.edits
    }

    /// The fields whose values are unique, `login` and `link` among them.
    #[must_use]
    pub fn unique(&self) -> &[&'a str] {
        &self.unique
    }

    /// The accounts for which the plan was made.
    #[must_use]
    pub fn accounts(&self) -> &'a [Account] {
        self.accounts
    }

    /// The list after every unit has been made, for applications that hold their list in memory.
    #[must_use]
    pub fn made(&self) -> Vec<Account> {
        let mut list: Vec<Option<Account>> = self.accounts.iter().cloned().map(Some).collect();
        for step in self.units().flat_map(|unit| unit.steps) {
            match step {
                Step::PutAside { .. } => {}
                Step::Insert { account } => list.push(Some(account.clone())),
                Step::Delete { at } => list.get_mut(at).into_iter().for_each(|slot| *slot = None),
                Step::Update { at, set } => {
                    let Some(Some(account)) = list.get_mut(at) else { continue };
                    set.into_iter().for_each(|(name, value)| account.set(name, value));
                }
            }
        }
        list.into_iter().flatten().collect()
    }

    fn ready(&self) -> impl Iterator<Item = usize> {
        (0..self.edits.len()).filter(|place| self.standings.get(*place).is_some_and(Standing::is_ready))
    }

    /// The index of the account of an edit that is ready.
    fn at(&self, place: usize) -> Option<usize> {
        match self.standings.get(place) {
            Some(Standing::Ready(at)) => *at,
            _ => None,
        }
    }

    fn waits(&self) -> Vec<Waits> {
        // By field, who gives up a value.
        let mut left: Vec<HashMap<Cow<'_, str>, usize>> =
            self.unique.iter().map(|_| HashMap::new()).collect();
        for place in self.ready() {
            let (Some(edit), Some(at)) = (self.edits.get(place), self.at(place)) else { continue };
            let Some(there) = self.accounts.get(at) else { continue };
            for (name, left) in self.unique.iter().zip(&mut left) {
                left.extend(given_up(edit, there, name).map(|value| (value, place)));
            }
        }
        if left.iter().all(HashMap::is_empty) {
            return Vec::new();
        }
        let of = |(place, edit): (usize, &Edit)| {
            let given = self.unique.iter().zip(&left).enumerate().filter(|(_, (_, left))| !left.is_empty());
            let others = given.filter_map(|(index, (name, left))| {
                let other = left.get(taken(edit, name)?.as_ref()).copied();
                other.filter(|other| *other != place).map(|other| (other, index))
            });
            others.collect()
        };
        self.edits.iter().enumerate().map(of).collect()
    }

    /// The steps of a unit. An account is put aside if another takes its value while it still has it.
    fn steps(&self, unit: &[usize]) -> Vec<Step<'a>> {
        let mut steps: Vec<Step<'a>> = Vec::new();
        if unit.len() > 1 {
            let index: HashMap<usize, usize> =
                unit.iter().enumerate().map(|(index, place)| (*place, index)).collect();
            for (taker, place) in unit.iter().enumerate() {
                for (other, name) in self.waits.get(*place).into_iter().flatten() {
                    let is_later = index.get(other).is_some_and(|giver| *giver < taker);
                    let (at, field) = (self.at(*other), self.unique.get(*name));
                    let Some((at, field)) = at.zip(field).filter(|_| is_later) else { continue };
                    steps.push(Step::PutAside { at, field });
                }
            }
        }
        steps.extend(unit.iter().rev().filter_map(|place| self.step(*place)));
        steps
    }

    /// The step that makes an edit.
    fn step(&self, place: usize) -> Option<Step<'a>> {
        let edit = self.edits.get(place)?;
        Some(match (self.at(place), &edit.after) {
            (None, account) => Step::Insert { account: account.as_ref()? },
            (Some(at), None) => Step::Delete { at },
            (Some(at), Some(after)) => {
                let set = edit.changed().map(|name| (name, after.get(name))).collect();
                Step::Update { at, set }
            }
        })
    }
}

/// The value that the account `there` gives up, in the form for comparison.
fn given_up<'e>(edit: &Edit, there: &'e Account, name: &str) -> Option<Cow<'e, str>> {
    let old = folded(there.value(name));
    let is_given_up = match (&edit.before, &edit.after) {
        (_, None) => true,
        (None, Some(_)) => false,
        (Some(before), Some(after)) => {
            before.value(name) != after.value(name) && folded(after.value(name)) != old
        }
    };
    (is_given_up && !old.is_empty()).then_some(old)
}
