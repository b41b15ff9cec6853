//! What one reading reads.

use crate::graph::primary_group;
use crate::ldap::filter::Filter;
use crate::ldap::identity::LASTING;
use crate::ldap::name::{Dn, DnKey};
use crate::ldap::schema::ServerKind;
use crate::settings::rules::{Condition, FieldRule};
use crate::settings::{GroupIntake, GroupPurpose, Intake, MemberAttribute, Strategy, active_filter};
use jiff::Timestamp;
use std::collections::{BTreeSet, HashSet};

/// What one reading reads.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Request {
    /// The name of the directory.
    pub directory: String,
    /// The search bases for people; each covers its whole subtree.
    pub bases: Vec<Dn>,
    /// The filter that selects people.
    pub filter: Filter,
    /// The attribute of the lasting identity; `None` for the first usual one present.
    pub identity: Option<String>,
    /// The groups whose nests are read, by purpose. Excluding groups come first, so that a group in several nests
    /// counts as excluding.
    pub nests: [(Vec<Dn>, GroupPurpose); 3],
    /// Where groups are: a member elsewhere is not looked up as a group. Empty for everywhere.
    pub group_bases: Vec<Dn>,
    /// Entries that member lists still name and that no longer exist.
    pub deleted: Vec<Dn>,
    /// How nested groups are read.
    pub strategy: Strategy,
    /// The attribute that `memberUid` of a group refers to, if the settings give one.
    pub member_login: Option<String>,
    /// The attribute that says who is in which group, if the settings give one.
    pub member_attribute: Option<MemberAttribute>,
    /// The attributes of people whose values are names of other entries to be read.
    pub followed: BTreeSet<String>,
    /// The groups to be imported into the application, if any.
    pub application_groups: Option<GroupRequest>,
    /// The settings' own conditions on people: `active`, and each `when`.
    pub conditions: Vec<Filter>,
    /// The entries below which conditions place people.
    under: Vec<Dn>,
    /// The attributes of people that rules use, on every kind of server.
    used: BTreeSet<String>,
    /// The attributes that show whether a person is active, on a plain server and on a domain controller.
    active: [BTreeSet<String>; 2],
    /// Those of all these that a filter tests.
    tested: BTreeSet<String>,
}

/// What the settings name a place for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum PlacePurpose {
    /// A search base for people.
    People,
    /// A search base for nested groups.
    Groups,
    /// A search base for groups to be imported.
    ApplicationGroups,
    /// The place of people in a condition (`under`).
    Condition,
}

/// The groups to be imported into the application.
#[derive(Clone, Debug)]
pub struct GroupRequest {
    /// The search bases; each covers its whole subtree.
    pub bases: Vec<Dn>,
    /// The filter that selects the groups.
    pub filter: Filter,
    /// The attributes to read.
    pub attributes: BTreeSet<String>,
    /// The selection, as text.
    pub which: String,
}

impl Request {
    /// What an intake needs.
    #[must_use]
    pub fn of(intake: &Intake) -> Self {
        let names = |names: &mut dyn Iterator<Item = &str>| -> BTreeSet<String> {
            names.map(str::to_owned).collect()
        };
        let active = [ServerKind::Plain, ServerKind::Controller]
            .map(|kind| names(&mut active_filter(intake, kind, Timestamp::UNIX_EPOCH).attributes()));
        let conditions = names(&mut intake.conditions().flat_map(Condition::attributes));
        let mut used = names(&mut intake.fields.values().flat_map(FieldRule::from_attributes));
        used.extend(conditions.iter().cloned());
        let mut tested = conditions;
        for filter in [Some(&intake.filter), intake.active.as_ref()].into_iter().flatten() {
            tested.extend(filter.attributes().map(str::to_owned));
        }
        Self {
            directory: intake.directory.clone(),
            bases: intake.bases.clone(),
            filter: intake.filter.clone(),
            identity: intake.identity.clone(),
            nests: intake.nests().map(|(groups, purpose)| (groups.into_iter().cloned().collect(), purpose)),
            group_bases: intake.group_bases.clone(),
            deleted: intake.deleted.clone(),
            strategy: intake.strategy,
            member_login: intake.member_login.clone(),
            member_attribute: intake.member_attribute.clone(),
            followed: names(&mut intake.fields.values().flat_map(FieldRule::followed)),
            application_groups: intake.application_groups.as_ref().map(GroupRequest::of),
            conditions: own_conditions(intake),
            under: intake.conditions().flat_map(|condition| condition.under.iter().cloned()).collect(),
            used,
            active,
            tested,
        }
    }

