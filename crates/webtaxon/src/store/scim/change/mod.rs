//! Making edits in a SCIM service, without transactions over several of them.
//!
//! Independent edits share one request, if the service supports bulk. A refusal is recorded and the rest continues;
//! if a response is lost, the user is read before an outcome is recorded.

mod originals;
mod prepare;
mod roles;
mod together;
mod work;

use super::resource::{find, sendable, text};
use super::service::{AT_ONCE, Fault, Resource, Wish, bytes_of, escaped};
use super::session::{Everybody, Group, Session};
use crate::crash;
use crate::store::{Recorder, StoreError, Terms};
use originals::Originals;
use reqwest::Method;
use serde_json::Value;
use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};
use webtaxon_core::account::Account;
use webtaxon_core::apply::{Edit, Outcome, Plan, Standing, Unit, are_same, standings};
use work::{Hindrance, Prepared, Work};

/// Maximum changes of one bulk request, even if the service allows more: this many responses can be lost at once.
const BATCH: usize = 100;

pub(super) async fn carry_out(
    session: &Session,
    mut everybody: Everybody,
    edits: &[Edit],
    terms: &Terms,
    record: Recorder,
) -> Result<(), StoreError> {
    let accounts = std::mem::take(&mut everybody.accounts);
    let plan = Plan::of(edits, &accounts, &terms.unique);
    let units: Vec<Unit<'_>> = plan.units().collect();
    let mut work = Work {
        session,
        everybody,
        plan: &plan,
        originals: terms.original.as_deref().map(Originals::read).unwrap_or_default(),
        secrets: &terms.secrets,
        record: Mutex::new(record),
        stop_after: terms.stop_after,
        failed: 0,
        is_over: false,
        seen: HashSet::new(),
    };
    for (place, outcome) in plan.left_out() {
        work.tell(place, outcome);
    }
    let mut waiting = work.make(units.iter().collect()).await?;
    // Edits that wait for another person continue once that person exists; the last round reports the others.
    while !waiting.is_empty() && !work.is_over {
        let before = waiting.len();
        waiting = work.make(waiting.into_iter().map(|(unit, ..)| unit).collect()).await?;
        if waiting.len() == before {
            for (_, place, words) in std::mem::take(&mut waiting) {
                work.tell(place, Outcome::Failed(words));
            }
        }
    }
    Ok(())
}

impl<'a> Work<'a> {
    fn tell(&mut self, place: usize, outcome: Outcome) {
        self.failed += usize::from(matches!(outcome, Outcome::Failed(_)));
        let record = self.record.get_mut().unwrap_or_else(PoisonError::into_inner);
        self.is_over |= record(place, outcome).is_break();
        self.is_over |= self.stop_after.is_some_and(|most| self.failed >= most);
    }

