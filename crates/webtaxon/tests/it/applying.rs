//! Carrying out what was previewed, on a CSV file: exactly that, once, and back again.

use crate::museum::{ACCOUNTS, Museum, told};
use std::path::PathBuf;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::atomic::{AtomicBool, AtomicUsize};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use webtaxon::apply::{Applied, Consent, Work};
use webtaxon::model::account::Account;
use webtaxon::model::apply::{Edit, Outcome, Plan};
use webtaxon::model::preview::{BrakeKind, ChangeKind};
use webtaxon::state::{Ending, Journal};
use webtaxon::store::{AccountStore, Recorder, StoreError, StoreErrorKind, StoreFuture, Terms};
use webtaxon::{Error, Workspace};
use webtaxon_standin::Options;

fn consent(release: &[&str]) -> Consent {
    let release = release.iter().map(|name| (*name).to_owned()).collect();
    Consent { who: "ada".to_owned(), release, stop_after: None }
}

/// The demo's brakes: too many accounts in use.
fn agreed() -> Consent {
    consent(&["seats", "first"])
}

fn list(museum: &Museum) -> String {
    std::fs::read_to_string(museum.path().join("accounts.csv")).unwrap()
}

async fn apply(museum: &Museum) -> Result<Applied, Error> {
    let workspace = museum.workspace()?;
    let (_, work) = workspace.work().await?;
    workspace.apply(&work, &agreed()).await
}

async fn undo(workspace: &Workspace, run: i64) -> Applied {
    workspace.apply(&workspace.way_back(run).await.unwrap(), &consent(&["seats"])).await.unwrap()
}

async fn journal(museum: &Museum) -> Journal {
    museum.workspace().unwrap().journal().await.unwrap().unwrap()
}

#[tokio::test]
async fn what_was_applied_leaves_nothing_to_do_and_can_be_taken_back() {
    let museum = Museum::open().await;
    let workspace = museum.workspace().unwrap();
    let (preview, work) = workspace.work().await.unwrap();
    let wanted = work.edits().len();
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    assert!(applied.is_complete());
    assert_eq!((applied.run, applied.count(|one| *one == Outcome::Done)), (Some(1), wanted));
    let after = museum.preview().await.unwrap();
    let kinds: Vec<_> = after.kinds.iter().map(|(kind, count)| (kind.name(), *count)).collect();
    assert_eq!(kinds, [("clash", 2)], "only what a person must decide");
    assert_eq!((after.accounts.now, after.accounts.active_now), (85, 77));
    assert_eq!(after.accounts.now, preview.accounts.after);
    assert_eq!(std::fs::read_to_string(applied.backup.unwrap()).unwrap(), ACCOUNTS, "as it was");
    let back = undo(&workspace, 1).await;
    assert!(back.is_complete());
    assert_eq!(list(&museum), ACCOUNTS, "byte for byte");
    let runs = journal(&museum).await.runs().unwrap();
    let undone: Vec<_> = runs.iter().map(|run| (run.run, run.undoes, run.undone, run.ending)).collect();
    assert_eq!(undone, [(2, Some(1), None, Some(Ending::Done)), (1, None, Some(2), Some(Ending::Done))]);
    assert_eq!(runs[1].counts["import"], 7);
    assert!(undo(&workspace, 2).await.is_complete());
    assert_eq!(museum.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)], "and forth again");
}

