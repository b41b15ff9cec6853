//! The footprint of a reading: its counts. An apply remembers it, and the next reading is compared with it: a count that
//! fell to nothing was probably not seen, since a hidden part of a directory looks like an empty one. No I/O, no
//! recursion.

use crate::settings::Removals;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// People in one container, or with one attribute, so few that losing them all is nothing unusual.
const FEW: u64 = 5;

/// The last change that a server has: it shows all changes up to this mark.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ChangeMark {
    /// The highest change number of one domain controller (highestCommittedUSN, [MS-ADTS] §3.1.1.5.3).
    Number(u64),
    /// The time of the last change (contextCSN up to its first `#`), for each naming context.
    Times(Vec<String>),
}

impl ChangeMark {
    /// True if the server lacks changes that it had when it showed `earlier`.
    #[must_use]
    pub fn is_behind(&self, earlier: &Self) -> bool {
        match (self, earlier) {
            (Self::Number(now), Self::Number(then)) => now < then,
            (Self::Times(now), Self::Times(then)) => now.iter().zip(then).any(|(now, then)| now < then),
            _ => false,
        }
    }
}

/// The counts of one intake's reading.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct Footprint {
    /// The server that answered, by its own name, or as the settings name it.
    pub server: String,
    /// The server's change mark.
    pub mark: Option<ChangeMark>,
    /// The server was a domain controller.
    pub is_controller: bool,
    /// The bind account; `None` if a snapshot answered.
    pub bound: Option<String>,
    /// The attribute of the lasting identity.
    pub identity: String,
    /// The number of people below each base.
    pub people: BTreeMap<String, u64>,
    /// The number of people directly in each container.
    pub containers: BTreeMap<String, u64>,
    /// The number of people in each named group, nested members included.
    pub groups: BTreeMap<String, u64>,
    /// The groups that were read, the named ones and those nested in them; empty if they were too many.
    pub nests: BTreeSet<String>,
    /// The number of people with a value for each attribute that the settings use.
    pub attributes: BTreeMap<String, u64>,
    /// The number of people with each attribute that this kind of server shows on those who are not active.
    pub marks: BTreeMap<String, u64>,
}

/// The thing counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Counted<'f> {
    /// People below a base.
    People(&'f str),
    /// People directly in a container.
    Container(&'f str),
    /// People in a named group.
    Group(&'f str),
    /// People with an attribute.
    Attribute(&'f str),
    /// People with an attribute that shows who is not active: this changes from day to day.
    Mark(&'f str),
}

/// The kind of count that a name belongs to.
type Which<'f> = fn(&'f str) -> Counted<'f>;

/// A count that is lower than at the last apply.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fall<'f> {
    /// The thing counted.
    pub what: Counted<'f>,
    /// The count at the last apply.
    pub before: u64,
    /// The count now.
    pub now: u64,
}

impl Fall<'_> {
    /// True if the fall is further than the settings tolerate, and of more than a few.
    #[must_use]
    pub fn is_beyond(&self, tolerance: Removals) -> bool {
        let lost = self.before - self.now;
        let is_steady = !matches!(self.what, Counted::Mark(_));
        is_steady && lost >= FEW && lost > tolerance.of(self.before)
    }

    /// True if nothing is left. A few people with an attribute may lose it one by one.
    #[must_use]
    pub fn is_to_nothing(&self) -> bool {
        let least = match self.what {
            Counted::People(_) | Counted::Group(_) => 1,
            Counted::Attribute(_) => 2,
            Counted::Container(_) | Counted::Mark(_) => FEW,
        };
        self.now == 0 && self.before >= least
    }

    /// The name of the count, in words.
    #[must_use]
    pub fn called(&self) -> String {
        match self.what {
            Counted::People(base) => format!("people under {base}"),
            Counted::Container(container) => format!("people in {container}"),
            Counted::Group(group) => format!("members of {group}"),
            Counted::Attribute(attribute) | Counted::Mark(attribute) => format!("people with {attribute}"),
        }
    }

    /// The two counts, in words.
    #[must_use]
    pub fn in_words(&self) -> String {
        format!("{}: {} now, {} at the last apply", self.called(), self.now, self.before)
    }
}

impl Footprint {
    /// The number of people.
    #[must_use]
    pub fn all_people(&self) -> u64 {
        // Bases may overlap; containers do not.
        self.containers.values().sum()
    }

    /// The counts that are lower than in an earlier footprint, as far as the settings still ask for them.
    #[must_use]
    pub fn falls<'f>(&'f self, before: &'f Self) -> Vec<Fall<'f>> {
        let mut falls = Vec::new();
        let kinds: [(_, _, Which<'f>); 4] = [
            (&before.people, &self.people, Counted::People),
            (&before.groups, &self.groups, Counted::Group),
            (&before.attributes, &self.attributes, Counted::Attribute),
            (&before.marks, &self.marks, Counted::Mark),
        ];
        for (then, now, what) in kinds {
            for (name, before) in then {
                if let Some(now) = now.get(name).filter(|now| *now < before) {
                    falls.push(Fall { what: what(name), before: *before, now: *now });
                }
            }
        }
        if before.people.keys().eq(self.people.keys()) {
            falls.extend(self.emptied_containers(before));
        }
        falls
    }

    /// Containers that had people and have none, unless those people may be in other containers now.
    fn emptied_containers<'f>(&'f self, before: &'f Self) -> impl Iterator<Item = Fall<'f>> {
        let missing = before.all_people().saturating_sub(self.all_people());
        // Servers may spell one container in several ways.
        let filled: HashSet<String> = self.containers.keys().map(|name| name.to_lowercase()).collect();
        let is_empty = move |name: &str| !filled.contains(&name.to_lowercase());
        before.containers.iter().filter_map(move |(name, count)| {
            let is_one = *count >= FEW && missing > count / 2 && is_empty(name);
            is_one.then_some(Fall { what: Counted::Container(name), before: *count, now: 0 })
        })
    }

    /// Differences in how the directory is seen, in words: another bind account, another kind of server.
    #[must_use]
    pub fn views(&self, before: &Self) -> Vec<String> {
        let mut views = Vec::new();
        if let (Some(now), Some(then)) = (&self.bound, &before.bound)
            && now != then
        {
            views.push(format!("bound as {now}, at the last apply as {then}"));
        }
        if self.is_controller != before.is_controller {
            let kind = |is_controller| if is_controller { "a domain controller" } else { "another server" };
            let (now, then) = (kind(self.is_controller), kind(before.is_controller));
            views.push(format!("read from {now}, at the last apply from {then}"));
        }
        views
    }

    /// True if another server answers than at the last apply, or the same one in an earlier state.
    #[must_use]
    pub fn is_elsewhere(&self, before: &Self) -> bool {
        let is_behind =
            || self.mark.as_ref().zip(before.mark.as_ref()).is_some_and(|(now, then)| now.is_behind(then));
        // A snapshot is a reading of the past anyway.
        self.bound.is_some() && (self.server != before.server || is_behind())
    }
}
