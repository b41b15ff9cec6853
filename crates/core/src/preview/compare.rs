//! The effect of other settings on the same reading: people who join or leave, fields and roles that differ, and
//! changes to accounts that differ.

use super::situation::{Selected, Situation};
use super::why::judge;
use super::{ChangeKind, FieldChange, GroupChange, Preview};
use crate::ldap::identity::Identity;
use crate::selection::{Candidate, Dropped, Reason, Selection, Step};
use crate::settings::Intake;
use indexmap::IndexMap;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};

/// A person selected by one of the two settings only.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Moved {
    /// The login, current or future.
    pub login: String,
    /// Their entry.
    pub dn: String,
    /// Why the other settings do not select them.
    pub why: String,
}

/// A person selected by both, with a different account.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Differing {
    /// The current login.
    pub login: String,
    /// Their entry.
    pub dn: String,
    /// The fields that differ, including roles.
    pub fields: IndexMap<String, FieldChange>,
}

/// An account with different changes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Fate {
    /// The account's login, current or future.
    pub login: String,
    /// The change by the current settings, if any.
    pub now: Option<ChangeKind>,
    /// The change by the other settings, if any.
    pub then: Option<ChangeKind>,
}

/// A group of the application with different changes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct GroupFate {
    /// The group's name, current or future.
    pub group: String,
    /// The change by the current settings, if any.
    pub now: Option<GroupChange>,
    /// The change by the other settings, if any.
    pub then: Option<GroupChange>,
}

/// The effect of other settings.
#[derive(Debug)]
pub struct Comparison {
    /// The preview by the current settings.
    pub now: Preview,
    /// The preview by the other settings.
    pub then: Preview,
    /// The number of people selected by each.
    pub people: (usize, usize),
    /// People selected only by the other settings.
    pub come_in: Vec<Moved>,
    /// People selected only by the current settings.
    pub go_out: Vec<Moved>,
    /// People with a different account.
    pub differ: Vec<Differing>,
    /// Accounts with different changes, including those of people who join or leave.
    pub fates: Vec<Fate>,
    /// Groups of the application with different changes.
    pub groups: Vec<GroupFate>,
}

impl Comparison {
    /// Compares the effects of two settings on one directory.
    #[must_use]
    pub fn of(now: Situation<'_>, then: Situation<'_>) -> Self {
        let (before, after) = (In::new(now), In::new(then));
        let (first, second) = (Preview::of(now), Preview::of(then));
        let (fates, groups) = (fates(&first, &second), group_fates(&first, &second));
        Self {
            people: (before.by_identity.len(), after.by_identity.len()),
            come_in: after.without(&before),
            go_out: before.without(&after),
            differ: before.differing(&after),
            now: first,
            then: second,
            fates,
            groups,
        }
    }

    /// Whether both readings are whole.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.now.is_whole() && self.then.is_whole()
    }

    /// Whether the settings have the same effect.
    #[must_use]
    pub fn is_same(&self) -> bool {
        self.come_in.is_empty()
            && self.go_out.is_empty()
            && self.differ.is_empty()
            && self.fates.is_empty()
            && self.groups.is_empty()
    }
}

/// The groups that two previews change differently, by name.
fn group_fates(now: &Preview, then: &Preview) -> Vec<GroupFate> {
    let mut all: BTreeMap<String, [Option<GroupChange>; 2]> = BTreeMap::new();
    for (side, preview) in [now, then].into_iter().enumerate() {
        for change in preview.groups.iter().flat_map(|groups| &groups.changes) {
            let slots = all.entry(change.name.clone()).or_default();
            slots.iter_mut().skip(side).take(1).for_each(|slot| *slot = Some(change.clone()));
        }
    }
    let differing = all.into_iter().filter(|(_, [now, then])| now != then);
    differing.map(|(group, [now, then])| GroupFate { group, now, then }).collect()
}

/// The people whom one of the settings selects, and why others are left out.
struct In<'a> {
    side: Situation<'a>,
    selections: Vec<Selection<'a>>,
    /// The selecting intake of each person, and the index among its candidates.
    by_identity: BTreeMap<Identity, (usize, usize)>,
}

impl<'a> In<'a> {
    fn new(side: Situation<'a>) -> Self {
        let selections = side.selections();
        let of = |(part, selection): (usize, &Selection<'_>)| {
            let own = selection.candidates.iter().enumerate();
            own.map(|(at, one)| (one.identity.clone(), (part, at))).collect::<Vec<_>>()
        };
        let by_identity = selections.iter().enumerate().flat_map(of).collect();
        Self { side, selections, by_identity }
    }

