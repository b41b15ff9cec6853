//! The application's list: reading 100,000 accounts, importing as many, and changing 5,000 of them, each
//! against the least that could do it: a bare cursor, a prepared insert in one transaction, rows by the
//! thousand, a copy of the file. A whole apply into a file, with journal and copies, is measured, too.
//!
//! `scripts/bench` starts a PostgreSQL and a MariaDB server and names their sockets in `WEBTAXON_BENCH_POSTGRES` (a
//! folder) and `WEBTAXON_BENCH_MARIADB`; without them, this bench says what was not run. Each figure is the median of several rounds, all
//! taken in turn in the same run.
#![allow(missing_docs, reason = "a bench has no public items")]
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    clippy::too_many_lines,
    clippy::print_stdout,
    reason = "a bench that fails should say so, and prints its figures"
)]

use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, OptsBuilder};
use rusqlite::Connection;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering::Relaxed;
use std::time::{Duration, Instant};
use tokio_postgres::types::ToSql;
use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::model::account::{Account, State};
use webtaxon::model::apply::{Edit, Outcome};
use webtaxon::model::ldap::identity::Identity;
use webtaxon::model::preview::ChangeKind;
use webtaxon::model::settings::Settings;
use webtaxon::store::{AccountStore, Terms, open};
use webtaxon_standin::{Directory, Options, Standin};

const COUNT: usize = 100_000;
const CHANGED: usize = 5_000;
const ROUNDS: usize = 5;
const FIELDS: [&str; 3] = ["name", "email", "room"];
const TABLE: &str =
    "(login text NOT NULL UNIQUE, link text UNIQUE, state text NOT NULL, name text, email text, room text)";
const INSERT: &str = "INSERT INTO account (login, link, state, name, email, room) VALUES";

fn account(number: usize, room: &str) -> Account {
    let fields = [
        ("name", format!("Person {number}")),
        ("email", format!("person{number}@quillmere.example")),
        ("room", room.to_owned()),
    ];
    Account {
        login: format!("person{number}"),
        link: Identity::from_link(&format!("{number:08x}-52aa-4f0e-9b91-c6021181d5f8")),
        state: State::Active,
        fields: fields.map(|(name, value)| (name.into(), value.into())).into_iter().collect(),
    }
}

fn cells(account: &Account) -> [String; 6] {
    ["login", "link", "state", "name", "email", "room"].map(|name| account.value(name).to_owned())
}

fn imports() -> Vec<Edit> {
    let edit = |number| Edit::new(ChangeKind::Import, None, Some(account(number, "Botany 1")));
    (0..COUNT).map(edit).collect()
}

/// Every twentieth person moves.
fn updates() -> Vec<Edit> {
    let side = |number, room: &str| {
        let mut one = account(number, room);
        one.fields.retain(|name, _| name == "room");
        Some(one)
    };
    let edit = |at| {
        let number = at * (COUNT / CHANGED);
        let (before, after) = (side(number, "Botany 1"), side(number, "Botany 2"));
        Edit::new(ChangeKind::Update, before, after)
    };
    (0..CHANGED).map(edit).collect()
}

fn store(folder: &Path, accounts: &str) -> Box<dyn AccountStore> {
    let text = format!(
        "[directory.d]\nservers = \"ldaps://d\"\n[accounts]\n{accounts}\n[[intake]]\nname = \"all\"\n\
         directory = \"d\"\nbases = \"dc=d\"\nfilter = \"(uid=*)\"\n[intake.fields]\nlogin = {{ from = \"uid\" }}\n"
    );
    let settings = Settings::parse("bench", text.as_bytes()).unwrap();
    open(&settings.accounts.store, folder)
}

fn fields() -> Arc<[String]> {
    FIELDS.map(str::to_owned).into()
}

