//! Units of several edits: people who take each other's values, for which no order works where these must be unique at
//! every moment.

use super::super::resource::{find, put, text};
use super::super::service::{Fault, Resource};
use super::work::{Hindrance, Prepared, Work};
use crate::crash;
use crate::store::StoreError;
use serde_json::{Value, json};
use std::collections::HashMap;
use webtaxon_core::apply::{Outcome, Standing, Step, Unit};

impl Work<'_> {
    /// Makes a unit of several edits, step by step.
    pub(super) async fn make_together(&mut self, unit: &Unit<'_>) -> Result<(), StoreError> {
        let (prepared, mut hindered) = self.prepare_all(unit.edits).await?;
        let steps = if hindered.is_none() { self.steps(unit, &prepared) } else { Vec::new() };
        let mut now: HashMap<usize, Resource> =
            prepared.iter().enumerate().filter_map(|(at, one)| Some((at, one.before.clone()?))).collect();
        // The changes made so far with the users before them, in order.
        let mut done: Vec<(Resource, Resource)> = Vec::new();
        for (at, after) in steps {
            let Some(before) = now.get(&at).cloned() else { continue };
            match self.turn(&before, &after).await {
                Ok(user) => {
                    now.insert(at, user.clone());
                    done.push((user, before));
                }
                Err(Fault::Fatal(error)) => return Err(error),
                Err(Fault::Refused { words, .. } | Fault::Unclear(words)) => {
                    hindered = Some(words);
                    break;
                }
            }
        }
        let Some(words) = hindered else {
            for one in prepared {
                let place = one.place;
                let outcome = self.settle(Prepared { wish: None, ..one }, Ok(Value::Null)).await?;
                self.tell(place, outcome);
            }
            return Ok(());
        };
        let words = self.restore(done, words).await?;
        for place in unit.edits {
            self.tell(*place, Outcome::Failed(words.clone()));
        }
        Ok(())
    }

    /// The edits with their requests; and the reason if one has none.
    async fn prepare_all(&self, edits: &[usize]) -> Result<(Vec<Prepared>, Option<String>), StoreError> {
        let (mut prepared, mut hindered) = (Vec::new(), None);
        for place in edits {
            match self.prepare(*place).await? {
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
            (Some(user), Some(_)) if text(&user, "userName") == text(after, "userName") => Ok(user),
            (_, words) => {
                Err(Fault::Unclear(words.unwrap_or_else(|| "the user no longer exists".to_owned())))
            }
        }
    }

    /// The users of a unit after each step, by index in `prepared`.
    fn steps(&self, unit: &Unit<'_>, prepared: &[Prepared]) -> Vec<(usize, Resource)> {
        let index = |at: usize| {
            let is_its =
                |one: &Prepared| self.plan.standings().get(one.place) == Some(&Standing::Ready(Some(at)));
            prepared.iter().position(is_its)
        };
        let step = |step: &Step<'_>| match step {
            // Of what has two holders for a moment, a service refuses only userName (RFC 7643 §4.1.1).
            Step::PutAside { at, field: "login" } => {
                let index = index(*at)?;
                let mut aside = prepared.get(index)?.before.clone()?;
                let name = format!("{}.{}", text(&aside, "userName"), text(&aside, "id"));
                put(&mut aside, "userName", Some(json!(name)));
                Some((index, aside))
            }
            Step::PutAside { .. } => None,
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
