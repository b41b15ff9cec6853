//! Bad input: one clear message, the right exit code, nothing changed.

use crate::command::{Museum, run, webtaxon};
use std::process::{Command, Stdio};

#[test]
fn settings_that_are_wrong_end_with_2_and_show_the_place() {
    let museum = Museum::open(&[]);
    let original = std::fs::read_to_string(museum.file("webtaxon.toml")).unwrap();
    for (from, to, place, words) in [
        ("page     = 100", "pages    = 100", "webtaxon.toml:8:1", "did you mean `page`?"),
        ("page     = 100", "page     = 100\npage = 7", "webtaxon.toml:9:1", "duplicate key"),
        ("(objectClass=user))", "(objectClass=user)", "webtaxon.toml:21:17", "closing parenthesis"),
        ("OU=People,DC=quillmere", "OU=People;DC=quillmere", "webtaxon.toml:20:27", "must be escaped"),
        ("seats     = 75", "seats     = \"many\"", "webtaxon.toml:15:13", "must be a whole number"),
    ] {
        museum.write("webtaxon.toml", original.replacen(from, to, 1));
        for command in ["check", "preview"] {
            let run = museum.run(&[command]);
            assert_eq!((run.code, run.out.as_str()), (2, ""), "{to}");
            assert!(run.err.contains(place) && run.err.contains(words), "{to}: {}", run.err);
        }
    }
}

#[test]
fn a_missing_settings_file_and_wrong_usage_end_with_2() {
    let folder = tempfile::tempdir().unwrap();
    let missing = run(webtaxon(&["preview"]).current_dir(folder.path()));
    assert_eq!(missing.code, 2);
    assert!(
        missing.err.contains("webtaxon.toml cannot be read") && missing.err.contains("demo --keep"),
        "{}",
        missing.err
    );
    for arguments in [&["preveiw"][..], &["preview", "--formt", "json"], &[]] {
        assert_eq!(run(&mut webtaxon(arguments)).code, 2, "{arguments:?}");
    }
}

#[test]
fn what_cannot_be_done_ends_with_1_and_says_what_to_do() {
    let museum = Museum::open(&[]);
    museum.write("museum-password.txt", "geheim-42\n");
    for command in ["check", "preview"] {
        let run = museum.run(&[command]);
        let all = format!("{}{}", run.out, run.err).split_whitespace().collect::<Vec<_>>().join(" ");
        assert_eq!(run.code, 1, "{all}");
        assert!(all.contains("invalidCredentials (49)") && all.contains("password"), "{all}");
        assert!(!all.contains("geheim"), "{all}");
    }
    museum.write("museum-password.txt", "botanical-garden-42\n");
    museum.write("accounts.csv", "login,link,state\n");
    let run = museum.run(&["preview"]);
    assert_eq!((run.code, run.out.as_str()), (1, ""));
    assert!(run.err.contains("no column `name`") && run.err.contains("WX0502"), "{}", run.err);
}

#[test]
fn a_reading_that_is_cut_ends_with_4_and_takes_nobody_away() {
    let museum = Museum::open(&["--fault", "cut@100"]);
    let run = museum.run(&["preview"]);
    assert_eq!(run.code, 4, "{}", run.err);
    let text = run.out.split_whitespace().collect::<Vec<_>>().join(" ");
    for words in
        ["Not read to its end", "no account is removed or suspended", "the connection was lost", "Held back"]
    {
        assert!(text.contains(words), "{words}: {text}");
    }
    assert!(!run.out.contains("Remove (") && !run.out.contains("Suspend ("), "{}", run.out);
    let json: serde_json::Value =
        serde_json::from_str(&museum.run(&["preview", "--format", "json"]).out).unwrap();
    assert_eq!(json["whole"], false);
}

#[test]
fn a_base_that_does_not_exist_is_named_with_the_part_that_does() {
    let museum = Museum::open(&[]);
    museum.change("OU=People,DC=quillmere", "OU=Peeple,DC=quillmere");
    let preview = museum.run(&["preview"]);
    assert_eq!(preview.code, 4);
    let words = preview.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(words.contains("OU=Peeple,DC=quillmere,DC=example does not exist; the part of it that does is DC=quillmere,DC=example"), "{words}");
    assert_eq!(museum.run(&["check"]).code, 1);
}

#[test]
fn values_from_the_directory_cannot_write_to_the_terminal() {
    // An escape sequence that clears the screen, and a right-to-left override, in a department.
    let (value, plain) = ("department:: G1sySuKAruKAqw==\n", "department: Palaeontology\n");
    let museum = Museum::changed(&[], |ldif| ldif.replace(plain, value));
    let run = museum.run(&["preview"]);
    assert!(run.out.contains("\\u{1b}[2J\\u{202e}"), "{}", run.out);
    assert!(!run.out.contains('\u{1b}') && !run.out.contains('\u{202e}'));
}

