//! Promise 5 against every store: logins and addresses move in chains, swaps and rings, people leave and come back,
//! entries are made anew, accounts are changed by hand, applies are killed. After each apply, a preview has nothing to
//! do but waits and clashes; each offered word settles its clash and makes no other; every linked account is told.

use crate::cluster::Cluster;
use crate::mariadb_server::Mariadb;
use proptest::prelude::*;
use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::model::account::{Account, Fields, State};
use webtaxon::model::apply::Edit;
use webtaxon::model::preview::{Change, ChangeKind, Held, Preview, Word};
use webtaxon::model::settings::Settings;
use webtaxon::settle::{Clashes, with_words};
use webtaxon::store::{AccountStore, Recorder, StoreFuture, Terms};
use webtaxon_standin::{Application, ApplicationOptions, Directory, List, Options, Standin};

const PEOPLE: usize = 6;

/// Where the accounts are.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Kind {
    Csv,
    Sqlite,
    Postgres,
    Mysql,
    Scim,
    /// A service that refuses an address that another user has.
    StrictScim,
}

/// A database server that holds the list.
#[derive(Clone, Copy)]
enum Server<'s> {
    Postgres(&'s Cluster),
    Mysql(&'s Mariadb),
}

/// Somebody's entry.
#[derive(Clone, Copy, Debug)]
struct Person {
    /// Which entry of theirs it is: another one has another identity.
    entry: u8,
    login: u8,
    mailbox: Option<u8>,
    place: Place,
    is_keeper: bool,
}

/// A person's place.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Place {
    In,
    Disabled,
    /// In no base.
    Elsewhere,
    Gone,
}

#[derive(Clone, Debug)]
enum Step {
    /// The directory changes.
    Directory([Person; PEOPLE]),
    /// An apply, which may be killed after some edits.
    Apply(Option<usize>),
    /// Somebody gives an account another login or address by hand.
    Rename(usize, u8, bool),
    /// Somebody removes an account by hand.
    Remove(usize),
    /// Somebody makes an account by hand.
    Add(u8, u8),
    /// An administrator follows a word that is offered.
    Word(usize),
}

/// A store that dies after some outcomes.
struct Mortal {
    store: Arc<dyn AccountStore>,
    left: Arc<AtomicUsize>,
}

const DIED: &str = "the program is killed";

impl AccountStore for Mortal {
    fn describe(&self) -> String {
        self.store.describe()
    }

    fn place(&self) -> String {
        self.store.place()
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        self.store.accounts(fields)
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, mut record: Recorder) -> StoreFuture<'_, ()> {
        let left = Arc::clone(&self.left);
        let mortal = move |at, outcome| {
            assert!(left.fetch_sub(1, Ordering::Relaxed) > 0, "{DIED}");
            record(at, outcome)
        };
        self.store.carry_out(edits, terms, Box::new(mortal))
    }
}

fn link(person: usize, entry: u8) -> String {
    format!("{person:04x}{entry:04x}-52aa-4f0e-9b91-c6021181d5f8")
}

fn name(login: u8) -> String {
    format!("u{login}")
}

fn mailbox(number: u8) -> String {
    format!("box{number}@quillmere.example")
}

fn ldif(people: &[Person; PEOPLE]) -> String {
    let mut text = "dn: dc=d\nobjectClass: domain\ndc: d\n\ndn: ou=in,dc=d\nobjectClass: organizationalUnit\nou: in\n\ndn: ou=left,dc=d\nobjectClass: organizationalUnit\nou: left\n\n".to_owned();
    // Others, so that the directory is never without anybody.
    for at in 0..5 {
        text += &format!(
            "dn: cn=other{at},ou=in,dc=d\nobjectClass: person\ncn: other{at}\nsn: x\nuid: other{at}\nmail: other{at}@quillmere.example\nemployeeType: keeper\ntitle: on\nentryUUID: {}\n\n",
            link(100 + at, 0)
        );
    }
    for (at, one) in people.iter().enumerate().filter(|(_, one)| one.place != Place::Gone) {
        let place = if one.place == Place::Elsewhere { "left" } else { "in" };
        let title = if one.place == Place::Disabled { "off" } else { "on" };
        let kind = if one.is_keeper { "keeper" } else { "none" };
        text += &format!(
            "dn: cn=person{at}-{},ou={place},dc=d\nobjectClass: person\ncn: Person {at}\nsn: x\nuid: {}\ntitle: {title}\nemployeeType: {kind}\nentryUUID: {}\n",
            one.entry,
            name(one.login),
            link(at, one.entry)
        );
        text += &one.mailbox.map_or("\n".to_owned(), |number| format!("mail: {}\n\n", mailbox(number)));
    }
    text
}