/// However a file is written, what no edit is about stays as it is, and an undo gives every byte back.
#[tokio::test]
async fn a_file_keeps_its_own_way_of_writing() {
    let quoted = |text: &str| {
        let line =
            |line: &str| line.split(',').map(|cell| format!("\"{cell}\"")).collect::<Vec<_>>().join(",");
        // One name of the demo has a comma, and quotes already.
        let plain = text.replace("\"Ibbotson, Ada\"", "Ada");
        plain.lines().map(line).collect::<Vec<_>>().join("\n") + "\n"
    };
    let odd = |text: &str| {
        text.replace("login,link", "badge,login,link")
            .lines()
            .enumerate()
            .map(|(at, line)| match at {
                0 => line.to_owned(),
                at if at % 7 == 0 => format!("\n\" =1+{at}\"\"\",{line}"),
                at => format!(" {at} ,{line}"),
            })
            .collect::<Vec<_>>()
            .join("\n")
    };
    let rows: [(String, &str, &str); 6] = [
        (ACCOUNTS.replace('\n', "\r\n"), "\r\n", "line ends of another system"),
        (format!("\u{feff}{ACCOUNTS}"), "\n", "a mark in front"),
        (ACCOUNTS.trim_end().to_owned(), "", "no end of the last line"),
        (quoted(ACCOUNTS), "\"\n", "everything in quotes"),
        (odd(ACCOUNTS), "", "a column of the application's own, blank lines, formulas"),
        (ACCOUNTS.replace(",suspended,", ",Suspended ,"), "\n", "a state in its own way"),
    ];
    for (text, ends, why) in rows {
        let museum = Museum::open().await;
        museum.write("accounts.csv", &text);
        let applied = apply(&museum).await.unwrap();
        assert!(applied.is_complete(), "{why}: {applied:?}");
        let after = list(&museum);
        assert!(after.ends_with(ends) && after.ends_with('\n') == text.ends_with('\n'), "{why}");
        let kept = text.lines().filter(|line| after.contains(line.trim_end_matches('\r'))).count();
        assert!(kept >= text.lines().count() - 27, "{why}: {kept} lines are as they were");
        assert_eq!(museum.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)], "{why}");
        assert!(undo(&museum.workspace().unwrap(), 1).await.is_complete(), "{why}");
        assert_eq!(list(&museum), text, "{why}");
    }
}

/// A part does its own edits alone, and the rest is found by the next preview: the same edits, and the
/// brake on settings that were never applied as a whole.
#[tokio::test]
async fn a_part_of_the_work_leaves_the_rest_to_the_next() {
    let all = {
        let museum = Museum::open().await;
        apply(&museum).await.unwrap();
        list(&museum)
    };
    for keep in ChangeKind::ALL {
        let museum = Museum::open().await;
        let workspace = museum.workspace().unwrap();
        apply(&museum).await.unwrap();
        undo(&workspace, 1).await;
        museum.change("(objectClass=user))", "(objectClass=user)(!(cn=nobody at all)))");
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let held = |work: &Work| work.brakes().iter().any(|brake| brake.kind == BrakeKind::SettingsChanged);
        assert!(held(&work), "{keep:?}");
        let part = work.part(|edit| edit.kind == keep);
        let applied = workspace.apply(&part, &consent(&["seats", "settings_changed"])).await.unwrap();
        assert!(applied.is_complete(), "{keep:?}: {applied:?}");
        let (_, rest) = workspace.work().await.unwrap();
        assert!(held(&rest), "{keep:?}: the rest is of settings that nobody applied");
        let left = work.part(|edit| edit.kind != keep);
        assert_eq!(rest.edits(), left.edits(), "{keep:?}");
        workspace.apply(&rest, &consent(&["seats", "settings_changed"])).await.unwrap();
        assert_eq!(list(&museum), all, "{keep:?}");
    }
}

/// Promise 3: what somebody changed between the preview and its apply is left out, and told.
#[tokio::test]
async fn what_changed_meanwhile_is_left_out() {
    let museum = Museum::open().await;
    let workspace = museum.workspace().unwrap();
    let file = museum.path().join("monday.json");
    let work = workspace.work().await.unwrap().1;
    workspace.save(&work, &file, "ada").await.unwrap();
    let meanwhile = ACCOUNTS
        .replace("Entomology 3,", "Attic 1,") // moved by hand
        .replace(
            "yyarrow,9c6872b5-649b-51a2-b3e3-8073b2539dae,suspended",
            "yyarrow,9c6872b5-649b-51a2-b3e3-8073b2539dae,active",
        )
        + "mhayashi,,active,Somebody Else,,,,\n";
    museum.write("accounts.csv", &meanwhile);
    let (work, _) = workspace.read_saved(&file).await.unwrap();
    let applied = workspace.apply(&work, &agreed()).await.unwrap();
    assert!(!applied.is_complete());
    let odd: Vec<_> = work
        .edits()
        .iter()
        .zip(&applied.outcomes)
        .filter(|(_, outcome)| **outcome != Some(Outcome::Done))
        .map(|(edit, outcome)| (edit.login(), outcome.clone().unwrap()))
        .collect();
    let left = |words: &str| Outcome::Left(words.to_owned());
    assert_eq!(
        odd,
        [
            ("mhayashi", left("mhayashi has the same login now")),
            ("bedgeworth", left("room is Attic 1 now")),
            ("yyarrow", Outcome::Made),
        ]
    );
    let after = list(&museum);
    assert!(after.contains("Attic 1,") && after.contains("Somebody Else") && after.contains("bthornbury"));
    // Taking it back leaves alone what was never done, and what was done by others.
    undo(&workspace, 1).await;
    assert!(list(&museum) == meanwhile, "the file is the copy again, byte for byte");
}