#[test]
fn a_change_of_the_directory_is_previewed_before_it_is_made() {
    let folder = tempfile::tempdir().unwrap();
    let changes = folder.path().join("tomorrow.ldif");
    let gone = "dn: CN=Ibbotson\\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example\nchangetype: delete\n";
    std::fs::write(&changes, gone).unwrap();
    let museum = Museum::open(&["--changes", changes.to_str().unwrap()]);
    let run = museum.run(&["preview", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&run.out).unwrap();
    let ada = document["changes"].as_array().unwrap().iter().find(|change| change["login"] == "aibbotson");
    assert_eq!(
        ada.map(|change| (&change["kind"], &change["cause"])),
        Some((&"remove".into(), &"gone".into()))
    );
    std::fs::write(&changes, format!("{gone}\n{gone}")).unwrap();
    let ldif = museum.file("directory.ldif");
    let twice = run_twice(ldif.to_str().unwrap(), changes.to_str().unwrap());
    assert!(
        twice.code == 1 && twice.err.contains("line 4: the entry to be changed does not exist"),
        "{}",
        twice.err
    );
}

fn run_twice(ldif: &str, changes: &str) -> crate::command::Run {
    run(&mut webtaxon(&["standin", "--ldif", ldif, "--changes", changes, "--listen", "127.0.0.1:0"]))
}

#[test]
fn a_standin_that_cannot_start_says_why() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("a.ldif");
    std::fs::write(&file, "dn: cn=a\ncn a\n").unwrap();
    let ldif = file.to_str().unwrap();
    let broken = run(&mut webtaxon(&["standin", "--ldif", ldif, "--listen", "127.0.0.1:0"]));
    assert!(broken.code == 1 && broken.err.contains("line 2"), "{}", broken.err);
    let missing = run(&mut webtaxon(&["standin", "--ldif", "/nowhere.ldif"]));
    assert!(missing.code == 1 && missing.err.contains("/nowhere.ldif cannot be read"), "{}", missing.err);
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    std::fs::write(&file, "dn: cn=a\ncn: a\n").unwrap();
    let address = taken.local_addr().unwrap().to_string();
    for (address, words) in [(address.as_str(), "another program"), ("0.0.0.0:0", "this machine only")] {
        let run = run(&mut webtaxon(&["standin", "--ldif", ldif, "--listen", address]));
        assert!(run.code == 1 && run.err.contains("--listen") && run.err.contains(words), "{}", run.err);
    }
}

#[cfg(unix)]
#[test]
fn a_run_that_is_stopped_says_what_was_read_and_changes_nothing() {
    // The directory says nothing any more after 220 messages.
    let museum = Museum::open(&["--fault", "stall@220"]);
    let before = std::fs::read(museum.file("accounts.csv")).unwrap();
    for command in
        [&["preview"][..], &["why", "bthornbury"], &["compare", "webtaxon.toml"], &["snapshot", "half.ldif"]]
    {
        let mut run = webtaxon(command);
        run.current_dir(museum.file("")).stdout(Stdio::piped()).stderr(Stdio::piped());
        let child = run.spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_secs(1));
        assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
        let ended = child.wait_with_output().unwrap();
        let (out, err) = (String::from_utf8(ended.stdout).unwrap(), String::from_utf8(ended.stderr).unwrap());
        assert_eq!((ended.status.code(), out.as_str()), (Some(1), ""), "{command:?}: {err}");
        let words = "Stopped: 200 people and 0 groups had been read at ldaps://localhost";
        assert!(err.contains(words) && err.contains("Nothing was changed."), "{command:?}: {err}");
    }
    assert_eq!(std::fs::read(museum.file("accounts.csv")).unwrap(), before);
    assert!(!museum.file("half.ldif").exists());
}

/// The changes of a preview over this directory, by login.
fn changes(museum: &Museum) -> Vec<(String, String)> {
    let json: serde_json::Value =
        serde_json::from_str(&museum.run(&["preview", "--format", "json"]).out).unwrap();
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    let changes = json["changes"].as_array().unwrap().iter();
    changes.map(|change| (text(&change["login"]), text(&change["kind"]))).collect()
}

#[test]
fn what_a_standin_hides_takes_nobody_away() {
    let leaves = |museum: &Museum| {
        let kinds = ["remove", "suspend"];
        changes(museum).iter().filter(|(_, kind)| kinds.contains(&kind.as_str())).count()
    };
    let usual = leaves(&Museum::open(&[]));
    let botany = "OU=Botany,OU=People,DC=quillmere,DC=example";
    for options in [["--hidden", "objectGUID"], ["--hidden-below", "OU=People,DC=quillmere,DC=example"]] {
        assert_eq!(leaves(&Museum::open(&options)), 0, "{options:?}");
    }
    // Nothing is remembered yet: the brake `first` is what holds them.
    assert!(leaves(&Museum::open(&["--hidden-below", botany])) > usual);
}

#[test]
fn a_rename_in_the_middle_of_a_preview_changes_nothing_but_the_name() {
    let before = changes(&Museum::open(&[]));
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("moved.ldif");
    for (dn, new) in [
        ("CN=Perpetua Pinchbeck,OU=Botany,OU=People,DC=quillmere,DC=example", "CN=Perpetua Pinchbeck-Hale"),
        ("OU=Botany,OU=People,DC=quillmere,DC=example", "OU=Plants"),
    ] {
        let renamed = format!("dn: {dn}\nchangetype: modrdn\nnewrdn: {new}\ndeleteoldrdn: 1\n");
        std::fs::write(&file, renamed).unwrap();
        for searches in [3, 6, 9, 12, 15, 20] {
            let later = format!("{}@{searches}", file.display());
            assert_eq!(
                changes(&Museum::open(&["--later", &later])),
                before,
                "{new} after {searches} searches"
            );
        }
    }
}