fn served(people: &[Person; PEOPLE]) -> (Arc<Directory>, Options) {
    let directory = Arc::new(Directory::from_ldif(ldif(people).as_bytes()).unwrap());
    (directory, Options { tls: false, anonymous: true, ..Options::default() })
}

const HEADER: &str = "login,link,state,name,email,department,room,roles\n";
const TABLE: &str = "(login varchar(60) UNIQUE, link varchar(60) UNIQUE, state text, name text, email varchar(80) UNIQUE, roles text)";

/// An application without any account, and the directory.
struct Scene {
    folder: tempfile::TempDir,
    standin: Standin,
    application: Option<Application>,
    people: [Person; PEOPLE],
}

impl Scene {
    async fn open(kind: Kind, server: Option<Server<'_>>, rules: u8) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let gone = Person { entry: 0, login: 0, mailbox: None, place: Place::Gone, is_keeper: false };
        let people = [gone; PEOPLE];
        let (directory, options) = served(&people);
        let standin = Standin::start(directory, options).await.unwrap();
        let mut application = None;
        let accounts = match kind {
            Kind::Csv => {
                std::fs::write(folder.path().join("accounts.csv"), HEADER).unwrap();
                "store = \"csv\"\npath = \"accounts.csv\"".to_owned()
            }
            Kind::Sqlite => {
                let database = rusqlite::Connection::open(folder.path().join("loans.sqlite")).unwrap();
                database.execute_batch(&format!("CREATE TABLE account {TABLE}")).unwrap();
                "store = \"sqlite\"\npath = \"loans.sqlite\"\ntable = \"account\"".to_owned()
            }
            Kind::Postgres => {
                let Some(Server::Postgres(cluster)) = server else { panic!() };
                cluster.run(&format!("DROP TABLE IF EXISTS account; CREATE TABLE account {TABLE}"));
                let socket = cluster.socket().display();
                format!(
                    "store = \"postgres\"\nserver = \"{socket}\"\ndatabase = \"loans\"\nuser = \"postgres\"\ntable = \"account\""
                )
            }
            Kind::Mysql => {
                let Some(Server::Mysql(mariadb)) = server else { panic!() };
                mariadb.run(&format!("DROP TABLE IF EXISTS account; CREATE TABLE account {TABLE}"));
                let socket = mariadb.socket().display().to_string();
                format!(
                    "store = \"mysql\"\nserver = \"{socket}\"\ndatabase = \"loans\"\nuser = \"root\"\ntable = \"account\""
                )
            }
            Kind::Scim | Kind::StrictScim => {
                let offer = ApplicationOptions {
                    unique_emails: kind == Kind::StrictScim,
                    bulk: (kind == Kind::Scim).then_some(100),
                    ..ApplicationOptions::default()
                };
                let list = List::from_csv(HEADER, false).unwrap();
                let own = application.insert(Application::start(list, offer).await.unwrap());
                format!("store = \"scim\"\nservice = \"{}\"\nplain = true", own.url())
            }
        };
        let gone = ["{ do = \"remove\" }", "{ do = \"suspend\" }", "{ do = \"remove\", after_days = 9 }"];
        let gone = gone[usize::from(rules) % gone.len()];
        let anew = if rules & 4 == 0 { "ask" } else { "same-login-and-email" };
        let adopt = ["never", "same-login", "same-email", "ask"][usize::from(rules >> 3) % 4];
        let port = standin.address().port();
        let text = format!(
            "[directory.d]\nservers = \"ldap://127.0.0.1:{port}\"\nplain = true\n\n[accounts] # ours\n{accounts}\nanew = \"{anew}\"\n\n\
             [[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = \"ou=in,dc=d\"\nfilter = \"(objectClass=person)\"\n\
             active = \"(!(title=off))\"\nmatch = [\"link\", \"login\", \"email\"]\nadopt = \"{adopt}\"\nadopt_roles = true\n\
             [intake.fields]\nlogin = {{ from = \"uid\" }}\nname = {{ from = \"cn\" }}\nemail = {{ from = \"mail\", unique = true }}\n\
             [[intake.role]]\nname = \"keeper\"\nwhen = \"(employeeType=keeper)\"\n\
             [intake.leaving]\ngone = {gone}\n[brakes]\nsettings_changed = false\nshrunk = \"100%\"\n"
        );
        std::fs::write(folder.path().join("webtaxon.toml"), text).unwrap();
        Self { folder, standin, application, people }
    }

