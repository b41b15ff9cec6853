//! What a directory knows about attributes: their types, matching rules, syntaxes and classes (RFC 4512 §4), and how
//! values are compared (RFC 4517 §4).
//!
//! [`Schema::read`] parses a server's own subschema; without one there is [`Schema::builtin`], written in the same
//! notation in `standard.ldif` and `controller.ldif`. No I/O, no recursion: a type that is its own ancestor ends
//! where it began.

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

/// The kind of server, as far as it affects defaults.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ServerKind {
    /// A domain controller (Active Directory, Samba).
    Controller,
    /// Any other LDAPv3 server.
    #[default]
    Plain,
}

/// One attribute type (RFC 4512 §2.5.1, §4.1.2).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AttributeType {
    /// The numeric OID, or the server's substitute for it.
    pub oid: String,
    /// The short names, the usual one first.
    pub names: Vec<String>,
    /// The description, in the server's words.
    pub description: String,
    /// The supertype: a filter on it matches this type, too.
    pub superior: Option<String>,
    /// The equality rule named in the definition.
    pub equality: Option<String>,
    /// The ordering rule named in it.
    pub ordering: Option<String>,
    /// The substrings rule named in it.
    pub substrings: Option<String>,
    /// The OID of the syntax named in it.
    pub syntax: Option<String>,
    /// Whether an entry has at most one value.
    pub single: bool,
    /// Whether it is returned only on request, by name or by `+` (RFC 4512 §3.4).
    pub operational: bool,
    /// How two values are compared, by its own rule or its supertype's; `None` without a rule, or with an unknown
    /// one.
    pub rule: Option<Rule>,
    /// Whether `>=` and `<=` apply to its values.
    pub is_ordered: bool,
    /// Whether `*` applies to its values.
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
    /// The OID of the syntax of an assertion value.
    pub syntax: String,
}

/// One syntax (RFC 4512 §4.1.5).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Syntax {
    /// The numeric OID.
    pub oid: String,
    /// The description.
    pub description: String,
}

/// The kinds of class (RFC 4512 §2.4).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ClassKind {
    /// A base for other classes.
    Abstract,
    /// An entry's main class.
    #[default]
    Structural,
    /// An addition to an entry's main class.
    Auxiliary,
}

/// One class of entries (RFC 4512 §4.1.1).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ObjectClass {
    /// The numeric OID.
    pub oid: String,
    /// The short names.
    pub names: Vec<String>,
    /// The superclasses.
    pub superiors: Vec<String>,
    /// Its kind.
    pub kind: ClassKind,
    /// Required attributes.
    pub must: Vec<String>,
    /// Optional attributes.
    pub may: Vec<String>,
}

/// A definition in a subschema that could not be used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// The beginning of the definition, or its OID.
    pub place: String,
    /// The fault.
    pub reason: String,
}

/// Maximum definitions of each kind read from one server; the rest is ignored.
pub const MOST: usize = 100_000;
/// Maximum problems kept.
const PROBLEMS: usize = 100;
/// A domain controller's objectCategory: a name by its syntax, but with short forms.
const CATEGORY: &str = "1.2.840.113556.1.4.782";

/// The definitions of the standards, as a subschema entry.
pub const STANDARD: &[u8] = include_bytes!("standard.ldif");
/// The definitions of a domain controller, as a subschema entry.
pub const CONTROLLER: &[u8] = include_bytes!("controller.ldif");

/// The closest of these names to an unknown one, if any is close.
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

/// What a directory knows about attributes.
#[derive(Clone, Debug, Default)]
pub struct Schema {
    types: Vec<AttributeType>,
    types_by_name: HashMap<String, usize>,
    /// The direct and indirect subtypes of each type.
    below: Vec<Vec<usize>>,
    classes: Vec<ObjectClass>,
    classes_by_name: HashMap<String, usize>,
    rules: Vec<MatchingRule>,
    syntaxes: Vec<Syntax>,
    /// Whether a class that it lacks is unknown to the server (RFC 4517 §4.2.26), as with a server's own schema.
    is_complete: bool,
    /// The server compares by syntax where a type names no rule, as 389 Directory Server does.
    goes_by_syntax: bool,
    problems: Vec<Problem>,
}

