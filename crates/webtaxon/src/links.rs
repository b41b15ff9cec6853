//! Stores without a place for links: the links are kept in the state, each with the login of its account.
//!
//! Since only the login identifies an account, no login passes from one account to another within one run: after an
//! interrupted run, an account is either the one that had the login before, or a new one.

use crate::background;
use crate::state::{Journal, Remembered, StateError, StateStore, Ties};
use crate::store::{
    AccountStore, GroupStore, Recorder, ScriptWork, StoreErrorKind, StoreFuture, Terms, TrialStore,
};
use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use webtaxon_core::account::{Account, Groups, Inquiry, Replies, folded};
use webtaxon_core::apply::{Edit, Outcome, Standing, standings};
use webtaxon_core::ldap::identity::Identity;

/// A store whose accounts have their links, wherever those are kept.
pub(crate) struct Linked<'s> {
    store: &'s dyn AccountStore,
    /// The state with the links, and the identity of the list; `None` if the store has them.
    apart: Option<(Arc<dyn StateStore>, String)>,
    /// Whether an apply is using the journal, so that there is no interrupted run to account for.
    is_applying: bool,
}

/// The links kept in the state, as read and as changed.
#[derive(Default)]
struct Kept {
    by_login: HashMap<String, Identity>,
    logins: HashMap<Identity, String>,
}

impl Kept {
    fn tie(&mut self, link: Identity, login: String) {
        self.logins.insert(link.clone(), login.clone());
        self.by_login.insert(login, link);
    }

    /// Applies the effect of an edit.
    fn follow(&mut self, edit: &Edit) {
        for account in [&edit.before, &edit.after].into_iter().flatten() {
            self.by_login.remove(folded(&account.login).as_ref());
            let login = account.link.as_ref().and_then(|link| self.logins.remove(link));
            login.and_then(|login| self.by_login.remove(&login));
        }
        if let Some(account) = &edit.after
            && let Some(link) = &account.link
        {
            self.tie(link.clone(), Account::login_key(&account.login));
        }
    }
}

impl<'s> Linked<'s> {
    /// A store, with the state and the list's identity if its links are kept apart.
    pub(crate) fn new(store: &'s dyn AccountStore, apart: Option<(Arc<dyn StateStore>, String)>) -> Self {
        Self { store, apart, is_applying: false }
    }

    /// This store during an apply, which has already dealt with interrupted runs.
    pub(crate) fn applying(self) -> Self {
        Self { is_applying: true, ..self }
    }

    /// Adds the links kept in the state to accounts, if there are any.
    async fn tie(&self, mut accounts: Vec<Account>) -> Result<Vec<Account>, StateError> {
        let Some((place, list)) = self.apart.clone() else { return Ok(accounts) };
        let is_applying = self.is_applying;
        background::run(move || {
            let Some(journal) = Journal::read(&*place)? else { return Ok(accounts) };
            let mut kept = Kept::default();
            for (link, login) in journal.kept(&list)? {
                kept.tie(link, login);
            }
            tie(&mut accounts, &kept);
            // The effects of an interrupted run count, even before the next apply records them.
            if let Some(run) = journal.unfinished()?.filter(|_| !is_applying) {
                let open = journal.entries(run)?.into_iter().filter(|entry| entry.outcome.is_none());
                let edits: Vec<Edit> = open.map(|entry| entry.edit).collect();
                for (edit, standing) in edits.iter().zip(standings_apart(&edits, &accounts)) {
                    if standing == Standing::Made {
                        kept.follow(edit);
                    }
                }
                tie(&mut accounts, &kept);
            }
            Ok(accounts)
        })
        .await
    }

    /// Whether the links are kept in the state.
    pub(crate) fn is_apart(&self) -> bool {
        self.apart.is_some()
    }

    /// The edits as they affect links kept in the state, if there are any.
    pub(crate) fn ties(&self, edits: Arc<[Edit]>) -> Option<Ties> {
        self.apart.as_ref().map(|(_, list)| Ties { list: list.clone(), edits })
    }

    /// Records the current links for the next run.
    pub(crate) fn remember(&self, remembered: &mut Remembered, links: BTreeMap<Identity, String>) {
        remembered.kept = self.apart.as_ref().map(|(_, list)| (list.clone(), links.clone()));
        remembered.known = Some(links);
    }

    /// Whether the edits of an interrupted run were made.
    pub(crate) fn standings(&self, edits: &[Edit], accounts: &[Account]) -> Vec<Standing> {
        if self.is_apart() { standings_apart(edits, accounts) } else { standings(edits, accounts, &[""; 0]) }
    }

