//! One plan over all claims: who gets the logins and unique values that people draw.
//!
//! Accounts hold values, and people draw values for them. A [`Claim`] takes effect if nobody else draws its value and
//! whoever holds the value gives it up. So chains and rings of any length take effect at once, and a claim is frozen
//! only if the final state would have two holders. No I/O, no recursion; linear in claims and accounts.

use crate::account::{Account, folded};
use fixedbitset::FixedBitSet;
use foldhash::HashMap;
use jiff::civil::Date;
use smallvec::SmallVec;
use std::borrow::Cow;

/// The value of one field that a person draws for an account.
#[derive(Clone, Debug)]
pub(super) struct Claim<'a> {
    /// The person, by any number of the caller's. Claims of one person are adjacent.
    pub(super) person: usize,
    /// The account that would get it; `None` for a new one.
    pub(super) account: Option<usize>,
    /// The index of the unique field.
    pub(super) field: usize,
    /// The value in the form for comparison; empty if the account only loses its value.
    pub(super) value: Cow<'a, str>,
    /// Its rank.
    pub(super) rank: Rank,
}

/// The rank of a claim.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Rank {
    /// Somebody who is in draws it for an account that is theirs.
    Own,
    /// Somebody who is in draws it for a new or an adopted account: either all of the person's claims take effect, or
    /// none.
    Together,
    /// Somebody who is in draws it, but gets nothing in this run.
    Idle,
    /// Somebody who is out draws it: people who are in go first.
    Out,
}

/// The reason why a claim does not take effect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Contest {
    /// Other people draw the value: their claims, by index.
    Rivals(SmallVec<[usize; 2]>),
    /// An account keeps the value.
    Kept(usize),
    /// The account with the value is deleted on that day, or waits for one that is.
    Until(usize, Date),
}

/// The fate of an account in this run, as far as its values are concerned.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Fate {
    /// It stays.
    Stays,
    /// It is deleted.
    Goes,
    /// It is deleted on that day.
    GoesOn(Date),
}

/// Maximum rivals of one claim that are told: one more than a clash lists.
const RIVALS: usize = 9;

/// A field and a value.
type Value<'a> = (usize, Cow<'a, str>);

/// The claims with the values' present holders.
pub(super) struct Claims<'a> {
    claims: Vec<Claim<'a>>,
    /// For each claim, the present value of its account.
    present: Vec<Cow<'a, str>>,
    drawn: HashMap<Value<'a>, SmallVec<[usize; 2]>>,
    holders: HashMap<Value<'a>, SmallVec<[usize; 2]>>,
    /// The claim on a field of an account.
    of: HashMap<(usize, usize), usize>,
    frozen: FixedBitSet,
}

impl<'a> Claims<'a> {
    /// Works out which claims take effect. `fields` are the unique fields, and `fate` tells what happens to an account.
    pub(super) fn of(
        claims: Vec<Claim<'a>>,
        fields: &[&str],
        accounts: &'a [Account],
        fate: impl Fn(usize) -> Fate,
    ) -> Self {
        let mut drawn: HashMap<Value<'a>, SmallVec<[usize; 2]>> = HashMap::default();
        let mut of = HashMap::default();
        let mut present = Vec::with_capacity(claims.len());
        for (index, claim) in claims.iter().enumerate() {
            let account = claim.account.and_then(|at| accounts.get(at));
            let name = fields.get(claim.field).copied().unwrap_or_default();
            present.push(account.map_or(Cow::Borrowed(""), |account| folded(account.field(name))));
            if !claim.value.is_empty() {
                drawn.entry((claim.field, claim.value.clone())).or_default().push(index);
            }
            if let Some(at) = claim.account.filter(|_| claim.rank != Rank::Idle) {
                of.insert((at, claim.field), index);
            }
        }
        let mut holders: HashMap<Value<'a>, SmallVec<[usize; 2]>> = HashMap::default();
        if !drawn.is_empty() {
            for (at, account) in accounts.iter().enumerate().filter(|(at, _)| fate(*at) != Fate::Goes) {
                for (field, name) in fields.iter().enumerate() {
                    let value = (field, folded(account.field(name)));
                    if drawn.contains_key(&value) {
                        holders.entry(value).or_default().push(at);
                    }
                }
            }
        }
        let frozen = FixedBitSet::with_capacity(claims.len());
        let mut all = Self { claims, present, drawn, holders, of, frozen };
        all.freeze();
        all
    }

