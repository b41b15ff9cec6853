//! Planning, without any I/O: people against accounts, one in twenty changed; the floor is a bare hash
//! join over the same links.
//!
//! ```text
//! cargo bench -p webtaxon-core --bench preview
//! ```

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use std::collections::HashMap;
use std::hint::black_box;
use webtaxon_core::account::{Account, State};
use webtaxon_core::identity::Identity;
use webtaxon_core::name::Dn;
use webtaxon_core::preview::{Memory, Preview};
use webtaxon_core::reading::{Ended, Part, Reading, Source, Sweep};
use webtaxon_core::settings::Settings;

const SETTINGS: &str = "[directory.d]\nservers = \"ldaps://dc1\"\n[accounts]\nstore = \"csv\"\npath = \"a.csv\"\n\
    [[intake]]\nname = \"staff\"\ndirectory = \"d\"\nbases = \"OU=People\"\nfilter = \"(objectClass=person)\"\n\
    [intake.fields]\nlogin = { from = \"uid\", case = \"lower\" }\nname = { from = [\"displayName\", \"cn\"] }\n\
    email = { from = \"mail\", required = true, unique = true }\nroom = { from = \"roomNumber\" }\n";

fn link(number: usize) -> String {
    format!("{number:08x}-52aa-4f0e-9b91-c6021181d5f8")
}

fn made(settings: &Settings, count: usize) -> (Reading, Vec<Account>) {
    let mut sweep = Sweep::new(Source { identity: "entryUUID".to_owned(), ..Source::default() });
    let base = sweep.open(Part::People { base: Dn::parse("OU=People").unwrap_or_default() });
    let mut accounts = Vec::with_capacity(count);
    for number in 0..count {
        let (uid, mail) = (format!("person{number}"), format!("person{number}@quillmere.example"));
        let (name, room) = (format!("Person {number}"), format!("Room {}", number % 400));
        let link = link(number);
        let values =
            [("entryUUID", &link), ("uid", &uid), ("cn", &name), ("mail", &mail), ("roomNumber", &room)];
        let values = values.map(|(name, value)| (name, [value.as_bytes()]));
        let _ = sweep.person(&format!("uid={uid},OU=People"), values);
        let room = if number % 20 == 0 { "Elsewhere".to_owned() } else { room };
        let fields = [("name", name), ("email", mail), ("room", room)];
        let fields = fields.map(|(name, value)| (name.into(), value.into())).into_iter().collect();
        accounts.push(Account { login: uid, link: Identity::from_link(&link), state: State::Active, fields });
    }
    sweep.close(base, Ended::Complete);
    (sweep.finish(&settings.intake), accounts)
}

fn planning(criterion: &mut Criterion) {
    let Ok(settings) = Settings::parse("bench", SETTINGS.as_bytes()) else { return };
    let memory = Memory::on(jiff::civil::date(2026, 11, 25));
    let mut group = criterion.benchmark_group("planning");
    group.sample_size(10);
    for count in [10_000, 100_000, 1_000_000] {
        let (reading, accounts) = made(&settings, count);
        group.throughput(Throughput::Elements(u64::try_from(count).unwrap_or(0)));
        group.bench_function(BenchmarkId::new("preview", count), |bench| {
            bench.iter(|| Preview::new(&settings, &reading, &accounts, &memory).changes.len());
        });
        let people: Vec<String> = (0..count).map(link).collect();
        let theirs: Vec<String> = (0..count).map(link).collect();
        group.bench_function(BenchmarkId::new("hash join", count), |bench| {
            bench.iter(|| {
                let by_link: HashMap<&str, usize> =
                    theirs.iter().enumerate().map(|(at, link)| (link.as_str(), at)).collect();
                people
                    .iter()
                    .filter_map(|link| by_link.get(link.as_str()))
                    .map(|at| black_box(at) & 1)
                    .sum::<usize>()
            });
        });
    }
    group.finish();
}

criterion_group!(benches, planning);
criterion_main!(benches);
