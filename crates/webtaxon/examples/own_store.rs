//! A list of accounts, and groups, of the application's own: `cargo run --example own_store -- webtaxon.toml seats`.
//!
//! Here it is in memory. An application does the same over its own tables, in one transaction.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use std::sync::{Arc, Mutex};
use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::model::account::{Account, Group, Groups};
use webtaxon::model::apply::{Edit, GroupEdit, Outcome, Plan, group_standings, made_groups};
use webtaxon::store::{AccountStore, GroupStore, Recorder, StoreFuture, Terms};

/// The Loans Desk's accounts and groups.
#[derive(Default)]
struct LoansDesk {
    accounts: Mutex<Vec<Account>>,
    groups: Mutex<Vec<Group>>,
}

impl LoansDesk {
    fn list(&self) -> Vec<Account> {
        self.accounts.lock().map(|list| list.clone()).unwrap_or_default()
    }

    fn group_list(&self) -> Vec<Group> {
        self.groups.lock().map(|list| list.clone()).unwrap_or_default()
    }
}

impl AccountStore for LoansDesk {
    fn describe(&self) -> String {
        "the Loans Desk's memory".to_owned()
    }

    fn accounts(&self, _fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        Box::pin(async { Ok(self.list()) })
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, mut record: Recorder) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            let now = self.list();
            // The edits that can still be made, given the current list. An application with tables makes each step of
            // `plan.units()` instead.
            let plan = Plan::of(&edits, &now, &terms.unique);
            if let Ok(mut list) = self.accounts.lock() {
                *list = plan.made();
            }
            for (at, outcome) in plan.outcomes() {
                if record(at, outcome).is_break() {
                    break;
                }
            }
            Ok(())
        })
    }

    // Needed only if the settings import groups. Here members are logins.
    fn groups(&self) -> Option<&dyn GroupStore> {
        Some(self)
    }
}

impl GroupStore for LoansDesk {
    fn all_groups(&self) -> StoreFuture<'_, Groups> {
        Box::pin(async { Ok(Groups { list: self.group_list(), by_login: true }) })
    }

    fn carry_out_groups(
        &self,
        edits: Arc<[GroupEdit]>,
        _terms: Terms,
        mut record: Recorder,
    ) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            let now = self.group_list();
            let standings = group_standings(&edits, &now);
            if let Ok(mut list) = self.groups.lock() {
                *list = made_groups(&edits, &standings, &now);
            }
            for (at, standing) in standings.into_iter().enumerate() {
                if record(at, Outcome::from(standing)).is_break() {
                    break;
                }
            }
            Ok(())
        })
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), webtaxon::Error> {
    let mut arguments = std::env::args().skip(1);
    let workspace = Workspace::open(arguments.next().unwrap_or_else(|| "webtaxon.toml".to_owned()))?;
    let release = arguments.next().unwrap_or_default();
    let release = release.split(',').filter(|name| !name.is_empty()).map(str::to_owned).collect();
    let consent = Consent { who: "the example".to_owned(), release, stop_after: None };
    let store = Arc::new(LoansDesk::default());
    let workspace = workspace.with_store(Arc::clone(&store) as Arc<dyn AccountStore>);
    let (_, work) = workspace.work().await?;
    let applied = workspace.apply(&work, &consent).await?;
    let (accounts, groups) = (store.list().len(), store.group_list().len());
    println!("{accounts} accounts, {groups} groups, complete: {}", applied.is_complete());
    let (_, work) = workspace.work().await?;
    println!("{} left to do", work.edits().len() + work.groups().len());
    Ok(())
}
