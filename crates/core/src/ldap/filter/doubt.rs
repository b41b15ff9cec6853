//! Comparisons that servers judge in their own ways: what the standard leaves undefined, and what they extend.

use super::eval::{BIT_AND, BIT_OR, is_rule};
use super::{Filter, Item};
use crate::ldap::schema::{AttributeType, Rule, Schema, prepare};

impl Filter {
    /// True if a server may judge the filter otherwise than this library: an attribute or a rule that the schema does
    /// not have, a value that the rule does not allow, `~=`, or letters that servers fold differently.
    #[must_use]
    pub fn is_doubtful(&self, schema: &Schema) -> bool {
        self.items().any(|item| is_doubtful(item, schema))
    }
}

fn is_doubtful(item: &Item, schema: &Schema) -> bool {
    let known = |attribute: &str| schema.find(attribute);
    let compares = |attribute: &str, value: &[u8], can: fn(&AttributeType) -> bool| {
        let rule = known(attribute).filter(|known| can(known)).and_then(|known| known.rule);
        is_folded_otherwise(value) || rule.is_none_or(|rule| prepare(rule, value).is_none())
    };
    match item {
        Item::Present { attribute } => known(attribute).is_none(),
        Item::Equal { attribute, value } => compares(attribute, value, |_| true),
        Item::GreaterOrEqual { attribute, value } | Item::LessOrEqual { attribute, value } => {
            compares(attribute, value, |known| known.is_ordered)
        }
        Item::Substrings { attribute, initial, any, last } => {
            let pieces = initial.iter().chain(any).chain(last);
            let is_sound = known(attribute).is_some_and(|known| known.rule.is_some() && known.has_pieces);
            !is_sound || pieces.into_iter().any(|piece| is_folded_otherwise(piece))
        }
        Item::Extensible { attribute: Some(attribute), rule: Some(rule), dn: false, .. } => {
            let is_bits = is_rule(rule, BIT_AND) || is_rule(rule, BIT_OR);
            !(is_bits && known(attribute).is_some_and(|known| known.rule == Some(Rule::Integer)))
        }
        Item::Approx { .. } | Item::Extensible { .. } => true,
    }
}

/// Values whose letters servers fold differently: beyond ASCII, and `ss`, which is ß for some.
fn is_folded_otherwise(value: &[u8]) -> bool {
    !value.is_ascii() || value.windows(2).any(|two| two.eq_ignore_ascii_case(b"ss"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ldap::schema::ServerKind;

    #[test]
    fn what_the_standard_leaves_open_is_doubtful() {
        for (filter, wanted) in [
            ("(cn=Ada)", false),
            ("(&(objectClass=person)(!(uid=a*)))", false),
            ("(cn~=Ada)", true),
            ("(cn=Straße)", true),
            ("(sn=STRASSE)", true),
            ("(cn=*ß*)", true),
            ("(noSuchAttribute=x)", true),
            ("(noSuchAttribute=*)", true),
            ("(cn:caseExactMatch:=Ada)", true),
            ("(uidNumber>=1000)", false),
            ("(uidNumber=abc)", true),
        ] {
            let parsed = Filter::parse(filter).unwrap();
            assert_eq!(parsed.is_doubtful(Schema::of(ServerKind::Plain)), wanted, "{filter}");
        }
        let bits = Filter::parse("(!(userAccountControl:1.2.840.113556.1.4.803:=2))").unwrap();
        assert!(!bits.is_doubtful(Schema::of(ServerKind::Controller)));
    }
}
