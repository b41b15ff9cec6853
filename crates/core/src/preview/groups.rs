//! Changes to the application's groups: created, changed and deleted groups, members who join and leave. The promises
//! for accounts hold here, too: without the proof of a whole reading, nobody leaves a group and no group is deleted;
//! a group without a link is never changed, nor is a hand-made or protected account's membership; a group is found by
//! its link first.
//!
//! No I/O, no recursion; linear in the members, with one pass over the names for every 64 groups.

use super::{Change, ChangeKind};
use crate::account::{Account, Group, Groups, State, folded};
use crate::draw::{Drawer, Drawn};
use crate::ldap::identity::{Identity, Lasting};
use crate::ldap::name::{Dn, DnKey, short};
use crate::reading::{Reading, Whereabouts, Whole};
use crate::settings::rules::LIST;
use crate::settings::{GroupIntake, GroupLeaving, GroupMembers, Settings};
use foldhash::{HashMap, HashSet};
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;
use std::borrow::Cow;

/// The kinds of change to a group.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[non_exhaustive]
pub enum GroupChangeKind {
    /// A directory group is created in the application.
    #[serde(rename = "import group")]
    Import,
    /// An existing unlinked group is linked to a directory group.
    #[serde(rename = "adopt group")]
    Adopt,
    /// It is renamed; its members may change, too.
    #[serde(rename = "rename group")]
    Rename,
    /// Only its members change.
    #[serde(rename = "update members")]
    Members,
    /// It is deleted.
    #[serde(rename = "remove group")]
    Remove,
}

impl GroupChangeKind {
    /// All kinds, in the order of a preview.
    pub const ALL: [Self; 5] = [Self::Import, Self::Adopt, Self::Rename, Self::Members, Self::Remove];

    /// The kind in words.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Import => "import group",
            Self::Adopt => "adopt group",
            Self::Rename => "rename group",
            Self::Members => "update members",
            Self::Remove => "remove group",
        }
    }
}

/// One change to a group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct GroupChange {
    /// Its kind.
    pub kind: GroupChangeKind,
    /// The group's name: the current one, or the future one of a new group.
    pub name: String,
    /// Its new name, if it is renamed.
    pub new_name: Option<String>,
    /// Its directory entry, if known.
    pub dn: Option<String>,
    /// The link between the two, current or future.
    pub link: Option<Identity>,
    /// The logins of members who join.
    pub come: Vec<String>,
    /// The logins of members who leave; all of them if the group is deleted.
    pub leave: Vec<String>,
    /// Members whose login changes, if the application stores logins: the old one and the new one.
    pub relabelled: Vec<[String; 2]>,
    /// The group as it is; its members only if it is deleted.
    #[serde(skip)]
    there: Option<Group>,
}

impl GroupChange {
    /// The group as it is; its members only if it is deleted.
    pub(crate) fn there(&self) -> Option<&Group> {
        self.there.as_ref()
    }

    /// The logins in the group's list that change with their accounts: the old ones, and the new ones. Logins that
    /// two members swap are in neither.
    pub(crate) fn replaced_logins(&self) -> [Vec<String>; 2] {
        let logins = |at: usize| self.relabelled.iter().filter_map(move |pair| pair.get(at));
        let without = |at: usize, others: usize| {
            let stays = move |login: &&String| !logins(others).any(|other| folded(other) == folded(login));
            logins(at).filter(stays).cloned().collect()
        };
        [without(0, 1), without(1, 0)]
    }

    /// Whether the change is empty.
    fn is_nothing(&self) -> bool {
        let is_same = |there: &Group| {
            there.name == *self.new_name.as_ref().unwrap_or(&there.name) && there.link == self.link
        };
        self.kind != GroupChangeKind::Remove
            && self.there.as_ref().is_some_and(is_same)
            && self.leave.is_empty()
            && self.come.is_empty()
            && self.replaced_logins().iter().all(Vec::is_empty)
    }
}

/// A group with an expected change that is not made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct HeldGroup {
    /// Its name in the application, or else in the directory.
    pub name: String,
    /// Its entry, where one is known.
    pub dn: Option<String>,
    /// The reason and the remedy, in words.
    pub message: String,
}

