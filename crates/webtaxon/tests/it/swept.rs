//! Groups and others that are read with one search, in place of a look-up for each name that groups list.

use crate::membership::{ADA, TOP, said};
use crate::museum::{DIRECTORY, Museum};
use std::fmt::Write as _;
use webtaxon_standin::{Fault, FaultKind, Options};

/// The museum with so many groups more, and a group that lists Ada and names that must be looked up.
async fn looked_up(names: usize, groups: usize) -> Museum {
    let mut ldif = format!("{}\n", DIRECTORY.trim_end());
    let mut group = |name: &str| {
        let _ = write!(ldif, "\ndn: CN={name},OU=Groups,{TOP}\nobjectClass: group\ncn: {name}\n");
    };
    (0..groups).for_each(|number| group(&format!("Other {number}")));
    group("Everybody");
    let _ = writeln!(ldif, "member: {ADA}");
    for number in 0..names {
        let _ = writeln!(ldif, "member: CN=gone {number:05},OU=Groups,{TOP}");
    }
    let museum = Museum::with(&ldif, Options::default()).await;
    museum.change("CN=Loans Desk Users", "CN=Everybody");
    museum
}

#[tokio::test]
async fn the_cheaper_way_is_chosen_as_the_nest_shows() {
    for (names, groups, told) in [
        (150, 0, ""),
        (300, 0, "were read with one search, which is faster than 303 look-ups"),
        (300, 1_300, "was abandoned after 1213 of them: 303 look-ups are faster"),
    ] {
        let museum = looked_up(names, groups).await;
        let (expected, _) = said(&museum, "downwards").await;
        let (found, notes) = said(&museum, "auto").await;
        assert_eq!(found, expected, "{names} names, {groups} groups");
        assert!(notes.contains(told) && notes.is_empty() == told.is_empty(), "{names}, {groups}: {notes}");
    }
}

#[tokio::test]
async fn a_search_goes_on_while_what_it_brings_shows_that_more_is_needed() {
    // Fewer look-ups are known at first than a search for so many groups is worth. The desks come before the teams.
    const DESKS: usize = 250;
    const TEAMS: usize = 5;
    let mut ldif = format!("{}\n", DIRECTORY.trim_end());
    let mut group = |name: &str, members: &[String]| {
        let _ = write!(ldif, "\ndn: CN={name},OU=Groups,{TOP}\nobjectClass: group\ncn: {name}\n");
        members.iter().for_each(|member| ldif += &format!("member: {member}\n"));
    };
    let named = |name: String| format!("CN={name},OU=Groups,{TOP}");
    let desks: Vec<String> = (0..DESKS).map(|one| named(format!("Desk {one}"))).collect();
    group("Everybody", &desks);
    for one in 0..DESKS {
        let teams: Vec<String> = (0..TEAMS).map(|two| named(format!("Team {one} {two}"))).collect();
        group(&format!("Desk {one}"), &teams);
        (0..TEAMS).for_each(|two| group(&format!("Team {one} {two}"), &[ADA.to_owned()]));
    }
    let museum = Museum::with(&ldif, Options::default()).await;
    museum.change("CN=Loans Desk Users", "CN=Everybody");
    let (expected, _) = said(&museum, "downwards").await;
    let (found, notes) = said(&museum, "auto").await;
    assert_eq!(found, expected);
    assert!(notes.contains("were read with one search") && !notes.contains("left"), "{notes}");
    assert!(notes.contains(&format!("{} look-ups", DESKS * (TEAMS + 1) + 3)), "{notes}");
}

#[tokio::test]
async fn a_search_for_all_groups_that_ends_early_changes_nothing() {
    let museum = Museum::with(DIRECTORY, Options::default()).await;
    museum.change("[\"OU=Groups,DC=quillmere,DC=example\"]", "[\"OU=Nowhere,DC=quillmere,DC=example\"]");
    let (expected, _) = said(&museum, "downwards").await;
    let (found, notes) = said(&museum, "sweep").await;
    assert_eq!(found, expected);
    assert!(notes.contains("0 groups were read") && notes.contains("which ended early"), "{notes}");
}

