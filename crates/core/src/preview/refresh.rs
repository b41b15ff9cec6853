//! Logins and unique fields of people who are out and whose entry is still there: they follow the directory, so that
//! nobody waits for a value that the directory has given to somebody else.

use super::change::{FieldChange, FieldChanges};
use super::draft::Left;
use super::matching::Matching;
use super::origins;
use super::situation::{Chosen, Selected, drawn};
use crate::account::{Account, Form, folded};
use crate::draw::{Drawer, Drawn};
use crate::ldap::identity::Identity;
use crate::settings::rules::Write;
use std::borrow::Cow;

/// The place of somebody who is out: the index of the intake, and the index among its people if they are in a base.
type Place = (usize, Option<usize>);

impl<'a> Matching<'a> {
    /// The login and the unique fields of an account that the directory has otherwise for its person. A field that
    /// two intakes draw differently stays: nobody knows which of them the account is of. A value that the directory
    /// does not show any more is given up only if it shows it for somebody who is in.
    pub(super) fn refreshed(&self, account: &Account, link: &Identity, left: &[Left<'_>]) -> FieldChanges {
        let mut fields = FieldChanges::new();
        let places = self.places(account, link, left);
        let intakes = || places.iter().filter_map(|(at, _)| Some(self.parts.get(*at)?.intake));
        if places.is_empty() || intakes().any(|intake| !intake.leaving.refresh) {
            return fields;
        }
        for name in self.unique_names() {
            let old = account.field(name);
            let mut drawn = places.iter().map(|place| self.drawn_out(*place, link, name, old));
            let Some(Some(new)) = drawn.next() else { continue };
            let is_agreed = drawn.all(|other| other.as_deref() == Some(&*new));
            let is_written = intakes().all(|intake| match intake.fields.get(name).map(|rule| rule.write) {
                Some(Write::Always) => true,
                Some(Write::Empty) => old.is_empty(),
                Some(Write::Once) | None => false,
            });
            let mut kept = intakes().map(|intake| {
                let at = intake.fields.get_index_of(name);
                at.is_none_or(|at| self.emptied.keeps_field(self.parts, intake, at))
            });
            let mut is_lost = || new.is_empty() && (!self.is_drawn(name, old) || kept.any(|is_kept| is_kept));
            if is_written && is_agreed && old != new && !is_lost() {
                fields.insert(name.to_owned(), FieldChange::of(old, &new));
            }
        }
        fields
    }

    /// True if somebody who is in draws a value of a unique field.
    fn is_drawn(&self, name: &str, value: &str) -> bool {
        let drawn = self.drawn.get_or_init(|| {
            let of = |(part, one): &Chosen<'a>| {
                let names = self.unique_names().enumerate();
                let values = names.map(|(field, name)| (field, folded(drawn(*part, one, name)).into_owned()));
                values.collect::<Vec<_>>()
            };
            self.candidates.iter().flat_map(of).collect()
        });
        let field = self.unique_names().position(|unique| unique == name);
        field.is_some_and(|field| drawn.contains(&(field, folded(value).into_owned())))
    }

    /// Where a person who is out was seen.
    fn places(&self, account: &Account, link: &Identity, left: &[Left<'_>]) -> Vec<Place> {
        let parts = self.parts.iter().enumerate();
        if left.is_empty() {
            let is_there = |part: &Selected<'_>| {
                let (directory, settings) = (&part.intake.directory, self.settings);
                part.reading.elsewhere_of(link).is_some()
                    && origins::other(settings, self.memory, Some(account), link, directory).is_none()
            };
            return parts.filter(|(_, part)| is_there(part)).map(|(at, _)| (at, None)).collect();
        }
        let seen = |(at, part): (usize, &Selected<'_>)| {
            let own = left.iter().find(|(known, _)| std::ptr::eq(known.intake, part.intake));
            own.map(|(_, dropped)| (at, Some(dropped.person)))
        };
        parts.filter_map(seen).collect()
    }

    /// The value that an intake draws for somebody who is out; `None` if there is no reliable one, or a required one
    /// is missing.
    fn drawn_out(
        &self,
        (at, person): Place,
        link: &Identity,
        name: &str,
        present: &str,
    ) -> Option<Cow<'a, str>> {
        let part = self.parts.get(at)?;
        let field = part.intake.fields.get_index_of(name)?;
        let drawer = self.drawers.get(at)?.get_or_init(|| Drawer::new(part.intake, part.reading));
        let drawn = match person {
            Some(person) => drawer.field_beside(person, field, present),
            None => drawer.field_elsewhere(link, field, present),
        };
        let is_required = name == "login" || part.intake.fields.get(name).is_some_and(|rule| rule.required);
        match drawn {
            Drawn::Value(value, _) => match self.replies.and_then(|replies| replies.form(name, &value)) {
                None => Some(value),
                Some(Form::As(kept)) => Some(Cow::Owned(kept.to_string())),
                Some(Form::Unfit(_) | Form::Own) => None,
            },
            Drawn::Nothing if is_required => None,
            Drawn::Nothing => Some(Cow::Borrowed("")),
            Drawn::Open(_) => None,
        }
    }
}