#[tokio::test]
async fn an_undo_after_further_changes_takes_back_only_its_own() {
    let museum = Museum::open().await;
    apply(&museum).await.unwrap();
    let by_hand = list(&museum).replace("Palaeontology 22", "Cellar 2").replace("Botany 26", "Botany 27");
    museum.write("accounts.csv", &by_hand);
    let workspace = museum.workspace().unwrap();
    let notes = workspace.way_back(1).await.unwrap().notes().to_vec();
    assert_eq!(notes, ["fcotterill is suspended, not removed: room has changed"]);
    undo(&workspace, 1).await;
    let after = list(&museum);
    assert!(after.lines().any(|row| row.starts_with("fcotterill,") && row.contains(",suspended,")));
    assert!(after.contains("Cellar 2") && after.contains("fcotterill") && !after.contains("bthornbury"));
}

#[tokio::test]
async fn a_brake_holds_everything_until_it_is_released_by_name() {
    let museum = Museum::open().await;
    let settings = museum.settings().replace("removals = 15", "removals = 3");
    museum.write("webtaxon.toml", settings.replace("fewest   = 20", "fewest   = 100"));
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    for (release, held) in [
        (&[][..], "removals (10 accounts would be removed or suspended, 3 are allowed); fewest"),
        (&["seats", "first", "removals"], "a brake stops it: fewest"),
        (&["seats", "first", "fewest"], "a brake stops it: removals"),
    ] {
        let error = workspace.apply(&work, &consent(release)).await.unwrap_err();
        let (said, code, help) = told(&error);
        assert!(said.contains(held), "{said}");
        assert_eq!(code, "WX0603");
        assert!(help.contains("--release"), "{help}");
    }
    let error = workspace.apply(&work, &consent(&["seat"])).await.unwrap_err();
    assert!(told(&error).0.contains("no brake seat"));
    assert_eq!(list(&museum), ACCOUNTS);
    assert!(workspace.journal().await.unwrap().is_none(), "nothing was begun");
    let all = consent(&["removals", "fewest", "seats", "first"]);
    assert!(workspace.apply(&work, &all).await.unwrap().is_complete());
    assert_eq!(journal(&museum).await.runs().unwrap()[0].released, ["removals", "fewest", "seats", "first"]);
}

/// Promise 1, to its end: released or not, half a reading takes nobody's account away.
#[tokio::test]
async fn half_a_reading_is_held_and_removes_nobody_even_when_released() {
    let options = Options { fault: Some("cut@200".parse().unwrap()), ..Options::default() };
    let museum = Museum::with(crate::museum::DIRECTORY, options).await;
    let workspace = museum.workspace().unwrap();
    let (preview, work) = workspace.work().await.unwrap();
    assert!(!preview.is_whole());
    let error = workspace.apply(&work, &consent(&["seats", "fewest"])).await.unwrap_err();
    assert!(told(&error).0.contains("reading ("), "{}", told(&error).0);
    let applied =
        workspace.apply(&work, &consent(&["reading", "seats", "fewest", "removals"])).await.unwrap();
    let after = list(&museum);
    for line in ACCOUNTS.lines() {
        let login = line.split(',').next().unwrap();
        assert!(after.contains(&format!("{login},")) || login == "rfairweather", "{login}");
    }
    assert_eq!(after.matches(",suspended,").count(), ACCOUNTS.matches(",suspended,").count());
    let counts = if applied.run.is_some() {
        journal(&museum).await.runs().unwrap()[0].counts.clone()
    } else {
        Default::default()
    };
    assert!(!counts.contains_key("remove") && !counts.contains_key("suspend"), "{counts:?}");
}

