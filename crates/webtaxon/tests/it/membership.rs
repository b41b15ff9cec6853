//! Groups in every way in which directories write them: whole, or without the proof.

use crate::museum::{DIRECTORY, Museum};
use std::fmt::Write as _;
use webtaxon_standin::{Fault, FaultKind, Options};

const TOP: &str = "DC=quillmere,DC=example";
const ADA: &str = r"CN=Ibbotson\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example";

/// The museum with a group of so many members who are gone, and Ada as the last one, which is the
/// only group that lets people in.
async fn crowd(gone: usize, options: Options) -> Museum {
    let mut ldif = format!(
        "{}\n\ndn: CN=Everybody,OU=Groups,{TOP}\nobjectClass: top\nobjectClass: group\ncn: Everybody\n",
        DIRECTORY.trim_end()
    );
    for number in 0..gone {
        let _ = writeln!(ldif, "member: CN=gone {number:05},OU=People,{TOP}");
    }
    let _ = writeln!(ldif, "member: {ADA}");
    let museum = Museum::with(&ldif, options).await;
    museum.change("CN=Loans Desk Users", "CN=Everybody");
    museum
}

#[tokio::test]
async fn a_group_that_is_given_in_ranges_is_read_to_its_end() {
    for (gone, why) in [
        (1499, "one answer"),
        (1500, "one more than fits"),
        (2999, "two full ranges"),
        (4600, "several ranges"),
    ] {
        let preview = crowd(gone, Options::default()).await.preview().await.unwrap();
        assert!(preview.is_whole(), "{why}: {:?}", preview.gaps);
        assert_eq!(preview.funnel[1].left, 1, "{why}: Ada is the last one");
    }
}

#[tokio::test]
async fn a_range_that_is_cut_takes_nobodys_account_away() {
    // 244 people, then the group's own ranges: the cut comes before, between and behind them.
    for after in 247..254 {
        let fault = Some(Fault { kind: FaultKind::Cut, after });
        let preview = crowd(3200, Options { fault, ..Options::default() }).await.preview().await.unwrap();
        let leaving =
            |change: &&webtaxon::core::preview::Change| ["suspend", "remove"].contains(&change.kind.name());
        assert!(!preview.is_whole(), "after {after}");
        assert_eq!(preview.changes.iter().filter(leaving).count(), 0, "after {after}");
    }
}
