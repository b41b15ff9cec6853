//! Each rule speaks where it should and is silent where it should be; a rewrite that claims to
//! select the same entries does.

use super::look::OF_A_KIND;
use super::*;
use crate::ldap::entry::Entries;
use crate::ldap::filter::Matcher;
use crate::ldap::schema::{Schema, ServerKind};
use proptest::prelude::*;

const TOP: &str = "CN=Users,DC=x";

fn known(attribute: &str) -> Option<Option<String>> {
    (attribute == "departement").then(|| Some("department".to_owned()))
}

fn context(kind: ServerKind) -> Context<'static> {
    Context { kind, schema: Schema::of(kind), unknown: &known, active_elsewhere: true, entries: Some(100) }
}

/// The advice of one code about a filter.
fn advice(text: &str, kind: ServerKind, code: &str) -> Option<Advice> {
    let filter = Filter::parse(text).unwrap_or_else(|error| panic!("{text}: {error}"));
    advise(&filter, context(kind)).into_iter().find(|advice| advice.code == code)
}

/// A filter, the code that speaks (or with ! that does not), the rewritten filter, and why.
#[test]
fn every_rule_speaks_where_it_should_and_is_silent_where_it_should_be() {
    use ServerKind::{Controller, Plain};
    for (kind, text, code, rewrite, why) in [
        (Plain, "(objectClass=*)", "WX0210", "", "everything"),
        (Plain, "(&(objectClass=*)(cn=x))", "!WX0210", "", "beside another clause it does no harm"),
        (
            Controller,
            "(objectClass=user)",
            "WX0211",
            "(&(objectClass=user)(objectCategory=person))",
            "computers",
        ),
        (Controller, "(&(objectClass=user)(!(objectClass=computer)))", "!WX0211", "", "kept out already"),
        (Plain, "(objectClass=user)", "!WX0211", "", "only a controller's computers are users"),
        (Controller, "(memberOf=Loans Desk Users)", "WX0213", "", "a name is no DN"),
        (Controller, "(memberOf=CN=Users,DC=x)", "!WX0213", "", "a DN"),
        (
            Plain,
            "(member=CN=Users;DC=x)",
            "WX0241",
            "(member=CN=Users,DC=x)",
            "a semicolon between the parts",
        ),
        (Plain, "(member=CN = Users, DC = x)", "!WX0241", "", "blanks do no harm"),
        (Plain, "(objectClass=inetOrgPersn)", "WX0240", "(objectClass=inetOrgPerson)", "one letter wrong"),
        (Controller, "(sn=müller)", "WX0234", "", "marks on letters"),
        (Plain, "(sn=müller)", "!WX0234", "", "they matter elsewhere"),
        (Plain, "(objectClass=badge)", "!WX0240", "", "somebody's own class"),
        (Plain, "(objectClass=INETORGPERSON)", "!WX0240", "", "case does not matter"),
        (Controller, "(memberOf=CN=Users*)", "WX0214", "", "no stars in names"),
        (Controller, "(cn=Users*)", "!WX0214", "", "stars in text"),
        (
            Controller,
            "(memberOf=CN=Users,DC=x)",
            "WX0215",
            "(memberOf:1.2.840.113556.1.4.1941:=CN=Users,DC=x)",
            "direct members only",
        ),
        (Plain, "(memberOf=CN=Users,DC=x)", "WX0215", "", "no chain rule to rewrite to"),
        (Plain, "(&(cn=*)(!(title=Host)))", "WX0216", "", "entries without a title, too"),
        (Plain, "(&(cn=*)(!(title=*)))", "!WX0216", "", "those are meant"),
        (Plain, "(departement=Botany)", "WX0217", "(department=Botany)", "one letter wrong"),
        (Plain, "(department=Botany)", "!WX0217", "", "right"),
        (Plain, "(memberOf>=CN=a,DC=x)", "WX0218", "", "names have no order"),
        (Plain, "(uidNumber>=5)", "!WX0218", "", "numbers have"),
        (
            Controller,
            "(userAccountControl=514)",
            "WX0219",
            "(userAccountControl:1.2.840.113556.1.4.803:=2)",
            "a sum of flags",
        ),
        (
            Controller,
            "(userAccountControl=512)",
            "WX0219",
            "(!(userAccountControl:1.2.840.113556.1.4.803:=2))",
            "a sum of flags without the one that matters",
        ),
        (Controller, "(whenChanged>=2026-11-25)", "WX0220", "(whenChanged>=20261125000000.0Z)", "a date"),
        (Controller, "(whenChanged>=25.11.2026)", "WX0220", "(whenChanged>=20261125000000.0Z)", "a date"),
        (
            Controller,
            "(whenChanged>=20261125000000Z)",
            "WX0220",
            "(whenChanged>=20261125000000.0Z)",
            "without .0",
        ),
        (Controller, "(whenChanged>=20261125000000.0Z)", "!WX0220", "", "right"),
        (Plain, "(modifyTimestamp>=20261125000000Z)", "!WX0220", "", "right for the other kind"),
        (
            Controller,
            "(accountExpires<=2026-11-25)",
            "WX0221",
            "(accountExpires<=134400384000000000)",
            "a date",
        ),
        (Controller, "(accountExpires<=0)", "!WX0221", "", "a count"),
        (
            Controller,
            "(objectGUID=7f1c0a52-1234-5678-8001-020304050607)",
            "WX0222",
            "(objectGUID=\\52\\0a\\1c\\7f\\34\\12\\78\\56\\80\\01\\02\\03\\04\\05\\06\\07)",
            "text in place of bytes",
        ),
        (
            Controller,
            "(objectSid=S-1-5-21-1-2-3-512)",
            "WX0222",
            "(objectSid=\\01\\05\\00\\00\\00\\00\\00\\05\\15\\00\\00\\00\\01\\00\\00\\00\\02\\00\\00\\00\\03\\00\\00\\00\\00\\02\\00\\00)",
            "text in place of bytes",
        ),
        (Plain, "(memberOf:1.2.840.113556.1.4.1941:=CN=Users,DC=x)", "WX0224", "", "no such rule there"),
        (Controller, "(memberOf:1.2.840.113556.1.4.1941:=CN=Users,DC=x)", "!WX0224", "", "it is there"),
        (Plain, "(cn:integerBitAndMatch:=2)", "WX0236", "", "by the rule's name, too"),
        (Controller, "(cn:1.2.840.113556.1.4.1941:=x)", "WX0225", "", "text is no name"),
        (Plain, "(|)", "WX0226", "", "no alternative"),
        (Plain, "(&(cn=a)(!(cn=A)))", "WX0226", "", "opposites"),
        (Controller, "(&(department=Botany)(department=Registry))", "WX0226", "", "one value cannot be two"),
        (Plain, "(&(cn=a)(cn=b))", "!WX0226", "", "cn may have several values"),
        (Plain, "(&)", "WX0227", "", "nothing is asked"),
        (Plain, "(|(cn=a)(!(cn=a)))", "WX0227", "", "either or"),
        (Plain, "(&(mail=*)(mail=a*))", "WX0228", "(&(mail=a*))", "presence is implied"),
        (Plain, "(|(mail=*)(mail=a))", "WX0228", "(|(mail=*))", "presence lets in more"),
        (Plain, "(|(mail=*)(cn=a))", "!WX0228", "", "different attributes"),
        (Plain, "(|(cn=Ada)(CN=ada))", "WX0229", "(|(cn=Ada))", "the same twice"),
        (Plain, "(&(cn=a))", "WX0230", "(cn=a)", "nothing to join"),
        (Plain, "(cn=Moss * Fern)", "WX0231", "", "a star between blanks"),
        (Plain, "(userPassword= x)", "WX0232", "", "bytes are compared as they are"),
        (Plain, "(!(cn=a))", "WX0233", "", "everything else"),
        (Plain, "(cn=Ada)", "WX0234", "", "letters' case"),
        (Plain, "(cn= ada)", "WX0234", "(cn=ada)", "outer blanks"),
        (Plain, "(cn=ada)", "!WX0234", "", "nothing to say"),
        (Plain, "(&(cn=*)(!(!(cn=a))))", "WX0235", "(&(cn=*)(cn=a))", "twice negated"),
        (Controller, "(cn:1.2.840.113556.1.4.803:=2)", "WX0236", "", "text has no bits"),
        (Controller, "(userAccountControl:1.2.840.113556.1.4.803:=two)", "WX0236", "", "no number"),
        (Plain, "(hasSubordinates=true)", "WX0237", "(hasSubordinates=TRUE)", "capital letters"),
        (Plain, "(uidNumber=ten)", "WX0237", "", "no number"),
        (Plain, "(title=)", "WX0237", "(!(title=*))", "who has none is meant"),
        (Plain, "(cn~=ada)", "WX0238", "(cn=ada)", "sounds like"),
        (Plain, "(uidNumber=1*)", "WX0239", "", "pieces of a number"),
    ] {
        let spoken = code.strip_prefix('!');
        let found = advice(text, kind, spoken.unwrap_or(code));
        assert_eq!(found.is_some(), spoken.is_none(), "{why}: {text} {code}");
        if let Some(found) = found {
            let told = found.rewrite.as_ref().map(ToString::to_string).unwrap_or_default();
            assert_eq!(told, rewrite, "{why}: {text}");
            assert!(!found.message.is_empty() && found.clause.starts_with('('), "{text}");
        }
    }
}