    /// Freezes every claim that cannot take effect, and those that wait for it.
    fn freeze(&mut self) {
        let mut stuck: Vec<usize> = (0..self.claims.len())
            .filter(|index| {
                let is_idle = self.claims.get(*index).is_some_and(|claim| claim.rank == Rank::Idle);
                is_idle || self.rivals(*index).next().is_some() || self.keepers(*index).next().is_some()
            })
            .collect();
        while let Some(index) = stuck.pop() {
            if self.frozen.put(index) {
                continue;
            }
            let Some(claim) = self.claims.get(index) else { continue };
            if claim.rank == Rank::Together {
                stuck.extend(self.together(index).filter(|other| !self.frozen.contains(*other)));
            }
            // The account keeps its present value, so nobody else gets it.
            if let (Some(_), Some(present)) = (claim.account, self.present.get(index)) {
                let takers = self.drawn.get(&(claim.field, present.clone())).into_iter().flatten();
                let waits = |other: &usize| *other != index && !self.frozen.contains(*other);
                stuck.extend(takers.copied().filter(waits));
            }
        }
    }

    /// The claims of the same person.
    fn together(&self, index: usize) -> impl Iterator<Item = usize> {
        let person = self.claims.get(index).map(|claim| claim.person);
        let is_theirs = move |at: &usize| self.claims.get(*at).map(|claim| claim.person) == person;
        (0..index).rev().take_while(is_theirs).chain((index + 1..self.claims.len()).take_while(is_theirs))
    }

    /// The claims of other people on the same value.
    pub(super) fn rivals(&self, index: usize) -> impl Iterator<Item = usize> {
        let claim = self.claims.get(index);
        let drawn = claim.and_then(|claim| self.drawn.get(&(claim.field, claim.value.clone())));
        let is_rival = move |other: &usize| {
            let (Some(own), Some(other)) = (claim, self.claims.get(*other)) else { return false };
            own.person != other.person && (other.rank != Rank::Out || own.rank == Rank::Out)
        };
        drawn.into_iter().flatten().copied().filter(is_rival)
    }

    /// The accounts that keep the value that a claim is on, as far as is known yet.
    pub(super) fn keepers(&self, index: usize) -> impl Iterator<Item = usize> {
        let claim = self.claims.get(index);
        let value = claim.map(|claim| (claim.field, claim.value.clone()));
        let holders = value.as_ref().and_then(|value| self.holders.get(value));
        let keeps = move |at: &usize| {
            let Some(claim) = claim.filter(|claim| claim.account != Some(*at)) else { return false };
            match self.of.get(&(*at, claim.field)) {
                None => true,
                Some(other) => {
                    let gives_up = self.claims.get(*other).is_some_and(|other| other.value != claim.value);
                    self.frozen.contains(*other) || !gives_up
                }
            }
        };
        holders.into_iter().flatten().copied().filter(keeps)
    }

    /// True if a claim takes effect.
    pub(super) fn is_free(&self, index: usize) -> bool {
        !self.frozen.contains(index)
    }

    /// True if an account has a claim on another value of a field, and does not get it.
    pub(super) fn is_stuck(&self, account: usize, field: usize) -> bool {
        self.of.get(&(account, field)).is_some_and(|claim| self.frozen.contains(*claim))
    }

    /// The claims.
    pub(super) fn all(&self) -> &[Claim<'a>] {
        &self.claims
    }

    /// The contest of each claim; `None` if it takes effect, or if only another claim of the same person is in the
    /// way.
    pub(super) fn contests(&self, fate: impl Fn(usize) -> Fate) -> Vec<Option<Contest>> {
        let days = self.days(fate);
        let contest = |index: usize| {
            let rivals: SmallVec<[usize; 2]> = self.rivals(index).take(RIVALS).collect();
            if !rivals.is_empty() {
                return Some(Contest::Rivals(rivals));
            }
            let keeper = self.keepers(index).next()?;
            Some(match days.get(index).copied().flatten() {
                Some(day) => Contest::Until(keeper, day),
                None => Contest::Kept(keeper),
            })
        };
        (0..self.claims.len()).map(|index| contest(index).filter(|_| self.frozen.contains(index))).collect()
    }

