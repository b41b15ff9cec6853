//! Groups that come into the application, from real servers.

use crate::Desk;
use std::collections::BTreeMap;
use webtaxon::apply::Consent;
use webtaxon::model::preview::Preview;

const TOO: &str = include_str!("../../../../demo/application-groups.toml");

/// The desk without any account or group yet, which brings these groups.
fn desk(mut desk: Desk, filter: &str, more: &str) -> Desk {
    std::fs::write(
        desk.folder.path().join("accounts.csv"),
        "login,link,state,name,email,department,room,roles\n",
    )
    .unwrap();
    std::fs::write(desk.folder.path().join("groups.csv"), "name,link,members\n").unwrap();
    desk.settings = desk.settings.clone() + TOO;
    assert!(TOO.contains("members = \"flattened\""));
    desk.with("(cn=*Curators)", filter).with("members = \"flattened\"", more)
}

/// Who would come into each group.
fn told(preview: &Preview) -> BTreeMap<String, Vec<String>> {
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    let groups = preview.groups.as_ref().unwrap();
    assert_eq!(groups.held, []);
    groups.changes.iter().map(|change| (change.name.clone(), change.come.clone())).collect()
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn the_same_groups_come_from_both_servers_in_every_way() {
    for (more, sizes) in [("members = \"flattened\"", [8, 6, 5, 20]), ("members = \"direct\"", [8, 6, 5, 1])]
    {
        let mut first: Option<BTreeMap<String, Vec<String>>> = None;
        for strategy in ["downwards", "sweep", "auto"] {
            for (server, name) in [(Desk::slapd(), "slapd"), (Desk::samba(), "Samba")] {
                let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
                let desk = desk(server, "(cn=*Curators)", more).with("[intake.fields]", &line);
                let groups = told(&desk.preview().await.unwrap());
                let counts: Vec<(&str, usize)> =
                    groups.iter().map(|(name, come)| (name.as_str(), come.len())).collect();
                let names = ["Botany Curators", "Entomology Curators", "Palaeontology Curators", "Curators"];
                let mut expected: Vec<(&str, usize)> = names.into_iter().zip(sizes).collect();
                expected.sort_unstable();
                assert_eq!(counts, expected, "{name}, {strategy}, {more}");
                assert_eq!(
                    *first.get_or_insert_with(|| groups.clone()),
                    groups,
                    "{name}, {strategy}, {more}"
                );
            }
        }
    }
}

/// Groups whose members are logins, names with bits, searches and all of these; carried out, there is nothing left.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn every_kind_of_group_comes_in_from_slapd() {
    let desk = desk(Desk::slapd(), "(cn=By *)", "members = \"flattened\"");
    let desk =
        desk.with("bases   = [\"OU=Groups,", "bases   = [\"OU=Kinds,").with("group_bases", "# group_bases");
    let workspace = desk.workspace().unwrap();
    let (preview, work) = workspace.work().await.unwrap();
    let groups = told(&preview);
    assert_eq!(groups.keys().collect::<Vec<_>>(), ["By All", "By Login", "By Search", "By Unique Name"]);
    assert!(groups["By Login"].len() <= 2 && groups["By Search"].len() > 5, "{groups:?}");
    let all: std::collections::BTreeSet<&String> = groups.values().flatten().collect();
    assert_eq!(groups["By All"].iter().collect::<std::collections::BTreeSet<_>>(), all);
    let release = preview.brakes.iter().map(|brake| brake.kind.to_string()).collect();
    let applied =
        workspace.apply(&work, &Consent { who: "ada".into(), release, stop_after: None }).await.unwrap();
    assert!(applied.is_complete(), "{applied:?}");
    let again = workspace.preview().await.unwrap().groups.unwrap();
    assert_eq!((again.changes, again.unchanged), (vec![], 4));
}
