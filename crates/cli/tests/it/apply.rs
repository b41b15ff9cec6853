//! `webtaxon apply` and `journal` as they are typed; and killed at every place at which they write.

use crate::command::Museum;
#[cfg(feature = "crash-points")]
use std::path::Path;

const SEATS: [&str; 2] = ["--release", "seats"];

fn list(museum: &Museum) -> String {
    std::fs::read_to_string(museum.file("accounts.csv")).unwrap()
}

fn run(museum: &Museum, arguments: &[&str], more: &[&str]) -> (i32, String, String) {
    let arguments: Vec<&str> = arguments.iter().chain(more).copied().collect();
    let run = museum.run(&arguments);
    (run.code, run.out, run.err)
}

#[test]
fn preview_save_apply_journal_undo_and_back_to_the_start() {
    let museum = Museum::open(&[]);
    let before = list(&museum);
    let (code, _, err) = run(&museum, &["preview", "--save", "monday.json", "--only", "remove"], &[]);
    assert_eq!(code, 0);
    assert!(err.contains("webtaxon apply monday.json --release seats"), "{err}");
    let (code, out, err) = run(&museum, &["apply", "monday.json", "--yes"], &[]);
    assert_eq!(code, 3, "a brake holds it");
    assert!(
        out.contains(
            "What would be carried out: 7 import, 2 adopt, 4 update, 2 restore, 7 suspend, 3 remove"
        ),
        "{out}"
    );
    assert!(err.contains("WX0603") && err.contains("--release seats"), "{err}");
    let (code, _, err) = run(&museum, &["apply", "monday.json"], &SEATS);
    assert_eq!(code, 2, "nobody is there to be asked");
    assert!(err.contains("--yes"), "{err}");
    assert_eq!(list(&museum), before);
    let (code, out, err) = run(&museum, &["apply", "monday.json", "--yes"], &SEATS);
    assert_eq!(code, 0, "{err}");
    for words in [
        "Run 1: 25 of 25 changes done.",
        "webtaxon.backups/run-1.csv",
        "webtaxon journal 1 --undo --save undo-1.json",
    ] {
        assert!(out.contains(words), "{words}: {out}");
    }
    let (code, out, _) = run(&museum, &["preview", "--only", "import,update,remove"], &[]);
    assert_eq!(code, 0);
    assert!(out.contains("2 clash; 79 linked accounts stay as they are."), "{out}");
    let (code, out, _) = run(&museum, &["apply", "--yes"], &[]);
    assert_eq!(code, 0);
    assert!(out.ends_with("Nothing to do: the application's list is as it should be.\n"), "{out}");
    let (_, out, _) = run(&museum, &["journal"], &[]);
    assert!(out.contains("7 import, 2 adopt, 4 update, 2 restore, 7"), "{out}");
    let (_, out, _) = run(&museum, &["journal", "1"], &[]);
    assert!(out.contains("login: rfairweather → rpemberton") && out.contains("(Hugo Vanish)"), "{out}");
    let (code, out, err) = run(&museum, &["journal", "1", "--undo", "--save", "undo-1.json"], &[]);
    assert_eq!(code, 0, "{err}");
    assert!(
        out.contains("The way back of run 1: 3 import, 6 update, 7 restore, 2 suspend, 7 remove"),
        "{out}"
    );
    let (code, ..) = run(&museum, &["apply", "undo-1.json", "--yes"], &[]);
    assert_eq!((code, list(&museum)), (0, before));
    let (_, out, _) = run(&museum, &["journal"], &[]);
    assert!(out.contains("took run 1 back") && out.contains("taken back"), "{out}");
    let (_, lines, _) = run(&museum, &["journal", "--lines"], &[]);
    assert_eq!(lines.lines().count(), 50);
    for line in lines.lines() {
        let line: serde_json::Value = serde_json::from_str(line).unwrap();
        assert!(line["run"].is_i64() && line["fields"].is_object() && line["outcome"] == "done", "{line}");
    }
    assert!(!lines.contains("botanical-garden"), "no secret");
    let (code, _, err) = run(&museum, &["journal", "7"], &[]);
    assert_eq!(code, 2);
    assert!(err.contains("WX0607"), "{err}");
}

