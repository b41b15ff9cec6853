//! A list of accounts of the application's own: `cargo run --example own_store -- webtaxon.toml seats`.
//!
//! Here it is in memory. An application does the same over its own tables, in one transaction.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use std::sync::Mutex;
use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::core::account::Account;
use webtaxon::core::apply::{Edit, made, standings};
use webtaxon::store::{AccountStore, Answer, Outcome, Record, Terms};

/// The Loans Desk's accounts.
#[derive(Default)]
struct LoansDesk {
    accounts: Mutex<Vec<Account>>,
}

impl LoansDesk {
    fn list(&self) -> Vec<Account> {
        self.accounts.lock().map(|list| list.clone()).unwrap_or_default()
    }
}

impl AccountStore for LoansDesk {
    fn describe(&self) -> String {
        "the Loans Desk's memory".to_owned()
    }

    fn accounts<'a>(&'a self, _fields: &'a [&'a str]) -> Answer<'a, Vec<Account>> {
        Box::pin(async { Ok(self.list()) })
    }

    fn carry_out<'a>(
        &'a self,
        edits: &'a [Edit],
        terms: &'a Terms<'a>,
        record: Record<'a>,
    ) -> Answer<'a, ()> {
        Box::pin(async move {
            let now = self.list();
            // Which edits still hold, against the list as it is at this moment.
            let standings = standings(edits, &now, terms.unique);
            if let Ok(mut list) = self.accounts.lock() {
                *list = made(edits, &standings, &now);
            }
            for (at, standing) in standings.into_iter().enumerate() {
                record(at, Outcome::from(standing));
            }
            Ok(())
        })
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), webtaxon::Error> {
    let mut arguments = std::env::args().skip(1);
    let workspace = Workspace::open(arguments.next().unwrap_or_else(|| "webtaxon.toml".to_owned()))?;
    let release = arguments.next().into_iter().collect();
    let consent = Consent { who: "the example".to_owned(), release, stop_after: None };
    let store = LoansDesk::default();
    let (_, work) = workspace.work_with(&store).await?;
    let applied = workspace.apply_with(&store, &work, &consent).await?;
    println!("{} accounts, complete: {}", store.list().len(), applied.is_complete());
    let (preview, _) = workspace.work_with(&store).await?;
    println!("{} left to do", preview.changes.iter().filter(|change| change.kind.is_done()).count());
    Ok(())
}
