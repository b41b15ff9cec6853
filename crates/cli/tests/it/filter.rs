//! `filter`: the four questions of an administrator, on the museum's data.

use crate::command::{Museum, run, webtaxon};
use serde_json::Value;
use std::io::Write as _;
use std::process::Stdio;

const LDIF: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/directory.ldif");

fn filter(arguments: &[&str]) -> crate::command::Run {
    let mut all = vec!["filter"];
    all.extend(arguments);
    run(&mut webtaxon(&all))
}

#[test]
fn what_it_means_and_what_will_surprise() {
    let run = filter(&["(&(objectClass=user)(department=Botany))"]);
    assert_eq!((run.code, run.err.as_str()), (0, ""));
    for words in
        ["all of these:", "department is Botany", "WX0211", "(objectCategory=person))", "Next: add --intake"]
    {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
    let quiet = filter(&["(&(mail=*)(department=botany))"]);
    assert!(quiet.out.contains("No advice: it does what it says."), "{}", quiet.out);
}

#[test]
fn whom_it_selects_and_which_clause_loses_everybody() {
    let run = filter(&[
        "(&(objectCategory=person)(objectClass=user)(department=Registry)(mail=*@nowhere))",
        "--ldif",
        LDIF,
    ]);
    assert!(run.out.contains("selects 0 of 343"), "{}", run.out);
    let line = run.out.lines().find(|line| line.contains("mail ends with")).unwrap();
    let figures: Vec<&str> = line.split_whitespace().take(2).collect();
    assert_eq!((figures[0] != "0", figures[1]), (true, "0"), "{line}");
}

#[test]
fn why_beatrice_is_not_in() {
    for entry in [
        "bthornbury",
        "Beatrice Thornbury",
        "cn=beatrice thornbury,ou=registry,ou=people,dc=quillmere,dc=example",
    ] {
        let run =
            filter(&["(&(objectClass=user)(department=Botany)(mail=*))", "--ldif", LDIF, "--entry", entry]);
        assert!(
            run.out.contains("Thornbury,OU=Registry,OU=People,DC=quillmere,DC=example is not selected"),
            "{}",
            run.out
        );
        let deciding: Vec<&str> =
            run.out.lines().filter(|line| line.trim_start().starts_with("* false")).collect();
        assert!(
            deciding.len() == 1
                && deciding[0].contains("department is Botany")
                && deciding[0].contains("Registry"),
            "{}",
            run.out
        );
    }
    let nobody = filter(&["(cn=*)", "--ldif", LDIF, "--entry", "Tom Ashdown"]);
    assert!(
        nobody.code == 1 && nobody.err.contains("no single entry"),
        "two people have that name: {}",
        nobody.err
    );
}

#[test]
fn what_is_wrong_with_what_was_pasted() {
    let repaired = filter(&["“& (cn=a) (mail=*)”"]);
    assert!(repaired.code == 0 && repaired.out.starts_with("(&(cn=a)(mail=*))"), "{}", repaired.out);
    assert_eq!(repaired.out.matches("repaired:").count(), 3, "{}", repaired.out);
    for (text, help) in [
        ("(cn=a)(cn=b)", "joined by an operator"),
        ("(cn=a", "add a )"),
        ("(cn=a*b\\)", "two hexadecimal digits"),
    ] {
        let run = filter(&[text]);
        assert!(run.code == 2 && run.err.contains(help), "{text}: {}", run.err);
    }
}

#[test]
fn a_filter_comes_from_the_shell_a_file_standard_input_or_the_settings() {
    let museum = Museum::open(&[]);
    museum.write("filter.txt", "(department=Botany)\n");
    let from_file = museum.run(&["filter", "--read", "filter.txt"]);
    assert!(from_file.out.starts_with("(department=Botany)"), "{}{}", from_file.out, from_file.err);
    let mut child = webtaxon(&["filter", "-"]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"(department=Botany)").unwrap();
    let out = String::from_utf8(child.wait_with_output().unwrap().stdout).unwrap();
    assert!(out.starts_with("(department=Botany)"), "{out}");
    let own = museum.run(&["filter", "--entry", "bthornbury"]);
    assert!(own.code == 0 && own.out.contains("is selected"), "{}{}", own.out, own.err);
    let tried = museum.run(&["filter", "(department=Registry)", "--intake"]);
    assert!(tried.out.contains("everything under the intake's bases"), "{}{}", tried.out, tried.err);
}

#[test]
fn a_record_that_cannot_be_read_does_not_lose_the_rest() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("people.ldif");
    let tried = |text: &str| {
        std::fs::write(&file, text).unwrap();
        filter(&["(cn=Ada)", "--ldif", file.to_str().unwrap(), "--entry", "cn = Ada; o = x"])
    };
    let run =
        tried("dn: cn=Ada,o=x\ncn: Ada\n\ndn: cn=Gus,o=x\ncn Gus\n\ndn: cn=Rosa,o=x\ncn: Rosa\n\ncn: lost\n");
    assert!(run.code == 0 && run.out.contains("selects 1 of 2"), "{}{}", run.out, run.err);
    assert!(
        run.err.contains("line 5: a line has") && run.err.contains("left out, and 1 more"),
        "{}",
        run.err
    );
    assert!(run.out.contains("cn=Ada,o=x is selected"), "a name in an older form: {}", run.out);
    let nothing = tried("cn: Ada\n");
    assert!(nothing.code == 2 && nothing.err.contains("line 1: a record begins with dn:"), "{}", nothing.err);
}

#[test]
fn the_chain_rule_follows_nested_groups_in_a_file() {
    let nested = "(memberOf:1.2.840.113556.1.4.1941:=CN=Loans Desk Users,OU=Groups,DC=quillmere,DC=example)";
    let museum = Museum::open(&[]);
    let snapshot = museum.run(&["snapshot", "all.ldif"]);
    assert_eq!(snapshot.code, 0, "{}", snapshot.err);
    let run = museum.run(&["filter", &format!("(&(objectCategory=person){nested})"), "--ldif", "all.ldif"]);
    let direct =
        museum.run(&["filter", &nested.replace(":1.2.840.113556.1.4.1941:", ""), "--ldif", "all.ldif"]);
    let counted = |run: &crate::command::Run| -> usize {
        let text = run.out.split("selects ").nth(1).unwrap_or_else(|| panic!("{}{}", run.out, run.err));
        text.split(' ').next().unwrap().parse().unwrap()
    };
    assert!(counted(&run) > 60 && counted(&direct) < 10, "{}{}", run.out, direct.out);
}

#[test]
fn json_keeps_its_keys() {
    let run =
        filter(&["(&(department=Botany)(cn=*))", "--ldif", LDIF, "--entry", "aibbotson", "--format", "json"]);
    let document: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!(
        (&document["format"], &document["canonical"]),
        (&"webtaxon.filter/1".into(), &"(&(department=Botany)(cn=*))".into())
    );
    assert_eq!(document["entries"].as_array().unwrap().len() as u64, document["matched"].as_u64().unwrap());
    assert_eq!((&document["of"], &document["advice"][0]["code"]), (&343.into(), &"WX0234".into()));
    assert_eq!(document["entry"]["clauses"][0]["truth"], "true");
}
