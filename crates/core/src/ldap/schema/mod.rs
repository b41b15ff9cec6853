//! What a directory knows of attributes: their types, rules, syntaxes and classes (RFC 4512 §4),
//! and how values are compared (RFC 4517 §4).
//!
//! A server's own subschema is read by [`Schema::read`]; where none can be read there is
//! [`Schema::builtin`], written as subschemas are, in `standard.ldif` and `controller.ldif`. No
//! I/O, no recursion: a type that is its own ancestor ends where it began.

mod definition;
mod matching;
mod rule;
#[cfg(test)]
mod tests;

pub use definition::{DefinitionError, LONGEST};
pub use matching::{compare, prepare};
pub(crate) use matching::{equals, has_pieces, prepare_piece};
pub use rule::{Rule, Use};

use crate::ldap::ldif;
use serde::Serialize;
use std::collections::HashMap;
use std::sync::OnceLock;

/// What kind of server answers, as far as it matters for defaults.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ServerKind {
    /// A domain controller (Active Directory, Samba).
    Controller,
    /// Anything else that speaks LDAPv3.
    #[default]
    Plain,
}

/// One attribute type (RFC 4512 §2.5.1, §4.1.2).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AttributeType {
    /// The numeric OID, or whatever the server puts in its place.
    pub oid: String,
    /// The short names, the usual one first.
    pub names: Vec<String>,
    /// What it is for, in the server's words.
    pub description: String,
    /// The type that this one is a kind of: a filter over that one looks at this one, too.
    pub superior: Option<String>,
    /// The equality rule that the definition names.
    pub equality: Option<String>,
    /// The ordering rule that it names.
    pub ordering: Option<String>,
    /// The substrings rule that it names.
    pub substrings: Option<String>,
    /// The syntax's OID that it names.
    pub syntax: Option<String>,
    /// Whether an entry has at most one value.
    pub single: bool,
    /// Whether it is returned only when asked for by name or by `+` (RFC 4512 §3.4).
    pub operational: bool,
    /// How two values are compared, its own rule or its superior's; none where it has no rule, or
    /// one that is not known here.
    pub rule: Option<Rule>,
    /// Whether `>=` and `<=` have a meaning for its values.
    pub is_ordered: bool,
    /// Whether a `*` inside a value has a meaning.
    pub has_pieces: bool,
}

impl AttributeType {
    /// The usual name.
    #[must_use]
    pub fn name(&self) -> &str {
        self.names.first().unwrap_or(&self.oid)
    }
}

/// One matching rule (RFC 4512 §4.1.3).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MatchingRule {
    /// The numeric OID.
    pub oid: String,
    /// The short names.
    pub names: Vec<String>,
    /// The OID of the syntax that a value to compare with has.
    pub syntax: String,
}

/// One syntax (RFC 4512 §4.1.5).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Syntax {
    /// The numeric OID.
    pub oid: String,
    /// What it is called.
    pub description: String,
}

/// What entries of a class are (RFC 4512 §2.4).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ClassKind {
    /// Only there for others to build on.
    Abstract,
    /// What an entry is.
    #[default]
    Structural,
    /// What an entry has besides.
    Auxiliary,
}

/// One class of entries (RFC 4512 §4.1.1).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ObjectClass {
    /// The numeric OID.
    pub oid: String,
    /// The short names.
    pub names: Vec<String>,
    /// The classes that this one is a kind of.
    pub superiors: Vec<String>,
    /// What entries of it are.
    pub kind: ClassKind,
    /// Attributes that each entry has.
    pub must: Vec<String>,
    /// Attributes that an entry may have.
    pub may: Vec<String>,
}

/// Something in a subschema that could not be used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// The beginning of the definition, or its OID.
    pub place: String,
    /// What is wrong with it.
    pub reason: String,
}

/// Definitions of each kind that are read of one server, at most; what comes behind is left out.
pub const MOST: usize = 100_000;
/// Problems that are kept.
const PROBLEMS: usize = 100;
/// A domain controller's objectCategory: a name by its syntax, but one that has short forms.
const CATEGORY: &str = "1.2.840.113556.1.4.782";

/// The definitions of the standards, as a subschema entry.
pub const STANDARD: &[u8] = include_bytes!("standard.ldif");
/// The definitions of a domain controller, as a subschema entry.
pub const CONTROLLER: &[u8] = include_bytes!("controller.ldif");

