//! Evaluating a filter over entries (RFC 4511 §4.5.1.7): true, false or undefined.
//!
//! A [`Matcher`] is a filter prepared for one set of [`Entries`](crate::ldap::entry::Entries): its values are
//! normalised, its attributes looked up. Evaluation walks a flat list with jumps; it neither recurses nor allocates
//! for values that are plain lower-case text.

use super::{Filter, Item, Octets, SmolStr};
use crate::ldap::entry::{Entry, NameId, Names};
use crate::ldap::name::{Ava, Dn, DnKey, Rdn};
use crate::ldap::schema::{Rule, Schema, Use, compare, equals, has_pieces, prepare, prepare_piece};
use std::borrow::Cow;
use std::cmp::Ordering;
use std::collections::HashSet;

/// The three values of a filter (RFC 4511 §4.5.1.7).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Truth {
    /// The entry matches.
    True,
    /// The entry does not match.
    False,
    /// Neither: an attribute, a matching rule or a value is not known. Such an entry is not selected.
    Undefined,
}

impl Truth {
    fn of(yes: bool) -> Truth {
        if yes { Truth::True } else { Truth::False }
    }

    fn and(self, other: Truth) -> Truth {
        match (self, other) {
            (Truth::False, _) | (_, Truth::False) => Truth::False,
            (Truth::True, Truth::True) => Truth::True,
            _ => Truth::Undefined,
        }
    }
}

impl std::ops::Not for Truth {
    type Output = Truth;

    fn not(self) -> Truth {
        match self {
            Truth::True => Truth::False,
            Truth::False => Truth::True,
            Truth::Undefined => Truth::Undefined,
        }
    }
}

/// Matching rules beyond the standard: all of the given bits, or any of them, set in an integer.
pub(super) const BIT_AND: (&str, &str) = ("1.2.840.113556.1.4.803", "integerBitAndMatch");
pub(super) const BIT_OR: (&str, &str) = ("1.2.840.113556.1.4.804", "integerBitOrMatch");
/// The matching rule that follows names of entries through any number of links.
pub(super) const CHAIN: &str = "1.2.840.113556.1.4.1941";

/// Follows a name-valued attribute, for the chain rule.
pub trait Chain {
    /// Every entry that reaches `target` by following `attribute` one or more times; `None` if that is not known.
    fn reaching(&self, attribute: &str, target: &DnKey) -> Option<HashSet<DnKey>>;
}

/// What a filter is evaluated against.
#[derive(Clone, Copy)]
pub struct Ground<'g> {
    /// The attributes known.
    pub schema: &'g Schema,
    /// The attribute descriptions of the entries to be tested.
    pub names: &'g Names,
    /// Follows links for the chain rule; without it, that rule is undefined.
    pub chain: Option<&'g dyn Chain>,
}

impl std::fmt::Debug for Ground<'_> {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Ground").field("chain", &self.chain.is_some()).finish_non_exhaustive()
    }
}

impl Ground<'_> {
    fn chain(self, attribute: &str, value: &[u8]) -> Option<Test> {
        let target = Dn::parse(std::str::from_utf8(value).ok()?).ok()?.key();
        self.chain?.reaching(attribute, &target).map(Test::Reaches)
    }
}

/// A filter prepared for one set of entries.
#[derive(Debug)]
pub struct Matcher {
    steps: Vec<Step>,
}

