//! What a reading saw, in counts. An apply remembers it, and the next reading is held against it: what fell to nothing
//! was probably not seen, since a hidden part of a directory looks like an empty one.
//!
//! No I/O, no recursion; linear in the people, their attributes and the members of groups.

use super::{Gap, Hidden, Reading};
use crate::graph::NodeId;
use crate::ldap::filter::Filter;
use crate::ldap::name::{Dn, DnKey};
use crate::ldap::schema::ServerKind;
use crate::settings::rules::{Condition, FieldRule};
use crate::settings::{Intake, Removals, active_filter};
use crate::words::counted;
use foldhash::HashMap;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// People in one container, or with one attribute, so few that losing them all is nothing unusual.
const FEW: u64 = 5;

/// How far a directory's servers have come: changes up to this mark are in what they show.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ChangeMark {
    /// The highest change number of one domain controller (highestCommittedUSN, [MS-ADTS] §3.1.1.5.3).
    Number(u64),
    /// The time of the last change (contextCSN up to its first `#`), for each naming context.
    Times(Vec<String>),
}

impl ChangeMark {
    /// Whether the server has not come as far as it had when it showed `earlier`.
    #[must_use]
    pub fn is_behind(&self, earlier: &Self) -> bool {
        match (self, earlier) {
            (Self::Number(now), Self::Number(then)) => now < then,
            (Self::Times(now), Self::Times(then)) => now.iter().zip(then).any(|(now, then)| now < then),
            _ => false,
        }
    }
}

/// What one intake's reading saw, in counts.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct Footprint {
    /// The server that answered, by its own name, or as the settings name it.
    pub server: String,
    /// How far it had come.
    pub mark: Option<ChangeMark>,
    /// Whether it was a domain controller.
    pub is_controller: bool,
    /// Who was bound; `None` if a snapshot answered.
    pub bound: Option<String>,
    /// The attribute of the lasting identity.
    pub identity: String,
    /// The number of people below each base.
    pub people: BTreeMap<String, u64>,
    /// The number of people directly in each container.
    pub containers: BTreeMap<String, u64>,
    /// The number of people in each named group, nested members included.
    pub groups: BTreeMap<String, u64>,
    /// The number of people with a value for each attribute that the settings use.
    pub attributes: BTreeMap<String, u64>,
    /// The number of people with each attribute that this kind of server shows on those who are not active.
    pub marks: BTreeMap<String, u64>,
}

/// What is counted.
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

/// What a name is counted as.
type Which<'f> = fn(&'f str) -> Counted<'f>;

/// A count that is lower than at the last apply.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fall<'f> {
    /// What is counted.
    pub what: Counted<'f>,
    /// The count at the last apply.
    pub before: u64,
    /// The count now.
    pub now: u64,
}

impl Fall<'_> {
    /// Whether it is further than the settings tolerate, and of more than a few.
    #[must_use]
    pub fn is_beyond(&self, tolerance: Removals) -> bool {
        let lost = self.before - self.now;
        let is_steady = !matches!(self.what, Counted::Mark(_));
        is_steady && lost >= FEW && lost > tolerance.of(self.before)
    }

    /// Whether nothing is left. A few people with an attribute may lose it one by one.
    #[must_use]
    pub fn is_to_nothing(&self) -> bool {
        let least = match self.what {
            Counted::People(_) | Counted::Group(_) => 1,
            Counted::Attribute(_) => 2,
            Counted::Container(_) | Counted::Mark(_) => FEW,
        };
        self.now == 0 && self.before >= least
    }

    /// What is counted, in words.
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
    /// What a reading saw of an intake.
    #[must_use]
    pub fn of(reading: &Reading, intake: &Intake) -> Self {
        let source = reading.source();
        let server = source.own_name.as_ref().unwrap_or(&source.server);
        Self {
            server: server.clone(),
            mark: source.mark.clone(),
            is_controller: source.kind == ServerKind::Controller,
            bound: source.bound.clone(),
            identity: source.identity.clone(),
            people: people(reading, &intake.bases),
            containers: containers(reading),
            groups: groups(reading, intake),
            attributes: attributes(reading, used(intake)),
            marks: attributes(reading, marks(intake, reading)),
        }
    }

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
        let is_empty = |name: &str| self.containers.get(name).is_none_or(|count| *count == 0);
        before.containers.iter().filter_map(move |(name, count)| {
            let is_one = *count >= FEW && missing > count / 2 && is_empty(name);
            is_one.then_some(Fall { what: Counted::Container(name), before: *count, now: 0 })
        })
    }

    /// How the directory is seen otherwise than before: by another account, or at another kind of server.
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

    /// Whether another server answers than at the last apply, or the same one before it had come as far.
    #[must_use]
    pub fn is_elsewhere(&self, before: &Self) -> bool {
        let is_behind =
            || self.mark.as_ref().zip(before.mark.as_ref()).is_some_and(|(now, then)| now.is_behind(then));
        self.server != before.server || is_behind()
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
    let mut counts: HashMap<DnKey, (usize, u64)> = HashMap::default();
    for person in 0..reading.people().len() {
        if let Some(container) = reading.key(person).and_then(DnKey::parent) {
            counts.entry(container).or_insert((person, 0)).1 += 1;
        }
    }
    let named = |(person, count): (usize, u64)| {
        let dn = Dn::parse(reading.people().get(person)?.dn()).ok()?;
        // Servers may spell one container in several ways.
        Some((dn.parent()?.to_string().to_lowercase(), count))
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

/// The number of people with a value for each attribute.
fn attributes(reading: &Reading, used: BTreeSet<String>) -> BTreeMap<String, u64> {
    let names = reading.people().names();
    let mut by_id: HashMap<_, Vec<usize>> = HashMap::default();
    for (at, name) in used.iter().enumerate() {
        names.covered_by(name).for_each(|id| by_id.entry(id).or_default().push(at));
    }
    let mut counts = vec![0_u64; used.len()];
    let mut last = vec![usize::MAX; used.len()];
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
    used.into_iter().zip(counts).collect()
}

/// The attributes of people that fields, conditions and the settings' own `active` use.
fn used(intake: &Intake) -> BTreeSet<String> {
    let active = intake.active.iter().flat_map(Filter::attributes);
    let fields = intake.fields.values().flat_map(FieldRule::from_attributes);
    let conditions = intake.conditions().flat_map(Condition::attributes);
    fields.chain(conditions).chain(active).map(str::to_ascii_lowercase).collect()
}

/// The attributes by which this kind of server shows who is not active, unless the settings say.
fn marks(intake: &Intake, reading: &Reading) -> BTreeSet<String> {
    let source = reading.source();
    let active = active_filter(intake, source.kind, source.at);
    active.attributes().filter(|_| intake.active.is_none()).map(str::to_ascii_lowercase).collect()
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
        self.hidden_attributes.insert(name.to_owned());
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

/// How to say that a fall is true.
const ACCEPT: &str = "If it is true, `webtaxon apply --release shrunk` says so";

fn other_identity(now: &Footprint, before: &Footprint) -> Gap {
    let (then, now) = (&before.identity, &now.identity);
    let reason = format!(
        "they were made by {then}, and people show {now} now: {then} may be hidden from the bind account; `identity` in the settings names the one to use. {ACCEPT}"
    );
    let part = "links of the accounts".to_owned();
    Gap { part, reason, is_fall: true, hides_excluded: true, hides_members: Hidden::None }
}
