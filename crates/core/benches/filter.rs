//! Reading a filter, against a scan that only checks its parentheses; and a filter over 100,000
//! entries, against a closure that makes the same comparisons with prepared values.
#![allow(missing_docs, reason = "a bench has no public items")]
#![allow(clippy::unwrap_used, reason = "a bench that fails should say so")]

use criterion::{BatchSize, Criterion, Throughput, criterion_group, criterion_main};
use std::hint::black_box;
use webtaxon_core::ldap::entry::{Entries, NameId};
use webtaxon_core::ldap::filter::{Filter, Matcher};
use webtaxon_core::ldap::schema::Schema;

const COUNT: usize = 100_000;
const DEPARTMENTS: [&str; 8] = [
    "Botany",
    "Entomology",
    "Palaeontology",
    "Conservation",
    "Exhibitions",
    "Visitor Services",
    "Estates",
    "Registry",
];

fn people() -> Entries {
    let mut entries = Entries::new();
    for number in 0..COUNT {
        let text = |list: &[&str]| list.iter().map(|value| value.as_bytes().to_vec()).collect::<Vec<_>>();
        let department = DEPARTMENTS.get(number % 8).copied().unwrap_or("");
        let login = format!("person{number:06}");
        let attributes = [
            ("objectClass", text(&["top", "person", "organizationalPerson", "user"])),
            ("cn", text(&[&format!("Person Number {number}")])),
            ("sn", text(&[&format!("Number {number}")])),
            ("givenName", text(&["Person"])),
            ("sAMAccountName", text(&[&login])),
            ("mail", text(&[&format!("{login}@quillmere.example")])),
            ("department", text(&[department])),
            ("title", text(&["Curator of Mosses"])),
            ("telephoneNumber", text(&["+44 1632 960001"])),
            ("userAccountControl", text(&[if number % 11 == 0 { "514" } else { "512" }])),
        ];
        let attributes = attributes.iter().map(|(name, values)| (*name, values.iter().map(Vec::as_slice)));
        entries
            .push(&format!("CN=Person Number {number},OU={department},DC=quillmere,DC=example"), attributes);
    }
    entries
}

const FILTER: &str = "(&(objectCategory=person)(objectClass=user)(department=Botany)(mail=*@quillmere.example)(!(userAccountControl:1.2.840.113556.1.4.803:=2)))";

/// Whether every parenthesis is closed, and nothing else.
fn is_balanced(text: &[u8]) -> bool {
    let mut depth = 0_i32;
    for byte in text {
        match byte {
            b'(' => depth += 1,
            b')' => depth -= 1,
            _ => {}
        }
        if depth < 0 {
            return false;
        }
    }
    depth == 0
}

fn reading(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("filter");
    group.bench_function("parse", |bencher| {
        // Dropped between batches, which is not timed; a large batch would time the kernel's pages.
        bencher.iter_batched(
            || FILTER,
            |text| Filter::parse(black_box(text)).unwrap(),
            BatchSize::NumIterations(100),
        );
    });
    group.bench_function("bare_scan", |bencher| bencher.iter(|| is_balanced(black_box(FILTER.as_bytes()))));
    group.finish();
}

fn evaluation(criterion: &mut Criterion) {
    let entries = people();
    let text = "(&(objectClass=user)(department=Botany)(mail=person*)(!(userAccountControl:1.2.840.113556.1.4.803:=2)))";
    let filter = Filter::parse(text).unwrap();
    let matcher = Matcher::new(&filter, Schema::builtin(), entries.names());
    let id = |name: &str| -> NameId { entries.names().find(name).unwrap() };
    let (class, department, mail, control) =
        (id("objectClass"), id("department"), id("mail"), id("userAccountControl"));

    let mut group = criterion.benchmark_group("filter");
    group.throughput(Throughput::Elements(COUNT as u64));
    group.sample_size(20);
    group.bench_function("evaluate", |bencher| {
        bencher.iter(|| entries.iter().filter(|entry| matcher.matches(*entry)).count());
    });
    group.bench_function("bare_loop", |bencher| {
        bencher.iter(|| {
            entries
                .iter()
                .filter(|entry| {
                    entry.values_by_id(class).any(|value| value.eq_ignore_ascii_case(b"user"))
                        && entry.values_by_id(department).any(|value| value.eq_ignore_ascii_case(b"botany"))
                        && entry.values_by_id(mail).any(|value| {
                            value.get(..6).is_some_and(|front| front.eq_ignore_ascii_case(b"person"))
                        })
                        && !entry.values_by_id(control).any(|value| {
                            let number =
                                std::str::from_utf8(value).ok().and_then(|text| text.parse::<i64>().ok());
                            number.is_some_and(|number| number & 2 == 2)
                        })
                })
                .count()
        });
    });
    group.finish();
    black_box(entries.held_bytes());
}

criterion_group!(benches, reading, evaluation);
criterion_main!(benches);
