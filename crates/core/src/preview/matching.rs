//! Which candidate is which account, and what follows for both.

use super::{Change, ChangeKind, Clash, FieldChange, Held, HeldReason, Memory};
use crate::account::{Account, State, folded};
use crate::field::{LIST, Proposal, Write};
use crate::identity::Identity;
use crate::reading::Reading;
use crate::selection::{Candidate, Selection};
use crate::settings::{Adopt, Intake, MatchBy, OtherRoles, Settings};
use foldhash::{HashMap, HashSet};
use indexmap::IndexMap;
use jiff::civil::Date;
use smallvec::SmallVec;
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

/// One intake, what was read for it, and whom it selects.
#[derive(Clone, Copy)]
pub(super) struct Part<'a> {
    pub(super) intake: &'a Intake,
    pub(super) reading: &'a Reading,
    pub(super) selection: &'a Selection,
}

/// A candidate, and the part that selects them.
type Chosen<'a> = (Part<'a>, &'a Candidate);

/// Everything that deciding looks at, indexed.
pub(super) struct Matching<'a> {
    pub(super) settings: &'a Settings,
    pub(super) parts: &'a [Part<'a>],
    /// Those of all parts, in order.
    candidates: Vec<Chosen<'a>>,
    pub(super) accounts: &'a [Account],
    pub(super) memory: &'a Memory,
    by_link: HashMap<&'a Identity, usize>,
    by_login: HashMap<Folded<'a>, usize>,
    /// Candidates by the login that they would have.
    wanted_logins: Index<'a>,
    /// For each field that must be unique: who has a value, and who would have it.
    unique: Vec<Unique<'a>>,
    protected: HashSet<Folded<'a>>,
    /// Linked accounts that get another login, so that theirs is free.
    moving: HashSet<usize>,
}

struct Unique<'a> {
    field: &'a str,
    accounts: Index<'a>,
    candidates: Index<'a>,
}

/// A value as it is compared.
type Folded<'a> = Cow<'a, str>;

/// Who has a value; hardly ever more than one.
type Index<'a> = HashMap<Folded<'a>, SmallVec<[usize; 2]>>;

fn index<'a>(values: impl Iterator<Item = &'a str>) -> Index<'a> {
    let mut index = Index::default();
    index.reserve(values.size_hint().0);
    for (at, value) in values.enumerate() {
        index.entry(folded(value)).or_default().push(at);
    }
    index
}

/// What was decided.
#[derive(Default)]
pub(super) struct Outcome {
    pub(super) changes: Vec<Change>,
    pub(super) held: Vec<Held>,
    pub(super) unchanged: usize,
    pub(super) missed: BTreeMap<Identity, Date>,
}

