//! Two settings over one reading give what each gives alone.

use crate::museum::Museum;
use webtaxon::Workspace;

const PROPOSED: &str = include_str!("../../../../demo/proposed.toml");

async fn museum(change: impl Fn(String) -> String) -> Museum {
    let museum = Museum::open().await;
    museum
        .write("proposed.toml", change(PROPOSED.replace("ldaps://localhost:6360", &museum.standin().url())));
    museum
}

#[tokio::test]
async fn one_reading_gives_both_previews() {
    for (from, to) in [
        ("", ""),
        ("OU=Partners,", "OU=Botany,OU=People,"),
        ("group_bases  = [\"OU=Groups,DC=quillmere,DC=example\"]", ""),
        ("CN=Leavers,OU", "CN=Curators,OU"),
        ("groups       = [\"CN=Loans Desk Users", "groups       = [\"CN=All Registry"),
        ("\"physicalDeliveryOfficeName\"", "\"manager\", follow = \"login\""),
        // Whatever one reading cannot do for both is read twice.
        ("adopt        = ", "identity = \"sAMAccountName\"\nadopt        = "),
    ] {
        let museum = museum(|text| {
            assert!(text.contains(from));
            if from.is_empty() { text } else { text.replace(from, to) }
        })
        .await;
        let workspace = museum.workspace().unwrap();
        let proposed = Workspace::open(museum.path().join("proposed.toml")).unwrap();
        let comparison = workspace.compare(&proposed).await.unwrap();
        assert!(comparison.is_whole(), "{to}: {:?} {:?}", comparison.now.gaps, comparison.then.gaps);
        for (compared, alone) in [
            (&comparison.now, workspace.preview().await.unwrap()),
            (&comparison.then, proposed.preview().await.unwrap()),
        ] {
            assert_eq!(
                (&compared.intakes.first.funnel, &compared.changes),
                (&alone.intakes.first.funnel, &alone.changes),
                "{to}"
            );
            assert_eq!((&compared.held, compared.accounts), (&alone.held, alone.accounts), "{to}");
        }
        let back = proposed.compare(&workspace).await.unwrap();
        assert_eq!(
            (back.go_out.len(), back.come_in.len()),
            (comparison.come_in.len(), comparison.go_out.len())
        );
    }
}

#[tokio::test]
async fn a_base_that_is_missing_takes_nobody_away_by_either() {
    let museum = museum(|text| text.replace("OU=Partners,", "OU=Nowhere,")).await;
    let proposed = Workspace::open(museum.path().join("proposed.toml")).unwrap();
    let comparison = museum.workspace().unwrap().compare(&proposed).await.unwrap();
    assert!(
        !comparison.is_whole() && comparison.then.gaps.iter().any(|gap| gap.reason.contains("OU=Nowhere"))
    );
    for preview in [&comparison.now, &comparison.then] {
        let takes =
            preview.changes.iter().filter(|change| ["suspend", "remove"].contains(&change.kind().name()));
        assert_eq!(takes.count(), 0);
    }
}