/// The changes to all groups.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct GroupPreview {
    /// Number of groups in the application.
    pub now: usize,
    /// Number of groups after the changes.
    pub after: usize,
    /// The changes, sorted by kind and name.
    pub changes: Vec<GroupChange>,
    /// Expected changes that are not made.
    pub held: Vec<HeldGroup>,
    /// Number of linked groups without changes.
    pub unchanged: usize,
    /// Number of memberships lost.
    pub leaving: usize,
    /// Number of memberships in linked groups.
    pub memberships: usize,
}

/// An account after the changes.
struct Fate<'a> {
    login: &'a str,
    link: Option<&'a Identity>,
    /// Whether its memberships may be changed.
    is_ours: bool,
    /// Whether it may join a group.
    is_active: bool,
    is_removed: bool,
    waits: bool,
}

/// A directory group to be imported.
struct Wanted<'r> {
    dn: &'r str,
    identity: Identity,
    /// The name drawn for it, or the fault in words.
    name: Result<Cow<'r, str>, String>,
    adopt: bool,
    /// The fates of its members, by index.
    members: Vec<usize>,
}

struct Plan<'a> {
    groups: &'a Groups,
    fates: Vec<Fate<'a>>,
    /// The fate of the account that has a login now, or else the one that gets it.
    by_login: HashMap<Cow<'a, str>, usize>,
    whole: Option<&'a Whole>,
    preview: GroupPreview,
}

impl GroupPreview {
    /// Works out the changes to groups that follow from `changes` to accounts.
    pub(super) fn new(
        settings: &Settings,
        readings: &[Reading],
        accounts: &[Account],
        changes: &[Change],
        groups: &Groups,
    ) -> Self {
        let fates = fates(settings, accounts, changes);
        let mut by_login: HashMap<Cow<'_, str>, usize> =
            accounts.iter().enumerate().map(|(at, one)| (folded(&one.login), at)).collect();
        // A list may contain an unused login: whoever gets it would become a member.
        for (at, fate) in fates.iter().enumerate() {
            by_login.entry(folded(fate.login)).or_insert(at);
        }
        let proofs: Option<Vec<&Whole>> = readings.iter().map(Reading::whole).collect();
        let whole = proofs.filter(|all| all.len() == settings.intakes.count());
        let whole = whole.and_then(|all| all.first().copied());
        let mut plan = Plan { groups, fates, by_login, whole, preview: Self::default() };
        let mut wanted: Vec<Wanted<'_>> = Vec::new();
        for (intake, reading) in settings.intakes.iter().zip(readings) {
            if let Some(groups) = &intake.application_groups {
                // Another intake of the same directory may have read more of the people.
                let is_same = |other: &&Reading| other.source().directory == reading.source().directory;
                let people: Vec<&Reading> = readings.iter().filter(is_same).collect();
                plan.wanted(groups, reading, &people, &mut wanted);
            }
        }
        let mut rules = settings.intakes.iter().filter_map(|intake| intake.application_groups.as_ref());
        let removes = rules.all(|rule| rule.gone == GroupLeaving::Remove);
        let mut bringing =
            settings.intakes.iter().zip(readings).filter(|(intake, _)| intake.application_groups.is_some());
        let finds_some = bringing.all(|(_, reading)| !reading.application_groups().is_empty());
        plan.decide(&wanted, removes, finds_some);
        let mut preview = plan.preview;
        let of = |kind| preview.changes.iter().filter(|change| change.kind == kind).count();
        preview.now = groups.list.len();
        preview.after = preview.now + of(GroupChangeKind::Import) - of(GroupChangeKind::Remove);
        preview.changes.sort_by_cached_key(|change| (change.kind, folded(&change.name).into_owned()));
        preview.held.sort_by(|one, other| (&one.name, &one.dn).cmp(&(&other.name, &other.dn)));
        preview.leaving = preview.changes.iter().map(|change| change.leave.len()).sum();
        let linked = groups.list.iter().filter(|group| group.link.is_some());
        preview.memberships = linked.map(|group| group.members.len()).sum();
        preview
    }
}