    fn file(&self) -> std::path::PathBuf {
        self.folder.path().join("webtaxon.toml")
    }

    fn workspace(&self) -> Workspace {
        Workspace::open(self.file()).unwrap()
    }

    /// Changes accounts as somebody would by hand, if the list allows it.
    async fn by_hand(&self, change: impl FnOnce(&[Account]) -> Option<Edit>) {
        let workspace = self.workspace();
        let accounts = workspace.accounts().await.unwrap();
        let Some(edit) = change(&accounts) else { return };
        let names: Arc<[String]> = ["login", "name", "email", "roles"].map(str::to_owned).into();
        let terms = Terms { fields: names, unique: ["email".to_owned()].into(), ..Terms::default() };
        let store = workspace.store();
        let ended = store.carry_out([edit].into(), terms, Box::new(|_, _| ControlFlow::Continue(()))).await;
        ended.unwrap();
    }

    async fn step(&mut self, step: &Step) {
        match step {
            Step::Directory(people) => {
                self.people = *people;
                let (directory, options) = served(people);
                self.standin.answer_with(directory, options);
            }
            Step::Apply(None) => {
                let told = format!("{:?}", self.application.is_some());
                let (preview, work) = self.workspace().work().await.unwrap();
                let applied = self.workspace().apply(&work, &consent()).await.unwrap();
                assert!(applied.is_complete(), "{told}: {:?} {:?}", applied.outcomes, words(&preview));
                self.is_settled(&preview).await;
            }
            Step::Apply(Some(edits)) => {
                let workspace = self.workspace();
                let (_, work) = workspace.work().await.unwrap();
                let left = Arc::new(AtomicUsize::new(*edits));
                let mortal = Mortal { store: workspace.store(), left };
                let mortal = workspace.clone().with_store(Arc::new(mortal));
                // An apply that dies leaves its run open, as a killed program does.
                let _ = tokio::spawn(async move { mortal.apply(&work, &consent()).await }).await;
            }
            Step::Rename(at, number, is_login) => {
                let change = |accounts: &[Account]| {
                    let account = accounts.get(at % accounts.len().max(1))?;
                    let (field, value) = match is_login {
                        true => ("login", name(*number)),
                        false => ("email", mailbox(*number)),
                    };
                    let is_free = accounts.iter().all(|one| one.value(field) != value);
                    let bare = Account { fields: Fields::default(), ..account.clone() };
                    let (mut before, mut after) = (bare.clone(), bare);
                    before.set(field, account.get(field));
                    after.set(field, Some(&value));
                    let (before, after) = (Some(before), Some(after));
                    is_free.then_some(Edit::new(ChangeKind::Update, before, after))
                };
                self.by_hand(change).await;
            }
            Step::Remove(at) => {
                let change = |accounts: &[Account]| {
                    let before = Some(accounts.get(at % accounts.len().max(1))?.clone());
                    Some(Edit::new(ChangeKind::Remove, before, None))
                };
                self.by_hand(change).await;
            }
            Step::Add(login, number) => {
                let change = |accounts: &[Account]| {
                    let (login, email) = (name(*login), mailbox(*number));
                    let is_free =
                        accounts.iter().all(|one| one.login != login && one.field("email") != email);
                    let fields = [("name".into(), "By hand".into()), ("email".into(), email.into())];
                    let fields = fields.into_iter().collect();
                    let after = Some(Account { login, link: None, state: State::Active, fields });
                    is_free.then_some(Edit::new(ChangeKind::Import, None, after))
                };
                self.by_hand(change).await;
            }
            Step::Word(at) => {
                let clashes = self.workspace().clashes().await.unwrap();
                let offered = offered(&clashes);
                let Some((_, word)) = offered.get(at % offered.len().max(1)) else { return };
                let text = std::fs::read_to_string(self.file()).unwrap();
                let said = with_words("model", &text, std::slice::from_ref(word)).unwrap();
                assert!(said.contains("[accounts] # ours"), "comments stay");
                std::fs::write(self.file(), said).unwrap();
            }
        }
    }

