//! `members`: who is in the museum's group, through what, and what is wrong with its nest.

use crate::command::Museum;
use serde_json::Value;

const USERS: &str = "CN=Loans Desk Users,OU=Groups,DC=quillmere,DC=example";

#[test]
fn who_is_in_and_through_which_groups() {
    let museum = Museum::open(&[]);
    for group in [USERS, "loans desk users", "CN=Loans Desk Users; OU=Groups; DC=quillmere; DC=example"] {
        let run = museum.run(&["members", group]);
        assert_eq!(run.code, 0, "{}{}", run.out, run.err);
        for words in [
            "81 people are members: 3 directly, 78 through 16 nested groups.",
            "Loans Desk Users > Loans Desk Staff > Curators > Botany Curators (9)",
            "Beatrice Thornbury*",
            "1 cycle of groups, 1 empty group, 1 deleted member, 1 member from outside",
        ] {
            assert!(run.out.contains(words), "{group}: {words}: {}", run.out);
        }
        assert_eq!(run.err.contains("semicolons"), group.contains(';'), "{}", run.err);
    }
}

#[test]
fn the_tree_and_what_is_broken_in_it() {
    let museum = Museum::open(&[]);
    let tree = museum.run(&["members", USERS, "--tree"]);
    for line in [
        "3        81  Loans Desk Users",
        "1        23      Curators",
        "3        10          Field Teams: a cycle",
        "0         0    Student Lenders: it has no members",
    ] {
        assert!(tree.out.contains(line), "{line}: {}", tree.out);
    }
    let broken = museum.run(&["members", USERS, "--broken"]);
    for words in [
        "Field Teams, Field Teams Coast, Field Teams North",
        "CN=Student Lenders,OU=Groups",
        "CN=Hugo Vanish,OU=Registry",
        "CN=Ottilie Brandreth,OU=Partners",
        "CN=Beatrice Thornbury,OU=Registry,OU=People,DC=quillmere,DC=example\n      in Loans Desk Terminal Users",
    ] {
        assert!(broken.out.contains(words), "{words}: {}", broken.out);
    }
    let sound = museum.run(&["members", "Conservators", "--broken"]);
    assert!(sound.out.contains("Nothing is broken."), "{}", sound.out);
}