async fn carry_out(store: &dyn AccountStore, edits: &[Edit]) -> Duration {
    let terms = Terms { fields: fields(), unique: ["email".to_owned()].into(), ..Terms::default() };
    let edits: Arc<[Edit]> = edits.into();
    let done = Arc::new(AtomicUsize::new(0));
    let told = Arc::clone(&done);
    let began = Instant::now();
    let record = move |_: usize, outcome: Outcome| {
        told.fetch_add(usize::from(outcome == Outcome::Done), Relaxed);
        std::ops::ControlFlow::Continue(())
    };
    store.carry_out(Arc::clone(&edits), terms, Box::new(record)).await.unwrap();
    let took = began.elapsed();
    assert_eq!(done.load(Relaxed), edits.len());
    took
}

async fn read(store: &dyn AccountStore) -> Duration {
    let began = Instant::now();
    assert_eq!(store.accounts(fields()).await.unwrap().len(), COUNT);
    began.elapsed()
}

/// What was measured of one thing, and of its floor.
struct Pair(&'static str, &'static str, Vec<Duration>, Vec<Duration>);

impl Pair {
    fn new(what: &'static str, floor: &'static str) -> Self {
        Self(what, floor, Vec::new(), Vec::new())
    }

    fn push(&mut self, ours: Duration, floor: Duration) {
        self.2.push(ours);
        self.3.push(floor);
    }

    fn print(mut self) {
        let median = |all: &mut Vec<Duration>| {
            all.sort();
            all[all.len() / 2]
        };
        let (ours, floor) = (median(&mut self.2), median(&mut self.3));
        println!(
            "{:<44} {:>8.1} ms   {:<36} {:>8.1} ms   {:>6.2}",
            self.0,
            ours.as_secs_f64() * 1e3,
            self.1,
            floor.as_secs_f64() * 1e3,
            ours.as_secs_f64() / floor.as_secs_f64()
        );
    }
}

async fn sqlite(edits: &[Edit], moved: &[Edit]) {
    let mut import = Pair::new("SQLite, 100,000 imports", "prepared insert, one transaction");
    let mut reading = Pair::new("SQLite, reading 100,000 accounts", "bare cursor");
    let mut update = Pair::new("SQLite, 5,000 updates among 100,000", "prepared update, one transaction");
    for _ in 0..ROUNDS {
        let folder = tempfile::tempdir().unwrap();
        let fresh = |name: &str| {
            let db = Connection::open(folder.path().join(name)).unwrap();
            db.execute_batch(&format!("PRAGMA synchronous = FULL; CREATE TABLE account {TABLE}")).unwrap();
            db
        };
        drop(fresh("ours.sqlite"));
        let ours = store(folder.path(), "store = \"sqlite\"\npath = \"ours.sqlite\"\ntable = \"account\"");
        let took = carry_out(&*ours, edits).await;
        let mut db = fresh("floor.sqlite");
        let began = Instant::now();
        let change = db.transaction().unwrap();
        let mut insert = change.prepare(&format!("{INSERT} (?, ?, ?, ?, ?, ?)")).unwrap();
        for edit in edits {
            insert.execute(cells(edit.after.as_ref().unwrap())).unwrap();
        }
        drop(insert);
        change.commit().unwrap();
        import.push(took, began.elapsed());

        let took = read(&*ours).await;
        let began = Instant::now();
        assert_eq!(cursor(&db), COUNT);
        reading.push(took, began.elapsed());

        let took = carry_out(&*ours, moved).await;
        let began = Instant::now();
        let change = db.transaction().unwrap();
        let mut one = change.prepare("UPDATE account SET room = ? WHERE login = ?").unwrap();
        for edit in moved {
            let after = edit.after.as_ref().unwrap();
            assert_eq!(one.execute([after.value("room"), &after.login]).unwrap(), 1);
        }
        drop(one);
        change.commit().unwrap();
        update.push(took, began.elapsed());
    }
    for pair in [import, reading, update] {
        pair.print();
    }
}

