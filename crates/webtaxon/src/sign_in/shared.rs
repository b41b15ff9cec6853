//! What all sign-ins share: connections, the accounts, counts of tries, and what was read once for many.

use super::audit::AuditFile;
use super::list::LatestList;
use super::pool::{Operation, Pool, Purpose};
use super::recorder::Recorder;
use crate::directory::{Access, Connection, DirectoryError, DirectoryErrorKind, Ground};
use crate::error::Error;
use crate::setup::Setup;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::time::Instant;
use webtaxon_core::preview::Memory;
use webtaxon_core::reading::Request;
use webtaxon_core::settings::Intake;
use webtaxon_core::sign_in::Throttles;

/// Age of what sign-ins have in common, such as whether the named groups are shown, after which it is read again.
const FRESH: Duration = Duration::from_secs(60);
/// Something that is read again after a while.
type Kept<T> = tokio::sync::Mutex<Option<(Instant, Arc<T>)>>;

/// The memory of earlier runs.
struct KeptMemory {
    since: Instant,
    /// The latest run before it was read.
    latest: i64,
    memory: Arc<Memory>,
}

pub(super) struct Shared {
    pub(super) setup: Arc<Setup>,
    /// By the names of directories.
    pub(super) pools: HashMap<String, Pool>,
    /// For each intake, the request for its people.
    pub(super) requests: Vec<Request>,
    /// For each intake, what readings of single people have in common.
    pub(super) grounds: Vec<Kept<Ground>>,
    memory: tokio::sync::Mutex<Option<KeptMemory>>,
    pub(super) list: LatestList,
    pub(super) throttles: Mutex<Throttles>,
    pub(super) recorder: Recorder,
    /// Held while an account is changed.
    pub(super) writing: tokio::sync::Mutex<()>,
}

impl Shared {
    /// Everything that the settings of a setup need; more attributes of people are read, too. The service accounts' passwords
    /// are fetched once.
    pub(super) async fn new(setup: Arc<Setup>, more: &[String]) -> Result<Self, Error> {
        let mut pools = HashMap::new();
        for intake in &setup.settings.intakes {
            let directory = setup.directory(intake)?;
            if !pools.contains_key(&directory.name) {
                let access = Access::new(directory, &setup.folder, setup.password(directory).await?);
                pools.insert(directory.name.clone(), Pool::new(access));
            }
        }
        let settings = &setup.settings;
        Ok(Self {
            pools,
            requests: settings.intakes.iter().map(|intake| request(intake).with(more)).collect(),
            grounds: settings.intakes.iter().map(|_| tokio::sync::Mutex::default()).collect(),
            memory: tokio::sync::Mutex::default(),
            list: LatestList::default(),
            throttles: Mutex::new(Throttles::new(settings.sign_in.throttle)),
            recorder: Recorder::new(AuditFile::new(&settings.sign_in.audit, &setup.folder)),
            writing: tokio::sync::Mutex::default(),
            setup,
        })
    }

    /// The intakes in order, each with what is read for its people.
    pub(super) fn intakes(&self) -> impl Iterator<Item = (usize, &Intake, &Request)> {
        let both = self.setup.settings.intakes.iter().zip(&self.requests);
        both.enumerate().map(|(at, (intake, request))| (at, intake, request))
    }

    pub(super) fn throttles(&self) -> std::sync::MutexGuard<'_, Throttles> {
        self.throttles.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn pool(&self, intake: &Intake) -> Result<&Pool, Error> {
        let pool = self.pools.get(&intake.directory);
        pool.ok_or_else(|| DirectoryError::from(DirectoryErrorKind::NoServer).into())
    }

    /// What the readings of an intake's people have in common.
    pub(super) async fn ground(
        &self,
        at: usize,
        intake: &Intake,
        request: &Request,
    ) -> Result<Arc<Ground>, Error> {
        let Some(kept) = self.grounds.get(at) else {
            return Err(Error::NoIntake { name: intake.name.clone(), known: Vec::new() });
        };
        let mut kept = kept.lock().await;
        if let Some((_, ground)) = kept.as_ref().filter(|(since, _)| since.elapsed() < FRESH) {
            return Ok(Arc::clone(ground));
        }
        let memory = self.memory().await?;
        let before = memory.footprints.get(&intake.name);
        let read = |mut connection: Connection| -> Operation<'_, Ground> {
            Box::pin(async move {
                match Ground::read(&mut connection, request, before).await {
                    Ok(ground) => (Some(connection), Ok(ground)),
                    Err(error) => (None, Err(error)),
                }
            })
        };
        let ground = Arc::new(self.pool(intake)?.run(Purpose::Searches, &read).await?);
        *kept = Some((Instant::now(), Arc::clone(&ground)));
        Ok(ground)
    }

    /// The memory of earlier runs, and today's date; at most a minute old.
    pub(super) async fn memory(&self) -> Result<Arc<Memory>, Error> {
        let mut kept = self.memory.lock().await;
        match kept.as_ref().filter(|kept| kept.since.elapsed() < FRESH && kept.is_todays()) {
            Some(kept) => Ok(Arc::clone(&kept.memory)),
            None => self.remembered(&mut kept).await,
        }
    }

    /// The same, with every run that has ended by now.
    pub(super) async fn memory_now(&self) -> Result<Arc<Memory>, Error> {
        let mut kept = self.memory.lock().await;
        let latest = self.setup.latest_run().await?;
        let is_latest = |kept: &&KeptMemory| {
            kept.latest == latest && kept.memory.interrupted.is_none() && kept.is_todays()
        };
        match kept.as_ref().filter(is_latest) {
            Some(kept) => Ok(Arc::clone(&kept.memory)),
            None => self.remembered(&mut kept).await,
        }
    }

    async fn remembered(&self, kept: &mut Option<KeptMemory>) -> Result<Arc<Memory>, Error> {
        let (since, latest) = (Instant::now(), self.setup.latest_run().await?);
        let memory = Arc::new(self.setup.memory().await?);
        *kept = Some(KeptMemory { since, latest, memory: Arc::clone(&memory) });
        Ok(memory)
    }
}

impl KeptMemory {
    fn is_todays(&self) -> bool {
        self.memory.today == Timestamp::now().to_zoned(TimeZone::UTC).date()
    }
}

/// The request for an intake's people. A sign-in changes no groups of the application.
fn request(intake: &Intake) -> Request {
    let mut request = Request::of(intake);
    request.application_groups = None;
    request
}
