//! One settings file and the files beside it: where every run begins.

use crate::Error;
use crate::directory::survey::{EntryKind, Finding};
use crate::directory::{
    self, Access, CheckStep, Connection, DirectoryError, DirectoryErrorKind, Links, Progress, Prompt, Watch,
};
use crate::state;
use crate::store::{self, AccountStore};
use secrecy::SecretString;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use webtaxon_core::account::{Account, Groups};
use webtaxon_core::entry::Entries;
use webtaxon_core::name::Dn;
use webtaxon_core::preview::Preview;
use webtaxon_core::preview::compare::{Comparison, Side};
use webtaxon_core::preview::why::{self, Found, Subject, Why};
use webtaxon_core::reading::{Reading, Whereabouts};
use webtaxon_core::settings::{Directory, Server, Servers, Settings, StoreSettings};
use webtaxon_core::snapshot::Snapshot;

/// Who was asked about.
#[derive(Debug)]
pub enum Answer {
    /// One person or account, and its story.
    One(Box<Why>),
    /// Several; each by its entry's name, or its account's login.
    Several(Vec<String>),
    /// Nobody, neither in the directory nor in the application.
    Nobody,
}

/// Who was found beyond the people of the intake.
enum Stranger {
    One(String),
    Several(Vec<String>),
    Nobody,
}

/// Settings that were read and checked, and the folder that their paths start from.
pub struct Workspace {
    settings: Settings,
    pub(crate) file: PathBuf,
    folder: PathBuf,
    prompt: Option<Arc<Prompt>>,
    snapshot: Option<Arc<Snapshot>>,
    watch: Watch,
}

impl std::fmt::Debug for Workspace {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Workspace").field("folder", &self.folder).finish_non_exhaustive()
    }
}

impl Workspace {
    /// Reads and checks a settings file. Nothing is connected yet.
    ///
    /// # Errors
    /// The file cannot be read, or the settings are wrong.
    pub fn open(file: impl AsRef<Path>) -> Result<Self, Error> {
        let file = file.as_ref();
        let bytes =
            std::fs::read(file).map_err(|reason| Error::NoSettings { file: file.to_owned(), reason })?;
        let settings = Settings::parse(&file.display().to_string(), &bytes)?;
        let folder = file.parent().map(Path::to_owned).unwrap_or_default();
        Ok(Self {
            settings,
            file: file.to_owned(),
            folder,
            prompt: None,
            snapshot: None,
            watch: Watch::default(),
        })
    }

    /// Says how somebody is asked for a password, where the settings say `password = { ask = true }`.
    #[must_use]
    pub fn with_prompt(
        mut self,
        ask: impl Fn(&str) -> std::io::Result<SecretString> + Send + Sync + 'static,
    ) -> Self {
        self.prompt = Some(Arc::new(ask));
        self
    }

    /// Says who is told how far a reading has come, while it goes on.
    #[must_use]
    pub fn watched(mut self, watch: Watch) -> Self {
        self.watch = watch;
        self
    }

    /// Reads a snapshot, which answers in place of the directory from here on.
    ///
    /// # Errors
    /// The file cannot be read, or is not LDIF.
    pub fn with_snapshot(mut self, file: &Path) -> Result<Self, Error> {
        let text = std::fs::read(file)
            .map_err(|reason| Error::NoSnapshot { file: file.to_owned(), reason: reason.to_string() })?;
        let snapshot = Snapshot::read(&text)
            .map_err(|error| Error::NoSnapshot { file: file.to_owned(), reason: error.to_string() })?;
        self.snapshot = Some(Arc::new(snapshot));
        Ok(self)
    }

    /// The snapshot that answers in place of the directory, if one does.
    #[must_use]
    pub fn snapshot(&self) -> Option<&Snapshot> {
        self.snapshot.as_deref()
    }

    pub(crate) fn snapshot_shared(&self) -> Option<Arc<Snapshot>> {
        self.snapshot.clone()
    }

    fn intake_names(&self) -> Vec<String> {
        self.settings.intakes().map(|intake| intake.name.clone()).collect()
    }