#[test]
fn what_the_context_knows_changes_what_is_said() {
    let filter = Filter::parse("(&(objectCategory=person)(objectClass=user)(cn=*x))").unwrap();
    let codes = |context: Context<'_>| -> Vec<&str> {
        advise(&filter, context).iter().map(|advice| advice.code).collect()
    };
    let quiet = context(ServerKind::Controller);
    assert_eq!(codes(quiet), Vec::<&str>::new());
    assert_eq!(codes(Context { active_elsewhere: false, ..quiet }), ["WX0212"]);
    assert_eq!(codes(Context { entries: Some(100_000), ..quiet }), ["WX0223"]);
    let graver = Filter::parse("(&(cn=Ada)(memberOf=x))").unwrap();
    let weights: Vec<Weight> = advise(&graver, quiet).iter().map(|advice| advice.weight).collect();
    assert_eq!(weights, [Weight::Wrong, Weight::Note], "the gravest first");
}

#[test]
fn a_list_of_many_clauses_gets_a_few_words() {
    let many = Filter::Or((0..20_000).map(|number| Filter::equal("cn", format!(" P{number} "))).collect());
    let advice = advise(&many, context(ServerKind::Plain));
    assert!((1..=2 * OF_A_KIND).contains(&advice.len()), "{}", advice.len());
    let twice = Filter::Or(vec![Filter::equal("cn", "a"); 20_000]);
    assert!(advise(&twice, context(ServerKind::Plain)).len() <= OF_A_KIND);
}