/// The fate of each account, including new ones.
fn fates<'a>(settings: &'a Settings, accounts: &'a [Account], changes: &'a [Change]) -> Vec<Fate<'a>> {
    let protected: HashSet<Cow<'_, str>> =
        settings.accounts.protected.iter().map(|login| folded(login)).collect();
    let is_about = |change: &&Change| {
        !matches!(change.kind(), ChangeKind::Import | ChangeKind::Clash) && !change.awaits()
    };
    // An account whose days of grace are running may get another login as well.
    let mut by_login: HashMap<&str, SmallVec<[&Change; 1]>> = HashMap::default();
    for change in changes.iter().filter(is_about) {
        by_login.entry(change.login.as_str()).or_default().push(change);
    }
    let fate = |account: &'a Account| {
        let own = by_login.get(account.login.as_str()).map(SmallVec::as_slice).unwrap_or_default();
        let find = |kind: ChangeKind| own.iter().copied().find(|change| change.kind() == kind);
        let new = |name: &str| own.iter().find_map(|change| change.fields.get(name)?.new.as_deref());
        let adopted = find(ChangeKind::Adopt);
        let link = adopted.map_or(account.link.as_ref(), |change| change.link.as_ref());
        let state = match () {
            () if find(ChangeKind::Suspend).is_some() => State::Suspended,
            () if find(ChangeKind::Restore).is_some() => State::Active,
            () if adopted.is_some() && new("state").is_some() => State::Active,
            () => account.state,
        };
        Fate {
            login: new("login").unwrap_or(&account.login),
            link,
            is_ours: link.is_some() && !protected.contains(&folded(&account.login)),
            is_active: state == State::Active,
            is_removed: find(ChangeKind::Remove).is_some(),
            waits: find(ChangeKind::Wait).is_some(),
        }
    };
    let imported = changes.iter().filter(|change| change.kind() == ChangeKind::Import).map(|change| Fate {
        login: change.login.as_str(),
        link: change.link.as_ref(),
        is_ours: true,
        is_active: true,
        is_removed: false,
        waits: false,
    });
    accounts.iter().map(fate).chain(imported).collect()
}

impl<'a> Plan<'a> {
    /// The groups that one intake imports, and which of `people` are in them. If several intakes import a group, its
    /// members are those of all of them.
    fn wanted<'r>(
        &mut self,
        rule: &'r GroupIntake,
        reading: &'r Reading,
        people: &[&'r Reading],
        wanted: &mut Vec<Wanted<'r>>,
    ) {
        let entries = reading.application_groups();
        let lasting = Lasting::new(reading.group_identity(), entries.names());
        let names = Drawer::names_of_groups(&rule.fields, reading);
        let mut known: HashMap<Identity, usize> =
            wanted.iter().enumerate().map(|(at, one)| (one.identity.clone(), at)).collect();
        // The indexes of the wanted groups, and their names in the graph.
        let (mut places, mut keys) = (Vec::new(), Vec::new());
        for ((at, entry), name) in entries.iter().enumerate().zip(names) {
            let Some(identity) = lasting.of(entry) else {
                let message = format!("its entry does not show {}", reading.group_identity());
                self.hold(&short(entry.dn()), Some(entry.dn()), message);
                continue;
            };
            let Some(key) = reading.application_group_key(at) else { continue };
            keys.push(key);
            places.push(*known.entry(identity.clone()).or_insert(wanted.len()));
            if places.last() == Some(&wanted.len()) {
                let name = match name {
                    Drawn::Value(name, _) => Ok(name),
                    Drawn::Nothing => Err("the settings give its entry no name".to_owned()),
                    Drawn::Open(open) => Err(format!("its name {}", open.in_words())),
                };
                let (dn, adopt, members) = (entry.dn(), rule.adopt, Vec::new());
                wanted.push(Wanted { dn, identity, name, adopt, members });
            }
        }
        let graph = reading.graph();
        let members = self.possible_members(people);
        let mut put = |group: usize, fate: usize| {
            if let Some(one) = places.get(group).and_then(|place| wanted.get_mut(*place)) {
                one.members.push(fate);
            }
        };
        match rule.members {
            GroupMembers::Flattened => {
                let inclusion = graph.nesting(keys.iter().copied()).inclusion(keys.iter().copied());
                for (key, fate) in members {
                    inclusion.of(&key).for_each(|group| put(group, fate));
                }
            }
            GroupMembers::Direct => {
                let fates: HashMap<Cow<'_, DnKey>, usize> = members.into_iter().collect();
                for (group, key) in keys.iter().enumerate() {
                    let members = graph.direct_members(key).filter_map(|key| fates.get(key));
                    members.for_each(|fate| put(group, *fate));
                }
            }
        }
    }

