//! Advice on how clauses are joined: repeated, redundant, contradictory or without effect.

use super::look::{Look, SIDE_BY_SIDE, Weight};
use crate::ldap::filter::{ClauseKind, Filter, Item};
use crate::ldap::schema::{Schema, prepare};

pub(super) fn look(look: &mut Look<'_, '_>, number: usize) {
    let Some(clause) = look.clause(number) else { return };
    let parts = look.parts(number);
    match clause.filter {
        Filter::Item(Item::Present { attribute })
            if number == 0 && attribute.eq_ignore_ascii_case("objectClass") =>
        {
            look.say("WX0210", Weight::Surprise, number, "every entry has an object class: this selects everything under the base, including groups and containers");
        }
        Filter::And(list) if list.is_empty() => {
            look.say("WX0227", Weight::Surprise, number, "there is no condition: this matches every entry");
        }
        Filter::Or(list) if list.is_empty() => {
            look.say("WX0226", Weight::Wrong, number, "there is no alternative: this matches no entry");
        }
        Filter::And(list) | Filter::Or(list) if list.len() == 1 => {
            if let Some(only) = list.first() {
                let rewrite = look.with(number, only.clone());
                look.say_with(
                    "WX0230",
                    Weight::Note,
                    number,
                    "there is only one clause to join: joining has no effect",
                    rewrite,
                    true,
                );
            }
        }
        Filter::And(_) | Filter::Or(_) => joined(look, number, &parts, clause.kind),
        Filter::Not(inner) => negation(look, number, inner),
        Filter::Item(_) => {}
    }
}

fn negation(look: &mut Look<'_, '_>, number: usize, inner: &Filter) {
    match inner {
        Filter::Not(twice) => {
            let rewrite = look.with(number, (**twice).clone());
            look.say_with("WX0235", Weight::Note, number, "two negations cancel each other", rewrite, true);
        }
        _ if number == 0 => look.say(
            "WX0233",
            Weight::Surprise,
            number,
            "the whole filter is a negation: it selects everything else under the base, including containers, groups and computers; combine it with a clause that selects people",
        ),
        Filter::Item(item @ (Item::Equal { .. } | Item::Substrings { .. } | Item::GreaterOrEqual { .. } | Item::LessOrEqual { .. })) => {
            if let Some(attribute) = item.attribute().filter(|name| !name.eq_ignore_ascii_case("objectClass")) {
                look.say(
                    "WX0216",
                    Weight::Note,
                    number,
                    format!("this also matches entries without any {attribute}; add ({attribute}=*) to exclude them"),
                );
            }
        }
        _ => {}
    }
}

/// Sibling clauses.
fn joined(look: &mut Look<'_, '_>, number: usize, parts: &[usize], kind: ClauseKind) {
    let schema = look.context.schema;
    let mut gone: Vec<usize> = Vec::new();
    for (at, first) in parts.iter().take(SIDE_BY_SIDE).enumerate() {
        for second in parts.iter().take(SIDE_BY_SIDE).skip(at + 1) {
            let (Some(one), Some(other)) = (look.clause(*first), look.clause(*second)) else { continue };
            if gone.contains(second) || gone.contains(first) {
                continue;
            }
            if same(schema, one.filter, other.filter) {
                gone.push(*second);
                let rewrite = without(look, number, parts, *second);
                look.say_with("WX0229", Weight::Note, *second, "this clause is repeated", rewrite, true);
            } else if is_opposite(schema, one.filter, other.filter) {
                match kind {
                    ClauseKind::And => look.say(
                        "WX0226",
                        Weight::Wrong,
                        number,
                        format!("{} and {} exclude each other: nobody is selected", one.filter, other.filter),
                    ),
                    _ => look.say(
                        "WX0227",
                        Weight::Surprise,
                        number,
                        format!(
                            "{} or {}: this matches every entry whose attribute is known",
                            one.filter, other.filter
                        ),
                    ),
                }
            } else if kind == ClauseKind::And && is_another_value(schema, one.filter, other.filter) {
                look.say("WX0226", Weight::Wrong, number, format!("the attribute has one value, and it cannot be both: {} and {} together select nobody", one.filter, other.filter));
            } else if let Some(swallowed) = swallowed(kind, (*first, one.filter), (*second, other.filter)) {
                gone.push(swallowed);
                let rewrite = without(look, number, parts, swallowed);
                let message = match kind {
                    ClauseKind::And => "another clause is stricter: this one has no effect",
                    _ => "another clause is broader: this one has no effect",
                };
                look.say_with("WX0228", Weight::Note, swallowed, message, rewrite, true);
            }
        }
    }
}