    /// After an apply, nothing is left but what waits for a day or for a person's word; and each word settles its
    /// clash.
    async fn is_settled(&self, first: &Preview) {
        let workspace = self.workspace();
        let clashes = workspace.clashes().await.unwrap();
        let second = &clashes.preview;
        assert!(!second.has_work(), "{:?}, then {:?}", words(first), words(second));
        let accounts = workspace.accounts().await.unwrap();
        let linked: Vec<&Account> = accounts.iter().filter(|one| one.link.is_some()).collect();
        let told = linked.iter().filter(|account| is_told(second, account)).count();
        assert_eq!(told + second.unchanged, linked.len(), "{:?} of {linked:?}", words(second));
        let text = std::fs::read_to_string(self.file()).unwrap();
        for (dn, word) in offered(&clashes) {
            let said = with_words("model", &text, std::slice::from_ref(&word)).unwrap();
            let then = clashes.after(&Settings::parse("model", said.as_bytes()).unwrap());
            let mut left = clashing(second);
            left.remove(&dn);
            assert!(clashing(&then).is_subset(&left), "{word}: {:?}, then {:?}", words(second), words(&then));
            assert!(then.idle_words.iter().all(|idle| idle.link != word.link), "{:?}", then.idle_words);
        }
    }
}

fn consent() -> Consent {
    let release = ["nobody", "first", "removals", "shrunk", "seats"].map(str::to_owned).to_vec();
    Consent { who: "model".to_owned(), release, stop_after: None }
}

/// The words that are offered, each with the person who clashes.
fn offered(clashes: &Clashes) -> Vec<(String, Word)> {
    let of = |change: &Change| {
        let dn = change.dn.clone().unwrap_or_default();
        let words = change.ways().iter().filter_map(|way| way.word.clone());
        words.map(|word| (dn.clone(), word)).collect::<Vec<_>>()
    };
    clashes.preview.of_kind(ChangeKind::Clash).flat_map(of).collect()
}

fn clashing(preview: &Preview) -> BTreeSet<String> {
    preview.of_kind(ChangeKind::Clash).filter_map(|change| change.dn.clone()).collect()
}

/// True if a linked account is among the changes or held.
fn is_told(preview: &Preview, account: &Account) -> bool {
    let is_of = |change: &Change| change.login == account.login && change.link == account.link;
    let is_held = |held: &Held| held.login == account.login;
    preview.changes.iter().any(is_of) || preview.held.iter().any(is_held)
}

fn words(preview: &Preview) -> Vec<String> {
    let change = |change: &Change| {
        let fields: Vec<String> =
            change.fields.iter().map(|(name, field)| format!("{name}={:?}", field.new)).collect();
        let clash = change.clash().map(|clash| clash.message()).unwrap_or_default();
        format!("{} {} {} {clash}", change.kind().name(), change.login, fields.join(" "))
    };
    let held = |held: &Held| format!("held {} {:?}", held.login, held.reason);
    preview.changes.iter().map(change).chain(preview.held.iter().map(held)).collect()
}

async fn follow(kind: Kind, server: Option<Server<'_>>, rules: u8, steps: &[Step]) {
    let mut scene = Scene::open(kind, server, rules).await;
    for step in steps {
        scene.step(step).await;
    }
    scene.step(&Step::Apply(None)).await;
}

