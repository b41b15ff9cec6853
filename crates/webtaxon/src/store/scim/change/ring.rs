//! People who take each other's logins: no order works where logins must be unique at every moment.

use super::super::resource::{find, put, text};
use super::super::service::{Fault, Resource};
use super::work::{Hindrance, Prepared, Work};
use crate::crash;
use crate::store::StoreError;
use serde_json::{Value, json};
use std::collections::HashMap;
use webtaxon_core::apply::Outcome;

impl Work<'_> {
    /// Makes a ring of such edits: the first user is parked under a temporary name.
    pub(super) async fn ring(&mut self, group: &[usize]) -> Result<(), StoreError> {
        let (prepared, mut hindered) = self.prepare_ring(group).await?;
        let steps = if hindered.is_none() { steps(&prepared) } else { Vec::new() };
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
        for place in group {
            self.tell(*place, Outcome::Failed(words.clone()));
        }
        Ok(())
    }

    /// The edits of a ring with their requests; and the reason if one has none.
    async fn prepare_ring(&self, group: &[usize]) -> Result<(Vec<Prepared>, Option<String>), StoreError> {
        let (mut prepared, mut hindered) = (Vec::new(), None);
        for place in group {
            match self.prepare(*place).await? {
                Ok(one) => prepared.push(one),
                Err(Hindrance::Told(Outcome::Failed(words)) | Hindrance::Later(words)) => {
                    hindered = Some(words);
                }
                Err(Hindrance::Told(_)) => {
                    hindered = Some("another edit of the same ring was left out".to_owned());
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
}

/// The users of a ring in the order of their changes, by index: the first is parked, and completed last.
fn steps(prepared: &[Prepared]) -> Vec<(usize, Resource)> {
    let mut steps = Vec::new();
    if let Some(first) = prepared.first().and_then(|first| first.before.clone()) {
        let name = format!("{}.{}", text(&first, "userName"), text(&first, "id"));
        let mut aside = first;
        put(&mut aside, "userName", Some(json!(name)));
        steps.push((0, aside));
    }
    let others = prepared.iter().enumerate().skip(1).rev();
    for (at, one) in others.chain(prepared.iter().enumerate().take(1)) {
        steps.extend(one.after.clone().map(|after| (at, after)));
    }
    steps
}
