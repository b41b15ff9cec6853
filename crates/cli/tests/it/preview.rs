//! `preview` as a part, a page and a table.

use crate::command::Museum;

#[test]
fn a_part_of_the_preview_keeps_the_figures_of_the_whole() {
    let museum = Museum::open(&[]);
    for (options, has, has_not) in [
        (
            &["--only", "suspend,remove"][..],
            &["Suspend (7)", "Remove (3)", "Shown: 10 of 35"][..],
            "Import (7)",
        ),
        (&["--find", "curators"], &["Restore (2)", "ppinchbeck"], "hvanish "),
        (&["--only", "held"], &["Held back (2)", "wgrebe", "Shown: 2 of 35"], "Suspend (7)"),
        (&["--limit", "2"], &["Import (7)", "and 5 more"], "mhayashi "),
        (&["--sort", "place", "--only", "import"], &["fcotterill          Felix Cotterill"], "Shown: 7 of 7"),
    ] {
        let run = museum.run(&[&["preview"], options].concat());
        assert_eq!(run.code, 0, "{options:?}: {}", run.err);
        for words in has.iter().chain(&["7 import, 2 adopt, 10 update", "seats               77 accounts"]) {
            assert!(run.out.contains(words), "{options:?}: {words}: {}", run.out);
        }
        assert!(!run.out.contains(has_not), "{options:?}: {has_not}: {}", run.out);
    }
}

#[test]
fn a_page_and_a_table_are_written_over_nothing_but_their_like() {
    let museum = Museum::open(&[]);
    let file = museum.file("preview.out");
    let out = file.to_str().unwrap();
    for (kind, begins, has) in [
        ("html", "<!DOCTYPE html>", "Loans Desk Terminal Users"),
        ("csv", "kind,login,person", "suspend,gfennimore"),
    ] {
        for _ in 0..2 {
            let run = museum.run(&["preview", "--as", kind, "--out", out]);
            assert_eq!((run.code, run.err.as_str()), (0, ""), "{kind}");
            assert!(run.out.contains("33 changes, 2 held back"), "{}", run.out);
        }
        let text = std::fs::read_to_string(&file).unwrap();
        assert!(text.starts_with(begins) && text.contains(has), "{kind}");
        assert_eq!(museum.run(&["preview", "--as", kind]).out.lines().count(), text.lines().count());
    }
    for name in ["accounts.csv", "webtaxon.toml"] {
        let theirs = museum.file(name);
        let before = std::fs::read(&theirs).unwrap();
        let run = museum.run(&["preview", "--as", "csv", "--out", theirs.to_str().unwrap()]);
        assert_eq!((run.code, std::fs::read(&theirs).unwrap()), (1, before), "{name}");
        assert!(run.err.contains("did not write"), "{}", run.err);
    }
    assert_eq!(museum.run(&["preview", "--as", "csv", "--format", "json"]).code, 2, "one or the other");
}

#[test]
fn a_proposal_is_compared_before_it_is_used() {
    let museum = Museum::open(&[]);
    let proposed =
        include_str!("../../../../demo/proposed.toml").replace("ldaps://localhost:6360", &museum.url());
    museum.write("proposed.toml", proposed);
    let run = museum.run(&["compare", "proposed.toml"]);
    assert_eq!((run.code, run.err.as_str()), (0, ""));
    for words in [
        "73              65   people selected",
        "Selected only by proposed.toml (1), and why webtaxon.toml leaves them out\n  obrandreth          Ottilie Brandreth         under none of the bases",
        "not matched by the filter: department is Contractors",
        "roles: borrower → borrower;approver",
        "nothing → suspend             8   frainsford",
        "removals by proposed.toml: 18 accounts would be removed or suspended, 15 are allowed",
    ] {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
    let same = museum.run(&["compare", "webtaxon.toml"]);
    assert!(same.out.contains("Nothing would differ."), "{}", same.out);
    let json = museum.run(&["compare", "proposed.toml", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!(
        (&document["format"], &document["then"]["people"]),
        (&"webtaxon.compare/1".into(), &65.into())
    );
    museum.write("broken.toml", "[intake");
    assert_eq!(museum.run(&["compare", "broken.toml"]).code, 2);
}
