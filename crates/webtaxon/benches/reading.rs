//! Reading many people from a real slapd, against a bare socket that reads the same responses
//! without decoding them, and against the directory packages' own search tool; the nests of five
//! groups that hold 10,000; and many look-ups at once against one by one.
//!
//! `scripts/bench` starts the server and names it in `WEBTAXON_BENCH_SERVER`; without it, this bench
//! says that it was not run. A word behind it (`reading`, `nests`, `preview`, `lookups`) runs that part alone. Each figure is the median of several rounds, all taken in turn in the
//! same run, so that a noisy machine is noisy for all of them.
#![allow(missing_docs, reason = "a bench has no public items")]
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    clippy::print_stdout,
    reason = "a bench that fails should say so, and prints its figures"
)]

mod bare_socket;

use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use webtaxon::Workspace;
use webtaxon::directory::{Access, Connection, Query, SearchItem};
use webtaxon::model::ldap::entry::Entries;
use webtaxon::model::ldap::filter::Filter;
use webtaxon::model::reading::Request;
use webtaxon::model::settings::Settings;
use webtaxon::progress::{Progress, Watch};
use webtaxon_standin::scenario::ROOTS;
use webtaxon_standin::{Directory, Options, Standin};

const TOP: &str = "dc=crowd,dc=example";
const PAGE: u32 = 1000;
const ROUNDS: usize = 7;
const LOOKUPS: usize = 1000;
const ATTRIBUTES: [&str; 10] = [
    "uid",
    "cn",
    "sn",
    "givenName",
    "displayName",
    "mail",
    "telephoneNumber",
    "title",
    "departmentNumber",
    "entryUUID",
];

fn settings(server: &str, filter: &str, more: &str) -> Settings {
    let text = format!(
        "[directory.d]\nservers = \"ldap://{server}\"\nplain = true\npage = {PAGE}\n[accounts]\nstore = \"csv\"\n\
         path = \"a.csv\"\n[[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = \"{TOP}\"\nfilter = \"{filter}\"\n\
         {more}[intake.fields]\nlogin = {{ from = \"uid\" }}\n"
    );
    Settings::parse("bench", text.as_bytes()).unwrap()
}

async fn connect(server: &str) -> Connection {
    let settings = settings(server, "(uid=*)", "");
    let directory = settings.directory(&settings.intakes.first).unwrap();
    let access = Access::new(directory, Path::new(""), None);
    access.open_first(&access.servers().await.unwrap()).await.unwrap()
}

fn people() -> Query {
    Query::subtree(TOP, Filter::parse("(objectClass=inetOrgPerson)").unwrap(), &ATTRIBUTES)
}

/// Reads everybody, and keeps them if wished.
async fn read(server: &str, keep: bool) -> (usize, Entries) {
    let mut connection = connect(server).await;
    let (mut count, mut entries) = (0, Entries::new());
    let mut search = connection.search(people()).await.unwrap();
    while let Some(found) = search.next().await.unwrap() {
        if let SearchItem::Entry(entry) = found {
            count += 1;
            if keep {
                entries.push(std::str::from_utf8(entry.name()).unwrap(), entry.attributes_as_text());
            }
        }
    }
    drop(search);
    connection.close().await;
    (count, entries)
}

/// Processor time that this process, or its children that have ended, took so far.
fn cpu(children: bool) -> Duration {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap();
    let fields: Vec<u64> = stat
        .rsplit(')')
        .next()
        .unwrap()
        .split_whitespace()
        .skip(1)
        .map(|field| field.parse().unwrap_or(0))
        .collect();
    let at = if children { 12 } else { 10 };
    Duration::from_millis((fields[at] + fields[at + 1]) * 10)
}

fn median<T: Ord + Copy>(mut rounds: Vec<T>) -> T {
    rounds.sort();
    rounds[rounds.len() / 2]
}

