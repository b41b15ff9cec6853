//! Reaching everybody in a nest, against one plain pass over its edges, at three sizes.
#![allow(missing_docs, reason = "a bench has no public items")]
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a bench that fails should say so, and prints its figures"
)]

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use std::hint::black_box;
use webtaxon_core::graph::Graph;
use webtaxon_core::ldap::name::{Dn, DnKey};

/// Numbers in the same order every time (Knuth's MMIX generator).
struct Dice(u64);

impl Dice {
    fn below(&mut self, count: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % count
    }
}

fn key(kind: &str, number: usize) -> DnKey {
    Dn::parse(&format!("CN={kind}{number},OU=Groups,DC=quillmere,DC=example")).unwrap().key()
}

/// A hundred edges a group on average: most of them to people, some to groups one of twelve levels
/// further down, and a few back up, so that there are cycles.
fn nest(people: usize, groups: usize) -> (Graph, Vec<DnKey>, Vec<Vec<u32>>) {
    let mut dice = Dice(7);
    let mut graph = Graph::new();
    let mut plain = Vec::new();
    let level = groups / 12 + 1;
    for group in 0..groups {
        let mut members = Vec::with_capacity(100);
        let mut ids = Vec::with_capacity(100);
        for edge in 0..100 {
            let (kind, number) = match edge {
                0..3 if group + level < groups => (
                    "g",
                    (group / level + 1) * level + dice.below(level.min(groups - (group / level + 1) * level)),
                ),
                3 if dice.below(50) == 0 => ("g", dice.below(groups)),
                _ => ("p", dice.below(people)),
            };
            ids.push(u32::try_from(number).unwrap());
            members.push(key(kind, number));
        }
        graph.add_group(key("g", group), "", members.iter().map(|key| (key.clone(), "")));
        plain.push(ids);
    }
    let roots = (0..64).map(|root| key("g", root * level / 64)).collect();
    (graph, roots, plain)
}

/// The memory that this process holds, in MB.
fn resident() -> usize {
    let pages = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    let pages = pages.split(' ').nth(1).and_then(|pages| pages.parse::<usize>().ok()).unwrap_or(0);
    (pages * 4096) >> 20
}

fn reaching(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("membership");
    group.sample_size(20);
    for (people, groups) in [(10_000, 1_000), (100_000, 10_000), (1_000_000, 100_000)] {
        let before = resident();
        let (graph, roots, plain) = nest(people, groups);
        let edges: usize = plain.iter().map(Vec::len).sum();
        let floor = (edges * 4 + plain.len() * 24) >> 20;
        println!(
            "{edges} edges between {} names: {} MB, {floor} MB of them the bare edges",
            people + groups,
            resident() - before
        );
        group.throughput(Throughput::Elements(edges as u64));
        group.bench_with_input(BenchmarkId::new("reach_64_roots", edges), &graph, |bencher, graph| {
            bencher.iter(|| graph.reach(black_box(&roots)).len());
        });
        group.bench_with_input(BenchmarkId::new("nesting", edges), &graph, |bencher, graph| {
            bencher.iter(|| black_box(graph.nesting(black_box(&roots))));
        });
        let nesting = graph.nesting(&roots);
        group.bench_with_input(
            BenchmarkId::new("inclusion_64_roots", edges),
            &nesting,
            |bencher, nesting| {
                bencher.iter(|| black_box(nesting.inclusion(black_box(&roots))));
            },
        );
        group.bench_with_input(BenchmarkId::new("plain_pass", edges), &plain, |bencher, plain| {
            bencher.iter(|| plain.iter().flatten().fold(0_u64, |sum, id| sum.wrapping_add(u64::from(*id))));
        });
        group.bench_with_input(BenchmarkId::new("marking_pass", edges), &plain, |bencher, plain| {
            let mut seen = vec![0_u8; people.max(groups)];
            bencher.iter(|| {
                plain.iter().flatten().for_each(|id| {
                    if let Some(slot) = seen.get_mut(*id as usize) {
                        *slot = slot.wrapping_add(1);
                    }
                });
                black_box(&seen);
            });
        });
    }
    group.finish();
}

criterion_group!(benches, reaching);
criterion_main!(benches);
