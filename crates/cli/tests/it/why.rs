//! `why`: the story of one person, in or out, and of an account without one.

use crate::command::Museum;
use serde_json::Value;

#[test]
fn the_story_answers_for_people_in_and_out_and_for_accounts() {
    let museum = Museum::open(&[]);
    for (who, told) in [
        (
            "bthornbury",
            &["An account bthornbury would be created.", "Loans Desk Users > Loans Desk Terminal Users"][..],
        ),
        ("rpemberton@quillmere.example", &["rfairweather would get new values", "no        approver"]),
        (
            "Ottilie Brandreth",
            &["they are not selected at the step base", "under none of the bases: OU=People"],
        ),
        (
            "gfennimore",
            &[
                "would be suspended (outside: in Leavers)",
                "no        not_in_group   in Leavers",
                "members --of 'CN=Greta",
            ],
        ),
        ("shargreave", &["userAccountControl is 514 (disabled, normal account)"]),
        (
            "wgrebe",
            &["Held back: incomplete", "email has no value (from mail)", "in the application: wgrebe@"],
        ),
        ("hvanish", &["would be removed (gone: the entry no longer exists)"]),
        (
            "kpeverell",
            &["would get new values: out (outside)", "email: specimens@", "OU=Leavers,DC=quillmere"],
        ),
        ("dpryce", &["until you settle a clash: the login and email of dpryce"]),
        ("gus.h", &["it was made by hand", "A clash: ghollow"]),
        ("admin", &["it is protected"]),
        ("Curators", &[]),
        ("CN=Room 12,OU=Nowhere,DC=quillmere,DC=example", &[]),
    ] {
        let run = museum.run(&["why", who]);
        assert_eq!(run.code, if told.is_empty() { 1 } else { 0 }, "{who}: {}{}", run.out, run.err);
        for words in told {
            assert!(run.out.contains(words), "{who}: {words}: {}", run.out);
        }
    }
}

#[test]
fn several_are_listed_and_nobody_is_guessed() {
    let museum = Museum::open(&[]);
    let several = museum.run(&["why", "Isaac"]);
    assert_eq!((several.code, several.out.as_str()), (1, ""));
    assert!(
        several.err.contains("any of 4") && several.err.contains("CN=Isaac Underhill"),
        "{}",
        several.err
    );
    let nobody = museum.run(&["why", "nobody at all"]);
    assert_eq!(nobody.code, 1);
    assert!(nobody.err.contains("browse") && nobody.err.contains("--find"), "{}", nobody.err);
}

#[test]
fn programs_get_the_same_as_json() {
    let museum = Museum::open(&[]);
    let run = museum.run(&["why", "gfennimore", "--format", "json"]);
    let story: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!((&story["format"], &story["selected"]), (&"webtaxon.why/1".into(), &false.into()));
    let out: Vec<&Value> =
        story["steps"].as_array().unwrap().iter().filter(|step| step["verdict"] == "no").collect();
    assert_eq!(out[0]["path"][0], "CN=Leavers,OU=Groups,DC=quillmere,DC=example");
    assert_eq!((&story["change"]["kind"], out.len()), (&"suspend".into(), 1));
}