    /// Makes units in order; returns those that wait for a person, each with its edit and the reason.
    async fn make<'u>(
        &mut self,
        units: Vec<&'u Unit<'u>>,
    ) -> Result<Vec<(&'u Unit<'u>, usize, String)>, StoreError> {
        let mut waiting = Vec::new();
        let mut batch: Vec<Prepared> = Vec::new();
        let mut bytes = 0;
        // Unique values given up within the batch, which may be taken only after it: by field, in the form for
        // comparison.
        let mut left: HashSet<(&str, String)> = HashSet::new();
        let bulk = self.session.service.offer.bulk;
        let most_bytes = bulk.map_or(usize::MAX, |(_, bytes)| bytes);
        for unit in units {
            if self.is_over {
                return Ok(waiting);
            }
            let &[place] = unit.edits else {
                self.flush(&mut batch).await?;
                self.make_together(unit).await?;
                continue;
            };
            let [given_up, taken] = self.moved(place);
            if taken.iter().any(|value| left.contains(value)) {
                self.flush(&mut batch).await?;
                (bytes, left) = (0, HashSet::new());
            }
            let prepared = match self.prepare(place, false).await? {
                Ok(prepared) => prepared,
                Err(Hindrance::Told(outcome)) => {
                    self.tell(place, outcome);
                    continue;
                }
                Err(Hindrance::Later(words)) => {
                    waiting.push((unit, place, words));
                    continue;
                }
            };
            let size = prepared.wish.as_ref().map_or(0, bytes_of);
            let most = bulk.map_or_else(|| AT_ONCE.min(self.may_fail()), |(most, _)| most.min(BATCH));
            if !batch.is_empty() && (batch.len() >= most || bytes + size > most_bytes / 2) {
                self.flush(&mut batch).await?;
                (bytes, left) = (0, HashSet::new());
            }
            left.extend(given_up);
            bytes += size;
            batch.push(prepared);
        }
        self.flush(&mut batch).await?;
        Ok(waiting)
    }

    /// Number of refusals until no further edit may begin.
    fn may_fail(&self) -> usize {
        self.stop_after.map_or(usize::MAX, |most| most.saturating_sub(self.failed).max(1))
    }

    /// The unique values that an edit gives up, and those that it takes.
    fn moved(&self, place: usize) -> [Vec<(&'a str, String)>; 2] {
        let Some(edit) = self.edit(place) else { return [Vec::new(), Vec::new()] };
        let values = |side: Option<&Account>| {
            let of = |name: &'a str| Some((name, Account::login_key(side?.value(name))));
            let names = self.plan.unique().iter().copied();
            names.filter_map(of).filter(|(_, value)| !value.is_empty()).collect::<Vec<_>>()
        };
        let (before, after) = (values(edit.before.as_ref()), values(edit.after.as_ref()));
        let without = |one: &[(&'a str, String)], other: &[(&'a str, String)]| {
            one.iter().filter(|value| !other.contains(value)).cloned().collect()
        };
        [without(&before, &after), without(&after, &before)]
    }

    /// Sends the batch, and records the outcomes.
    async fn flush(&mut self, batch: &mut Vec<Prepared>) -> Result<(), StoreError> {
        if self.is_over {
            batch.clear();
        }
        let batch = std::mem::take(batch);
        let wishes: Vec<Wish> = batch.iter().filter_map(|one| one.wish.clone()).collect();
        let mut answers = self.session.service.ask_all(&wishes).await.into_iter();
        if !wishes.is_empty() {
            crash::point();
        }
        for prepared in batch {
            let place = prepared.place;
            let answer = match prepared.wish {
                Some(_) => match answers.next() {
                    Some(answer) => answer,
                    None => return Ok(()), // behind one that ended everything, which was told of
                },
                None => Ok(Value::Null),
            };
            let outcome = self.settle(prepared, answer).await?;
            self.tell(place, outcome);
        }
        Ok(())
    }

    /// An edit's outcome after its response, and after setting its groups.
    async fn settle(
        &mut self,
        prepared: Prepared,
        answer: Result<Value, Fault>,
    ) -> Result<Outcome, StoreError> {
        let Some(edit) = self.edit(prepared.place) else { return Ok(Outcome::Made) };
        // Somebody's rights or values are refused by PUT as well; and what failed once may work the next time.
        let may_put = is_patch(&prepared) && matches!(&answer, Err(fault) if fault.is_of_the_request());
        let answer = match answer {
            Err(Fault::Refused { status: 404 | 410, .. }) if edit.after.is_none() => {
                return Ok(Outcome::Made);
            }
            Err(Fault::Refused { status: 412, .. }) => match self.ask_again(edit, &prepared).await? {
                Ok(answer) => answer,
                Err(outcome) => return Ok(outcome),
            },
            answer => match self.resolve(edit, &prepared, answer).await? {
                Ok(answer) => {
                    let lost = self.unkept(edit, &prepared).await?;
                    match lost.is_empty() {
                        true => answer,
                        false if !is_patch(&prepared) => return Ok(unkept_in_words(&lost)),
                        false => match self.put_instead(edit, &prepared, None).await? {
                            Ok(answer) => answer,
                            Err(outcome) => return Ok(outcome),
                        },
                    }
                }
                Err(Outcome::Failed(words)) if may_put => {
                    match self.put_instead(edit, &prepared, Some(words)).await? {
                        Ok(answer) => answer,
                        Err(outcome) => return Ok(outcome),
                    }
                }
                Err(outcome) => return Ok(outcome),
            },
        };
        let Some(account) = &edit.after else { return Ok(Outcome::Done) };
        let Some(id) = self.id_after(&prepared, &answer, &account.login).await? else {
            return Ok(Outcome::Failed("it reported success, but has no such user".to_owned()));
        };
        self.everybody.people.add(&id, &account.login);
        if prepared.before.is_none() {
            self.learn_from_new(account, &id).await?;
        }
        let is_about_roles = edit.before.is_none() || edit.changed().any(|name| name == "roles");
        let grouped = match self.session.role_groups {
            true if is_about_roles => self.set_roles(&id, account).await?,
            false if edit.before.is_none() => self.restore_groups(account, &id).await?,
            _ => Ok(()),
        };
        let Err(words) = grouped else { return Ok(Outcome::Done) };
        Ok(Outcome::Failed(match self.take_back(&id, &prepared).await {
            Ok(()) => words,
            Err(why) => format!("{words}; the rest of the change could not be undone: {why}"),
        }))
    }

    /// The response to a change; or its outcome, if there was none or it failed.
    async fn resolve(
        &self,
        edit: &Edit,
        prepared: &Prepared,
        answer: Result<Value, Fault>,
    ) -> Result<Result<Value, Outcome>, StoreError> {
        match answer {
            Ok(answer) => Ok(Ok(answer)),
            Err(Fault::Fatal(error)) => Err(error),
            Err(Fault::Refused { words, .. }) => Ok(Err(Outcome::Failed(words))),
            Err(Fault::Unclear(words)) => Ok(match self.look(edit, prepared).await? {
                Ok(()) => Ok(Value::Null),
                Err(why) => Err(Outcome::Failed(format!("{words}{why}"))),
            }),
        }
    }

    /// Repeats a change of a user who was changed meanwhile, but possibly not in what the edit concerns.
    async fn ask_again(
        &self,
        edit: &Edit,
        prepared: &Prepared,
    ) -> Result<Result<Value, Outcome>, StoreError> {
        let before = prepared.before.as_ref().map(|user| text(user, "id")).unwrap_or_default();
        let there = self.session.service.user(before).await?;
        let again = match (self.judge(edit, there.as_ref())?, there) {
            (Standing::Ready(_), Some(user)) => self.changed_user(prepared.place, edit, user),
            (other, _) => return Ok(Err(other.into())),
        };
        let again = match again {
            Ok(Prepared { wish: Some(wish), .. }) => wish,
            Ok(_) => return Ok(Err(Outcome::Made)),
            Err(Hindrance::Told(outcome)) => return Ok(Err(outcome)),
            Err(Hindrance::Later(words)) => return Ok(Err(Outcome::Failed(words))),
        };
        match self.session.service.ask(&again).await {
            Err(Fault::Refused { status: 412, .. }) => {
                Ok(Err(Outcome::Left("it is being changed by somebody else".to_owned())))
            }
            answer => self.resolve(edit, prepared, answer).await,
        }
    }

    /// The fields in which a change does not have the effect that it should. Each field is looked at until it has it once.
    async fn unkept(&mut self, edit: &Edit, prepared: &Prepared) -> Result<Vec<String>, StoreError> {
        if prepared.wish.is_none() || prepared.before.is_none() {
            return Ok(Vec::new());
        }
        let names: Vec<String> = edit.changed().map(str::to_owned).collect();
        if names.iter().all(|name| self.seen.contains(name)) {
            return Ok(Vec::new());
        }
        let lost = self.lost(edit, prepared, !is_patch(prepared)).await?;
        if lost.is_empty() {
            self.seen.extend(names);
        }
        Ok(lost)
    }

    /// Looks at a new user, and learns which fields the service did not keep. Each field is looked at once.
    async fn learn_from_new(&mut self, account: &Account, id: &str) -> Result<(), StoreError> {
        let filled = account.fields.iter().filter(|(_, value)| !value.is_empty());
        let names: Vec<String> = filled.map(|(name, _)| format!("{name} of a new user")).collect();
        if names.iter().all(|name| self.seen.contains(name)) {
            return Ok(());
        }
        if let Some(there) = self.session.service.user(id).await? {
            let there = self.session.account(&there, &self.everybody.people, &[])?;
            let fields: Vec<&str> = account.fields.keys().map(|name| name.as_str()).collect();
            self.session.learn_dropped(&fields, account, &there);
            self.seen.extend(names);
        }
        Ok(())
    }

    /// The fields of a changed user that are not as the edit leaves them. What is lost of a user who was sent as a whole
    /// is not kept at all.
    async fn lost(
        &self,
        edit: &Edit,
        prepared: &Prepared,
        is_whole: bool,
    ) -> Result<Vec<String>, StoreError> {
        let id = prepared.before.as_ref().map(|user| text(user, "id")).unwrap_or_default();
        let (Some(there), Some(after)) = (self.session.service.user(id).await?, &edit.after) else {
            return Ok(Vec::new());
        };
        let there = self.session.account(&there, &self.everybody.people, &[])?;
        let names = edit.changed().filter(|name| !(self.session.role_groups && *name == "roles"));
        let lost: Vec<&str> = names.filter(|name| !are_same(name, &there, after)).collect();
        if is_whole {
            self.session.learn_dropped(&lost, after, &there);
        }
        Ok(lost.into_iter().map(str::to_owned).collect())
    }

    /// Makes a change by PUT that PATCH refused, for the reason `words`, or did not make; keeps to PUT if that works.
    async fn put_instead(
        &self,
        edit: &Edit,
        prepared: &Prepared,
        words: Option<String>,
    ) -> Result<Result<Value, Outcome>, StoreError> {
        let id = prepared.before.as_ref().map(|user| text(user, "id")).unwrap_or_default();
        let Some(user) = self.session.service.user(id).await? else {
            return Ok(Err(Outcome::Failed(words.unwrap_or_else(|| "the user is gone".to_owned()))));
        };
        let mut after = user.clone();
        if let Some(account) = &edit.after
            && let Err(hindrance) = self.fill(&mut after, account, edit.changed())
        {
            return Ok(Err(match hindrance {
                Hindrance::Told(outcome) => outcome,
                Hindrance::Later(words) => Outcome::Failed(words),
            }));
        }
        let wish = self.put_wish(&user, &after);
        match (self.session.service.ask(&wish).await, words) {
            (Ok(answer), _) => {
                let lost = self.lost(edit, prepared, true).await?;
                if lost.is_empty() {
                    self.session.service.give_up_patch();
                    return Ok(Ok(answer));
                }
                Ok(Err(unkept_in_words(&lost)))
            }
            (Err(Fault::Fatal(error)), _) => Err(error),
            (Err(_), Some(words)) => Ok(Err(Outcome::Failed(words))),
            (Err(Fault::Refused { words, .. } | Fault::Unclear(words)), None) => {
                Ok(Err(Outcome::Failed(format!("PATCH has no effect, and PUT is refused: {words}"))))
            }
        }
    }

    /// The id of a user after a change; `None` if the user does not exist.
    async fn id_after(
        &self,
        prepared: &Prepared,
        answer: &Value,
        login: &str,
    ) -> Result<Option<String>, StoreError> {
        if let Some(user) = &prepared.before {
            return Ok(Some(text(user, "id").to_owned()));
        }
        match id_of(answer) {
            Some(id) => Ok(Some(id)),
            None => Ok(self.session.service.called(login).await?.map(|user| text(&user, "id").to_owned())),
        }
    }

    /// The standing of an edit against the current user.
    fn judge(&self, edit: &Edit, there: Option<&Resource>) -> Result<Standing, StoreError> {
        let account = match there {
            None => None,
            Some(user) => {
                let id = text(user, "id");
                let is_in = |group: &&Group| group.members.contains(id);
                let groups = self.everybody.groups.iter().filter(is_in);
                let roles: Vec<&str> = groups.map(|group| group.name.as_str()).collect();
                Some(self.session.account(user, &self.everybody.people, &roles)?)
            }
        };
        let found = standings(std::slice::from_ref(edit), account.as_slice(), &[""; 0]);
        Ok(found.into_iter().next().unwrap_or(Standing::Made))
    }

    /// Checks whether a change without a response was made; returns the fault if not.
    async fn look(&self, edit: &Edit, prepared: &Prepared) -> Result<Result<(), String>, StoreError> {
        let service = &self.session.service;
        let there = match (&prepared.before, &prepared.after) {
            (Some(user), _) => service.user(text(user, "id")).await?,
            (None, Some(user)) => service.called(text(user, "userName")).await?,
            (None, None) => None,
        };
        let is_made = match (&there, &edit.after) {
            // Groups are set later, so only the link of a new user is compared.
            (Some(user), Some(account)) if prepared.before.is_none() => {
                let link = account.link.as_ref().map(ToString::to_string).unwrap_or_default();
                text(user, "externalId").eq_ignore_ascii_case(&link)
            }
            // Only what the edit concerns is compared: others may have written the rest.
            (Some(user), Some(account)) => {
                let there = self.session.account(user, &self.everybody.people, &[])?;
                let mut names = edit.changed().filter(|name| !(self.session.role_groups && *name == "roles"));
                names.all(|name| there.value(name) == account.value(name))
            }
            (there, _) => there.is_none() && edit.after.is_none(),
        };
        Ok(if is_made { Ok(()) } else { Err("; it was not made".to_owned()) })
    }

    /// Undoes a change of a user whose remaining steps were refused.
    async fn take_back(&self, id: &str, prepared: &Prepared) -> Result<(), String> {
        let service = &self.session.service;
        let words = |fault: Fault| match fault {
            Fault::Refused { words, .. } | Fault::Unclear(words) => words,
            Fault::Fatal(error) => error.to_string(),
        };
        let Some(before) = &prepared.before else {
            let path = format!("Users/{}", escaped(id));
            let wish = Wish { method: Method::DELETE, path, body: None, version: None };
            return service.ask(&wish).await.map(|_| ()).map_err(words);
        };
        let Ok(Some(now)) = service.user(id).await else { return Err("the user cannot be read".to_owned()) };
        if sendable(&now) == sendable(before) {
            return Ok(());
        }
        service.ask(&self.wish(&now, before)).await.map(|_| ()).map_err(words)
    }
}

/// The outcome of a change that was accepted, and lost in these fields.
fn unkept_in_words(lost: &[String]) -> Outcome {
    Outcome::Failed(format!("the service accepts {} and does not keep it", lost.join(", ")))
}

/// Whether a change was requested by PATCH.
fn is_patch(prepared: &Prepared) -> bool {
    prepared.wish.as_ref().is_some_and(|wish| wish.method == Method::PATCH)
}

/// The id of a new user, from the response to a single or bulk request.
fn id_of(answer: &Value) -> Option<String> {
    let object = answer.as_object()?;
    if let Some(id) = find(object, "id").and_then(Value::as_str) {
        return Some(id.to_owned());
    }
    let location = find(object, "location").and_then(Value::as_str)?;
    location.rsplit('/').next().filter(|id| !id.is_empty()).map(str::to_owned)
}
