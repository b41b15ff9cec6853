//! `sign-in`: each step and the outcome, the exit codes, and the record.

use crate::command::{Museum, run, webtaxon};
use serde_json::Value;
use std::io::Write as _;
use std::process::Stdio;

/// Types a password at the command's standard input.
fn typed(museum: &Museum, arguments: &[&str], password: &str) -> (i32, String, String) {
    let mut command = webtaxon(arguments);
    command.current_dir(museum.file(".")).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    child.stdin.take().unwrap().write_all(format!("{password}\n").as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    let text = |bytes| String::from_utf8(bytes).unwrap();
    (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
}

#[test]
fn each_step_is_told_with_its_remedy() {
    let museum = Museum::open(&[]);
    for (name, password, code, told) in [
        (
            "aibbotson",
            "heron-aibbotson",
            0,
            &[
                "found by login",
                "the password is right",
                "In: as aibbotson, with the roles borrower and approver.",
            ][..],
        ),
        ("ecarrick", "heron-ecarrick", 0, &["Drawn anew", "department: Exhibitions → Palaeontology"]),
        (
            "aibbotson",
            "wrong",
            5,
            &["the password is wrong", "Their page says: The name or the password is wrong."],
        ),
        ("dhawksworth", "heron-dhawksworth", 5, &["the account is locked", "find out who tries"]),
        ("hemberson", "heron-hemberson", 5, &["must be changed first"]),
        (
            "gfennimore",
            "heron-gfennimore",
            5,
            &["not_in_group", "in Leavers", "Next: webtaxon why gfennimore"],
        ),
        ("bthornbury", "heron-bthornbury", 5, &["have no account yet", "new = \"import\""]),
        ("nobody", "heron-nobody", 5, &["nobody is called so", "Next: webtaxon browse --find nobody"]),
    ] {
        let (exit, out, err) = typed(&museum, &["sign-in", name, "--password-file", "-"], password);
        assert_eq!(exit, code, "{name}: {out}{err}");
        for words in told {
            assert!(out.contains(words), "{name}: {words}: {out}");
        }
        assert!(!out.contains(password) && !err.contains(password) || password == "wrong", "{out}{err}");
    }
    let run = museum.run(&["sign-in", "--audit", "--since", "1h", "--of", "aibbotson"]);
    assert_eq!((run.code, run.out.matches("aibbotson").count() >= 2), (0, true), "{}", run.out);
    assert!(run.out.contains("By reason") && run.out.contains("wrong_password"), "{}", run.out);
    assert!(!run.out.contains("gfennimore"), "{}", run.out);
    let json: Value =
        serde_json::from_str(&museum.run(&["sign-in", "--audit", "--format", "json"]).out).unwrap();
    assert_eq!((json["tries"].as_array().unwrap().len(), &json["counts"]["in"]), (8, &Value::from(2)));
    assert!(!json.to_string().contains("heron-"));
}

#[test]
fn without_a_password_everything_else_is_told_and_nothing_is_recorded() {
    let museum = Museum::open(&[]);
    let run = museum.run(&["sign-in", "aibbotson", "--without-password"]);
    assert_eq!(run.code, 0, "{}", run.out);
    assert!(
        run.out.contains("skipped   password")
            && run.out.contains("In, with the right password: as aibbotson"),
        "{}",
        run.out
    );
    assert!(museum.run(&["sign-in", "--audit"]).out.contains("No such try is recorded"));
}

#[test]
fn what_cannot_be_asked_is_no_refusal() {
    let museum = Museum::open(&[]);
    for (arguments, code, words) in [
        (&["sign-in", "aibbotson", "--from", "monday.ldif"][..], 2, "a snapshot cannot judge a password"),
        (&["sign-in"], 2, "NAME"),
        (&["sign-in", "aibbotson", "--password-file", "missing.txt"], 1, "the password cannot be read"),
        (&["sign-in", "aibbotson", "--password-file", "-"], 1, "the password is empty"),
        (&["sign-in", "--audit", "--since", "soon"], 2, "write a day like"),
    ] {
        let run = museum.run(arguments);
        assert_eq!(run.code, code, "{arguments:?}: {}", run.err);
        assert!(run.err.contains(words), "{arguments:?}: {}", run.err);
    }
    museum.end();
    let (code, _, err) = typed(&museum, &["sign-in", "aibbotson", "--password-file", "-"], "heron-aibbotson");
    assert_eq!(code, 1, "{err}");
    let help = run(&mut webtaxon(&["sign-in", "--help"]));
    assert!(help.out.contains("--without-password") && help.out.contains("--audit"), "{}", help.out);
}
