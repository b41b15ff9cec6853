//! The museum's preview: what it finds, and what it never does when the reading is cut short.

use crate::museum::{ACCOUNTS, DIRECTORY, Museum};
use std::sync::Arc;
use webtaxon::model::account::Account;
use webtaxon::model::preview::{Brake, BrakeKind, Cause, ChangeKind, HeldReason, Preview};
use webtaxon::store::{AccountStore, StoreFuture};
use webtaxon::{Named, report};
use webtaxon_standin::{Fault, FaultKind, Options};

fn logins(preview: &Preview, kind: ChangeKind) -> Vec<&str> {
    preview.of_kind(kind).map(|change| change.login.as_str()).collect()
}

/// How many accounts a preview would take away.
fn leaving(preview: &Preview) -> usize {
    preview.of_kind(ChangeKind::Remove).chain(preview.of_kind(ChangeKind::Suspend)).count()
}

#[tokio::test]
async fn the_museum_gets_what_its_readme_says() {
    // Every list here can be counted by hand in demo/; demo/README.md says how.
    let preview = Museum::open().await.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    let funnel: Vec<_> =
        preview.intakes.first.funnel.iter().map(|step| (step.step.name(), step.left)).collect();
    assert_eq!(
        funnel,
        [("found", 244), ("groups", 81), ("not_in_group", 78), ("active", 75), ("complete", 73)]
    );
    for (kind, expected) in [
        (
            ChangeKind::Import,
            &["bbarrowclough", "bsedgewick", "bthornbury", "fcotterill", "mhayashi", "nalhakim", "tashdown2"]
                [..],
        ),
        (ChangeKind::Adopt, &["lgadsby", "ppinchbeck"]),
        (
            ChangeKind::Update,
            &[
                "bedgeworth",
                "ecarrick",
                "gfairclough",
                "iheatherly",
                "iunderhill",
                "jelderkin",
                "kpeverell",
                "lsaltmarsh",
                "rfairweather",
                "sodallaigh",
            ],
        ),
        (ChangeKind::Restore, &["odovecote", "yyarrow"]),
        (
            ChangeKind::Suspend,
            &[
                "gfennimore",
                "mthistlewood",
                "pthistlewood",
                "shargreave",
                "veastlake",
                "vheatherly",
                "wrookwood",
            ],
        ),
        (ChangeKind::Remove, &["adrift", "hvanish", "mfallow"]),
        (ChangeKind::Clash, &["dpryce", "ghollow"]),
    ] {
        assert_eq!(logins(&preview, kind), expected, "{}", kind.name());
    }
    let counts = preview.accounts;
    assert_eq!((counts.now, counts.after, counts.active_now, counts.active_after), (81, 85, 77, 77));
    assert_eq!(preview.unchanged, 51);
    assert_eq!(
        preview.held.iter().map(|held| (held.login.as_str(), held.reason)).collect::<Vec<_>>(),
        [("dpryce", HeldReason::MadeAnew), ("wgrebe", HeldReason::Kept)]
    );
    assert_eq!(preview.brakes.iter().map(|brake| brake.kind.name()).collect::<Vec<_>>(), ["seats", "first"]);
    let path = preview
        .of_kind(ChangeKind::Import)
        .find(|change| change.login == "fcotterill")
        .map(|change| change.path.groups.clone());
    let group = |cn: &str| format!("CN={cn},OU=Groups,DC=quillmere,DC=example");
    assert_eq!(path, Some(vec![group("Loans Desk Users"), group("Field Teams"), group("Field Teams North")]));
}

#[tokio::test]
async fn the_same_museum_gives_the_same_bytes() {
    let museum = Museum::open().await;
    let (one, other) = (museum.preview().await.unwrap(), museum.preview().await.unwrap());
    let text = report::preview(&one).to_string();
    assert_eq!(text, report::preview(&other).to_string());
    for key in ["format", "whole", "funnel", "accounts", "changes", "brakes", "held", "gaps"] {
        assert!(text.contains(&format!("\"{key}\":")), "{key}");
    }
    assert!(!text.contains("botanical-garden"), "no secret in a report");
}

/// An application's own list.
struct Nobody;