#[test]
fn what_a_snapshot_shows_is_not_applied() {
    let museum = Museum::open(&[]);
    museum.run(&["snapshot", "monday.ldif"]);
    for arguments in [&["apply", "--yes"][..], &["preview", "--save", "x.json"]] {
        let (code, _, err) = run(&museum, arguments, &["--from", "monday.ldif"]);
        assert_eq!(code, 2);
        assert!(err.contains("older than you think"), "{err}");
    }
    assert!(!museum.file("webtaxon.state.sqlite").exists() && !museum.file("x.json").exists());
}

#[test]
fn days_of_grace_begin_with_an_apply_and_end_on_their_day() {
    let museum = Museum::open(&[]);
    museum.change("gone       = { do = \"remove\" }", "gone       = { do = \"remove\", after_days = 14 }");
    let first = museum.run(&["preview"]);
    assert!(
        first.out.contains("Wait (3): the days of grace") && !first.out.contains("Remove ("),
        "{}",
        first.out
    );
    let (code, _, err) = run(&museum, &["apply", "--yes"], &SEATS);
    assert_eq!(code, 0, "{err}");
    let missed = |day: &str| {
        let db = rusqlite::Connection::open(museum.file("webtaxon.state.sqlite")).unwrap();
        let hugo = "1f0626ad-2c26-5f4a-8f21-552b1c7e5272";
        let changed = db.execute("UPDATE missed SET since = ? WHERE link = ?", [day, hugo]).unwrap();
        assert_eq!(changed, 1, "he was missed");
    };
    missed("2001-01-01");
    let later = museum.run(&["preview"]);
    assert!(later.out.contains("Wait (2)") && later.out.contains("Remove (1)"), "{}", later.out);
    let why = museum.run(&["why", "adrift"]);
    assert!(why.out.contains("Nothing yet: the days of grace of adrift run (gone"), "{}", why.out);
    missed("9000-01-01");
    let wrong = museum.run(&["preview"]);
    assert!(wrong.out.contains("1 person was first missed on a day that has not come"), "{}", wrong.out);
    museum.write("webtaxon.state.sqlite", "no database");
    let broken = museum.run(&["preview"]);
    assert_eq!((broken.code, broken.out.as_str()), (2, ""));
    assert!(broken.err.contains("WX0108"), "{}", broken.err);
}

/// Files may grow to so much only, as on a full disk: everything is done, or nothing, and it is told; with
/// room again it ends the same.
#[test]
fn a_full_disk_leaves_nothing_half_done() {
    let museum = Museum::open(&[]);
    let before = list(&museum);
    museum.run(&["preview", "--save", "monday.json"]);
    let mut codes = Vec::new();
    for blocks in [1, 4, 8, 12, 20, 32, 40, 44, 48] {
        clean(&museum, &before);
        let command = format!("ulimit -f {blocks}; trap '' XFSZ; exec \"$@\"");
        let full = std::process::Command::new("bash")
            .args(["-c", &command, "bash", crate::command::BINARY])
            .args(["apply", "monday.json", "--yes", "--release", "seats"])
            .current_dir(museum.file(""))
            .output()
            .unwrap();
        let err = String::from_utf8_lossy(&full.stderr);
        let code = ["WX0108", "WX0508", "WX0609", "WX0610"].into_iter().find(|code| err.contains(code));
        assert!(full.status.success() || code.is_some(), "{blocks} blocks: {err}");
        let is_done = full.status.success() || code == Some("WX0610");
        assert_eq!(list(&museum) != before, is_done, "{blocks} blocks: {err}");
        codes.extend(code);
        let (code, out, err) = run(&museum, &["apply", "monday.json", "--yes"], &SEATS);
        assert_eq!(code, 0, "{blocks} blocks: {err}");
        assert!(
            out.contains("25 of 25 changes done") || out.contains("there already"),
            "{blocks} blocks: {out}"
        );
        assert_eq!(list(&museum).lines().count(), before.lines().count() + 4, "{blocks} blocks");
    }
    codes.dedup();
    assert!(codes.len() >= 2, "the disk was full in different places: {codes:?}");
}