fn any_person() -> impl Strategy<Value = Person> {
    let place = prop_oneof![
        8 => Just(Place::In),
        1 => Just(Place::Disabled),
        1 => Just(Place::Elsewhere),
        1 => Just(Place::Gone),
    ];
    let mailbox = prop_oneof![1 => Just(None), 5 => (0_u8..6).prop_map(Some)];
    (0_u8..3, 0_u8..6, mailbox, place, any::<bool>()).prop_map(|(entry, login, mailbox, place, is_keeper)| {
        Person { entry: entry / 2, login, mailbox, place, is_keeper }
    })
}

/// Everybody anew, or logins and mailboxes handed round.
fn any_people() -> impl Strategy<Value = [Person; PEOPLE]> {
    let orders = (Just([0, 1, 2, 3, 4, 5]).prop_shuffle(), Just([0, 1, 2, 3, 4, 5]).prop_shuffle());
    let handed = (prop::array::uniform6(any_person()), orders).prop_map(|(people, (logins, boxes))| {
        let mut at = 0;
        people.map(|person| {
            at += 1;
            let mailbox = person.mailbox.map(|_| boxes[at - 1]);
            Person { login: logins[at - 1], mailbox, ..person }
        })
    });
    prop_oneof![1 => prop::array::uniform6(any_person()), 3 => handed]
}

fn any_step() -> impl Strategy<Value = Step> {
    prop_oneof![
        4 => any_people().prop_map(Step::Directory),
        4 => Just(Step::Apply(None)),
        1 => (0_usize..8).prop_map(|edits| Step::Apply(Some(edits))),
        1 => (0_usize..12, 0_u8..6, any::<bool>()).prop_map(|(at, number, is_login)| Step::Rename(at, number, is_login)),
        1 => (0_usize..12).prop_map(Step::Remove),
        1 => (0_u8..6, 0_u8..6).prop_map(|(login, number)| Step::Add(login, number)),
        1 => (0_usize..12).prop_map(Step::Word),
    ]
}

fn run(kind: Kind, server: Option<Server<'_>>, rules: u8, steps: &[Step]) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(follow(kind, server, rules, steps));
}

/// Number of sequences: a few, or as many as the environment says.
fn cases(usual: u32) -> ProptestConfig {
    let asked = std::env::var("WEBTAXON_SEQUENCES").ok().and_then(|text| text.parse().ok());
    ProptestConfig { cases: asked.unwrap_or(usual), max_shrink_iters: 200, ..ProptestConfig::default() }
}

proptest! {
    #![proptest_config(cases(40))]

    #[test]
    fn every_claim_settles_in_a_file(rules in any::<u8>(), steps in prop::collection::vec(any_step(), 1..9)) {
        run(Kind::Csv, None, rules, &steps);
    }

    #[test]
    fn every_claim_settles_in_a_table(rules in any::<u8>(), steps in prop::collection::vec(any_step(), 1..9)) {
        run(Kind::Sqlite, None, rules, &steps);
    }

    #[test]
    fn every_claim_settles_at_a_service(
        rules in any::<u8>(),
        steps in prop::collection::vec(any_step(), 1..9),
        is_strict in any::<bool>(),
    ) {
        run(if is_strict { Kind::StrictScim } else { Kind::Scim }, None, rules, &steps);
    }
}

#[test]
#[ignore = "needs PostgreSQL"]
fn every_claim_settles_in_postgres() {
    let cluster = Cluster::start();
    let mut runner = proptest::test_runner::TestRunner::new(cases(40));
    let sequences = (any::<u8>(), prop::collection::vec(any_step(), 1..9));
    let ended = runner.run(&sequences, |(rules, steps)| {
        run(Kind::Postgres, Some(Server::Postgres(&cluster)), rules, &steps);
        Ok(())
    });
    ended.unwrap();
}

#[test]
#[ignore = "needs MariaDB"]
fn every_claim_settles_in_mariadb() {
    let mariadb = Mariadb::start();
    let mut runner = proptest::test_runner::TestRunner::new(cases(40));
    let sequences = (any::<u8>(), prop::collection::vec(any_step(), 1..9));
    let ended = runner.run(&sequences, |(rules, steps)| {
        run(Kind::Mysql, Some(Server::Mysql(&mariadb)), rules, &steps);
        Ok(())
    });
    ended.unwrap();
}
