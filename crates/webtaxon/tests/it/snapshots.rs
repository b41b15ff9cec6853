//! A snapshot answers what the directory answered; what it does not have takes nobody away.

use crate::museum::{DIRECTORY, Museum};
use webtaxon::model::preview::Preview;
use webtaxon_standin::{Fault, FaultKind, Options};

/// Writes a snapshot beside the settings.
async fn take(museum: &Museum, mask: bool) -> String {
    let text = museum.workspace().unwrap().take_snapshot(mask).await.unwrap().write();
    museum.write("snapshot.ldif", &text);
    text
}

/// A preview from the snapshot that was written.
async fn offline(museum: &Museum) -> Preview {
    let file = museum.path().join("snapshot.ldif");
    museum.workspace().unwrap().with_snapshot(&file).unwrap().preview().await.unwrap()
}

fn takes_nobody_away(preview: &Preview, why: &str) {
    assert!(!preview.is_whole(), "{why}");
    let takes = preview.changes.iter().filter(|change| ["suspend", "remove"].contains(&change.kind().name()));
    assert_eq!(takes.count(), 0, "{why}");
}

#[tokio::test]
async fn a_preview_from_a_snapshot_is_the_directorys_own() {
    let museum = Museum::open().await;
    let live = museum.preview().await.unwrap();
    let text = take(&museum, false).await;
    assert!(!text.contains("botanical-garden"), "no secret in a snapshot");
    let preview = offline(&museum).await;
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    assert_eq!(
        (&preview.changes, &preview.intakes.first.funnel, &preview.held),
        (&live.changes, &live.intakes.first.funnel, &live.held)
    );
    assert_eq!(
        (&preview.strangers, preview.intakes.first.server),
        (&live.strangers, live.intakes.first.server)
    );
    assert!(
        take(&museum, false)
            .await
            .lines()
            .filter(|line| !line.starts_with("# taken"))
            .eq(text.lines().filter(|line| !line.starts_with("# taken")))
    );
}

#[tokio::test]
async fn a_masked_snapshot_has_the_same_funnel_and_nobody_in_it() {
    let museum = Museum::open().await;
    // Links of accounts are nobody's in a masked file.
    museum.write("accounts.csv", "login,link,state,name,email,department,room,roles\n");
    let live = museum.preview().await.unwrap();
    let text = take(&museum, true).await;
    for secret in ["Ibbotson", "aibbotson", "quillmere.example", "Rosa", "5fad6505", "BWWtX5YSm1O4407GnOpTVw"]
    {
        assert!(!text.contains(secret), "{secret}");
    }
    let preview = offline(&museum).await;
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    assert_eq!(
        (&preview.intakes.first.funnel, preview.changes.len()),
        (&live.intakes.first.funnel, live.changes.len())
    );
    assert_eq!(preview.strangers.len(), live.strangers.len());
}

#[tokio::test]
async fn what_a_snapshot_does_not_have_takes_nobody_away() {
    let museum = Museum::open().await;
    let text = take(&museum, false).await;
    for (from, to, why) in [
        ("OU=People,DC=quillmere", "OU=Leavers,DC=quillmere", "another base"),
        ("(objectClass=user)", "(objectClass=person)", "another filter"),
        ("CN=Leavers,OU=Groups", "CN=Volunteers,OU=Groups", "another group"),
        ("[\"OU=Groups,DC=quillmere,DC=example\"]", "[]", "other bases of groups"),
        ("from = \"department\"", "from = \"title\"", "another attribute"),
    ] {
        museum.change(from, to);
        takes_nobody_away(&offline(&museum).await, why);
    }
    museum.write("webtaxon.toml", museum.settings());
    for (from, to, why) in [
        ("# nowhere: ", "# somewhere: ", "people who were not looked for"),
        ("# filter: ", "# sieve: ", "a filter that is not told"),
        ("# attribute: mail\n", "", "an attribute that was not read"),
        ("# whole: yes", "# whole: no", "a reading that was not whole"),
        ("# end of the snapshot", "", "a file that was cut"),
        ("# webtaxon.snapshot/1\n", "", "LDIF of another program"),
    ] {
        museum.write("snapshot.ldif", text.replace(from, to));
        takes_nobody_away(&offline(&museum).await, why);
    }
    let record = text.find("\ndn: CN=Ibbotson").unwrap();
    let end = text[record + 1..].find("\n\n").unwrap();
    museum.write("snapshot.ldif", [&text[..record + 1], &text[record + 1 + end + 2..]].concat());
    takes_nobody_away(&offline(&museum).await, "an entry that was taken out");
}

#[tokio::test]
async fn a_snapshot_of_a_reading_that_was_cut_says_so() {
    let fault = Some(Fault { kind: FaultKind::Cut, after: 200 });
    let museum = Museum::with(DIRECTORY, Options { fault, ..Options::default() }).await;
    let text = take(&museum, false).await;
    assert!(text.contains("# whole: no") && text.contains("# gap: "), "{}", &text[..2000]);
    takes_nobody_away(&offline(&museum).await, "cut");
}
