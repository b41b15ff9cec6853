//! Looking without changing: explanations for a person, comparison of settings, group membership.

use super::Workspace;
use crate::directory::{self, KnownLinks, read_for, read_for_both};
use crate::error::Error;
use crate::progress::Watch;
use crate::setup::{Lists, Setup, read_snapshot};
use crate::sign_in;
use crate::store;
use crate::survey::{self, EntryKind, Finding, Named};
use std::path::Path;
use std::sync::Arc;
use webtaxon_core::account::Replies;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::identity::CALLED;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::preview::compare::Comparison;
use webtaxon_core::preview::why::{self, Found, Subject, Why};
use webtaxon_core::reading::{Reading, Request, Whereabouts};
use webtaxon_core::settings::Intake;

impl Workspace {
    /// Compares the effects of two settings on the directory and the accounts. If both read one directory in the same
    /// way, it is read once.
    ///
    /// # Errors
    /// As [`Workspace::preview`], for either of the two.
    pub async fn compare(&self, other: &Self) -> Result<Comparison, Error> {
        let (one, two) = (self.settings(), other.settings());
        let memory = self.setup.memory().await?;
        let (store_now, store_then) = (self.store(), other.store());
        let store_then = self.setup.linked_by(&two.accounts.store, &*store_then);
        let [fields_now, fields_then] = [one, two].map(|one| store::names(one.account_fields()));
        let now = store::lists(&self.setup.linked(&*store_now), fields_now, one.brings_groups()).await?;
        let then = store::lists(&store_then, fields_then, two.brings_groups()).await?;
        let mut links: Vec<_> =
            now.0.iter().chain(&then.0).filter_map(|account| account.link.clone()).collect();
        links.sort();
        links.dedup();
        let [readings_now, readings_then] = self.readings_for_both(other, &links).await?;
        let replies = Replies::default;
        let mut now = Lists { accounts: now.0, groups: now.1, readings: readings_now, replies: replies() };
        let mut then =
            Lists { accounts: then.0, groups: then.1, readings: readings_then, replies: replies() };
        now.preview(one, &memory, &*store_now).await?;
        then.preview(two, &memory, &*other.store()).await?;
        Ok(Comparison::of(now.situation(one, &memory), then.situation(two, &memory)))
    }

    async fn readings_for_both(
        &self,
        other: &Self,
        links: &[webtaxon_core::ldap::identity::Identity],
    ) -> Result<[Vec<Reading>; 2], Error> {
        let (one, two) = (self.intake(), other.intake());
        let is_one = self.settings().intakes.is_single()
            && other.settings().intakes.is_single()
            && self.setup.directory(one)?.is_same(other.setup.directory(two)?)
            && one.identity == two.identity
            && one.member_login == two.member_login
            && one.member_attribute == two.member_attribute;
        if is_one {
            let both = read_for_both(&self.access().await?, one, two, links).await?;
            return Ok(both.map(|reading| vec![reading]));
        }
        let links = KnownLinks::known(links);
        let (setup, others) = (&self.setup, &other.setup);
        Ok([
            setup.readings(&setup.accesses().await?, &links, &[]).await?,
            others.readings(&others.accesses().await?, &links, &[]).await?,
        ])
    }