#[tokio::test]
async fn a_saved_preview_is_only_good_for_what_it_was_made_with() {
    let museum = Museum::open().await;
    let file = museum.path().join("monday.json");
    let text = || std::fs::read_to_string(&file).unwrap();
    let workspace = museum.workspace().unwrap();
    let work = workspace.work().await.unwrap().1;
    workspace.save(&work, &file, "ada").await.unwrap();
    let saved = text();
    for (from, to, said) in [
        ("tashdown2@", "mallory@", "it was edited after it was made"),
        ("\"seats\"", "\"soup\"", "it was edited after it was made"),
        ("webtaxon.saved/1", "webtaxon.saved/2", "its format is webtaxon.saved/2"),
        ("\"version\": \"", "\"version\": \"9", "wrote it, and this is"),
        ("\"origin\"", "\"origen\"", "it was edited after it was made"),
        ("{\n", "", "it is not JSON"),
    ] {
        assert!(saved.contains(from), "{from}");
        std::fs::write(&file, saved.replacen(from, to, 1)).unwrap();
        let error = workspace.read_saved(&file).await.unwrap_err();
        assert!(error.to_string().contains(said), "{said}: {error}");
    }
    std::fs::write(&file, &saved).unwrap();
    let again = workspace.save(&work, &file, "ada").await.unwrap_err();
    assert!(again.to_string().contains("exists"), "{again}");
    museum.write("other.csv", ACCOUNTS);
    for (from, to, said) in [
        ("accounts.csv", "other.csv", "for another list of accounts"),
        ("removals = 15", "removals = 16", "with other settings"),
        ("# ", "## ", ""),
    ] {
        museum.change(from, to);
        let workspace = museum.workspace().unwrap();
        let (work, _) = workspace.read_saved(&file).await.unwrap();
        match workspace.may_apply(&work, &agreed()) {
            Ok(()) => assert_eq!(said, "", "a comment is no setting"),
            Err(error) => {
                let (words, code, _) = told(&error);
                assert!(!said.is_empty() && words.contains(said), "{words}");
                assert_eq!(code, "WX0606");
            }
        }
    }
    assert_eq!(list(&museum), ACCOUNTS);
}

#[tokio::test]
async fn where_nothing_can_be_written_nothing_is_begun() {
    let museum = Museum::open().await;
    let path = |name: &str| -> PathBuf { museum.path().join(name) };
    // A file where the folder for copies must be.
    museum.write("webtaxon.backups", "");
    let error = apply(&museum).await.unwrap_err();
    assert_eq!(told(&error).1, "WX0609", "{error}");
    assert_eq!(list(&museum), ACCOUNTS);
    assert_eq!(journal(&museum).await.runs().unwrap()[0].ending, Some(Ending::Stopped));
    std::fs::remove_file(path("webtaxon.backups")).unwrap();
    // Another program's file, a broken one, and one of a newer version.
    let state = path("webtaxon.state.sqlite");
    std::fs::write(&state, "not a database, but long enough to be looked at as one".repeat(40)).unwrap();
    let error = apply(&museum).await.unwrap_err();
    assert_eq!(told(&error).1, "WX0108", "{error}");
    std::fs::remove_file(&state).unwrap();
    apply(&museum).await.unwrap();
    let db = rusqlite::Connection::open(&state).unwrap();
    db.execute_batch("PRAGMA user_version = 99").unwrap();
    let after = list(&museum);
    let error = apply(&museum).await.unwrap_err();
    assert_eq!(told(&error).1, "WX0601", "{error}");
    db.execute_batch("PRAGMA user_version = 1; PRAGMA application_id = 7").unwrap();
    assert!(told(&apply(&museum).await.unwrap_err()).0.contains("another program's"));
    assert_eq!(list(&museum), after);
    // A journal that was taken away leaves its copies, and they are not in the way.
    drop(db);
    std::fs::remove_file(&state).unwrap();
    museum.write("accounts.csv", ACCOUNTS);
    let backup = apply(&museum).await.unwrap().backup.unwrap();
    assert_eq!(std::fs::read_to_string(backup).unwrap(), ACCOUNTS);
    assert!(undo(&museum.workspace().unwrap(), 1).await.is_complete());
    assert_eq!(list(&museum), ACCOUNTS);
}

