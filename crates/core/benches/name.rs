//! Comparing two equal names once both are prepared, against comparing their bytes; and what an
//! index of a million names takes.
#![allow(missing_docs, reason = "a bench has no public items")]
#![allow(clippy::unwrap_used, reason = "a bench that fails should say so")]

use criterion::{Criterion, criterion_group, criterion_main};
use std::collections::HashMap;
use std::hint::black_box;
use webtaxon_core::ldap::name::{Dn, DnKey};

const ONE: &str = r"CN=Ibbotson\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example";
const OTHER: &str = r"cn=ibbotson\2C ADA,ou=botany, ou=people,dc=Quillmere,dc=example";

fn comparing(criterion: &mut Criterion) {
    let (one, other) = (Dn::parse(ONE).unwrap().key(), Dn::parse(OTHER).unwrap().key());
    let bytes = (ONE.as_bytes().to_vec(), ONE.as_bytes().to_vec());
    let mut group = criterion.benchmark_group("name");
    group.bench_function("equal", |bencher| bencher.iter(|| black_box(&one) == black_box(&other)));
    group.bench_function("bytes", |bencher| bencher.iter(|| black_box(&bytes.0) == black_box(&bytes.1)));
    group.bench_function("prepare", |bencher| bencher.iter(|| Dn::parse(black_box(ONE)).unwrap().key()));
    group.finish();
}

/// Resident memory of this process, in KiB; none where the system does not tell.
fn resident() -> Option<usize> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find(|line| line.starts_with("VmRSS:"))?;
    line.split_whitespace().nth(1)?.parse().ok()
}

fn index(_: &mut Criterion) {
    const COUNT: usize = 1_000_000;
    let before = resident();
    let mut index: HashMap<DnKey, u32> = HashMap::with_capacity(COUNT);
    for number in 0..COUNT {
        let dn = format!("CN=Person Number {number},OU=Botany,OU=People,DC=quillmere,DC=example");
        index.insert(Dn::parse(&dn).unwrap().key(), u32::try_from(number).unwrap());
    }
    if let (Some(before), Some(after)) = (before, resident()) {
        #[allow(clippy::print_stdout, reason = "the figure is what the bench is for")]
        {
            println!("name/index: {COUNT} names take {} bytes each", (after - before) * 1024 / COUNT);
        }
    }
    black_box(index.len());
}

criterion_group!(benches, comparing, index);
criterion_main!(benches);