/// Reads every row as texts, and keeps them.
fn cursor(db: &Connection) -> usize {
    let mut query = db.prepare("SELECT login, link, state, name, email, room FROM account").unwrap();
    let mut rows = query.query([]).unwrap();
    let mut all: Vec<[Option<String>; 6]> = Vec::new();
    while let Some(row) = rows.next().unwrap() {
        all.push(std::array::from_fn(|at| row.get(at).unwrap()));
    }
    all.len()
}

async fn csv(edits: &[Edit]) {
    let mut import = Pair::new("CSV, 100,000 imports", "copying the file, with fsync");
    for _ in 0..ROUNDS {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("accounts.csv");
        std::fs::write(&file, "login,link,state,name,email,room\n").unwrap();
        let ours = store(folder.path(), "store = \"csv\"\npath = \"accounts.csv\"");
        let took = carry_out(&*ours, edits).await;
        let began = Instant::now();
        copy(&file, &folder.path().join("copy.csv"));
        import.push(took, began.elapsed());
    }
    import.print();
}

fn copy(from: &PathBuf, to: &PathBuf) {
    std::fs::copy(from, to).unwrap();
    std::fs::File::open(to).unwrap().sync_all().unwrap();
}

/// A whole apply: the journal, a copy of the file, the file, the journal's end.
async fn apply() {
    let mut ldif = String::from("dn: DC=quillmere,DC=example\nobjectClass: domain\ndc: quillmere\n\n");
    for number in 0..COUNT {
        let guid = format!("{number:08x}-52aa-4f0e-9b91-c6021181d5f8");
        ldif += &format!(
            "dn: CN=Person {number},DC=quillmere,DC=example\nobjectClass: top\nobjectClass: person\nobjectClass: user\n\
             cn: Person {number}\nsn: {number}\nuid: person{number}\nmail: person{number}@quillmere.example\n\
             physicalDeliveryOfficeName: Botany 1\nentryUUID: {guid}\n\n"
        );
    }
    let directory = Directory::from_ldif(ldif.as_bytes()).unwrap();
    let standin =
        Standin::start(Arc::new(directory), Options { tls: false, anonymous: true, ..Options::default() })
            .await
            .unwrap();
    let folder = tempfile::tempdir().unwrap();
    let settings = folder.path().join("webtaxon.toml");
    let text = format!(
        "[directory.d]\nservers = \"ldap://{}\"\nplain = true\n[accounts]\nstore = \"csv\"\npath = \"accounts.csv\"\n\
         [[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = \"DC=quillmere,DC=example\"\n\
         filter = \"(objectClass=user)\"\nidentity = \"entryUUID\"\n[intake.fields]\nlogin = {{ from = \"uid\" }}\n\
         name = {{ from = \"cn\" }}\nemail = {{ from = \"mail\" }}\nroom = {{ from = \"physicalDeliveryOfficeName\" }}\n",
        standin.address()
    );
    std::fs::write(&settings, text).unwrap();
    let file = folder.path().join("accounts.csv");
    let empty = "login,link,state,name,email,room\n";
    std::fs::write(&file, empty).unwrap();
    let workspace = Workspace::open(&settings).unwrap();
    let (_, work) = workspace.work().await.unwrap();
    assert_eq!(work.edits().len(), COUNT);
    let consent = Consent { who: "bench".into(), release: vec!["first".into()], stop_after: None };
    let mut whole = Pair::new("CSV, a whole apply of 100,000 imports", "copying the file, with fsync");
    for _ in 0..ROUNDS {
        std::fs::write(&file, empty).unwrap();
        let _ = std::fs::remove_file(folder.path().join("webtaxon.state.sqlite"));
        let _ = std::fs::remove_dir_all(folder.path().join("webtaxon.backups"));
        let began = Instant::now();
        assert!(workspace.apply(&work, &consent).await.unwrap().is_complete());
        let took = began.elapsed();
        let began = Instant::now();
        copy(&file, &folder.path().join("copy.csv"));
        whole.push(took, began.elapsed());
    }
    whole.print();
}

