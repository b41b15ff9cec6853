//! The copies of users and groups from before the edits to be undone: what no field is about comes back from there.

use super::super::resource::text;
use super::super::service::Resource;
use super::super::session::group as read_group;
use crate::store::groups_beside;
use std::collections::HashMap;
use std::path::Path;
use webtaxon_core::account::Account;
use webtaxon_core::ldap::identity::Identity;

/// The copy of a list from before the edits to be undone.
#[derive(Default)]
pub(super) struct Originals {
    users: Vec<(Resource, Vec<String>)>,
    /// Users by link and by login.
    by_name: HashMap<String, usize>,
}

impl Originals {
    /// Reads a copy; empty if that is not possible.
    pub(super) fn read(file: &Path) -> Self {
        let lines = |file: &Path| -> Vec<Resource> {
            let copy = std::fs::read_to_string(file).unwrap_or_default();
            copy.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
        };
        let mut groups: HashMap<String, Vec<String>> = HashMap::new();
        for group in lines(&groups_beside(file, "jsonl")) {
            let group = read_group(&group);
            for member in group.members {
                groups.entry(member).or_default().push(group.id.clone());
            }
        }
        let mut all = Self::default();
        for mut user in lines(file) {
            let link = Identity::from_link(text(&user, "externalId"));
            let groups = groups.remove(text(&user, "id")).unwrap_or_default();
            for name in ["id", "meta", "groups"] {
                user.shift_remove(name);
            }
            let at = all.users.len();
            all.by_name.extend(link.map(|link| (link.to_string(), at)));
            all.by_name.insert(Account::login_key(text(&user, "userName")), at);
            all.users.push((user, groups));
        }
        all
    }

    /// The user who had an account, and the ids of the groups that it was in.
    pub(super) fn of(&self, account: &Account) -> Option<(&Resource, &[String])> {
        let by_link = account.link.as_ref().and_then(|link| self.by_name.get(link.as_str()));
        let at = by_link.or_else(|| self.by_name.get(&Account::login_key(&account.login)))?;
        self.users.get(*at).map(|(user, groups)| (user, groups.as_slice()))
    }
}
