//! Drawing accounts: every rule of an intake applied to every person of a reading.

use super::{Drawn, MissingField, Open, Proposal};
use crate::account::Account;
use crate::graph::{GroupPath, Reach};
use crate::ldap::entry::{Entry, NameId, Names, Values};
use crate::ldap::filter::{Filter, Matcher};
use crate::ldap::identity::Identity;
use crate::ldap::name::{Dn, DnKey};
use crate::reading::{Followed, Reading};
use crate::settings::Intake;
use crate::settings::rules::{Choice, Condition, Fault, FieldRule, LIST, RoleRule, ValueSource};
use indexmap::IndexMap;
use smallvec::SmallVec;
use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::HashMap;

/// The result of a condition.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Holds {
    /// It holds.
    Yes,
    /// It does not hold.
    No,
    /// Unknown: a group was not read to its end, or may list another name of theirs.
    Unknown,
}

/// The rules, prepared for one set of entries.
struct Ready {
    fields: Vec<Vec<ReadyChoice>>,
    roles: Vec<ReadyCondition>,
}

/// One choice: its condition, and the descriptions of its attributes.
struct ReadyChoice {
    condition: ReadyCondition,
    from: Vec<NameId>,
}

/// One condition, prepared.
struct ReadyCondition {
    filter: Option<Matcher>,
    /// The filter tests an attribute that nobody shows, though people had it.
    is_hidden: bool,
    groups: Vec<DnKey>,
    under: Vec<DnKey>,
}

impl Ready {
    fn new(
        rules: &IndexMap<String, FieldRule>,
        roles: &[RoleRule],
        reading: &Reading,
        names: &Names,
    ) -> Self {
        let schema = reading.schema();
        let is_hidden = |filter: &Filter| filter.attributes().any(|name| reading.hides_attribute(name));
        let condition = |condition: &Condition| ReadyCondition {
            is_hidden: condition.when.as_ref().is_some_and(is_hidden),
            filter: condition.when.as_ref().map(|filter| Matcher::new(filter, schema, names)),
            groups: condition.in_group.iter().map(Dn::key).collect(),
            under: condition.under.iter().map(Dn::key).collect(),
        };
        let choice = |choice: &Choice| {
            let from = match &choice.source {
                ValueSource::Attributes(list) => {
                    list.iter().flat_map(|name| names.covered_by(name)).collect()
                }
                ValueSource::Value(_) | ValueSource::Join(_) => Vec::new(),
            };
            ReadyChoice { condition: condition(&choice.condition), from }
        };
        let choices = |rule: &FieldRule| rule.choices.iter().map(choice).collect();
        Self {
            fields: rules.values().map(choices).collect(),
            roles: roles.iter().map(|role| condition(&role.condition)).collect(),
        }
    }
}

/// A group that a condition refers to.
struct Deciding {
    /// Its members.
    reach: Reach,
    /// Whether it may have members that were not seen.
    is_hidden: bool,
}

/// One entry with its attributes looked up for all rules, and the data for its conditions.
struct Place<'r, 'd> {
    entry: Entry<'r>,
    attributes: SmallVec<[(NameId, Values<'r>); 16]>,
    key: &'d DnKey,
    ready: &'d Ready,
}

impl<'r, 'd> Place<'r, 'd> {
    fn new(entry: Entry<'r>, key: &'d DnKey, ready: &'d Ready) -> Self {
        Self { entry, attributes: entry.attributes_by_id().collect(), key, ready }
    }
}

/// Draws the fields and roles of people in one reading.
pub struct Drawer<'r> {
    rules: &'r IndexMap<String, FieldRule>,
    roles: &'r [RoleRule],
    reading: &'r Reading,
    people: Ready,
    followed: Ready,
    /// The rules for people who are in no base; few are ever drawn.
    elsewhere: OnceCell<Ready>,
    groups: HashMap<DnKey, Deciding>,
    login: usize,
}

impl std::fmt::Debug for Drawer<'_> {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Drawer").field("groups", &self.groups.len()).finish_non_exhaustive()
    }
}

impl<'r> Drawer<'r> {
    /// Prepares the intake's rules.
    #[must_use]
    pub fn new(intake: &'r Intake, reading: &'r Reading) -> Self {
        let graph = reading.graph();
        let (rules, roles) = (&intake.fields, intake.roles.as_slice());
        let groups = intake.deciding_groups().into_iter().map(|group| {
            let key = group.key();
            let reach = graph.reach([&key]);
            let is_hidden = reading.hides_members_of(&key, &reach);
            (key, Deciding { reach, is_hidden })
        });
        Self {
            people: Ready::new(rules, roles, reading, reading.people().names()),
            followed: Ready::new(rules, roles, reading, reading.followed_names()),
            elsewhere: OnceCell::new(),
            groups: groups.collect(),
            login: rules.get_index_of("login").unwrap_or(0),
            rules,
            roles,
            reading,
        }
    }