    /// For each claim that waits for nothing but days of grace, the day on which they end.
    fn days(&self, fate: impl Fn(usize) -> Fate) -> Vec<Option<Date>> {
        let mut days: Vec<Option<Date>> = vec![None; self.claims.len()];
        let ends = |at: usize| match fate(at) {
            Fate::GoesOn(day) => Some(day),
            Fate::Stays | Fate::Goes => None,
        };
        let day = |index: usize, days: &[Option<Date>]| {
            if self.rivals(index).next().is_some() {
                return None;
            }
            let field = self.claims.get(index)?.field;
            let mut latest = None;
            for at in self.keepers(index) {
                let own = || self.of.get(&(at, field)).and_then(|other| days.get(*other).copied().flatten());
                latest = latest.max(Some(ends(at).or_else(own)?));
            }
            latest
        };
        // A claim gets its day once every account in its way has one; whoever waits for it is asked again.
        let mut asked: Vec<usize> = self.frozen.ones().collect();
        while let Some(index) = asked.pop() {
            let Some(claim) = self.claims.get(index).filter(|claim| claim.rank != Rank::Idle) else {
                continue;
            };
            let found = day(index, &days);
            if let Some(slot) = days.get_mut(index)
                && slot.is_none()
                && found.is_some()
            {
                *slot = found;
                let present = self.present.get(index).cloned().unwrap_or_default();
                asked.extend(self.drawn.get(&(claim.field, present)).into_iter().flatten());
            }
        }
        days
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::State;
    use jiff::civil::date;
    use proptest::prelude::*;

    const FIELDS: [&str; 2] = ["login", "email"];

    fn account(login: &str, email: &str) -> Account {
        let fields = [("email".into(), email.into())].into_iter().collect();
        Account { login: login.into(), link: None, state: State::Active, fields }
    }

    fn claim(person: usize, account: Option<usize>, field: usize, value: &str, rank: Rank) -> Claim<'static> {
        Claim { person, account, field, value: Cow::Owned(value.to_owned()), rank }
    }

    /// The result for each claim: `+` takes effect, `-` is frozen with the person, else the contest.
    fn told(claims: Vec<Claim<'static>>, accounts: &[Account], fates: &[(usize, Fate)]) -> Vec<String> {
        let fate =
            |at: usize| fates.iter().find(|(one, _)| *one == at).map_or(Fate::Stays, |(_, fate)| *fate);
        let claims = Claims::of(claims, &FIELDS, accounts, fate);
        let contests = claims.contests(fate).into_iter().enumerate();
        let word = |(index, contest)| match contest {
            None if claims.is_free(index) => "+".to_owned(),
            None => "-".to_owned(),
            Some(Contest::Rivals(others)) => format!("drawn by {others:?}"),
            Some(Contest::Kept(at)) => format!("kept by {at}"),
            Some(Contest::Until(at, day)) => format!("{at} until {day}"),
        };
        contests.map(word).collect()
    }

    #[test]
    fn each_claim_is_free_or_says_what_is_in_its_way() {
        use Rank::{Idle, Out, Own, Together};
        let list = [account("a", "a@m"), account("b", "b@m"), account("c", "c@m")];
        let day = date(2026, 12, 14);
        let on_day = [(2, Fate::GoesOn(day))];
        for (why, claims, fates, expected) in [
            (
                "a ring of two and a chain behind a free value",
                vec![
                    claim(0, Some(0), 0, "b", Own),
                    claim(1, Some(1), 0, "a", Own),
                    claim(2, Some(2), 1, "z", Own),
                ],
                &[][..],
                vec!["+", "+", "+"],
            ),
            (
                "a chain whose first holder keeps the value",
                vec![claim(0, Some(0), 0, "b", Own), claim(1, Some(1), 0, "c", Own)],
                &[][..],
                vec!["kept by 1", "kept by 2"],
            ),
            (
                "a chain behind an account that is deleted",
                vec![claim(0, Some(0), 0, "b", Own), claim(1, Some(1), 0, "c", Own)],
                &[(2, Fate::Goes)][..],
                vec!["+", "+"],
            ),
            (
                "a chain behind an account that is deleted later",
                vec![claim(0, Some(0), 0, "b", Own), claim(1, Some(1), 0, "c", Own)],
                &on_day[..],
                vec!["1 until 2026-12-14", "2 until 2026-12-14"],
            ),
            (
                "two people draw one value: neither gets it, and what they hold is kept",
                vec![
                    claim(0, Some(0), 0, "z", Own),
                    claim(1, Some(1), 0, "z", Own),
                    claim(2, Some(2), 0, "a", Own),
                ],
                &[][..],
                vec!["drawn by [1]", "drawn by [0]", "kept by 0"],
            ),
            (
                "fields are apart: the login moves though the email cannot",
                vec![claim(0, Some(0), 0, "z", Own), claim(0, Some(0), 1, "b@m", Own)],
                &[][..],
                vec!["+", "kept by 1"],
            ),
            (
                "a new account comes with all of its values or not at all",
                vec![
                    claim(0, None, 0, "z", Together),
                    claim(0, None, 1, "b@m", Together),
                    claim(1, None, 0, "y", Together),
                ],
                &[][..],
                vec!["-", "kept by 1", "+"],
            ),
            (
                "whoever is in goes before whoever is out",
                vec![claim(0, None, 0, "z", Together), claim(1, Some(1), 0, "z", Out)],
                &[][..],
                vec!["+", "drawn by [0]"],
            ),
            (
                "whoever is out makes room",
                vec![claim(0, None, 0, "b", Together), claim(1, Some(1), 0, "old-b", Out)],
                &[][..],
                vec!["+", "+"],
            ),
            (
                "a value that is given up without another",
                vec![claim(0, Some(0), 1, "b@m", Own), claim(1, Some(1), 1, "", Own)],
                &[][..],
                vec!["+", "+"],
            ),
            (
                "a person who gets nothing now still draws the value",
                vec![claim(0, None, 0, "z", Idle), claim(1, Some(1), 0, "z", Own)],
                &[][..],
                vec!["drawn by [1]", "drawn by [0]"],
            ),
        ] {
            assert_eq!(told(claims, &list, fates), expected, "{why}");
        }
    }