    /// Explains one person or account, found by login, mail, name, link or DN; the person may be outside all intakes.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn why(&self, text: &str) -> Result<Named<Box<Why>>, Error> {
        let memory = self.setup.memory().await?;
        let mut more: Vec<String> = CALLED.map(str::to_owned).to_vec();
        for intake in &self.settings().intakes {
            more.extend(intake.filter.attributes().map(str::to_owned));
        }
        if let Some(why) = sign_in::why(&self.setup, text, &more).await? {
            return Ok(Named::One(Box::new(why)));
        }
        let mut lists = self.setup.find(&more, &memory).await?;
        let preview = lists.preview(self.settings(), &memory, &*self.store()).await?;
        let situation = lists.situation(self.settings(), &memory);
        let found = why::find(situation, text);
        let (one, named) = match found.as_slice() {
            [one] => {
                (*one, one.account.filter(|_| one.person.is_none()).and_then(|at| elsewhere(&lists, at)))
            }
            [] => match self.find_person(text).await? {
                Named::One(dn) => (Found { person: None, account: None }, Some(dn.to_string())),
                Named::Several(names) => return Ok(Named::Several(names)),
                Named::Nothing => return Ok(Named::Nothing),
            },
            several => return Ok(Named::Several(several.iter().map(|one| name(&lists, one)).collect())),
        };
        let entries = match named {
            Some(dn) => self.entry_anywhere(&dn, &more).await?,
            None => Entries::new(),
        };
        let subject = Subject { person: one.person, stranger: entries.get(0), account: one.account };
        if subject.person.is_none() && subject.stranger.is_none() && subject.account.is_none() {
            return Ok(Named::Nothing);
        }
        Ok(Why::by_preview(&preview, situation, subject)
            .map_or(Named::Nothing, |why| Named::One(Box::new(why))))
    }

    /// One entry with the attributes that its directory's intake uses, from the first directory that has it.
    async fn entry_anywhere(&self, dn: &str, more: &[String]) -> Result<Entries, Error> {
        for intake in &self.settings().intakes {
            let request = Request::of(intake).with(more);
            let found = directory::entry(&self.setup.access(intake).await?, &request, dn).await?;
            if found.get(0).is_some() {
                return Ok(found);
            }
        }
        Ok(Entries::new())
    }

    /// The group that `text` refers to: its DN, its name, or a part of it that is in no other group's.
    ///
    /// # Errors
    /// No server could be reached, the bind was refused, or the search failed.
    pub async fn find_group(&self, text: &str) -> Result<Named<Dn>, Error> {
        self.find_one(text, EntryKind::Group).await
    }

    /// The person that `text` refers to: their DN, name, login or mail, or a part of one that is in nobody else's.
    ///
    /// # Errors
    /// As [`Workspace::find_group`].
    pub async fn find_person(&self, text: &str) -> Result<Named<Dn>, Error> {
        self.find_one(text, EntryKind::Person).await
    }

    async fn find_one(&self, text: &str, kind: EntryKind) -> Result<Named<Dn>, Error> {
        let mut connection = self.connect().await?;
        let found = survey::find_one(&mut connection, text, kind).await;
        connection.close().await;
        Ok(found?)
    }

    /// The person or group whose name is closest to one that [`Workspace::find_group`] or [`Workspace::find_person`]
    /// did not find.
    ///
    /// # Errors
    /// As [`Workspace::find_group`].
    pub async fn nearest(&self, text: &str, kind: EntryKind) -> Result<Option<Finding>, Error> {
        let mut connection = self.connect().await?;
        let near = survey::nearest(&mut connection, text, kind).await;
        connection.close().await;
        Ok(near?)
    }

    /// Reads the nest of one group, with every name in it looked up, and the people of the intake.
    ///
    /// # Errors
    /// No server could be reached, or the bind was refused. Later failures are gaps of the reading.
    pub async fn nest(&self, group: &Dn) -> Result<Reading, Error> {
        nests(&self.setup, self.intake(), vec![group.clone()], &[]).await
    }

    /// Reads the nest of one group twice: from a snapshot, and now.
    ///
    /// # Errors
    /// The file cannot be read or is masked, no server could be reached, or the bind was refused. Whatever the
    /// snapshot lacks is a gap of the earlier reading.
    pub async fn nest_since(&self, group: &Dn, file: &Path) -> Result<[Reading; 2], Error> {
        let snapshot = Arc::new(read_snapshot(file)?);
        let header = &snapshot.header;
        if header.unmasked.is_some() {
            let source = "it is masked: the people in it have invented names".into();
            return Err(Error::NoSnapshot { file: file.to_owned(), source });
        }
        let earlier = Setup {
            prompt: None,
            snapshot: Some(Arc::clone(&snapshot)),
            watch: Watch::default(),
            ..Setup::clone(&self.setup)
        };
        let now = nests(&self.setup, self.intake(), vec![group.clone()], &header.group_bases);
        let then = nests(&earlier, self.intake(), vec![group.clone()], &header.group_bases);
        let (then, now) = tokio::try_join!(then, now)?;
        Ok([then, now])
    }

    /// Reads the nests of all groups of the directory, and the people of the intake.
    ///
    /// # Errors
    /// No server could be reached, the bind was refused, or the groups could not be listed.
    pub async fn all_nests(&self) -> Result<Reading, Error> {
        let mut connection = self.connect().await?;
        let groups = survey::groups(&mut connection).await;
        connection.close().await;
        nests(&self.setup, self.intake(), groups?, &[]).await
    }
}

/// The place of an account's person who is outside all intakes.
fn elsewhere(lists: &Lists, account: usize) -> Option<String> {
    let link = lists.accounts.get(account)?.link.as_ref()?;
    lists.readings.iter().find_map(|reading| match reading.whereabouts(link)? {
        Whereabouts::Elsewhere(dn) => Some(dn.clone()),
        Whereabouts::Nowhere => None,
    })
}

/// The name of one match: of its entry, or else of its account.
fn name(lists: &Lists, one: &Found) -> String {
    let entry = one.person.and_then(|(part, person)| lists.readings.get(part)?.people().get(person));
    match (entry, one.account.and_then(|at| lists.accounts.get(at))) {
        (Some(entry), _) => entry.dn().to_owned(),
        (None, account) => account.map_or_else(String::new, |account| account.login.clone()),
    }
}

/// Reads the nests of these groups instead of an intake's own, and the attributes that people are named by.
async fn nests(
    setup: &Setup,
    intake: &Intake,
    groups: Vec<Dn>,
    group_bases: &[Dn],
) -> Result<Reading, Error> {
    let request = Request::of_nests(intake, groups, group_bases).with(["displayName", "cn"]);
    Ok(read_for(&setup.access(intake).await?, &request, &KnownLinks::known(&[])).await?)
}
