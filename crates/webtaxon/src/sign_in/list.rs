//! The application's accounts: those of one person, if the store can find them; or all, read once for all sign-ins that
//! wait for them, and indexed.
//!
//! A sign-in never uses a list whose reading began before it did: an account that was suspended a moment ago is.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use tokio::sync::Mutex;
use tokio::time::Instant;
use webtaxon_core::account::{Account, folded};
use webtaxon_core::ldap::identity::Identity;

/// The accounts, by link and by unique values.
#[derive(Debug, Default)]
pub(super) struct AccountList {
    accounts: Vec<Account>,
    by_link: HashMap<Identity, usize>,
    /// By field and value, in the form for comparison.
    by_value: HashMap<(String, String), Vec<usize>>,
}

impl AccountList {
    pub(super) fn new(accounts: Vec<Account>, unique: &[String]) -> Self {
        let mut list = Self::default();
        for (at, account) in accounts.iter().enumerate() {
            if let Some(link) = &account.link {
                list.by_link.insert(link.clone(), at);
            }
            let fields = unique.iter().map(String::as_str).chain(["login"]);
            for field in fields.filter(|field| !account.field(field).is_empty()) {
                let key = (field.to_owned(), folded(account.field(field)).into_owned());
                list.by_value.entry(key).or_default().push(at);
            }
        }
        Self { accounts, ..list }
    }

    /// The account with a link.
    fn of(&self, link: Option<&Identity>) -> Option<&Account> {
        self.accounts.get(*self.by_link.get(link?)?)
    }

    /// The account with a link, and those that have one of these values; every account if none has the link.
    fn around(&self, link: Option<&Identity>, values: &[(String, String)]) -> Vec<Account> {
        let Some(own) = link.and_then(|link| self.by_link.get(link)) else { return self.accounts.clone() };
        let mut places: HashSet<usize> = HashSet::from([*own]);
        for (field, value) in values {
            let key = (field.clone(), folded(value).into_owned());
            places.extend(self.by_value.get(&key).into_iter().flatten());
        }
        let mut places: Vec<usize> = places.into_iter().collect();
        places.sort_unstable();
        places.into_iter().filter_map(|at| self.accounts.get(at).cloned()).collect()
    }
}

/// The accounts that a sign-in knows.
#[derive(Debug)]
pub(super) enum Accounts {
    /// The accounts with the person's link; never empty.
    Own(Vec<Account>),
    /// The whole list.
    All(Arc<AccountList>),
}

impl Accounts {
    /// The account with a link.
    pub(super) fn of(&self, link: Option<&Identity>) -> Option<&Account> {
        match self {
            Self::Own(own) => {
                own.iter().find(|account| account.link.is_some() && account.link.as_ref() == link)
            }
            Self::All(list) => list.of(link),
        }
    }

    /// True if no other account can decide about the person with a link: what they would claim, they have already.
    pub(super) fn tells(&self, link: Option<&Identity>, claims: &[(String, String)]) -> bool {
        match self {
            Self::All(_) => true,
            Self::Own(_) => self.of(link).is_some_and(|account| {
                claims.iter().all(|(field, value)| account.field(field) == value.as_str())
            }),
        }
    }

    /// The accounts with a link, and those that have one of the values that the person would claim; every account if none
    /// has the link.
    pub(super) fn around(&self, link: Option<&Identity>, claims: &[(String, String)]) -> Vec<Account> {
        match self {
            Self::Own(own) => own.clone(),
            Self::All(list) => list.around(link, claims),
        }
    }
}

/// The latest list.
#[derive(Debug, Default)]
pub(super) struct LatestList(Mutex<Option<Latest>>);

#[derive(Debug)]
struct Latest {
    /// When its reading began, or the latest look at the store's mark that was still the same.
    asked: Instant,
    /// The store's mark from before that, if it has one.
    mark: Option<String>,
    list: Arc<AccountList>,
}

impl LatestList {
    /// A list as it is after this call: the latest, if the store's mark says that it is the same; or one whose reading
    /// began since. All share it that wait for it.
    pub(super) async fn get<E>(
        &self,
        mark: impl Future<Output = Result<Option<String>, E>>,
        read: impl Future<Output = Result<AccountList, E>>,
    ) -> Result<Arc<AccountList>, E> {
        let wanted = Instant::now();
        let mut latest = self.0.lock().await;
        if let Some(latest) = latest.as_ref().filter(|latest| latest.asked >= wanted) {
            return Ok(Arc::clone(&latest.list));
        }
        let asked = Instant::now();
        let mark = mark.await?;
        if let Some(latest) = latest.as_mut().filter(|latest| mark.is_some() && latest.mark == mark) {
            latest.asked = asked;
            return Ok(Arc::clone(&latest.list));
        }
        let list = Arc::new(read.await?);
        *latest = Some(Latest { asked, mark, list: Arc::clone(&list) });
        Ok(list)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use tokio::sync::Semaphore;
    use tokio::task::{JoinHandle, yield_now};

    #[derive(Clone, Default)]
    struct Readers {
        latest: Arc<LatestList>,
        reads: Arc<AtomicUsize>,
    }

    impl Readers {
        fn ask(&self, gate: &Arc<Semaphore>) -> JoinHandle<()> {
            let (own, gate) = (self.clone(), Arc::clone(gate));
            tokio::spawn(async move {
                let read = async {
                    own.reads.fetch_add(1, Ordering::Relaxed);
                    let _ = gate.acquire().await;
                    Ok::<_, ()>(AccountList::default())
                };
                own.latest.get(async { Ok(None) }, read).await.unwrap();
            })
        }

        fn count(&self) -> usize {
            self.reads.load(Ordering::Relaxed)
        }
    }

    #[tokio::test]
    async fn many_share_a_list_that_is_newer_than_their_question() {
        let (readers, gate) = (Readers::default(), Arc::new(Semaphore::new(0)));
        let first = readers.ask(&gate);
        while readers.count() == 0 {
            yield_now().await;
        }
        // Fifty come while the first reads: its list is older than their question.
        let others: Vec<_> = (0..50).map(|_| readers.ask(&gate)).collect();
        for _ in 0..200 {
            yield_now().await;
        }
        gate.add_permits(1_000);
        for one in [first].into_iter().chain(others) {
            one.await.unwrap();
        }
        assert_eq!(readers.count(), 2);
        readers.ask(&gate).await.unwrap();
        assert_eq!(readers.count(), 3, "a list from before is not used again");
    }

    #[tokio::test]
    async fn a_list_is_used_again_while_its_mark_is_the_same() {
        let (latest, reads) = (LatestList::default(), AtomicUsize::new(0));
        for (mark, expected) in [("a", 1), ("a", 1), ("b", 2), ("a", 3)] {
            let read = async {
                reads.fetch_add(1, Ordering::Relaxed);
                Ok::<_, ()>(AccountList::default())
            };
            latest.get(async { Ok(Some(mark.to_owned())) }, read).await.unwrap();
            assert_eq!(reads.load(Ordering::Relaxed), expected, "{mark}");
        }
    }
}
