//! Reading LDIF, against counting the lines of the same file.
#![allow(missing_docs, reason = "a bench has no public items")]
#![allow(clippy::unwrap_used, reason = "a bench that fails should say so")]

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::fmt::Write as _;
use std::hint::black_box;
use webtaxon_core::ldap::ldif;

/// 20,000 people with ten attributes, some of them folded, some in base64.
fn people() -> String {
    let mut text = String::from("version: 1\n\n");
    for number in 0..20_000 {
        write!(
            text,
            "dn: CN=Person Number {number},OU=Botany,OU=People,DC=quillmere,DC=example\nobjectClass: top\n\
objectClass: person\nobjectClass: organizationalPerson\nobjectClass: user\ncn: Person Number {number}\n\
sn: Number {number}\ngivenName:: UMOpcnPDtG4=\nsAMAccountName: person{number:06}\n\
mail: person{number:06}@quillmere.example\ndepartment: Botany\ntitle: Curator of Mosses, Liverworts and \n \
Hornworts\ntelephoneNumber: +44 1632 960001\nuserAccountControl: 512\n\n"
        )
        .unwrap();
    }
    text
}

fn reading(criterion: &mut Criterion) {
    let text = people();
    let bytes = text.as_bytes();
    let mut group = criterion.benchmark_group("ldif");
    group.throughput(Throughput::Bytes(bytes.len() as u64));
    group.sample_size(30);
    group.bench_function("records", |bencher| {
        bencher.iter(|| {
            ldif::records(black_box(bytes)).map(|record| record.unwrap().attributes.len()).sum::<usize>()
        });
    });
    group.bench_function("stream", |bencher| {
        bencher.iter(|| {
            let mut count = 0;
            let mut stream = ldif::Stream::new();
            for piece in black_box(bytes).chunks(1 << 16) {
                stream.push(piece, |record| count += record.unwrap().attributes.len());
            }
            stream.end(|record| count += record.unwrap().attributes.len());
            count
        });
    });
    group
        .bench_function("entries", |bencher| bencher.iter(|| ldif::entries(black_box(bytes)).unwrap().len()));
    group.bench_function("line_count", |bencher| {
        bencher.iter(|| memchr::memchr_iter(b'\n', black_box(bytes)).count());
    });
    group.bench_function("lines", |bencher| {
        bencher.iter(|| memchr::memchr_iter(b'\n', black_box(bytes)).fold(0, |sum, at| sum ^ black_box(at)));
    });
    group.finish();
}

criterion_group!(benches, reading);
criterion_main!(benches);
