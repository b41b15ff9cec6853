//! The demo, and what the main commands print on the museum's data.

use crate::command::{Museum, run, webtaxon};
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};

#[test]
fn the_demo_shows_check_and_preview_and_leaves_nothing_behind() {
    let folder = tempfile::tempdir().unwrap();
    let run = run(webtaxon(&["demo"]).env("TMPDIR", folder.path()));
    assert_eq!((run.code, run.err.as_str()), (0, ""), "{}", run.out);
    for words in [
        "$ webtaxon check",
        "Everything is in order, with 1 warning.",
        "$ webtaxon preview",
        "Import (7)",
        "webtaxon demo --keep museum --stay",
    ] {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "the temporary folder is gone");
}

#[test]
fn the_demo_in_json_is_one_document() {
    let run = run(&mut webtaxon(&["demo", "--format", "json"]));
    let preview: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!(
        (run.code, &preview["format"], &preview["whole"]),
        (0, &"webtaxon.preview/1".into(), &true.into())
    );
}

#[test]
fn a_kept_demo_is_never_overwritten() {
    let folder = tempfile::tempdir().unwrap();
    let keep = folder.path().join("museum");
    let arguments = ["demo", "--keep", keep.to_str().unwrap()];
    assert_eq!(run(&mut webtaxon(&arguments)).code, 0);
    std::fs::write(keep.join("accounts.csv"), "mine").unwrap();
    let again = run(&mut webtaxon(&arguments));
    assert_eq!(again.code, 1);
    assert!(again.err.contains("exists already"), "{}", again.err);
    assert_eq!(std::fs::read_to_string(keep.join("accounts.csv")).unwrap(), "mine");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        let mode = std::fs::metadata(keep.join("museum-password.txt")).unwrap().permissions().mode();
        assert_eq!(mode & 0o077, 0, "the password is its owner's alone");
    }
}

#[cfg(unix)]
#[test]
fn a_demo_that_stays_answers_until_it_is_ended() {
    let folder = tempfile::tempdir().unwrap();
    let keep = folder.path().join("museum");
    let mut demo = webtaxon(&["demo", "--stay", "--keep", keep.to_str().unwrap()]);
    let mut child = demo.stdout(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok);
    assert!(lines.any(|line| line.contains("Ctrl-C here stops")));
    let settings = keep.join("webtaxon.toml");
    let other = run(&mut webtaxon(&["preview", "--settings", settings.to_str().unwrap()]));
    assert_eq!(other.code, 0, "{}", other.err);
    let ended = Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(ended.success() && child.wait().unwrap().success());
    assert!(lines.any(|line| line == "Stopped."));
}

/// What people read, word for word: `SNAPSHOTS=overwrite cargo test` renews the files.
#[test]
fn check_and_preview_print_what_the_snapshots_say() {
    let museum = Museum::open(&[]);
    for command in ["check", "preview"] {
        let run = museum.run(&[command]);
        assert_eq!((run.code, run.err.as_str()), (0, ""), "{}", run.out);
        let text = run.out.replace(&port(&museum), "PORT");
        // The certificate is made for 365 days, of which a second has passed, or has not.
        let text = text.replace("(364", "(365");
        let expected = snapbox::Data::read_from(format!("tests/it/{command}.txt").as_ref(), None);
        snapbox::assert_data_eq!(without_times(&text), expected);
    }
}

fn port(museum: &Museum) -> String {
    let settings = std::fs::read_to_string(museum.file("webtaxon.toml")).unwrap();
    settings.split("localhost:").nth(1).unwrap().chars().take_while(char::is_ascii_digit).collect()
}

/// Takes `12 ms`, the year's end and this machine's addresses away: they are others elsewhere.
fn without_times(text: &str) -> String {
    let cut = |line: &str| {
        let line = match line.strip_suffix(" ms") {
            Some(front) => front.trim_end_matches(|digit: char| digit.is_ascii_digit()).trim_end(),
            None => line,
        };
        let line = line
            .split_once("localhost:PORT: ")
            .map_or(line.to_owned(), |(front, _)| format!("{front}localhost:PORT"));
        line.split(' ').map(|word| if is_day(word) { "DAY" } else { word }).collect::<Vec<_>>().join(" ")
    };
    text.lines().map(|line| cut(line) + "\n").collect()
}

/// A word like `2027-11-25`.
fn is_day(word: &str) -> bool {
    word.len() == 10
        && word
            .bytes()
            .enumerate()
            .all(|(at, byte)| if at == 4 || at == 7 { byte == b'-' } else { byte.is_ascii_digit() })
}

#[test]
fn no_line_is_wider_than_the_terminal() {
    use unicode_width::UnicodeWidthStr as _;
    let museum = Museum::open(&[]);
    for columns in ["60", "80", "120"] {
        for command in ["check", "preview"] {
            let run = run(webtaxon(&[command]).current_dir(museum.file("")).env("COLUMNS", columns));
            let widest = run.out.lines().map(|line| line.width()).max().unwrap();
            // Sentences, and commands that are copied, are left to the terminal; columns are not.
            let columns: usize = columns.parse().unwrap();
            let in_table = |line: &&str| line.starts_with("  ") && !line.contains("webtaxon ");
            let table = run.out.lines().filter(in_table).map(|line| line.width()).max().unwrap();
            assert!(table <= columns, "{command}: {table} of {columns} (widest {widest})");
        }
    }
}

#[test]
fn colours_come_only_where_they_are_wanted() {
    let museum = Museum::open(&[]);
    for (arguments, no_color, colored) in [
        (&["check"][..], false, false),
        (&["check", "--color", "always"], false, true),
        (&["check", "--color", "never"], false, false),
        (&["check"], true, false),
    ] {
        let mut command = webtaxon(arguments);
        if no_color {
            command.env("NO_COLOR", "1");
        }
        let run = run(command.current_dir(museum.file("")));
        assert_eq!(run.out.contains('\u{1b}'), colored, "{arguments:?}");
    }
}

#[test]
fn something_to_do_can_be_told_by_the_exit_code() {
    let museum = Museum::open(&[]);
    assert_eq!(museum.run(&["preview", "--changes-exit-code"]).code, 10);
    assert_eq!(museum.run(&["preview"]).code, 0);
}