fn ratio(name: &str, value: Duration, floor: &str, of: Duration, limit: &str) {
    println!(
        "{name:<28} {:>9.1} ms, {:.2} times {floor} ({:.1} ms); wanted: {limit}",
        value.as_secs_f64() * 1e3,
        value.as_secs_f64() / of.as_secs_f64(),
        of.as_secs_f64() * 1e3
    );
}

/// One look-up of a person after the other, or many at once.
async fn lookups(server: &str, at_once: bool) -> Duration {
    let mut connection = connect(server).await;
    let queries: Vec<Query> =
        (0..LOOKUPS).map(|number| Query::base(&format!("uid=p{number:06},{TOP}"), &["uid"])).collect();
    let began = Instant::now();
    let mut found = 0;
    if at_once {
        connection.pipeline(&queries, |_, entries, _| found += entries.len()).await.unwrap();
    } else {
        for query in queries {
            found += connection.entries(query).await.unwrap().0.len();
        }
    }
    assert_eq!(found, LOOKUPS);
    let took = began.elapsed();
    connection.close().await;
    took
}

/// What a reading gave, and how long it took: as a whole, and behind the people.
struct Read {
    groups: usize,
    /// What was said of the way.
    notes: String,
    whole: Duration,
    nests: Duration,
}

/// Reads everybody by the login, and what more the settings ask for.
async fn nests(server: &str, filter: &str, more: &str) -> Read {
    let settings = settings(server, filter, more);
    let began = Instant::now();
    let people = Arc::new(Mutex::new(began));
    let last = Arc::clone(&people);
    let watch = Watch::new(move |progress| {
        if matches!(progress, Progress::People { .. }) {
            *last.lock().unwrap() = Instant::now();
        }
    });
    let intake = &settings.intakes.first;
    let access = Access::new(settings.directory(intake).unwrap(), Path::new(""), None).watched(watch);
    let reading = webtaxon::directory::read(&access, &Request::of(intake), &[]).await.unwrap();
    assert!(reading.gaps().is_empty(), "{:?}", reading.gaps());
    let (groups, notes) = (reading.graph().groups(), reading.source().notes.join("; "));
    drop(reading);
    let nests = people.lock().unwrap().elapsed();
    Read { groups, notes, whole: began.elapsed(), nests }
}

/// Resolving the nests of five roots, which hold all groups, against a bare socket that reads the
/// same groups: from the last of the people to the end, less what that takes where no group is read. And the same where
/// the intake reads ten of the people only: the others are looked at, as to whether they are groups.
fn resolving(runtime: &tokio::runtime::Runtime, server: &str) {
    let roots = (0..ROOTS).map(|root| format!("\"cn=g{root:05},{TOP}\"")).collect::<Vec<_>>().join(", ");
    let strategies = ["auto", "sweep", "downwards"];
    let lines = strategies.map(|strategy| format!("groups = [{roots}]\nstrategy = \"{strategy}\"\n"));
    let read = |filter: &str, more: &str| runtime.block_on(nests(server, filter, more));
    let (everybody, ten) = ("(uid=*)", "(uid=p00000*)");
    let asked = ["objectClass", "member", "uniqueMember", "memberUid", "memberURL", "gidNumber"];
    let names: Vec<String> = (0..10_000).map(|number| format!("cn=g{number:05},{TOP}")).collect();
    let (mut floors, mut looked_up, mut people) = (Vec::new(), Vec::new(), Vec::new());
    let (mut ways, mut wide, mut everything) = (strategies.map(|_| Vec::new()), Vec::new(), Vec::new());
    let (mut groups, mut bytes, mut notes, mut wide_notes) = (0, 0, String::new(), String::new());
    for _ in 0..ROUNDS {
        let began = Instant::now();
        let filter = "(objectClass=groupOfNames)";
        bytes = bare_socket::read(server, TOP, filter, &asked, PAGE).0;
        floors.push(began.elapsed());
        let began = Instant::now();
        bare_socket::look_up(server, &names, &asked, 64);
        looked_up.push(began.elapsed());
        let began = Instant::now();
        bare_socket::read(server, TOP, "(objectClass=*)", &asked, PAGE);
        everything.push(began.elapsed());
        for (line, times) in lines.iter().zip(&mut ways) {
            people.push(read(everybody, "").nests);
            let read = read(everybody, line);
            times.push(read.nests);
            groups = read.groups;
            if notes.is_empty() {
                notes = read.notes;
            }
        }
        let read = read(ten, &lines[0]);
        (wide_notes, _) = (read.notes, wide.push(read.whole));
    }
    let (floor, looked_up, people) = (median(floors), median(looked_up), median(people));
    println!("{groups} groups, {:.1} MB; auto: {notes}", bytes as f64 / 1e6);
    for (strategy, times) in strategies.iter().zip(ways) {
        let own = median(times).saturating_sub(people);
        ratio(&format!("nests/{strategy}"), own, "bare socket", floor, "1.3 at most");
        if *strategy == "downwards" {
            ratio("nests/downwards", own, "the same look-ups from a bare socket", looked_up, "1.3 at most");
        }
    }
    println!("ten people read, auto: {wide_notes}");
    ratio("nests/ten people", median(wide), "bare socket for every entry", median(everything), "as it comes");
}