    /// The people of an intake and only the nests of these groups, by their member lists: for looking at membership.
    #[must_use]
    pub fn of_nests(intake: &Intake, groups: Vec<Dn>, group_bases: &[Dn]) -> Self {
        let people = Intake { fields: indexmap::IndexMap::new(), roles: Vec::new(), ..intake.clone() };
        let own = Self::of(&people);
        let nests = [
            (Vec::new(), GroupPurpose::Exclude),
            (groups, GroupPurpose::Admit),
            (Vec::new(), GroupPurpose::Decide),
        ];
        Self { nests, group_bases: group_bases.to_vec(), application_groups: None, ..own.by_lists() }
    }

    /// The same with more attributes of people.
    #[must_use]
    pub fn with(mut self, more: impl IntoIterator<Item = impl Into<String>>) -> Self {
        for name in more {
            let name = name.into();
            self.tested.insert(name.clone());
            self.used.insert(name);
        }
        self
    }

    /// The same with the attributes in the filter, so that a search in what was read finds the same people.
    #[must_use]
    pub fn with_filter(self) -> Self {
        let names: Vec<String> = self.filter.attributes().map(str::to_owned).collect();
        self.with(names).with(["objectClass"])
    }

    /// The same by member lists: a server's own computation does not say which group lists whom.
    #[must_use]
    pub fn by_lists(mut self) -> Self {
        self.strategy = self.strategy.by_lists();
        self
    }

    /// Everything that either of two requests to one directory reads, with the same `identity`, `member_login` and
    /// `member_attribute`.
    #[must_use]
    pub fn union(mut self, other: &Self) -> Self {
        add(&mut self.bases, &other.bases);
        for ((own, _), (others, _)) in self.nests.iter_mut().zip(&other.nests) {
            add(own, others);
        }
        if self.group_bases.is_empty() || other.group_bases.is_empty() {
            self.group_bases.clear();
        } else {
            add(&mut self.group_bases, &other.group_bases);
        }
        add(&mut self.deleted, &other.deleted);
        self.conditions.extend(other.conditions.iter().cloned());
        add(&mut self.under, &other.under);
        self.filter = either(&self.filter, &other.filter);
        self.followed.extend(other.followed.iter().cloned());
        self.used.extend(other.used.iter().cloned());
        self.tested.extend(other.tested.iter().cloned());
        for (own, others) in self.active.iter_mut().zip(&other.active) {
            own.extend(others.iter().cloned());
        }
        self.application_groups = match (self.application_groups, &other.application_groups) {
            (Some(own), Some(others)) => Some(own.union(others)),
            (own, others) => own.or_else(|| others.clone()),
        };
        self
    }

    /// The entries that the settings name as places, with what for.
    pub fn places(&self) -> impl Iterator<Item = (&Dn, PlacePurpose)> {
        let of = |purpose| move |dn| (dn, purpose);
        let brought = self.application_groups.iter().flat_map(|groups| &groups.bases);
        self.bases
            .iter()
            .map(of(PlacePurpose::People))
            .chain(self.group_bases.iter().map(of(PlacePurpose::Groups)))
            .chain(brought.map(of(PlacePurpose::ApplicationGroups)))
            .chain(self.under.iter().map(of(PlacePurpose::Condition)))
    }

    /// Whether it reads groups and members.
    #[must_use]
    pub fn reads_groups(&self) -> bool {
        self.application_groups.is_some() || self.groups().next().is_some()
    }

    /// The groups whose nests are read.
    pub fn groups(&self) -> impl Iterator<Item = &Dn> {
        self.nests.iter().flat_map(|(groups, _)| groups)
    }