impl<'a> Matching<'a> {
    pub(super) fn new(
        settings: &'a Settings,
        parts: &'a [Part<'a>],
        accounts: &'a [Account],
        memory: &'a Memory,
    ) -> Self {
        let of = |part: &Part<'a>| {
            let part = *part;
            part.selection.candidates.iter().map(move |one| (part, one))
        };
        let candidates: Vec<Chosen<'a>> = parts.iter().flat_map(of).collect();
        let unique = settings
            .unique_fields()
            .into_iter()
            .map(|field| {
                let rules: Vec<Option<usize>> =
                    parts.iter().map(|part| part.intake.fields.get_index_of(field)).collect();
                let values = parts.iter().zip(rules).flat_map(|(part, rule)| {
                    let value = move |one: &'a Candidate| rule.map_or("", |rule| one.proposal.value(rule));
                    part.selection.candidates.iter().map(value)
                });
                Unique {
                    field,
                    accounts: index(accounts.iter().map(|one| one.field(field))),
                    candidates: index(values),
                }
            })
            .collect();
        let wanted_logins = index(candidates.iter().map(|(_, one)| one.proposal.login()));
        let mut matching = Self {
            settings,
            parts,
            candidates,
            accounts,
            memory,
            by_link: accounts
                .iter()
                .enumerate()
                .filter_map(|(at, one)| Some((one.link.as_ref()?, at)))
                .collect(),
            by_login: accounts.iter().enumerate().map(|(at, one)| (folded(&one.login), at)).collect(),
            wanted_logins,
            unique,
            protected: settings.accounts.protected.iter().map(|login| folded(login)).collect(),
            moving: HashSet::default(),
        };
        matching.moving = matching.moving();
        matching
    }

    /// The accounts whose people are renamed and can be: into a login that is free, or that its own holder
    /// leaves in the same way. So two people may swap their logins, and one follow another.
    fn moving(&self) -> HashSet<usize> {
        // From an account to the one that has the login which it would get.
        let mut waiting: HashMap<usize, Option<usize>> = HashMap::default();
        for (index, chosen) in self.candidates.iter().enumerate() {
            let (part, candidate) = *chosen;
            let Some((at, account)) =
                self.by_link.get(&candidate.identity).and_then(|at| Some((*at, self.accounts.get(*at)?)))
            else {
                continue;
            };
            let key = folded(candidate.proposal.login());
            if key == folded(&account.login) || waiting.contains_key(&at) {
                continue;
            }
            let fields = fields(*chosen, Some(account));
            let comes_in = account.state == State::Suspended;
            let is_held = comes_in
                && (candidate.proposal.is_unsure()
                    || part.reading.gaps().iter().any(|gap| gap.hides_excluded));
            let stays = !fields.contains_key("login")
                || is_held
                || self.is_protected(account)
                || self.rival_clash(index, candidate).is_some()
                || self.value_clash(index, *chosen, Some(at), &fields).is_some();
            if !stays {
                waiting.insert(at, self.by_login.get(&key).copied().filter(|holder| *holder != at));
            }
        }
        // Whoever waits for one that stays, stays, too.
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

    /// Decides for every candidate, then for every linked account that no candidate claimed.
    pub(super) fn outcome(&self) -> Outcome {
        let mut outcome = Outcome::default();
        let matched = self.adoptions();
        let mut claimed = HashSet::default();
        let mut seen: HashMap<&Identity, usize> = HashMap::default();
        for (index, chosen) in self.candidates.iter().enumerate() {
            let (_, candidate) = *chosen;
            let first = *seen.entry(&candidate.identity).or_insert(index);
            if first == index {
                let matched = matched.get(index).cloned().unwrap_or(Ok(None));
                self.decide(index, *chosen, matched, &mut claimed, &mut outcome);
            } else {
                let other = self.dn_of(first).unwrap_or_default();
                outcome.changes.push(self.clash(*chosen, None, Clash::SameIdentity { other }));
            }
        }
        self.leaving(&claimed, &mut outcome);
        let place = |change: &Change| (change.kind, Account::login_key(&change.login), change.dn.clone());
        outcome.changes.sort_by_cached_key(place);
        outcome.held.sort_by(|left, right| (&left.login, &left.dn).cmp(&(&right.login, &right.dn)));
        outcome
    }

    pub(super) fn is_protected(&self, account: &Account) -> bool {
        self.protected.contains(&folded(&account.login))
    }

    fn dn_of(&self, candidate: usize) -> Option<String> {
        self.candidates.get(candidate).and_then(|chosen| dn(*chosen))
    }

    /// One candidate: which account it is, and what follows.
    fn decide(
        &self,
        index: usize,
        chosen: Chosen<'_>,
        matched: Result<Option<usize>, Clash>,
        claimed: &mut HashSet<usize>,
        outcome: &mut Outcome,
    ) {
        let (part, candidate) = chosen;
        let linked = self.by_link.get(&candidate.identity).copied();
        let key = folded(candidate.proposal.login());
        let named = self.by_login.get(&key).copied();
        claimed.extend(linked);
        let protected = linked.filter(|at| self.accounts.get(*at).is_some_and(|one| self.is_protected(one)));
        if let Some(account) = protected.and_then(|at| self.accounts.get(at)) {
            let fields = differences(chosen, account);
            if fields.is_empty() && account.state == State::Active {
                outcome.unchanged += 1;
            } else {
                let would = if fields.is_empty() { ChangeKind::Restore } else { ChangeKind::Update };
                outcome.held.push(held(chosen, account.login.clone(), would, HeldReason::Protected));
            }
            return;
        }
        let clash = self.rival_clash(index, candidate).or_else(|| match &matched {
            Err(clash) => Some(clash.clone()),
            Ok(account) => self.login_clash(linked.or(*account), named),
        });
        if let Some(clash) = clash {
            // The account that a clash is about waits for the decision, too.
            claimed.extend(named.filter(|_| linked.is_none()));
            outcome.changes.push(self.clash(chosen, linked, clash));
            return;
        }
        let account =
            linked.or(matched.unwrap_or_default()).and_then(|at| Some((at, self.accounts.get(at)?)));
        let kind = match account {
            None => ChangeKind::Import,
            Some(_) if linked.is_none() => ChangeKind::Adopt,
            Some((_, account)) if account.state == State::Suspended => ChangeKind::Restore,
            Some(_) => ChangeKind::Update,
        };
        let fields = fields(chosen, account.map(|(_, account)| account));
        if let Some(clash) = self.value_clash(index, chosen, account.map(|(at, _)| at), &fields) {
            claimed.extend(account.map(|(at, _)| at));
            outcome.changes.push(self.clash(chosen, linked, clash));
            return;
        }
        if kind == ChangeKind::Update && fields.is_empty() {
            outcome.unchanged += 1;
            return;
        }
        let login = account.map_or(candidate.proposal.login(), |(_, account)| &account.login).to_owned();
        let comes_in = kind != ChangeKind::Update;
        if kind == ChangeKind::Import && !part.intake.new {
            outcome.held.push(held(chosen, login, kind, HeldReason::NoNewAccounts));
        } else if comes_in && part.reading.gaps().iter().any(|gap| gap.hides_excluded) {
            outcome.held.push(held(chosen, login, kind, HeldReason::ExclusionUnknown));
        } else if comes_in && candidate.proposal.is_unsure() {
            outcome.held.push(held(chosen, login, kind, HeldReason::FieldsUnknown));
        } else {
            let change = change(chosen, kind, login, fields);
            let detail = self.comes_back(candidate).filter(|_| kind == ChangeKind::Import);
            outcome.changes.push(Change { detail, ..change });
        }
    }

    /// What is to be said of somebody whose account was taken away in the application, and not here.
    fn comes_back(&self, candidate: &Candidate) -> Option<String> {
        let login = self.memory.known.get(&candidate.identity)?;
        Some(format!(
            "comes back: the account {login} was taken away in the application; except = [\"{login}\"] keeps them out"
        ))
    }

    /// Whether somebody else wants the candidate's login.
    fn rival_clash(&self, index: usize, candidate: &Candidate) -> Option<Clash> {
        let key = folded(candidate.proposal.login());
        let rivals = self.wanted_logins.get(&key).map(SmallVec::as_slice).unwrap_or_default();
        let others = rivals.iter().filter(|rival| **rival != index).filter_map(|rival| self.dn_of(*rival));
        (rivals.len() > 1).then(|| Clash::SameLogin { others: others.collect() })
    }

    /// Whether the candidate's login belongs to another account than theirs.
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

    /// For each candidate without an account of their own: the one made by hand that becomes theirs, or
    /// the clash about it. None becomes two people's.
    fn adoptions(&self) -> Vec<Result<Option<usize>, Clash>> {
        let mut wanted: HashMap<usize, Vec<usize>> = HashMap::default();
        let candidates = self.candidates.iter().enumerate();
        let mut matched: Vec<Result<Option<usize>, Clash>> = candidates
            .map(|(index, (part, candidate))| {
                if self.by_link.contains_key(&candidate.identity) {
                    return Ok(None);
                }
                let key = folded(candidate.proposal.login());
                let found = self.by_hand((*part, candidate), self.by_login.get(&key).copied());
                if let Ok(Some(account)) = found {
                    wanted.entry(account).or_default().push(index);
                }
                found
            })
            .collect();
        for (account, people) in wanted.iter().filter(|(_, people)| people.len() > 1) {
            let account = self.accounts.get(*account).map(|one| one.login.clone()).unwrap_or_default();
            for person in people {
                let others = people.iter().filter(|other| *other != person);
                let others = others.filter_map(|other| self.dn_of(*other)).collect();
                if let Some(slot) = matched.get_mut(*person) {
                    *slot = Err(Clash::SeveralPeople { account: account.clone(), others });
                }
            }
        }
        matched
    }

    /// The account made by hand that becomes the candidate's, if the settings say so; a clash where a
    /// person must decide.
    fn by_hand(&self, (part, candidate): Chosen<'_>, named: Option<usize>) -> Result<Option<usize>, Clash> {
        let intake = part.intake;
        let mut found: Vec<(usize, &MatchBy)> = Vec::new();
        for by in &intake.matching {
            let at: Vec<usize> = match by {
                MatchBy::Link => Vec::new(),
                MatchBy::Login => named.into_iter().collect(),
                MatchBy::Field(field) => {
                    let unique = self.unique.iter().find(|unique| unique.field == field);
                    let value = folded(drawn(part, candidate, field));
                    let with = unique.map(|unique| (unique, value)).filter(|(_, value)| !value.is_empty());
                    with.and_then(|(unique, value)| unique.accounts.get(&value))
                        .map(|list| list.to_vec())
                        .unwrap_or_default()
                }
            };
            let is_free = |at: &usize| {
                self.accounts.get(*at).is_some_and(|one| one.link.is_none() && !self.is_protected(one))
            };
            found.extend(at.into_iter().filter(is_free).map(|at| (at, by)));
        }
        let Some((first, by)) = found.first().copied() else { return Ok(None) };
        let login = |at: usize| self.accounts.get(at).map(|one| one.login.clone()).unwrap_or_default();
        match &intake.adopt {
            Adopt::Never => Ok(None),
            Adopt::Ask => {
                let by = match by {
                    MatchBy::Field(field) => field.clone(),
                    MatchBy::Link | MatchBy::Login => "login".to_owned(),
                };
                Err(Clash::MayBeTheirs { account: login(first), by })
            }
            Adopt::Same(ways) => {
                found.retain(|(_, by)| ways.contains(by));
                let Some((account, _)) = found.first().copied() else { return Ok(None) };
                if let Some((other, _)) = found.iter().find(|(at, _)| *at != account) {
                    return Err(Clash::SeveralAccounts { accounts: vec![login(account), login(*other)] });
                }
                Ok(Some(account))
            }
        }
    }

    /// Whether somebody else has, or would have, a value that must be unique.
    fn value_clash(
        &self,
        index: usize,
        (part, candidate): Chosen<'_>,
        own: Option<usize>,
        fields: &IndexMap<String, FieldChange>,
    ) -> Option<Clash> {
        self.unique.iter().find_map(|unique| {
            let value = drawn(part, candidate, unique.field);
            if value.is_empty() || !fields.contains_key(unique.field) {
                return None;
            }
            let key = folded(value);
            let clash = |holder: String| {
                Some(Clash::SameValue { field: unique.field.to_owned(), value: value.to_owned(), holder })
            };
            let holders = unique.accounts.get(&key).into_iter().flatten();
            if let Some(other) = holders.copied().find(|at| Some(*at) != own) {
                return clash(format!("account {}", self.accounts.get(other)?.login));
            }
            let rival = unique.candidates.get(&key)?.iter().find(|rival| **rival != index)?;
            clash(self.dn_of(*rival)?)
        })
    }

    fn clash(&self, chosen: Chosen<'_>, linked: Option<usize>, clash: Clash) -> Change {
        let login =
            linked.and_then(|at| self.accounts.get(at)).map_or(chosen.1.proposal.login(), |one| &one.login);
        let change = change(chosen, ChangeKind::Clash, login.to_owned(), IndexMap::new());
        Change { clash: Some(clash), ..change }
    }
}