/// The whole filter without one part of a joining clause.
fn without(look: &Look<'_, '_>, number: usize, parts: &[usize], gone: usize) -> Option<Filter> {
    let kept: Vec<Filter> = parts
        .iter()
        .filter(|part| **part != gone)
        .filter_map(|part| look.clause(*part).map(|clause| clause.filter.clone()))
        .collect();
    let new = match look.clause(number).map(|clause| clause.kind) {
        Some(ClauseKind::And) => Filter::And(kept),
        _ => Filter::Or(kept),
    };
    look.with(number, new)
}

/// Whether two comparisons are equal, apart from case and insignificant blanks.
fn same(schema: &Schema, one: &Filter, other: &Filter) -> bool {
    if one == other {
        return true;
    }
    match (one, other) {
        (
            Filter::Item(Item::Equal { attribute: left, value: this }),
            Filter::Item(Item::Equal { attribute: right, value: that }),
        ) => {
            left.eq_ignore_ascii_case(right)
                && prepared(schema, left, this)
                    .is_some_and(|this| Some(this) == prepared(schema, right, that))
        }
        (
            Filter::Item(Item::Present { attribute: left }),
            Filter::Item(Item::Present { attribute: right }),
        ) => left.eq_ignore_ascii_case(right),
        _ => false,
    }
}

fn prepared(schema: &Schema, attribute: &str, value: &[u8]) -> Option<Vec<u8>> {
    let rule = schema.find(attribute)?.rule?;
    prepare(rule, value).map(std::borrow::Cow::into_owned)
}

fn is_opposite(schema: &Schema, one: &Filter, other: &Filter) -> bool {
    match (one, other) {
        (Filter::Not(inner), other) | (other, Filter::Not(inner)) => same(schema, inner, other),
        _ => false,
    }
}

/// Two different values of a single-valued attribute.
fn is_another_value(schema: &Schema, one: &Filter, other: &Filter) -> bool {
    match (one, other) {
        (
            Filter::Item(Item::Equal { attribute: left, value: this }),
            Filter::Item(Item::Equal { attribute: right, value: that }),
        ) => {
            let single = schema.find(left).is_some_and(|known| known.single);
            let (this, that) = (prepared(schema, left, this), prepared(schema, right, that));
            single && left.eq_ignore_ascii_case(right) && this.is_some() && that.is_some() && this != that
        }
        _ => false,
    }
}

/// The redundant one of two sibling clauses.
fn swallowed(kind: ClauseKind, one: (usize, &Filter), other: (usize, &Filter)) -> Option<usize> {
    let presence = |filter: &Filter| match filter {
        Filter::Item(Item::Present { attribute }) => Some(attribute.clone()),
        _ => None,
    };
    // Comparisons that only an entry with the attribute can pass.
    let needs = |filter: &Filter| match filter {
        Filter::Item(item @ (Item::Equal { .. } | Item::Substrings { .. })) => {
            item.attribute().map(str::to_owned)
        }
        _ => None,
    };
    let (wide, narrow) = match (presence(one.1), presence(other.1)) {
        (Some(attribute), None) if needs(other.1).is_some_and(|its| its.eq_ignore_ascii_case(&attribute)) => {
            (one.0, other.0)
        }
        (None, Some(attribute)) if needs(one.1).is_some_and(|its| its.eq_ignore_ascii_case(&attribute)) => {
            (other.0, one.0)
        }
        _ => return None,
    };
    Some(if kind == ClauseKind::And { wide } else { narrow })
}
