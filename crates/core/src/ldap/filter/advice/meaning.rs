//! Advice on what attributes mean on this kind of server: computers among users, groups, flags.

use super::look::{Look, Weight, is};
use crate::ldap::filter::eval::{BIT_AND, BIT_OR, CHAIN, is_rule};
use crate::ldap::filter::{Filter, Item};
use crate::ldap::name::Dn;
use crate::ldap::schema::Rule;
use crate::ldap::schema::ServerKind;

pub(super) fn look(look: &mut Look<'_, '_>, number: usize) {
    if number == 0 {
        whole(look);
    }
    let Some(clause) = look.clause(number) else { return };
    let Filter::Item(item) = clause.filter else { return };
    let Some(attribute) = item.attribute() else { return };
    if let Some(nearest) = (look.context.unknown)(attribute) {
        let hint = nearest.as_ref().map_or_else(String::new, |near| format!("; did you mean {near}?"));
        let rewrite = nearest.and_then(|near| look.with(number, Filter::Item(renamed(item, &near))));
        let message = format!(
            "the server does not know {attribute}: such a comparison matches nobody, and neither does its negation{hint}"
        );
        look.say_with("WX0217", Weight::Wrong, number, message, rewrite, false);
    }
    let links = is(attribute, "memberOf") || is(attribute, "member");
    match item {
        Item::Equal { value, .. } if links => members(look, number, attribute, value),
        Item::Substrings { .. } if look.rule_of(attribute) == Some(Rule::Name) => look.say(
            "WX0214",
            Weight::Wrong,
            number,
            format!("{attribute} holds names of entries, which cannot be matched with a *: this matches nobody. Write each name in full, joined by |"),
        ),
        Item::Equal { value, .. } if is(attribute, "objectClass") => class(look, number, value),
        Item::Equal { value, .. } if is(attribute, "userAccountControl") => flags(look, number, value),
        Item::Extensible { rule: Some(rule), value, .. } => extended(look, number, attribute, rule, value),
        Item::Approx { value, .. } => {
            let rewrite = look.with(number, Filter::equal(attribute, value.clone()));
            look.say_with("WX0238", Weight::Note, number, "most servers treat ~= like =; others have their own idea of \"sounds like\"", rewrite, false);
        }
        _ => {}
    }
}

/// Entries that the filter as a whole fails to exclude.
fn whole(look: &mut Look<'_, '_>) {
    if look.context.kind != ServerKind::Controller {
        return;
    }
    let equal = |item: &Item, name: &str, wanted: &[&str]| match item {
        Item::Equal { attribute, value } => {
            is(attribute, name) && wanted.iter().any(|wanted| value.eq_ignore_ascii_case(wanted.as_bytes()))
        }
        _ => false,
    };
    let whole = look.whole;
    let users = whole.items().any(|item| equal(item, "objectClass", &["user"]));
    let kept_out = whole.items().any(|item| {
        equal(item, "objectClass", &["computer"])
            || item.attribute().is_some_and(|name| is(name, "objectCategory") || is(name, "sAMAccountType"))
    });
    if users && !kept_out {
        let rewrite = look.and("(objectCategory=person)");
        look.say_with(
            "WX0211",
            Weight::Surprise,
            0,
            "to a domain controller, computers are users: they are selected with the people",
            rewrite,
            false,
        );
    }
    let tests_flags =
        whole.items().any(|item| item.attribute().is_some_and(|name| is(name, "userAccountControl")));
    if users && !tests_flags && !look.context.active_elsewhere {
        let rewrite = look.and("(!(userAccountControl:1.2.840.113556.1.4.803:=2))");
        look.say_with(
            "WX0212",
            Weight::Surprise,
            0,
            "disabled accounts are selected as well; exclude them by `active` in the settings, or by this clause",
            rewrite,
            false,
        );
    }
}

/// A class that the schema does not have.
fn class(look: &mut Look<'_, '_>, number: usize, value: &[u8]) {
    let schema = look.context.schema;
    let Ok(text) = std::str::from_utf8(value) else { return };
    let is_oid = text.starts_with(|first: char| first.is_ascii_digit());
    if is_oid || schema.find_class(text).is_some() {
        return;
    }
    let near = schema.nearest_class(text).map(str::to_owned);
    if near.is_none() && !schema.is_complete() {
        return;
    }
    let hint = near.as_ref().map_or_else(String::new, |near| format!("; did you mean {near}?"));
    let rewrite = near.and_then(|near| look.with(number, Filter::equal("objectClass", near)));
    let (weight, message) = if schema.is_complete() {
        (Weight::Wrong, format!("the server does not know the class {text}: this matches nobody{hint}"))
    } else {
        (Weight::Surprise, format!("{text} is not a commonly known class{hint}"))
    };
    look.say_with("WX0240", weight, number, message, rewrite, false);
}