#[tokio::test]
async fn only_one_apply_at_a_time() {
    let museum = Museum::open().await;
    let lock = std::fs::File::create(museum.path().join("webtaxon.state.lock")).unwrap();
    std::io::Write::write_all(&mut &lock, b"bo at reception, process 7, since Monday").unwrap();
    lock.lock().unwrap();
    let error = apply(&museum).await.unwrap_err();
    let (said, code, _) = told(&error);
    assert!(said.contains("bo at reception, process 7, since Monday"), "{said}");
    assert_eq!(code, "WX0602");
    assert_eq!(list(&museum), ACCOUNTS);
    drop(lock);
    assert!(apply(&museum).await.unwrap().is_complete());
}

#[tokio::test]
async fn an_apply_remembers_who_was_missed_what_there_was_and_the_settings() {
    let museum = Museum::open().await;
    museum.change("gone       = { do = \"remove\" }", "gone       = { do = \"remove\", after_days = 14 }");
    assert!(apply(&museum).await.unwrap().is_complete());
    let memory = journal(&museum).await.memory().unwrap();
    let waiting: Vec<_> = memory.missed.values().collect();
    assert!(waiting.iter().filter(|day| ***day == memory.today).count() >= 3, "{waiting:?}");
    assert_eq!(memory.known.len(), 84);
    // Three weeks later, the three are removed.
    let db = rusqlite::Connection::open(museum.path().join("webtaxon.state.sqlite")).unwrap();
    db.execute("UPDATE missed SET since = '2020-01-01'", []).unwrap();
    drop(db);
    let preview = museum.preview().await.unwrap();
    assert_eq!(preview.of_kind(ChangeKind::Remove).count(), 3);
    // Somebody takes an account away by hand.
    let without: Vec<String> =
        list(&museum).lines().filter(|line| !line.starts_with("bthornbury,")).map(str::to_owned).collect();
    museum.write("accounts.csv", without.join("\n") + "\n");
    let preview = museum.preview().await.unwrap();
    let back = preview.of_kind(ChangeKind::Import).next().unwrap();
    assert!(back.detail().as_ref().unwrap().contains("except = [\"bthornbury\"]"), "{back:?}");
    // And somebody widens the filter.
    museum.change("(objectClass=user)", "(objectClass=person)");
    let preview = museum.preview().await.unwrap();
    let brake = preview
        .brakes
        .iter()
        .find(|brake| brake.kind == webtaxon::model::preview::BrakeKind::SettingsChanged)
        .unwrap();
    assert!(brake.which.contains(&"filter".to_owned()), "{brake:?}");
}

#[tokio::test]
async fn old_runs_are_forgotten_with_their_copies() {
    let museum = Museum::open().await;
    apply(&museum).await.unwrap();
    let workspace = museum.workspace().unwrap();
    undo(&workspace, 1).await;
    let forget = async |day: &str| workspace.forget_before(day.parse().unwrap(), "ada").await.unwrap();
    assert_eq!(forget("2020-01-01").await, 0);
    assert_eq!(forget("2999-01-01").await, 1, "the latest is kept");
    let copies: Vec<_> = std::fs::read_dir(museum.path().join("webtaxon.backups")).unwrap().collect();
    assert_eq!(copies.len(), 1);
    assert!(journal(&museum).await.entries(1).unwrap().is_empty());
    assert_eq!(told(&workspace.way_back(1).await.unwrap_err()).1, "WX0607");
    assert!(apply(&museum).await.unwrap().run.unwrap() > 2, "numbers are not given twice");
}

/// Two settings files over one list have two locks; the list is changed by one after the other all the same.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn two_at_once_do_not_mix() {
    for _ in 0..5 {
        let museum = Museum::open().await;
        museum.write("second.toml", museum.settings());
        let open = |name: &str| Workspace::open(museum.path().join(name)).unwrap();
        let (one, two) = (open("webtaxon.toml"), open("second.toml"));
        let ((_, first), (_, second)) = (one.work().await.unwrap(), two.work().await.unwrap());
        let wanted = first.edits().len();
        let runs = [(one, first), (two, second)]
            .map(|(workspace, work)| tokio::spawn(async move { workspace.apply(&work, &agreed()).await }));
        let mut done = 0;
        for run in runs {
            let applied = run.await.unwrap().unwrap();
            done += applied.count(|outcome| *outcome == Outcome::Done);
        }
        assert_eq!(done, wanted, "each change once, by one of them");
        assert_eq!(museum.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)]);
    }
}