    /// The lists after every free claim has been taken up; `None` for an account that goes.
    fn after(claims: &Claims<'_>, free: &[bool], accounts: &[Account], goes: &[bool]) -> Vec<Vec<String>> {
        let mut held: Vec<Vec<String>> = Vec::new();
        for (at, account) in accounts.iter().enumerate().filter(|(at, _)| !goes[*at]) {
            held.push(FIELDS.map(|name| account.field(name).to_owned()).to_vec());
            for (index, claim) in claims.all().iter().enumerate() {
                if free[index] && claim.account == Some(at) {
                    held.last_mut().unwrap()[claim.field] = claim.value.to_string();
                }
            }
        }
        let mut new: Vec<(usize, Vec<String>)> = Vec::new();
        for (index, claim) in claims.all().iter().enumerate().filter(|(_, claim)| claim.account.is_none()) {
            if free[index] {
                if new.last().is_none_or(|(person, _)| *person != claim.person) {
                    new.push((claim.person, vec![String::new(); 2]));
                }
                new.last_mut().unwrap().1[claim.field] = claim.value.to_string();
            }
        }
        held.extend(new.into_iter().map(|(_, values)| values));
        held
    }

    fn is_unique(held: &[Vec<String>]) -> bool {
        (0..FIELDS.len()).all(|field| {
            let mut values: Vec<&String> =
                held.iter().map(|one| &one[field]).filter(|one| !one.is_empty()).collect();
            values.sort_unstable();
            values.windows(2).all(|pair| pair[0] != pair[1])
        })
    }

    proptest! {
        /// In any list, with any claims: no value has two holders afterwards; and no single frozen claim that nobody
        /// else draws could take effect beside the others.
        #[test]
        fn nothing_is_held_twice_and_nothing_is_frozen_without_need(
            holds in prop::collection::vec((0_usize..6, 0_usize..6), 1..6),
            draws in prop::collection::vec((0_usize..8, 0_usize..6, 0_usize..6, any::<bool>()), 0..8),
            goes in prop::collection::vec(any::<bool>(), 6),
        ) {
            // Every account has a login and an email of its own.
            let mut taken = [0_usize; 6];
            let mut list = Vec::new();
            for (at, (login, email)) in holds.into_iter().enumerate() {
                if taken[login] & 1 == 0 && taken[email] & 2 == 0 {
                    taken[login] |= 1;
                    taken[email] |= 2;
                    list.push((at, account(&login.to_string(), &email.to_string())));
                }
            }
            let accounts: Vec<Account> = list.into_iter().map(|(_, one)| one).collect();
            let mut claims = Vec::new();
            for (person, (at, login, email, is_out)) in draws.into_iter().enumerate() {
                let own = (at < accounts.len() && !goes[at] && !claims.iter().any(|one: &Claim<'_>| one.account == Some(at)))
                    .then_some(at);
                let rank = match own {
                    None => Rank::Together,
                    Some(_) if is_out => Rank::Out,
                    Some(_) => Rank::Own,
                };
                for (field, value) in [login.to_string(), email.to_string()].into_iter().enumerate() {
                    if own.is_none_or(|at| accounts[at].field(FIELDS[field]) != value) {
                        claims.push(claim(person, own, field, &value, rank));
                    }
                }
            }
            let fate = |at: usize| if goes[at] { Fate::Goes } else { Fate::Stays };
            let claims = Claims::of(claims, &FIELDS, &accounts, fate);
            let mut free: Vec<bool> = (0..claims.all().len()).map(|index| claims.is_free(index)).collect();
            prop_assert!(is_unique(&after(&claims, &free, &accounts, &goes)));
            let contests = claims.contests(fate);
            for index in 0..free.len() {
                let own = &claims.all()[index];
                let drawn_once = claims.all().iter().filter(|one| (one.field, &one.value) == (own.field, &own.value)).count() == 1;
                if !free[index] && drawn_once && own.rank != Rank::Together {
                    free[index] = true;
                    prop_assert!(!is_unique(&after(&claims, &free, &accounts, &goes)), "{own:?} is frozen without need");
                    free[index] = false;
                }
                let is_told = contests[index].is_some() || own.rank == Rank::Together;
                prop_assert_eq!(free[index], contests[index].is_none() && free[index]);
                prop_assert!(free[index] || is_told, "{:?} is frozen without a reason", own);
            }
        }
    }
}
