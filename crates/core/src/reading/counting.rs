//! Counting what a reading saw, and holding it against what the last apply remembers. No I/O, no recursion; linear in the
//! people, their attributes and the members of groups.

use super::footprint::{Counted, Fall, Footprint};
use super::{Gap, Hidden, Reading};
use crate::graph::NodeId;
use crate::ldap::filter::Filter;
use crate::ldap::name::{Dn, DnKey};
use crate::ldap::schema::ServerKind;
use crate::settings::rules::{Condition, FieldRule};
use crate::settings::{Intake, active_filter};
use crate::words::counted;
use foldhash::HashMap;
use std::collections::{BTreeMap, BTreeSet, HashSet};

impl Footprint {
    /// The footprint of an intake's reading.
    #[must_use]
    pub fn of(reading: &Reading, intake: &Intake) -> Self {
        let source = reading.source();
        let [attributes, marks] = attributes(reading, [used(intake), marks(intake, reading)]);
        Self {
            server: reading.server().to_owned(),
            mark: source.mark.clone(),
            is_controller: source.kind == ServerKind::Controller,
            bound: source.bound.clone(),
            identity: source.identity.clone(),
            people: people(reading, &intake.bases),
            containers: containers(reading),
            groups: groups(reading, intake),
            nests: nests(reading),
            attributes,
            marks,
        }
    }
}

impl Footprint {
    /// The attributes whose absence from one person is held against a footprint: those that people had; where nothing is
    /// remembered and the person has an account, those that the settings use.
    #[must_use]
    pub fn of_attributes(before: Option<&Self>, intake: &Intake, has_account: bool) -> Vec<String> {
        let Some(before) = before else {
            return if has_account { used(intake).into_iter().collect() } else { Vec::new() };
        };
        let fall = |what, before| Fall { what, before, now: 0 };
        let attributes =
            before.attributes.iter().map(|(name, count)| (name, fall(Counted::Attribute(name), *count)));
        let marks = before.marks.iter().map(|(name, count)| (name, fall(Counted::Mark(name), *count)));
        let all = attributes.chain(marks).filter(|(_, fall)| fall.is_to_nothing());
        all.map(|(name, _)| name.clone()).collect()
    }
}

/// The number of people below each base.
fn people(reading: &Reading, bases: &[Dn]) -> BTreeMap<String, u64> {
    let count = |base: &Dn| match bases {
        [_] => reading.people().len(),
        _ => {
            let top = base.key();
            let keys = (0..reading.people().len()).filter_map(|person| reading.key(person));
            keys.filter(|key| key.is_within(&top)).count()
        }
    };
    bases.iter().map(|base| (base.to_string(), wide(count(base)))).collect()
}

/// The number of people directly in each container.
fn containers(reading: &Reading) -> BTreeMap<String, u64> {
    let mut counts: HashMap<&str, (usize, u64)> = HashMap::default();
    for person in 0..reading.people().len() {
        if let Some(container) = reading.key(person).and_then(DnKey::above) {
            counts.entry(container).or_insert((person, 0)).1 += 1;
        }
    }
    let named = |(person, count): (usize, u64)| {
        let dn = Dn::parse(reading.people().get(person)?.dn()).ok()?;
        Some((dn.parent()?.to_string(), count))
    };
    counts.into_values().filter_map(named).collect()
}

/// The number of people in each group that the intake names.
fn groups(reading: &Reading, intake: &Intake) -> BTreeMap<String, u64> {
    let named = intake.groups.iter().chain(&intake.not_in_group).chain(intake.deciding_groups());
    let people: Vec<NodeId> = (0..reading.people().len()).filter_map(|person| reading.node(person)).collect();
    let mut counts = BTreeMap::new();
    for group in named {
        counts.entry(group.to_string()).or_insert_with(|| {
            let reach = reading.graph().reach([&group.key()]);
            wide(people.iter().filter(|person| reach.has(**person)).count())
        });
    }
    counts
}

/// Maximum number of groups whose names are remembered.
const MOST_GROUPS: usize = 2_000;

