//! Membership by an attribute that the settings name: of groups or of people, by name, by login or by `cn`, nested; and
//! nested groups on servers that serve few filters, or end the connection after each search.

use crate::museum::Museum;
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;
use webtaxon::check::StepOutcome;
use webtaxon::model::preview::{ChangeKind, Preview};
use webtaxon_standin::{Directory, Manner, Options, ServedFilters};

const TOP: &str = "DC=quillmere,DC=example";
const SETTINGS: &str = r#"
[directory.museum]
servers = ["URL"]
trust = { authority = "museum-ca.pem" }
bind = "CN=svc,DC=quillmere,DC=example"
password = { file = "museum-password.txt" }
[accounts]
store = "csv"
path = "accounts.csv"
[[intake]]
name = "staff"
directory = "museum"
bases = ["OU=People,DC=quillmere,DC=example"]
filter = "(objectClass=person)"
groups = ["CN=Users,OU=Groups,DC=quillmere,DC=example"]
not_in_group = ["CN=Leavers,OU=Groups,DC=quillmere,DC=example"]
active = "(objectClass=person)"
HOW
[intake.fields]
login = { from = "uid" }
[intake.leaving]
outside = { do = "suspend" }
"#;

/// People with further lines of their entries, and groups with theirs.
fn ldif(people: &[(&str, &str)], groups: &[(&str, &str)]) -> String {
    let mut text = format!(
        "dn: {TOP}\nobjectClass: domain\n\ndn: OU=People,{TOP}\nobjectClass: organizationalUnit\n\n\
         dn: OU=Groups,{TOP}\nobjectClass: organizationalUnit\n\n\
         dn: CN=svc,{TOP}\nobjectClass: top\ncn: svc\nuserPassword: botanical-garden-42\n\n"
    );
    for (number, (name, lines)) in people.iter().enumerate() {
        text += &format!(
            "dn: CN={name},OU=People,{TOP}\nobjectClass: person\ncn: {name}\nuid: {name}\n\
             entryUUID: 00000000-0000-4000-8000-0000000000{number:02x}\n{lines}\n"
        );
    }
    for (name, lines) in groups {
        text += &format!(
            "dn: CN={name},OU=Groups,{TOP}\nobjectClass: groupOfMembers\nobjectClass: groupOfURLs\ncn: {name}\n{lines}\n"
        );
    }
    text.replace("@P", &format!(",OU=People,{TOP}")).replace("@G", &format!(",OU=Groups,{TOP}"))
}

async fn museum(how: &str, ldif: &str, options: Options) -> Museum {
    let directory = Arc::new(Directory::with_manner(ldif.as_bytes(), Manner::Plain).unwrap());
    let museum = Museum::of(&directory, options).await;
    museum.write("webtaxon.toml", SETTINGS.replace("URL", &museum.standin().url()).replace("HOW", how));
    museum.write("accounts.csv", "login,link,state\ndora,00000000-0000-4000-8000-000000000003,active\n");
    museum
}

async fn preview(how: &str, ldif: &str) -> Preview {
    museum(how, ldif, Options::default()).await.preview().await.unwrap()
}

fn kinds(preview: &Preview, kind: ChangeKind) -> BTreeSet<&str> {
    preview.changes.iter().filter(|one| one.kind() == kind).map(|one| one.login.as_str()).collect()
}

/// Ada is directly in the group, Ben through an inner one, Cleo is in it and excluded, Dora is in none.
#[tokio::test]
async fn everybody_is_found_wherever_membership_is_kept() {
    let people = [("ada", ""), ("ben", ""), ("cleo", ""), ("dora", "")];
    let names = [
        ("ada", "isMemberOf: cn=users@G\n"),
        ("ben", "isMemberOf: CN=Inner@G\n"),
        ("cleo", "isMemberOf: CN=Users@G\nisMemberOf: CN=Leavers@G\n"),
        ("dora", ""),
    ];
    let common = [
        ("ada", "groups: Users\n"),
        ("ben", "groups: inner\n"),
        ("cleo", "groups: users\ngroups: Leavers\n"),
        ("dora", ""),
    ];
    let cases = [
        (
            "member_attribute = \"roleOccupant\"",
            ldif(
                &people,
                &[
                    ("Users", "roleOccupant: CN=ada@P\nroleOccupant: CN=cleo@P\nroleOccupant: CN=Inner@G\n"),
                    ("Inner", "roleOccupant: CN=ben@P\n"),
                    ("Leavers", "roleOccupant: CN=cleo@P\n"),
                ],
            ),
        ),
        (
            "member_attribute = { name = \"roleOccupant\", of = \"groups\", holds = \"names\" }\nstrategy = \"sweep\"",
            ldif(
                &people,
                &[
                    ("Users", "roleOccupant: CN=ada@P\nroleOccupant: CN=cleo@P\nmember: CN=Inner@G\n"),
                    ("Inner", "roleOccupant: CN=ben@P\n"),
                    ("Leavers", "roleOccupant: CN=cleo@P\n"),
                ],
            ),
        ),
        (
            "member_attribute = { name = \"logins\", of = \"groups\", holds = \"logins\" }",
            ldif(
                &people,
                &[
                    ("Users", "logins: ada\nlogins: cleo\nmember: CN=Inner@G\n"),
                    ("Inner", "logins: ben\n"),
                    ("Leavers", "logins: cleo\n"),
                ],
            ),
        ),
        (
            "member_attribute = { name = \"isMemberOf\", of = \"people\" }",
            ldif(&names, &[("Users", ""), ("Inner", "isMemberOf: CN=Users@G\n"), ("Leavers", "")]),
        ),
        (
            "member_attribute = { name = \"groups\", of = \"people\", holds = \"cn\" }",
            ldif(&common, &[("Users", ""), ("Inner", "groups: Users\n"), ("Leavers", "")]),
        ),
    ];
    for (how, ldif) in cases {
        let preview = preview(how, &ldif).await;
        assert!(preview.is_whole(), "{how}: {:?}", preview.gaps);
        assert_eq!(kinds(&preview, ChangeKind::Import), ["ada", "ben"].into(), "{how}");
        assert_eq!(kinds(&preview, ChangeKind::Suspend), ["dora"].into(), "{how}");
    }
}