/// The whole preview of everybody, 5 % of whose accounts have another name, against a bare socket that
/// reads the same people.
fn previewing(runtime: &tokio::runtime::Runtime, server: &str, folder: &Path) {
    let mut accounts = "login,link,state,name,email\n".to_owned();
    let (count, people) = runtime.block_on(read(server, true));
    for (number, person) in people.iter().enumerate() {
        let text = |attribute| person.text(attribute).unwrap_or_default();
        let name = if number % 20 == 0 { "Old Name" } else { text("displayName") };
        accounts += &format!("{},{},active,\"{name}\",{}\n", text("uid"), text("entryUUID"), text("mail"));
    }
    std::fs::write(folder.join("accounts.csv"), accounts).unwrap();
    std::fs::write(
        folder.join("webtaxon.toml"),
        format!(
            "[directory.d]\nservers = \"ldap://{server}\"\nplain = true\npage = {PAGE}\n[accounts]\nstore = \"csv\"\n\
             path = \"accounts.csv\"\n[[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = \"{TOP}\"\n\
             filter = \"(objectClass=inetOrgPerson)\"\n[intake.fields]\nlogin = {{ from = \"uid\" }}\n\
             name = {{ from = \"displayName\" }}\nemail = {{ from = \"mail\" }}\n"
        ),
    )
    .unwrap();
    let workspace = Workspace::open(folder.join("webtaxon.toml")).unwrap();
    // The answers are the same; slapd takes longer for names that it does not know.
    let given = ["displayName", "entryUUID", "mail", "uid"];
    let more = ["nsAccountLock", "nsUniqueId", "objectGUID", "pwdAccountLockedTime", "shadowExpire"];
    let asked = [&given[..], &more[..]].concat();
    let (mut floors, mut shortest, mut wholes) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        for (attributes, times) in [(&asked[..], &mut floors), (&given[..], &mut shortest)] {
            let began = Instant::now();
            bare_socket::read(server, TOP, "(objectClass=inetOrgPerson)", attributes, PAGE);
            times.push(began.elapsed());
        }
        let began = Instant::now();
        let preview = runtime.block_on(workspace.preview()).unwrap();
        wholes.push(began.elapsed());
        assert_eq!((preview.is_whole(), preview.changes.len()), (true, count.div_ceil(20)));
    }
    let whole = median(wholes);
    ratio("preview/whole on slapd", whole, "bare socket", median(floors), "1.4 at most");
    ratio("preview/whole on slapd", whole, "asking for what it has alone", median(shortest), "as it comes");
}

