//! Why an entry does or does not match, clause by clause; and how many entries pass each clause.
//!
//! Clauses are numbered in the order of the text, a joining clause before its children. No recursion; memory is
//! linear in the number of clauses.

use super::{Filter, Ground, Matcher, Truth};
use crate::ldap::entry::Entry;
use crate::ldap::value::readable;
use serde::Serialize;

/// Maximum values shown for an attribute.
const SHOWN: usize = 5;

/// The kinds of clause.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum ClauseKind {
    /// True if every child is.
    And,
    /// True if at least one child is.
    Or,
    /// True if the child is false.
    Not,
    /// A comparison.
    Item,
}

/// One clause of a filter.
#[derive(Clone, Copy, Debug)]
pub struct Clause<'f> {
    /// The clause as a filter of its own.
    pub filter: &'f Filter,
    /// Depth of nesting; 0 for the whole filter.
    pub depth: usize,
    /// Number of the clause that contains it.
    pub parent: Option<usize>,
    /// Its kind.
    pub kind: ClauseKind,
}

impl Clause<'_> {
    /// The clause in words: a comparison as written, `all of` and the like for joining clauses.
    #[must_use]
    pub fn text(&self) -> String {
        match self.filter {
            Filter::And(parts) if parts.is_empty() => "(&)".to_owned(),
            Filter::Or(parts) if parts.is_empty() => "(|)".to_owned(),
            Filter::And(_) => "all of".to_owned(),
            Filter::Or(_) => "one of".to_owned(),
            Filter::Not(_) => "not".to_owned(),
            Filter::Item(item) => format!("({item})"),
        }
    }
}

impl Filter {
    /// Every clause, a joining one before its children.
    #[must_use]
    pub fn clauses(&self) -> Vec<Clause<'_>> {
        let mut clauses: Vec<Clause<'_>> = Vec::new();
        let mut open: Vec<(&Filter, usize, Option<usize>)> = vec![(self, 0, None)];
        while let Some((filter, depth, parent)) = open.pop() {
            let number = clauses.len();
            let (kind, parts) = match filter {
                Filter::And(parts) => (ClauseKind::And, parts.as_slice()),
                Filter::Or(parts) => (ClauseKind::Or, parts.as_slice()),
                Filter::Not(part) => (ClauseKind::Not, std::slice::from_ref(&**part)),
                Filter::Item(_) => (ClauseKind::Item, &[][..]),
            };
            open.extend(parts.iter().rev().map(|part| (part, depth + 1, Some(number))));
            clauses.push(Clause { filter, depth, parent, kind });
        }
        clauses
    }
}

/// One clause's truth for one entry.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Judged {
    /// The clause in words.
    pub clause: String,
    /// Depth of nesting; 0 for the whole filter.
    pub depth: usize,
    /// Its kind.
    pub kind: ClauseKind,
    /// Its truth.
    pub truth: Truth,
    /// The entry's values of the attribute compared, in readable form.
    pub values: Vec<String>,
    /// Number of further values.
    pub more: usize,
    /// Whether it belongs to the smallest set of clauses that decided the result.
    pub decides: bool,
}

/// Why an entry does or does not match: every clause, and the smallest set that decided.
#[must_use]
pub fn explain(filter: &Filter, entry: Entry<'_>, ground: Ground<'_>) -> Vec<Judged> {
    let clauses = filter.clauses();
    let truths: Vec<Truth> =
        clauses.iter().map(|clause| Matcher::on(clause.filter, ground).truth(entry)).collect();
    let deciding = deciding(&clauses, &truths);
    clauses
        .iter()
        .zip(truths)
        .enumerate()
        .map(|(number, (clause, truth))| {
            let attribute = match clause.filter {
                Filter::Item(item) => item.attribute(),
                _ => None,
            };
            let names = attribute.map(|name| ground.schema.covered(name)).unwrap_or_default();
            let all: Vec<String> = entry
                .attributes()
                .filter(|(have, _)| names.iter().any(|name| crate::ldap::entry::covers(name, have)))
                .flat_map(|(have, values)| values.map(move |value| readable(have, value)))
                .collect();
            Judged {
                clause: clause.text(),
                depth: clause.depth,
                kind: clause.kind,
                truth,
                more: all.len().saturating_sub(SHOWN),
                values: all.into_iter().take(SHOWN).collect(),
                decides: deciding.contains(&number),
            }
        })
        .collect()
}

