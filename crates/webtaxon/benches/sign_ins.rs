//! Sign-ins at a real slapd, 64 at once, against the bare minimum: a search for the name and a bind on kept connections,
//! with nothing decided. A sign-in reads the entry once more after the bind, so there is a second figure against these three.
//!
//! `scripts/bench` starts the server and names it in `WEBTAXON_BENCH_SERVER`; without it, this bench says that it was not run.
//! The figures are medians of several rounds, all taken in turn in the same run.
#![allow(missing_docs, reason = "a bench has no public items")]
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    clippy::print_stdout,
    reason = "a bench that fails should say so, and prints its figures"
)]

mod bare_socket;

use bare_socket::Bare;
use secrecy::SecretString;
use std::fmt::Write as _;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};
use webtaxon::model::settings::Settings;
use webtaxon::model::sign_in::Refusal;
use webtaxon::sign_in::SignInOutcome;
use webtaxon::{SignIns, Workspace};

const TOP: &str = "dc=crowd,dc=example";
const PEOPLE: usize = 100_000;
const AT_ONCE: usize = 64;
const EACH: usize = 40;
const ROUNDS: usize = 5;

/// The link of the person with a number.
fn link(number: usize) -> String {
    format!("{number:08x}-0000-4000-8000-000000000000")
}

/// The settings: people, or people of a group that contains all others; the accounts are linked to the first people.
fn workspace(servers: &str, more: &str, folder: &Path) -> Workspace {
    let mut list = "login,link,state,name\n".to_owned();
    for number in 0..AT_ONCE * EACH {
        let _ = writeln!(list, "p{number:06},{},active,Person Number {number}", link(number));
    }
    std::fs::write(folder.join("a.csv"), list).unwrap();
    with_store("store = \"csv\"\npath = \"a.csv\"", servers, more, folder)
}

/// The same with accounts in a table, which has one for everybody in the directory.
fn with_table(servers: &str, folder: &Path) -> Workspace {
    let mut db = rusqlite::Connection::open(folder.join("a.sqlite")).unwrap();
    db.execute_batch(
        "CREATE TABLE account (login TEXT PRIMARY KEY, link TEXT UNIQUE, state TEXT, name TEXT)",
    )
    .unwrap();
    let all = db.transaction().unwrap();
    for number in 0..PEOPLE {
        let row =
            [format!("p{number:06}"), link(number), "active".to_owned(), format!("Person Number {number}")];
        all.execute("INSERT INTO account VALUES (?, ?, ?, ?)", row).unwrap();
    }
    all.commit().unwrap();
    with_store("store = \"sqlite\"\npath = \"a.sqlite\"\ntable = \"account\"", servers, "", folder)
}

fn with_store(store: &str, servers: &str, more: &str, folder: &Path) -> Workspace {
    let text = format!(
        "[directory.d]\nservers = {servers}\nplain = true\nconnect_timeout = \"1s\"\n[accounts]\n{store}\n\
         [[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = \"{TOP}\"\nfilter = \"(objectClass=inetOrgPerson)\"\n\
         {more}[intake.fields]\nlogin = {{ from = \"uid\" }}\nname = {{ from = \"cn\" }}\n\
         [sign_in]\nthrottle = {{ tries = 1_000_000, from_one_source = 1_000_000 }}\n"
    );
    Workspace::new(Settings::parse("bench", text.as_bytes()).unwrap(), folder)
}

/// So many sign-ins at once, each of another person; returns the time of all, and the slowest hundredth.
async fn sign_ins(sign_ins: &SignIns) -> (Duration, Duration) {
    let began = Instant::now();
    let mut tasks = Vec::new();
    for task in 0..AT_ONCE {
        let sign_ins = sign_ins.clone();
        tasks.push(tokio::spawn(async move {
            let mut took = Vec::new();
            for number in 0..EACH {
                let name = format!("p{:06}", task * EACH + number);
                let one = Instant::now();
                let outcome =
                    sign_ins.sign_in(&name, &SecretString::from(format!("heron-{name}")), "bench").await;
                took.push(one.elapsed());
                let is_right = matches!(&outcome, SignInOutcome::SignedIn(_))
                    || matches!(&outcome, SignInOutcome::Refused(Refusal::Standing(_)));
                assert!(is_right, "{name}: {outcome:?}");
            }
            took
        }));
    }
    let mut took = Vec::new();
    for task in tasks {
        took.extend(task.await.unwrap());
    }
    took.sort();
    (began.elapsed(), took[took.len() * 99 / 100])
}

