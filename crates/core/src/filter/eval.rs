//! Evaluating a filter over entries (RFC 4511 §4.5.1.7): true, false or undefined.
//!
//! A [`Matcher`] is a filter made ready for one set of [`Entries`](crate::entry::Entries): its
//! values are prepared, its attributes looked up. Evaluation walks a flat list with skips; it
//! neither recurses nor allocates for values that are plain lower-case text.

use super::{Filter, Item};
use crate::entry::{Entry, NameId, Names};
use crate::name::{Ava, Dn, Rdn};
use crate::schema::{Rule, Schema, compare, equals, has_pieces, prepare, prepare_piece};
use std::cmp::Ordering;

/// The three values of a filter (RFC 4511 §4.5.1.7).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Truth {
    /// The entry matches.
    True,
    /// The entry does not match.
    False,
    /// It cannot be told: an attribute, a rule or a value is not known. Such an entry is left out.
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

/// Matching rules that are named by OID in filters: every bit, or some bit, of a whole number.
const BIT_AND: &str = "1.2.840.113556.1.4.803";
const BIT_OR: &str = "1.2.840.113556.1.4.804";

/// A filter made ready for one set of entries.
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

/// One comparison, made ready.
#[derive(Debug)]
struct Prepared {
    /// The descriptions whose values are compared; mostly one.
    ids: Vec<NameId>,
    /// How values are compared.
    rule: Rule,
    test: Test,
    /// With `:dn`, the attribute type whose values in the entry's own name count, too; empty for
    /// every type.
    in_dn: Option<String>,
}

#[derive(Debug)]
enum Test {
    Undefined,
    Present,
    Equal(Vec<u8>),
    AtLeast(Vec<u8>),
    AtMost(Vec<u8>),
    Pieces { initial: Vec<u8>, any: Vec<Vec<u8>>, last: Vec<u8> },
    EveryBit(i64),
    SomeBit(i64),
}

impl Matcher {
    /// Makes `filter` ready for entries that share `names`.
    #[must_use]
    pub fn new(filter: &Filter, schema: &Schema, names: &Names) -> Self {
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
                    steps.push(Step::Item(Prepared::new(item, schema, names)));
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

    /// Whether the filter is true for `entry`; undefined counts as no.
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
        // What is open: how it joins, where it ends, and what it is so far. An Or is an And of
        // the opposites, so one rule folds all three.
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
            // Fold what is done into what is open, and close whatever ends here.
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
    fn new(item: &Item, schema: &Schema, names: &Names) -> Self {
        let description = item.attribute().unwrap_or("");
        let known = schema.find(description);
        let mut ids: Vec<NameId> = names.covered_by(description).collect();
        if let Some(known) = known {
            // The filter may say `surname` or `2.5.4.4` where the entries say `sn`.
            let options = description.find(';').and_then(|at| description.get(at..)).unwrap_or("");
            for name in known.names.iter().chain([&known.oid]) {
                ids.extend(names.covered_by(&format!("{name}{options}")));
            }
        }
        ids.sort_unstable();
        ids.dedup();
        // An attribute that the schema does not know but entries have compares as text; one that
        // nobody has is not known at all.
        let rule = known.map_or(Rule::CaseIgnore, |known| known.rule);
        let recognised = known.is_some() || !ids.is_empty();
        // Text has at least one character (RFC 4517 §3.3.6): an empty assertion is no value.
        let is_text = matches!(rule, Rule::CaseIgnore | Rule::CaseExact | Rule::Telephone);
        let asserted = |value: &[u8]| {
            let sound = Some(value).filter(|value| !(is_text && value.is_empty()));
            prepare(rule, sound?).map(std::borrow::Cow::into_owned)
        };
        let (test, in_dn) = match item {
            Item::Present { .. } => (Some(Test::Present), None),
            Item::Equal { value, .. } | Item::Approx { value, .. } => {
                (asserted(value).map(Test::Equal), None)
            }
            Item::GreaterOrEqual { value, .. } => {
                (asserted(value).filter(|_| rule.has_ordering()).map(Test::AtLeast), None)
            }
            Item::LessOrEqual { value, .. } => {
                (asserted(value).filter(|_| rule.has_ordering()).map(Test::AtMost), None)
            }
            Item::Substrings { initial, any, last, .. } => {
                (pieces(rule, initial.as_deref(), any, last.as_deref()), None)
            }
            Item::Extensible { rule: named, value, dn, attribute } => {
                let in_dn = dn.then(|| attribute.clone().unwrap_or_default());
                let number = || std::str::from_utf8(value).ok()?.trim().parse::<i64>().ok();
                let test = match named.as_deref() {
                    None => asserted(value).map(Test::Equal),
                    Some(BIT_AND) if rule == Rule::Integer => number().map(Test::EveryBit),
                    Some(BIT_OR) if rule == Rule::Integer => number().map(Test::SomeBit),
                    Some(named) => {
                        let chosen = text_rule(named).filter(|_| attribute.is_some());
                        let prepared = chosen.and_then(|rule| Some((rule, prepare(rule, value)?)));
                        if let Some((rule, value)) = prepared {
                            let test = Test::Equal(value.into_owned());
                            return Self { ids, rule, test, in_dn };
                        }
                        None
                    }
                };
                (test, in_dn)
            }
        };
        let test = test.filter(|_| recognised || in_dn.is_some()).unwrap_or(Test::Undefined);
        Self { ids, rule, test, in_dn }
    }

    fn truth(&self, entry: Entry<'_>) -> Truth {
        if matches!(self.test, Test::Undefined) {
            return Truth::Undefined;
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
            Test::Undefined => false,
            Test::Present => true,
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

/// The matching rules for text that a filter may name in place of the attribute's own.
fn text_rule(named: &str) -> Option<Rule> {
    match named.to_ascii_lowercase().as_str() {
        "caseignorematch" | "2.5.13.2" | "caseignoreia5match" | "1.3.6.1.4.1.1466.109.114.2" => {
            Some(Rule::CaseIgnore)
        }
        "caseexactmatch" | "2.5.13.5" | "caseexactia5match" | "1.3.6.1.4.1.1466.109.114.1" => {
            Some(Rule::CaseExact)
        }
        "integermatch" | "2.5.13.14" => Some(Rule::Integer),
        "distinguishednamematch" | "2.5.13.1" => Some(Rule::Name),
        "octetstringmatch" | "2.5.13.17" => Some(Rule::Octets),
        "booleanmatch" | "2.5.13.13" => Some(Rule::Boolean),
        "generalizedtimematch" | "2.5.13.27" => Some(Rule::Time),
        _ => None,
    }
}

fn pieces(rule: Rule, initial: Option<&[u8]>, any: &[Vec<u8>], last: Option<&[u8]>) -> Option<Test> {
    if !rule.has_substrings() {
        return None;
    }
    let piece = |piece: &[u8]| prepare_piece(rule, piece).map(std::borrow::Cow::into_owned);
    let mut initial = piece(initial.unwrap_or_default())?;
    let mut last = piece(last.unwrap_or_default())?;
    // Blanks at the outer ends of a value do not count (RFC 4518 §2.6.1).
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