async fn mariadb(socket: &str, edits: &[Edit], moved: &[Edit]) {
    let mut import = Pair::new("MariaDB, 100,000 imports", "inserts of 1,000 rows, one transaction");
    let mut reading = Pair::new("MariaDB, reading 100,000 accounts", "bare cursor");
    let mut update = Pair::new("MariaDB, 5,000 updates among 100,000", "prepared update, one transaction");
    let options = OptsBuilder::default().socket(Some(socket)).user(Some("root")).db_name(Some("bench"));
    let mut client = Conn::new(options).await.unwrap();
    let table = "(login varchar(40) NOT NULL UNIQUE, link varchar(80) UNIQUE, state varchar(20) NOT NULL, name text, email text, room text)";
    for _ in 0..ROUNDS {
        for name in ["ours", "account"] {
            client.query_drop(format!("DROP TABLE IF EXISTS {name}")).await.unwrap();
            client.query_drop(format!("CREATE TABLE {name} {table}")).await.unwrap();
        }
        let ours = store(
            Path::new("/"),
            &format!(
                "store = \"mysql\"\nserver = \"{socket}\"\ndatabase = \"bench\"\nuser = \"root\"\ntable = \"ours\""
            ),
        );
        let took = carry_out(&*ours, edits).await;
        let rows: Vec<[String; 6]> = edits.iter().map(|edit| cells(edit.after.as_ref().unwrap())).collect();
        let began = Instant::now();
        client.query_drop("START TRANSACTION").await.unwrap();
        let insert = format!("{INSERT} {}", vec!["(?, ?, ?, ?, ?, ?)"; 1000].join(", "));
        for piece in rows.chunks(1000) {
            let values: Vec<mysql_async::Value> =
                piece.iter().flatten().map(|cell| cell.as_str().into()).collect();
            client.exec_drop(&insert, values).await.unwrap();
        }
        client.query_drop("COMMIT").await.unwrap();
        import.push(took, began.elapsed());

        let took = read(&*ours).await;
        let began = Instant::now();
        let sql = "SELECT login, link, state, name, email, room FROM account";
        type Row =
            (Option<String>, Option<String>, Option<String>, Option<String>, Option<String>, Option<String>);
        let all: Vec<Row> = client.query(sql).await.unwrap();
        assert_eq!(all.len(), COUNT);
        reading.push(took, began.elapsed());

        let took = carry_out(&*ours, moved).await;
        let began = Instant::now();
        client.query_drop("START TRANSACTION").await.unwrap();
        for edit in moved {
            let after = edit.after.as_ref().unwrap();
            client
                .exec_drop("UPDATE account SET room = ? WHERE login = ?", (after.value("room"), &after.login))
                .await
                .unwrap();
        }
        client.query_drop("COMMIT").await.unwrap();
        update.push(took, began.elapsed());
    }
    for pair in [import, reading, update] {
        pair.print();
    }
}