impl Schema {
    /// The standard attributes, and those of a domain controller that this job needs. Values are compared by the
    /// standards' rules.
    #[must_use]
    pub fn builtin() -> &'static Schema {
        static BUILTIN: OnceLock<Schema> = OnceLock::new();
        BUILTIN.get_or_init(|| Schema::from_files(ServerKind::Plain, STANDARD, CONTROLLER))
    }

    /// The schema assumed for a server of this kind. A domain controller has other types under the same names, and
    /// compares values in its own way.
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

    /// Reads a server's published definitions, each given with its attribute: `attributeTypes`, `matchingRules`,
    /// `ldapSyntaxes` or `objectClasses` (RFC 4512 §4.2). Definitions that cannot be parsed are left out, and listed
    /// by [`Schema::problems`].
    pub fn read<'t>(kind: ServerKind, definitions: impl IntoIterator<Item = (&'t str, &'t [u8])>) -> Self {
        let mut schema = Self { is_complete: true, ..Self::default() };
        for (attribute, value) in definitions {
            schema.add(attribute, value);
        }
        schema.finish(kind)
    }

    /// The schema with gaps filled from the one assumed for this kind: a server may hide definitions from some users.
    #[must_use]
    pub fn filled(mut self, kind: ServerKind) -> Self {
        for more in &Self::of(kind).types {
            if !more.names.iter().chain([&more.oid]).any(|name| self.find(name).is_some()) {
                self.put(more.clone());
            }
        }
        self.finish(kind)
    }

    /// The schema of a server that compares values by their syntax where a type names no rule.
    #[must_use]
    pub fn by_syntax(self, kind: ServerKind) -> Self {
        Self { goes_by_syntax: true, ..self }.finish(kind)
    }

    /// The schema of a server that has these classes beside the known ones, and no others.
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

    /// Adds a type; of two with the same name the first one wins.
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

    /// Works out the inherited properties of each type, and its subtypes.
    fn finish(mut self, kind: ServerKind) -> Self {
        let superior: Vec<Option<usize>> = self
            .types
            .iter()
            .map(|known| self.types_by_name.get(&known.superior.as_ref()?.to_ascii_lowercase()).copied())
            .collect();
        self.below = vec![Vec::new(); self.types.len()];
        for index in 0..self.types.len() {
            // Walks up from the type; a type already visited closes a circle.
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

    /// The rules of a type, from its nearest ancestor with any.
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
        // Types that only domain controllers have; their definitions never name a rule.
        let is_controllers = types().next().is_some_and(|known| known.oid.starts_with("1.2.840.113556."));
        // A domain controller compares by syntax alone, and some servers where a type names no rule.
        let is_asked =
            kind == ServerKind::Controller || (is_controllers && !names_rules) || self.goes_by_syntax;
        let by_syntax = match (by_syntax.filter(|_| is_asked), by_name) {
            (Some(_), Some(rule)) if self.goes_by_syntax => Some(rule),
            (by_syntax, _) => by_syntax,
        };
        let Some(own) = self.types.get_mut(index) else { return };
        (own.rule, own.is_ordered, own.has_pieces) = match by_syntax {
            _ if is_category => (Some(Rule::Category), false, false),
            None => (by_name, is_ordered, has_pieces),
            Some(rule) => {
                // Marks on letters count wherever the standards apply.
                let plain = rule == Rule::Marks && kind == ServerKind::Plain;
                let has_order = rule.is_text() || matches!(rule, Rule::Integer | Rule::Time | Rule::Octets);
                (Some(if plain { Rule::CaseIgnore } else { rule }), has_order, rule.is_text())
            }
        };
    }

    /// The type of an attribute description: a name or an OID, in any case, with or without options.
    #[must_use]
    pub fn find(&self, description: &str) -> Option<&AttributeType> {
        let base = description.split(';').next().unwrap_or(description);
        self.types.get(*self.types_by_name.get(base.to_ascii_lowercase().as_str())?)
    }

    /// The class with this name or OID.
    #[must_use]
    pub fn find_class(&self, name: &str) -> Option<&ObjectClass> {
        self.classes.get(*self.classes_by_name.get(name.to_ascii_lowercase().as_str())?)
    }

    /// A class and all of its direct and indirect subclasses: an entry of one of these belongs to the class, whether
    /// its values say so or not (RFC 4512 §2.4).
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

    /// Every description that a comparison on this one applies to: the type by each of its names, and every subtype
    /// (RFC 4512 §2.5.1), with the same options.
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

    /// The closest known attribute name to an unknown one, if any is close.
    #[must_use]
    pub fn nearest(&self, wanted: &str) -> Option<&str> {
        nearest(wanted, self.types.iter().flat_map(|known| &known.names).map(String::as_str))
    }

    /// The closest known class to an unknown one, if any is close.
    #[must_use]
    pub fn nearest_class(&self, wanted: &str) -> Option<&str> {
        nearest(wanted, self.classes.iter().flat_map(|known| &known.names).map(String::as_str))
    }

    /// Every attribute type, in the order of reading.
    pub fn types(&self) -> impl Iterator<Item = &AttributeType> {
        self.types.iter()
    }

    /// Every class, in the order of reading.
    pub fn classes(&self) -> impl Iterator<Item = &ObjectClass> {
        self.classes.iter()
    }

    /// Every published matching rule, in the order of reading.
    pub fn rules(&self) -> impl Iterator<Item = &MatchingRule> {
        self.rules.iter()
    }

    /// Every published syntax, in the order of reading.
    pub fn syntaxes(&self) -> impl Iterator<Item = &Syntax> {
        self.syntaxes.iter()
    }

    /// Definitions that could not be used; the first hundred.
    #[must_use]
    pub fn problems(&self) -> &[Problem] {
        &self.problems
    }

    /// Whether the server showed no attribute types, so that nothing can be said about them.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.types.is_empty()
    }

    /// Whether a class that it lacks is unknown to the server.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        self.is_complete && !self.classes.is_empty()
    }
}
