//! Matching candidates with accounts, and the change that follows for each.

use super::emptied::Emptied;
use super::origins;
use super::situation::{Chosen, Selected, Situation, drawn};
use super::whose::told_whose;
use super::{Action, Change, ChangeKind, Clash, FieldChange, Held, HeldReason, Holder, Memory};
use crate::account::{Account, State, folded};
use crate::draw::Proposal;
use crate::ldap::entry::Entry;
use crate::ldap::identity::{Identity, Lasting};
use crate::selection::Candidate;
use crate::settings::rules::{LIST, Write};
use crate::settings::{Intake, OtherRoles, Settings};
use fixedbitset::FixedBitSet;
use foldhash::{HashMap, HashSet};
use indexmap::IndexMap;
use jiff::civil::Date;
use smallvec::SmallVec;
use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};

/// The indexed data of all decisions. Most people have an account with the login it should have; indexes that only
/// the others need are built on first use.
pub(super) struct Matching<'a> {
    pub(super) settings: &'a Settings,
    pub(super) parts: &'a [Selected<'a>],
    /// The candidates of all intakes, in order.
    pub(super) candidates: Vec<Chosen<'a>>,
    pub(super) accounts: &'a [Account],
    pub(super) memory: &'a Memory,
    /// For each candidate, the account with their link, or the one that the settings give them.
    linked: Vec<Option<usize>>,
    /// The candidates whose account already has the right login.
    settled: FixedBitSet,
    /// For each account, the first candidate with its link.
    holder: Vec<Option<usize>>,
    by_login: OnceCell<HashMap<Folded<'a>, usize>>,
    /// The other candidates, by future login.
    wanted_logins: Index<'a>,
    /// The unique fields.
    pub(super) unique: Vec<Unique<'a>>,
    protected: HashSet<Folded<'a>>,
    /// Linked accounts that get another login, so that theirs becomes free.
    moving: HashSet<usize>,
    /// Fields and roles that nobody loses, since too many would.
    emptied: Emptied,
}

/// A unique field: who has each value, and who would have it.
pub(super) struct Unique<'a> {
    pub(super) field: &'a str,
    accounts: OnceCell<Index<'a>>,
    candidates: OnceCell<Index<'a>>,
}

/// A value in the form for comparison.
type Folded<'a> = Cow<'a, str>;

/// The holders of a value, almost always one.
type Index<'a> = HashMap<Folded<'a>, SmallVec<[usize; 2]>>;

fn index<'a>(values: impl Iterator<Item = (usize, &'a str)>) -> Index<'a> {
    let mut index = Index::default();
    index.reserve(values.size_hint().0);
    for (at, value) in values {
        index.entry(folded(value)).or_default().push(at);
    }
    index
}

/// The decisions.
#[derive(Default)]
pub(super) struct Decisions {
    pub(super) changes: Vec<Change>,
    pub(super) held: Vec<Held>,
    pub(super) unchanged: usize,
    pub(super) missed: BTreeMap<Identity, Date>,
    /// Fields and roles that too many would lose, with the counts.
    pub(super) emptied: Vec<String>,
}