impl AccountStore for Nobody {
    fn describe(&self) -> String {
        "an empty table".to_owned()
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        assert_eq!(*fields, ["login", "name", "email", "department", "room", "roles"]);
        Box::pin(async { Ok(Vec::new()) })
    }
}

#[tokio::test]
async fn an_application_may_bring_its_own_list() {
    let museum = Museum::open().await;
    let preview = museum.workspace().unwrap().with_store(Arc::new(Nobody)).preview().await.unwrap();
    assert_eq!((preview.of_kind(ChangeKind::Import).count(), preview.changes.len()), (73, 73));
}

#[tokio::test]
async fn a_preview_changes_no_file() {
    let museum = Museum::open().await;
    let before = std::fs::read(museum.path().join("accounts.csv")).unwrap();
    museum.preview().await.unwrap();
    assert_eq!(std::fs::read(museum.path().join("accounts.csv")).unwrap(), before);
    assert_eq!(std::fs::read_dir(museum.path()).unwrap().count(), 4);
}

/// Promise 1: the connection is cut after every single message of a run, or in the middle of the
/// next one; one run for each.
#[tokio::test]
async fn a_cut_after_or_inside_any_message_takes_nobodys_account_away() {
    for (kind, stride) in [(FaultKind::Cut, 1), (FaultKind::CutInside, 3)] {
        cut_everywhere(kind, stride).await;
    }
}

async fn cut_everywhere(kind: FaultKind, stride: u64) {
    let mut whole = 0;
    let mut cut_short = 0_u64;
    let directory =
        std::sync::Arc::new(webtaxon_standin::Directory::from_ldif(DIRECTORY.as_bytes()).unwrap());
    for cut in (0..).map(|number| number * stride) {
        let options = Options { fault: Some(Fault { kind, after: cut }), ..Options::default() };
        let museum = Museum::of(&directory, options).await;
        match museum.preview().await {
            // Before the bind was answered there is no reading at all.
            Err(error) => assert!(cut < 3, "{error}"),
            Ok(preview) if preview.is_whole() => {
                assert_eq!(leaving(&preview), 10, "{kind:?} after {cut}");
                whole += 1;
                // The last message is the end of the last search: one more cut changes nothing.
                if whole == 2 {
                    break;
                }
            }
            Ok(preview) => {
                cut_short += 1;
                assert_eq!(leaving(&preview), 0, "{kind:?} after {cut}");
                assert!(
                    preview.gaps.iter().any(|gap| gap.reason.contains("the connection was lost")),
                    "{:?}",
                    preview.gaps
                );
            }
        }
        assert!(cut < 1000, "the run never ended well");
    }
    // 244 people on 3 pages, 19 groups and 2 other members, one look-up: all of them were cut at.
    assert!(cut_short * stride > 280, "{cut_short}");
}

#[tokio::test]
async fn whatever_else_leaves_a_reading_short_takes_nobodys_account_away() {
    // A search that is cut is split by names; these cannot be told apart.
    let hidden = ["sAMAccountName", "uid", "cn"].map(str::to_owned).to_vec();
    let limited = Options { paged_limit: Some(200), hidden, ..Options::default() };
    let people = "OU=People,DC=quillmere,DC=example";
    for (options, from, to, reason, why) in [
        (limited, "page     = 100", "page     = 100", "sizeLimitExceeded", "a size limit"),
        (
            Options::default(),
            people,
            "OU=Peeple,DC=quillmere,DC=example",
            "does not exist",
            "a base that is missing",
        ),
        (
            Options::default(),
            "CN=Leavers,",
            "CN=Leevers,",
            "did you mean CN=Leavers,",
            "a group that is missing",
        ),
        (
            Options::default(),
            "CN=Loans Desk Users,OU=Groups",
            "CN=Rosa Pemberton,OU=Registry,OU=People",
            "not a group",
            "a person in place of a group",
        ),
    ] {
        let museum = Museum::with(DIRECTORY, options).await;
        museum.change(from, to);
        let preview = museum.preview().await.unwrap();
        assert!(!preview.is_whole(), "{why}");
        assert!(preview.gaps.iter().any(|gap| gap.reason.contains(reason)), "{why}: {:?}", preview.gaps);
        assert_eq!(leaving(&preview), 0, "{why}");
    }
}

