//! JSON documents. Each names its format and version; keys are added, never changed or removed.

use crate::check::CheckStep;
use crate::survey::{Finding, Survey, Tree};
use serde_json::{Value, json};
use webtaxon_core::graph::Above;
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::advice::Advice;
use webtaxon_core::ldap::filter::{Judged, Passed, Repaired};
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::value::readable;
use webtaxon_core::membership::{Difference, Nest, Ways};
use webtaxon_core::preview::compare::Comparison;
use webtaxon_core::preview::why::Why;
use webtaxon_core::preview::{Preview, Question};
use webtaxon_core::reading::Reading;

/// A preview, as `webtaxon.preview/1`.
#[must_use]
pub fn preview(preview: &Preview) -> Value {
    json!(preview)
}

/// A comparison of settings, as `webtaxon.compare/1`.
#[must_use]
pub fn comparison(comparison: &Comparison) -> Value {
    let side = |preview: &Preview, people: usize| {
        json!({
            "people": people,
            "accounts": preview.accounts,
            "counts": preview.counts(),
            "brakes": preview.brakes,
            "gaps": preview.gaps,
        })
    };
    json!({
        "format": "webtaxon.compare/1",
        "whole": comparison.is_whole(),
        "now": side(&comparison.now, comparison.people.0),
        "then": side(&comparison.then, comparison.people.1),
        "come_in": comparison.come_in,
        "go_out": comparison.go_out,
        "differ": comparison.differ,
        "fates": comparison.fates,
        "groups": comparison.groups,
    })
}

/// The explanation for one person or account, as `webtaxon.why/1`.
#[must_use]
pub fn why(why: &Why) -> Value {
    json!({
        "format": "webtaxon.why/1",
        "intake": why.intake,
        "person": why.dn,
        "name": why.name,
        "whole": why.whole,
        "selected": why.selected,
        "steps": why.steps,
        "fields": why.fields,
        "roles": why.roles,
        "account": why.account,
        "untouched": why.untouched,
        "change": why.change,
        "also": why.also,
        "held": why.held,
        "claims": why.claims,
        "groups": why.groups,
    })
}

/// Clashes with both sides and the ways to settle them, as `webtaxon.settle/1`.
#[must_use]
pub fn questions(questions: &[Question]) -> Value {
    json!({ "format": "webtaxon.settle/1", "questions": questions })
}

/// The steps of a check, as `webtaxon.check/1`.
#[must_use]
pub fn check(steps: &[CheckStep]) -> Value {
    json!({ "format": "webtaxon.check/1", "steps": steps })
}

/// Where people and groups are, and one entry, as `webtaxon.browse/1`.
#[must_use]
pub fn browse(trees: &[Tree], entry: Option<Entry<'_>>) -> Value {
    let entry = entry.map(|entry| {
        let values = |(name, values): (&str, webtaxon_core::ldap::entry::Values<'_>)| {
            let shown: Vec<String> = values.map(|value| readable(name, value)).collect();
            (name.to_owned(), Value::from(shown))
        };
        let secret =
            |name: &str| name.eq_ignore_ascii_case("userPassword") || name.eq_ignore_ascii_case("unicodePwd");
        let attributes = entry.attributes().filter(|(name, _)| !secret(name)).map(values);
        json!({ "dn": entry.dn(), "attributes": attributes.collect::<serde_json::Map<_, _>>() })
    });
    json!({
        "format": "webtaxon.browse/1",
        "entry": entry,
        "containers": trees.iter().flat_map(|tree| &tree.containers).collect::<Vec<_>>(),
        "references": trees.iter().flat_map(|tree| &tree.references).collect::<Vec<_>>(),
        "short": trees.iter().find_map(|tree| tree.short.clone()),
    })
}

/// The people and groups found, as `webtaxon.browse/1`.
#[must_use]
pub fn found(found: &[Finding], more: bool) -> Value {
    json!({ "format": "webtaxon.browse/1", "found": found, "more": more })
}

/// The members of a group, as `webtaxon.members/1`: each with the path from the group, the tree of groups, and what
/// is broken.
#[must_use]
pub fn members(nest: &Nest<'_>, reading: &Reading) -> Value {
    json!({
        "format": "webtaxon.members/1",
        "group": nest.group(),
        "whole": reading.gaps().is_empty(),
        "gaps": reading.gaps(),
        "members": nest.people(),
        "tree": nest.tree(),
        "broken": nest.broken(),
    })
}

/// The differences between a nest and its earlier state, as `webtaxon.since/1`.
#[must_use]
pub fn since(nest: &Nest<'_>, [then, now]: [&Reading; 2], difference: &Difference) -> Value {
    json!({
        "format": "webtaxon.since/1",
        "group": nest.group(),
        "since": then.source().at,
        "whole": then.gaps().is_empty() && now.gaps().is_empty(),
        "gaps": then.gaps().iter().chain(now.gaps()).collect::<Vec<_>>(),
        "came": difference.came,
        "went": difference.went,
        "groups": difference.groups,
    })
}

/// All groups of one person, as `webtaxon.groups/1`.
#[must_use]
pub fn groups(person: &str, groups: &[Above], reading: &Reading) -> Value {
    json!({
        "format": "webtaxon.groups/1",
        "person": person,
        "whole": reading.gaps().is_empty(),
        "gaps": reading.gaps(),
        "groups": groups,
    })
}

/// The paths from a group to one person, as `webtaxon.ways/1`.
#[must_use]
pub fn ways(group: &Dn, person: &Dn, ways: &Ways, reading: &Reading) -> Value {
    json!({
        "format": "webtaxon.ways/1",
        "group": group.to_string(),
        "person": person.to_string(),
        "whole": reading.gaps().is_empty(),
        "gaps": reading.gaps(),
        "ways": ways.ways,
        "all": ways.all,
    })
}

/// The attributes of people, as `webtaxon.fields/1`.
#[must_use]
pub fn fields(survey: &Survey) -> Value {
    let good: serde_json::Map<String, Value> =
        survey.suggestions().map(|(what, facts)| (what.to_owned(), facts.attribute.clone().into())).collect();
    json!({
        "format": "webtaxon.fields/1",
        "people": survey.people,
        "fields": survey.fields,
        "good_for": good,
        "short": survey.short,
    })
}

/// A filter, as `webtaxon.filter/1`; with entries, their number, how many pass each clause, and who is selected; with
/// one entry, each clause's truth.
#[must_use]
pub fn filter(
    repaired: &Repaired,
    advices: &[Advice],
    tried: Option<(usize, &[Passed], &[String])>,
    judged: Option<(&str, &[Judged])>,
) -> Value {
    let advice = |one: &Advice| {
        json!({
            "code": one.code,
            "weight": one.weight,
            "clause": one.clause,
            "message": one.message,
            "rewrite": one.rewrite.as_ref().map(ToString::to_string),
            "same": one.same,
        })
    };
    let (of, clauses, entries) = match tried {
        Some((of, clauses, entries)) => (Some(of), Some(clauses), Some(entries)),
        None => (None, None, None),
    };
    json!({
        "format": "webtaxon.filter/1",
        "canonical": repaired.filter.to_string(),
        "indented": repaired.filter.indented(),
        "repaired": repaired.remarks,
        "advice": advices.iter().map(advice).collect::<Vec<_>>(),
        "of": of,
        "matched": entries.map(<[String]>::len),
        "entries": entries,
        "clauses": clauses,
        "entry": judged.map(|(dn, judged)| json!({ "dn": dn, "clauses": judged })),
    })
}
