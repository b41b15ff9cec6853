//! Random filters select the same entries in core, in the simulated directory and in slapd.
//!
//! A failure tells its seed, and `SEED` sets it. What slapd does in a way of its own is
//! left out of the filters, each with its reason, in [`value`] and [`item`].

use crate::Desk;
use std::collections::BTreeSet;
use std::sync::Arc;
use webtaxon::directory::{Access, Connection, Query, read_schema};
use webtaxon::model::ldap::entry::Entries;
use webtaxon::model::ldap::filter::{Filter, Item, Matcher, Octets, SmolStr};
use webtaxon::model::ldap::ldif;
use webtaxon::model::ldap::name::{Dn, DnKey};
use webtaxon::model::settings::{Bind, Servers};
use webtaxon_standin::{Directory, Options, Standin};

const FILTERS: usize = 2000;
const TOP: &str = "DC=quillmere,DC=example";
/// Attributes whose values are compared, as text, as names, as numbers and times.
const ATTRIBUTES: [&str; 16] = [
    "cn",
    "sn",
    "givenName",
    "displayName",
    "uid",
    "mail",
    "departmentNumber",
    "title",
    "roomNumber",
    "telephoneNumber",
    "employeeNumber",
    "description",
    "member",
    "objectClass",
    "entryUUID",
    "pwdAccountLockedTime",
];
/// Other ways to say an attribute: its other name, its OID, the type that it is a kind of.
const SPELLINGS: [(&str, &[&str]); 5] = [
    ("cn", &["commonName", "2.5.4.3", "NAME"]),
    ("sn", &["surname", "2.5.4.4", "name"]),
    ("title", &["2.5.4.12", "name"]),
    ("uid", &["userid", "0.9.2342.19200300.100.1.1"]),
    ("mail", &["rfc822Mailbox", "MAIL"]),
];
/// Values that cannot be, and values that say nothing. U+FFFD is left out: RFC 4518 §2.4 prohibits
/// it, and slapd does not mind; an OID that nobody knows, too: false by RFC 4517 §4.2.26, unknown to
/// slapd.
const ODD: [&str; 11] = [
    "",
    " ",
    "*",
    "(&)",
    "CN=nobody,DC=x",
    "cn=a;dc=b",
    "noSuchClass",
    "2.5.6.6",
    "inetorgperson",
    "20261125",
    "7f1c0a52-0000-4000-8000",
];
/// Rules that a filter may name, with the attributes that they can compare. UUIDMatch
/// is left out: slapd finds nobody by a UUID in capital letters there, and somebody without the rule.
const RULES: [(&str, &[&str]); 8] = [
    ("caseExactMatch", &["cn", "sn", "title", "departmentNumber"]),
    ("2.5.13.2", &["cn", "sn", "title", "description"]),
    ("caseExactIA5Match", &["mail"]),
    ("caseIgnoreIA5Match", &["mail"]),
    ("distinguishedNameMatch", &["member"]),
    ("generalizedTimeMatch", &["pwdAccountLockedTime"]),
    ("generalizedTimeOrderingMatch", &["pwdAccountLockedTime"]),
    ("integerMatch", &["cn", "member"]),
];

/// Numbers in an order that a seed decides (Knuth's MMIX generator).
struct Dice(u64);

impl Dice {
    fn below(&mut self, count: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % count
    }

    fn of<'l, T: ?Sized>(&mut self, list: &[&'l T]) -> &'l T {
        list[self.below(list.len())]
    }
}

/// A value that some entry has, or one that is a little like it.
fn value(dice: &mut Dice, entries: &Entries, attribute: &str) -> Vec<u8> {
    let mut found = Vec::new();
    for _ in 0..20 {
        let entry = entries.get(dice.below(entries.len())).unwrap();
        let values: Vec<&[u8]> = entry.values(attribute).collect();
        if !values.is_empty() {
            found = values[dice.below(values.len())].to_vec();
            break;
        }
    }
    let Ok(text) = String::from_utf8(found) else { return b"x".to_vec() };
    if dice.below(12) == 0 {
        return dice.of(&ODD).as_bytes().to_vec();
    }
    let changed = match dice.below(6) {
        0 if attribute != "member" => text.to_uppercase(),
        0 => text.replace(',', " , "),
        1 => format!(" {text}"),
        2 => text.replace(' ', "  "),
        3 => text.chars().take(3).collect(),
        _ => text,
    };
    changed.into_bytes()
}

fn item(dice: &mut Dice, entries: &Entries) -> Filter {
    let attribute = dice.of(&ATTRIBUTES).to_owned();
    let value = Octets::from(value(dice, entries, &attribute));
    let is_text =
        !["member", "entryUUID", "objectClass", "pwdAccountLockedTime"].contains(&attribute.as_str());
    let attribute = match SPELLINGS.iter().find(|(known, _)| *known == attribute) {
        Some((_, spellings)) if dice.below(4) == 0 => dice.of(spellings).to_owned(),
        _ => attribute,
    };
    let attribute = SmolStr::from(attribute);
    let kind = dice.below(12);
    Filter::Item(match kind {
        0 => Item::Present { attribute },
        1 | 2 if is_text && value.len() > 3 && value.is_ascii() => {
            // Blanks next to a star are folded in ways of their own by slapd; see RFC 4518 §2.6.1.
            let piece = |part: &[u8]| {
                let text = String::from_utf8_lossy(part);
                Some(Octets::from(text.trim().as_bytes())).filter(|text| !text.is_empty())
            };
            let (front, back) = value.split_at(value.len() / 2);
            match dice.below(4) {
                0 => substrings(attribute, piece(front), None, None),
                1 => substrings(attribute, None, None, piece(back)),
                2 => substrings(attribute, None, piece(back), None),
                _ => substrings(attribute, piece(&front[..1]), None, piece(&back[back.len() - 1..])),
            }
        }
        3 => Item::GreaterOrEqual { attribute, value },
        4 => Item::LessOrEqual { attribute, value },
        5 => {
            let (rule, attributes) = RULES[dice.below(RULES.len())];
            let attribute = SmolStr::new(dice.of(attributes));
            let value = self::value(dice, entries, &attribute).into();
            Item::Extensible { attribute: Some(attribute), rule: Some(rule.into()), dn: false, value }
        }
        6 => {
            let attribute = SmolStr::new(dice.of(&["cn", "ou", "dc"]));
            let value = dice.of(&["People", "example", "Loans Desk Users", "groups"]).as_bytes().into();
            Item::Extensible { attribute: Some(attribute), rule: None, dn: dice.below(2) == 0, value }
        }
        _ => Item::Equal { attribute, value },
    })
}

