//! From entries to candidates, step by step, with a count after each step and a reason for each person who dropped
//! out.
//!
//! No I/O, no recursion; memory is linear in the people read.

#[cfg(test)]
mod tests;

use crate::account::{Account, Replies};
use crate::draw::{Drawer, MissingField, Proposal};
use crate::graph::{GroupPath, Leaf, Reach};
use crate::ldap::entry::{Entry, NameId};
use crate::ldap::filter::Matcher;
use crate::ldap::identity::{Identity, Lasting};
use crate::ldap::name::{Dn, DnKey};
use crate::ldap::schema::{Schema, ServerKind};
use crate::reading::Reading;
use crate::settings::{ActiveCondition, Intake, Settings, active_conditions};
use serde::Serialize;
use std::collections::{HashMap, HashSet};

/// The steps of the selection, in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Step {
    /// The person is under the bases and matches the filter.
    Found,
    /// The person is in `only`, if given, and not in `except`.
    Listed,
    /// The person is a member of one of `groups`.
    Groups,
    /// The person is a member of none of `not_in_group`.
    NotInGroup,
    /// The person is active.
    Active,
    /// The person has a lasting identity and every required field.
    Complete,
    /// No earlier intake has selected the person.
    Earlier,
}

impl Step {
    /// The step's name in the settings and in JSON.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Step::Found => "found",
            Step::Listed => "listed",
            Step::Groups => "groups",
            Step::NotInGroup => "not_in_group",
            Step::Active => "active",
            Step::Complete => "complete",
            Step::Earlier => "earlier",
        }
    }
}

/// The number of people left after a step, and the number who dropped out at it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct FunnelStep {
    /// The step.
    pub step: Step,
    /// People left after it.
    pub left: usize,
    /// People who dropped out at it.
    pub lost: usize,
}

/// A person who passed every step, with the account drawn.
#[derive(Clone, Debug)]
pub struct Candidate<'r> {
    /// The index in [`Reading::people`].
    pub person: usize,
    /// The lasting identity.
    pub identity: Identity,
    /// The account that the field rules draw.
    pub proposal: Proposal<'r>,
    /// Whether it is unknown if the person is active: a domain controller does not show what every account has.
    pub is_activity_hidden: bool,
}

/// Why a person dropped out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reason {
    /// Not in `only`, or in `except`.
    Listed,
    /// Not a member of the selecting groups.
    NotAMember,
    /// A member of an excluding group.
    Excluded,
    /// Not active; with the server's reason, if it is not simply that the person is disabled.
    NotActive(Option<&'static str>),
    /// A required field has no value.
    Missing(MissingField),
    /// No lasting identity, so an account could not be linked.
    NoIdentity,
    /// Selected by an earlier intake, with its name.
    Earlier(String),
}

/// A person who dropped out.
#[derive(Clone, Debug)]
pub struct Dropped {
    /// The index in [`Reading::people`].
    pub person: usize,
    /// The step.
    pub step: Step,
    /// The reason.
    pub reason: Reason,
}

/// The result of a selection.
#[derive(Debug)]
pub struct Selection<'r> {
    /// The count after each step that the settings use.
    pub funnel: Vec<FunnelStep>,
    /// The candidates, in the order of the reading.
    pub candidates: Vec<Candidate<'r>>,
    /// The people who dropped out, in the order of the reading.
    pub dropped: Vec<Dropped>,
    /// Entries of `only` and `except` that match nobody.
    pub nobody: Vec<String>,
    /// The members of the selecting groups; `None` if the intake names none.
    admitted: Option<Reach>,
    /// The members of the excluding groups; `None` if the intake names none.
    excluded: Option<Reach>,
}

