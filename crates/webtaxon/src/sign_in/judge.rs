//! The judgement on somebody whose password is right: a reading of this one person, and the preview of it.

use super::list::{AccountList, Accounts};
use super::pool::{Operation, Purpose};
use super::shared::Shared;
use super::tried::{Judged, Person, Tried};
use crate::directory::{Connection, OnePerson, read_one};
use crate::error::Error;
use crate::setup::Lists;
use crate::store::{AccountStore as _, names};
use std::sync::Arc;
use webtaxon_core::account::{Account, Replies, State};
use webtaxon_core::draw::{Drawer, Drawn};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::preview::why::{self, Subject, Why};
use webtaxon_core::preview::{Memory, Preview};
use webtaxon_core::reading::{Reading, ReadingBuilder, Request, Source};
use webtaxon_core::settings::{Intake, Settings};
use webtaxon_core::sign_in::{Refusal, Standing};

impl Shared {
    /// Reads what decides about a person, and what an apply would do.
    pub(super) async fn judge(&self, person: &Person, tried: &mut Tried) -> Result<(), Error> {
        let settings = &self.setup.settings;
        let memory = self.memory().await?;
        let mut known = self.accounts_for(person.identity.as_ref()).await?;
        let has_account = known.of(person.identity.as_ref()).is_some();
        let mut readings = Vec::new();
        for (at, intake, request) in self.intakes() {
            readings.push(match intake.directory == person.directory {
                true => self.reading(at, intake, (request, person), has_account).await?,
                false => of_nobody(request),
            });
        }
        let identity = identity(&readings);
        if identity != person.identity {
            tried.refuse(Refusal::OtherEntry);
            return Ok(());
        }
        let drawn = drawn(settings, &readings);
        if !known.tells(identity.as_ref(), &drawn) {
            known = Accounts::All(self.list().await?);
        }
        let accounts = known.around(identity.as_ref(), &drawn);
        let mut lists = Lists { accounts, groups: None, readings, replies: Replies::default() };
        let mut decided = self.decided(person, &mut lists, &memory).await?;
        if let Some((Standing::Out { .. }, ..)) = &decided
            && has_account
        {
            // An apply, or a sign-in, may have brought them in a moment ago, as another server showed them.
            let now = self.memory_now().await?;
            if !Arc::ptr_eq(&now, &memory) {
                decided = self.decided(person, &mut lists, &now).await?;
            }
        }
        let Some((standing, preview, why)) = decided else {
            tried.refuse(Refusal::OtherEntry);
            return Ok(());
        };
        let accounts = std::mem::take(&mut lists.accounts);
        tried.stands(standing, Judged { identity, why, preview, accounts });
        Ok(())
    }

    /// The standing of a person, and the preview of them, by their readings; `None` if they are not there.
    async fn decided(
        &self,
        person: &Person,
        lists: &mut Lists,
        memory: &Memory,
    ) -> Result<Option<(Standing, Preview, Box<Why>)>, Error> {
        let settings = &self.setup.settings;
        let preview = lists.preview(settings, memory, &*self.setup.store()).await?;
        let situation = lists.situation(settings, memory);
        let found = why::find(situation, &person.dn).into_iter().find(|one| one.person.is_some());
        let elsewhere = lists.readings.get(person.intake).map(Reading::elsewhere);
        let subject = Subject {
            person: found.and_then(|one| one.person),
            stranger: elsewhere.and_then(|entries| entries.get(0)).filter(|_| found.is_none()),
            account: found.and_then(|one| one.account),
        };
        let Some(why) = Why::by_preview(&preview, situation, subject) else { return Ok(None) };
        let standing = Standing::of(&why, person.identity.as_ref(), &lists.readings);
        Ok(Some((standing, preview, Box::new(why))))
    }

    /// The accounts that decide about somebody with this link, as far as the store can find them; else all of them.
    async fn accounts_for(&self, link: Option<&Identity>) -> Result<Accounts, Error> {
        if let Some(own) = self.own_accounts(link).await? {
            return Ok(Accounts::Own(own));
        }
        Ok(Accounts::All(self.list().await?))
    }

    /// The accounts with a link, if there are any and the store can find them.
    async fn own_accounts(&self, link: Option<&Identity>) -> Result<Option<Vec<Account>>, Error> {
        let Some(link) = link else { return Ok(None) };
        let store = self.setup.store();
        let fields = names(self.setup.settings.account_fields());
        let own = self.setup.linked(&*store).accounts_with_link(fields, link.clone()).await?;
        Ok(own.filter(|own| !own.is_empty()))
    }

    /// The list of all accounts.
    async fn list(&self) -> Result<Arc<AccountList>, Error> {
        let settings = &self.setup.settings;
        let store = self.setup.store();
        let unique: Vec<String> = settings.unique_fields().into_iter().map(str::to_owned).collect();
        let read = async {
            let linked = self.setup.linked(&*store);
            let accounts = linked.accounts(names(settings.account_fields())).await?;
            Ok::<_, Error>(AccountList::new(accounts, &unique))
        };
        // Links that are kept apart change without the list.
        let has_mark = settings.accounts.store.has_links();
        let mark = async { if has_mark { Ok(store.mark().await?) } else { Ok(None) } };
        self.list.get(mark, read).await
    }

    /// The active account with a link, as it is now.
    pub(super) async fn account_of(&self, link: Option<&Identity>) -> Result<Option<Account>, Error> {
        let known = self.accounts_for(link).await?;
        Ok(known.of(link).filter(|account| account.state == State::Active).cloned())
    }

    /// One intake's reading of a person.
    async fn reading(
        &self,
        at: usize,
        intake: &Intake,
        (request, person): (&Request, &Person),
        has_account: bool,
    ) -> Result<Reading, Error> {
        let ground = self.ground(at, intake, request).await?;
        let memory = self.memory().await?;
        let pool = self.pool(intake)?;
        let one = OnePerson {
            intake,
            request,
            dn: &person.dn,
            ground: &ground,
            before: memory.footprints.get(&intake.name),
            has_account,
        };
        let read = |connection: Connection| -> Operation<'_, Reading> {
            Box::pin(read_one(pool.access(), connection, one))
        };
        Ok(pool.run(Purpose::Searches, &read).await?)
    }
}

/// The logins and unique values that the person would have, by every intake that reads them.
fn drawn(settings: &Settings, readings: &[Reading]) -> Vec<(String, String)> {
    let mut all = Vec::new();
    for (intake, reading) in settings.intakes.iter().zip(readings) {
        let drawer = Drawer::new(intake, reading);
        let claimed =
            intake.fields.iter().enumerate().filter(|(_, (name, rule))| rule.unique || *name == "login");
        for (at, (name, _)) in claimed {
            if let Drawn::Value(value, _) = drawer.field(0, at) {
                all.push((name.clone(), value.into_owned()));
            }
        }
    }
    all
}

/// The reading of an intake that cannot know the person, who is of another directory.
fn of_nobody(request: &Request) -> Reading {
    let source = Source { directory: request.directory.clone(), ..Source::default() };
    ReadingBuilder::new(source).finish_of_nobody(request)
}

/// The person's lasting identity, as it was read.
fn identity(readings: &[Reading]) -> Option<Identity> {
    let own = |reading: &Reading| {
        let entry = reading.people().get(0).or_else(|| reading.elsewhere().get(0))?;
        Identity::of(entry, &reading.source().identity)
    };
    readings.iter().find_map(own)
}