impl<'a> Matching<'a> {
    pub(super) fn new(situation: Situation<'a>, parts: &'a [Selected<'a>]) -> Self {
        let Situation { settings, accounts, memory, .. } = situation;
        let count = parts.iter().map(|part| part.selection.candidates.len()).sum();
        let mut candidates: Vec<Chosen<'a>> = Vec::with_capacity(count);
        for part in parts {
            candidates.extend(part.selection.candidates.iter().map(|one| (*part, one)));
        }
        let mut by_link: HashMap<&Identity, usize> = HashMap::default();
        by_link.reserve(accounts.len());
        by_link.extend(accounts.iter().enumerate().filter_map(|(at, one)| Some((one.link.as_ref()?, at))));
        let mut linked: Vec<Option<usize>> =
            candidates.iter().map(|(_, one)| by_link.get(&one.identity).copied()).collect();
        told_whose(settings, accounts, &candidates, &mut linked);
        let mut holder = vec![None; accounts.len()];
        for (index, at) in linked.iter().enumerate().filter_map(|(index, at)| Some((index, (*at)?))) {
            if let Some(holder @ None) = holder.get_mut(at) {
                *holder = Some(index);
            }
        }
        let unique = settings.unique_fields().into_iter();
        let unique =
            unique.map(|field| Unique { field, accounts: OnceCell::new(), candidates: OnceCell::new() });
        let mut matching = Self {
            settings,
            parts,
            candidates,
            accounts,
            memory,
            settled: FixedBitSet::with_capacity(linked.len()),
            linked,
            holder,
            by_login: OnceCell::new(),
            wanted_logins: Index::default(),
            unique: unique.collect(),
            protected: settings.accounts.protected.iter().map(|login| folded(login)).collect(),
            moving: HashSet::default(),
            emptied: Emptied::default(),
        };
        let theirs = matching.candidates.iter().zip(&matching.linked);
        let theirs = theirs.filter_map(|(chosen, at)| Some((*chosen, accounts.get((*at)?)?)));
        matching.emptied = Emptied::of(parts, theirs, settings.brakes.shrunk);
        for index in 0..matching.candidates.len() {
            matching.settled.set(index, matching.has_their_login(index));
        }
        let wanted = matching.settled.zeroes().filter_map(|index| {
            let (_, candidate) = matching.candidates.get(index)?;
            Some((index, candidate.proposal.login()))
        });
        matching.wanted_logins = index(wanted);
        matching.moving = matching.moving();
        matching
    }

    /// The account that is certainly a candidate's.
    pub(super) fn linked(&self, index: usize) -> Option<usize> {
        self.linked.get(index).copied().flatten()
    }

    /// Whether any candidate has an account by its link, or by the settings.
    pub(super) fn has_links(&self) -> bool {
        self.linked.iter().any(Option::is_some)
    }

    /// Whether a candidate's account already has the right login.
    fn is_settled(&self, index: usize) -> bool {
        self.settled.contains(index)
    }

    fn has_their_login(&self, index: usize) -> bool {
        let Some(at) = self.linked(index).filter(|at| self.holder(*at) == Some(index)) else { return false };
        let login = self.candidates.get(index).map(|(_, one)| one.proposal.login());
        let account = self.accounts.get(at).map(|one| one.login.as_str());
        login == account || login.map(folded) == account.map(folded)
    }

    /// The first candidate with an account's link.
    pub(super) fn holder(&self, account: usize) -> Option<usize> {
        self.holder.get(account).copied().flatten()
    }

    /// The account that has a candidate's future login.
    pub(super) fn named(&self, index: usize) -> Option<usize> {
        if self.is_settled(index) {
            return self.linked(index);
        }
        let (_, candidate) = self.candidates.get(index)?;
        let by_login = self.by_login.get_or_init(|| {
            self.accounts.iter().enumerate().map(|(at, one)| (folded(&one.login), at)).collect()
        });
        by_login.get(&folded(candidate.proposal.login())).copied()
    }

    /// The accounts that have a value in a unique field.
    pub(super) fn having<'m>(&'m self, unique: &'m Unique<'a>, value: &str) -> &'m [usize] {
        let index = unique
            .accounts
            .get_or_init(|| index(self.accounts.iter().map(|one| one.field(unique.field)).enumerate()));
        index.get(&*folded(value)).map(SmallVec::as_slice).unwrap_or_default()
    }

    /// The candidates that would have it.
    fn wanting<'m>(&'m self, unique: &'m Unique<'a>, value: &str) -> &'m [usize] {
        let index = unique.candidates.get_or_init(|| {
            index(self.candidates.iter().map(|(part, one)| drawn(*part, one, unique.field)).enumerate())
        });
        index.get(&*folded(value)).map(SmallVec::as_slice).unwrap_or_default()
    }

    /// The accounts that can take their new login: it is free, or its holder gives it up in the same way. So two
    /// people can swap logins, and one can take over another's.
    fn moving(&self) -> HashSet<usize> {
        // From an account to the holder of the login that it would get.
        let mut waiting: HashMap<usize, Option<usize>> = HashMap::default();
        for index in self.settled.zeroes() {
            let account = self.linked(index).and_then(|at| Some((at, self.accounts.get(at)?)));
            let (Some(chosen), Some((at, account))) = (self.candidates.get(index), account) else { continue };
            if waiting.contains_key(&at) {
                continue;
            }
            let (part, candidate) = *chosen;
            let fields = self.fields(*chosen, Some(account));
            let kind =
                if account.state == State::Suspended { ChangeKind::Restore } else { ChangeKind::Update };
            let stays = !fields.contains_key("login")
                || held_back(part, candidate, kind).is_some()
                || self.is_protected(account)
                || self.rival_clash(index, candidate).is_some()
                || self.value_clash(index, *chosen, Some(at), &fields).is_some();
            if !stays {
                waiting.insert(at, self.named(index).filter(|holder| *holder != at));
            }
        }
        // Whoever waits for an account that keeps its login keeps theirs, too.
        let mut behind: HashMap<usize, Vec<usize>> = HashMap::default();
        for (at, holder) in waiting.iter().filter_map(|(at, holder)| Some((*at, (*holder)?))) {
            behind.entry(holder).or_default().push(at);
        }
        let mut stuck: Vec<usize> =
            behind.keys().copied().filter(|holder| !waiting.contains_key(holder)).collect();
        while let Some(holder) = stuck.pop() {
            for at in behind.remove(&holder).unwrap_or_default() {
                waiting.remove(&at);
                stuck.push(at);
            }
        }
        waiting.into_keys().collect()
    }

    /// Decides for every candidate, then for every linked account that no candidate claims.
    pub(super) fn decisions(&self) -> Decisions {
        let mut decisions = Decisions { emptied: self.emptied.words.clone(), ..Decisions::default() };
        let matched = self.adoptions();
        let mut claimed = FixedBitSet::with_capacity(self.accounts.len());
        let doubles = self.doubles();
        for (index, chosen) in self.candidates.iter().enumerate() {
            if let Some(other) = self.double(index, &doubles) {
                // Nobody knows whose the account is: it is left alone.
                let linked = self.linked(index);
                claimed.extend(linked);
                decisions.changes.push(self.clash(*chosen, linked, Clash::SameIdentity { other }));
                continue;
            }
            let matched = matched.get(&index).cloned().unwrap_or(Ok(None));
            self.decide(index, *chosen, matched, &mut claimed, &mut decisions);
        }
        self.leaving(&claimed, &mut decisions);
        let place = |change: &Change| (change.kind(), Account::login_key(&change.login), change.dn.clone());
        decisions.changes.sort_by_cached_key(place);
        decisions.held.sort_by(|left, right| (&left.login, &left.dn).cmp(&(&right.login, &right.dn)));
        decisions
    }

    /// For each candidate who shares an account or an identity with another, the other.
    fn doubles(&self) -> HashMap<usize, usize> {
        let mut seen: HashMap<&Identity, usize> = HashMap::default();
        let mut doubles = HashMap::default();
        for (index, (_, candidate)) in self.candidates.iter().enumerate() {
            let first = match self.linked(index) {
                Some(at) => self.holder(at).unwrap_or(index),
                None => *seen.entry(&candidate.identity).or_insert(index),
            };
            if first != index {
                doubles.insert(index, first);
                doubles.entry(first).or_insert(index);
            }
        }
        doubles
    }

    /// The entry that has a candidate's identity, too.
    fn double(&self, index: usize, doubles: &HashMap<usize, usize>) -> Option<String> {
        if let Some(other) = doubles.get(&index) {
            return self.dn_of(*other);
        }
        let (part, candidate) = self.candidates.get(index)?;
        if !part.reading.is_shared(&candidate.identity) {
            return None;
        }
        // The other one has dropped out.
        let lasting = Lasting::new(&part.reading.source().identity, part.reading.people().names());
        let mut people = part.reading.people().iter().enumerate();
        let is_other = |(at, entry): &(usize, Entry<'_>)| {
            *at != candidate.person && lasting.of(*entry).as_ref() == Some(&candidate.identity)
        };
        people.find(is_other).map(|(_, entry)| entry.dn().to_owned())
    }

    pub(super) fn is_protected(&self, account: &Account) -> bool {
        !self.protected.is_empty() && self.protected.contains(&folded(&account.login))
    }

    pub(super) fn dn_of(&self, candidate: usize) -> Option<String> {
        self.candidates.get(candidate).and_then(|chosen| dn(*chosen))
    }

    /// Decides for one candidate: the account, and the change.
    fn decide(
        &self,
        index: usize,
        chosen: Chosen<'_>,
        matched: Result<Option<usize>, Clash>,
        claimed: &mut FixedBitSet,
        decisions: &mut Decisions,
    ) {
        let (part, candidate) = chosen;
        let (linked, named) = (self.linked(index), self.named(index));
        claimed.extend(linked);
        let protected = linked.filter(|at| self.accounts.get(*at).is_some_and(|one| self.is_protected(one)));
        if let Some(account) = protected.and_then(|at| self.accounts.get(at)) {
            let fields = self.differences(chosen, account);
            if fields.is_empty() && account.state == State::Active {
                decisions.unchanged += 1;
            } else {
                let would = if fields.is_empty() { ChangeKind::Restore } else { ChangeKind::Update };
                decisions.held.push(held(chosen, account.login.clone(), would, HeldReason::Protected));
            }
            return;
        }
        let origin = || self.origin_clash(part, candidate, linked);
        let clash = origin().or_else(|| self.rival_clash(index, candidate)).or_else(|| match &matched {
            Err(clash) => Some(clash.clone()),
            Ok(account) => self.login_clash(linked.or(*account), named),
        });
        if let Some(clash) = clash {
            // An account in a clash is left alone until the decision.
            claimed.extend(named.filter(|_| linked.is_none()));
            decisions.changes.push(self.clash(chosen, linked, clash));
            return;
        }
        let account =
            linked.or(matched.unwrap_or_default()).and_then(|at| Some((at, self.accounts.get(at)?)));
        let kind = match account {
            None => ChangeKind::Import,
            Some((_, account)) if account.link.as_ref() != Some(&candidate.identity) => ChangeKind::Adopt,
            Some((_, account)) if account.state == State::Suspended => ChangeKind::Restore,
            Some(_) => ChangeKind::Update,
        };
        let fields = self.fields(chosen, account.map(|(_, account)| account));
        if let Some(clash) = self.value_clash(index, chosen, account.map(|(at, _)| at), &fields) {
            claimed.extend(account.map(|(at, _)| at));
            decisions.changes.push(self.clash(chosen, linked, clash));
            return;
        }
        if kind == ChangeKind::Update && fields.is_empty() {
            decisions.unchanged += 1;
            return;
        }
        let login = account.map_or(candidate.proposal.login(), |(_, account)| &account.login).to_owned();
        let by_rule = account.filter(|_| kind == ChangeKind::Adopt && linked.is_none());
        let handed_over = by_rule.and_then(|(_, account)| self.handed_over(chosen, account));
        if let Some(reason) = held_back(part, candidate, kind) {
            decisions.held.push(held(chosen, login, kind, reason));
        } else if handed_over.is_some() {
            let held = held(chosen, login, kind, HeldReason::RoleHandedOver);
            decisions.held.push(Held { about: handed_over, ..held });
        } else {
            decisions.changes.push(change(chosen, self.action(kind, candidate), login, fields));
        }
    }

    fn action(&self, kind: ChangeKind, candidate: &Candidate<'_>) -> Action {
        match kind {
            ChangeKind::Import => Action::Import { had: self.memory.known.get(&candidate.identity).cloned() },
            ChangeKind::Adopt => Action::Adopt,
            ChangeKind::Restore => Action::Restore,
            _ => Action::Update,
        }
    }

    /// The clash if the account is linked to the same identity in another directory.
    fn origin_clash(
        &self,
        part: Selected<'_>,
        candidate: &Candidate<'_>,
        linked: Option<usize>,
    ) -> Option<Clash> {
        let account = self.accounts.get(linked?)?;
        let (link, directory) = (account.link.as_ref()?, &part.intake.directory);
        let whose = &self.settings.accounts.whose;
        let is_told = |(login, link): (&String, &Identity)| {
            folded(login) == folded(&account.login) && *link == candidate.identity
        };
        let origin = origins::other(self.settings, self.memory, Some(account), link, directory)?;
        let (account, origin) = (account.login.clone(), origin.to_owned());
        (!whose.iter().any(is_told)).then_some(Clash::OtherOrigin { account, origin })
    }

    /// The roles of an account made by hand that would become a person's though no rule gives them, unless the
    /// settings allow it. (An account that they name in `whose` is handed over on somebody's word.)
    fn handed_over(&self, (part, candidate): Chosen<'_>, account: &Account) -> Option<String> {
        if part.intake.adopt_roles {
            return None;
        }
        let after = roles(part.intake, &candidate.proposal, account.field("roles"), |_| false);
        let rule = |role: &str| part.intake.roles.iter().position(|rule| rule.name == role);
        let is_given = |role: &&str| rule(role).is_some_and(|at| candidate.proposal.role(at) == Some(true));
        let kept: Vec<&str> =
            after.split(LIST).map(str::trim).filter(|role| !role.is_empty() && !is_given(role)).collect();
        (!kept.is_empty()).then(|| kept.join(", "))
    }

    /// The fields of a new account, or those in which an account differs.
    fn fields(&self, chosen: Chosen<'_>, account: Option<&Account>) -> IndexMap<String, FieldChange> {
        let (_, candidate) = chosen;
        let Some(account) = account else { return new_fields(chosen) };
        let mut fields = self.differences(chosen, account);
        if account.link.as_ref() != Some(&candidate.identity) {
            let old = account.link.as_ref().map(|link| link.to_string());
            fields.insert("link".to_owned(), FieldChange { old, new: Some(candidate.identity.to_string()) });
        }
        if account.state == State::Suspended {
            fields.insert("state".to_owned(), changed("suspended", "active"));
        }
        fields
    }

    fn differences(&self, (part, candidate): Chosen<'_>, account: &Account) -> IndexMap<String, FieldChange> {
        let proposal = &candidate.proposal;
        let mut fields: IndexMap<String, FieldChange> = IndexMap::new();
        for (index, (name, rule)) in part.intake.fields.iter().enumerate() {
            let (old, new) = (account.field(name), proposal.value(index));
            let is_written = match rule.write {
                Write::Always => true,
                Write::Once => false,
                Write::Empty => old.is_empty(),
            };
            let is_same = old == new || (rule.is_list() && items(old) == items(new));
            let is_kept = || new.is_empty() && self.emptied.keeps_field(self.parts, part.intake, index);
            if is_written && !is_same && proposal.open(index).is_none() && !is_kept() {
                fields.insert(name.clone(), changed(old, new));
            }
        }
        if part.intake.roles.is_empty() {
            return fields;
        }
        let old = account.field("roles");
        let is_kept = |role| self.emptied.keeps_role(self.parts, part.intake, role);
        let new = roles(part.intake, proposal, old, is_kept);
        if old != new && items(old) != items(&new) {
            fields.insert("roles".to_owned(), changed(old, &new));
        }
        fields
    }

    /// The clash if another person wants the candidate's login.
    fn rival_clash(&self, index: usize, candidate: &Candidate<'_>) -> Option<Clash> {
        if self.wanted_logins.is_empty() {
            return None;
        }
        let wanting = self.wanted_logins.get(&folded(candidate.proposal.login()))?;
        let has = self.named(index).and_then(|at| self.holder(at)).filter(|one| self.is_settled(*one));
        let mut others: Vec<usize> =
            wanting.iter().copied().chain(has).filter(|other| *other != index).collect();
        others.sort_unstable();
        let others: Vec<String> = others.into_iter().filter_map(|other| self.dn_of(other)).collect();
        (!others.is_empty()).then_some(Clash::SameLogin { others })
    }

    /// The clash if the candidate's login belongs to an account that is not theirs.
    fn login_clash(&self, own: Option<usize>, named: Option<usize>) -> Option<Clash> {
        if named == own || named.is_some_and(|named| self.moving.contains(&named)) {
            return None;
        }
        let other = self.accounts.get(named?)?;
        let account = other.login.clone();
        if self.is_protected(other) {
            return Some(Clash::Protected { account });
        }
        if let Some(link) = &other.link {
            return Some(Clash::LinkedElsewhere { account, link: link.clone() });
        }
        Some(Clash::HandMade { account })
    }

    /// The clash if another has, or would have, a unique value of the candidate's.
    fn value_clash(
        &self,
        index: usize,
        (part, candidate): Chosen<'_>,
        own: Option<usize>,
        fields: &IndexMap<String, FieldChange>,
    ) -> Option<Clash> {
        if fields.is_empty() {
            return None;
        }
        self.unique.iter().find_map(|unique| {
            let value = drawn(part, candidate, unique.field);
            if value.is_empty() || !fields.contains_key(unique.field) {
                return None;
            }
            let clash = |holder: Holder| {
                Some(Clash::SameValue { field: unique.field.to_owned(), value: value.to_owned(), holder })
            };
            let mut holders = self.having(unique, value).iter().copied();
            if let Some(other) = holders.find(|at| Some(*at) != own) {
                return clash(Holder::Account(self.accounts.get(other)?.login.clone()));
            }
            let rival = self.wanting(unique, value).iter().find(|rival| **rival != index)?;
            clash(Holder::Person(self.dn_of(*rival)?))
        })
    }

    fn clash(&self, chosen: Chosen<'_>, linked: Option<usize>, clash: Clash) -> Change {
        let login =
            linked.and_then(|at| self.accounts.get(at)).map_or(chosen.1.proposal.login(), |one| &one.login);
        change(chosen, Action::Clash(clash), login.to_owned(), IndexMap::new())
    }
}