/// The people whom the settings name individually.
struct Lists<'i> {
    only: Vec<(&'i str, Name)>,
    except: Vec<(&'i str, Name)>,
    met: HashSet<&'i str>,
}

/// A person as named in the settings.
enum Name {
    Entry(DnKey),
    Login(String),
}

impl<'i> Lists<'i> {
    fn new(intake: &'i Intake) -> Self {
        let name = |text: &'i String| {
            let dn = Dn::parse(text).ok().filter(|dn| dn.depth() > 0);
            (
                text.as_str(),
                dn.map_or_else(|| Name::Login(Account::login_key(text)), |dn| Name::Entry(dn.key())),
            )
        };
        Self {
            only: intake.only.iter().map(name).collect(),
            except: intake.except.iter().map(name).collect(),
            met: HashSet::new(),
        }
    }

    /// Whether the lists allow a person.
    fn admit(&mut self, key: Option<&DnKey>, login: impl FnOnce() -> Option<String>) -> bool {
        if self.only.is_empty() && self.except.is_empty() {
            return true;
        }
        let login = login();
        let is = |(_, name): &&(&'i str, Name)| match name {
            Name::Entry(named) => key == Some(named),
            Name::Login(named) => login.as_ref() == Some(named),
        };
        let wanted = self.only.iter().find(is).map(|(text, _)| *text);
        let unwanted = self.except.iter().find(is).map(|(text, _)| *text);
        self.met.extend(wanted.into_iter().chain(unwanted));
        (self.only.is_empty() || wanted.is_some()) && unwanted.is_none()
    }

    /// Names that matched nobody.
    fn nobody(&self) -> Vec<String> {
        let all = self.only.iter().chain(&self.except).map(|(text, _)| *text);
        all.filter(|text| !self.met.contains(text)).map(str::to_owned).collect()
    }
}

impl<'r> Selection<'r> {
    /// Runs each intake's selection, in order; `readings` has one reading for each. A person selected by one intake
    /// is left out of later ones.
    #[must_use]
    pub fn all(settings: &'r Settings, readings: &'r [Reading]) -> Vec<Self> {
        let mut taken: HashMap<Identity, &str> = HashMap::new();
        let mut all = Vec::new();
        for (intake, reading) in settings.intakes.iter().zip(readings) {
            let mut selection = Self::new(reading, intake);
            if !all.is_empty() {
                selection.leave(&taken);
            }
            if !settings.intakes.is_single() {
                let own = selection.candidates.iter().map(|one| (one.identity.clone(), intake.name.as_str()));
                taken.extend(own);
            }
            all.push(selection);
        }
        all
    }

    /// Takes the value that the person's account has, of an attribute with several.
    pub(crate) fn keep_present(&mut self, intake: &Intake, accounts: &[Account]) {
        if self.candidates.iter().all(|one| one.proposal.undecided().next().is_none()) {
            return;
        }
        let by_link: HashMap<&Identity, &Account> =
            accounts.iter().filter_map(|account| Some((account.link.as_ref()?, account))).collect();
        for candidate in &mut self.candidates {
            let fields: Vec<usize> = candidate.proposal.undecided().collect();
            let Some(account) = by_link.get(&candidate.identity).filter(|_| !fields.is_empty()) else {
                continue;
            };
            for field in fields {
                let name = intake.fields.get_index(field).map_or("", |(name, _)| name);
                candidate.proposal.keep(field, account.field(name));
            }
        }
    }

    /// Puts each value into the form in which the store keeps it.
    pub(crate) fn fit(&mut self, intake: &Intake, replies: &Replies) {
        let forms = intake.fields.keys().enumerate();
        let forms = forms.filter_map(|(at, name)| Some((at, replies.forms.get(name.as_str())?)));
        let forms: Vec<_> = forms.collect();
        for candidate in &mut self.candidates {
            for (at, forms) in &forms {
                if let Some(form) = forms.get(candidate.proposal.value(*at)) {
                    candidate.proposal.fit(*at, form);
                }
            }
        }
    }

    /// Removes candidates whom earlier intakes have selected.
    fn leave(&mut self, taken: &HashMap<Identity, &str>) {
        let before = self.candidates.len();
        let dropped = &mut self.dropped;
        self.candidates.retain(|one| match taken.get(&one.identity) {
            None => true,
            Some(intake) => {
                let reason = Reason::Earlier((*intake).to_owned());
                dropped.push(Dropped { person: one.person, step: Step::Earlier, reason });
                false
            }
        });
        self.dropped.sort_by_key(|one| one.person);
        let left = self.candidates.len();
        self.funnel.push(FunnelStep { step: Step::Earlier, left, lost: before - left });
    }

