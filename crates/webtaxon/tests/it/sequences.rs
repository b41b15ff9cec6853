//! Promise 4 against a model: whatever is applied, cut off, refused, applied again and taken back, in whatever
//! order, the list is what a few lines in memory say.

use crate::cluster::Cluster;
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::{Arc, Mutex};
use webtaxon::Workspace;
use webtaxon::apply::{Applied, Consent, Work};
use webtaxon::model::account::{Account, State};
use webtaxon::model::apply::{Edit, Outcome, Plan};
use webtaxon::model::preview::ChangeKind;
use webtaxon::store::{AccountStore, Recorder, StoreErrorKind, StoreFuture, Terms};
use webtaxon_standin::{Directory, Options, Standin};

const PEOPLE: usize = 8;

/// What somebody has: their name and room, by number. None for nobody.
type Person = Option<(u8, u8)>;

/// What is done to the application or by it.
#[derive(Clone, Debug)]
enum Step {
    /// The directory changes.
    Directory([Person; PEOPLE]),
    /// An apply, with what goes wrong at an edit.
    Apply(Fault, usize),
    /// The latest run that changed something is taken back, with what goes wrong.
    Undo(Fault, usize),
    /// Somebody gives an account another room by hand.
    Room(usize),
    /// Somebody removes an account by hand.
    Remove(usize),
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Fault {
    None,
    /// The program is killed before the edit.
    KilledBefore,
    /// The program is killed when the edit is made, and not recorded.
    KilledAfter,
    /// The connection is lost when the edit is made.
    Lost,
    /// The store refuses the edit.
    Refused,
}

/// The last words of a store whose program is killed.
const KILLED: &str = "killed";

/// An application's list in memory.
#[derive(Default)]
struct Shelf {
    accounts: Mutex<Vec<Account>>,
    fault: Mutex<(Option<Fault>, usize)>,
}

impl AccountStore for Shelf {
    fn describe(&self) -> String {
        "the shelf".to_owned()
    }

    fn accounts(&self, _: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        Box::pin(async { Ok(self.accounts.lock().unwrap().clone()) })
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, mut record: Recorder) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            let (fault, place) = *self.fault.lock().unwrap();
            for (at, edit) in edits.iter().enumerate() {
                let fault = fault.filter(|_| at == place % edits.len());
                assert!(fault != Some(Fault::KilledBefore), "{KILLED}");
                if fault == Some(Fault::Refused) {
                    let _ = record(at, Outcome::Failed("no".to_owned()));
                    continue;
                }
                let one = std::slice::from_ref(edit);
                let outcome = {
                    let mut list = self.accounts.lock().unwrap();
                    let now = std::mem::take(&mut *list);
                    let plan = Plan::of(one, &now, &terms.unique);
                    *list = plan.made();
                    plan.outcomes().next().unwrap().1
                };
                match fault {
                    Some(Fault::KilledAfter) => panic!("{KILLED}"),
                    Some(Fault::Lost) => {
                        let (store, source) = (self.describe(), "the connection is gone".into());
                        return Err(StoreErrorKind::Database { store, source }.into());
                    }
                    _ => drop(record(at, outcome)),
                }
            }
            Ok(())
        })
    }
}

/// The list as lines, in order: login, link, state, name, room.
fn lines(accounts: &[Account]) -> BTreeMap<String, String> {
    let line = |one: &Account| {
        let names = ["login", "link", "state", "name", "room"];
        (one.login.clone(), names.map(|name| one.value(name)).join(","))
    };
    accounts.iter().map(line).collect()
}

fn link(person: usize) -> String {
    format!("{person:08x}-52aa-4f0e-9b91-c6021181d5f8")
}

/// The model: everybody in the directory as it says, and the account made by hand.
fn expected(people: &[Person; PEOPLE]) -> BTreeMap<String, String> {
    let person = |(at, person): (usize, &Person)| {
        let (name, room) = (*person)?;
        Some((format!("p{at}"), format!("p{at},{},active,Name {name},Room {room}", link(at))))
    };
    let by_hand = ("kiosk".to_owned(), "kiosk,,active,The kiosk,Room 9".to_owned());
    people.iter().enumerate().filter_map(person).chain([by_hand]).collect()
}

fn ldif(people: &[Person; PEOPLE]) -> String {
    let mut text = "dn: dc=d\nobjectClass: domain\ndc: d\n\n".to_owned();
    for (at, (name, room)) in people.iter().enumerate().filter_map(|(at, one)| Some((at, (*one)?))) {
        text += &format!(
            "dn: uid=p{at},dc=d\nobjectClass: person\nuid: p{at}\ncn: Name {name}\nsn: x\nroomNumber: Room {room}\nentryUUID: {}\n\n",
            link(at)
        );
    }
    text
}

