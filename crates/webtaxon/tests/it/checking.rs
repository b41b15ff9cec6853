//! A check: each step in order, what blocks and what does not, what the account may do.

use crate::museum::Museum;
use std::time::Duration;
use webtaxon::directory::{CheckStep, Outcome};

async fn check(museum: &Museum) -> Vec<CheckStep> {
    museum.workspace().unwrap().check(Duration::ZERO, |_| {}).await
}

/// The steps of one name, by outcome and message.
fn of<'s>(steps: &'s [CheckStep], name: &str) -> Vec<(Outcome, &'s str)> {
    steps.iter().filter(|step| step.name == name).map(|step| (step.outcome, step.message.as_str())).collect()
}

#[tokio::test]
async fn every_step_is_reported_as_it_ends_in_the_order_of_the_work() {
    let museum = Museum::open().await;
    let mut reported = Vec::new();
    let steps = museum.workspace().unwrap().check(Duration::ZERO, |step| reported.push(step.name)).await;
    let names: Vec<_> = steps.iter().map(|step| step.name).collect();
    assert_eq!(reported, names);
    let mut once = names.clone();
    once.dedup();
    assert_eq!(
        once,
        [
            "name",
            "connect",
            "tls",
            "server",
            "clock",
            "password",
            "bind",
            "rights",
            "base",
            "filter",
            "attribute",
            "group",
            "accounts"
        ]
    );
    let strange: Vec<_> = steps.iter().filter(|step| step.outcome != Outcome::Good).collect();
    assert!(strange.len() == 1 && strange[0].message.contains("242 of 244"), "{strange:?}");
}

#[tokio::test]
async fn a_check_goes_on_where_it_can_and_skips_what_it_cannot() {
    use Outcome::{Bad, Good, Skipped, Warning};
    let museum = Museum::open().await;
    for (from, to, name, outcome, message, skipped) in [
        ("OU=People,DC=quillmere", "OU=Peeple,DC=quillmere", "base", Bad, "does not exist", 2),
        ("OU=People,DC=quillmere,DC=example", "DC=elsewhere", "base", Bad, "does not exist", 2),
        (
            "OU=People,DC=quillmere",
            "OU=Groups,DC=quillmere",
            "base",
            Warning,
            "0 found by the filter, 40 groups",
            1,
        ),
        ("CN=Leavers,", "CN=Leevers,", "group", Bad, "does not exist", 0),
        ("CN=Loans Desk Users,", "CN=Student Lenders,", "group", Warning, "has no members", 0),
        ("(objectClass=user)", "(objectClass=usher)", "filter", Warning, "finds nobody", 1),
        ("(objectClass=user)", "(objectKlass=user)", "filter", Warning, "(did you mean objectClass?)", 1),
        (
            "from = \"department\"",
            "from = \"departement\"",
            "attribute",
            Warning,
            "did you mean department?",
            0,
        ),
        ("from = \"department\"", "from = \"info\"", "attribute", Warning, "info: 0 of 244 have it", 0),
        ("path      = \"accounts.csv\"", "path = \"none.csv\"", "accounts", Bad, "none.csv", 0),
    ] {
        museum.change(from, to);
        let steps = check(&museum).await;
        let found = of(&steps, name).iter().any(|(its, text)| *its == outcome && text.contains(message));
        assert!(found, "{to}: {:?}", of(&steps, name));
        assert_eq!(steps.iter().filter(|step| step.outcome == Skipped).count(), skipped, "{to}");
        for step in steps.iter().filter(|step| matches!(step.outcome, Bad | Warning)) {
            assert!(!step.remedy.is_empty(), "{to}: {}", step.message);
        }
    }
    museum.write("webtaxon.toml", museum.settings());
    museum.write("museum-password.txt", "wrong");
    let steps = check(&museum).await;
    assert_eq!(of(&steps, "bind")[0].0, Bad);
    assert_eq!((of(&steps, "base")[0].0, of(&steps, "accounts")[0].0), (Skipped, Good));
}

#[tokio::test]
async fn a_check_tries_every_server_and_waits_for_one_that_comes_late() {
    let museum = Museum::open().await;
    let url = museum.standin().url();
    museum.change(&format!("\"{url}\""), &format!("\"ldaps://no-such-host.invalid\", \"{url}\""));
    let steps = check(&museum).await;
    assert_eq!(of(&steps, "name")[0].0, Outcome::Warning, "the other one works");
    assert_eq!(of(&steps, "bind")[0].0, Outcome::Good);

    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    museum.change(&url, &format!("ldaps://localhost:{port}"));
    let workspace = museum.workspace().unwrap();
    let late = async {
        tokio::time::sleep(Duration::from_secs(1)).await;
        museum.twin(port).await
    };
    let (steps, _twin) = tokio::join!(workspace.check(Duration::from_secs(60), |_| {}), late);
    assert_eq!(of(&steps, "connect"), [(Outcome::Good, format!("127.0.0.1:{port} answers").as_str())]);
}