async fn postgres(socket: &str, edits: &[Edit], moved: &[Edit]) {
    let mut import = Pair::new("PostgreSQL, 100,000 imports", "inserts of 1,000 rows, one transaction");
    let mut reading = Pair::new("PostgreSQL, reading 100,000 accounts", "bare cursor");
    let mut update = Pair::new("PostgreSQL, 5,000 updates among 100,000", "prepared update, one transaction");
    let mut config = tokio_postgres::Config::new();
    config.host_path(socket).dbname("postgres").user("postgres");
    let (mut client, connection) = config.connect(tokio_postgres::NoTls).await.unwrap();
    tokio::spawn(connection);
    for _ in 0..ROUNDS {
        for table in ["ours", "account"] {
            let sql = format!("DROP TABLE IF EXISTS {table}; CREATE TABLE {table} {TABLE}");
            client.batch_execute(&sql).await.unwrap();
        }
        let ours = store(
            Path::new("/"),
            &format!(
                "store = \"postgres\"\nserver = \"{socket}\"\ndatabase = \"postgres\"\nuser = \"postgres\"\ntable = \"ours\""
            ),
        );
        let took = carry_out(&*ours, edits).await;
        let rows: Vec<[String; 6]> = edits.iter().map(|edit| cells(edit.after.as_ref().unwrap())).collect();
        let began = Instant::now();
        let change = client.transaction().await.unwrap();
        let marks = |row: usize| {
            let marks: Vec<String> = (1..=6).map(|at| format!("${}", row * 6 + at)).collect();
            format!("({})", marks.join(", "))
        };
        let marks: Vec<String> = (0..1000).map(marks).collect();
        let insert = change.prepare(&format!("{INSERT} {}", marks.join(", "))).await.unwrap();
        for piece in rows.chunks(1000) {
            let values: Vec<&(dyn ToSql + Sync)> =
                piece.iter().flatten().map(|cell| cell as &(dyn ToSql + Sync)).collect();
            change.execute(&insert, &values).await.unwrap();
        }
        change.commit().await.unwrap();
        import.push(took, began.elapsed());

        let took = read(&*ours).await;
        let began = Instant::now();
        let sql = "SELECT login, link, state, name, email, room FROM account";
        let none: [&(dyn ToSql + Sync); 0] = [];
        let mut all: Vec<[Option<String>; 6]> = Vec::new();
        let mut rows = Box::pin(client.query_raw(sql, none).await.unwrap());
        while let Some(row) = futures_util::TryStreamExt::try_next(&mut rows).await.unwrap() {
            all.push(std::array::from_fn(|at| row.get(at)));
        }
        assert_eq!(all.len(), COUNT);
        reading.push(took, began.elapsed());

        let took = carry_out(&*ours, moved).await;
        let began = Instant::now();
        let change = client.transaction().await.unwrap();
        let one = change.prepare("UPDATE account SET room = $1 WHERE login = $2").await.unwrap();
        for edit in moved {
            let after = edit.after.as_ref().unwrap();
            assert_eq!(change.execute(&one, &[&after.value("room"), &after.login]).await.unwrap(), 1);
        }
        change.commit().await.unwrap();
        update.push(took, began.elapsed());
    }
    for pair in [import, reading, update] {
        pair.print();
    }
}

fn main() {
    // `cargo test` runs benches, too, and only wants to know that they build.
    if !std::env::args().any(|argument| argument == "--bench") {
        return;
    }
    // `cargo bench --bench stores -- csv` measures that one alone.
    let named: Vec<String> = std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    let is_wanted = |kind: &str| named.is_empty() || named.iter().any(|name| name == kind);
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let (edits, moved) = (imports(), updates());
    println!("{:<44} {:>11}   {:<36} {:>11}   {:>6}", "what", "median", "floor", "median", "ratio");
    runtime.block_on(async {
        if is_wanted("sqlite") {
            sqlite(&edits, &moved).await;
        }
        if is_wanted("csv") {
            csv(&edits).await;
        }
        if is_wanted("apply") {
            apply().await;
        }
        match std::env::var("WEBTAXON_BENCH_POSTGRES") {
            Ok(socket) if is_wanted("postgres") => postgres(&socket, &edits, &moved).await,
            Ok(_) => {}
            Err(_) => println!("PostgreSQL was not run: WEBTAXON_BENCH_POSTGRES names no socket"),
        }
        match std::env::var("WEBTAXON_BENCH_MARIADB") {
            Ok(socket) if is_wanted("mariadb") => mariadb(&socket, &edits, &moved).await,
            Ok(_) => {}
            Err(_) => println!("MariaDB was not run: WEBTAXON_BENCH_MARIADB names no socket"),
        }
    });
}
