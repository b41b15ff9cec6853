//! Planning, without any I/O: people against accounts, one in twenty changed; the floor is a bare hash
//! join over the same links. And the application's groups: 10,000 of them with a million places, one in twenty
//! changed; the floor is a bare hash join over who is in which.
//!
//! ```text
//! cargo bench -p webtaxon-core --bench preview
//! ```

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use std::collections::HashMap;
use std::hint::black_box;
use webtaxon_core::account::{Account, Group, Groups, State};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::preview::{Memory, Preview, Situation};
use webtaxon_core::reading::{Ended, Part, Reading, ReadingBuilder, Request, Source};
use webtaxon_core::settings::GroupPurpose;
use webtaxon_core::settings::Settings;

const SETTINGS: &str = "[directory.d]\nservers = \"ldaps://dc1\"\n[accounts]\nstore = \"csv\"\npath = \"a.csv\"\n\
    [[intake]]\nname = \"staff\"\ndirectory = \"d\"\nbases = \"OU=People\"\nfilter = \"(objectClass=person)\"\n\
    [intake.fields]\nlogin = { from = \"uid\", case = \"lower\" }\nname = { from = [\"displayName\", \"cn\"] }\n\
    email = { from = \"mail\", required = true, unique = true }\nroom = { from = \"roomNumber\" }\n";

fn link(number: usize) -> String {
    format!("{number:08x}-52aa-4f0e-9b91-c6021181d5f8")
}

fn made(settings: &Settings, count: usize) -> (Reading, Vec<Account>) {
    let (builder, accounts) = swept(count);
    (builder.finish_shown(&Request::of(&settings.intakes.first)), accounts)
}

fn swept(count: usize) -> (ReadingBuilder, Vec<Account>) {
    let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".to_owned(), ..Source::default() });
    let base = builder.open(Part::People { base: Dn::parse("OU=People").unwrap_or_default() });
    let mut accounts = Vec::with_capacity(count);
    for number in 0..count {
        let (uid, mail) = (format!("person{number}"), format!("person{number}@quillmere.example"));
        let (name, room) = (format!("Person {number}"), format!("Room {}", number % 400));
        let link = link(number);
        let values =
            [("entryUUID", &link), ("uid", &uid), ("cn", &name), ("mail", &mail), ("roomNumber", &room)];
        let values = values.map(|(name, value)| (name, [value.as_bytes()]));
        let _ = builder.person(&format!("uid={uid},OU=People"), values);
        let room = if number % 20 == 0 { "Elsewhere".to_owned() } else { room };
        let fields = [("name", name), ("email", mail), ("room", room)];
        let fields = fields.map(|(name, value)| (name.into(), value.into())).into_iter().collect();
        accounts.push(Account { login: uid, link: Identity::from_link(&link), state: State::Active, fields });
    }
    builder.close(base, Ended::Complete);
    (builder, accounts)
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
            bench.iter(|| Preview::of(Situation::new(&settings, &reading, &accounts, &memory)).changes.len());
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

const GROUPS: &str = "[accounts.groups]\npath = \"g.csv\"\n[intake.application_groups]\nbases = \"OU=Groups\"\n\
    filter = \"(cn=*)\"\nname = { from = \"cn\" }\nmembers = \"MEMBERS\"\n";

/// Who is in a group, of so many people.
fn members(group: usize, people: usize) -> impl Iterator<Item = usize> {
    (0..100).map(move |at| (group * 7919 + at * 1009) % people)
}

fn groups(criterion: &mut Criterion) {
    const PEOPLE: usize = 100_000;
    let memory = Memory::on(jiff::civil::date(2026, 11, 25));
    let mut bench = criterion.benchmark_group("groups");
    bench.sample_size(10);
    for kind in ["direct", "flattened"] {
        let text = format!("{SETTINGS}{}", GROUPS.replace("MEMBERS", kind));
        let Ok(settings) = Settings::parse("bench", text.as_bytes()) else { return };
        let (mut builder, accounts) = swept(PEOPLE);
        let part = builder.open(Part::ApplicationGroups { base: Dn::parse("OU=Groups").unwrap_or_default() });
        let mut list = Vec::new();
        for group in 0..10_000 {
            let (name, link) = (format!("Team {group}"), link(1 << 24 | group));
            let values = [("cn", name.as_str()), ("entryUUID", &link)];
            let dn = format!("CN={name},OU=Groups");
            let _ = builder.application_group(&dn, values.map(|(name, value)| (name, [value.as_bytes()])));
            let Ok(parsed) = Dn::parse(&dn) else { return };
            let names: Vec<String> =
                members(group, PEOPLE).map(|person| format!("uid=person{person},OU=People")).collect();
            let nodes = names.iter().filter_map(|name| Some((Dn::parse(name).ok()?.key(), name.as_str())));
            builder.graph_mut().add_group(parsed.key(), &dn, nodes);
            let read = builder.open_group(&parsed, GroupPurpose::Import);
            builder.close(read, Ended::Complete);
            let there = members(group, PEOPLE).filter(|person| (group + person) % 20 != 0);
            let members = there.map(|person| format!("person{person}")).collect();
            list.push(Group { name, link: Identity::from_link(&link), members, ..Group::default() });
        }
        builder.close(part, Ended::Complete);
        let _ = builder.identify_groups();
        let (reading, groups) =
            (builder.finish_shown(&Request::of(&settings.intakes.first)), Groups { list, by_login: true });
        bench.bench_function(BenchmarkId::new("preview without", kind), |bench| {
            bench.iter(|| Preview::of(Situation::new(&settings, &reading, &accounts, &memory)).changes.len());
        });
        bench.bench_function(BenchmarkId::new("preview with", kind), |bench| {
            bench.iter(|| {
                Preview::of(
                    Situation::new(&settings, &reading, &accounts, &memory).with_groups(Some(&groups)),
                )
                .changes
                .len()
            });
        });
        let wanted: Vec<(usize, String)> = (0..10_000)
            .flat_map(|group| members(group, PEOPLE).map(move |person| (group, format!("person{person}"))))
            .collect();
        bench.bench_function(BenchmarkId::new("hash join", kind), |bench| {
            bench.iter(|| {
                let there: HashMap<(usize, &str), ()> = groups
                    .list
                    .iter()
                    .enumerate()
                    .flat_map(|(at, group)| group.members.iter().map(move |login| ((at, login.as_str()), ())))
                    .collect();
                wanted.iter().filter(|(group, login)| there.contains_key(&(*group, login.as_str()))).count()
            });
        });
    }
    bench.finish();
}

criterion_group!(benches, planning, groups);
criterion_main!(benches);
