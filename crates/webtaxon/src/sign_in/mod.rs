//! Sign-ins: a person's name and password, tried at their directory, and what the application makes of them.
//!
//! * The name finds exactly one entry, by values that are compared; the password goes to that entry's own server, encrypted,
//!   and to no second one once it was judged.
//! * Only the directory's own yes is one. The entry is read again after it, under its lasting identity.
//! * Who is selected, and what their account becomes, is decided as in a preview, from a reading of this one person.

mod audit;
mod claims;
mod find;
mod judge;
mod list;
mod outcome;
mod pool;
mod recorder;
mod servers;
mod shared;
mod tried;
mod why;

pub(crate) use audit::AuditFile;
pub use audit::AuditLine;
pub use outcome::{Examination, ExaminationStep, SignInOutcome, SignedIn, StepOutcome};
pub(crate) use why::why;

use crate::apply::{Applied, Consent, Work, apply_one, one_work};
use crate::background;
use crate::error::Error;
use crate::setup::Setup;
use crate::state::StateErrorKind;
use jiff::Timestamp;
use secrecy::SecretString;
use shared::Shared;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;
use tried::{Judged, Tried};
use webtaxon_core::account::{Account, State};
use webtaxon_core::apply::{Edit, Outcome};
use webtaxon_core::preview::{Change, ChangeKind};
use webtaxon_core::settings::{FirstSignIn, LeaverSignIn};
use webtaxon_core::sign_in::{Refusal, SignInName, Source, Standing};

/// Time for which another apply is waited for.
const PATIENCE: Duration = Duration::from_secs(5);

/// Sign-ins of an application, for any number of tasks at once. Cheap to clone.
#[derive(Clone)]
pub struct SignIns {
    shared: Arc<Shared>,
}

impl std::fmt::Debug for SignIns {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("SignIns")
            .field("audit", &self.shared.recorder.audit().path())
            .finish_non_exhaustive()
    }
}

impl SignIns {
    /// Sign-ins by the settings of a setup. The service accounts' passwords are fetched once.
    pub(crate) async fn new(setup: Arc<Setup>) -> Result<Self, Error> {
        let shared = Shared::new(setup, &[]).await?;
        Ok(Self { shared: Arc::new(shared) })
    }

    /// Lets somebody sign in: `name` and `password` are what they typed, `from` is their address or another name of the
    /// place that they type at, by which tries are counted.
    ///
    /// Somebody who gets in has an account: the one that they had, refreshed, or, with `new = "import"`, the one that an
    /// apply would import. The try is recorded, whatever its outcome.
    ///
    /// If this future is dropped, the try may be recorded or not, and an account that was begun to be changed is changed.
    pub async fn sign_in(&self, name: &str, password: &SecretString, from: &str) -> SignInOutcome {
        let began = Instant::now();
        let tried = self.shared.tried(name, password, from).await;
        self.shared.record(name, from, &tried, began.elapsed()).await;
        tried.outcome()
    }

    /// Goes through a sign-in step by step, for the administrator, and changes no account. Without a password, the directory
    /// is not asked about one. With a password, the try counts and is recorded like any other.
    ///
    /// # Errors
    /// The directory or the accounts could not be asked.
    pub async fn examine(
        &self,
        name: &str,
        password: Option<&SecretString>,
        from: &str,
    ) -> Result<Examination, Error> {
        let began = Instant::now();
        let tried = self.shared.examined(name, password, from).await;
        if password.is_some() {
            self.shared.record(name, from, &tried, began.elapsed()).await;
        }
        tried.examination(&self.shared.setup.settings)
    }
}

impl Shared {
    /// A whole sign-in, with the changes to the account.
    async fn tried(&self, name: &str, password: &SecretString, from: &str) -> Tried {
        let mut tried = self.examined(name, Some(password), from).await;
        if let Some(judged) = tried.judged.take() {
            match self.kept_up(judged, &mut tried).await {
                Ok(judged) => tried.judged = Some(judged),
                Err(error) => tried.fail(error),
            }
        }
        tried
    }

    /// A sign-in up to the changes to the account.
    async fn examined(&self, name: &str, password: Option<&SecretString>, from: &str) -> Tried {
        let mut tried = Tried::default();
        let source = Source::new(from);
        let (key, typed) = match SignInName::new(name) {
            Ok(typed) => (typed.folded(), Some(typed)),
            Err(fault) => {
                tried.refuse(Refusal::BadName(fault));
                (String::new(), None)
            }
        };
        let is_counted = password.is_some();
        if is_counted && let Err(throttled) = self.throttles().begin(&key, &source, Timestamp::now()) {
            let (until, is_source) = (throttled.until, throttled.is_source);
            tried.refuse(Refusal::Throttled { until, is_source });
            return tried;
        }
        let asked = self.asked(typed.as_ref(), password, &mut tried).await;
        if let Err(error) = asked {
            tried.fail(error);
        }
        if is_counted {
            let now = Timestamp::now();
            match tried.counts() {
                Some(true) => {}
                Some(false) => self.throttles().right(&key, &source, now),
                None => self.throttles().undecided(&key, &source, now),
            }
        }
        tried
    }

    /// The steps at the directory. Somebody whom no name finds goes the same way as somebody with a wrong password.
    async fn asked(
        &self,
        typed: Option<&SignInName>,
        password: Option<&SecretString>,
        tried: &mut Tried,
    ) -> Result<(), Error> {
        let found = match typed {
            Some(typed) => self.find(typed, tried).await?,
            None => None,
        };
        let Some(found) = found else {
            if password.is_some() {
                self.decoy().await?;
            }
            return Ok(());
        };
        if let Some(password) = password
            && !self.is_right(&found, password, tried).await?
        {
            return Ok(());
        }
        self.judge(&found, tried).await
    }