/// As if nothing had ever been applied.
fn clean(museum: &Museum, accounts: &str) {
    for name in ["webtaxon.state.sqlite", "webtaxon.state.sqlite-journal", "webtaxon.state.lock"] {
        let _ = std::fs::remove_file(museum.file(name));
    }
    let _ = std::fs::remove_dir_all(museum.file("webtaxon.backups"));
    museum.write("accounts.csv", accounts);
}

/// Promise 4: killed at any place at which it writes, and run again, an apply ends in the same state.
#[cfg(feature = "crash-points")]
#[test]
fn killed_anywhere_and_run_again_it_ends_the_same() {
    dies_everywhere("accounts.csv", 12, 25);
}

#[cfg(feature = "crash-points")]
#[test]
fn killed_anywhere_with_links_apart_from_the_list_it_ends_the_same() {
    dies_everywhere("bare.csv", 12, 72);
}

#[cfg(feature = "crash-points")]
#[test]
fn killed_anywhere_in_a_database_it_ends_the_same() {
    dies_everywhere("loans.sqlite", 30, 25);
}

/// Applies a saved preview, and has the program die at one of its points.
#[cfg(feature = "crash-points")]
fn apply_until(museum: &Museum, file: &str, die_at: Option<usize>) -> std::process::Output {
    let mut command = crate::command::webtaxon(&["apply", file, "--yes", "--release", "seats"]);
    command.current_dir(museum.file(""));
    if let Some(point) = die_at {
        command.env("WEBTAXON_DIE_AT", point.to_string());
    }
    command.output().unwrap()
}

/// Moves the museum's accounts to a file without links, which are kept apart from it.
#[cfg(feature = "crash-points")]
fn into_a_list_without_links(museum: &Museum) {
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).from_path(museum.file("accounts.csv")).unwrap();
    let mut writer = csv::Writer::from_path(museum.file("bare.csv")).unwrap();
    for row in reader.records() {
        let row = row.unwrap();
        writer.write_record(row.iter().enumerate().filter(|(at, _)| *at != 1).map(|(_, cell)| cell)).unwrap();
    }
    writer.flush().unwrap();
    museum.change("\"csv\"", "\"csv\"\nlinks = \"apart\"");
    museum.change("accounts.csv", "bare.csv");
}

/// The links that are kept apart from the list.
#[cfg(feature = "crash-points")]
fn kept(museum: &Museum) -> i64 {
    let db = rusqlite::Connection::open(museum.file("webtaxon.state.sqlite")).unwrap();
    db.query_row("SELECT count(*) FROM kept", [], |row| row.get(0)).unwrap()
}

