//! `settle`: the questions in a pipe and at a terminal, and what it writes.

use crate::command::{BINARY, Museum};
use std::io::Write as _;
use std::process::{Command, Stdio};

const SETTINGS: &str = include_str!("../../../../demo/webtaxon.toml");
const DPRYCE: &str = "whose = { \"dpryce\" = \"3850ae36-5cf3-504b-90e3-a233b20e7b32\" }";

/// Runs `webtaxon settle` at a terminal, with these lines typed.
fn typed(museum: &Museum, lines: &str) -> String {
    let command = format!("stty cols 110; exec {BINARY} settle --color never");
    let mut script = Command::new("script")
        .args(["-qec", &command, "/dev/null"])
        .current_dir(museum.file(""))
        .env_remove("WEBTAXON_SETTINGS")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    script.stdin.take().unwrap().write_all(lines.as_bytes()).unwrap();
    let output = script.wait_with_output().unwrap();
    assert!(output.status.success(), "{output:?}");
    String::from_utf8(output.stdout).unwrap().replace('\r', "")
}

fn settings(museum: &Museum) -> String {
    std::fs::read_to_string(museum.file("webtaxon.toml")).unwrap()
}

#[test]
fn in_a_pipe_the_lines_are_printed() {
    let museum = Museum::open(&[]);
    let before = settings(&museum);
    let run = museum.run(&["settle"]);
    assert_eq!((run.code, run.err.as_str()), (0, ""));
    for words in [
        "Clash 1 of 2: dpryce, Delyth Pryce",
        "has the login and email of dpryce, whose person's entry is gone: the same person, made anew?",
        "Clash 2 of 2: ghollow, Gus Hollow",
        "department  Exhibitions                                (empty)",
        "Nothing was written.",
    ] {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
    let one_line = run.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        one_line.contains(&format!("write {DPRYCE} in [accounts]: the account becomes theirs")),
        "{one_line}"
    );
    assert_eq!(settings(&museum), before);
}

#[test]
fn answers_are_shown_and_written_beside_the_comments() {
    let museum = Museum::open(&[]);
    let before = settings(&museum);
    for lines in ["\n\n", "q\n", "9\n1\n\nno\n", "1\n1\n\n"] {
        let told = typed(&museum, lines);
        assert!(told.contains("Nothing was written."), "{lines:?}: {told}");
        assert_eq!(settings(&museum), before, "{lines:?}");
    }
    let told = typed(&museum, "1\n1\nyes\n");
    for words in
        ["Adopt (2)", "was linked to an entry that is gone", "No clash is left.", "Written: webtaxon.toml"]
    {
        assert!(told.contains(words), "{words}: {told}");
    }
    let after = settings(&museum);
    let line = after.lines().find(|line| line.starts_with("whose")).unwrap().to_owned();
    assert!(line.contains("dpryce = ") && line.contains("\"gus.h\" = "), "{line}");
    assert_eq!(after.replace(&format!("{line}\n"), ""), before, "everything else stays");
    assert!(
        SETTINGS.contains("# the application's accounts") && after.contains("# the application's accounts")
    );
    assert!(typed(&museum, "").contains("No clash: there is nothing to settle."));
    let preview = museum.run(&["preview"]);
    assert!(preview.out.contains("7 import, 4 adopt") && !preview.out.contains("Clash ("), "{}", preview.out);
}

/// After a migration everybody's entry is another one: one answer for all.
#[test]
fn many_who_were_made_anew_are_one_question() {
    let museum = Museum::changed(&[], |directory| {
        let anew = |record: &str| match ["aibbotson", "ctarn"]
            .iter()
            .any(|login| record.contains(&format!("sAMAccountName: {login}\n")))
        {
            true => record.replace("objectGUID:: ", "objectGUID:: AAAA"),
            false => record.to_owned(),
        };
        let guid = |record: String| match record.find("objectGUID:: AAAA") {
            // The same number of bytes.
            Some(at) => {
                let end = record[at..].find('\n').map_or(record.len(), |end| at + end);
                let value = &record[at + 13..end];
                let kept: String = value.chars().take(4).chain(value.chars().skip(8)).collect();
                format!("{}objectGUID:: {kept}{}", &record[..at], &record[end..])
            }
            None => record,
        };
        directory.split("\n\n").map(|record| guid(anew(record))).collect::<Vec<_>>().join("\n\n")
    });
    let told = typed(&museum, "all\n\nyes\n");
    for words in [
        "3 people with a new entry in place of one that is gone",
        "aibbotson, ctarn, dpryce",
        "1 clash is left",
    ] {
        assert!(told.contains(words), "{words}: {told}");
    }
    let after = settings(&museum);
    assert!(
        ["aibbotson", "ctarn", "dpryce"].iter().all(|login| after.contains(&format!("{login} = "))),
        "{after}"
    );
    assert!(museum.run(&["preview"]).out.contains("5 adopt"), "three are linked again, and two as before");
}

#[test]
fn a_line_that_cannot_apply_is_told() {
    let museum = Museum::open(&[]);
    museum.change(
        "seats     = 75",
        "seats     = 75\nwhose = { kiosk = \"5fad6505-1296-539b-b8e3-4ec69cea5357\" }",
    );
    let why = "its person has the account aibbotson already";
    for command in ["preview", "check"] {
        let run = museum.run(&[command, "--format", "json"]);
        assert!(run.out.contains(why), "{command}: {}", run.out);
    }
}
