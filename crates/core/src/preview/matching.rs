//! Matching candidates with accounts, and the change that follows for each.

use super::change::FieldChanges;
use super::draft::{Draft, Idle, Left};
use super::emptied::Emptied;
use super::idle::IdleWord;
use super::origins;
use super::situation::{Chosen, Selected, Situation};
use super::{Action, Change, ChangeKind, Clash, Held, HeldReason, Memory};
use crate::account::{Account, Replies, State, folded};
use crate::draw::Drawer;
use crate::ldap::entry::Entry;
use crate::ldap::identity::{Identity, Lasting};
use crate::selection::Candidate;
use crate::settings::Settings;
use fixedbitset::FixedBitSet;
use foldhash::{HashMap, HashSet};
use jiff::civil::Date;
use smallvec::SmallVec;
use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::BTreeMap;

/// The indexed data of all decisions. Most people have an account that is as it should be; indexes that only the others
/// need are built on first use.
pub(super) struct Matching<'a> {
    pub(super) settings: &'a Settings,
    pub(super) parts: &'a [Selected<'a>],
    /// The candidates of all intakes, in order.
    pub(super) candidates: Vec<Chosen<'a>>,
    pub(super) accounts: &'a [Account],
    pub(super) memory: &'a Memory,
    /// The store's replies.
    pub(super) replies: Option<&'a Replies>,
    /// For each candidate, the account with their link, or the one that the settings give them.
    linked: Vec<Option<usize>>,
    /// For each account, the first candidate with its link.
    holder: Vec<Option<usize>>,
    by_login: OnceCell<Index<'a>>,
    /// The unique fields other than `login`.
    pub(super) unique: Vec<Unique<'a>>,
    protected: HashSet<Folded<'a>>,
    /// Fields and roles that nobody loses, since too many would.
    pub(super) emptied: Emptied,
    /// The people who dropped out.
    pub(super) dropped: OnceCell<HashMap<Identity, SmallVec<[Left<'a>; 1]>>>,
    /// The rules of each intake, ready to be applied to people who are out.
    pub(super) drawers: Vec<OnceCell<Drawer<'a>>>,
    /// The values of unique fields that people who are in draw, for people who are out.
    pub(super) drawn: OnceCell<HashSet<(usize, String)>>,
    /// Candidates whose entry seems to be made anew, with the account of the old one: an administrator decides.
    pub(super) anew: HashMap<usize, usize>,
    /// The accounts in `anew`.
    pub(super) asked_about: HashSet<usize>,
    /// The settings' words on accounts, by login.
    pub(super) words: HashMap<Folded<'a>, (&'a str, &'a Identity)>,
    /// Candidates whose entry was made anew, by the settings' rule.
    pub(super) tied_again: HashSet<usize>,
    /// Entries of `whose` that cannot apply.
    idle_words: Vec<IdleWord>,
}

/// A unique field, and who has each value.
pub(super) struct Unique<'a> {
    pub(super) field: &'a str,
    accounts: OnceCell<Index<'a>>,
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
    /// Entries of `whose` that cannot apply.
    pub(super) idle_words: Vec<IdleWord>,
    pub(super) changes: Vec<Change>,
    pub(super) held: Vec<Held>,
    pub(super) unchanged: usize,
    pub(super) missed: BTreeMap<Identity, Date>,
    /// Fields and roles that too many would lose, with the counts.
    pub(super) emptied: Vec<String>,
}

impl<'a> Matching<'a> {
    pub(super) fn new(situation: Situation<'a>, parts: &'a [Selected<'a>]) -> Self {
        let Situation { settings, accounts, memory, replies, .. } = situation;
        let count = parts.iter().map(|part| part.selection.candidates.len()).sum();
        let mut candidates: Vec<Chosen<'a>> = Vec::with_capacity(count);
        for part in parts {
            candidates.extend(part.selection.candidates.iter().map(|one| (*part, one)));
        }
        let mut by_link: HashMap<&Identity, usize> = HashMap::default();
        by_link.reserve(accounts.len());
        by_link.extend(accounts.iter().enumerate().filter_map(|(at, one)| Some((one.link.as_ref()?, at))));
        let linked: Vec<Option<usize>> =
            candidates.iter().map(|(_, one)| by_link.get(&one.identity).copied()).collect();
        let mut holder = vec![None; accounts.len()];
        for (index, at) in linked.iter().enumerate().filter_map(|(index, at)| Some((index, (*at)?))) {
            if let Some(holder @ None) = holder.get_mut(at) {
                *holder = Some(index);
            }
        }
        let unique = settings.unique_fields().into_iter();
        let unique = unique.map(|field| Unique { field, accounts: OnceCell::new() });
        let mut matching = Self {
            settings,
            parts,
            candidates,
            accounts,
            memory,
            replies,
            linked,
            holder,
            by_login: OnceCell::new(),
            unique: unique.collect(),
            protected: settings.accounts.protected.iter().map(|login| folded(login)).collect(),
            emptied: Emptied::default(),
            dropped: OnceCell::new(),
            drawers: parts.iter().map(|_| OnceCell::new()).collect(),
            drawn: OnceCell::new(),
            anew: HashMap::default(),
            asked_about: HashSet::default(),
            words: settings
                .accounts
                .whose
                .iter()
                .map(|(login, link)| (folded(login), (login.as_str(), link)))
                .collect(),
            tied_again: HashSet::default(),
            idle_words: Vec::new(),
        };
        matching.idle_words = matching.take_words();
        matching.tie_again();
        let theirs = matching.candidates.iter().zip(&matching.linked);
        let theirs = theirs.filter_map(|(chosen, at)| Some((*chosen, accounts.get((*at)?)?)));
        matching.emptied = Emptied::of(parts, theirs, settings.brakes.shrunk);
        matching
    }

    /// Gives an account to a candidate.
    pub(super) fn give(&mut self, index: usize, at: usize) {
        self.linked.get_mut(index).into_iter().for_each(|own| *own = Some(at));
        self.holder.get_mut(at).into_iter().for_each(|holder| *holder = Some(index));
    }

    /// `login` and the unique fields.
    pub(super) fn unique_names(&self) -> impl Iterator<Item = &'a str> {
        ["login"].into_iter().chain(self.unique.iter().map(|unique| unique.field))
    }