/// Kills an apply of so many changes at each of its points, `least` or more, and looks at the list before and
/// after.
#[cfg(feature = "crash-points")]
fn dies_everywhere(file: &str, least: usize, changes: i64) {
    let museum = Museum::open(&[]);
    match file {
        "loans.sqlite" => into_a_database(&museum),
        "bare.csv" => into_a_list_without_links(&museum),
        _ => {}
    }
    let tied = if file == "bare.csv" { changes } else { 0 };
    let state = || -> String {
        if file != "loans.sqlite" {
            return std::fs::read_to_string(museum.file(file)).unwrap();
        }
        let db = rusqlite::Connection::open(museum.file(file)).unwrap();
        let mut query = db.prepare("SELECT * FROM account ORDER BY login").unwrap();
        let row = |row: &rusqlite::Row<'_>| {
            Ok((0..8).map(|at| format!("{:?}", row.get_ref(at))).collect::<Vec<_>>().join(" "))
        };
        let rows: Vec<String> = query.query_map([], row).unwrap().map(Result::unwrap).collect();
        rows.join("\n")
    };
    let (before, bytes) = (state(), std::fs::read(museum.file(file)).unwrap());
    let fresh = || {
        clean(&museum, &list(&museum));
        let _ = std::fs::remove_file(museum.file("loans.sqlite-journal"));
        museum.write(file, &bytes);
    };
    museum.run(&["preview", "--save", "monday.json"]);
    let apply = |file: &str, die_at| apply_until(&museum, file, die_at);
    assert!(apply("monday.json", None).status.success());
    let after = state();
    assert_ne!(after, before);
    let mut points = 0;
    loop {
        fresh();
        let killed = apply("monday.json", Some(points + 1));
        if killed.status.success() {
            break;
        }
        points += 1;
        let now = state();
        assert!(now == before || now == after, "point {points}: half of it was done");
        // Looking is not hindered by what was left behind, and changes nothing.
        let journal = museum.run(&["journal"]);
        assert_eq!(journal.code, 0, "point {points}: {}", journal.err);
        assert!(state() == now, "point {points}: looking changed something");
        let again = apply("monday.json", None);
        let out = String::from_utf8_lossy(&again.stdout);
        assert!(again.status.success(), "point {points}: {out}{}", String::from_utf8_lossy(&again.stderr));
        assert!(state() == after, "point {points}");
        let all = (done_in_all(&museum.file("webtaxon.state.sqlite")), kept(&museum));
        assert_eq!(all, ((changes, 0), tied), "point {points}: each once");
        leaves_nothing_behind(&museum, points);
        // And back again, run by run.
        for number in museum_runs(&museum) {
            museum.run(&["journal", &number, "--undo", "--save", "undo.json"]);
            assert!(apply("undo.json", None).status.success(), "point {points}");
            std::fs::remove_file(museum.file("undo.json")).unwrap();
        }
        assert!(state() == before && kept(&museum) == 0, "point {points}: undone, byte for byte");
    }
    assert!(points >= least, "only {points} points");
}

/// Behind a service there are no transactions: each account is as it was or as it will be, and run again, the
/// apply ends the same, with each change done once.
#[cfg(feature = "crash-points")]
#[test]
fn killed_anywhere_at_a_service_it_ends_the_same() {
    use webtaxon_standin::{Application, ApplicationOptions, List};
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let museum = Museum::open(&[]);
    let before = List::from_csv(&list(&museum), false).unwrap();
    // One request for each change, so that there is a point at each.
    let offer = ApplicationOptions { bulk: None, ..ApplicationOptions::default() };
    let application = runtime.block_on(Application::start(before.clone(), offer)).unwrap();
    let service = format!("\"scim\"\nservice = \"{}\"\nplain = true", application.url());
    museum.change("\"csv\"", &service);
    museum.change("path      = \"accounts.csv\"", "attributes.room = \"urn:quillmere:loans:2.0:User:room\"");
    let users = |list: &List| -> std::collections::BTreeMap<String, String> {
        let user = |user: serde_json::Value| {
            let mut user = user.as_object().unwrap().clone();
            user.remove("id");
            user.remove("meta");
            (user["userName"].as_str().unwrap().to_owned(), format!("{user:?}"))
        };
        list.users().into_iter().map(user).collect()
    };
    museum.run(&["preview", "--save", "monday.json"]);
    let apply = |file: &str, die_at| apply_until(&museum, file, die_at);
    assert!(apply("monday.json", None).status.success());
    let after = users(&application.list());
    let (mut points, mut halves) = (0, 0);
    loop {
        clean(&museum, &list(&museum));
        application.set_list(before.clone());
        if apply("monday.json", Some(points + 1)).status.success() {
            break;
        }
        points += 1;
        let now = users(&application.list());
        let was = users(&before);
        for (login, user) in &now {
            assert!(
                was.get(login) == Some(user) || after.get(login) == Some(user),
                "point {points}: {login}"
            );
        }
        halves += usize::from(now != was && now != after);
        let again = apply("monday.json", None);
        assert!(again.status.success(), "point {points}: {}", String::from_utf8_lossy(&again.stdout));
        assert_eq!(users(&application.list()), after, "point {points}");
        assert_eq!(done_in_all(&museum.file("webtaxon.state.sqlite")), (25, 0), "point {points}: each once");
        // And back, run by run.
        for run in museum_runs(&museum) {
            museum.run(&["journal", &run, "--undo", "--save", "undo.json"]);
            assert!(apply("undo.json", None).status.success(), "point {points}: run {run}");
            std::fs::remove_file(museum.file("undo.json")).unwrap();
        }
        assert_eq!(users(&application.list()), was, "point {points}: undone");
    }
    assert!(points >= 30 && halves >= 20, "{points} points, {halves} of them in the middle");
}