#[tokio::test]
async fn members_that_cannot_be_read_whole_take_nobodys_account_away() {
    for (group, extra, reason) in [
        ("Student Lenders", "memberUid: tashdown\n", "memberUid"),
        (
            "Loans Desk Users",
            "memberURL: ldap://elsewhere/OU=People,DC=quillmere,DC=example??sub?(l=x)\n",
            "at another server",
        ),
        ("Loans Desk Users", "member;range=0-1499: CN=x,DC=quillmere,DC=example\n", "not the rest"),
        ("Curators", "member: not a name\n", "not a distinguished name"),
    ] {
        let dn = format!("dn: CN={group},OU=Groups,DC=quillmere,DC=example\n");
        let ldif = DIRECTORY.replacen(&dn, &format!("{dn}{extra}"), 1);
        let preview = Museum::with(&ldif, Options::default()).await.preview().await.unwrap();
        assert_eq!(leaving(&preview), 0, "{extra}");
        assert!(preview.gaps.iter().any(|gap| gap.reason.contains(reason)), "{extra}: {:?}", preview.gaps);
    }
    // Logins beside names are a copy of them, and hide nobody.
    let dn = "dn: CN=Curators,OU=Groups,DC=quillmere,DC=example\n";
    let ldif = DIRECTORY.replacen(dn, &format!("{dn}memberUid: tashdown\n"), 1);
    assert!(Museum::with(&ldif, Options::default()).await.preview().await.unwrap().is_whole());
}

#[tokio::test]
async fn hidden_identities_take_nobodys_account_away() {
    let options = Options { hidden: vec!["objectGUID".to_owned()], ..Options::default() };
    let preview = Museum::with(DIRECTORY, options).await.preview().await.unwrap();
    assert_eq!(leaving(&preview), 0);
    for reason in ["244 of them do not show it", "nobody was read whose objectGUID could be searched for"] {
        assert!(preview.gaps.iter().any(|gap| gap.reason.contains(reason)), "{reason}: {:?}", preview.gaps);
    }
}

/// What a missing right looks like, and may be true: an apply waits for somebody's word.
#[tokio::test]
async fn nobody_in_an_intake_or_a_group_is_a_brake() {
    for (from, to, wanted) in [
        ("CN=Loans Desk Users,", "CN=Student Lenders,", "nobody is in the group Student Lenders"),
        ("(objectClass=user))\"", "(objectClass=usher))\"", "nobody is in the intake staff"),
    ] {
        let museum = Museum::open().await;
        museum.change(from, to);
        let preview = museum.preview().await.unwrap();
        let told: Vec<String> = preview.brakes.iter().map(Brake::in_words).collect();
        assert!(told.iter().any(|brake| brake.starts_with(wanted)), "{told:?} {:?}", preview.gaps);
    }
    assert!(
        Museum::open().await.preview().await.unwrap().brakes.iter().all(|one| one.kind != BrakeKind::Nobody)
    );
}

/// An attribute that is another one than that by which the accounts were linked.
#[tokio::test]
async fn links_that_are_nobodys_take_no_account_away() {
    let museum = Museum::open().await;
    museum.change("match        = ", "identity     = \"sAMAccountName\"\nmatch        = ");
    let preview = museum.preview().await.unwrap();
    assert_eq!(leaving(&preview), 0);
    let held = preview.held.iter().filter(|held| held.reason == HeldReason::OtherLinks).count();
    assert!(preview.is_whole() && held > 0, "{:?}", preview.held);
}

/// A right that hides who is disabled: nobody comes in, and whoever has an account keeps it.
#[tokio::test]
async fn whoever_does_not_show_whether_they_are_active_does_not_come_in() {
    let options = Options { hidden: vec!["userAccountControl".to_owned()], ..Options::default() };
    let preview = Museum::with(DIRECTORY, options).await.preview().await.unwrap();
    let comes_in = [ChangeKind::Import, ChangeKind::Adopt, ChangeKind::Restore];
    let came = preview.changes.iter().filter(|change| comes_in.contains(&change.kind())).count();
    let held: Vec<&str> = preview
        .held
        .iter()
        .filter(|held| held.reason == HeldReason::ActivityHidden)
        .map(|held| held.login.as_str())
        .collect();
    assert_eq!(came, 0);
    assert!(held.contains(&"fcotterill"), "{held:?}");
}

