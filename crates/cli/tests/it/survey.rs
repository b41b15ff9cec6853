//! `draft`, `browse`, `fields` and `snapshot`, typed as an administrator would.

use crate::command::{Museum, run, webtaxon};
use serde_json::Value;

const ACCOUNT: &str = "svc-loansdesk@quillmere.example";

/// `draft` at the museum's own directory, in its folder.
fn draft(museum: &Museum, more: &[&str]) -> crate::command::Run {
    let url = museum.url();
    let mut arguments = vec!["draft", &url, "--bind", ACCOUNT, "--authority", "museum-ca.pem"];
    arguments.extend(more);
    museum.run(&arguments)
}

#[test]
fn a_draft_asks_nothing_when_it_is_given_all_and_leads_to_a_preview() {
    let museum = Museum::open(&[]);
    let drafted = draft(
        &museum,
        &["--password-file", "museum-password.txt", "--out", "mine.toml", "--accounts", "list.csv"],
    );
    assert_eq!((drafted.code, drafted.err.as_str()), (0, ""), "{}", drafted.out);
    for words in [
        "244 people under OU=People,DC=quillmere,DC=example",
        "Written: mine.toml",
        "Written: list.csv",
        "Next: read the file",
    ] {
        assert!(drafted.out.contains(words), "{words}: {}", drafted.out);
    }
    let checked = museum.run(&["check", "--settings", "mine.toml"]);
    assert_eq!((checked.code, checked.err.as_str()), (0, ""), "{}", checked.out);
    assert!(checked.out.contains("Everything is in order."), "{}", checked.out);
    let preview = museum.run(&["preview", "--settings", "mine.toml"]);
    assert!(preview.code == 0 && preview.out.contains("Import (241)"), "{}{}", preview.out, preview.err);
    let again = draft(&museum, &["--password-file", "museum-password.txt", "--out", "mine.toml"]);
    assert!(again.code == 1 && again.err.contains("nothing is overwritten"), "{}", again.err);
}

#[test]
fn a_draft_on_standard_output_is_nothing_but_the_settings() {
    let museum = Museum::open(&[]);
    let url = museum.url();
    let mut command = webtaxon(&[
        "draft",
        &url,
        "--bind",
        ACCOUNT,
        "--authority",
        "museum-ca.pem",
        "--password-env",
        "PW",
        "--out",
        "-",
    ]);
    let drafted = run(command.env("PW", "botanical-garden-42").current_dir(museum.file("")));
    assert_eq!((drafted.code, drafted.err.as_str()), (0, ""));
    assert!(
        drafted.out.starts_with("# The people of the directory")
            && drafted.out.contains("password = { env = \"PW\" }")
    );
    assert!(!drafted.out.contains("botanical"), "the password is nowhere");
}

#[test]
fn a_draft_that_cannot_be_made_says_what_is_missing() {
    let museum = Museum::open(&[]);
    let url = museum.url();
    for (arguments, code, message) in [
        (
            &["draft", &url, "--bind", ACCOUNT, "--password-file", "museum-password.txt", "--out", "-"][..],
            1,
            "--fingerprint sha256:",
        ),
        (
            &[
                "draft",
                &url,
                "--bind",
                ACCOUNT,
                "--authority",
                "museum-ca.pem",
                "--password-file",
                "none",
                "--out",
                "-",
            ],
            1,
            "none cannot be read",
        ),
        (&["draft", &url, "--bind", "", "--authority", "museum-ca.pem", "--out", "-"], 1, "shows no people"),
        (&["draft", &url, "--from", "monday.ldif", "--out", "-"], 2, "a snapshot does not say"),
        (&["draft", "https://x", "--bind", "", "--out", "-"], 2, "not a scheme for a directory"),
        (&["draft", &url, "--bind", "", "--fingerprint", "sha1:0", "--out", "-"], 2, "begins with sha256:"),
    ] {
        let run = museum.run(arguments);
        assert_eq!((run.code, run.out.as_str()), (code, ""), "{}", run.err);
        assert!(run.err.contains(message), "{message}: {}", run.err);
    }
}

