//! What would become of the application's groups: which come, who comes into them and who leaves them, and which
//! go. Under the promises that hold for accounts: without the proof of a whole reading nobody leaves a group and
//! no group goes; a group without a link is never changed, and neither is the place of a hand-made or protected
//! account in any group; a group is found by its link first.
//!
//! No I/O, no recursion; linear in the members, for each 64 groups once over the names.

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
use std::borrow::Cow;

/// What would happen to one group.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[non_exhaustive]
pub enum GroupChangeKind {
    /// A group of the directory gets one in the application.
    #[serde(rename = "import group")]
    Import,
    /// A group that was there already becomes the directory's.
    #[serde(rename = "adopt group")]
    Adopt,
    /// It gets another name; its members may change, too.
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
    /// Every kind, in the order in which a preview lists them.
    pub const ALL: [Self; 5] = [Self::Import, Self::Adopt, Self::Rename, Self::Members, Self::Remove];

    /// The words for it.
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

/// One thing that would happen to a group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct GroupChange {
    /// What it is.
    pub kind: GroupChangeKind,
    /// The group's name: as it is now, or as it would be where there is none yet.
    pub name: String,
    /// Its new name, where it gets another.
    pub new_name: Option<String>,
    /// Its entry in the directory, where one is known.
    pub dn: Option<String>,
    /// The tie between the two, as it is or would be.
    pub link: Option<Identity>,
    /// The logins of those who would come into it.
    pub come: Vec<String>,
    /// The logins of those who would leave it; everybody where it is removed.
    pub leave: Vec<String>,
    /// Members who get another login, where the application lists logins: the old one and the new.
    pub relabelled: Vec<[String; 2]>,
    /// The group as it is now; its members only where it is removed.
    #[serde(skip)]
    there: Option<Group>,
}

impl GroupChange {
    /// The group as it is now; its members only where it is removed.
    pub(crate) fn there(&self) -> Option<&Group> {
        self.there.as_ref()
    }

    /// The logins in the group's list that change with their accounts: those that go, and those that
    /// come in their place. Of two who swap their logins neither is among them.
    pub(crate) fn replaced_logins(&self) -> [Vec<String>; 2] {
        let logins = |at: usize| self.relabelled.iter().filter_map(move |pair| pair.get(at));
        let without = |at: usize, others: usize| {
            let stays = move |login: &&String| !logins(others).any(|other| folded(other) == folded(login));
            logins(at).filter(stays).cloned().collect()
        };
        [without(0, 1), without(1, 0)]
    }

    /// Whether carrying it out would change nothing.
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

/// A group that stays as it is though something else might be expected, and why.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct HeldGroup {
    /// Its name in the application, or else in the directory.
    pub name: String,
    /// Its entry, where one is known.
    pub dn: Option<String>,
    /// Why, and what can be done, in words.
    pub message: String,
}

/// What would become of all groups.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct GroupPreview {
    /// Groups that the application has.
    pub now: usize,
    /// Groups that it would have.
    pub after: usize,
    /// What would change, by kind and name.
    pub changes: Vec<GroupChange>,
    /// What would not be done, and why.
    pub held: Vec<HeldGroup>,
    /// Linked groups that stay exactly as they are.
    pub unchanged: usize,
    /// How often somebody would leave a group.
    pub leaving: usize,
    /// How often somebody is in a linked group.
    pub memberships: usize,
}

/// An account as it would be.
struct Fate<'a> {
    login: &'a str,
    link: Option<&'a Identity>,
    /// Whether its place in groups may change.
    is_ours: bool,
    /// Whether it may come into a group.
    is_active: bool,
    is_removed: bool,
    waits: bool,
}

/// A group of the directory that comes in.
struct Wanted<'r> {
    dn: &'r str,
    identity: Identity,
    /// None where none could be drawn; why, in words.
    name: Result<Cow<'r, str>, String>,
    adopt: bool,
    /// Fates of those who are in it, by their places.
    members: Vec<usize>,
}

struct Plan<'a> {
    groups: &'a Groups,
    fates: Vec<Fate<'a>>,
    /// The fate of the account that has a login now, or else gets it.
    by_login: HashMap<Cow<'a, str>, usize>,
    whole: Option<&'a Whole>,
    preview: GroupPreview,
}