#[tokio::test]
async fn a_link_in_another_spelling_is_the_same_link() {
    let museum = Museum::open().await;
    let plain: String = ACCOUNTS
        .lines()
        .map(|line| {
            let mut values: Vec<String> = line.splitn(3, ',').map(str::to_owned).collect();
            values[1] = values[1].replace('-', "").to_uppercase();
            values.join(",").replacen("LINK", "link", 1) + "\n"
        })
        .collect();
    let expected = report::preview(&museum.preview().await.unwrap()).to_string();
    museum.write("accounts.csv", plain);
    assert_eq!(report::preview(&museum.preview().await.unwrap()).to_string(), expected);
}

#[tokio::test]
async fn a_group_that_is_named_twice_or_in_both_nests_is_still_whole() {
    let users = "\"CN=Loans Desk Users,OU=Groups,DC=quillmere,DC=example\"";
    let museum = Museum::open().await;
    museum.change(users, &format!("{users}, {users}, \"CN=Leavers 2026,OU=Groups,DC=quillmere,DC=example\""));
    let preview = museum.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    assert_eq!(preview.intakes.first.funnel.last().map(|step| step.left), Some(73));
}

#[tokio::test]
async fn without_group_bases_every_member_is_looked_up() {
    let museum = Museum::open().await;
    museum.change("group_bases  = [\"OU=Groups,DC=quillmere,DC=example\"]", "");
    let preview = museum.preview().await.unwrap();
    assert!(preview.is_whole(), "a deleted member is no gap: {:?}", preview.gaps);
    assert_eq!(
        (preview.intakes.first.funnel.last().map(|step| step.left), preview.strangers.len()),
        (Some(73), 2)
    );
}

#[tokio::test]
async fn an_empty_directory_is_whole_and_the_brakes_tell() {
    // Everybody is gone: a whole reading may say so, and that is what brakes are for.
    let museum = Museum::open().await;
    museum.change("(objectClass=user))", "(objectClass=user)(cn=nobody))");
    let preview = museum.preview().await.unwrap();
    assert!(preview.is_whole());
    assert_eq!(
        preview.brakes.iter().map(|brake| brake.kind.name()).collect::<Vec<_>>(),
        ["removals", "fewest", "nobody", "first"]
    );
    assert_eq!(
        logins(&preview, ChangeKind::Remove),
        ["adrift", "dpryce", "hvanish", "mfallow"],
        "only who is nowhere"
    );
}

#[tokio::test]
async fn hostile_values_stay_values() {
    let login = "sAMAccountName: fcotterill\n";
    let ldif = DIRECTORY.replacen(login, "sAMAccountName: =1+1)(objectClass=*\n", 1);
    assert_ne!(ldif, DIRECTORY);
    let preview = Museum::with(&ldif, Options::default()).await.preview().await.unwrap();
    assert!(logins(&preview, ChangeKind::Import).contains(&"=1+1)(objectclass=*"));
}

/// The museum's own files say what they should.
#[test]
fn the_demo_data_is_sound() {
    use webtaxon::model::ldap::name::Dn;
    let entries = webtaxon::model::ldap::ldif::entries(DIRECTORY.as_bytes()).unwrap();
    let key = |dn: &[u8]| Dn::parse(std::str::from_utf8(dn).unwrap()).unwrap().key();
    let pairs = |attribute: &str, turned: bool| {
        let mut pairs: Vec<_> = entries
            .iter()
            .flat_map(|entry| {
                entry.values(attribute).map(move |value| (key(entry.dn().as_bytes()), key(value)))
            })
            .map(|(own, other)| if turned { (other, own) } else { (own, other) })
            .collect();
        pairs.sort();
        pairs
    };
    let names: std::collections::HashSet<_> =
        entries.iter().map(|entry| key(entry.dn().as_bytes())).collect();
    let members: Vec<_> =
        pairs("member", false).into_iter().filter(|(_, member)| names.contains(member)).collect();
    assert_eq!(members, pairs("memberOf", true), "memberOf says what member says");
    let people = entries.iter().filter(|entry| entry.text("employeeID").is_some()).count();
    let groups =
        entries.iter().filter(|entry| entry.values("objectClass").any(|class| class == b"group")).count();
    assert_eq!((people, groups, ACCOUNTS.lines().count()), (261, 40, 82));
    let mut guids: Vec<_> = entries.iter().filter_map(|entry| entry.values("objectGUID").next()).collect();
    guids.sort_unstable();
    guids.dedup();
    assert_eq!(guids.len(), entries.len(), "every entry has an identity of its own");
}