#[test]
fn browsing_shows_the_tree_an_entry_and_what_is_found() {
    let museum = Museum::open(&[]);
    for (arguments, words) in [
        (
            &["browse"][..],
            &["244", "OU=Botany,OU=People,DC=quillmere,DC=example", "Next: webtaxon browse"][..],
        ),
        (&["browse", "OU=Botany,OU=People,DC=quillmere,DC=example"], &["objectClass", "28"]),
        (
            &["browse", "CN=Ibbotson\\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example"],
            &["512 (normal account)", "(never)", "5fad6505-1296-539b-b8e3-4ec69cea5357"],
        ),
        (
            &["browse", "--find", "ibbotson"],
            &["People (", "aibbotson@quillmere.example", "      CN=Ibbotson\\, Ada,OU=Botany"],
        ),
    ] {
        let run = museum.run(arguments);
        assert_eq!((run.code, run.err.as_str()), (0, ""), "{arguments:?}: {}", run.out);
        for word in words {
            assert!(run.out.contains(word), "{arguments:?}: {word}: {}", run.out);
        }
    }
    for (arguments, code, message) in [
        (&["browse", "Botany"][..], 2, "equals sign"),
        (&["browse", "OU=Fungi,DC=quillmere,DC=example"], 1, "does not exist"),
    ] {
        let run = museum.run(arguments);
        assert!(run.code == code && run.err.contains(message), "{arguments:?}: {} {}", run.code, run.err);
    }
    let nobody = museum.run(&["browse", "--find", "zzzz"]);
    assert!(nobody.code == 1 && nobody.out.contains("No person or group"), "{}", nobody.out);
}