/// A list in memory whose answer is lost after the edits were made, and which then cannot be read for so
/// many times.
struct Lossy {
    accounts: Mutex<Vec<Account>>,
    loses: AtomicBool,
    unreadable: AtomicUsize,
    later: AtomicUsize,
}

impl AccountStore for Lossy {
    fn describe(&self) -> String {
        "a list far away".to_owned()
    }

    fn accounts(&self, _: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        let gone = self.unreadable.fetch_update(Relaxed, Relaxed, |left| left.checked_sub(1)).is_ok();
        let list = self.accounts.lock().unwrap().clone();
        Box::pin(async move { if gone { Err(lost()) } else { Ok(list) } })
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, mut record: Recorder) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            let mut list = self.accounts.lock().unwrap();
            let now = std::mem::take(&mut *list);
            let plan = Plan::of(&edits, &now, &terms.unique);
            *list = plan.made();
            if self.loses.swap(false, Relaxed) {
                self.unreadable.store(self.later.load(Relaxed), Relaxed);
                return Err(lost());
            }
            for (at, outcome) in plan.outcomes() {
                if record(at, outcome).is_break() {
                    break;
                }
            }
            Ok(())
        })
    }
}

fn lost() -> StoreError {
    StoreErrorKind::Database { store: "a list far away".to_owned(), source: "the answer was lost".into() }
        .into()
}

/// Promise 4: an answer that was lost after the write, with the list there again at once, or only later.
#[tokio::test]
async fn a_lost_answer_is_looked_up_at_once_or_by_the_next() {
    for (unreadable, done, ending) in [(0, 73, Some(Ending::Stopped)), (1, 0, None)] {
        let museum = Museum::open().await;
        let store = Arc::new(Lossy {
            accounts: Mutex::default(),
            loses: true.into(),
            unreadable: 0.into(),
            later: unreadable.into(),
        });
        let workspace = museum.workspace().unwrap().with_store(Arc::clone(&store) as Arc<dyn AccountStore>);
        let (_, work) = workspace.work().await.unwrap();
        let applied = workspace.apply(&work, &agreed()).await.unwrap();
        assert!(applied.stopped.as_ref().unwrap().contains("the answer was lost"), "{applied:?}");
        assert_eq!(applied.count(|one| *one == Outcome::Done), done);
        assert_eq!(journal(&museum).await.runs().unwrap()[0].ending, ending);
        assert_eq!(store.accounts.lock().unwrap().len(), 73);
        let again = workspace.apply(&work, &agreed()).await.unwrap();
        let found = again.interrupted.map(|run| (run.done, run.open));
        assert_eq!(found, ending.is_none().then_some((73, 0)), "the next one looks at what is not known");
        assert_eq!(again.count(|one| *one == Outcome::Made), 73, "and nothing is doubled");
        let back = workspace.way_back(1).await.unwrap();
        assert!(workspace.apply(&back, &consent(&["removals"])).await.unwrap().is_complete());
        assert!(store.accounts.lock().unwrap().is_empty(), "and it can be taken back");
    }
}