#[tokio::test]
async fn both_kinds_of_server_lead_to_the_same_preview() {
    const PLAIN: &str = include_str!("../../../../demo/directory-plain.ldif");
    const SETTINGS: &str = include_str!("../../../../demo/webtaxon-plain.toml");
    let controller = Museum::open().await.preview().await.unwrap();
    let museum = Museum::with(PLAIN, Options::default()).await;
    museum.write("webtaxon.toml", SETTINGS.replace("ldaps://localhost:6360", &museum.standin().url()));
    let plain = museum.preview().await.unwrap();
    assert!(plain.is_whole(), "{:?}", plain.gaps);
    assert_eq!(plain.intakes.first.funnel, controller.intakes.first.funnel);
    let told = |preview: &webtaxon::model::preview::Preview| -> Vec<_> {
        let change = |one: &webtaxon::model::preview::Change| {
            (one.kind(), one.login.clone(), one.link.clone(), one.cause())
        };
        preview.changes.iter().map(change).collect()
    };
    assert_eq!(told(&plain), told(&controller));
    let steps = museum.workspace().unwrap().check(std::time::Duration::ZERO, |_| {}).await;
    let strange: Vec<_> =
        steps.iter().filter(|step| step.outcome != webtaxon::check::StepOutcome::Good).collect();
    assert!(strange.len() == 1 && strange[0].message.contains("242 of 244"), "{strange:?}");
}

/// Whoever's directory account has expired is out, and is told so; with `locked`, so is whoever is locked.
#[tokio::test]
async fn expired_and_locked_people_are_not_active() {
    let entry = |login: &str| {
        let at = DIRECTORY.find(&format!("sAMAccountName: {login}\n")).unwrap();
        DIRECTORY[at..].split("\n\n").next().unwrap()
    };
    let (carrick, ibbotson) = (entry("ecarrick"), entry("aibbotson"));
    let never = "accountExpires: 9223372036854775807";
    assert!(carrick.contains(never));
    let ldif = DIRECTORY
        .replace(carrick, &carrick.replace(never, "accountExpires: 129000000000000000"))
        .replace(ibbotson, &format!("{ibbotson}\nmsDS-User-Account-Control-Computed: 16"));
    let museum = Museum::with(&ldif, Options::default()).await;
    let own = "active       = \"(!(userAccountControl:1.2.840.113556.1.4.803:=2))\"";
    museum.change(own, "");
    let suspended = |preview: &Preview| -> Vec<String> {
        let told = preview.of_kind(ChangeKind::Suspend).filter_map(|change| Some((change, change.detail()?)));
        let told = told.filter(|(change, _)| change.cause() == Some(Cause::Disabled));
        told.map(|(change, detail)| format!("{}: {detail}", change.login)).collect()
    };
    let expired = "ecarrick: the directory's account has expired";
    assert_eq!(suspended(&museum.preview().await.unwrap()), [expired]);
    museum.change(own, "locked = \"inactive\"");
    let locked = "aibbotson: the directory's account is locked after wrong passwords";
    assert_eq!(suspended(&museum.preview().await.unwrap()), [locked, expired]);
    let Named::One(why) = museum.workspace().unwrap().why("ecarrick").await.unwrap() else { panic!() };
    let step = why.steps.iter().find(|step| step.name == "active").unwrap();
    assert!(step.message.starts_with("the directory's account has expired: "), "{}", step.message);
}
