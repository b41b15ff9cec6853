//! `webtaxon apply` and `journal` as they are typed.

use crate::command::Museum;

const SEATS: [&str; 2] = ["--release", "seats,first"];

pub(crate) fn list(museum: &Museum) -> String {
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
    assert!(err.contains("webtaxon apply monday.json --release seats,first"), "{err}");
    let (code, out, err) = run(&museum, &["apply", "monday.json", "--yes"], &[]);
    assert_eq!(code, 3, "a brake holds it");
    assert!(
        out.contains(
            "What would be carried out: 7 import, 2 adopt, 10 update, 2 restore, 7 suspend, 3 remove"
        ),
        "{out}"
    );
    assert!(err.contains("WX0603") && err.contains("--release seats,first"), "{err}");
    let (code, _, err) = run(&museum, &["apply", "monday.json"], &SEATS);
    assert_eq!(code, 2, "nobody is there to be asked");
    assert!(err.contains("--yes"), "{err}");
    assert_eq!(list(&museum), before);
    let (code, out, err) = run(&museum, &["apply", "monday.json", "--yes"], &SEATS);
    assert_eq!(code, 0, "{err}");
    for words in [
        "Run 1: 31 of 31 changes done.",
        "webtaxon.backups/run-1.csv",
        "webtaxon journal 1 --undo --save undo-1.json",
    ] {
        assert!(out.contains(words), "{words}: {out}");
    }
    let (code, out, _) = run(&museum, &["preview", "--only", "import,update,remove"], &[]);
    assert_eq!(code, 0);
    assert!(out.contains("2 clash; 79 linked accounts are unchanged."), "{out}");
    let (code, out, _) = run(&museum, &["apply", "--yes"], &[]);
    assert_eq!(code, 0);
    assert!(out.ends_with("Nothing to do: the application's accounts are up to date.\n"), "{out}");
    let (_, out, _) = run(&museum, &["journal"], &[]);
    assert!(out.contains("7 import, 2 adopt, 10 update, 2 restore, 7"), "{out}");
    let (_, out, _) = run(&museum, &["journal", "1"], &[]);
    assert!(out.contains("login: rfairweather → rpemberton") && out.contains("(Hugo Vanish)"), "{out}");
    let (code, out, err) = run(&museum, &["journal", "1", "--undo", "--save", "undo-1.json"], &[]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("To undo run 1: 3 import, 12 update, 7 restore, 2 suspend, 7 remove"), "{out}");
    let (code, ..) = run(&museum, &["apply", "undo-1.json", "--yes"], &[]);
    assert_eq!((code, list(&museum)), (0, before));
    let (_, out, _) = run(&museum, &["journal"], &[]);
    assert!(out.contains("undid run 1") && out.contains("undone"), "{out}");
    let (_, lines, _) = run(&museum, &["journal", "--lines"], &[]);
    assert_eq!(lines.lines().count(), 62);
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
        assert!(err.contains("out of date"), "{err}");
    }
    assert!(!museum.file("webtaxon.state.sqlite").exists() && !museum.file("x.json").exists());
}

#[test]
fn days_of_grace_begin_with_an_apply_and_end_on_their_day() {
    let museum = Museum::open(&[]);
    museum.change("gone       = { do = \"remove\" }", "gone       = { do = \"remove\", after_days = 14 }");
    let first = museum.run(&["preview"]);
    assert!(
        first.out.contains("Wait (4): these are done on a later day") && !first.out.contains("Remove ("),
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
    assert!(later.out.contains("Wait (3)") && later.out.contains("Remove (1)"), "{}", later.out);
    let why = museum.run(&["why", "adrift"]);
    assert!(why.out.contains("Nothing yet: the days of grace of adrift are running (gone"), "{}", why.out);
    missed("9000-01-01");
    let wrong = museum.run(&["preview"]);
    assert!(wrong.out.contains("1 person was first missed on a day in the future"), "{}", wrong.out);
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
    let mut codes = Vec::new();
    for blocks in [1, 24, 48, 60, 64, 68, 72, 80, 88, 96, 108, 128] {
        clean(&museum, &before);
        let _ = std::fs::remove_file(museum.file("monday.json"));
        museum.run(&["preview", "--save", "monday.json"]);
        let command = format!("ulimit -f {blocks}; trap '' XFSZ; exec \"$@\"");
        let full = std::process::Command::new("bash")
            .args(["-c", &command, "bash", crate::command::BINARY])
            .args(["apply", "monday.json", "--yes", "--release", "seats,first"])
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
            out.contains("31 of 31 changes done") || out.contains("there already"),
            "{blocks} blocks: {out}"
        );
        assert_eq!(list(&museum).lines().count(), before.lines().count() + 4, "{blocks} blocks");
    }
    codes.dedup();
    assert!(codes.len() >= 2, "the disk was full in different places: {codes:?}");
}

/// As if nothing had ever been applied.
pub(crate) fn clean(museum: &Museum, accounts: &str) {
    for name in ["webtaxon.state.sqlite", "webtaxon.state.sqlite-journal", "webtaxon.state.lock"] {
        let _ = std::fs::remove_file(museum.file(name));
    }
    let _ = std::fs::remove_dir_all(museum.file("webtaxon.backups"));
    museum.write("accounts.csv", accounts);
}

/// The statements go to a file of their own, and nothing is changed; run, they leave nothing to do.
#[test]
fn the_statements_of_an_apply_are_written_down() {
    let museum = Museum::open(&[]);
    let none = museum.run(&["apply", "--release", "seats,first", "--statements", "monday.sql"]);
    assert!(none.code == 2 && none.err.contains("WX0611"), "{}", none.err);
    into_a_database(&museum);
    let held = museum.run(&["apply", "--statements", "monday.sql"]);
    assert!(held.code == 3 && !museum.file("monday.sql").exists(), "{}", held.err);
    let written = museum.run(&["apply", "--release", "seats,first", "--statements", "monday.sql"]);
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
    let again = museum.run(&["apply", "--release", "seats,first", "--statements", "monday.sql"]);
    assert!(again.code == 1 && again.err.contains("monday.sql cannot be written"), "{}", again.err);
}

/// Moves the museum's accounts from their file to a table.
pub(crate) fn into_a_database(museum: &Museum) {
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