    /// Runs the selection of `intake` on `reading`.
    #[must_use]
    pub fn new(reading: &'r Reading, intake: &'r Intake) -> Self {
        let people = reading.people();
        let keys = |groups: &[Dn]| groups.iter().map(Dn::key).collect::<Vec<_>>();
        let reach = |groups: &[Dn]| (!groups.is_empty()).then(|| reading.graph().reach(&keys(groups)));
        let (admitted, excluded) = (reach(&intake.groups), reach(&intake.not_in_group));
        let source = reading.source();
        let matchers = active_matchers(intake, reading);
        let activity = Activity::of(intake, reading);
        let drawer = Drawer::new(intake, reading);
        let is_in = |reach: &Reach, person| {
            reading.key(person).is_some_and(|key| reach.contains(reading.graph(), key))
        };

        let lasting = Lasting::new(&reading.source().identity, people.names());
        let mut lists = Lists::new(intake);
        let mut candidates = Vec::with_capacity(people.len());
        let mut dropped = Vec::new();
        for (person, entry) in people.iter().enumerate() {
            let mut drop = |step, reason| dropped.push(Dropped { person, step, reason });
            if !lists.admit(reading.key(person), || drawer.login(person)) {
                drop(Step::Listed, Reason::Listed);
            } else if admitted.as_ref().is_some_and(|reach| !is_in(reach, person)) {
                drop(Step::Groups, Reason::NotAMember);
            } else if excluded.as_ref().is_some_and(|reach| is_in(reach, person)) {
                drop(Step::NotInGroup, Reason::Excluded);
            } else if let Some((_, otherwise)) = matchers.iter().find(|(matcher, _)| !matcher.matches(entry))
            {
                drop(Step::Active, Reason::NotActive(*otherwise));
            } else {
                match (lasting.of(entry), drawer.draw(person)) {
                    (None, _) => drop(Step::Complete, Reason::NoIdentity),
                    (_, Err(missing)) => drop(Step::Complete, Reason::Missing(missing)),
                    (Some(identity), Ok(proposal)) => {
                        let is_activity_hidden = activity.is_some_and(|asked| asked.is_hidden(entry));
                        candidates.push(Candidate { person, identity, proposal, is_activity_hidden });
                    }
                }
            }
        }

        // In a directory without any attribute about it, everybody is active.
        let shows_active = intake.active.is_some() || source.kind == ServerKind::Controller;
        let steps = [
            (Step::Found, true),
            (Step::Listed, !(intake.only.is_empty() && intake.except.is_empty())),
            (Step::Groups, admitted.is_some()),
            (Step::NotInGroup, excluded.is_some()),
            (Step::Active, shows_active || dropped.iter().any(|one| one.step == Step::Active)),
            (Step::Complete, true),
        ];
        let funnel = funnel(people.len(), steps, &dropped);
        Self { funnel, candidates, dropped, nobody: lists.nobody(), admitted, excluded }
    }

    /// The path from a selecting group to a person; empty if the intake names no groups.
    #[must_use]
    pub fn path(&self, reading: &Reading, person: usize) -> GroupPath {
        reading.key(person).map(|key| self.path_of(reading, key, false)).unwrap_or_default()
    }

    /// The path from an excluding group to a person; empty if there is none.
    #[must_use]
    pub fn excluding_path(&self, reading: &Reading, person: usize) -> GroupPath {
        reading.key(person).map(|key| self.path_of(reading, key, true)).unwrap_or_default()
    }

    /// The path from a selecting group to a name, or, with `keeps_out`, from an excluding group; empty if there is
    /// none.
    #[must_use]
    pub fn path_of(&self, reading: &Reading, key: &DnKey, keeps_out: bool) -> GroupPath {
        let reach = if keeps_out { &self.excluded } else { &self.admitted };
        reach.as_ref().map(|reach| reach.path(reading.graph(), key)).unwrap_or_default()
    }