/// Reading everybody, with and without keeping them, against a bare socket and the search tool.
fn streaming(runtime: &tokio::runtime::Runtime, server: &str) {
    let (mut floors, mut streams, mut keeps) = (Vec::new(), Vec::new(), Vec::new());
    let (mut own_cpu, mut tool_cpu) = (Vec::new(), Vec::new());
    let (mut bytes, mut held, mut count) = (0, 0, 0);
    for _ in 0..ROUNDS {
        let began = Instant::now();
        let (read_bytes, frames) =
            bare_socket::read(server, TOP, "(objectClass=inetOrgPerson)", &ATTRIBUTES, PAGE);
        floors.push(began.elapsed());
        bytes = read_bytes;
        let (began, before) = (Instant::now(), cpu(false));
        count = runtime.block_on(read(server, false)).0;
        streams.push(began.elapsed());
        own_cpu.push(cpu(false) - before);
        assert!(frames > count);
        let began = Instant::now();
        let (kept, entries) = runtime.block_on(read(server, true));
        keeps.push(began.elapsed());
        held = entries.held_bytes();
        assert_eq!((kept, entries.len()), (count, count));
        let before = cpu(true);
        let status = Command::new("ldapsearch")
            .args(["-x", "-LLL", "-o", "ldif-wrap=no", "-E", &format!("pr={PAGE}/noprompt"), "-H"])
            .arg(format!("ldap://{server}"))
            .args(["-b", TOP, "(objectClass=inetOrgPerson)"])
            .args(ATTRIBUTES)
            .stdout(Stdio::null())
            .status();
        assert!(status.unwrap().success());
        tool_cpu.push(cpu(true) - before);
    }
    let floor = median(floors);
    println!(
        "{count} people, ten attributes, {:.1} MB, slapd on loopback, medians of {ROUNDS}",
        bytes as f64 / 1e6
    );
    ratio("reading/stream", median(streams), "bare socket", floor, "1.3 at most");
    ratio("reading/keep", median(keeps), "bare socket", floor, "1.3 at most");
    ratio("reading/cpu", median(own_cpu), "ldapsearch", median(tool_cpu), "1 at most");
    println!(
        "reading/held                 {:>9.1} MB, {:.2} times the wire; wanted: 2 at most",
        held as f64 / 1e6,
        held as f64 / bytes as f64
    );
}

/// Look-ups one by one against many at once, on slapd and on a server that is slow to answer.
fn looking_up(runtime: &tokio::runtime::Runtime, server: &str) {
    let one = runtime.block_on(lookups(server, false));
    let many = runtime.block_on(lookups(server, true));
    ratio("lookups/one_by_one on slapd", one, "64 at once", many, "as it comes");
    // A server that takes its time with each answer, as some do: what is at once counts there.
    let (send, receive) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let ldif = webtaxon_standin::scenario::crowd(LOOKUPS);
            let directory = Arc::new(Directory::from_ldif(ldif.as_bytes()).unwrap());
            let latency = Duration::from_millis(5);
            let options = Options { tls: false, anonymous: true, latency, ..Options::default() };
            let standin = Standin::start(directory, options).await.unwrap();
            send.send(standin.address().to_string()).unwrap();
            std::future::pending::<()>().await;
        });
    });
    let slow = receive.recv().unwrap();
    let one = runtime.block_on(lookups(&slow, false));
    let many = runtime.block_on(lookups(&slow, true));
    ratio("lookups/one_by_one at 5 ms", one, "64 at once", many, "10 at least");
}

fn main() {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let Ok(server) = std::env::var("WEBTAXON_BENCH_SERVER") else {
        println!("reading: NOT RUN. It needs a real slapd: scripts/bench starts one, as root.");
        return;
    };
    let only = std::env::args().skip(1).find(|argument| !argument.starts_with('-'));
    let runs = |part: &str| only.as_deref().is_none_or(|only| only == part);
    if runs("reading") {
        streaming(&runtime, &server);
    }
    if runs("nests") {
        resolving(&runtime, &server);
    }
    if runs("preview") {
        previewing(&runtime, &server, tempfile::tempdir().unwrap().path());
    }
    if runs("lookups") {
        looking_up(&runtime, &server);
    }
}