    /// The same with one of the intakes alone, to look at what it reads. A preview of it would take everybody
    /// away whom the others bring in, so that its list of accounts is not for changing.
    ///
    /// # Errors
    /// The settings have no intake of this name.
    pub fn for_intake(&self, name: &str) -> Result<Self, Error> {
        let one = self.each().find(|one| one.settings.intake.name == name);
        one.ok_or_else(|| Error::NoIntake { name: name.to_owned(), known: self.intake_names() })
    }

    /// The same with each of the intakes alone.
    pub(crate) fn each(&self) -> impl Iterator<Item = Self> {
        self.settings.each().map(|settings| Self {
            settings,
            file: self.file.clone(),
            folder: self.folder.clone(),
            prompt: self.prompt.clone(),
            snapshot: self.snapshot.clone(),
            watch: self.watch.clone(),
        })
    }

    /// How each intake's directory is reached, in order. Whoever binds to one is asked once.
    async fn accesses(&self) -> Result<Vec<Access>, Error> {
        let mut known: HashMap<String, Access> = HashMap::new();
        let mut accesses = Vec::new();
        for one in self.each() {
            let name = &one.settings.intake.directory;
            let access = match known.get(name) {
                Some(access) => access.clone(),
                None => one.access().await?,
            };
            accesses.push(access.clone());
            known.insert(name.clone(), access);
        }
        Ok(accesses)
    }

    /// Reads what each intake needs, in order.
    async fn readings(
        &self,
        accesses: &[Access],
        links: &Links,
        more: &[String],
    ) -> Result<Vec<Reading>, Error> {
        let mut readings = Vec::new();
        for (one, access) in self.each().zip(accesses) {
            readings.push(directory::read_with(access, &one.settings, links, more).await?);
        }
        Ok(readings)
    }

    /// Reads the list, and beside it what each intake needs.
    async fn accounts_and_readings(
        &self,
        store: &dyn AccountStore,
        more: &[String],
    ) -> Result<(Vec<Account>, Option<Groups>, Vec<Reading>), Error> {
        let accesses = self.accesses().await?;
        let fields = self.settings.account_fields();
        let (tell, links) = Links::later();
        let store = self.linked(store);
        let lists = async {
            let lists = store::lists(&store, &fields, self.settings.brings_groups()).await?;
            tell.send_replace(Some(lists.0.iter().filter_map(|one| one.link.clone()).collect()));
            Ok(lists)
        };
        let ((accounts, groups), readings) = tokio::try_join!(lists, self.readings(&accesses, &links, more))?;
        Ok((accounts, groups, readings))
    }