/// Promise 4: an apply whose future is dropped is finished and recorded all the same, wherever that happens.
#[tokio::test]
async fn an_apply_that_nobody_waits_for_is_finished_and_recorded() {
    for polls in [0, 1, 2, 7] {
        let museum = Museum::open().await;
        let workspace = museum.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let consent = agreed();
        let mut applying = Box::pin(workspace.apply(&work, &consent));
        for _ in 0..polls {
            let poll = std::future::poll_fn(|context| {
                std::task::Poll::Ready(applying.as_mut().poll(context).is_pending())
            });
            assert!(poll.await, "{polls}");
            tokio::task::yield_now().await;
        }
        drop(applying);
        if polls == 0 {
            tokio::time::sleep(Duration::from_millis(200)).await;
            assert!(workspace.journal().await.unwrap().is_none(), "nobody ever asked for it");
            continue;
        }
        let mut ended = None;
        for _ in 0..600 {
            let journal = workspace.journal().await.unwrap();
            ended = journal.and_then(|journal| journal.runs().unwrap().first()?.ending);
            if ended.is_some() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        assert_eq!(ended, Some(Ending::Done), "{polls}");
        let outcomes = journal(&museum).await.entries(1).unwrap();
        assert!(outcomes.iter().all(|one| one.outcome == Some(Outcome::Done)), "{polls}: {outcomes:?}");
        assert_eq!(outcomes.len(), work.edits().len());
        let back = workspace.apply(&workspace.way_back(1).await.unwrap(), &consent).await.unwrap();
        assert!(back.is_complete() && back.interrupted.is_none(), "{polls}: {back:?}");
    }
}

/// Promise 2 and 3: what is saved is good where it was made, and nothing touches what was protected meanwhile.
#[tokio::test]
async fn neither_a_saved_preview_nor_an_undo_is_trusted() {
    let (museum, other) = (Museum::open().await, Museum::open().await);
    let file = museum.path().join("monday.json");
    let workspace = museum.workspace().unwrap();
    let work = workspace.work().await.unwrap().1;
    workspace.save(&work, &file, "ada").await.unwrap();
    let elsewhere = other.workspace().unwrap();
    let its = elsewhere.work().await.unwrap().1;
    for again in [false, true] {
        let error = elsewhere.read_saved(&file).await.unwrap_err();
        assert!(error.to_string().contains("made with another state"), "{again}: {error}");
        if !again {
            elsewhere.save(&its, &other.path().join("its.json"), "ada").await.unwrap();
        }
    }
    assert!(workspace.apply(&work, &agreed()).await.unwrap().is_complete());
    let settings = museum.settings().replace("[\"admin\"", "[\"BThornbury\", \"admin\"");
    museum.write("webtaxon.toml", settings);
    let workspace = museum.workspace().unwrap();
    let back = workspace.way_back(1).await.unwrap();
    let undone = workspace.apply(&back, &consent(&["seats"])).await.unwrap();
    let left: Vec<_> =
        back.edits().iter().zip(&undone.outcomes).filter(|(_, one)| **one != Some(Outcome::Done)).collect();
    let [(edit, Some(Outcome::Left(why)))] = left.as_slice() else { panic!("{left:?}") };
    assert!(edit.login() == "bthornbury" && why.contains("is protected"), "{why}");
    assert!(list(&museum).contains("bthornbury"));
}

/// An interrupted run is taken up only with the list that it was for, and a preview says that there is one.
#[tokio::test]
async fn an_interrupted_run_is_taken_up_with_its_own_list() {
    let museum = Museum::open().await;
    apply(&museum).await.unwrap();
    let state = rusqlite::Connection::open(museum.path().join("webtaxon.state.sqlite")).unwrap();
    state.execute("UPDATE run SET ending = NULL, ended = NULL, store = 'csv elsewhere.csv'", []).unwrap();
    assert_eq!(museum.preview().await.unwrap().interrupted, Some(1));
    let (words, code, help) = told(&apply(&museum).await.unwrap_err());
    assert!(
        code == "WX0614" && words.contains("csv elsewhere.csv") && help.contains("that list first"),
        "{words}"
    );
    let own = museum.workspace().unwrap().store().place();
    state.execute("UPDATE run SET store = ?1", [own]).unwrap();
    assert_eq!(apply(&museum).await.unwrap().interrupted.map(|run| run.run), Some(1));
    assert_eq!(museum.preview().await.unwrap().interrupted, None);
}

/// Only copies are deleted with old runs, whatever the journal says.
#[tokio::test]
async fn forgetting_deletes_nothing_but_copies() {
    let museum = Museum::open().await;
    for _ in 0..2 {
        apply(&museum).await.unwrap();
        undo(&museum.workspace().unwrap(), 1).await;
    }
    let state = rusqlite::Connection::open(museum.path().join("webtaxon.state.sqlite")).unwrap();
    for place in ["accounts.csv", "webtaxon.backups/../accounts.csv", "../accounts.csv", "/etc/hostname"] {
        state.execute("UPDATE run SET backup = ?1, begun = '2001-01-01T00:00:00Z'", [place]).unwrap();
        let workspace = museum.workspace().unwrap();
        workspace.forget_before(jiff::civil::date(2020, 1, 1), "ada").await.unwrap();
        assert!(museum.path().join("accounts.csv").exists(), "{place}");
        apply(&museum).await.unwrap();
    }
}