    /// The groups that exclude people.
    pub(super) fn excluding(&self) -> impl Iterator<Item = &Dn> {
        let nests = self.nests.iter().filter(|(_, purpose)| *purpose == GroupPurpose::Exclude);
        nests.flat_map(|(groups, _)| groups)
    }

    /// Whether some groups exclude people.
    pub(super) fn excludes(&self) -> bool {
        self.nests.iter().any(|(groups, purpose)| *purpose == GroupPurpose::Exclude && !groups.is_empty())
    }

    /// The attribute that `memberUid` of a group refers to on a server of this kind: `uid` unless the settings say
    /// otherwise, or none on a domain controller.
    #[must_use]
    pub fn member_login_attribute(&self, kind: ServerKind) -> Option<&str> {
        self.member_login.as_deref().or((kind == ServerKind::Plain).then_some("uid"))
    }

    /// The attribute of people that tells their groups, if the settings name one.
    #[must_use]
    pub fn attribute_of_people(&self) -> Option<&str> {
        let own = self.member_attribute.as_ref().filter(|attribute| attribute.is_on_people());
        own.map(|attribute| attribute.name.as_str())
    }

    /// The attributes of people by which they are members of groups, other than by name.
    #[must_use]
    pub fn joining(&self, kind: ServerKind) -> Vec<String> {
        let login = self.member_login_attribute(kind);
        let own = self.attribute_of_people();
        [primary_group(kind), "memberOf"].into_iter().chain(login).chain(own).map(str::to_owned).collect()
    }

    /// The attributes of people to read from a server of this kind, sorted.
    #[must_use]
    pub fn attributes(&self, kind: ServerKind) -> Vec<String> {
        let mut wanted = self.used.clone();
        let [plain, controller] = &self.active;
        wanted.extend(if kind == ServerKind::Controller { controller } else { plain }.iter().cloned());
        if self.reads_groups() {
            // Attributes by which groups may list people other than by name.
            wanted.insert(primary_group(kind).to_owned());
            wanted.extend(self.member_login_attribute(kind).map(str::to_owned));
            wanted.extend(self.attribute_of_people().map(str::to_owned));
            wanted.extend((kind == ServerKind::Controller).then(|| "objectSid".to_owned()));
            let by_member_of = matches!(self.strategy, Strategy::Upwards | Strategy::Chain);
            wanted.extend(by_member_of.then(|| "memberOf".to_owned()));
        }
        match &self.identity {
            Some(identity) => drop(wanted.insert(identity.clone())),
            None => wanted.extend(LASTING.map(str::to_owned)),
        }
        wanted.into_iter().collect()
    }

    /// The attributes that filters and conditions test.
    pub fn tested(&self) -> impl Iterator<Item = &str> {
        self.tested.iter().map(String::as_str)
    }
}

impl GroupRequest {
    fn of(groups: &GroupIntake) -> Self {
        Self {
            bases: groups.bases.clone(),
            filter: groups.filter.clone(),
            attributes: groups.attributes().into_iter().collect(),
            which: groups.which(),
        }
    }

    fn union(mut self, other: &Self) -> Self {
        add(&mut self.bases, &other.bases);
        self.filter = either(&self.filter, &other.filter);
        self.attributes.extend(other.attributes.iter().cloned());
        self
    }
}

/// The settings' own conditions, each once.
fn own_conditions(intake: &Intake) -> Vec<Filter> {
    let when = intake.conditions().filter_map(|condition| condition.when.as_ref());
    let mut conditions: Vec<Filter> = Vec::new();
    for filter in intake.active.iter().chain(when) {
        if !conditions.contains(filter) {
            conditions.push(filter.clone());
        }
    }
    conditions
}

fn add(list: &mut Vec<Dn>, more: &[Dn]) {
    let mut known: HashSet<DnKey> = list.iter().map(Dn::key).collect();
    list.extend(more.iter().filter(|name| known.insert(name.key())).cloned());
}

fn either(one: &Filter, other: &Filter) -> Filter {
    if one == other { one.clone() } else { Filter::any([one.clone(), other.clone()]) }
}