/// What a server of these people has, and how it answers.
fn served(people: &[Person; PEOPLE]) -> (Arc<Directory>, Options) {
    let directory = Arc::new(Directory::from_ldif(ldif(people).as_bytes()).unwrap());
    (directory, Options { tls: false, anonymous: true, ..Options::default() })
}

fn workspace(folder: &Path, port: u16, links: &str, state: &str) -> Workspace {
    let file = folder.join("webtaxon.toml");
    let text = format!(
        "[directory.d]\nservers = \"ldap://127.0.0.1:{port}\"\nplain = true\n[accounts]\nstore = \"csv\"\npath = \"none.csv\"\nlinks = \"{links}\"\n\
         [[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = \"dc=d\"\nfilter = \"(objectClass=person)\"\n\
         [intake.fields]\nlogin = {{ from = \"uid\" }}\nname = {{ from = \"cn\" }}\nroom = {{ from = \"roomNumber\" }}\n\
         [intake.leaving]\ngone = {{ do = \"remove\" }}\n[brakes]\nsettings_changed = false\n{state}"
    );
    std::fs::write(&file, text).unwrap();
    Workspace::open(file).unwrap()
}

/// Applies, unless the program is killed meanwhile: a store that panics ends the run as a kill does.
async fn apply(workspace: &Workspace, shelf: &Shelf, work: &Work, fault: (Fault, usize)) -> Option<Applied> {
    *shelf.fault.lock().unwrap() = (Some(fault.0), fault.1);
    // The model has whole directories without anybody.
    let consent = Consent {
        who: "model".to_owned(),
        release: ["nobody", "first", "removals", "shrunk"].map(str::to_owned).to_vec(),
        stop_after: None,
    };
    let is_killed = matches!(fault.0, Fault::KilledBefore | Fault::KilledAfter) && !work.edits().is_empty();
    let (workspace, work) = (workspace.clone(), work.clone());
    let applied = tokio::spawn(async move { workspace.apply(&work, &consent).await }).await;
    *shelf.fault.lock().unwrap() = (None, 0);
    match applied {
        Ok(applied) => Some(applied.unwrap()),
        Err(error) => {
            assert!(is_killed && error.is_panic(), "{error}");
            None
        }
    }
}

async fn follow(steps: &[Step], links: &str, state: &str) {
    let folder = tempfile::tempdir().unwrap();
    let mut people: [Person; PEOPLE] = [None; PEOPLE];
    let (directory, options) = served(&people);
    let standin = Standin::start(directory, options).await.unwrap();
    let workspace = workspace(folder.path(), standin.address().port(), links, state);
    let shelf = Arc::new(Shelf::default());
    let workspace = workspace.with_store(Arc::clone(&shelf) as Arc<dyn AccountStore>);
    let by_hand = [("name", "The kiosk"), ("room", "Room 9")];
    let fields = by_hand.map(|(name, value)| (name.into(), value.into())).into_iter().collect();
    shelf.accounts.lock().unwrap().push(Account {
        login: "kiosk".to_owned(),
        link: None,
        state: State::Active,
        fields,
    });
    let now = async || lines(&workspace.accounts().await.unwrap());
    // The lists before each run that can be taken back one after the other, and the runs' numbers.
    let mut before: Vec<(i64, BTreeMap<String, String>)> = Vec::new();
    // Accounts of which nobody knows whose they are, and whether the last run was cut off.
    let (mut strangers, mut is_cut) = (BTreeSet::new(), false);
    let own = |(login, line): (&String, &String)| (login.clone(), line.clone());
    for step in steps {
        match step {
            Step::Directory(new) => {
                people = *new;
                let (directory, options) = served(&people);
                standin.answer_with(directory, options);
            }
            Step::Room(at) | Step::Remove(at) => {
                let was = now().await;
                let login = {
                    let mut list = shelf.accounts.lock().unwrap();
                    let at = at % list.len();
                    assert!(links == "list" || list[at].link.is_none());
                    let login = list[at].login.clone();
                    match step {
                        _ if login == "kiosk" => continue,
                        Step::Room(_) => drop(list[at].fields.insert("room".into(), "Attic".into())),
                        _ => drop(list.remove(at)),
                    }
                    login
                };
                strangers.remove(&login);
                // Made by a run that was cut off before it wrote that down, and changed since: whether it is what the
                // run has made nobody can tell where the account does not say whose it is.
                let is = now().await;
                let is_untied = |line: &String| line.starts_with(&format!("{login},,"));
                if is.get(&login).is_some_and(is_untied) {
                    assert!(links == "apart" && (is_cut || was.get(&login).is_some_and(is_untied)));
                    strangers.insert(login);
                }
                // What somebody did in between is not taken back by anybody.
                before.clear();
            }
            Step::Apply(fault, place) => {
                let (was, mut wanted) = (now().await, expected(&people));
                wanted.extend(was.iter().filter(|(login, _)| strangers.contains(*login)).map(own));
                let (preview, work) = workspace.work().await.unwrap();
                for stranger in strangers.intersection(&expected(&people).into_keys().collect()) {
                    let mut clashes = preview.of_kind(ChangeKind::Clash);
                    assert!(clashes.any(|clash| clash.login == *stranger), "{stranger} is told");
                }
                let applied = apply(&workspace, &shelf, &work, (*fault, *place)).await;
                is_cut = *fault != Fault::None;
                let is = now().await;
                for (login, line) in &is {
                    let known = [was.get(login), wanted.get(login)];
                    assert!(known.contains(&Some(line)), "{login} is neither as it was nor as it should be");
                }
                if *fault == Fault::None || work.edits().is_empty() {
                    assert_eq!(is, wanted, "{step:?}");
                    assert!(applied.is_some_and(|applied| applied.is_complete()), "{step:?}");
                }
                if !work.edits().is_empty() {
                    let latest = workspace.journal().await.unwrap().unwrap().runs().unwrap();
                    before.push((latest.iter().map(|run| run.run).max().unwrap(), was));
                }
            }
            Step::Undo(fault, place) => {
                let Some((run, was)) = before.pop() else { continue };
                // What was cut off is looked at by an apply of nothing new.
                if workspace.way_back(run).await.is_err() {
                    let (_, work) = workspace.work().await.unwrap();
                    apply(&workspace, &shelf, &work.part(|_| false), (Fault::None, 0)).await.unwrap();
                }
                let work = workspace.way_back(run).await.unwrap();
                apply(&workspace, &shelf, &work, (*fault, *place)).await;
                is_cut = false;
                if *fault != Fault::None && !work.edits().is_empty() {
                    // Once more, whatever is left of it.
                    apply(&workspace, &shelf, &work, (Fault::None, 0)).await.unwrap();
                }
                assert_eq!(now().await, was, "{step:?}");
            }
        }
    }
    drop(standin);
}