#[derive(Debug)]
enum Step {
    /// Joins the steps up to `end`.
    Join {
        join: Join,
        end: usize,
    },
    Item(Prepared),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Join {
    And,
    Or,
    Not,
}

/// One comparison, prepared.
#[derive(Debug)]
struct Prepared {
    /// The descriptions whose values are compared; usually one.
    ids: Vec<NameId>,
    /// The matching rule.
    rule: Rule,
    test: Test,
    /// With `:dn`, the attribute type whose values in the entry's own name count too; empty for every type.
    in_dn: Option<SmolStr>,
}

#[derive(Debug)]
enum Test {
    Undefined,
    Present,
    Equal(Vec<u8>),
    AtLeast(Vec<u8>),
    AtMost(Vec<u8>),
    Pieces {
        initial: Vec<u8>,
        any: Vec<Vec<u8>>,
        last: Vec<u8>,
    },
    /// One of several values: a class and its subclasses, by names and OIDs.
    OneOf(Vec<Vec<u8>>),
    /// Less than a value (RFC 4517 §4.2, an ordering rule named in a filter).
    Below(Vec<u8>),
    EveryBit(i64),
    SomeBit(i64),
    /// The entry itself is one of these (chain rule).
    Reaches(HashSet<DnKey>),
}

impl Matcher {
    /// Prepares `filter` for entries that share `names`. The chain rule is undefined.
    #[must_use]
    pub fn new(filter: &Filter, schema: &Schema, names: &Names) -> Self {
        Self::on(filter, Ground { schema, names, chain: None })
    }

    /// Prepares `filter` for the entries and schema of `ground`.
    #[must_use]
    pub fn on(filter: &Filter, ground: Ground<'_>) -> Self {
        enum Work<'a> {
            Add(&'a Filter),
            End(usize),
        }
        let mut steps = Vec::new();
        let mut open = vec![Work::Add(filter)];
        while let Some(work) = open.pop() {
            let (join, parts) = match work {
                Work::End(at) => {
                    let now = steps.len();
                    if let Some(Step::Join { end, .. }) = steps.get_mut(at) {
                        *end = now;
                    }
                    continue;
                }
                Work::Add(Filter::Item(item)) => {
                    steps.push(Step::Item(Prepared::new(item, ground)));
                    continue;
                }
                Work::Add(Filter::And(parts)) => (Join::And, parts.as_slice()),
                Work::Add(Filter::Or(parts)) => (Join::Or, parts.as_slice()),
                Work::Add(Filter::Not(part)) => (Join::Not, std::slice::from_ref(&**part)),
            };
            open.push(Work::End(steps.len()));
            open.extend(parts.iter().rev().map(Work::Add));
            steps.push(Step::Join { join, end: 0 });
        }
        Self { steps }
    }

    /// Whether the filter is true for `entry`; undefined counts as false.
    #[must_use]
    pub fn matches(&self, entry: Entry<'_>) -> bool {
        self.truth(entry) == Truth::True
    }