    /// The account that is certainly a candidate's.
    pub(super) fn linked(&self, index: usize) -> Option<usize> {
        self.linked.get(index).copied().flatten()
    }

    /// Whether any candidate has an account by its link, or by the settings.
    pub(super) fn has_links(&self) -> bool {
        self.linked.iter().any(Option::is_some)
    }

    /// The first candidate with an account's link.
    pub(super) fn holder(&self, account: usize) -> Option<usize> {
        self.holder.get(account).copied().flatten()
    }

    /// The account that has a candidate's future login.
    pub(super) fn named(&self, index: usize) -> Option<usize> {
        self.account_called(self.candidates.get(index)?.1.proposal.login())
    }

    /// The account with a login.
    pub(super) fn account_called(&self, login: &str) -> Option<usize> {
        let by_login = self
            .by_login
            .get_or_init(|| index(self.accounts.iter().map(|one| one.login.as_str()).enumerate()));
        let named = by_login.get(&folded(login))?;
        // In some lists logins that differ by case are two.
        let is_exact = |at: &&usize| self.accounts.get(**at).is_some_and(|one| one.login == login);
        named.iter().find(is_exact).or_else(|| named.last()).copied()
    }

    /// The accounts that have a value in a unique field.
    pub(super) fn having<'m>(&'m self, unique: &'m Unique<'a>, value: &str) -> &'m [usize] {
        let index = unique
            .accounts
            .get_or_init(|| index(self.accounts.iter().map(|one| one.field(unique.field)).enumerate()));
        index.get(&*folded(value)).map(SmallVec::as_slice).unwrap_or_default()
    }

    /// Decides for every candidate and for every linked account without one: first what each would get, then whose
    /// claims take effect.
    pub(super) fn decisions(&self) -> Decisions {
        let mut decisions = Decisions {
            emptied: self.emptied.words.clone(),
            idle_words: self.idle_words.clone(),
            ..Decisions::default()
        };
        let mut matched = self.adoptions();
        let mut claimed = FixedBitSet::with_capacity(self.accounts.len());
        let doubles = self.doubles();
        let mut drafts = Vec::new();
        for (index, chosen) in self.candidates.iter().enumerate() {
            claimed.extend(self.linked(index));
            if let Some(other) = self.double(index, &doubles) {
                // Nobody knows whose the account is: it is left alone.
                let clash = Clash::SameIdentity { other };
                decisions.changes.push(self.plain_clash(index, *chosen, clash));
                continue;
            }
            let matched = matched.remove(&index).unwrap_or(Ok(None));
            drafts.extend(self.draft(index, *chosen, matched, &mut decisions));
        }
        let leavers = self.leavers(&claimed, &mut decisions);
        self.settle(drafts, leavers, &mut decisions);
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

    /// Whether an account is left alone, whoever's it is.
    pub(super) fn is_untouchable(&self, account: &Account) -> bool {
        account.state == State::Other || self.is_protected(account)
    }

    pub(super) fn dn_of(&self, candidate: usize) -> Option<String> {
        self.candidates.get(candidate).and_then(|chosen| dn(*chosen))
    }

    /// The draft of one candidate; `None` if there is nothing to get, or if it is decided already.
    fn draft(
        &self,
        index: usize,
        chosen: Chosen<'a>,
        matched: Result<Option<usize>, Clash>,
        decisions: &mut Decisions,
    ) -> Option<Draft<'a>> {
        let (part, candidate) = chosen;
        let linked = self.linked(index);
        let own = linked.and_then(|at| self.accounts.get(at));
        if let Some(account) = own.filter(|one| one.state == State::Other) {
            let held = held(chosen, account.login.clone(), ChangeKind::Update, HeldReason::OtherState);
            decisions.held.push(Held { about: Some(account.state_word().to_owned()), ..held });
            return None;
        }
        if let Some(account) = own.filter(|one| self.is_protected(one)) {
            let fields = self.differences(chosen, account);
            if fields.is_empty() && account.state == State::Active {
                decisions.unchanged += 1;
            } else {
                let would = if fields.is_empty() { ChangeKind::Restore } else { ChangeKind::Update };
                decisions.held.push(held(chosen, account.login.clone(), would, HeldReason::Protected));
            }
            return None;
        }
        if let Some(clash) = self.origin_clash(part, candidate, linked) {
            decisions.changes.push(self.plain_clash(index, chosen, clash));
            return None;
        }
        let (at, clash) = match matched {
            Ok(account) => (linked.or(account), None),
            Err(clash) => (None, Some(Idle::Clash(clash))),
        };
        let account = at.and_then(|at| self.accounts.get(at));
        let kind = match account {
            None => ChangeKind::Import,
            Some(account) if account.link.as_ref() != Some(&candidate.identity) => ChangeKind::Adopt,
            Some(account) if account.state == State::Suspended => ChangeKind::Restore,
            Some(_) => ChangeKind::Update,
        };
        let fields = self.fields(chosen, account);
        if kind == ChangeKind::Update && fields.is_empty() {
            decisions.unchanged += 1;
            return None;
        }
        let login = account.map_or(candidate.proposal.login(), |account| &account.login).to_owned();
        let is_by_rule = linked.is_none() || self.tied_again.contains(&index);
        let handed_over = account.filter(|_| kind == ChangeKind::Adopt && is_by_rule);
        let handed_over = handed_over.and_then(|account| self.handed_over(chosen, account));
        let idle = match (held_back(part, candidate, kind), handed_over) {
            _ if clash.is_some() => clash,
            (Some(HeldReason::NoNewAccounts), _) => {
                decisions.held.push(held(chosen, login, kind, HeldReason::NoNewAccounts));
                return None;
            }
            (Some(HeldReason::Unfit), _) => {
                let held = held(chosen, login, kind, HeldReason::Unfit);
                Some(Idle::Held(Held { about: unfit(chosen), ..held }))
            }
            (Some(reason), _) => Some(Idle::Held(held(chosen, login, kind, reason))),
            (None, Some(role)) => {
                let held = held(chosen, login, kind, HeldReason::RoleHandedOver);
                Some(Idle::Held(Held { about: Some(role), ..held }))
            }
            (None, None) => None,
        };
        Some(Draft { index, chosen, account: at, kind, fields, idle })
    }

    /// A clash that does not depend on what others draw.
    fn plain_clash(&self, index: usize, chosen: Chosen<'_>, clash: Clash) -> Change {
        let account = self.linked(index).and_then(|at| self.accounts.get(at));
        let login = account.map_or(chosen.1.proposal.login(), |one| &one.login).to_owned();
        let ways = self.plain_ways(&clash, &chosen.1.identity);
        change(chosen, Action::Clash(clash, ways), login, FieldChanges::new())
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
        let origin = origins::other(self.settings, self.memory, Some(account), link, directory)?;
        let is_told = self.says(account, &candidate.identity);
        let (account, origin) = (account.login.clone(), origin.to_owned());
        (!is_told).then_some(Clash::OtherOrigin { account, origin })
    }

    /// True if the settings give an account to the person with a link.
    pub(super) fn says(&self, account: &Account, link: &Identity) -> bool {
        let said = || self.words.get(&folded(&account.login)).filter(|(_, said)| *said == link);
        let is_meant = |(login, _): &(&str, &Identity)| {
            self.account_called(login)
                .and_then(|at| self.accounts.get(at))
                .is_some_and(|one| one.login == account.login)
        };
        !self.words.is_empty() && said().is_some_and(is_meant)
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
        _ if candidate.proposal.is_unsure() => Some(HeldReason::FieldsUnknown),
        // A new account comes with all values or not at all.
        ChangeKind::Import | ChangeKind::Adopt => candidate.proposal.unfit().map(|_| HeldReason::Unfit),
        _ => None,
    }
}

/// The field that the store has no room for, and why.
fn unfit((part, candidate): Chosen<'_>) -> Option<String> {
    let (at, open) = candidate.proposal.unfit()?;
    let (name, _) = part.intake.fields.get_index(at)?;
    Some(format!("{name} {}", open.in_words()))
}

pub(super) fn change(
    (part, candidate): Chosen<'_>,
    action: Action,
    login: String,
    fields: FieldChanges,
) -> Change {
    let path = part.selection.path(part.reading, candidate.person);
    let link = Some(candidate.identity.clone());
    Change { action, login, dn: dn((part, candidate)), link, fields, path }
}
