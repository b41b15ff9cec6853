//! The judgement on somebody whose password is right: a reading of this one person, and the preview of it.

use super::list::AccountList;
use super::pool::{Operation, Purpose};
use super::shared::Shared;
use super::tried::{Judged, Person, Tried};
use crate::directory::{Connection, OnePerson, read_one};
use crate::error::Error;
use crate::setup::Lists;
use crate::store::{AccountStore as _, names};
use webtaxon_core::account::Replies;
use webtaxon_core::draw::{Drawer, Drawn};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::preview::why::{self, Subject, Why};
use webtaxon_core::reading::{Reading, ReadingBuilder, Request, Source};
use webtaxon_core::settings::{Intake, Settings};
use webtaxon_core::sign_in::{Refusal, Standing};

impl Shared {
    /// Reads what decides about a person, and what an apply would do.
    pub(super) async fn judge(&self, person: &Person, tried: &mut Tried) -> Result<(), Error> {
        let settings = &self.setup.settings;
        let memory = self.memory().await?;
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
        let list = self.list.get(mark, read).await?;
        let has_account = list.of(person.identity.as_ref()).is_some();
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
        let values = drawn.iter().map(|(field, value)| (field.as_str(), value.as_str()));
        let accounts = list.around(identity.as_ref(), values);
        let mut lists = Lists { accounts, groups: None, readings, replies: Replies::default() };
        let preview = lists.preview(settings, &memory, &*store).await?;
        let situation = lists.situation(settings, &memory);
        let found = why::find(situation, &person.dn).into_iter().find(|one| one.person.is_some());
        let elsewhere = lists.readings.get(person.intake).map(Reading::elsewhere);
        let subject = Subject {
            person: found.and_then(|one| one.person),
            stranger: elsewhere.and_then(|entries| entries.get(0)).filter(|_| found.is_none()),
            account: found.and_then(|one| one.account),
        };
        let Some(why) = Why::within(&preview, situation, subject) else {
            tried.refuse(Refusal::OtherEntry);
            return Ok(());
        };
        let standing = Standing::of(&why, identity.as_ref(), &lists.readings);
        let accounts = std::mem::take(&mut lists.accounts);
        tried.stands(standing, Judged { identity, why: Box::new(why), preview, accounts });
        Ok(())
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
