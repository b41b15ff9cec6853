//! A sign-in under way: its steps so far, and what is known of the person.

use super::audit::AuditLine;
use super::outcome::{Examination, ExaminationStep, SignInOutcome, SignedIn, StepOutcome};
use crate::error::Error;
use jiff::Timestamp;
use std::time::Duration;
use webtaxon_core::account::{Account, State};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::preview::why::Why;
use webtaxon_core::preview::{ChangeKind, Preview};
use webtaxon_core::settings::{FirstSignIn, Settings};
use webtaxon_core::sign_in::{PasswordAnswer, Refusal, Standing};

/// Somebody who is called as it was typed.
#[derive(Clone, Debug)]
pub(super) struct Person {
    /// The number of the intake that found them.
    pub(super) intake: usize,
    pub(super) directory: String,
    pub(super) dn: String,
    pub(super) identity: Option<Identity>,
    /// The number of the field that they are called so by.
    pub(super) field: usize,
}

/// One person, with everything that the application makes of them.
pub(super) struct Judged {
    pub(super) identity: Option<Identity>,
    pub(super) why: Box<Why>,
    pub(super) preview: Preview,
    pub(super) accounts: Vec<Account>,
}

impl Judged {
    /// The number of seats, if the person would get none.
    pub(super) fn no_seat(&self, settings: &Settings) -> Option<u64> {
        let login = self.why.change.as_ref().map(|change| &change.login);
        let is_out = login.is_some_and(|login| self.preview.unseated.contains(login));
        settings.accounts.seats.filter(|_| is_out)
    }

    /// The person's account, as it is now.
    pub(super) fn account(&self) -> Option<&Account> {
        let is_theirs = |account: &&Account| account.link.is_some() && account.link == self.identity;
        self.accounts.iter().find(is_theirs)
    }
}

/// A sign-in under way.
#[derive(Default)]
pub(super) struct Tried {
    steps: Vec<ExaminationStep>,
    person: Option<Person>,
    answer: Option<PasswordAnswer>,
    pub(super) standing: Option<Standing>,
    pub(super) judged: Option<Judged>,
    /// The account that the person has at the end.
    account: Option<Account>,
    pub(super) change: Option<ChangeKind>,
    refusal: Option<Refusal>,
    error: Option<Error>,
}

impl Tried {
    fn step(&mut self, name: &'static str, outcome: StepOutcome, message: String, remedy: &str) {
        self.steps.push(ExaminationStep { name, outcome, message, remedy: remedy.to_owned() });
    }

    /// Records the first reason for which the person does not get in.
    pub(super) fn refuse(&mut self, refusal: Refusal) {
        let name = match &refusal {
            Refusal::BadName(_) | Refusal::UnknownName | Refusal::SeveralEntries(_) => "name",
            Refusal::NoPassword | Refusal::Throttled { .. } | Refusal::Password(_) => "password",
            Refusal::OtherEntry => "selected",
            Refusal::Standing(Standing::Out { .. }) => "selected",
            _ => "account",
        };
        let (message, remedy) = (refusal.to_string(), refusal.remedy().to_owned());
        self.step(name, StepOutcome::Bad, message, &remedy);
        self.refusal.get_or_insert(refusal);
    }

    pub(super) fn person(&self) -> Option<&Person> {
        self.person.as_ref()
    }

    pub(super) fn fail(&mut self, error: Error) {
        self.error.get_or_insert(error);
    }

    pub(super) fn found(&mut self, person: Option<&Person>, field: &str) {
        self.person = person.cloned();
        if let Some(person) = person {
            let message = format!("{} in the directory {}, found by {field}", person.dn, person.directory);
            self.step("name", StepOutcome::Good, message, "");
        }
    }

    pub(super) fn answered(&mut self, answer: PasswordAnswer) {
        if let PasswordAnswer::Right { expires_in, grace_left } = &answer {
            let mut message = answer.to_string();
            if let Some(left) = grace_left {
                message.push_str(&format!(", and has expired: {left} sign-ins are left"));
            } else if let Some(seconds) = expires_in {
                message.push_str(&format!("; it expires in {}", in_days(*seconds)));
            }
            self.step("password", StepOutcome::Good, message, "");
        }
        self.answer = Some(answer);
    }

    /// Records what the application makes of the person.
    pub(super) fn stands(&mut self, standing: Standing, judged: Judged) {
        if self.answer.is_none() {
            self.step("password", StepOutcome::Skipped, "not asked for".to_owned(), "");
        }
        let selected = |tried: &mut Self| {
            let intake = &judged.why.intake;
            tried.step("selected", StepOutcome::Good, format!("by the intake {intake}"), "");
        };
        match &standing {
            Standing::Unknown(_) => {
                let remedy = standing.remedy();
                self.step("selected", StepOutcome::Unknown, standing.to_string(), remedy);
            }
            Standing::Out { .. } => self.refuse(Refusal::Standing(standing.clone())),
            Standing::In => {
                selected(self);
                self.account = judged.account().cloned();
                let login = judged.account().map_or("", |account| &account.login);
                self.step("account", StepOutcome::Good, format!("{login}, linked to this person"), "");
            }
            Standing::New => selected(self),
            _ => {
                selected(self);
                self.refuse(Refusal::Standing(standing.clone()));
            }
        }
        self.standing = Some(standing);
        self.judged = Some(judged);
    }

