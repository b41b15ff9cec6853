//! Units of several edits: people who take each other's values, for which no order works where these must be unique at
//! every moment.

use super::super::resource::{find, text};
use super::super::service::{Fault, Resource};
use super::work::{Hindrance, Prepared, Work};
use crate::crash;
use crate::store::StoreError;
use serde_json::Value;
use std::collections::HashMap;
use webtaxon_core::apply::{self, Outcome, Standing, Step, Unit};

/// Which values are put aside while others take them.
#[derive(Clone, Copy, PartialEq)]
enum Aside {
    Logins,
    All,
}

/// The reason why a unit was not made.
struct Stopped {
    words: String,
    /// The service says that somebody else has a value.
    is_taken: bool,
}

/// True if a user is no longer as before in anything that a change was to turn.
fn is_turned(user: &Resource, before: &Resource, after: &Resource) -> bool {
    let differs = |one: &Resource, name: &str| find(one, name) != find(before, name);
    let names = before.keys().chain(after.keys()).filter(|name| differs(after, name));
    names.filter(|name| *name != "meta").all(|name| differs(user, name))
}

impl Work<'_> {
    /// Makes a unit of several edits, step by step.
    pub(super) async fn make_together(&mut self, unit: &Unit<'_>) -> Result<(), StoreError> {
        let words = match self.attempt(unit, Aside::Logins).await? {
            Ok(()) => return Ok(()),
            Err(Stopped { words, .. }) if !self.gives_up_more(unit) => words,
            Err(Stopped { words, is_taken: false }) => words,
            // The service refuses another field, too, while it has two holders.
            Err(Stopped { .. }) => match self.attempt(unit, Aside::All).await? {
                Ok(()) => return Ok(()),
                Err(Stopped { words, .. }) => words,
            },
        };
        for place in unit.edits {
            self.tell(*place, Outcome::Failed(words.clone()));
        }
        Ok(())
    }

    /// True if steps of a unit put aside other values than logins.
    fn gives_up_more(&self, unit: &Unit<'_>) -> bool {
        unit.steps.iter().any(|step| matches!(step, Step::PutAside { field, .. } if *field != "login"))
    }

    /// Makes a unit; if a step fails, everything is as before.
    async fn attempt(&mut self, unit: &Unit<'_>, aside: Aside) -> Result<Result<(), Stopped>, StoreError> {
        let (prepared, hindered) = self.prepare_all(unit.edits, aside == Aside::All).await?;
        if let Some(words) = hindered {
            return Ok(Err(Stopped { words, is_taken: false }));
        }
        let mut now: HashMap<usize, Resource> =
            prepared.iter().enumerate().filter_map(|(at, one)| Some((at, one.before.clone()?))).collect();
        // The changes made so far with the users before them, in order.
        let mut done: Vec<(Resource, Resource)> = Vec::new();
        for (at, after) in self.steps(unit, &prepared, aside) {
            let Some(before) = now.get(&at).cloned() else { continue };
            match self.turn(&before, &after).await {
                Ok(user) => {
                    now.insert(at, user.clone());
                    done.push((user, before));
                }
                Err(Fault::Fatal(error)) => return Err(error),
                Err(Fault::Refused { status, words }) => {
                    let words = self.restore(done, words).await?;
                    return Ok(Err(Stopped { words, is_taken: status == 409 }));
                }
                Err(Fault::Unclear(words)) => {
                    let words = self.restore(done, words).await?;
                    return Ok(Err(Stopped { words, is_taken: false }));
                }
            }
        }
        for one in prepared {
            let place = one.place;
            let outcome = self.settle(Prepared { wish: None, ..one }, Ok(Value::Null)).await?;
            self.tell(place, outcome);
        }
        Ok(Ok(()))
    }

    /// The edits with their requests; and the reason if one has none.
    async fn prepare_all(
        &self,
        edits: &[usize],
        is_again: bool,
    ) -> Result<(Vec<Prepared>, Option<String>), StoreError> {
        let (mut prepared, mut hindered) = (Vec::new(), None);
        for place in edits {
            match self.prepare(*place, is_again).await? {
                Ok(one) => prepared.push(one),
                Err(Hindrance::Told(Outcome::Failed(words)) | Hindrance::Later(words)) => {
                    hindered = Some(words);
                }
                Err(Hindrance::Told(_)) => {
                    hindered = Some("an edit that must be made together with it was left out".to_owned());
                }
            }
        }
        Ok((prepared, hindered))
    }

    /// Restores users after a failure; returns its words with those of users that could not be restored.
    async fn restore(
        &self,
        done: Vec<(Resource, Resource)>,
        mut words: String,
    ) -> Result<String, StoreError> {
        for (user, before) in done.into_iter().rev() {
            let there = self.session.service.user(text(&user, "id")).await?.unwrap_or(user);
            if self.turn(&there, &before).await.is_err() {
                words += &format!("; {} could not be restored", text(&before, "userName"));
            }
        }
        Ok(words)
    }

    /// Turns a user into another, and returns the result.
    async fn turn(&self, before: &Resource, after: &Resource) -> Result<Resource, Fault> {
        let service = &self.session.service;
        let answer = service.ask(&self.wish(before, after)).await;
        crash::point();
        let lost = match answer {
            Ok(Value::Object(user)) if find(&user, "userName").is_some() => return Ok(user),
            Ok(_) => None,
            Err(Fault::Unclear(words)) => Some(words),
            Err(fault) => return Err(fault),
        };
        match (service.user(text(before, "id")).await.map_err(Fault::Fatal)?, lost) {
            (Some(user), None) => Ok(user),
            // Whatever the change was about is no longer as it was.
            (Some(user), Some(_)) if is_turned(&user, before, after) => Ok(user),
            (_, words) => {
                Err(Fault::Unclear(words.unwrap_or_else(|| "the user no longer exists".to_owned())))
            }
        }
    }

    /// The users of a unit after each step, by index in `prepared`.
    fn steps(&self, unit: &Unit<'_>, prepared: &[Prepared], put_aside: Aside) -> Vec<(usize, Resource)> {
        let index = |at: usize| {
            let is_its =
                |one: &Prepared| self.plan.standings().get(one.place) == Some(&Standing::Ready(Some(at)));
            prepared.iter().position(is_its)
        };
        // Users of whom a value has been put aside already.
        let mut aside: HashMap<usize, Resource> = HashMap::new();
        let step = |step: &Step<'_>| match step {
            // Of what has two holders for a moment, a service must refuse only userName (RFC 7643 §4.1.1).
            Step::PutAside { field, .. } if *field != "login" && put_aside == Aside::Logins => None,
            Step::PutAside { at, field } => {
                let index = index(*at)?;
                let known = aside.get(&index).cloned();
                let mut user = known.or_else(|| prepared.get(index)?.before.clone())?;
                let account = self.plan.accounts().get(*at)?;
                let mut stands_in = account.clone();
                stands_in.set(field, Some(&apply::aside(account, field)));
                self.fill(&mut user, &stands_in, std::iter::once(*field)).ok()?;
                aside.insert(index, user.clone());
                Some((index, user))
            }
            Step::Update { at, .. } => {
                let index = index(*at)?;
                Some((index, prepared.get(index)?.after.clone()?))
            }
            // Whoever comes or goes never has to be made together with others.
            Step::Insert { .. } | Step::Delete { .. } => None,
        };
        unit.steps.iter().filter_map(step).collect()
    }
}