/// The numbers of the runs that changed something, the latest first.
#[cfg(feature = "crash-points")]
fn museum_runs(museum: &Museum) -> Vec<String> {
    let runs = museum.run(&["journal", "--format", "json"]);
    let runs: serde_json::Value = serde_json::from_str(&runs.out).unwrap();
    let mut numbers: Vec<i64> =
        runs["runs"].as_array().unwrap().iter().map(|run| run["run"].as_i64().unwrap()).collect();
    numbers.sort_unstable_by(|one, other| other.cmp(one));
    numbers.into_iter().map(|number| number.to_string()).collect()
}

/// The statements go to a file of their own, and nothing is changed; run, they leave nothing to do.
#[cfg(feature = "crash-points")]
#[test]
fn the_statements_of_an_apply_are_written_down() {
    let museum = Museum::open(&[]);
    let none = museum.run(&["apply", "--release", "seats", "--statements", "monday.sql"]);
    assert!(none.code == 2 && none.err.contains("WX0611"), "{}", none.err);
    into_a_database(&museum);
    let held = museum.run(&["apply", "--statements", "monday.sql"]);
    assert!(held.code == 3 && !museum.file("monday.sql").exists(), "{}", held.err);
    let written = museum.run(&["apply", "--release", "seats", "--statements", "monday.sql"]);
    assert!(
        written.code == 0 && written.err.contains("monday.sql has the statements for 7 import"),
        "{}",
        written.err
    );
    assert!(!museum.file("webtaxon.state.sqlite").exists(), "no journal");
    let script = std::fs::read_to_string(museum.file("monday.sql")).unwrap();
    rusqlite::Connection::open(museum.file("loans.sqlite")).unwrap().execute_batch(&script).unwrap();
    let left = museum.run(&["preview"]);
    assert!(left.out.contains("\n  2 clash; "), "{}", left.out);
    let again = museum.run(&["apply", "--release", "seats", "--statements", "monday.sql"]);
    assert!(again.code == 1 && again.err.contains("monday.sql cannot be written"), "{}", again.err);
}

/// Moves the museum's accounts from their file to a table.
#[cfg(feature = "crash-points")]
fn into_a_database(museum: &Museum) {
    let columns = "login, link, state, name, email, department, room, roles";
    let db = rusqlite::Connection::open(museum.file("loans.sqlite")).unwrap();
    db.execute_batch(&format!("CREATE TABLE account ({columns}, UNIQUE (login))")).unwrap();
    let mut reader = csv::Reader::from_path(museum.file("accounts.csv")).unwrap();
    for row in reader.records() {
        let marks = ["?"; 8].join(", ");
        let sql = format!("INSERT INTO account ({columns}) VALUES ({marks})");
        db.execute(&sql, rusqlite::params_from_iter(row.unwrap().iter())).unwrap();
    }
    museum.change("\"csv\"", "\"sqlite\"\ntable = \"account\"");
    museum.change("accounts.csv", "loans.sqlite");
}

/// How many edits the journal has as done, and how many of which nobody knows.
#[cfg(feature = "crash-points")]
fn done_in_all(state: &Path) -> (i64, i64) {
    let db = rusqlite::Connection::open(state).unwrap();
    let count =
        |what: &str| db.query_row(&format!("SELECT count(*) FROM edit WHERE {what}"), [], |row| row.get(0));
    (count("outcome = 'done'").unwrap(), count("outcome IS NULL").unwrap())
}

#[cfg(feature = "crash-points")]
fn leaves_nothing_behind(museum: &Museum, point: usize) {
    let left: Vec<String> = std::fs::read_dir(museum.file(""))
        .unwrap()
        .map(|file| file.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| name.ends_with(".new") || name.ends_with("-journal"))
        .collect();
    assert!(left.is_empty(), "point {point}: {left:?}");
}