/// The same searches and binds by a bare socket, on connections that are kept; with `again`, each search is made once more.
async fn bare(server: &str, again: bool) -> Duration {
    let mut connections = Vec::new();
    for _ in 0..AT_ONCE {
        connections.push((Bare::open(server).await, Bare::open(server).await));
    }
    let began = Instant::now();
    let mut tasks = Vec::new();
    for (task, (mut searches, mut binds)) in connections.into_iter().enumerate() {
        tasks.push(tokio::spawn(async move {
            for number in 0..EACH {
                let name = format!("p{:06}", task * EACH + number);
                searches.find(TOP, "uid", &name).await;
                binds.bind(&format!("uid={name},{TOP}"), &format!("heron-{name}")).await;
                if again {
                    searches.find(TOP, "uid", &name).await;
                }
            }
        }));
    }
    for task in tasks {
        task.await.unwrap();
    }
    began.elapsed()
}

/// The memory of this process that is in use.
fn memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse().unwrap()
}

fn median<T: Ord + Copy>(mut all: Vec<T>) -> T {
    all.sort();
    all[all.len() / 2]
}

#[tokio::main]
async fn main() {
    let Ok(server) = std::env::var("WEBTAXON_BENCH_SERVER") else {
        println!("Sign-ins were not measured: scripts/bench starts the server for them.");
        return;
    };
    let group = format!("groups = \"cn=g00000,{TOP}\"\ngroup_bases = \"{TOP}\"\n");
    // Connections are taken there, and nothing is said.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let first_dead = format!("[\"ldap://{}\", \"ldap://{server}\"]", silent.local_addr().unwrap());
    let alone = format!("\"ldap://{server}\"");
    let folders = [(); 4].map(|()| tempfile::tempdir().unwrap());
    let plain = SignIns::open(&workspace(&alone, "", folders[0].path())).await.unwrap();
    let grouped = SignIns::open(&workspace(&alone, &group, folders[1].path())).await.unwrap();
    let half_dead = SignIns::open(&workspace(&first_dead, "", folders[2].path())).await.unwrap();
    let table = SignIns::open(&with_table(&alone, folders[3].path())).await.unwrap();
    let (mut floor, mut three, mut all, mut of_group) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let (mut slow, mut slow_half_dead, mut of_table) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        floor.push(bare(&server, false).await);
        three.push(bare(&server, true).await);
        let (took, slowest) = sign_ins(&plain).await;
        all.push(took);
        slow.push(slowest);
        slow_half_dead.push(sign_ins(&half_dead).await.1);
        of_table.push(sign_ins(&table).await.0);
        of_group.push(sign_ins(&grouped).await.0);
    }
    let count = u32::try_from(AT_ONCE * EACH).unwrap();
    let (floor, three, all, of_group) = (median(floor), median(three), median(all), median(of_group));
    let each = |took: Duration| (took / count).as_secs_f64() * 1e6;
    let ratio = |took: Duration, floor: Duration| took.as_secs_f64() / floor.as_secs_f64();
    println!(
        "sign-ins, {AT_ONCE} at once: {:.0} µs each, {:.2} times a bare search and bind ({:.0} µs); wanted: 1.3. {:.2} times \
         these and the search that safety asks for after the bind",
        each(all),
        ratio(all, floor),
        each(floor),
        ratio(all, three),
    );
    println!(
        "slowest hundredth: {:.1} ms; with a first server that is dead, {:.2} times that",
        median(slow.clone()).as_secs_f64() * 1e3,
        ratio(median(slow_half_dead), median(slow)),
    );
    println!(
        "with {PEOPLE} accounts in a table: {:.2} times a bare search and bind",
        ratio(median(of_table), floor)
    );
    println!(
        "with a group that holds 10,000 others: {:.0} µs each, {:.2} times a bare search and bind",
        each(of_group),
        ratio(of_group, floor)
    );
    let plain = Arc::new(plain);
    let before = memory();
    let tries = 100_000;
    for _ in 0..tries / (AT_ONCE * EACH) {
        sign_ins(&plain).await;
    }
    println!("memory: {} kB before {tries} tries, {} kB after", before, memory());
}