fn any_fault() -> impl Strategy<Value = Fault> {
    prop_oneof![
        3 => Just(Fault::None),
        1 => Just(Fault::KilledBefore),
        1 => Just(Fault::KilledAfter),
        1 => Just(Fault::Lost),
        1 => Just(Fault::Refused),
    ]
}

fn any_step() -> impl Strategy<Value = Step> {
    let person = prop_oneof![1 => Just(None), 2 => (0_u8..3, 0_u8..3).prop_map(Some)];
    prop_oneof![
        3 => prop::array::uniform8(person).prop_map(Step::Directory),
        4 => (any_fault(), 0_usize..PEOPLE).prop_map(|(fault, at)| Step::Apply(fault, at)),
        3 => (any_fault(), 0_usize..PEOPLE).prop_map(|(fault, at)| Step::Undo(fault, at)),
        1 => (0_usize..PEOPLE).prop_map(Step::Room),
        1 => (0_usize..PEOPLE).prop_map(Step::Remove),
    ]
}

/// What somebody changes in an account that a killed run had just made is kept, and so is the account.
#[tokio::test]
async fn an_account_that_was_changed_before_it_was_known_is_left() {
    let mut people = [None; PEOPLE];
    people[3..6].fill(Some((0, 0)));
    let steps = [
        Step::Directory(people),
        Step::Apply(Fault::KilledBefore, 1),
        Step::Room(1),
        Step::Apply(Fault::None, 1),
    ];
    for links in ["list", "apart"] {
        follow(&steps, links, "").await;
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, max_shrink_iters: 40, ..ProptestConfig::default() })]

    /// Any sequence of what an application lives through, wherever the links are kept.
    #[test]
    fn any_sequence_ends_where_the_model_says(
        steps in prop::collection::vec(any_step(), 1..12),
        links in prop_oneof![Just("list"), Just("apart")],
    ) {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(follow(&steps, links, ""));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 6, max_shrink_iters: 10, ..ProptestConfig::default() })]

    /// The same with the state on a server.
    #[test]
    #[ignore = "needs PostgreSQL"]
    fn any_sequence_ends_there_with_its_state_in_postgres(
        steps in prop::collection::vec(any_step(), 1..12),
        links in prop_oneof![Just("list"), Just("apart")],
    ) {
        let cluster = Cluster::start();
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(follow(&steps, links, &crate::postgres_state::settings(&cluster)));
    }
}