impl GroupPreview {
    /// Works out what would become of the groups once `changes` were made to the accounts.
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
        // A list may have a login that nobody has yet: whoever gets it would be in the group.
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

/// What becomes of each account, and of those that come.
fn fates<'a>(settings: &'a Settings, accounts: &'a [Account], changes: &'a [Change]) -> Vec<Fate<'a>> {
    let protected: HashSet<Cow<'_, str>> =
        settings.accounts.protected.iter().map(|login| folded(login)).collect();
    let is_about = |change: &&Change| !matches!(change.kind, ChangeKind::Import | ChangeKind::Clash);
    let by_login: HashMap<&str, &Change> =
        changes.iter().filter(is_about).map(|change| (change.login.as_str(), change)).collect();
    let fate = |account: &'a Account| {
        let change = by_login.get(account.login.as_str()).copied();
        let kind = change.map(|change| change.kind);
        let new = |name: &str| change.and_then(|change| change.fields.get(name)?.new.as_deref());
        let link = match kind {
            Some(ChangeKind::Adopt) => change.and_then(|change| change.link.as_ref()),
            _ => account.link.as_ref(),
        };
        let state = match kind {
            Some(ChangeKind::Suspend) => State::Suspended,
            Some(ChangeKind::Restore) => State::Active,
            Some(ChangeKind::Adopt) if new("state").is_some() => State::Active,
            _ => account.state,
        };
        Fate {
            login: new("login").unwrap_or(&account.login),
            link,
            is_ours: link.is_some() && !protected.contains(&folded(&account.login)),
            is_active: state == State::Active,
            is_removed: kind == Some(ChangeKind::Remove),
            waits: kind == Some(ChangeKind::Wait),
        }
    };
    let imported = changes.iter().filter(|change| change.kind == ChangeKind::Import).map(|change| Fate {
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
    /// The groups that one intake brings, and who of `people` is in them. Where several intakes bring one, all
    /// of them together say who is in it.
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
        // The places among those wanted, and the names by which they are found in the graph.
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
                    Drawn::Nothing => Err("its entry has no name by the settings".to_owned()),
                    Drawn::Open(open) => Err(format!("its name {}", open.in_words())),
                };
                let (dn, adopt, members) = (entry.dn(), rule.adopt, Vec::new());
                wanted.push(Wanted { dn, identity, name, adopt, members });
            }
        }
        let mut put = |group: usize, fate: usize| {
            if let Some(one) = places.get(group).and_then(|place| wanted.get_mut(*place)) {
                one.members.push(fate);
            }
        };
        let by_link: HashMap<&Identity, usize> =
            self.fates.iter().enumerate().filter_map(|(at, fate)| Some((fate.link?, at))).collect();
        let graph = reading.graph();
        let inclusion = match rule.members {
            GroupMembers::Flattened => {
                Some(graph.nesting(keys.iter().copied()).inclusion(keys.iter().copied()))
            }
            GroupMembers::Direct => None,
        };
        // Whoever is outside of what was read may be in a group all the same.
        let mut outside: Vec<(DnKey, usize)> = Vec::new();
        for (identity, place) in people.iter().flat_map(|read| read.all_whereabouts()) {
            let key = match place {
                Whereabouts::Elsewhere(dn) => Dn::parse(dn).ok().map(|dn| dn.key()),
                Whereabouts::Nowhere => None,
            };
            outside.extend(key.zip(by_link.get(identity).copied()));
        }
        let mut all: Vec<(&DnKey, usize)> = outside.iter().map(|(key, fate)| (key, *fate)).collect();
        for read in people {
            let identities = Lasting::new(&read.source().identity, read.people().names());
            let fate = |entry| by_link.get(&identities.of(entry)?).copied();
            let own = read.people().iter().enumerate();
            all.extend(own.filter_map(|(at, entry)| Some((read.key(at)?, fate(entry)?))));
        }
        match &inclusion {
            Some(inclusion) => {
                for (key, fate) in all {
                    inclusion.of(key).for_each(|group| put(group, fate));
                }
            }
            None => {
                let fates: HashMap<&DnKey, usize> = all.into_iter().collect();
                for (group, key) in keys.iter().enumerate() {
                    let members = graph.direct_members(key).filter_map(|key| fates.get(key));
                    members.for_each(|fate| put(group, *fate));
                }
            }
        }
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
            if group.link.is_none() || kept.contains(&at) {
                continue;
            }
            let gone = "its entry is not among the groups of the directory any more";
            match self.whole {
                Some(proof) if removes && finds_some => {
                    self.preview.changes.push(leave(proof, group));
                }
                Some(_) if removes => {
                    let message = "an intake finds no group at all any more, which is more likely a mistake: it stays as it is";
                    self.hold(&group.name, None, message.to_owned());
                }
                Some(_) => self.hold(
                    &group.name,
                    None,
                    format!("{gone}; it stays as it is (gone = \"keep\" in [intake.application_groups])"),
                ),
                None => {
                    let message = "the reading is not whole, so that its entry may be there or not";
                    self.hold(&group.name, None, message.to_owned());
                }
            }
        }
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

    /// Who comes into a group: whoever is in the directory's and not in it, and whose account is in use.
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
            let message = format!("{login} cannot be listed: a {LIST} stands between members there");
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
            // Who has no account, or one that was made by hand, was put there by hand.
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
                "the reading is not whole, so that {unproven} of its members stay who were not found in it"
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

/// Why a group's name cannot be another's.
fn in_the_way(other: &Group) -> &'static str {
    match other.link {
        None => {
            "a group made by hand has this name; adopt = \"same-name\" in [intake.application_groups] makes it the directory's"
        }
        Some(_) => "a group that is linked to another entry has this name; preview again when it has not",
    }
}

/// The one place that takes a group away; it cannot be called without the proof.
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