fn dn((part, candidate): Chosen<'_>) -> Option<String> {
    part.reading.people().get(candidate.person).map(|entry| entry.dn().to_owned())
}

/// What a part's rules draw for a field; nothing where they have none for it.
fn drawn<'c>(part: Part<'_>, candidate: &'c Candidate, field: &str) -> &'c str {
    part.intake.fields.get_index_of(field).map_or("", |rule| candidate.proposal.value(rule))
}

fn held(chosen: Chosen<'_>, login: String, would: ChangeKind, reason: HeldReason) -> Held {
    Held { login, dn: dn(chosen), cause: None, would: Some(would), reason }
}

/// Every field of a new account, or those in which an account differs.
fn fields(chosen: Chosen<'_>, account: Option<&Account>) -> IndexMap<String, FieldChange> {
    let (part, candidate) = chosen;
    let Some(account) = account else {
        let names = part.intake.fields.keys().enumerate();
        let mut fields: IndexMap<String, FieldChange> = names
            .map(|(index, name)| {
                let new = Some(candidate.proposal.value(index).to_owned());
                (name.clone(), FieldChange { old: None, new })
            })
            .collect();
        if !part.intake.roles.is_empty() {
            let new = Some(roles(part.intake, &candidate.proposal, ""));
            fields.insert("roles".to_owned(), FieldChange { old: None, new });
        }
        return fields;
    };
    let mut fields = differences(chosen, account);
    if account.link.as_ref() != Some(&candidate.identity) {
        let old = account.link.as_ref().map(|link| link.to_string());
        fields.insert("link".to_owned(), FieldChange { old, new: Some(candidate.identity.to_string()) });
    }
    if account.state == State::Suspended {
        fields.insert("state".to_owned(), changed("suspended", "active"));
    }
    fields
}