    /// The filter's truth for `entry`.
    #[must_use]
    pub fn truth(&self, entry: Entry<'_>) -> Truth {
        if let [Step::Item(only)] = self.steps.as_slice() {
            return only.truth(entry);
        }
        // The open clauses: how each joins, where it ends, and its truth so far. An Or is an And of the opposites, so
        // one rule folds all three.
        let mut open: Vec<(Join, usize, Truth)> = Vec::with_capacity(8);
        let mut at = 0;
        loop {
            let mut done = match self.steps.get(at) {
                Some(Step::Join { join, end }) if *end > at + 1 => {
                    open.push((*join, *end, Truth::True));
                    at += 1;
                    continue;
                }
                Some(Step::Join { join, .. }) => Truth::of(*join == Join::And),
                Some(Step::Item(item)) => item.truth(entry),
                None => return Truth::Undefined,
            };
            at += 1;
            // Fold the result into the open clauses, and close those that end here.
            loop {
                let Some((join, end, so_far)) = open.last_mut() else { return done };
                *so_far = so_far.and(if *join == Join::And { done } else { !done });
                if *so_far == Truth::False {
                    at = *end;
                }
                if at < *end {
                    break;
                }
                done = if *join == Join::Or { !*so_far } else { *so_far };
                open.pop();
            }
        }
    }
}

impl Prepared {
    fn new(item: &Item, ground: Ground<'_>) -> Self {
        let Ground { schema, names, .. } = ground;
        let description = item.attribute().unwrap_or("");
        let known = schema.find(description);
        // The filter may say `surname` or `2.5.4.4` where the entries say `sn`, or `name` for both.
        let covered = schema.covered(description);
        let mut ids: Vec<NameId> =
            covered.iter().flat_map(|description| names.covered_by(description)).collect();
        // An attribute that entries have but the schema lacks compares as text; one that no entry has is undefined.
        let own = known.map_or(Some(Rule::CaseIgnore), |known| known.rule);
        let recognised = known.is_some() || !ids.is_empty();
        let is_ordered = known.is_none_or(|known| known.is_ordered);
        let has_pieces = known.is_none_or(|known| known.has_pieces);
        let mut rule = own.unwrap_or(Rule::Octets);
        let mut in_dn = None;
        let test = match item {
            Item::Present { .. } => Some(Test::Present),
            Item::Equal { value, .. } | Item::Approx { value, .. } => {
                own.and_then(|own| equal(own, value, schema))
            }
            Item::GreaterOrEqual { value, .. } => {
                own.filter(|_| is_ordered).and_then(|own| asserted(own, value)).map(Test::AtLeast)
            }
            Item::LessOrEqual { value, .. } => {
                own.filter(|_| is_ordered).and_then(|own| asserted(own, value)).map(Test::AtMost)
            }
            Item::Substrings { initial, any, last, .. } => own
                .filter(|_| has_pieces)
                .and_then(|own| pieces(own, initial.as_deref(), any, last.as_deref())),
            Item::Extensible { rule: named, value, dn, attribute } => {
                in_dn = dn.then(|| attribute.clone().unwrap_or_default());
                let own = own.filter(|_| attribute.is_some());
                let number = || std::str::from_utf8(value).ok()?.trim().parse::<i64>().ok();
                match named.as_deref() {
                    None => own.and_then(|own| equal(own, value, schema)),
                    Some(name) if is_rule(name, BIT_AND) && own == Some(Rule::Integer) => {
                        number().map(Test::EveryBit)
                    }
                    Some(name) if is_rule(name, BIT_OR) && own == Some(Rule::Integer) => {
                        number().map(Test::SomeBit)
                    }
                    Some(CHAIN) if own == Some(Rule::Name) => ground.chain(description, value),
                    Some(name) => Rule::named(name).and_then(|(chosen, purpose)| {
                        if attribute.is_none() {
                            ids = goes_with(chosen, schema, names);
                        } else if !own.is_some_and(|own| chosen.goes_with(own)) {
                            return None;
                        }
                        rule = chosen;
                        match purpose {
                            Use::Equality => equal(chosen, value, schema),
                            Use::Ordering => asserted(chosen, value).map(Test::Below),
                            Use::Substrings => None,
                        }
                    }),
                }
            }
        };
        ids.sort_unstable();
        ids.dedup();
        let chosen = matches!(item, Item::Extensible { attribute: None, .. });
        let test = test.filter(|_| recognised || chosen || in_dn.is_some()).unwrap_or(Test::Undefined);
        Self { ids, rule, test, in_dn }
    }

    fn truth(&self, entry: Entry<'_>) -> Truth {
        match &self.test {
            Test::Undefined => return Truth::Undefined,
            Test::Reaches(set) => {
                return Truth::of(Dn::parse(entry.dn()).is_ok_and(|dn| set.contains(&dn.key())));
            }
            _ => {}
        }
        let found = self.ids.iter().any(|id| entry.values_by_id(*id).any(|value| self.holds(value)));
        Truth::of(found || self.in_dn.as_deref().is_some_and(|wanted| self.holds_in_dn(wanted, entry)))
    }

    fn holds_in_dn(&self, wanted: &str, entry: Entry<'_>) -> bool {
        let Ok(dn) = Dn::parse(entry.dn()) else { return false };
        let counts = |ava: &&Ava| wanted.is_empty() || ava.attribute.eq_ignore_ascii_case(wanted);
        dn.rdns().iter().flat_map(Rdn::avas).filter(counts).any(|ava| self.holds(&ava.value))
    }

