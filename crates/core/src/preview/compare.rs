//! What other settings would make of the same reading: who would come in and who would go, whose fields
//! and roles would differ, and what would happen otherwise to which account.

use super::situation::{Selected, Situation};
use super::why::judge;
use super::{ChangeKind, FieldChange, GroupChange, Preview};
use crate::ldap::identity::Identity;
use crate::selection::{Candidate, Dropped, Reason, Selection, Step};
use crate::settings::Intake;
use indexmap::IndexMap;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};

/// Somebody who would be in by one of the settings and not by the other.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Moved {
    /// What they sign in with, or would.
    pub login: String,
    /// Their entry.
    pub dn: String,
    /// Why the other settings keep them out.
    pub why: String,
}

/// Somebody who is in by both, as something else.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Differing {
    /// What they sign in with now.
    pub login: String,
    /// Their entry.
    pub dn: String,
    /// The fields that would be drawn otherwise, roles among them.
    pub fields: IndexMap<String, FieldChange>,
}

/// An account that would meet with something else.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Fate {
    /// The account, by its login as it is or would be.
    pub login: String,
    /// What the settings would do; none for nothing.
    pub now: Option<ChangeKind>,
    /// What the other settings would do; none for nothing.
    pub then: Option<ChangeKind>,
}

/// A group of the application that would meet with something else.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct GroupFate {
    /// The group, as it is called or would be.
    pub group: String,
    /// What the settings would do; none for nothing.
    pub now: Option<GroupChange>,
    /// What the other settings would do; none for nothing.
    pub then: Option<GroupChange>,
}

/// The effect of other settings.
#[derive(Debug)]
pub struct Comparison {
    /// The preview by the settings.
    pub now: Preview,
    /// The preview by the other settings.
    pub then: Preview,
    /// How many people would be in by each.
    pub people: (usize, usize),
    /// Who would come in.
    pub come_in: Vec<Moved>,
    /// Who would go.
    pub go_out: Vec<Moved>,
    /// Who would be something else.
    pub differ: Vec<Differing>,
    /// Which accounts would meet with something else; those of people who come in or go are among them.
    pub fates: Vec<Fate>,
    /// Which groups of the application would meet with something else.
    pub groups: Vec<GroupFate>,
}

impl Comparison {
    /// Compares what two settings make of one directory.
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

    /// Whether both directories were read to their ends.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.now.is_whole() && self.then.is_whole()
    }

    /// Whether the other settings make no difference.
    #[must_use]
    pub fn is_same(&self) -> bool {
        self.come_in.is_empty()
            && self.go_out.is_empty()
            && self.differ.is_empty()
            && self.fates.is_empty()
            && self.groups.is_empty()
    }
}

/// The groups to which each of two previews does something else, by name.
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

/// Who is in by one of the settings, and why others are not.
struct In<'a> {
    side: Situation<'a>,
    selections: Vec<Selection<'a>>,
    /// The intake that selects somebody, and the place among its candidates.
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

    /// Somebody who is in, with the intake that selects them.
    fn find(&self, identity: &Identity) -> Option<(Selected<'_>, &Candidate<'_>)> {
        let (part, at) = *self.by_identity.get(identity)?;
        let part = self.parts().nth(part)?;
        Some((part, part.selection.candidates.get(at)?))
    }

    fn candidates(&self) -> impl Iterator<Item = (&Identity, (Selected<'_>, &Candidate<'_>))> {
        self.by_identity.keys().filter_map(|identity| Some((identity, self.find(identity)?)))
    }

    /// Those who are in here and not there.
    fn without(&self, other: &Self) -> Vec<Moved> {
        let mut dropped: HashMap<Identity, &Dropped> = HashMap::new();
        for part in other.parts() {
            let (people, attribute) = (part.reading.people(), &part.reading.source().identity);
            for one in &part.selection.dropped {
                let identity = people.get(one.person).and_then(|entry| Identity::of(entry, attribute));
                // The intake counts in which they came furthest.
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

    /// Those who are in by both, with another account drawn from them.
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

/// Why the other settings do not even find somebody: their bases, or their filter.
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
        (false, _, why) if !why.is_empty() => format!("not found by the filter: {why}"),
        _ => "not found by the filter".to_owned(),
    }
}

/// The fields and roles that the rules draw.
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

/// Why somebody is out, in words.
fn reason(dropped: &Dropped) -> String {
    match &dropped.reason {
        Reason::Missing(missing) => format!("{} {}", missing.field, missing.why),
        Reason::NotActive(Some(otherwise)) => (*otherwise).to_owned(),
        Reason::Earlier(intake) => format!("the intake {intake} has them"),
        Reason::Listed
        | Reason::NotAMember
        | Reason::Excluded
        | Reason::NotActive(None)
        | Reason::NoIdentity => dropped.step.refusal().to_owned(),
    }
}

impl Step {
    /// Why somebody is out who fell out at this step.
    fn refusal(self) -> &'static str {
        match self {
            Step::Found => "under no base, or not found by the filter",
            Step::Listed => "not among only, or among except",
            Step::Groups => "in none of the groups",
            Step::NotInGroup => "in a group that keeps people out",
            Step::Active => "not active",
            Step::Complete => "no lasting identity",
            Step::Earlier => "an earlier intake has them",
        }
    }
}

/// The accounts that would meet with something else, by login.
fn fates(now: &Preview, then: &Preview) -> Vec<Fate> {
    let kinds = |preview: &Preview| -> BTreeMap<String, ChangeKind> {
        preview.changes.iter().map(|change| (change.login.clone(), change.kind)).collect()
    };
    let (first, second) = (kinds(now), kinds(then));
    let logins: HashSet<&String> = first.keys().chain(second.keys()).collect();
    let mut fates: Vec<Fate> = logins
        .into_iter()
        .filter(|login| first.get(*login) != second.get(*login))
        .map(|login| Fate {
            login: login.clone(),
            now: first.get(login).copied(),
            then: second.get(login).copied(),
        })
        .collect();
    fates.sort_by(|one, other| (one.then, one.now, &one.login).cmp(&(other.then, other.now, &other.login)));
    fates
}