#[tokio::test]
async fn a_cut_in_the_search_for_all_groups_takes_nobodys_account_away() {
    // 244 people come first, then the groups.
    for after in [246, 250, 258] {
        let fault = Some(Fault { kind: FaultKind::Cut, after });
        let museum = Museum::with(DIRECTORY, Options { fault, ..Options::default() }).await;
        museum.change("[intake.fields]", "strategy = \"sweep\"\n[intake.fields]");
        let preview = museum.preview().await.unwrap();
        let leaving = |change: &&webtaxon::model::preview::Change| {
            ["suspend", "remove"].contains(&change.kind().name())
        };
        assert!(!preview.is_whole(), "after {after}");
        assert_eq!(preview.changes.iter().filter(leaving).count(), 0, "after {after}");
    }
}

/// The museum with a group of a circle that has Ada, of a class of its own, and of so many people whom the intake does
/// not read.
async fn wide(strangers: usize, more: &str, options: Options) -> Museum {
    let mut ldif =
        format!("{}\n\ndn: OU=Elsewhere,{TOP}\nobjectClass: organizationalUnit\n", DIRECTORY.trim_end());
    let entries = format!(
        "{more}\ndn: CN=Inside,OU=Elsewhere,{TOP}\nobjectClass: quillmereCircle\nmember: {ADA}\n\n\
         dn: CN=Everybody,OU=Groups,{TOP}\nobjectClass: group\nmember: CN=Inside,OU=Elsewhere,{TOP}\n"
    );
    for number in 0..strangers {
        let _ = write!(ldif, "\ndn: CN=stranger {number:05},OU=Elsewhere,{TOP}\nobjectClass: person\n");
    }
    ldif += &entries;
    for number in 0..strangers {
        let _ = writeln!(ldif, "member: CN=Stranger {number:05},OU=Elsewhere,{TOP}");
    }
    let museum = Museum::with(&ldif, options).await;
    museum.change("CN=Loans Desk Users", "CN=Everybody");
    // Groups are looked for anywhere.
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let settings: Vec<&str> = settings.lines().filter(|line| !line.starts_with("group_bases")).collect();
    museum.write("webtaxon.toml", settings.join("\n"));
    museum
}

#[tokio::test]
async fn a_search_for_everything_that_was_left_is_not_made_again_at_each_level() {
    let mut more = String::new();
    for number in 0..4000 {
        let _ = write!(more, "\ndn: CN=Other {number:05},OU=Elsewhere,{TOP}\nobjectClass: person\n");
    }
    let _ = writeln!(
        more,
        "\ndn: CN=Above,OU=Groups,{TOP}\nobjectClass: group\nmember: CN=Everybody,OU=Groups,{TOP}"
    );
    for number in 0..450 {
        let _ = writeln!(more, "member: CN=Other {number:05},OU=Elsewhere,{TOP}");
    }
    let museum = wide(250, &more, Options::default()).await;
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    museum.write("webtaxon.toml", settings.replace("CN=Everybody", "CN=Above"));
    let (expected, _) = said(&museum, "downwards").await;
    let (found, notes) = said(&museum, "auto").await;
    assert_eq!(found, expected);
    assert_eq!(notes.matches("which was then abandoned").count(), 1, "{notes}");
}

#[tokio::test]
async fn strangers_in_a_wide_group_are_found_with_one_search() {
    let others: String = (0..4000)
        .map(|number| format!("\ndn: CN=Other {number},OU=Elsewhere,{TOP}\nobjectClass: person\n"))
        .collect();
    let limit = Options { paged_limit: Some(350), ..Options::default() };
    for (more, options, told, why) in [
        ("", Options::default(), "instead of 401 look-ups of members from outside", "one search"),
        (
            &*others,
            Options::default(),
            "which was then abandoned, since look-ups are faster",
            "too many others",
        ),
        ("", limit, "which ended early; the others were looked up", "the server gives no more"),
    ] {
        let museum = wide(400, more, options).await;
        let (expected, _) = said(&museum, "downwards").await;
        let (found, notes) = said(&museum, "auto").await;
        assert_eq!(found, expected, "{why}");
        assert!(notes.contains(told), "{why}: {notes}");
    }
}

#[tokio::test]
async fn a_cut_among_strangers_takes_nobodys_account_away() {
    // 244 people come first, then the group, two groups of all, and 402 entries below Elsewhere.
    for after in [252, 300, 500, 640] {
        let fault = Some(Fault { kind: FaultKind::Cut, after });
        let preview = wide(400, "", Options { fault, ..Options::default() }).await.preview().await.unwrap();
        let leaving = |change: &&webtaxon::model::preview::Change| {
            ["suspend", "remove"].contains(&change.kind().name())
        };
        assert!(!preview.is_whole(), "after {after}");
        assert_eq!(preview.changes.iter().filter(leaving).count(), 0, "after {after}");
    }
}