    /// The account after a sign-in that changed it, or not.
    pub(super) fn refreshed(&mut self, judged: &Judged, is_done: bool) {
        let change = judged.why.change.as_ref().filter(|change| change.kind() == ChangeKind::Update);
        if let (Some(account), Some(change), true) = (&mut self.account, change, is_done) {
            for (name, field) in &change.fields {
                account.set(name, field.new.as_deref());
            }
        }
    }

    /// The account of a person who had none before.
    pub(super) fn came_in(&mut self, account: Account) {
        self.standing = Some(Standing::In);
        self.account = Some(account);
    }

    /// True if the try counts as a wrong one; `None` if the directory was not asked about the password, or has no answer.
    pub(super) fn counts(&self) -> Option<bool> {
        if let Some(answer) = &self.answer {
            return Some(answer.counts());
        }
        match &self.refusal {
            Some(_) if self.error.is_none() => Some(true),
            _ => None,
        }
    }

    pub(super) fn outcome(self) -> SignInOutcome {
        if let Some(error) = self.error {
            return SignInOutcome::Unavailable(error);
        }
        if let Some(refusal) = self.refusal {
            return SignInOutcome::Refused(refusal);
        }
        // Only the directory's own yes is one.
        let Some(PasswordAnswer::Right { expires_in, grace_left }) = self.answer else {
            return SignInOutcome::Refused(Refusal::NoPassword);
        };
        match (self.standing, self.judged, self.account, self.person) {
            (Some(Standing::In), Some(judged), Some(account), Some(person))
                if account.state == State::Active =>
            {
                let Some(identity) = judged.identity else {
                    return SignInOutcome::Refused(Refusal::OtherEntry);
                };
                let Person { dn, directory, .. } = person;
                let (intake, change) = (judged.why.intake.clone(), self.change);
                let signed_in =
                    SignedIn { account, dn, identity, directory, intake, change, expires_in, grace_left };
                SignInOutcome::SignedIn(Box::new(signed_in))
            }
            (Some(Standing::Unknown(why)), ..) => SignInOutcome::Undecided(why),
            (Some(standing), ..) => SignInOutcome::Refused(Refusal::Standing(standing)),
            _ => SignInOutcome::Refused(Refusal::OtherEntry),
        }
    }

    /// The steps of a sign-in that changed nothing.
    pub(super) fn examination(mut self, settings: &Settings) -> Result<Examination, Error> {
        if let Some(error) = self.error {
            return Err(error);
        }
        let judged = self.judged.take();
        if let (Some(Standing::New), Some(judged)) = (&self.standing, &judged) {
            let login = judged.why.change.as_ref().map_or("", |change| &change.login).to_owned();
            match (settings.sign_in.new, judged.no_seat(settings)) {
                (FirstSignIn::Refuse, _) => self.refuse(Refusal::Standing(Standing::New)),
                (FirstSignIn::Import, Some(seats)) => self.refuse(Refusal::Standing(Standing::NoSeat(seats))),
                (FirstSignIn::Import, None) => {
                    let message = format!("{login}: the first sign-in creates it");
                    self.step("account", StepOutcome::Good, message, "");
                }
            }
        }
        let (expires_in, grace_left) = match self.answer {
            Some(PasswordAnswer::Right { expires_in, grace_left }) => (expires_in, grace_left),
            _ => (None, None),
        };
        Ok(Examination {
            steps: self.steps,
            dn: self.person.map(|person| person.dn),
            is_unknown: self.refusal.is_none() && matches!(self.standing, Some(Standing::Unknown(_))),
            refusal: self.refusal,
            expires_in,
            grace_left,
            why: judged.map(|judged| judged.why),
        })
    }

    /// The line for the record.
    pub(super) fn line(&self, name: &str, from: &str, took: Duration) -> AuditLine {
        let (outcome, reason, message) = match (&self.error, &self.refusal, &self.standing) {
            (Some(error), ..) => ("unavailable", "unavailable", error.to_string()),
            (None, Some(refusal), _) => ("refused", refusal.name(), refusal.to_string()),
            (None, None, Some(Standing::In)) => ("in", "in", String::new()),
            (None, None, Some(standing @ Standing::Unknown(_))) => {
                ("unavailable", standing.name(), standing.to_string())
            }
            (None, None, Some(standing)) => ("refused", standing.name(), standing.to_string()),
            (None, None, None) => ("refused", "refused", String::new()),
        };
        AuditLine {
            at: Timestamp::now(),
            name: name.to_owned(),
            dn: self.person.as_ref().map(|person| person.dn.clone()),
            from: from.to_owned(),
            directory: self.person.as_ref().map(|person| person.directory.clone()),
            outcome: outcome.to_owned(),
            reason: reason.to_owned(),
            message,
            account: self.account.as_ref().map(|account| account.login.clone()),
            change: self.change.map(|kind| kind.name().to_owned()),
            milliseconds: u64::try_from(took.as_millis()).unwrap_or(u64::MAX),
        }
    }
}

/// A time in days, or in hours if it is shorter.
fn in_days(seconds: u64) -> String {
    let unit = |count: u64, one: &str, many: &str| {
        webtaxon_core::words::counted(usize::try_from(count).unwrap_or(usize::MAX), one, many)
    };
    match seconds {
        0..7_200 => unit(seconds.div_ceil(60), "minute", "minutes"),
        7_200..172_800 => unit(seconds / 3_600, "hour", "hours"),
        _ => unit(seconds / 86_400, "day", "days"),
    }
}