#[test]
fn fields_are_counted_and_masked_on_request() {
    let museum = Museum::open(&[]);
    let run = museum.run(&["fields"]);
    assert_eq!((run.code, run.err.as_str()), (0, ""));
    for words in [
        "Attributes of 244 people",
        "sAMAccountName",
        "Good for",
        "objectGUID (244 of 244 have it, all different)",
    ] {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
    assert!(run.out.contains("@quillmere.example"));
    let masked = museum.run(&["fields", "--mask"]).out;
    assert!(!masked.contains("@quillmere.example") && masked.contains("sAMAccountName"), "{masked}");
}

#[test]
fn answers_in_json_are_one_document_each() {
    let museum = Museum::open(&[]);
    for (arguments, format, path) in [
        (&["browse"][..], "webtaxon.browse/1", "/containers/0/dn"),
        (
            &["browse", "OU=Botany,OU=People,DC=quillmere,DC=example"],
            "webtaxon.browse/1",
            "/entry/attributes/ou/0",
        ),
        (&["browse", "--find", "ibbotson"], "webtaxon.browse/1", "/found/0/dn"),
        (&["fields", "--mask"], "webtaxon.fields/1", "/good_for/login"),
        (&["check"], "webtaxon.check/1", "/steps/0/outcome"),
    ] {
        let mut all = arguments.to_vec();
        all.extend(["--format", "json"]);
        let document: Value = serde_json::from_str(&museum.run(&all).out).unwrap();
        assert_eq!(document["format"], format, "{arguments:?}");
        assert!(document.pointer(path).is_some_and(Value::is_string), "{arguments:?}: {document:#}");
    }
}

#[test]
fn every_command_reads_a_snapshot_in_place_of_the_directory() {
    let museum = Museum::open(&[]);
    let live = museum.run(&["preview"]);
    let taken = museum.run(&["snapshot", "monday.ldif"]);
    assert_eq!((taken.code, taken.err.as_str()), (0, ""), "{}", taken.out);
    assert!(taken.out.contains("Next: webtaxon preview --from monday.ldif"), "{}", taken.out);
    let again = museum.run(&["snapshot", "monday.ldif"]);
    assert!(again.code == 1 && again.err.contains("nothing is overwritten"));
    museum.end();
    assert_eq!(museum.run(&["preview"]).code, 1, "the directory is gone");
    let offline = museum.run(&["preview", "--from", "monday.ldif"]);
    assert_eq!(offline.out.replace(" --from monday.ldif", ""), live.out);
    for (arguments, words) in [
        (&["check"][..], "a snapshot of 265 entries"),
        (&["check"], "Next: webtaxon preview --from monday.ldif"),
        (&["filter", "--intake"], "the entries of the snapshot, matched by (&(objectCategory=person)"),
        (&["browse"], "OU=Botany,OU=People,DC=quillmere,DC=example"),
        (&["browse", "--find", "ibbotson"], "People ("),
        (&["browse", "CN=Curators,OU=Groups,DC=quillmere,DC=example"], "Botany Curators"),
        (&["fields"], "Attributes of 244 people"),
        (&["snapshot", "again.ldif", "--mask"], "invented"),
    ] {
        let mut all = arguments.to_vec();
        all.extend(["--from", "monday.ldif"]);
        let run = museum.run(&all);
        assert_eq!((run.code, run.err.as_str()), (0, ""), "{arguments:?}: {}", run.out);
        assert!(run.out.contains(words), "{arguments:?}: {}", run.out);
    }
    let run = museum.run(&["filter", "(title=*)", "--intake", "--from", "monday.ldif"]);
    assert!(run.code == 0 && run.err.contains("title was not read into the snapshot"), "{}", run.err);
    let masked = std::fs::read_to_string(museum.file("again.ldif")).unwrap();
    assert!(!masked.contains("quillmere.example") && masked.contains("# masked: all values but"));
    for (file, message) in [("none.ldif", "cannot be read"), ("accounts.csv", "line 1")] {
        let run = museum.run(&["preview", "--from", file]);
        assert!(run.code == 2 && run.err.contains(message), "{file}: {} {}", run.code, run.err);
    }
}

#[test]
fn the_other_kind_of_server_is_simulated_on_request() {
    let museum = Museum::open(&["--manner", "plain"]);
    museum.change(
        "svc-loansdesk@quillmere.example",
        "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example",
    );
    let checked = museum.run(&["check"]);
    assert!(checked.out.contains("an LDAP server (Webtaxon simulated directory)"), "{}", checked.out);
    let wrong = run(&mut webtaxon(&["standin", "--ldif", "x", "--manner", "royal"]));
    assert!(wrong.code == 2 && wrong.err.contains("none of plain, dirsrv and controller"), "{}", wrong.err);
}

/// What looks at one intake looks at the first, and says so, or at the one that is named.
#[test]
fn of_several_intakes_the_one_that_is_named_is_looked_at() {
    let museum = Museum::open(&[]);
    let second = "[[intake]]\nname = \"volunteers\"\ndirectory = \"museum\"\n\
        bases = [\"OU=Volunteers,OU=People,DC=quillmere,DC=example\"]\nfilter = \"(objectClass=user)\"\n\n\
        [intake.fields]\nlogin = { from = \"sAMAccountName\" }\n\n[brakes]";
    museum.change("[brakes]", second);
    for (arguments, code, told) in [
        (&["fields"][..], 0, "Attributes of 244 people"),
        (&["fields", "--intake", "volunteers"], 0, "Attributes of 22 people"),
        (&["filter", "--intake"], 0, "selects 244 of 260"),
        (&["filter", "--intake=volunteers"], 0, "selects 22 of 23"),
        (&["members", "Curators", "--intake", "volunteers"], 0, "0 people are members"),
        (&["snapshot", "all.ldif"], 2, "--intake NAME: staff, volunteers"),
        (&["snapshot", "some.ldif", "--intake", "volunteers"], 0, "88 entries in some.ldif"),
        (&["fields", "--intake", "nobody"], 2, "the intakes are staff, volunteers"),
    ] {
        let run = museum.run(arguments);
        let all = format!("{}{}", run.out, run.err);
        assert!(run.code == code && all.contains(told), "{arguments:?}: {} {all}", run.code);
        let is_first = code == 0 && !arguments.last().unwrap().contains("volunteers");
        let says_so =
            all.contains("This looks at the intake staff; --intake NAME looks at another: volunteers");
        assert_eq!(says_so, is_first, "{arguments:?}: {all}");
    }
    // Half of what the settings read removes nobody.
    let half = museum.run(&["preview", "--from", "some.ldif"]);
    assert!(half.code == 4 && !half.out.contains("Remove ("), "{} {}", half.code, half.out);
}
