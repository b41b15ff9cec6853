//! The fields of an account before and after, as the rules of an intake draw them.

use super::change::{FieldChange, FieldChanges};
use super::matching::Matching;
use super::situation::Chosen;
use crate::account::{Account, State, folded};
use crate::draw::Proposal;
use crate::settings::rules::{LIST, Write};
use crate::settings::{Intake, OtherRoles};
use std::collections::BTreeSet;

impl Matching<'_> {
    /// The roles of an account made by hand that would become a person's though no rule gives them, unless the
    /// settings allow it. (An account that they name in `whose` is handed over on somebody's word.)
    pub(super) fn handed_over(&self, (part, candidate): Chosen<'_>, account: &Account) -> Option<String> {
        if part.intake.adopt_roles {
            return None;
        }
        let after = roles(part.intake, &candidate.proposal, account.field("roles"), |_| false);
        let rule = |role: &str| part.intake.roles.iter().position(|rule| rule.name == role);
        let is_given = |role: &&str| rule(role).is_some_and(|at| candidate.proposal.role(at) == Some(true));
        let kept: Vec<&str> =
            after.split(LIST).map(str::trim).filter(|role| !role.is_empty() && !is_given(role)).collect();
        (!kept.is_empty()).then(|| kept.join(", "))
    }

    /// The fields of a new account, or those in which an account differs.
    pub(super) fn fields(&self, chosen: Chosen<'_>, account: Option<&Account>) -> FieldChanges {
        let (_, candidate) = chosen;
        let Some(account) = account else { return new_fields(chosen) };
        let mut fields = self.differences(chosen, account);
        if account.link.as_ref() != Some(&candidate.identity) {
            let old = account.link.as_ref().map(|link| link.to_string());
            fields.insert("link".to_owned(), FieldChange { old, new: Some(candidate.identity.to_string()) });
        }
        if account.state == State::Suspended {
            fields.insert("state".to_owned(), FieldChange::of("suspended", "active"));
        }
        fields
    }

    /// The fields in which an account differs from what the rules draw.
    pub(super) fn differences(&self, (part, candidate): Chosen<'_>, account: &Account) -> FieldChanges {
        let proposal = &candidate.proposal;
        let mut fields: FieldChanges = FieldChanges::new();
        for (index, (name, rule)) in part.intake.fields.iter().enumerate() {
            let (old, new) = (account.field(name), proposal.value(index));
            let is_written = match rule.write {
                Write::Always => true,
                Write::Once => false,
                Write::Empty => old.is_empty(),
            };
            let is_caseless = || self.replies.is_some_and(|replies| replies.caseless.contains(name));
            let is_same = old == new
                || (rule.is_list() && items(old) == items(new))
                || (is_caseless() && folded(old) == folded(new));
            let is_kept = || new.is_empty() && self.emptied.keeps_field(self.parts, part.intake, index);
            if is_written && !is_same && proposal.open(index).is_none() && !is_kept() {
                fields.insert(name.clone(), FieldChange::of(old, new));
            }
        }
        if part.intake.roles.is_empty() {
            return fields;
        }
        let old = account.field("roles");
        let is_kept = |role| self.emptied.keeps_role(self.parts, part.intake, role);
        let new = roles(part.intake, proposal, old, is_kept);
        if old != new && items(old) != items(&new) {
            fields.insert("roles".to_owned(), FieldChange::of(old, &new));
        }
        fields
    }
}

/// The fields of a new account.
fn new_fields((part, candidate): Chosen<'_>) -> FieldChanges {
    let names = part.intake.fields.keys().enumerate();
    let mut fields: FieldChanges = names
        .map(|(index, name)| {
            let new = Some(candidate.proposal.value(index).to_owned());
            (name.clone(), FieldChange { old: None, new })
        })
        .collect();
    if !part.intake.roles.is_empty() {
        let new = Some(roles(part.intake, &candidate.proposal, "", |_| false));
        fields.insert("roles".to_owned(), FieldChange { old: None, new });
    }
    fields
}

/// The roles of an account after the change: those kept, in order, then the new ones.
fn roles(intake: &Intake, proposal: &Proposal<'_>, old: &str, is_kept: impl Fn(usize) -> bool) -> String {
    if intake.roles.is_empty() {
        return old.to_owned();
    }
    let has: Vec<&str> = old.split(LIST).map(str::trim).filter(|role| !role.is_empty()).collect();
    let rule = |role: &str| intake.roles.iter().position(|rule| rule.name == role);
    let stays = |role: &&&str| match rule(role) {
        // A role that cannot be decided is kept.
        Some(at) => proposal.role(at) != Some(false) || is_kept(at),
        None => intake.other_roles == OtherRoles::Keep,
    };
    let given = intake.roles.iter().enumerate().filter(|(at, _)| proposal.role(*at) == Some(true));
    let new = given.map(|(_, rule)| rule.name.as_str()).filter(|role| !has.contains(role));
    let roles: Vec<&str> = has.iter().filter(stays).copied().chain(new).collect();
    roles.join(&LIST.to_string())
}

/// The values of a multi-valued field, sorted.
fn items(list: &str) -> BTreeSet<&str> {
    list.split(LIST).map(str::trim).filter(|item| !item.is_empty()).collect()
}
