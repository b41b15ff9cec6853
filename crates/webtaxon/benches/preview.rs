//! A preview of 20,000 people from the simulated directory, against reading the same search's bytes
//! from the socket without decoding the entries.
//!
//! Both ask the same server in the same run, in plain text on loopback; the server has a thread
//! of its own.
#![allow(missing_docs, reason = "a bench has no public items")]
#![allow(clippy::unwrap_used, clippy::indexing_slicing, reason = "a bench that fails should say so")]

mod bare_socket;

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::fmt::Write as _;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use webtaxon::Workspace;
use webtaxon_standin::{Directory, Options, Standin};

const COUNT: usize = 20_000;
const PAGE: u32 = 500;

/// A tree of people with ten attributes, and an account for nine of ten.
fn write(folder: &Path) -> String {
    let mut ldif = String::from("dn: DC=quillmere,DC=example\nobjectClass: domain\ndc: quillmere\n\n");
    let mut accounts = String::from("login,link,state,name,email\n");
    for number in 0..COUNT {
        let guid = format!("{number:08x}-0000-4000-8000-000000000000");
        let _ = write!(
            ldif,
            "dn: CN=Person {number},DC=quillmere,DC=example\nobjectClass: top\nobjectClass: person\nobjectClass: user\n\
             cn: Person {number}\nsn: {number}\nuid: p{number:05}\nmail: p{number:05}@quillmere.example\n\
             department: Botany\ntitle: Curator of Mosses\ntelephoneNumber: +44 1632 960001\n\
             displayName: Person Number {number}\nemployeeNumber: {number}\nentryUUID: {guid}\n\n"
        );
        if number % 10 > 0 {
            let name = if number % 20 == 1 { "Old Name" } else { "Person Number" };
            let _ = writeln!(
                accounts,
                "p{number:05},{guid},active,{name} {number},p{number:05}@quillmere.example"
            );
        }
    }
    std::fs::write(folder.join("accounts.csv"), accounts).unwrap();
    ldif
}

fn settings(address: SocketAddr) -> String {
    format!(
        "[directory.d]\nservers = \"ldap://{address}\"\nplain = true\npage = {PAGE}\n[accounts]\nstore = \"csv\"\n\
         path = \"accounts.csv\"\n[[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = \"DC=quillmere,DC=example\"\n\
         filter = \"(objectClass=user)\"\nidentity = \"entryUUID\"\n[intake.fields]\nlogin = {{ from = \"uid\" }}\n\
         name = {{ from = \"displayName\" }}\nemail = {{ from = \"mail\" }}\n"
    )
}

/// The search that the preview makes, its answers counted and thrown away.
fn read_bytes(address: SocketAddr) -> usize {
    let attributes = ["displayName", "entryUUID", "mail", "uid"];
    bare_socket::read(address, "DC=quillmere,DC=example", "(objectClass=user)", &attributes, PAGE).0
}

fn preview(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().unwrap();
    let ldif = write(folder.path());
    let (send, receive) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let directory = Arc::new(Directory::from_ldif(ldif.as_bytes()).unwrap());
            let options = Options { tls: false, anonymous: true, ..Options::default() };
            let standin = Standin::start(directory, options).await.unwrap();
            send.send(standin.address()).unwrap();
            std::future::pending::<()>().await;
        });
    });
    let address = receive.recv().unwrap();
    let file = folder.path().join("webtaxon.toml");
    std::fs::write(&file, settings(address)).unwrap();
    let workspace = Workspace::open(&file).unwrap();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();

    let mut group = criterion.benchmark_group("preview");
    group.throughput(Throughput::Elements(COUNT as u64));
    group.sample_size(20);
    group.bench_function("whole", |bencher| {
        bencher.iter(|| {
            let preview = runtime.block_on(workspace.preview()).unwrap();
            assert_eq!((preview.changes.len(), preview.is_whole()), (COUNT / 10 + COUNT / 20, true));
        });
    });
    group
        .bench_function("bare_socket", |bencher| bencher.iter(|| assert!(read_bytes(address) > COUNT * 100)));
    group.finish();
}

criterion_group!(benches, preview);
criterion_main!(benches);