fn dn((part, candidate): Chosen<'_>) -> Option<String> {
    part.reading.people().get(candidate.person).map(|entry| entry.dn().to_owned())
}

fn held(chosen: Chosen<'_>, login: String, would: ChangeKind, reason: HeldReason) -> Held {
    Held { login, dn: dn(chosen), cause: None, would: Some(would), reason, about: None }
}

/// Why a person does not come in, if something is unknown or the settings say so.
fn held_back(part: Selected<'_>, candidate: &Candidate<'_>, kind: ChangeKind) -> Option<HeldReason> {
    match kind {
        _ if part.reading.is_doubted(&candidate.identity) => Some(HeldReason::JudgedOtherwise),
        ChangeKind::Update => None,
        ChangeKind::Import if !part.intake.new => Some(HeldReason::NoNewAccounts),
        _ if part.reading.gaps().iter().any(|gap| gap.hides_excluded) => Some(HeldReason::ExclusionUnknown),
        _ if !part.intake.not_in_group.is_empty() && part.reading.may_be_excluded(&candidate.identity) => {
            Some(HeldReason::Moving)
        }
        _ if candidate.is_activity_hidden => Some(HeldReason::ActivityHidden),
        _ => candidate.proposal.is_unsure().then_some(HeldReason::FieldsUnknown),
    }
}