/// The smallest set of clauses that fixes the result.
fn deciding(clauses: &[Clause<'_>], truths: &[Truth]) -> Vec<usize> {
    let truth = |number: usize| truths.get(number).copied().unwrap_or(Truth::Undefined);
    // The number of comparisons that decide each clause, and through which of its children. Worked out from the end,
    // since children follow their parent.
    let mut parts: Vec<Vec<usize>> = vec![Vec::new(); clauses.len()];
    for (number, clause) in clauses.iter().enumerate() {
        if let Some(list) = clause.parent.and_then(|parent| parts.get_mut(parent)) {
            list.push(number);
        }
    }
    let mut negated = vec![false; clauses.len()];
    for (number, clause) in clauses.iter().enumerate() {
        let above = clause.parent.and_then(|parent| Some((negated.get(parent)?, clauses.get(parent)?.kind)));
        let its = above.is_some_and(|(above, kind)| *above != (kind == ClauseKind::Not));
        if let Some(slot) = negated.get_mut(number) {
            *slot = its;
        }
    }
    let mut cost = vec![1_usize; clauses.len()];
    let mut through: Vec<Vec<usize>> = vec![Vec::new(); clauses.len()];
    for (number, clause) in clauses.iter().enumerate().rev() {
        let mine = parts.get(number).map_or(&[][..], Vec::as_slice);
        if mine.is_empty() {
            continue;
        }
        let cost_of = |part: usize| cost.get(part).copied().unwrap_or(1);
        // One child is enough if it alone fixes the result. An undefined clause excludes an entry like a false one,
        // or, under a negation, like a true one.
        let is_negated = negated.get(number).copied().unwrap_or(false);
        let enough = match (clause.kind, truth(number)) {
            (ClauseKind::Not, _) | (ClauseKind::And, Truth::False) | (ClauseKind::Or, Truth::True) => true,
            (ClauseKind::And, Truth::Undefined) => !is_negated,
            (ClauseKind::Or, Truth::Undefined) => is_negated,
            _ => false,
        };
        let same = |part: &usize| clause.kind == ClauseKind::Not || truth(*part) == truth(number);
        let alone = mine.iter().copied().filter(same).min_by_key(|part| (cost_of(*part), *part));
        let alone = alone.filter(|_| enough);
        let chosen = alone.map_or_else(|| mine.to_vec(), |part| vec![part]);
        let sum = chosen.iter().map(|part| cost_of(*part)).sum();
        if let (Some(cost), Some(slot)) = (cost.get_mut(number), through.get_mut(number)) {
            (*cost, *slot) = (sum, chosen);
        }
    }
    let mut deciding = Vec::new();
    let mut open = vec![0];
    while let Some(number) = open.pop() {
        match through.get(number).filter(|parts| !parts.is_empty()) {
            Some(parts) => open.extend(parts),
            None => deciding.push(number),
        }
    }
    deciding.sort_unstable();
    deciding
}

/// The number of entries that pass one clause.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Passed {
    /// The clause in words.
    pub clause: String,
    /// Depth of nesting; 0 for the whole filter.
    pub depth: usize,
    /// Its kind.
    pub kind: ClauseKind,
    /// Entries that pass the clause taken by itself.
    pub alone: usize,
    /// Entries that reach the clause: they passed its predecessors, or no earlier alternative has accepted them.
    pub reached: usize,
    /// Entries that reach the clause and pass it.
    pub passed: usize,
    /// Entries for which it is undefined: an attribute, a matching rule or a value is not known.
    pub undefined: usize,
}