fn substrings(
    attribute: SmolStr,
    initial: Option<Octets>,
    any: Option<Octets>,
    last: Option<Octets>,
) -> Item {
    if initial.is_none() && any.is_none() && last.is_none() {
        return Item::Present { attribute };
    }
    Item::Substrings { attribute, initial, any: any.into_iter().collect(), last }
}

fn filter(dice: &mut Dice, entries: &Entries, depth: usize) -> Filter {
    if depth == 0 {
        return item(dice, entries);
    }
    match dice.below(5) {
        0 => Filter::Not(Box::new(filter(dice, entries, depth - 1))),
        1 => item(dice, entries),
        kind => {
            let parts = (0..1 + dice.below(3)).map(|_| filter(dice, entries, depth - 1)).collect();
            if kind < 4 { Filter::And(parts) } else { Filter::Or(parts) }
        }
    }
}

async fn selected(connection: &mut Connection, filter: &Filter) -> BTreeSet<DnKey> {
    let query = Query::subtree(TOP, filter.clone(), &["1.1"]);
    let (entries, _) = connection.entries(query).await.unwrap_or_else(|error| panic!("{filter}: {error}"));
    let names = entries.iter().map(|entry| Dn::parse(entry.dn()).unwrap().key());
    names.filter(|name| !name.is_within(&kinds())).collect()
}

/// Groups that slapd itself fills in, which no file shows as it does.
fn kinds() -> DnKey {
    Dn::parse("OU=Kinds,DC=quillmere,DC=example").unwrap().key()
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn random_filters_select_the_same_entries_everywhere() {
    let seed = std::env::var("SEED").ok().and_then(|seed| seed.parse().ok());
    let seed = seed.unwrap_or_else(|| std::time::UNIX_EPOCH.elapsed().unwrap().as_secs());
    let text = std::fs::read(crate::home().join("slapd/plain.ldif")).unwrap();
    let all = ldif::entries(&text).unwrap();
    // A referral is no entry to a search (RFC 3296 §5.2); the password policy stays slapd's own.
    let mut entries = Entries::new();
    let is_kept =
        |dn: &str| !dn.starts_with("OU=Annexe") && !Dn::parse(dn).unwrap().key().is_within(&kinds());
    for entry in all.iter().filter(|entry| is_kept(entry.dn())) {
        entries.push(entry.dn(), entry.attributes().filter(|(name, _)| *name != "userPassword"));
    }
    let mut slapd = Desk::slapd().workspace().unwrap().connect().await.unwrap();
    let schema = read_schema(&mut slapd).await.unwrap();
    assert_eq!(schema.problems(), [], "the whole subschema is read");
    let directory = Arc::new(Directory::from_ldif(&text).unwrap());
    let standin = Standin::start(directory, Options { tls: false, anonymous: true, ..Options::default() })
        .await
        .unwrap();
    let workspace = Desk::slapd().workspace().unwrap();
    let settings = workspace.settings();
    let mut own = settings.directory(&settings.intakes.first).unwrap().clone();
    own.servers = Servers::Named(vec![standin.url().parse().unwrap()]);
    (own.bind, own.plain) = (Bind::Anonymous, true);
    let access = Access::new(&own, std::path::Path::new(""), None);
    let mut simulated = access.open_first(&access.servers().await.unwrap()).await.unwrap();

    let mut dice = Dice(seed);
    let mut several = 0;
    let referral = Dn::parse("OU=Annexe,DC=quillmere,DC=example").unwrap().key();
    for number in 0..FILTERS {
        let filter = filter(&mut dice, &entries, number % 4);
        let matcher = Matcher::new(&filter, &schema, entries.names());
        let matched = entries.iter().filter(|entry| matcher.matches(*entry));
        let core: BTreeSet<DnKey> = matched.map(|entry| Dn::parse(entry.dn()).unwrap().key()).collect();
        let (real, mut other) =
            (selected(&mut slapd, &filter).await, selected(&mut simulated, &filter).await);
        other.remove(&referral);
        let difference = |left: &BTreeSet<DnKey>, right: &BTreeSet<DnKey>| -> Vec<DnKey> {
            left.symmetric_difference(right).take(3).cloned().collect()
        };
        assert_eq!(difference(&core, &real), [], "SEED={seed}, filter {number}, slapd: {filter}");
        assert_eq!(difference(&core, &other), [], "SEED={seed}, filter {number}, simulated: {filter}");
        several += usize::from(!core.is_empty() && core.len() < entries.len());
    }
    assert!(several > FILTERS / 10, "most filters select nobody or everybody: {several}");
}