fn any_filter() -> impl Strategy<Value = Filter> {
    let leaf = prop_oneof![
        ("(cn|mail|department)", "( ada|Ada|botany|Botany )")
            .prop_map(|(name, value)| Filter::equal(&name, value)),
        "(cn|mail|department)".prop_map(|name| Filter::present(&name)),
    ];
    leaf.prop_recursive(4, 16, 4, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..4).prop_map(Filter::And),
            proptest::collection::vec(inner.clone(), 0..4).prop_map(Filter::Or),
            inner.prop_map(|part| Filter::Not(Box::new(part))),
        ]
    })
}

proptest! {
    /// A rewrite that says so selects the same entries.
    #[test]
    fn a_rewrite_selects_the_same_entries_where_it_claims_so(filter in any_filter()) {
        let mut entries = Entries::new();
        for (cn, mail, department) in [("ada", "ada", "botany"), ("ada", "", "botany"), ("rosa", "ada", ""), ("rosa", "", "")] {
            let values = [("cn", cn), ("mail", mail), ("department", department)];
            let filled = values.into_iter().filter(|(_, value)| !value.is_empty());
            entries.push(TOP, filled.map(|(name, value)| (name, [value.as_bytes()])));
        }
        let selected = |filter: &Filter| -> Vec<bool> {
            let matcher = Matcher::new(filter, Schema::of(ServerKind::Plain), entries.names());
            entries.iter().map(|entry| matcher.matches(entry)).collect()
        };
        for advice in advise(&filter, context(ServerKind::Plain)) {
            if let Some(rewrite) = advice.rewrite.filter(|_| advice.same) {
                prop_assert_eq!(selected(&rewrite), selected(&filter), "{} {} {}", advice.code, filter, rewrite);
            }
        }
    }
}