    /// The names of people who have an account, with its fate; including people outside the reading, who may still
    /// be members.
    fn possible_members<'r>(&self, people: &[&'r Reading]) -> Vec<(Cow<'r, DnKey>, usize)> {
        let by_link: HashMap<&Identity, usize> =
            self.fates.iter().enumerate().filter_map(|(at, fate)| Some((fate.link?, at))).collect();
        let mut all = Vec::new();
        for read in people {
            for (identity, place) in read.all_whereabouts() {
                let key = match place {
                    Whereabouts::Elsewhere(dn) => Dn::parse(dn).ok().map(|dn| Cow::Owned(dn.key())),
                    Whereabouts::Nowhere => None,
                };
                all.extend(key.zip(by_link.get(identity).copied()));
            }
        }
        for read in people {
            let identities = Lasting::new(&read.source().identity, read.people().names());
            let fate = |entry| by_link.get(&identities.of(entry)?).copied();
            let own = read.people().iter().enumerate();
            all.extend(own.filter_map(|(at, entry)| Some((Cow::Borrowed(read.key(at)?), fate(entry)?))));
        }
        all
    }

    fn hold(&mut self, name: &str, dn: Option<&str>, message: String) {
        self.preview.held.push(HeldGroup { name: name.to_owned(), dn: dn.map(str::to_owned), message });
    }

    fn decide(&mut self, wanted: &[Wanted<'_>], removes: bool, finds_some: bool) {
        let groups: &'a Groups = self.groups;
        let list = groups.list.iter().enumerate();
        let by_link: HashMap<&Identity, usize> =
            list.clone().filter_map(|(at, group)| Some((group.link.as_ref()?, at))).collect();
        let by_name: HashMap<Cow<'_, str>, usize> =
            list.map(|(at, group)| (folded(&group.name), at)).collect();
        let mut rivals: HashMap<Cow<'_, str>, usize> = HashMap::default();
        for name in wanted.iter().filter_map(|one| one.name.as_deref().ok()) {
            *rivals.entry(folded(name)).or_default() += 1;
        }
        let mut kept: HashSet<usize> = HashSet::default();
        for one in wanted {
            let own = by_link.get(&one.identity).copied();
            kept.extend(own);
            let name = one.name.as_ref().map(|name| name.as_ref());
            let taken = name.ok().and_then(|name| by_name.get(&folded(name)).copied());
            let is_rival = name.is_ok_and(|name| rivals.get(&folded(name)).is_some_and(|count| *count > 1));
            let there = |at: usize| groups.list.get(at);
            match (own.and_then(there), taken.and_then(there), name) {
                (None, _, Err(why)) => self.hold(&short(one.dn), Some(one.dn), why.clone()),
                (None, _, Ok(name)) if is_rival => {
                    let message = format!("several groups would be called {name}; give them different names");
                    self.hold(name, Some(one.dn), message);
                }
                (None, None, Ok(name)) => self.import(one, name),
                (None, Some(other), Ok(_)) if other.link.is_none() && one.adopt => {
                    self.update(one, other, None);
                }
                (None, Some(other), Ok(name)) => self.hold(name, Some(one.dn), in_the_way(other).to_owned()),
                (Some(own), taken, name) => {
                    let new = name.ok().filter(|name| *name != own.name && !is_rival);
                    let other = taken.filter(|other| other.link != own.link);
                    if let (Some(name), Some(other)) = (new, other) {
                        let message = format!("it would be called {name}: {}", in_the_way(other));
                        self.hold(&own.name, Some(one.dn), message);
                    }
                    self.update(one, own, new.filter(|_| other.is_none()));
                }
            }
        }
        for (at, group) in groups.list.iter().enumerate() {
            if group.link.is_some() && !kept.contains(&at) {
                self.decide_gone(group, removes, finds_some);
            }
        }
    }

    /// Decides for a linked group whose entry is no longer selected.
    fn decide_gone(&mut self, group: &Group, removes: bool, finds_some: bool) {
        let message = match self.whole {
            Some(proof) if removes && finds_some => {
                self.preview.changes.push(leave(proof, group));
                return;
            }
            Some(_) if removes => {
                "an intake no longer finds any groups, which is more likely a mistake: it is kept"
            }
            Some(_) => {
                "its entry is no longer among the groups selected; it is kept (gone = \"keep\" in [intake.application_groups])"
            }
            None => "the reading is not whole, so its entry may still exist",
        };
        self.hold(&group.name, None, message.to_owned());
    }

    fn import(&mut self, one: &Wanted<'_>, name: &str) {
        let mut change = GroupChange {
            kind: GroupChangeKind::Import,
            name: name.to_owned(),
            new_name: None,
            dn: Some(one.dn.to_owned()),
            link: Some(one.identity.clone()),
            come: Vec::new(),
            leave: Vec::new(),
            relabelled: Vec::new(),
            there: None,
        };
        self.come(one, &mut change, &HashSet::default());
        self.preview.changes.push(change);
    }

    /// Members who join: those in the directory's group, not yet in the application's, with an active account.
    fn come(&mut self, one: &Wanted<'_>, change: &mut GroupChange, there: &HashSet<usize>) {
        let mut odd = Vec::new();
        for (at, fate) in one.members.iter().filter_map(|at| Some((*at, self.fates.get(*at)?))) {
            if there.contains(&at) || !fate.is_ours || !fate.is_active || fate.is_removed {
                continue;
            }
            let is_odd = self.groups.by_login && fate.login.contains(LIST);
            if is_odd { &mut odd } else { &mut change.come }.push(fate.login.to_owned());
        }
        change.come.sort_by_cached_key(|login| folded(login).into_owned());
        change.come.dedup();
        for login in odd {
            let message = format!("{login} cannot be listed: {LIST} separates members there");
            self.hold(&change.name, Some(one.dn), message);
        }
    }

    fn update(&mut self, one: &Wanted<'_>, there: &Group, new_name: Option<&str>) {
        let kind = match (there.link.is_none(), new_name) {
            (true, _) => GroupChangeKind::Adopt,
            (false, Some(_)) => GroupChangeKind::Rename,
            (false, None) => GroupChangeKind::Members,
        };
        let mut change = GroupChange {
            kind,
            name: there.name.clone(),
            new_name: new_name.map(str::to_owned),
            dn: Some(one.dn.to_owned()),
            link: Some(one.identity.clone()),
            come: Vec::new(),
            leave: Vec::new(),
            relabelled: Vec::new(),
            there: Some(Group { name: there.name.clone(), link: there.link.clone(), ..Group::default() }),
        };
        let wanted: HashSet<usize> = one.members.iter().copied().collect();
        let mut has: HashSet<usize> = HashSet::default();
        let mut unproven = 0;
        for login in &there.members {
            // Members without an account, or with one made by hand, were added by hand.
            let Some(at) = self.by_login.get(&folded(login)).copied() else { continue };
            has.insert(at);
            let Some(fate) = self.fates.get(at).filter(|fate| fate.is_ours) else { continue };
            if fate.is_removed || !(wanted.contains(&at) || fate.waits) {
                match self.whole {
                    Some(_) => change.leave.push(login.clone()),
                    None => unproven += 1,
                }
            } else if self.groups.by_login && folded(fate.login) != folded(login) {
                change.relabelled.push([login.clone(), fate.login.to_owned()]);
            }
        }
        if unproven > 0 {
            let message = format!(
                "the reading is not whole, so {unproven} of its members are kept who were not found in it"
            );
            self.hold(&there.name, Some(one.dn), message);
        }
        self.come(one, &mut change, &has);
        if change.is_nothing() {
            self.preview.unchanged += 1;
        } else {
            self.preview.changes.push(change);
        }
    }
}

/// Why a name is taken by another group.
fn in_the_way(other: &Group) -> &'static str {
    match other.link {
        None => {
            "a group made by hand has this name; adopt = \"same-name\" in [intake.application_groups] makes it the directory's"
        }
        Some(_) => "a group linked to another entry has this name; preview again when it has another",
    }
}

/// The only place that deletes a group; it cannot be called without the proof.
fn leave(_proof: &Whole, group: &Group) -> GroupChange {
    GroupChange {
        kind: GroupChangeKind::Remove,
        name: group.name.clone(),
        new_name: None,
        dn: None,
        link: group.link.clone(),
        come: Vec::new(),
        leave: group.members.clone(),
        relabelled: Vec::new(),
        there: Some(group.clone()),
    }
}