    fn holds(&self, value: &[u8]) -> bool {
        match &self.test {
            Test::Undefined | Test::Reaches(_) => false,
            Test::Present => true,
            Test::OneOf(wanted) => wanted.iter().any(|wanted| equals(self.rule, value, wanted)),
            Test::Below(wanted) => prepare(self.rule, value)
                .is_some_and(|value| compare(self.rule, &value, wanted) == Ordering::Less),
            Test::EveryBit(bits) => number(value).is_some_and(|number| number & bits == *bits),
            Test::SomeBit(bits) => number(value).is_some_and(|number| number & bits != 0),
            Test::Equal(wanted) => equals(self.rule, value, wanted),
            Test::AtLeast(wanted) => prepare(self.rule, value)
                .is_some_and(|value| compare(self.rule, &value, wanted) != Ordering::Less),
            Test::AtMost(wanted) => prepare(self.rule, value)
                .is_some_and(|value| compare(self.rule, &value, wanted) != Ordering::Greater),
            Test::Pieces { initial, any, last } => has_pieces(self.rule, value, initial, any, last),
        }
    }
}

fn number(value: &[u8]) -> Option<i64> {
    std::str::from_utf8(value).ok()?.parse().ok()
}

/// Whether `name` is the rule, by OID or by name.
pub(super) fn is_rule(name: &str, (oid, called): (&str, &str)) -> bool {
    name == oid || name.eq_ignore_ascii_case(called)
}

/// The normalised form of an assertion value.
fn asserted(rule: Rule, value: &[u8]) -> Option<Vec<u8>> {
    let sound = Some(value).filter(|value| !(rule.is_never_empty() && value.is_empty()));
    prepare(rule, sound?).map(Cow::into_owned)
}

fn equal(rule: Rule, value: &[u8], schema: &Schema) -> Option<Test> {
    let wanted = asserted(rule, value)?;
    if rule != Rule::ObjectIdentifier {
        return Some(Test::Equal(wanted));
    }
    // A short name stands for an OID; an unknown one stands for nothing (§4.2.26).
    let text = std::str::from_utf8(&wanted).ok()?;
    let class = schema.find_class(text).map(|class| schema.kinds_of(class));
    let spelled =
        class.as_ref().map(|kinds| kinds.iter().flat_map(|class| class.names.iter().chain([&class.oid])));
    let is_oid = text.starts_with(|first: char| first.is_ascii_digit());
    match spelled {
        Some(names) => Some(Test::OneOf(names.map(|name| name.to_ascii_lowercase().into_bytes()).collect())),
        None if schema.is_complete() && !is_oid => None,
        None => Some(Test::Equal(wanted)),
    }
}

/// The attributes of entries that a rule applies to, for a filter that names the rule alone.
fn goes_with(rule: Rule, schema: &Schema, names: &Names) -> Vec<NameId> {
    let own = |name: &str| schema.find(name).map_or(Some(Rule::CaseIgnore), |known| known.rule);
    names
        .iter()
        .filter(|(_, name)| own(name).is_some_and(|own| rule.goes_with(own)))
        .map(|(id, _)| id)
        .collect()
}

fn pieces(rule: Rule, initial: Option<&[u8]>, any: &[Octets], last: Option<&[u8]>) -> Option<Test> {
    let piece = |piece: &[u8]| prepare_piece(rule, piece).map(Cow::into_owned);
    let mut initial = piece(initial.unwrap_or_default())?;
    let mut last = piece(last.unwrap_or_default())?;
    // Leading and trailing blanks of a value are insignificant (RFC 4518 §2.6.1).
    if initial.first() == Some(&b' ') {
        initial.remove(0);
    }
    if last.last() == Some(&b' ') {
        last.pop();
    }
    let any = any.iter().map(|middle| piece(middle)).collect::<Option<Vec<_>>>()?;
    let any = any.into_iter().filter(|middle| !middle.is_empty()).collect();
    Some(Test::Pieces { initial, any, last })
}