    /// Whether one of these selecting (or, with `keeps_out`, excluding) groups may have members that were not seen.
    #[must_use]
    pub fn hides(&self, reading: &Reading, groups: &[Dn], keeps_out: bool) -> bool {
        let reach = if keeps_out { &self.excluded } else { &self.admitted };
        let is_hidden =
            |reach: &Reach| groups.iter().any(|group| reading.hides_members_of(&group.key(), reach));
        reach.as_ref().is_some_and(is_hidden)
    }

    /// Members of the selecting groups who are neither groups nor among the people found, each with the group that
    /// lists it.
    pub fn strangers<'p>(&'p self, reading: &'p Reading) -> impl Iterator<Item = Leaf<'p>> {
        let leaves = self.admitted.iter().flat_map(|reach| reach.leaves(reading.graph()));
        leaves.filter(|leaf| !reading.is_person(leaf.key))
    }
}

/// The schema by which a condition is evaluated. The settings' filter means what it means to the server; the built-in
/// ones mean what is written here, even on servers without an ordering rule (OpenLDAP's usual schema has none for
/// `shadowExpire`).
pub(crate) fn schema_for<'r>(condition: &ActiveCondition, reading: &'r Reading) -> &'r Schema {
    if condition.is_own { reading.schema() } else { Schema::of(reading.source().kind) }
}

/// Matchers for the conditions of an active person, each with the reason given to people who fail it.
fn active_matchers(intake: &Intake, reading: &Reading) -> Vec<(Matcher, Option<&'static str>)> {
    let (people, source) = (reading.people(), reading.source());
    // An attribute that no entry has excludes nobody; on a domain controller every entry has one.
    let is_asked = |one: &ActiveCondition| {
        let mut names = one.filter.attributes();
        intake.active.is_some()
            || source.kind == ServerKind::Controller
            || names.any(|name| people.names().covered_by(name).next().is_some())
    };
    active_conditions(intake, source.kind, source.at)
        .into_iter()
        .filter(is_asked)
        .map(|one| (Matcher::new(&one.filter, schema_for(&one, reading), people.names()), one.otherwise))
        .collect()
}

/// The attribute that every account of a domain controller has ([MS-ADTS] §3.1.1.8.10), and by which it is disabled.
const CONTROL: &str = "userAccountControl";

/// Where people show whether they are active, if they must.
#[derive(Clone, Copy)]
struct Activity {
    control: Option<NameId>,
    /// What only accounts have; a contact, for example, has neither.
    of_accounts: [Option<NameId>; 2],
}

impl Activity {
    /// `None` unless the reading is a domain controller's, and a condition tests the attribute.
    fn of(intake: &Intake, reading: &Reading) -> Option<Self> {
        let source = reading.source();
        let conditions = active_conditions(intake, source.kind, source.at);
        let mut names = conditions.iter().flat_map(|one| one.filter.attributes());
        let is_asked = names.any(|name| name.eq_ignore_ascii_case(CONTROL));
        let find = |name| reading.people().names().find(name);
        (source.kind == ServerKind::Controller && is_asked)
            .then(|| Self { control: find(CONTROL), of_accounts: ["objectSid", "sAMAccountName"].map(find) })
    }

    fn is_hidden(self, entry: Entry<'_>) -> bool {
        let has = |wanted: Option<NameId>| entry.attributes_by_id().any(|(id, _)| Some(id) == wanted);
        !has(self.control) && self.of_accounts.into_iter().any(has)
    }
}

/// The number of people left after each step that is asked for.
fn funnel<const N: usize>(people: usize, steps: [(Step, bool); N], dropped: &[Dropped]) -> Vec<FunnelStep> {
    let mut lost: HashMap<Step, usize> = HashMap::new();
    for dropped in dropped {
        *lost.entry(dropped.step).or_default() += 1;
    }
    let mut left = people;
    let asked = steps.into_iter().filter(|(_, is_asked)| *is_asked);
    let step = |(step, _)| {
        let lost = lost.get(&step).copied().unwrap_or(0);
        left -= lost;
        FunnelStep { step, left, lost }
    };
    asked.map(step).collect()
}