    fn parts(&self) -> impl Iterator<Item = Selected<'_>> {
        self.side.selected(&self.selections)
    }

    /// A selected person, with the selecting intake.
    fn find(&self, identity: &Identity) -> Option<(Selected<'_>, &Candidate<'_>)> {
        let (part, at) = *self.by_identity.get(identity)?;
        let part = self.parts().nth(part)?;
        Some((part, part.selection.candidates.get(at)?))
    }

    fn candidates(&self) -> impl Iterator<Item = (&Identity, (Selected<'_>, &Candidate<'_>))> {
        self.by_identity.keys().filter_map(|identity| Some((identity, self.find(identity)?)))
    }

    /// The people selected here and not by `other`.
    fn without(&self, other: &Self) -> Vec<Moved> {
        let mut dropped: HashMap<Identity, &Dropped> = HashMap::new();
        for part in other.parts() {
            let (people, attribute) = (part.reading.people(), &part.reading.source().identity);
            for one in &part.selection.dropped {
                let identity = people.get(one.person).and_then(|entry| Identity::of(entry, attribute));
                // The intake that counts is the one in which they got furthest.
                let further = |known: &&Dropped| known.step < one.step;
                if let Some(identity) = identity
                    && dropped.get(&identity).is_none_or(further)
                {
                    dropped.insert(identity, one);
                }
            }
        }
        let missing = self.candidates().filter(|(identity, _)| !other.by_identity.contains_key(*identity));
        let mut moved: Vec<Moved> = missing
            .map(|(identity, (part, candidate))| Moved {
                login: candidate.proposal.login().to_owned(),
                dn: dn(part, candidate),
                why: dropped
                    .get(identity)
                    .map_or_else(|| not_found(part, candidate, other), |one| reason(one)),
            })
            .collect();
        moved.sort_by(|one, other| (&one.login, &one.dn).cmp(&(&other.login, &other.dn)));
        moved
    }

    /// The people selected by both, with different accounts.
    fn differing(&self, other: &Self) -> Vec<Differing> {
        let mut differing: Vec<Differing> = self
            .candidates()
            .filter_map(|(identity, (part, candidate))| {
                let (its, theirs) = other.find(identity)?;
                let (old, new) = (drawn(part, candidate), drawn(its, theirs));
                let names: Vec<&String> =
                    old.keys().chain(new.keys().filter(|name| !old.contains_key(*name))).collect();
                let fields: IndexMap<String, FieldChange> = names
                    .into_iter()
                    .filter(|name| old.get(*name) != new.get(*name))
                    .map(|name| {
                        let change = FieldChange { old: old.get(name).cloned(), new: new.get(name).cloned() };
                        (name.clone(), change)
                    })
                    .collect();
                let (login, dn) = (candidate.proposal.login().to_owned(), dn(part, candidate));
                (!fields.is_empty()).then_some(Differing { login, dn, fields })
            })
            .collect();
        differing.sort_by(|one, other| (&one.login, &one.dn).cmp(&(&other.login, &other.dn)));
        differing
    }
}

fn dn(part: Selected<'_>, candidate: &Candidate<'_>) -> String {
    part.reading.people().get(candidate.person).map_or_else(String::new, |one| one.dn().to_owned())
}

/// Why the other settings do not find a person at all: their bases, or their filter.
fn not_found(part: Selected<'_>, candidate: &Candidate<'_>, other: &In<'_>) -> String {
    let reading = part.reading;
    let (Some(entry), Some(key)) = (reading.people().get(candidate.person), reading.key(candidate.person))
    else {
        return Step::Found.refusal().to_owned();
    };
    let is_under = |intake: &Intake| intake.bases.iter().any(|base| key.is_within(&base.key()));
    let Some(intake) = other.side.settings.intakes.iter().find(|intake| is_under(intake)) else {
        return "under none of the bases".to_owned();
    };
    match judge(&intake.filter, entry, reading) {
        (false, _, why) if !why.is_empty() => format!("not matched by the filter: {why}"),
        _ => "not matched by the filter".to_owned(),
    }
}

/// The fields and roles drawn.
fn drawn(part: Selected<'_>, candidate: &Candidate<'_>) -> IndexMap<String, String> {
    let intake = part.intake;
    let names = intake.fields.keys().enumerate();
    let mut fields: IndexMap<String, String> =
        names.map(|(at, name)| (name.clone(), candidate.proposal.value(at).to_owned())).collect();
    let has = |(at, _): &(usize, _)| candidate.proposal.role(*at) == Some(true);
    let roles: Vec<&str> =
        intake.roles.iter().enumerate().filter(has).map(|(_, role)| role.name.as_str()).collect();
    if !roles.is_empty() {
        fields.insert("roles".to_owned(), roles.join(&crate::settings::rules::LIST.to_string()));
    }
    fields
}

/// Why a person is left out, in words.
fn reason(dropped: &Dropped) -> String {
    match &dropped.reason {
        Reason::Missing(missing) => format!("{} {}", missing.field, missing.why),
        Reason::NotActive(Some(otherwise)) => (*otherwise).to_owned(),
        Reason::Earlier(intake) => format!("selected by the intake {intake}"),
        Reason::Listed
        | Reason::NotAMember
        | Reason::Excluded
        | Reason::NotActive(None)
        | Reason::NoIdentity => dropped.step.refusal().to_owned(),
    }
}

impl Step {
    /// Why a person who dropped out at this step is left out.
    fn refusal(self) -> &'static str {
        match self {
            Step::Found => "under no base, or not matched by the filter",
            Step::Listed => "not in only, or in except",
            Step::Groups => "in none of the groups",
            Step::NotInGroup => "in an excluding group",
            Step::Active => "not active",
            Step::Complete => "no lasting identity",
            Step::Earlier => "selected by an earlier intake",
        }
    }
}

/// The accounts with different changes, by login.
fn fates(now: &Preview, then: &Preview) -> Vec<Fate> {
    // Somebody who clashes may have the login of an account that leaves; and what clashes may be updated, too.
    type Whose<'p> = (&'p str, Option<&'p Identity>);
    fn kinds(preview: &Preview) -> BTreeMap<Whose<'_>, ChangeKind> {
        let mut kinds = BTreeMap::new();
        for change in &preview.changes {
            kinds.entry((change.login.as_str(), change.link.as_ref())).or_insert(change.kind());
        }
        kinds
    }
    let (first, second) = (kinds(now), kinds(then));
    let all: HashSet<&Whose<'_>> = first.keys().chain(second.keys()).collect();
    let mut fates: Vec<Fate> = all
        .into_iter()
        .filter(|one| first.get(*one) != second.get(*one))
        .map(|one| Fate {
            login: one.0.to_owned(),
            now: first.get(one).copied(),
            then: second.get(one).copied(),
        })
        .collect();
    fates.sort_by(|one, other| (one.then, one.now, &one.login).cmp(&(other.then, other.now, &other.login)));
    fates
}