    /// Makes edits in a store without links.
    async fn carry_out_bare(
        &self,
        edits: &[Edit],
        terms: Terms,
        mut record: Recorder,
    ) -> Result<(), crate::store::StoreError> {
        let accounts = self.accounts(Arc::clone(&terms.fields)).await?;
        let held: HashMap<Cow<'_, str>, usize> =
            accounts.iter().enumerate().map(|(at, one)| (folded(&one.login), at)).collect();
        let (mut places, mut rest, mut ties) = (Vec::new(), Vec::new(), Vec::new());
        for (at, (edit, standing)) in edits.iter().zip(standings(edits, &accounts, &terms.unique)).enumerate()
        {
            let Standing::Ready(own) = standing else {
                if record(at, standing.into()).is_break() {
                    return Ok(());
                }
                continue;
            };
            let login = edit.after.as_ref().map(|after| &after.login);
            if let Some(login) =
                login.filter(|login| held.get(&folded(login)).copied().is_some_and(|at| Some(at) != own))
            {
                let words = format!(
                    "another account has the login {login}, and logins pass from one account to another only if the list has the links; apply again when it is free"
                );
                if record(at, Outcome::Left(words)).is_break() {
                    return Ok(());
                }
                continue;
            }
            let left = bare(edit);
            if left.before == left.after {
                ties.push(at);
            } else {
                places.push(at);
                rest.push(left);
            }
        }
        let numbers = places.clone();
        let made = terms.made.clone().of_part(move |at| numbers.get(at).copied());
        let terms = Terms { made, ..terms };
        // Edits that only tie a link come last, unless too many others are refused.
        let most = terms.stop_after;
        let shared = Arc::new(Mutex::new((record, 0, ControlFlow::Continue(()))));
        if !rest.is_empty() {
            let told = Arc::clone(&shared);
            let record = move |at: usize, outcome: Outcome| {
                let (record, failed, flow) = &mut *told.lock().unwrap_or_else(PoisonError::into_inner);
                *failed += usize::from(matches!(outcome, Outcome::Failed(_)));
                *flow = places.get(at).map_or(ControlFlow::Break(()), |at| record(*at, outcome));
                *flow
            };
            self.store.carry_out(rest.into(), terms, Box::new(record)).await?;
        }
        let (record, failed, flow) = &mut *shared.lock().unwrap_or_else(PoisonError::into_inner);
        for at in ties.into_iter().filter(|_| most.is_none_or(|most| *failed < most)) {
            if flow.is_continue() {
                *flow = record(at, Outcome::Done);
            }
        }
        Ok(())
    }
}

impl AccountStore for Linked<'_> {
    fn describe(&self) -> String {
        self.store.describe()
    }

    fn place(&self) -> String {
        self.store.place()
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        Box::pin(async move {
            let accounts = self.store.accounts(fields).await?;
            Ok(self.tie(accounts).await.map_err(StoreErrorKind::from)?)
        })
    }

    fn accounts_with_link(
        &self,
        fields: Arc<[String]>,
        link: Identity,
    ) -> StoreFuture<'_, Option<Vec<Account>>> {
        match &self.apart {
            None => self.store.accounts_with_link(fields, link),
            Some(_) => Box::pin(async { Ok(None) }),
        }
    }

    fn accounts_and_groups(&self, fields: Arc<[String]>) -> StoreFuture<'_, (Vec<Account>, Groups)> {
        Box::pin(async move {
            let (accounts, groups) = self.store.accounts_and_groups(fields).await?;
            Ok((self.tie(accounts).await.map_err(StoreErrorKind::from)?, groups))
        })
    }

    fn is_writable(&self) -> StoreFuture<'_, bool> {
        self.store.is_writable()
    }

    fn copy(&self, stem: PathBuf) -> StoreFuture<'_, Option<PathBuf>> {
        self.store.copy(stem)
    }

    fn statements(&self, work: ScriptWork, terms: Terms) -> StoreFuture<'_, Option<String>> {
        self.store.statements(work, terms)
    }

    fn is_asked(&self) -> bool {
        self.store.is_asked()
    }

    fn judges_values(&self) -> bool {
        self.store.judges_values()
    }

    fn replies(&self, inquiry: Inquiry) -> StoreFuture<'_, Replies> {
        self.store.replies(inquiry)
    }

    fn may_create(&self, fields: Arc<[String]>) -> StoreFuture<'_, ()> {
        self.store.may_create(fields)
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, record: Recorder) -> StoreFuture<'_, ()> {
        match &self.apart {
            None => self.store.carry_out(edits, terms, record),
            Some(_) => Box::pin(async move { self.carry_out_bare(&edits, terms, record).await }),
        }
    }

    fn place_of(&self, field: &str) -> String {
        self.store.place_of(field)
    }

    fn trial(&self) -> Option<&dyn TrialStore> {
        self.store.trial()
    }

    fn groups(&self) -> Option<&dyn GroupStore> {
        self.store.groups()
    }
}

/// Whether edits were made in a list that has no links.
fn standings_apart(edits: &[Edit], accounts: &[Account]) -> Vec<Standing> {
    let tied: HashMap<Cow<'_, str>, &Identity> =
        accounts.iter().filter_map(|one| Some((folded(&one.login), one.link.as_ref()?))).collect();
    // An account linked to another person is not the one to be created.
    let is_another = |edit: &Edit| match (&edit.before, &edit.after) {
        (None, Some(after)) => {
            tied.get(&folded(&after.login)).is_some_and(|tied| after.link.as_ref() != Some(*tied))
        }
        _ => false,
    };
    let bare_edits: Vec<Edit> = edits.iter().map(bare).collect();
    let bare_accounts: Vec<Account> = accounts.iter().map(without_link).collect();
    let found = standings(&bare_edits, &bare_accounts, &[""; 0]);
    let found = edits.iter().zip(found);
    found.map(|(edit, found)| if is_another(edit) { Standing::Ready(None) } else { found }).collect()
}

fn tie(accounts: &mut [Account], kept: &Kept) {
    for account in accounts {
        account.link = kept.by_login.get(folded(&account.login).as_ref()).cloned();
    }
}

fn without_link(account: &Account) -> Account {
    Account { link: None, ..account.clone() }
}

/// The part of an edit that affects a store without links.
fn bare(edit: &Edit) -> Edit {
    let side = |side: &Option<Account>| side.as_ref().map(without_link);
    Edit { before: side(&edit.before), after: side(&edit.after), ..edit.clone() }
}