    /// The names drawn for the groups to be imported, in the order of [`Reading::application_groups`].
    pub fn names_of_groups(rules: &'r IndexMap<String, FieldRule>, reading: &'r Reading) -> Vec<Drawn<'r>> {
        let entries = reading.application_groups();
        let ready = || Ready::new(rules, &[], reading, entries.names());
        let (people, followed, elsewhere) = (ready(), ready(), OnceCell::new());
        let groups = HashMap::new();
        let drawer = Self { rules, roles: &[], reading, people, followed, elsewhere, groups, login: 0 };
        let drawn = |(at, entry)| {
            let key = reading.application_group_key(at)?;
            Some(drawer.rule(&Place::new(entry, key, &drawer.people), 0, false))
        };
        entries.iter().enumerate().map(|one| drawn(one).unwrap_or(Drawn::Nothing)).collect()
    }

    fn person(&self, person: usize) -> Option<Place<'r, '_>> {
        let (entry, key) = (self.reading.people().get(person)?, self.reading.key(person)?);
        Some(Place::new(entry, key, &self.people))
    }

    /// Draws every field and role of the person at this index of [`Reading::people`].
    ///
    /// # Errors
    /// The first required field without a value.
    pub fn draw(&self, person: usize) -> Result<Proposal<'r>, MissingField> {
        let place = self.person(person);
        let mut values = Vec::with_capacity(self.rules.len());
        let (mut open, mut others) = (Vec::new(), Vec::new());
        for (at, (name, rule)) in self.rules.iter().enumerate() {
            let why = match self.drawn(place.as_ref(), at) {
                Drawn::Value(value, choice) => {
                    let more = place.as_ref().map(|place| self.others(place, at, choice)).unwrap_or_default();
                    others.extend((!more.is_empty()).then_some((at, more)));
                    values.push(Some(value));
                    continue;
                }
                Drawn::Nothing => {
                    let from = rule.from_attributes().join(" or ");
                    if from.is_empty() {
                        "has no value".to_owned()
                    } else {
                        format!("has no value (from {from})")
                    }
                }
                Drawn::Open(why) => {
                    let words = why.in_words();
                    open.push((at, why));
                    words
                }
            };
            if rule.required {
                return Err(MissingField { field: name.clone(), why });
            }
            values.push(None);
        }
        let roles = (0..self.roles.len()).map(|role| self.role(person, role)).collect();
        let (values, open, others) = (values.into(), open.into(), others.into());
        Ok(Proposal { values, open, roles, login: self.login, others })
    }

    /// The login that a person would have, in the form in which logins are compared.
    #[must_use]
    pub fn login(&self, person: usize) -> Option<String> {
        match self.field(person, self.login) {
            Drawn::Value(login, _) => Some(Account::login_key(&login)),
            Drawn::Nothing | Drawn::Open(_) => None,
        }
    }

    /// The result of the rule at `field` for one person.
    #[must_use]
    pub fn field(&self, person: usize, field: usize) -> Drawn<'r> {
        self.drawn(self.person(person).as_ref(), field)
    }

    /// The result of the rule at `field` for one person whose account has the value `present`: if the attribute has
    /// several values, and that is one of them, it is kept.
    #[must_use]
    pub fn field_beside(&self, person: usize, field: usize, present: &str) -> Drawn<'r> {
        self.beside(self.person(person).as_ref(), field, present)
    }

    /// The same for a person who is in no base.
    #[must_use]
    pub fn field_elsewhere(&self, person: &Identity, field: usize, present: &str) -> Drawn<'r> {
        let Some((at, key)) = self.reading.elsewhere_of(person) else { return Drawn::Nothing };
        let entries = self.reading.elsewhere();
        let ready =
            self.elsewhere.get_or_init(|| Ready::new(self.rules, self.roles, self.reading, entries.names()));
        let place = entries.get(at).map(|entry| Place::new(entry, key, ready));
        self.beside(place.as_ref(), field, present)
    }

    fn beside(&self, place: Option<&Place<'r, '_>>, field: usize, present: &str) -> Drawn<'r> {
        match (self.drawn(place, field), place) {
            (Drawn::Value(value, choice), Some(place)) => {
                let is_one = self.others(place, field, choice).iter().any(|other| other == present);
                Drawn::Value(if is_one { Cow::Owned(present.to_owned()) } else { value }, choice)
            }
            (drawn, _) => drawn,
        }
    }

    fn drawn(&self, place: Option<&Place<'r, '_>>, field: usize) -> Drawn<'r> {
        place.map_or(Drawn::Nothing, |place| self.rule(place, field, true))
    }

    /// Whether a person has the role at `role` of the settings; `None` if that is not known.
    #[must_use]
    pub fn role(&self, person: usize, role: usize) -> Option<bool> {
        let place = self.person(person)?;
        match self.holds(place.ready.roles.get(role)?, &place) {
            Holds::Yes => Some(true),
            Holds::No => Some(false),
            Holds::Unknown => None,
        }
    }

    /// The path from a group in a condition to a person; empty if the person is not a member.
    #[must_use]
    pub fn path(&self, person: usize, group: &Dn) -> GroupPath {
        match (self.groups.get(&group.key()), self.reading.key(person)) {
            (Some(group), Some(key)) => group.reach.path(self.reading.graph(), key),
            _ => GroupPath::default(),
        }
    }

    fn holds(&self, condition: &ReadyCondition, place: &Place<'_, '_>) -> Holds {
        let ReadyCondition { filter, is_hidden, groups, under } = condition;
        if filter.is_none() && groups.is_empty() && under.is_empty() {
            return Holds::Yes;
        }
        if *is_hidden {
            return Holds::Unknown;
        }
        if filter.as_ref().is_some_and(|filter| !filter.matches(place.entry)) {
            return Holds::No;
        }
        if !under.is_empty() && !under.iter().any(|top| place.key.is_within(top)) {
            // A place that is misspelt, or has another name by now, has nobody below it.
            let is_hidden = under.iter().any(|top| self.reading.hides_place(top));
            return if is_hidden { Holds::Unknown } else { Holds::No };
        }
        let graph = self.reading.graph();
        let deciding = || groups.iter().filter_map(|group| self.groups.get(group));
        if groups.is_empty() || deciding().any(|group| group.reach.contains(graph, place.key)) {
            return Holds::Yes;
        }
        if deciding().any(|group| group.is_hidden) || self.reading.is_entry_moving(place.entry) {
            return Holds::Unknown;
        }
        Holds::No
    }

    fn rule(&self, place: &Place<'r, '_>, field: usize, may_follow: bool) -> Drawn<'r> {
        let Some((_, rule)) = self.rules.get_index(field) else { return Drawn::Nothing };
        let Some(ready) = place.ready.fields.get(field) else { return Drawn::Nothing };
        for (at, (choice, ready)) in rule.choices.iter().zip(ready).enumerate() {
            match self.holds(&ready.condition, place) {
                Holds::No => continue,
                Holds::Unknown => {
                    let what = choice.condition.in_words();
                    let why = match self.reading.is_entry_moving(place.entry) {
                        true => format!("{what} may list another name, which they had a moment ago"),
                        false => format!("{what} was not read to its end"),
                    };
                    return Drawn::Open(Open::Unknown(why));
                }
                Holds::Yes => {}
            }
            match self.choice(rule, (choice, ready), place, may_follow) {
                Ok(Some(value)) => return Drawn::Value(value, at),
                Ok(None) => {}
                Err(open) => return Drawn::Open(open),
            }
        }
        let hides = |name: &str| self.reading.hides_attribute(name);
        let mut from = rule.choices.iter().flat_map(|choice| choice.source.attributes());
        match from.find(|name| self.reading.source().is_catalog || hides(name)) {
            Some(name) => Drawn::Open(Open::Unknown(format!("{name} may be hidden"))),
            None => Drawn::Nothing,
        }
    }

    /// The other values of the attribute that gave a field its value, as the field would have them.
    fn others(&self, place: &Place<'r, '_>, field: usize, choice: usize) -> Vec<String> {
        let rule = self.rules.get_index(field).map(|(_, rule)| rule);
        let ready = place.ready.fields.get(field).and_then(|choices| choices.get(choice));
        let (Some(rule), Some(ready)) = (rule, ready) else { return Vec::new() };
        let Some(choice) = rule.choices.get(choice).filter(|choice| !choice.shape.every) else {
            return Vec::new();
        };
        let of = |wanted: &NameId| place.attributes.iter().find(|(id, _)| id == wanted);
        let Some((_, values)) = ready.from.iter().find_map(of) else { return Vec::new() };
        if values.clone().nth(1).is_none() {
            return Vec::new();
        }
        let text = |value| self.value(rule, choice, value, true).ok().flatten().map(Cow::into_owned);
        values.clone().filter_map(text).collect()
    }

    /// The value of one choice; `None` if it gives none.
    fn choice(
        &self,
        rule: &FieldRule,
        (choice, ready): (&'r Choice, &ReadyChoice),
        place: &Place<'r, '_>,
        may_follow: bool,
    ) -> Result<Option<Cow<'r, str>>, Open> {
        let entry = place.entry;
        let one = |value: &'r [u8]| self.value(rule, choice, value, may_follow);
        match &choice.source {
            ValueSource::Value(fixed) => one(fixed.as_bytes()),
            ValueSource::Join(join) => {
                let first = |name: &str| {
                    let texts = entry.values(name).filter_map(|value| std::str::from_utf8(value).ok());
                    texts.map(str::trim).find(|text| !text.is_empty())
                };
                let Some(text) = join.fill(first) else { return Ok(None) };
                let value = self.value(rule, choice, text.as_bytes(), may_follow);
                value.map(|value| value.map(|value| Cow::Owned(value.into_owned())))
            }
            ValueSource::Attributes(_) => {
                let mut fault = None;
                let mut every = Vec::new();
                for wanted in &ready.from {
                    for (_, values) in place.attributes.iter().filter(|(id, _)| id == wanted) {
                        for value in values.clone() {
                            match one(value) {
                                Ok(None) => {}
                                Ok(Some(text)) if choice.shape.every => every.push(text),
                                Ok(Some(text)) => return Ok(Some(text)),
                                // Another value may be usable.
                                Err(open) => drop(fault.get_or_insert(open)),
                            }
                        }
                    }
                }
                match fault {
                    Some(open) if choice.shape.every || every.is_empty() => Err(open),
                    _ => {
                        // Directories store values in no particular order.
                        every.sort_unstable();
                        every.dedup();
                        Ok((!every.is_empty()).then(|| Cow::Owned(every.join(&LIST.to_string()))))
                    }
                }
            }
        }
    }

    /// One value after every step of the choice.
    fn value<'v>(
        &self,
        rule: &FieldRule,
        choice: &'v Choice,
        value: &'v [u8],
        may_follow: bool,
    ) -> Result<Option<Cow<'v, str>>, Open>
    where
        'r: 'v,
    {
        let Some(mut text) = choice.shape.read(value).map_err(Open::Fault)? else { return Ok(None) };
        if let Some(field) = &choice.shape.follow {
            match self.follow(&text, field, may_follow)? {
                Some(theirs) => text = theirs,
                None => return Ok(None),
            }
        }
        let Some(text) = choice.shape.cut(text).map_err(Open::Fault)? else { return Ok(None) };
        let fault = |why: String| Err(Open::Fault(Fault { value: text.to_string(), why }));
        if let Some(odd) = unusable(&text, rule.unique || self.is_login(rule)) {
            return fault(format!("contains an invisible character (U+{:04X})", u32::from(odd)));
        }
        if let Some(longest) = rule.longest
            && text.len() > longest
            && text.chars().count() > longest
        {
            return fault(format!("is longer than {longest} characters"));
        }
        if let Some(pattern) = rule.pattern.as_ref().filter(|pattern| !pattern.fits(&text)) {
            return fault(format!("does not match the pattern {}", pattern.text()));
        }
        if choice.shape.every && text.contains(LIST) {
            return fault(format!("contains {LIST}, which separates values"));
        }
        Ok(Some(text))
    }

    fn is_login(&self, rule: &FieldRule) -> bool {
        self.rules.get_index(self.login).is_some_and(|(_, login)| std::ptr::eq(login, rule))
    }

    /// A field of the entry that a value names.
    fn follow(&self, name: &str, field: &str, may_follow: bool) -> Result<Option<Cow<'r, str>>, Open> {
        let (Some(field), true) = (self.rules.get_index_of(field), may_follow) else {
            return Ok(None);
        };
        let dn = Dn::parse(name).map_err(|_| {
            Open::Fault(Fault { value: name.to_owned(), why: "is not the name of an entry".to_owned() })
        })?;
        let key = dn.key();
        let drawn = match self.reading.index_of(&key) {
            Some(person) => self.person(person).map(|place| self.rule(&place, field, false)),
            None => match self.reading.followed(&key) {
                Followed::Entry(entry) => {
                    Some(self.rule(&Place::new(entry, &key, &self.followed), field, false))
                }
                Followed::Gone => None,
                Followed::Unknown => {
                    return Err(Open::Unknown(format!("the entry {dn} was not read")));
                }
            },
        };
        match drawn {
            Some(Drawn::Value(value, _)) => Ok(Some(value)),
            Some(Drawn::Open(open @ Open::Unknown(_))) => Err(open),
            // A fault in that entry's own field is reported with that entry.
            Some(Drawn::Nothing | Drawn::Open(Open::Fault(_) | Open::Unfit(_) | Open::Kept)) | None => {
                Ok(None)
            }
        }
    }
}

/// A character that no field may contain: no list could be read again with it. What identifies an account may contain
/// nothing invisible, since it would look like another's.
fn unusable(text: &str, identifies: bool) -> Option<char> {
    if text.is_ascii() && !text.bytes().any(|byte| byte.is_ascii_control()) {
        return None;
    }
    let is_invisible = |one: char| {
        one.is_control()
            || matches!(one, '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}')
            || matches!(one, '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
    };
    text.chars().find(|one| matches!(one, '\0' | '\u{feff}') || (identifies && is_invisible(*one)))
}