fn differences((part, candidate): Chosen<'_>, account: &Account) -> IndexMap<String, FieldChange> {
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
        if is_written && !is_same && proposal.open(index).is_none() {
            fields.insert(name.clone(), changed(old, new));
        }
    }
    let old = account.field("roles");
    let new = roles(part.intake, proposal, old);
    if old != new && items(old) != items(&new) {
        fields.insert("roles".to_owned(), changed(old, &new));
    }
    fields
}

/// The roles that an account with these would have: those that stay, in their order, then the new.
fn roles(intake: &Intake, proposal: &Proposal, old: &str) -> String {
    if intake.roles.is_empty() {
        return old.to_owned();
    }
    let has: Vec<&str> = old.split(LIST).map(str::trim).filter(|role| !role.is_empty()).collect();
    let rule = |role: &str| intake.roles.iter().position(|rule| rule.name == role);
    let stays = |role: &&&str| match rule(role) {
        // What nobody can say stays as it is.
        Some(at) => proposal.role(at) != Some(false),
        None => intake.other_roles == OtherRoles::Keep,
    };
    let given = intake.roles.iter().enumerate().filter(|(at, _)| proposal.role(*at) == Some(true));
    let new = given.map(|(_, rule)| rule.name.as_str()).filter(|role| !has.contains(role));
    let roles: Vec<&str> = has.iter().filter(stays).copied().chain(new).collect();
    roles.join(&LIST.to_string())
}

fn change(
    (part, candidate): Chosen<'_>,
    kind: ChangeKind,
    login: String,
    fields: IndexMap<String, FieldChange>,
) -> Change {
    let path = part.selection.path(part.reading, candidate.person);
    Change {
        kind,
        login,
        dn: dn((part, candidate)),
        link: Some(candidate.identity.clone()),
        cause: None,
        detail: None,
        fields,
        path: path.into_iter().map(str::to_owned).collect(),
        clash: None,
        wait: None,
    }
}

pub(super) fn changed(old: &str, new: &str) -> FieldChange {
    FieldChange { old: Some(old.to_owned()), new: Some(new.to_owned()) }
}

/// The values of a field that takes several, in an order of their own.
fn items(list: &str) -> BTreeSet<&str> {
    list.split(LIST).map(str::trim).filter(|item| !item.is_empty()).collect()
}