fn members(look: &mut Look<'_, '_>, number: usize, attribute: &str, value: &[u8]) {
    let text = std::str::from_utf8(value).unwrap_or("");
    let Some(dn) = Dn::parse_pasted(text).ok().map(|read| read.dn).filter(|dn| dn.depth() > 0) else {
        look.say(
            "WX0213",
            Weight::Wrong,
            number,
            format!("{attribute} holds full names like CN=Loans Desk Users,OU=Groups,DC=quillmere,DC=example: \"{text}\" is not one, so this matches nobody. `webtaxon browse --find` shows the full name"),
        );
        return;
    };
    if Dn::parse(text).is_err() {
        let rewrite = look.with(number, Filter::equal(attribute, dn.to_string()));
        let message = "this name is in an older notation, which some servers reject";
        look.say_with("WX0241", Weight::Surprise, number, message, rewrite, true);
    }
    if !is(attribute, "memberOf") {
        return;
    }
    let controller = look.context.kind == ServerKind::Controller;
    let rewrite = controller.then_some(()).and_then(|()| {
        let rule = Some(CHAIN.into());
        let chain =
            Item::Extensible { attribute: Some(attribute.into()), rule, dn: false, value: value.into() };
        look.with(number, Filter::Item(chain))
    });
    let primary =
        if controller { ", and never the primary group" } else { "; some servers have no memberOf at all" };
    look.say_with(
        "WX0215",
        Weight::Surprise,
        number,
        format!("memberOf contains direct groups only{primary}; `groups` in the settings counts nested members on every server"),
        rewrite,
        false,
    );
}

fn flags(look: &mut Look<'_, '_>, number: usize, value: &[u8]) {
    let bits: Option<u32> = std::str::from_utf8(value).ok().and_then(|text| text.parse().ok());
    let text = if bits.is_some_and(|bits| bits & 2 != 0) {
        "(userAccountControl:1.2.840.113556.1.4.803:=2)"
    } else {
        "(!(userAccountControl:1.2.840.113556.1.4.803:=2))"
    };
    let rewrite = Filter::parse(text).ok().and_then(|new| look.with(number, new));
    look.say_with(
        "WX0219",
        Weight::Surprise,
        number,
        "userAccountControl is a set of flags: accounts with a further flag, such as a password that never expires, have another number and are missed; test the bit that you mean",
        rewrite,
        false,
    );
}

fn extended(look: &mut Look<'_, '_>, number: usize, attribute: &str, rule: &str, value: &[u8]) {
    let known = look.rule_of(attribute);
    match rule {
        CHAIN => {
            if known.is_some_and(|known| known != Rule::Name) {
                look.say("WX0225", Weight::Wrong, number, format!("the chain rule follows names of entries, and {attribute} holds none: this matches nobody"));
            } else if look.context.kind != ServerKind::Controller {
                look.say("WX0224", Weight::Wrong, number, "only domain controllers have the chain rule; on other servers this matches nobody, without an error. `groups` in the settings counts nested members on every server");
            }
        }
        bits if is_rule(bits, BIT_AND) || is_rule(bits, BIT_OR) => {
            let is_number = std::str::from_utf8(value).is_ok_and(|text| text.trim().parse::<i64>().is_ok());
            if !is_number || known.is_some_and(|known| known != Rule::Integer) {
                look.say("WX0236", Weight::Wrong, number, format!("a bit test needs an integer on both sides, like ({attribute}:{rule}:=2): this matches nobody"));
            }
        }
        _ => {}
    }
}

/// The same comparison on another attribute.
fn renamed(item: &Item, new: &str) -> Item {
    let mut item = item.clone();
    match &mut item {
        Item::Equal { attribute, .. }
        | Item::Substrings { attribute, .. }
        | Item::GreaterOrEqual { attribute, .. }
        | Item::LessOrEqual { attribute, .. }
        | Item::Approx { attribute, .. }
        | Item::Present { attribute } => *attribute = new.into(),
        Item::Extensible { attribute, .. } => *attribute = Some(new.into()),
    }
    item
}
