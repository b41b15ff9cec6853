//! The settings' `whose` lines: unlinked accounts that an administrator has given to a person.

use super::situation::Chosen;
use crate::account::{Account, folded};
use crate::ldap::identity::Identity;
use crate::settings::Settings;
use foldhash::{HashMap, HashSet};

/// Gives each account in the `whose` lines to its candidate, unless the candidate already has an account, or the
/// account another person.
pub(super) fn told_whose(
    settings: &Settings,
    accounts: &[Account],
    candidates: &[Chosen<'_>],
    linked: &mut [Option<usize>],
) {
    let whose = &settings.accounts.whose;
    if whose.is_empty() {
        return;
    }
    let protected = |login: &str| settings.accounts.protected.iter().any(|one| folded(one) == folded(login));
    let accounts: HashMap<_, usize> =
        accounts.iter().enumerate().map(|(at, one)| (folded(&one.login), at)).collect();
    let mut people: HashMap<&Identity, usize> = HashMap::default();
    for (index, (_, candidate)) in candidates.iter().enumerate() {
        people.entry(&candidate.identity).or_insert(index);
    }
    let mut taken: HashSet<usize> = linked.iter().copied().flatten().collect();
    for (login, link) in whose.iter().filter(|(login, _)| !protected(login)) {
        let account = accounts.get(&folded(login)).copied();
        let person = people.get(link).and_then(|index| linked.get_mut(*index));
        if let (Some(account), Some(own @ None)) = (account, person)
            && taken.insert(account)
        {
            *own = Some(account);
        }
    }
}