    /// Carries out what the sign-in does to the account.
    async fn kept_up(&self, judged: Judged, tried: &mut Tried) -> Result<Judged, Error> {
        let settings = &self.setup.settings.sign_in;
        let standing = tried.standing.clone();
        let (kinds, is_needed): (&[ChangeKind], bool) = match &standing {
            Some(Standing::In) if settings.refresh => (&[ChangeKind::Update], false),
            Some(Standing::New) if settings.new == FirstSignIn::Import => (&[ChangeKind::Import], true),
            Some(Standing::Out { .. }) if settings.leavers == LeaverSignIn::Suspend => {
                (&[ChangeKind::Suspend, ChangeKind::Remove], false)
            }
            _ => return Ok(judged),
        };
        if standing == Some(Standing::New)
            && let Some(seats) = judged.no_seat(&self.setup.settings)
        {
            tried.refuse(Refusal::Standing(Standing::NoSeat(seats)));
            return Ok(judged);
        }
        let change = judged.why.change.iter().chain(&judged.why.also).find(|one| kinds.contains(&one.kind()));
        let Some(edit) = change.and_then(|change| edit(change, &judged.accounts)) else { return Ok(judged) };
        if !self.is_alone(&edit, tried).await? {
            // An apply sees both, and tells the clash.
            if is_needed {
                let words =
                    "another entry may have the same login or unique value: an apply decides".to_owned();
                tried.refuse(Refusal::Standing(Standing::NoAccount(words)));
            }
            return Ok(judged);
        }
        let kind = edit.kind;
        let _held = self.writing.lock().await;
        if is_needed && let Some(account) = self.account_of(judged.identity.as_ref()).await? {
            tried.came_in(account);
            return Ok(judged);
        }
        let work = one_work(&self.setup, &judged.preview, edit);
        let applied = self.patiently(work).await;
        let is_done = match &applied {
            Ok(applied) => applied.is_complete(),
            Err(error) => {
                tracing::warn!(%error, "a sign-in could not change the account");
                false
            }
        };
        if is_done {
            tried.change = Some(kind);
        }
        if !is_needed {
            tried.refreshed(&judged, is_done);
            return Ok(judged);
        }
        // Another sign-in of the same person, or an apply, may have been first.
        let account = self.account_of(judged.identity.as_ref()).await?;
        match (account, applied) {
            (Some(account), _) => tried.came_in(account),
            (None, Err(error)) => return Err(error),
            (None, Ok(applied)) => {
                let words = not_created(applied);
                tried.refuse(Refusal::Standing(Standing::NoAccount(words)));
            }
        }
        Ok(judged)
    }

    /// True if nobody else may draw the login or a unique value that an edit gives to the person.
    async fn is_alone(&self, edit: &Edit, tried: &Tried) -> Result<bool, Error> {
        let (Some(after), Some(person)) = (&edit.after, tried.person()) else { return Ok(true) };
        let settings = &self.setup.settings;
        let names = ["login"].into_iter().chain(settings.unique_fields());
        let is_new =
            |name: &str| edit.before.as_ref().is_none_or(|before| before.field(name) != after.field(name));
        let claims = names.filter(|name| is_new(name) && !after.field(name).is_empty());
        let claims: Vec<(String, String)> =
            claims.map(|name| (name.to_owned(), after.field(name).to_owned())).collect();
        self.nobody_else_draws(&claims, person).await
    }

    /// Carries out one edit; while another apply is running, waits for a short while.
    async fn patiently(&self, work: Work) -> Result<Applied, Error> {
        let until = Instant::now() + PATIENCE;
        loop {
            let (setup, work) = (Arc::clone(&self.setup), work.clone());
            let consent = Consent { who: "sign-in".to_owned(), ..Consent::default() };
            let applied =
                background::drive(move || async move { apply_one(&setup, &work, &consent).await }).await;
            match applied {
                Err(error) if is_another_apply(&error) && Instant::now() < until => {
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
                other => return other,
            }
        }
    }

    async fn record(&self, name: &str, from: &str, tried: &Tried, took: Duration) {
        let line = tried.line(name, from, took);
        if let Err(error) = self.recorder.record(line).await {
            let file = self.recorder.audit().path().display();
            tracing::error!(%error, %file, "a sign-in could not be recorded");
        }
    }
}

/// The reason for which an account was not created.
fn not_created(applied: Applied) -> String {
    let words = applied.outcomes.into_iter().flatten().find_map(|outcome| match outcome {
        Outcome::Done | Outcome::Made => None,
        Outcome::Left(words) | Outcome::Failed(words) => Some(words),
    });
    words.unwrap_or_else(|| "the application did not create it".to_owned())
}

/// The edit of a change; a removal becomes a suspension, since only an apply removes.
fn edit(change: &Change, accounts: &[Account]) -> Option<Edit> {
    let account = accounts.iter().find(|account| account.login == change.login);
    let mut edit = Edit::of(change, account)?;
    if edit.kind == ChangeKind::Remove {
        let account = account.filter(|account| account.state == State::Active)?;
        let suspended = Account { state: State::Suspended, ..account.clone() };
        edit = Edit { kind: ChangeKind::Suspend, after: Some(suspended), ..edit };
    }
    Some(edit)
}

/// True if an apply is under way elsewhere.
fn is_another_apply(error: &Error) -> bool {
    matches!(error, Error::State(error) if matches!(error.kind(), StateErrorKind::Busy { .. }))
}