/// The groups that were read.
fn nests(reading: &Reading) -> BTreeSet<String> {
    let groups = reading.graph().all_groups().map(|(dn, _)| dn.to_owned());
    let groups: BTreeSet<String> = groups.take(MOST_GROUPS + 1).collect();
    if groups.len() > MOST_GROUPS { BTreeSet::new() } else { groups }
}

/// The number of people with a value for each attribute, for two lists of attributes.
fn attributes(reading: &Reading, lists: [BTreeSet<String>; 2]) -> [BTreeMap<String, u64>; 2] {
    let names = reading.people().names();
    let all: Vec<&String> = lists.iter().flatten().collect();
    let mut by_id: HashMap<_, Vec<usize>> = HashMap::default();
    for (at, name) in all.iter().enumerate() {
        names.covered_by(name).for_each(|id| by_id.entry(id).or_default().push(at));
    }
    let mut counts = vec![0_u64; all.len()];
    let mut last = vec![usize::MAX; all.len()];
    for (person, entry) in reading.people().iter().enumerate() {
        for (id, mut values) in entry.attributes_by_id() {
            let Some(places) = by_id.get(&id).filter(|_| values.next().is_some()) else { continue };
            for at in places {
                // A person may have the attribute with several options.
                if let (Some(count), Some(last)) = (counts.get_mut(*at), last.get_mut(*at))
                    && std::mem::replace(last, person) != person
                {
                    *count += 1;
                }
            }
        }
    }
    let mut counts = counts.into_iter();
    lists.map(|list| list.into_iter().zip(&mut counts).collect())
}

/// The attributes of people that fields, conditions and the settings' own `active` use.
fn used(intake: &Intake) -> BTreeSet<String> {
    let active = intake.active.iter().flat_map(Filter::attributes);
    let fields = intake.fields.values().flat_map(FieldRule::from_attributes);
    let conditions = intake.conditions().flat_map(Condition::attributes);
    once_each(fields.chain(conditions).chain(active))
}

/// The attributes by which this kind of server shows who is not active, unless the settings say.
fn marks(intake: &Intake, reading: &Reading) -> BTreeSet<String> {
    let source = reading.source();
    let active = active_filter(intake, source.kind, source.at);
    once_each(active.attributes().filter(|_| intake.active.is_none()))
}

/// The names, of those that differ only in case the first.
fn once_each<'n>(names: impl Iterator<Item = &'n str>) -> BTreeSet<String> {
    let mut seen = HashSet::new();
    names.filter(|name| seen.insert(name.to_ascii_lowercase())).map(str::to_owned).collect()
}

fn wide(count: usize) -> u64 {
    u64::try_from(count).unwrap_or(u64::MAX)
}

impl Reading {
    /// Holds the reading against what the last apply remembers: whatever fell to nothing becomes a gap for all that
    /// depends on it.
    pub fn hold_against(&mut self, intake: &Intake, before: Option<&Footprint>) {
        let now = Footprint::of(self, intake);
        if let Some(before) = before {
            let was_whole = self.whole.is_some();
            if !now.identity.eq_ignore_ascii_case(&before.identity) && !before.identity.is_empty() {
                self.fell(other_identity(&now, before), true);
            }
            for fall in now.falls(before).into_iter().filter(Fall::is_to_nothing) {
                match fall.what {
                    Counted::Attribute(name) | Counted::Mark(name) => {
                        self.attribute_fell(intake, name, &fall)
                    }
                    // Counts of a reading with gaps are lower for that reason.
                    _ if !was_whole => {}
                    Counted::Group(name) => self.group_fell(intake, name, &fall),
                    Counted::People(_) | Counted::Container(_) => self.fell(gap(&fall, FALLEN_PEOPLE), true),
                }
            }
        }
        self.footprint = Some(now);
        self.before = before.cloned();
    }