/// Groups without entries count if somebody says to be in them.
#[tokio::test]
async fn what_people_say_may_name_groups_that_have_no_entries_but_not_hide() {
    let by_name = "member_attribute = { name = \"isMemberOf\", of = \"people\" }";
    let by_cn = "member_attribute = { name = \"groups\", of = \"people\", holds = \"cn\" }";
    let users = ("Users", "");
    for (how, lines, groups, expected) in [
        (by_name, ["isMemberOf: CN=Users@G\n", "isMemberOf: CN=Leavers@G\n"], vec![], ""),
        (by_cn, ["groups: Users\n", "groups: Leavers\n"], vec![], ""),
        (by_name, ["isMemberOf: CN=Users@G\n", ""], vec![users], "nobody says to be in it (isMemberOf)"),
        (
            by_cn,
            ["groups: Users\n", ""],
            vec![users, ("Leavers", ""), ("Users,OU=People", "")],
            "several groups have the cn Users",
        ),
        (by_name, ["", ""], vec![users, ("Leavers", "")], "nobody shows isMemberOf"),
        (
            by_name,
            ["isMemberOf: nonsense\n", ""],
            vec![users, ("Leavers", "")],
            "nonsense is not a distinguished name",
        ),
    ] {
        let people = [("ada", lines[0]), ("ben", lines[1]), ("cleo", ""), ("dora", "")];
        let text = ldif(&people, &groups)
            .replace("CN=Users,OU=People,OU=Groups", "CN=Users,OU=People")
            .replace("cn: Users,OU=People", "cn: Users");
        let preview = preview(how, &text).await;
        let gaps: Vec<String> = preview.gaps.iter().map(ToString::to_string).collect();
        assert_eq!(gaps.is_empty(), expected.is_empty(), "{how}: {gaps:?}");
        assert!(gaps.iter().all(|gap| gap.contains(expected)), "{how}: {gaps:?}");
        let leaves = if expected.is_empty() { ["dora"].into() } else { BTreeSet::new() };
        assert_eq!(kinds(&preview, ChangeKind::Suspend), leaves, "{how}: {expected}");
    }
}

#[tokio::test]
async fn a_check_counts_who_says_to_be_in_a_group() {
    let how = "member_attribute = { name = \"isMemberOf\", of = \"people\" }";
    let people = [("ada", "isMemberOf: CN=Users@G\n"), ("ben", "isMemberOf: CN=users@G\n"), ("dora", "")];
    let museum = museum(how, &ldif(&people, &[]), Options::default()).await;
    let steps = museum.workspace().unwrap().check(Duration::ZERO, |_| {}).await;
    let told: Vec<&str> =
        steps.iter().filter(|step| step.name == "group").map(|step| step.message.as_str()).collect();
    assert_eq!(
        told,
        [
            "2 people say to be directly in Users (groups)",
            "nobody says to be directly in Leavers (not_in_group)"
        ]
    );
}

#[tokio::test]
async fn a_server_that_serves_little_is_read_all_the_same() {
    let people = [("ada", ""), ("ben", ""), ("cleo", ""), ("dora", "")];
    let groups = [
        ("Users", "member: CN=ada@P\nmember: CN=cleo@P\nmember: CN=Inner@G\n"),
        ("Inner", "member: CN=ben@P\n"),
        ("Leavers", "member: CN=cleo@P\n"),
    ];
    let filters = [ServedFilters::All, ServedFilters::NoPresence, ServedFilters::EqualityAlone];
    for (filters, one_search) in filters.into_iter().flat_map(|filters| [(filters, false), (filters, true)]) {
        let why = format!("{filters:?}, {one_search}");
        let options = Options { filters, one_search, ..Options::default() };
        let museum = museum("", &ldif(&people, &groups), options).await;
        let preview = museum.preview().await.unwrap();
        assert!(preview.is_whole(), "{why}: {:?}", preview.gaps);
        assert_eq!(kinds(&preview, ChangeKind::Import), ["ada", "ben"].into(), "{why}");
        assert_eq!(kinds(&preview, ChangeKind::Suspend), ["dora"].into(), "{why}");
        let steps = museum.workspace().unwrap().check(Duration::ZERO, |_| {}).await;
        let bad: Vec<&str> = steps
            .iter()
            .filter(|one| one.outcome == StepOutcome::Bad)
            .map(|one| one.message.as_str())
            .collect();
        assert_eq!(bad, [""; 0], "{why}");
    }
}
