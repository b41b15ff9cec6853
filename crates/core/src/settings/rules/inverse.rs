//! From a value of a field back to the people who may have it: the filter that a directory is searched by.
//!
//! The filter may find others as well. Whoever is found has the field drawn, and the values are compared.

use super::join::Join;
use super::{Choice, FieldRule, Shape, ValueSource};
use crate::ldap::filter::{Filter, Item};

/// Maximum ways in which a text is divided among the placeholders of a join, and keys of a map that give a value.
const WAYS: usize = 32;

impl FieldRule {
    /// The filter that finds everybody whose field has this value, ignoring case, and possibly others; `None` if no
    /// choice of the rule can be searched by.
    #[must_use]
    pub fn filter_for(&self, value: &str) -> Option<Filter> {
        let ways: Vec<Filter> = self.choices.iter().flat_map(|choice| choice.filters_for(value)).collect();
        any(ways)
    }
}

/// Any of some filters, the only one alone; `None` if there are none.
pub(crate) fn any(mut ways: Vec<Filter>) -> Option<Filter> {
    match ways.len() {
        0 | 1 => ways.pop(),
        _ => Some(Filter::any(ways)),
    }
}

impl Choice {
    fn filters_for(&self, value: &str) -> Vec<Filter> {
        let Shape { read_as: None, follow: None, .. } = self.shape else { return Vec::new() };
        let texts: Vec<Text> =
            self.shape.before_map(value).iter().flat_map(|text| self.shape.uncut(text)).collect();
        match &self.source {
            ValueSource::Value(_) => Vec::new(),
            ValueSource::Attributes(names) => {
                names.iter().flat_map(|name| texts.iter().map(|text| text.filter(name))).collect()
            }
            ValueSource::Join(join) => texts.iter().flat_map(|text| text.joined(join)).collect(),
        }
    }
}

/// A text, of which parts may be unknown: what it begins with, what it contains, what it ends with.
struct Text {
    /// True if anything may stand before, and behind.
    open: (bool, bool),
    known: String,
}

impl Text {
    fn filter(&self, attribute: &str) -> Filter {
        let known = || self.known.as_bytes().into();
        let (initial, any, last) = match self.open {
            (false, false) => return Filter::equal(attribute, &self.known),
            (false, true) => (Some(known()), Vec::new(), None),
            (true, false) => (None, Vec::new(), Some(known())),
            (true, true) => (None, vec![known()], None),
        };
        Filter::Item(Item::Substrings { attribute: attribute.into(), initial, any, last })
    }

    /// The filters for the placeholders of a join, one for each way to divide the text among them.
    fn joined(&self, join: &Join) -> Vec<Filter> {
        if self.open != (false, false) {
            return Vec::new();
        }
        let of_one = |parts: Vec<(&str, &str)>| {
            let mut parts: Vec<Filter> =
                parts.into_iter().map(|(attribute, value)| Filter::equal(attribute, value)).collect();
            if parts.len() == 1 { parts.pop().unwrap_or_else(|| Filter::any([])) } else { Filter::all(parts) }
        };
        join.divided(&self.known, WAYS).into_iter().map(of_one).collect()
    }
}

impl Shape {
    /// The texts that the map, if any, turns into a value.
    fn before_map(&self, value: &str) -> Vec<String> {
        let Some(map) = &self.map else { return vec![value.to_owned()] };
        let is_it = |(key, to): &(&String, &String)| *key != "*" && to.to_lowercase() == value.to_lowercase();
        map.iter().filter(is_it).map(|(key, _)| key.clone()).take(WAYS).collect()
    }

    /// The texts of which a part is this one.
    fn uncut(&self, part: &str) -> Vec<Text> {
        let prefix = self.cut_prefix.as_deref().unwrap_or_default();
        let suffix = self.cut_suffix.as_deref().unwrap_or_default();
        let text = format!("{prefix}{part}{suffix}");
        // A text without the mark is kept whole.
        let mut texts = vec![Text { open: (false, false), known: text.clone() }];
        let after = self.after.as_deref().map(|mark| format!("{mark}{text}"));
        let before = |text: &str| self.before.as_deref().map(|mark| format!("{text}{mark}"));
        texts.extend(before(&text).map(|known| Text { open: (false, true), known }));
        if let Some(known) = after {
            texts.extend(before(&known).map(|known| Text { open: (true, true), known }));
            texts.push(Text { open: (true, false), known });
        }
        texts
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use indexmap::IndexMap;

    fn rule(source: ValueSource, shape: Shape) -> FieldRule {
        FieldRule { choices: vec![Choice { source, shape, ..Choice::default() }], ..FieldRule::default() }
    }

    fn from(names: &[&str], shape: Shape) -> FieldRule {
        rule(ValueSource::Attributes(names.iter().map(|name| (*name).to_owned()).collect()), shape)
    }

    #[test]
    fn a_value_is_searched_for_in_the_form_that_the_directory_has_it_in() {
        let text = |text: &str| Some(text.to_owned());
        let join = |text: &str| rule(ValueSource::Join(Join::parse(text).unwrap()), Shape::default());
        let map = IndexMap::from(
            [("bot", "Botany"), ("plants", "botany"), ("*", "Botany")]
                .map(|(key, to)| (key.to_owned(), to.to_owned())),
        );
        for (rule, value, filter) in [
            (from(&["uid"], Shape::default()), "amoss", "(uid=amoss)"),
            (from(&["uid"], Shape::default()), "a*(moss)", r"(uid=a\2a\28moss\29)"),
            (from(&["displayName", "cn"], Shape::default()), "Amos", "(|(displayName=Amos)(cn=Amos))"),
            (
                from(
                    &["proxyAddresses"],
                    Shape { cut_prefix: text("smtp:"), every: true, ..Shape::default() },
                ),
                "a@b.example",
                "(proxyAddresses=smtp:a@b.example)",
            ),
            (
                from(&["mail"], Shape { cut_suffix: text("@b.example"), ..Shape::default() }),
                "a",
                "(mail=a@b.example)",
            ),
            (from(&["upn"], Shape { before: text("@"), ..Shape::default() }), "a", "(|(upn=a)(upn=a@*))"),
            (
                from(&["upn"], Shape { after: text("\\"), before: text("@"), ..Shape::default() }),
                "a",
                r"(|(upn=a)(upn=a@*)(upn=*\5ca@*)(upn=*\5ca))",
            ),
            (from(&["ou"], Shape { map: Some(map), ..Shape::default() }), "botany", "(|(ou=bot)(ou=plants))"),
            (join("{uid}@b.example"), "a@b.example", "(uid=a)"),
            (join("{g}.{sn}"), "a.b.c", "(|(&(g=a)(sn=b.c))(&(g=a.b)(sn=c)))"),
        ] {
            assert_eq!(rule.filter_for(value).map(|filter| filter.to_string()).as_deref(), Some(filter));
        }
    }

    #[test]
    fn some_rules_cannot_be_searched_by() {
        for rule in [
            rule(ValueSource::Value("x".to_owned()), Shape::default()),
            from(&["manager"], Shape { follow: Some("login".to_owned()), ..Shape::default() }),
            from(&["pwdLastSet"], Shape { read_as: Some(super::super::ReadAs::Date), ..Shape::default() }),
            FieldRule::default(),
        ] {
            assert_eq!(rule.filter_for("x"), None, "{rule:?}");
        }
        let other = rule(ValueSource::Join(Join::parse("{uid}@b.example").unwrap()), Shape::default());
        assert_eq!(other.filter_for("a@c.example"), None, "nobody can have this value");
    }
}