/// The fields of a new account.
fn new_fields((part, candidate): Chosen<'_>) -> IndexMap<String, FieldChange> {
    let names = part.intake.fields.keys().enumerate();
    let mut fields: IndexMap<String, FieldChange> = names
        .map(|(index, name)| {
            let new = Some(candidate.proposal.value(index).to_owned());
            (name.clone(), FieldChange { old: None, new })
        })
        .collect();
    if !part.intake.roles.is_empty() {
        let new = Some(roles(part.intake, &candidate.proposal, "", |_| false));
        fields.insert("roles".to_owned(), FieldChange { old: None, new });
    }
    fields
}

/// The roles of an account after the change: those kept, in order, then the new ones.
fn roles(intake: &Intake, proposal: &Proposal<'_>, old: &str, is_kept: impl Fn(usize) -> bool) -> String {
    if intake.roles.is_empty() {
        return old.to_owned();
    }
    let has: Vec<&str> = old.split(LIST).map(str::trim).filter(|role| !role.is_empty()).collect();
    let rule = |role: &str| intake.roles.iter().position(|rule| rule.name == role);
    let stays = |role: &&&str| match rule(role) {
        // A role that cannot be decided is kept.
        Some(at) => proposal.role(at) != Some(false) || is_kept(at),
        None => intake.other_roles == OtherRoles::Keep,
    };
    let given = intake.roles.iter().enumerate().filter(|(at, _)| proposal.role(*at) == Some(true));
    let new = given.map(|(_, rule)| rule.name.as_str()).filter(|role| !has.contains(role));
    let roles: Vec<&str> = has.iter().filter(stays).copied().chain(new).collect();
    roles.join(&LIST.to_string())
}

fn change(
    (part, candidate): Chosen<'_>,
    action: Action,
    login: String,
    fields: IndexMap<String, FieldChange>,
) -> Change {
    let path = part.selection.path(part.reading, candidate.person);
    let link = Some(candidate.identity.clone());
    Change { action, login, dn: dn((part, candidate)), link, fields, path }
}

pub(super) fn changed(old: &str, new: &str) -> FieldChange {
    FieldChange { old: Some(old.to_owned()), new: Some(new.to_owned()) }
}

/// The values of a multi-valued field, sorted.
fn items(list: &str) -> BTreeSet<&str> {
    list.split(LIST).map(str::trim).filter(|item| !item.is_empty()).collect()
}