    /// Reads what the intake needs into a snapshot. With `mask`, the people in it cannot be
    /// recognised: the mask's key is made for this snapshot alone and forgotten.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn take_snapshot(&self, mask: bool) -> Result<Snapshot, Error> {
        if !self.settings.further.is_empty() {
            return Err(Error::SeveralIntakes(self.intake_names()));
        }
        let accounts = self.accounts().await?;
        let links: Vec<_> = accounts.iter().filter_map(|account| account.link.clone()).collect();
        Ok(directory::take_snapshot(&self.access().await?, &self.settings, &links, mask).await?)
    }

    /// The password that the directory is asked with; none for a bind without one.
    pub(crate) async fn password(
        &self,
        directory: &Directory,
    ) -> Result<Option<SecretString>, DirectoryError> {
        directory::password(directory, &self.folder, self.prompt.as_deref()).await
    }

    /// The settings.
    #[must_use]
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// Where what is remembered from run to run is.
    pub(crate) fn state(&self) -> state::Place<'_> {
        let server = self.settings.state.as_ref();
        state::Place { settings: &self.file, server, folder: &self.folder }
    }

    /// The folder that paths in the settings start from.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The directory that the intake reads.
    pub(crate) fn directory(&self) -> Result<&Directory, DirectoryError> {
        self.settings.directory().ok_or_else(|| DirectoryErrorKind::NoServer.into())
    }

    /// The application's own list, as its store gives it.
    #[must_use]
    pub fn store(&self) -> Box<dyn AccountStore> {
        store::open(&self.settings.accounts.store, &self.folder)
    }

    /// Every account of the application's own list, with its link, wherever that is kept.
    ///
    /// # Errors
    /// The list cannot be read, or the state that has the links.
    pub async fn accounts(&self) -> Result<Vec<Account>, Error> {
        self.accounts_with(&*self.store()).await
    }

    /// As [`Workspace::accounts`], of a list that the application keeps in a place of its own.
    ///
    /// # Errors
    /// As [`Workspace::accounts`].
    pub async fn accounts_with(&self, store: &dyn AccountStore) -> Result<Vec<Account>, Error> {
        Ok(self.linked(store).accounts(&self.settings.account_fields()).await?)
    }

    /// What an administrator should hear at every run, whatever its outcome.
    #[must_use]
    pub fn warnings(&self) -> Vec<String> {
        let mut warnings = Vec::new();
        for directory in self.settings.directories.values() {
            let goes_plain = match &directory.servers {
                Servers::Named(list) => list.iter().any(Server::begins_plain),
                Servers::Domain(_) => true,
            };
            if directory.plain && goes_plain {
                warnings.push(format!(
                    "directory {} is asked in plain text (plain = true): anybody on the way can read the password and the answers",
                    directory.name
                ));
            }
            warnings.extend(directory::password_warning(directory, &self.folder));
        }
        let plain = match &self.settings.accounts.store {
            StoreSettings::Postgres { server, .. } if server.plain && !server.host.starts_with('/') => {
                Some(&server.host)
            }
            StoreSettings::Scim(scim) if scim.service.starts_with("http://") => Some(&scim.service),
            _ => None,
        };
        if let Some(state) = &self.settings.state
            && state.server.plain
            && !state.server.host.starts_with('/')
        {
            warnings.push(format!(
                "what is remembered at {} is asked for in plain text (plain = true): anybody on the way can read it, and change it",
                state.server.host
            ));
        }
        if let Some(place) = plain {
            warnings.push(format!(
                "the accounts at {place} are asked for in plain text (plain = true): anybody on the way can read them, and change them"
            ));
        }
        warnings
    }

    /// Fetches the password, once for a whole run.
    ///
    /// # Errors
    /// Its source is missing or empty.
    pub async fn access(&self) -> Result<Access, Error> {
        let directory = self.directory()?;
        if self.snapshot.is_some() {
            return Ok(Access::new(directory, &self.folder, None).from_snapshot(self.snapshot.clone()));
        }
        let access = Access::new(directory, &self.folder, self.password(directory).await?);
        Ok(access.watched(self.watch.clone()))
    }

    /// Connects to the directory and says who asks.
    ///
    /// # Errors
    /// No server could be reached and trusted, or the bind was refused.
    pub async fn connect(&self) -> Result<Connection, Error> {
        let access = self.access().await?;
        Ok(access.open_first(&access.servers().await?).await?)
    }

    /// Reads the directory and the application's list, and works out what would change.
    ///
    /// A reading that was cut short is no error: the preview says what is missing, and takes
    /// nobody's account away.
    ///
    /// # Errors
    /// The list cannot be read, no server could be reached, or the bind was refused.
    pub async fn preview(&self) -> Result<Preview, Error> {
        self.preview_with(&*self.store()).await
    }

    /// As [`Workspace::preview`], over a list that the application keeps in a place of its own.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn preview_with(&self, store: &dyn AccountStore) -> Result<Preview, Error> {
        Ok(self.preview_and_accounts(store).await?.0)
    }

    pub(crate) async fn preview_and_accounts(
        &self,
        store: &dyn AccountStore,
    ) -> Result<(Preview, Vec<Account>), Error> {
        let memory = state::memory(self.state())?;
        let (accounts, groups, readings) = self.accounts_and_readings(store, &[]).await?;
        let (settings, groups) = (&self.settings, groups.as_ref());
        Ok((Preview::with_groups(settings, &readings, &accounts, &memory, groups), accounts))
    }

    /// Tells whoever watches.
    pub(crate) fn tell(&self, progress: impl FnOnce() -> Progress) {
        self.watch.tell(progress);
    }

    /// Works out what other settings would make of the directory and the list, in place of these. Where
    /// both read one directory in one manner, it is read once for both.
    ///
    /// # Errors
    /// As [`Workspace::preview`], for either of the two.
    pub async fn compare(&self, other: &Self) -> Result<Comparison, Error> {
        let (one, two) = (&self.settings, &other.settings);
        let memory = state::memory(self.state())?;
        let (store_before, store_after) = (self.store(), other.store());
        let store_after = self.linked_by(&two.accounts.store, &*store_after);
        let fields = [one.account_fields(), two.account_fields()];
        let (before, groups_before) =
            store::lists(&self.linked(&*store_before), &fields[0], one.brings_groups()).await?;
        let (after, groups_after) = store::lists(&store_after, &fields[1], two.brings_groups()).await?;
        let mut links: Vec<_> =
            before.iter().chain(&after).filter_map(|account| account.link.clone()).collect();
        links.sort();
        links.dedup();
        let is_one = one.further.is_empty()
            && two.further.is_empty()
            && self.directory()?.is_same(other.directory()?)
            && one.intake.identity == two.intake.identity
            && one.intake.member_login == two.intake.member_login;
        let [read, read_by_other] = if is_one {
            let both = directory::read_for_both(&self.access().await?, one, two, &links).await?;
            both.map(|reading| vec![reading])
        } else {
            let links = Links::known(&links);
            [
                self.readings(&self.accesses().await?, &links, &[]).await?,
                other.readings(&other.accesses().await?, &links, &[]).await?,
            ]
        };
        Ok(Comparison::new(
            Side {
                settings: one,
                readings: &read,
                accounts: &before,
                memory: &memory,
                groups: groups_before.as_ref(),
            },
            Side {
                settings: two,
                readings: &read_by_other,
                accounts: &after,
                memory: &memory,
                groups: groups_after.as_ref(),
            },
        ))
    }

    /// Tells the story of one person or account, by login, mail, name, link or DN: also of somebody whom
    /// the intake does not find.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn why(&self, text: &str) -> Result<Answer, Error> {
        let memory = state::memory(self.state())?;
        let mut more: Vec<String> = why::CALLED.map(str::to_owned).to_vec();
        for intake in self.settings.intakes() {
            more.extend(intake.filter.attributes().map(str::to_owned));
        }
        let (accounts, groups, readings) = self.accounts_and_readings(&*self.store(), &more).await?;
        let found = why::find(&self.settings, &readings, &accounts, text);
        let elsewhere = |at: usize| {
            let link = accounts.get(at)?.link.as_ref()?;
            readings.iter().find_map(|reading| match reading.whereabouts(link)? {
                Whereabouts::Elsewhere(dn) => Some(dn.clone()),
                Whereabouts::Nowhere => None,
            })
        };
        let entry_of = |(part, person): (usize, usize)| readings.get(part)?.people().get(person);
        let (one, named) = match found.as_slice() {
            [one] => (*one, one.account.filter(|_| one.person.is_none()).and_then(elsewhere)),
            [] => match self.stranger(text).await? {
                Stranger::One(dn) => (Found { person: None, account: None }, Some(dn)),
                Stranger::Several(names) => return Ok(Answer::Several(names)),
                Stranger::Nobody => return Ok(Answer::Nobody),
            },
            several => {
                let name = |one: &Found| match (one.person.and_then(entry_of), one.account) {
                    (Some(entry), _) => entry.dn().to_owned(),
                    (None, at) => {
                        at.and_then(|at| accounts.get(at)).map_or_else(String::new, |one| one.login.clone())
                    }
                };
                return Ok(Answer::Several(several.iter().map(name).collect()));
            }
        };
        let entries = match named {
            Some(dn) => self.entry_anywhere(&dn, &more).await?,
            None => Entries::new(),
        };
        let subject = Subject { person: one.person, stranger: entries.get(0), account: one.account };
        if subject.person.is_none() && subject.stranger.is_none() && subject.account.is_none() {
            return Ok(Answer::Nobody);
        }
        let groups = groups.as_ref();
        let why = Why::with_groups(&self.settings, &readings, &accounts, &memory, subject, groups);
        Ok(why.map_or(Answer::Nobody, |why| Answer::One(Box::new(why))))
    }

    /// One entry with what the intake of its directory looks at, from the first directory that has it.
    async fn entry_anywhere(&self, dn: &str, more: &[String]) -> Result<Entries, Error> {
        for one in self.each() {
            let found = directory::entry(&one.access().await?, &one.settings.intake, dn, more).await?;
            if found.get(0).is_some() {
                return Ok(found);
            }
        }
        Ok(Entries::new())
    }

    /// Somebody who is none of the people whom the intake finds.
    async fn stranger(&self, text: &str) -> Result<Stranger, Error> {
        if let Ok(pasted) = Dn::parse_pasted(text)
            && pasted.dn.depth() > 0
        {
            return Ok(Stranger::One(pasted.dn.to_string()));
        }
        let mut connection = self.connect().await?;
        let found = directory::survey::find(&mut connection, text, 50).await;
        connection.close().await;
        let mut found = found?.0;
        found.retain(|one| one.kind != EntryKind::Group);
        let is_called = |one: &&Finding| {
            [Some(&one.name), one.login.as_ref(), one.mail.as_ref()]
                .into_iter()
                .flatten()
                .any(|called| called.eq_ignore_ascii_case(text))
        };
        let exact: Vec<&Finding> = found.iter().filter(is_called).collect();
        let several = if exact.is_empty() { found.iter().collect() } else { exact };
        Ok(match several.as_slice() {
            [] => Stranger::Nobody,
            [only] => Stranger::One(only.dn.clone()),
            several => Stranger::Several(several.iter().map(|one| one.dn.clone()).collect()),
        })
    }

    /// Reads the nest of one group, with every name in it looked up, and the people of the intake.
    ///
    /// # Errors
    /// No server could be reached, or the bind was refused. Whatever comes later is a gap of the
    /// reading.
    pub async fn nest(&self, group: &Dn) -> Result<Reading, Error> {
        self.nests(vec![group.clone()], &[]).await
    }

    /// Reads the nest of one group twice: from a snapshot, as it was then, and as it is now.
    ///
    /// # Errors
    /// The file cannot be read or is masked, no server could be reached, or the bind was refused. What the snapshot
    /// does not have is a gap of the earlier reading.
    pub async fn nest_since(&self, group: &Dn, file: &Path) -> Result<[Reading; 2], Error> {
        let mut earlier = Self {
            settings: self.settings.clone(),
            file: self.file.clone(),
            folder: self.folder.clone(),
            prompt: None,
            snapshot: None,
            watch: Watch::default(),
        }
        .with_snapshot(file)?;
        let header = earlier.snapshot.as_ref().map(|snapshot| snapshot.header.clone()).unwrap_or_default();
        if header.unmasked.is_some() {
            let reason = "it is masked: nobody in it is called as in the directory".to_owned();
            return Err(Error::NoSnapshot { file: file.to_owned(), reason });
        }
        earlier.settings.intake.group_bases.clone_from(&header.group_bases);
        let now = self.nests(vec![group.clone()], &header.group_bases);
        let then = earlier.nests(vec![group.clone()], &header.group_bases);
        let (then, now) = tokio::try_join!(then, now)?;
        Ok([then, now])
    }

    /// Reads the nests of all groups of the directory, and the people of the intake.
    ///
    /// # Errors
    /// No server could be reached, the bind was refused, or the groups could not be listed.
    pub async fn all_nests(&self) -> Result<Reading, Error> {
        let mut connection = self.connect().await?;
        let groups = directory::survey::groups(&mut connection).await;
        connection.close().await;
        self.nests(groups?, &[]).await
    }

    /// Reads the nests of these groups in place of the settings' own, and what people are called by.
    async fn nests(&self, groups: Vec<Dn>, group_bases: &[Dn]) -> Result<Reading, Error> {
        let mut settings = Settings { further: Vec::new(), ..self.settings.clone() };
        settings.intake.groups = groups;
        settings.intake.strategy = settings.intake.strategy.by_lists();
        settings.intake.not_in_group.clear();
        settings.intake.group_bases = group_bases.to_vec();
        settings.intake.fields.clear();
        settings.intake.roles.clear();
        settings.intake.application_groups = None;
        let names = ["displayName", "cn"].map(str::to_owned);
        Ok(directory::read_with(&self.access().await?, &settings, &Links::known(&[]), &names).await?)
    }

    /// Tries everything that a run needs, one after the other, and reports each step as it ends.
    /// A server that cannot be reached is tried again until `wait` is over.
    pub async fn check(&self, wait: Duration, report: impl FnMut(&CheckStep) + Send) -> Vec<CheckStep> {
        directory::check(self, wait, report).await
    }
}