/// Counts the entries that pass each clause, by itself and in its place.
#[must_use]
pub fn count<'e>(
    filter: &Filter,
    entries: impl IntoIterator<Item = Entry<'e>>,
    ground: Ground<'_>,
) -> Vec<Passed> {
    let clauses = filter.clauses();
    let matchers: Vec<Matcher> = clauses.iter().map(|clause| Matcher::on(clause.filter, ground)).collect();
    let mut counts: Vec<Passed> = clauses
        .iter()
        .map(|clause| Passed {
            clause: clause.text(),
            depth: clause.depth,
            kind: clause.kind,
            alone: 0,
            reached: 0,
            passed: 0,
            undefined: 0,
        })
        .collect();
    for entry in entries {
        let truths: Vec<Truth> = matchers.iter().map(|matcher| matcher.truth(entry)).collect();
        // Whether an entry still reaches the next child of each clause.
        let mut open = vec![true; clauses.len()];
        for (number, (clause, truth)) in clauses.iter().zip(&truths).enumerate() {
            let reached = clause.parent.is_none_or(|parent| open.get(parent).copied().unwrap_or(false));
            if let Some(own) = open.get_mut(number) {
                *own = reached;
            }
            let goes_on = match clause.parent.and_then(|parent| clauses.get(parent)).map(|parent| parent.kind)
            {
                Some(ClauseKind::And) => *truth == Truth::True,
                Some(ClauseKind::Or) => *truth != Truth::True,
                _ => true,
            };
            if let Some(parent) = clause.parent.and_then(|parent| open.get_mut(parent)) {
                *parent &= goes_on;
            }
            if let Some(count) = counts.get_mut(number) {
                count.alone += usize::from(*truth == Truth::True);
                count.undefined += usize::from(*truth == Truth::Undefined);
                count.reached += usize::from(reached);
                count.passed += usize::from(reached && *truth == Truth::True);
            }
        }
    }
    counts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ldap::entry::Entries;
    use crate::ldap::schema::Schema;
    use proptest::prelude::*;

    fn ground(entries: &Entries) -> Ground<'_> {
        Ground { schema: Schema::builtin(), names: entries.names(), chain: None }
    }

    fn museum() -> Entries {
        let mut entries = Entries::new();
        for (cn, department, mail) in [
            ("Ada", "Botany", "ada@x"),
            ("Olive", "Botany", ""),
            ("Rosa", "Registry", "rosa@x"),
            ("Gus", "", "gus@x"),
        ] {
            let mut list = vec![("cn", vec![cn.as_bytes()])];
            for (name, value) in [("department", department), ("mail", mail)] {
                if !value.is_empty() {
                    list.push((name, vec![value.as_bytes()]));
                }
            }
            entries.push(&format!("cn={cn}"), list);
        }
        entries
    }

    #[test]
    fn the_fewest_clauses_that_decided_are_named() {
        let entries = museum();
        for (filter, person, truth, deciding, why) in [
            ("(&(cn=*)(department=Botany)(mail=*))", 1, Truth::False, "(mail=*)", "one false part is enough"),
            (
                "(&(cn=*)(department=Botany))",
                0,
                Truth::True,
                "(cn=*) (department=Botany)",
                "all parts are needed",
            ),
            (
                "(|(department=Registry)(cn=Ada))",
                0,
                Truth::True,
                "(cn=Ada)",
                "one true alternative is enough",
            ),
            ("(|(cn=x)(cn=y))", 0, Truth::False, "(cn=x) (cn=y)", "no alternative was true"),
            ("(!(|(cn=Ada)(cn=x)))", 0, Truth::False, "(cn=Ada)", "what is negated"),
            ("(&(|(cn=x)(cn=y))(mail=*))", 1, Truth::False, "(mail=*)", "the shortest reason"),
            (
                "(&(nonsense=1)(mail=*))",
                0,
                Truth::Undefined,
                "(nonsense=1)",
                "an attribute that nobody knows",
            ),
            ("(&(nonsense=1)(mail=*))", 1, Truth::False, "(mail=*)", "false is stronger than undefined"),
            ("(&)", 0, Truth::True, "(&)", "absolutely true"),
            ("(cn=Ada)", 0, Truth::True, "(cn=Ada)", "one comparison"),
        ] {
            let parsed = Filter::parse(filter).unwrap();
            let judged = explain(&parsed, entries.get(person).unwrap(), ground(&entries));
            let decides: Vec<&str> =
                judged.iter().filter(|one| one.decides).map(|one| one.clause.as_str()).collect();
            assert_eq!((judged[0].truth, decides.join(" ").as_str()), (truth, deciding), "{why}: {filter}");
        }
    }

    #[test]
    fn the_values_that_were_compared_are_shown() {
        let entries = museum();
        let filter = Filter::parse("(&(department=Registry)(commonName=Ada))").unwrap();
        let judged = explain(&filter, entries.get(0).unwrap(), ground(&entries));
        let values: Vec<_> = judged.iter().map(|one| one.values.concat()).collect();
        assert_eq!(values, ["", "Botany", "Ada"], "by another name of the type, too");
    }

    #[test]
    fn the_clause_that_loses_everybody_is_seen() {
        let entries = museum();
        let filter =
            Filter::parse("(&(cn=*)(|(department=Botany)(department=Registry))(mail=*@y)(!(cn=Ada)))")
                .unwrap();
        let told: Vec<_> = count(&filter, entries.iter(), ground(&entries))
            .into_iter()
            .map(|one| (one.clause, one.alone, one.reached, one.passed))
            .collect();
        let expected = [
            ("all of", 0, 4, 0),
            ("(cn=*)", 4, 4, 4),
            ("one of", 3, 4, 3),
            ("(department=Botany)", 2, 4, 2),
            ("(department=Registry)", 1, 2, 1),
            ("(mail=*@y)", 0, 3, 0),
            ("not", 3, 0, 0),
            ("(cn=Ada)", 1, 0, 0),
        ];
        assert_eq!(
            told,
            expected.map(|(clause, alone, reached, passed)| (clause.to_owned(), alone, reached, passed))
        );
    }

    fn any_filter() -> impl Strategy<Value = Filter> {
        let leaf = prop_oneof![
            ("(cn|mail|department|nonsense)", "(Ada|Botany|rosa@x)")
                .prop_map(|(name, value)| Filter::equal(&name, value)),
            "(cn|mail|nonsense)".prop_map(|name| Filter::present(&name)),
        ];
        leaf.prop_recursive(4, 24, 4, |inner| {
            prop_oneof![
                proptest::collection::vec(inner.clone(), 0..4).prop_map(Filter::And),
                proptest::collection::vec(inner.clone(), 0..4).prop_map(Filter::Or),
                inner.prop_map(|part| Filter::Not(Box::new(part))),
            ]
        })
    }

    proptest! {
        /// What decides is enough: with everything else taken for its opposite, the whole stays.
        #[test]
        fn the_deciding_clauses_alone_decide(filter in any_filter(), person in 0usize..4) {
            let entries = museum();
            let entry = entries.get(person).unwrap();
            let judged = explain(&filter, entry, ground(&entries));
            let clauses = filter.clauses();
            let whole = judged[0].truth;
            for others in [Truth::True, Truth::False, Truth::Undefined] {
                // From the end; comparisons that do not decide get another truth.
                let mut truths: Vec<Truth> =
                    judged.iter().map(|one| if one.decides { one.truth } else { others }).collect();
                for (number, clause) in clauses.iter().enumerate().rev() {
                    let parts: Vec<Truth> = clauses
                        .iter()
                        .enumerate()
                        .filter(|(_, part)| part.parent == Some(number))
                        .map(|(part, _)| truths[part])
                        .collect();
                    if parts.is_empty() {
                        continue;
                    }
                    let all = |wanted| parts.iter().all(|part| *part == wanted);
                    let any = |wanted| parts.contains(&wanted);
                    truths[number] = match clause.kind {
                        ClauseKind::And if any(Truth::False) => Truth::False,
                        ClauseKind::And if all(Truth::True) => Truth::True,
                        ClauseKind::Or if any(Truth::True) => Truth::True,
                        ClauseKind::Or if all(Truth::False) => Truth::False,
                        ClauseKind::Not => !parts[0],
                        _ => Truth::Undefined,
                    };
                }
                // A clause that is not true excludes an entry, whether false or undefined.
                prop_assert_eq!(truths[0] == Truth::True, whole == Truth::True, "{}", filter);
            }
        }

        /// Counting agrees with matching.
        #[test]
        fn as_many_pass_the_whole_as_it_matches(filter in any_filter()) {
            let entries = museum();
            let matcher = Matcher::new(&filter, Schema::builtin(), entries.names());
            let matched = entries.iter().filter(|entry| matcher.matches(*entry)).count();
            let counted = count(&filter, entries.iter(), ground(&entries));
            prop_assert_eq!((counted[0].alone, counted[0].passed, counted[0].reached), (matched, matched, 4));
        }
    }
}