#[test]
fn all_groups_of_a_person() {
    let museum = Museum::open(&[]);
    let run = museum.run(&["members", "--of", "bthornbury"]);
    assert_eq!((run.code, run.err.as_str()), (0, ""));
    for words in [
        "In 4 groups: 2 directly, 2 through nested groups.",
        "Loans Desk Terminal Users, by primary group or login: in no member list",
        "Loans Desk Users, through Loans Desk Terminal Users",
    ] {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
    let outside = museum.run(&["members", "--of", "Ottilie Brandreth"]);
    assert!(
        outside.out.contains("Loans Desk Users") && outside.err.contains("not among the intake's people"),
        "{}",
        outside.err
    );
    for (person, words) in [("Tom Ashdown", "in the names of 2 people"), ("Zorro", "nobody has \"Zorro\"")] {
        let run = museum.run(&["members", "--of", person]);
        assert!(run.code == 1 && run.err.contains(words), "{person}: {}", run.err);
    }
    assert_eq!(museum.run(&["members"]).code, 2);
    let json: Value =
        serde_json::from_str(&museum.run(&["members", "--of", "bthornbury", "--format", "json"]).out)
            .unwrap();
    assert_eq!((&json["format"], json["groups"].as_array().unwrap().len()), (&"webtaxon.groups/1".into(), 4));
}

#[test]
fn every_way_by_which_a_person_is_in_a_group() {
    let museum = Museum::open(&[]);
    for (group, person, words) in [
        (
            USERS,
            "bthornbury",
            "by 1 way:\n\n  through Loans Desk Terminal Users, by primary group or login: in no member list",
        ),
        ("Loans Desk Users", "aibbotson", "through Loans Desk Staff > Curators > Botany Curators\n"),
        ("Conservators", "bthornbury", "Not in Conservators, neither directly nor through nested groups.\n"),
    ] {
        let run = museum.run(&["members", group, "--of", person]);
        assert!(run.code == 0 && run.out.contains(words), "{person}: {}{}", run.out, run.err);
    }
    let json: Value =
        serde_json::from_str(&museum.run(&["members", USERS, "--of", "bthornbury", "--format", "json"]).out)
            .unwrap();
    let told = (&json["format"], &json["all"], &json["ways"][0]["unlisted"]);
    assert_eq!(told, (&"webtaxon.ways/1".into(), &true.into(), &true.into()));
}

#[test]
fn a_table_and_pictures_go_to_standard_output() {
    let museum = Museum::open(&[]);
    for (kind, begin, part) in [
        ("csv", "name,dn,how,listed,groups,path\n", "Beatrice Thornbury,\"CN=Beatrice Thornbury,"),
        ("svg", "<svg xmlns=\"http://www.w3.org/2000/svg\"", ">4 direct, 10 in all, in a cycle</text>"),
        ("dot", "digraph nest {", "tooltip=\"CN=Student Lenders,OU=Groups,DC=quillmere,DC=example\""),
    ] {
        let run = museum.run(&["members", USERS, "--as", kind]);
        assert_eq!((run.code, run.err.as_str()), (0, ""), "{kind}");
        assert!(run.out.starts_with(begin) && run.out.contains(part), "{kind}: {}", run.out);
    }
    let both = museum.run(&["members", USERS, "--as", "csv", "--tree"]);
    assert_eq!(both.code, 2, "{}", both.err);
    let cut = Museum::open(&["--fault", "cut@262"]);
    let run = cut.run(&["members", USERS, "--as", "csv"]);
    assert!(run.code == 4 && run.err.contains("not read to its end"), "{}", run.err);
}

#[test]
fn a_group_is_never_guessed() {
    let museum = Museum::open(&[]);
    for (group, words) in [
        ("Loans", "is in the names of 3 groups; give one of them in full"),
        ("Lones Desk Users", "did you mean Loans Desk Users?"),
        ("Zebras", "no group has \"Zebras\" in the name"),
        (r"CN=Ibbotson\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example", "it is not a group"),
        ("CN=Nobody,OU=Groups,DC=quillmere,DC=example", "does not exist"),
        (
            "CN=Curators,DC=quillmere,DC=example",
            "did you mean CN=Curators,OU=Groups,DC=quillmere,DC=example?",
        ),
        (
            "CN=Curatros,OU=Groups,DC=quillmere,DC=example",
            "did you mean CN=Curators,OU=Groups,DC=quillmere,DC=example?",
        ),
    ] {
        let run = museum.run(&["members", group]);
        assert_eq!((run.code, run.out.as_str()), (1, ""), "{group}");
        assert!(run.err.contains(words), "{group}: {}", run.err);
    }
}

#[test]
fn a_nest_that_is_cut_says_so() {
    let museum = Museum::open(&["--fault", "cut@262"]);
    let run = museum.run(&["members", USERS]);
    assert_eq!(run.code, 4, "{}{}", run.out, run.err);
    assert!(run.out.contains("Not read to its end: there may be more"), "{}", run.out);
}

#[test]
fn json_keeps_its_keys() {
    let museum = Museum::open(&[]);
    let run = museum.run(&["members", USERS, "--format", "json"]);
    let document: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!(
        (&document["format"], &document["group"], &document["whole"]),
        (&"webtaxon.members/1".into(), &USERS.into(), &true.into())
    );
    let members = document["members"].as_array().unwrap();
    assert_eq!(members.len(), 81);
    let deep =
        members.iter().find(|member| member["dn"].as_str().unwrap().starts_with("CN=Ibbotson")).unwrap();
    assert_eq!(deep["path"].as_array().unwrap().len(), 4);
    assert_eq!(document["broken"]["cycles"].as_array().unwrap().len(), 1);
}

/// Of a snapshot in which one list was another, and somebody had another name.
#[test]
fn who_came_and_who_went_since_a_snapshot() {
    let museum = Museum::open(&[]);
    let taken = museum.run(&["snapshot", "monday.ldif"]);
    assert_eq!(taken.code, 0, "{}", taken.err);
    let same = museum.run(&["members", "Curators", "--since", "monday.ldif"]);
    assert!(
        same.code == 0 && same.out.contains("0 joined, 0 left. 23 people are members now."),
        "{}",
        same.out
    );
    assert!(same.out.contains("No differences."), "{}", same.out);
    let text = std::fs::read_to_string(museum.file("monday.ldif")).unwrap();
    let at = text.find("dn: CN=Botany Curators,OU=Groups").unwrap();
    let (before, list) = text.split_at(at);
    let astrid = "member: CN=Astrid Inglewood,OU=Botany,OU=People,DC=quillmere,DC=example\n";
    let beatrice = "member: CN=Beatrice Thornbury,OU=Registry,OU=People,DC=quillmere,DC=example\n";
    let earlier = format!("{before}{}", list.replacen(astrid, beatrice, 1));
    assert_ne!(earlier, text);
    let earlier = earlier.replace("CN=Isaac Heatherly,OU=Botany", "CN=Isaac Hedderly,OU=Botany");
    museum.write("tuesday.ldif", &earlier);
    let run = museum.run(&["members", "Curators", "--since", "tuesday.ldif"]);
    for words in [
        "1 joined, 1 left",
        "Astrid Inglewood              through Curators > Botany Curators",
        "Beatrice Thornbury            was a member through Curators > Botany Curators",
        "Botany Curators               joined: Astrid Inglewood",
    ] {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
    assert!(run.code == 0 && !run.out.contains("Isaac"), "renamed, and the same: {}", run.out);
    let json = museum.run(&["members", "Curators", "--since", "tuesday.ldif", "--format", "json"]);
    let document: Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!((&document["format"], &document["whole"]), (&"webtaxon.since/1".into(), &true.into()));
    assert_eq!(document["went"][0]["name"], "Beatrice Thornbury");
    // A file that lacks its end, and one that never had the group.
    museum.write("cut.ldif", earlier.trim_end().trim_end_matches("# end of the snapshot"));
    let cut = museum.run(&["members", "Curators", "--since", "cut.ldif"]);
    assert!(
        cut.code == 4 && cut.out.contains("The snapshot was not read to its end"),
        "{}{}",
        cut.out,
        cut.err
    );
    let other = museum.run(&["members", "Choir", "--since", "monday.ldif"]);
    assert!(other.code == 1 && other.err.contains("does not contain this group"), "{}", other.err);
    museum.run(&["snapshot", "masked.ldif", "--mask"]);
    let masked = museum.run(&["members", "Curators", "--since", "masked.ldif"]);
    assert!(masked.code != 0 && masked.err.contains("it is masked"), "{}", masked.err);
}

/// By an intake that reads other people, everybody in a group is from outside; that is said in words.
#[test]
fn a_group_of_people_whom_the_intake_does_not_read_says_whom_it_does() {
    let museum = Museum::open(&[]);
    let people = "bases        = [\"OU=People,DC=quillmere,DC=example\"]";
    museum.change(people, &people.replace("OU=People", "OU=Partners"));
    let run = museum.run(&["members", "Conservators"]);
    for words in [
        "0 people are members",
        "not among the people of the intake staff, which reads those under OU=Partners,DC=quillmere,DC=example by (&(objectCategory=person)",
        "To do: use another intake (--intake NAME)",
    ] {
        assert!(run.out.contains(words), "{words}: {}", run.out);
    }
    let broken = museum.run(&["members", "Conservators", "--broken"]);
    assert!(broken.out.contains("not among the people of the intake staff\n"), "{}", broken.out);
}