    /// Holds the reading of one person against what the last apply remembers. `is_shown` tells whether the directory
    /// shows an attribute for anybody, or the members of a group: what it does not show, and was there, is a gap for all
    /// that depends on it. Where nothing is remembered, nobody loses the value of an attribute that nobody shows.
    pub fn hold_one_against(
        &mut self,
        intake: &Intake,
        before: Option<&Footprint>,
        is_shown: impl Fn(Counted<'_>) -> bool,
    ) {
        let Some(before) = before else {
            let hidden = used(intake).into_iter().filter(|name| !is_shown(Counted::Attribute(name)));
            self.hidden_attributes.extend(hidden.map(|name| name.to_ascii_lowercase()));
            return;
        };
        let identity = &self.source().identity;
        if !identity.eq_ignore_ascii_case(&before.identity) && !before.identity.is_empty() {
            let now = Footprint { identity: identity.clone(), ..Footprint::default() };
            self.fell(other_identity(&now, before), true);
        }
        let attributes = before.attributes.iter().map(|(name, count)| (Counted::Attribute(name), *count));
        let marks = before.marks.iter().map(|(name, count)| (Counted::Mark(name), *count));
        let groups = before.groups.iter().map(|(name, count)| (Counted::Group(name), *count));
        for (what, before) in attributes.chain(marks).chain(groups) {
            let fall = Fall { what, before, now: 0 };
            if !fall.is_to_nothing() || is_shown(what) {
                continue;
            }
            match what {
                Counted::Attribute(name) | Counted::Mark(name) => self.attribute_fell(intake, name, &fall),
                Counted::Group(name) => self.group_fell(intake, name, &fall),
                Counted::People(_) | Counted::Container(_) => {}
            }
        }
    }

    /// Adds a gap; `takes_proof` if people may be missing because of it.
    fn fell(&mut self, gap: Gap, takes_proof: bool) {
        self.gaps.push(gap);
        if takes_proof {
            self.whole = None;
        }
    }

    fn group_fell(&mut self, intake: &Intake, name: &str, fall: &Fall<'_>) {
        let is = |group: &&Dn| group.to_string() == name;
        let named = || intake.groups.iter().chain(&intake.not_in_group).chain(intake.deciding_groups());
        let hides_members = named().find(is).map_or(Hidden::None, |group| Hidden::Of(group.key()));
        let hides_excluded = intake.not_in_group.iter().any(|group| is(&group));
        let admits = intake.groups.iter().any(|group| is(&group));
        self.fell(Gap { hides_members, hides_excluded, ..gap(fall, FALLEN_GROUP) }, admits);
    }

    fn attribute_fell(&mut self, intake: &Intake, name: &str, fall: &Fall<'_>) {
        let source = self.source();
        let is = |used: &str| used.eq_ignore_ascii_case(name);
        let decides_activity = active_filter(intake, source.kind, source.at).attributes().any(is);
        let required = intake.fields.values().filter(|rule| rule.required);
        let is_required = required.flat_map(FieldRule::from_attributes).any(is);
        self.hidden_attributes.insert(name.to_ascii_lowercase());
        let gap = Gap { hides_excluded: decides_activity, ..gap(fall, FALLEN_ATTRIBUTE) };
        self.fell(gap, decides_activity || is_required);
    }
}

const FALLEN_PEOPLE: &str = "they may be hidden from the bind account, or have moved";
const FALLEN_GROUP: &str = "they may be hidden from the bind account";
const FALLEN_ATTRIBUTE: &str = "it may be hidden from the bind account";

/// The gap for a count that fell to nothing.
fn gap(fall: &Fall<'_>, may: &str) -> Gap {
    let before = counted(usize::try_from(fall.before).unwrap_or(usize::MAX), "was", "were");
    let reason = format!("{before} there at the last apply, and none now; {may}. {ACCEPT}");
    Gap { part: fall.called(), reason, is_fall: true, hides_excluded: false, hides_members: Hidden::None }
}

/// The remedy if a fall is true.
const ACCEPT: &str = "If it is true, `webtaxon apply --release shrunk` says so";

fn other_identity(now: &Footprint, before: &Footprint) -> Gap {
    let (then, now) = (&before.identity, &now.identity);
    let reason = format!(
        "they were made by {then}, and people show {now} now: {then} may be hidden from the bind account; `identity` in the settings names the one to use. {ACCEPT}"
    );
    let part = "links of the accounts".to_owned();
    Gap { part, reason, is_fall: true, hides_excluded: true, hides_members: Hidden::None }
}