/// The one of these names that is most like one that is not known, if one is near.
#[must_use]
pub fn nearest<'n>(wanted: &str, names: impl IntoIterator<Item = &'n str>) -> Option<&'n str> {
    let wanted = wanted.to_ascii_lowercase();
    names
        .into_iter()
        .map(|name| (strsim::damerau_levenshtein(&wanted, &name.to_ascii_lowercase()), name))
        .filter(|(distance, name)| *distance <= 1 + name.len() / 5)
        .min()
        .map(|(_, name)| name)
}

/// What a directory knows of attributes.
#[derive(Clone, Debug, Default)]
pub struct Schema {
    types: Vec<AttributeType>,
    types_by_name: HashMap<String, usize>,
    /// For each type, those that are kinds of it, through any number of steps.
    below: Vec<Vec<usize>>,
    classes: Vec<ObjectClass>,
    classes_by_name: HashMap<String, usize>,
    rules: Vec<MatchingRule>,
    syntaxes: Vec<Syntax>,
    /// Whether a class that is not in it is not known (RFC 4517 §4.2.26), as with a server's own.
    is_complete: bool,
    problems: Vec<Problem>,
}

impl Schema {
    /// The attributes of the standards and, behind them, those of a domain controller that this
    /// job meets. Values are compared as the standards say.
    #[must_use]
    pub fn builtin() -> &'static Schema {
        static BUILTIN: OnceLock<Schema> = OnceLock::new();
        BUILTIN.get_or_init(|| Schema::from_files(ServerKind::Plain, STANDARD, CONTROLLER))
    }

    /// What is known without asking a server of this kind. A domain controller has other types
    /// under the same names, and compares values in its own manner.
    #[must_use]
    pub fn of(kind: ServerKind) -> &'static Schema {
        static CONTROLLERS: OnceLock<Schema> = OnceLock::new();
        match kind {
            ServerKind::Plain => Self::builtin(),
            ServerKind::Controller => {
                CONTROLLERS.get_or_init(|| Schema::from_files(ServerKind::Controller, CONTROLLER, STANDARD))
            }
        }
    }

    /// Reads the definitions that a server of this kind publishes: each with the attribute under
    /// which it stands, `attributeTypes`, `matchingRules`, `ldapSyntaxes` or `objectClasses`
    /// (RFC 4512 §4.2). What cannot be read is left out, and told by [`Schema::problems`].
    pub fn read<'t>(kind: ServerKind, definitions: impl IntoIterator<Item = (&'t str, &'t [u8])>) -> Self {
        let mut schema = Self { is_complete: true, ..Self::default() };
        for (attribute, value) in definitions {
            schema.add(attribute, value);
        }
        schema.finish(kind)
    }

    /// The same, with what is known of servers of this kind behind it: not everything is shown to everybody.
    #[must_use]
    pub fn filled(mut self, kind: ServerKind) -> Self {
        for more in &Self::of(kind).types {
            if !more.names.iter().chain([&more.oid]).any(|name| self.find(name).is_some()) {
                self.put(more.clone());
            }
        }
        self.finish(kind)
    }

    /// The same for a server that has these classes beside the known ones, and no others.
    #[must_use]
    pub fn with_classes<'n>(&self, classes: impl IntoIterator<Item = &'n str>) -> Self {
        let mut schema = Self { is_complete: true, ..self.clone() };
        for name in classes {
            if schema.find_class(name).is_none() {
                schema.put_class(ObjectClass { names: vec![name.to_owned()], ..ObjectClass::default() });
            }
        }
        schema
    }

    fn from_files(kind: ServerKind, first: &[u8], second: &[u8]) -> Self {
        let mut schema = Self::default();
        let texts = |file| ldif::records(file).filter_map(Result::ok).flat_map(|record| record.attributes);
        for (attribute, value) in texts(first) {
            schema.add(&attribute, &value);
        }
        let mut own = Self::default();
        texts(second).for_each(|(attribute, value)| own.add(&attribute, &value));
        for more in own.types {
            let known = more.names.iter().chain([&more.oid]).any(|name| schema.find(name).is_some());
            if !known {
                schema.put(more);
            }
        }
        for more in own.classes {
            if !more.names.iter().any(|name| schema.find_class(name).is_some()) {
                schema.put_class(more);
            }
        }
        if schema.rules.is_empty() {
            (schema.rules, schema.syntaxes) = (own.rules, own.syntaxes);
        }
        schema.finish(kind)
    }

    fn add(&mut self, attribute: &str, value: &[u8]) {
        let is = |name: &str| attribute.eq_ignore_ascii_case(name);
        let room = |count: usize| count < MOST;
        let text = String::from_utf8_lossy(value);
        let added = if is("attributeTypes") && room(self.types.len()) {
            AttributeType::parse(&text).map(|read| self.put(read))
        } else if is("objectClasses") && room(self.classes.len()) {
            ObjectClass::parse(&text).map(|read| self.put_class(read))
        } else if is("matchingRules") && room(self.rules.len()) {
            MatchingRule::parse(&text).map(|read| self.rules.push(read))
        } else if is("ldapSyntaxes") && room(self.syntaxes.len()) {
            Syntax::parse(&text).map(|read| self.syntaxes.push(read))
        } else {
            Ok(())
        };
        if let Err(error) = added {
            self.problem(&text, error.to_string());
        }
    }

    fn problem(&mut self, place: &str, reason: String) {
        if self.problems.len() < PROBLEMS {
            self.problems.push(Problem { place: place.chars().take(60).collect(), reason });
        }
    }

    /// Adds a type; the first of a name keeps it.
    fn put(&mut self, new: AttributeType) {
        let index = self.types.len();
        for name in new.names.iter().chain([&new.oid]) {
            self.types_by_name.entry(name.to_ascii_lowercase()).or_insert(index);
        }
        self.types.push(new);
    }

    fn put_class(&mut self, new: ObjectClass) {
        let index = self.classes.len();
        for name in new.names.iter().chain([&new.oid]) {
            self.classes_by_name.entry(name.to_ascii_lowercase()).or_insert(index);
        }
        self.classes.push(new);
    }

    /// Works out what each type has from its superiors, and which types are kinds of which.
    fn finish(mut self, kind: ServerKind) -> Self {
        let superior: Vec<Option<usize>> = self
            .types
            .iter()
            .map(|known| self.types_by_name.get(&known.superior.as_ref()?.to_ascii_lowercase()).copied())
            .collect();
        self.below = vec![Vec::new(); self.types.len()];
        for index in 0..self.types.len() {
            // From the type upwards; what was passed already is a circle.
            let mut line = vec![index];
            let mut at = index;
            while let Some(above) = superior.get(at).copied().flatten() {
                if line.contains(&above) || line.len() > 100 {
                    self.circle(index);
                    break;
                }
                if let Some(below) = self.below.get_mut(above) {
                    below.push(index);
                }
                line.push(above);
                at = above;
            }
            self.resolve(index, &line, kind);
        }
        self
    }

    fn circle(&mut self, index: usize) {
        let Some(name) = self.types.get(index).map(|known| known.name().to_owned()) else { return };
        self.problem(&name, "it is its own superior, through however many steps".to_owned());
    }

    /// The rules of a type, from the nearest one of its line that has any.
    fn resolve(&mut self, index: usize, line: &[usize], kind: ServerKind) {
        let types = || line.iter().filter_map(|at| self.types.get(*at));
        let named = |wanted: Use, pick: fn(&AttributeType) -> Option<&String>| {
            let name = types().find_map(pick)?;
            Rule::named(name).filter(|(_, purpose)| *purpose == wanted).map(|(rule, _)| rule)
        };
        let by_name = named(Use::Equality, |known| known.equality.as_ref());
        let is_ordered = named(Use::Ordering, |known| known.ordering.as_ref()).is_some();
        let has_pieces = named(Use::Substrings, |known| known.substrings.as_ref()).is_some();
        let names_rules = types().any(|known| known.equality.is_some());
        let by_syntax = types().find_map(|known| known.syntax.as_ref()).and_then(|oid| Rule::of_syntax(oid));
        let is_category = types().next().is_some_and(|known| known.oid == CATEGORY);
        // Only domain controllers have these, whose definitions never name a rule.
        let is_controllers = types().next().is_some_and(|known| known.oid.starts_with("1.2.840.113556."));
        let Some(own) = self.types.get_mut(index) else { return };
        // A controller goes by the syntax alone.
        let by_syntax =
            by_syntax.filter(|_| kind == ServerKind::Controller || (is_controllers && !names_rules));
        (own.rule, own.is_ordered, own.has_pieces) = match by_syntax {
            _ if is_category => (Some(Rule::Category), false, false),
            None => (by_name, is_ordered, has_pieces),
            Some(rule) => {
                // Marks matter where the standards rule.
                let plain = rule == Rule::Marks && kind == ServerKind::Plain;
                let has_order = rule.is_text() || matches!(rule, Rule::Integer | Rule::Time | Rule::Octets);
                (Some(if plain { Rule::CaseIgnore } else { rule }), has_order, rule.is_text())
            }
        };
    }

    /// The type of an attribute description: a name or an OID, in any case, with or without
    /// options.
    #[must_use]
    pub fn find(&self, description: &str) -> Option<&AttributeType> {
        let base = description.split(';').next().unwrap_or(description);
        self.types.get(*self.types_by_name.get(base.to_ascii_lowercase().as_str())?)
    }

    /// The class of a name or an OID.
    #[must_use]
    pub fn find_class(&self, name: &str) -> Option<&ObjectClass> {
        self.classes.get(*self.classes_by_name.get(name.to_ascii_lowercase().as_str())?)
    }

    /// A class, and every class that is a kind of it, through any number of others: an entry of one of these is of
    /// that class, too, whether its values say so or not (RFC 4512 §2.4).
    #[must_use]
    pub fn kinds_of(&self, class: &ObjectClass) -> Vec<&ObjectClass> {
        let is = |one: &ObjectClass, name: &str| {
            one.names.iter().chain([&one.oid]).any(|own| own.eq_ignore_ascii_case(name))
        };
        let mut kinds: Vec<&ObjectClass> = self.classes.iter().filter(|one| *one == class).collect();
        let mut rest: Vec<&ObjectClass> = self.classes.iter().filter(|one| *one != class).collect();
        loop {
            let is_below = |one: &&ObjectClass| {
                one.superiors.iter().any(|name| kinds.iter().any(|known| is(known, name)))
            };
            let (below, others): (Vec<_>, Vec<_>) = rest.into_iter().partition(is_below);
            if below.is_empty() {
                return kinds;
            }
            kinds.extend(below);
            rest = others;
        }
    }

    /// Every description that a comparison over this one looks at: the type by each of its names,
    /// and every type that is a kind of it (RFC 4512 §2.5.1), with the same options.
    #[must_use]
    pub fn covered(&self, description: &str) -> Vec<String> {
        let (base, options) = description.split_at(description.find(';').unwrap_or(description.len()));
        let mut names = vec![description.to_owned()];
        if let Some(index) = self.types_by_name.get(base.to_ascii_lowercase().as_str()) {
            let below = self.below.get(*index).into_iter().flatten();
            let types = [index].into_iter().chain(below).filter_map(|at| self.types.get(*at));
            names.extend(types.flat_map(|known| {
                known.names.iter().chain([&known.oid]).map(|name| format!("{name}{options}"))
            }));
        }
        names
    }

    /// The known attribute name that is most like one that is not known, if one is near.
    #[must_use]
    pub fn nearest(&self, wanted: &str) -> Option<&str> {
        nearest(wanted, self.types.iter().flat_map(|known| &known.names).map(String::as_str))
    }

    /// The known class that is most like one that is not known, if one is near.
    #[must_use]
    pub fn nearest_class(&self, wanted: &str) -> Option<&str> {
        nearest(wanted, self.classes.iter().flat_map(|known| &known.names).map(String::as_str))
    }

    /// Every attribute type, in the order in which they were read.
    pub fn types(&self) -> impl Iterator<Item = &AttributeType> {
        self.types.iter()
    }

    /// Every class, in the order in which they were read.
    pub fn classes(&self) -> impl Iterator<Item = &ObjectClass> {
        self.classes.iter()
    }

    /// Every matching rule that is published, in the order in which they were read.
    pub fn rules(&self) -> impl Iterator<Item = &MatchingRule> {
        self.rules.iter()
    }

    /// Every syntax that is published, in the order in which they were read.
    pub fn syntaxes(&self) -> impl Iterator<Item = &Syntax> {
        self.syntaxes.iter()
    }

    /// What could not be used, the first hundred.
    #[must_use]
    pub fn problems(&self) -> &[Problem] {
        &self.problems
    }

    /// Whether the server showed no attributes, so that nothing can be said of them.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.types.is_empty()
    }

    /// Whether a class that is not in it is one that the server does not know.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        self.is_complete && !self.classes.is_empty()
    }
}
