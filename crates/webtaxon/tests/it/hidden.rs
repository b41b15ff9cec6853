//! Promise 1 against rights: whatever is hidden from the bind account after an apply, on each kind of server and with each
//! strategy, nobody leaves, comes in or loses a value without a gap or a brake.

use crate::museum::{DIRECTORY, Museum};
use std::sync::Arc;
use webtaxon::apply::Consent;
use webtaxon::check::StepOutcome;
use webtaxon::model::preview::{BrakeKind, ChangeKind, HeldReason, Preview};
use webtaxon_standin::{Directory, Manner, Options};

const PLAIN: &str = include_str!("../../../../demo/directory-plain.ldif");
const PLAIN_SETTINGS: &str = include_str!("../../../../demo/webtaxon-plain.toml");

/// The museum at one kind of server, after an apply of everything.
async fn settled(manner: Manner, strategy: &str) -> (Museum, Arc<Directory>) {
    let ldif = if manner == Manner::Controller { DIRECTORY } else { PLAIN };
    let directory = Arc::new(Directory::with_manner(ldif.as_bytes(), manner).unwrap());
    let museum = Museum::of(&directory, Options::default()).await;
    let settings = match manner {
        Manner::Controller => museum.settings(),
        _ => PLAIN_SETTINGS.replace("ldaps://localhost:6360", &museum.standin().url()),
    };
    let chosen = format!("strategy = \"{strategy}\"\nidentity");
    let settings = match strategy {
        "chain" | "tokens" => settings.replace("group_bases", "# group_bases"),
        _ => settings,
    };
    let settings =
        settings.replacen("match        =", &format!("strategy     = \"{strategy}\"\nmatch        ="), 1);
    assert!(settings.contains("strategy     ="), "{chosen}");
    museum.write("webtaxon.toml", settings);
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let release = BrakeKind::ALL.map(|kind| kind.name().to_owned()).to_vec();
    let consent = Consent { who: "ada".to_owned(), release, stop_after: None };
    assert!(workspace.apply(&work, &consent).await.unwrap().is_complete(), "{manner:?} {strategy}");
    let after = museum.preview().await.unwrap();
    assert!(after.is_whole(), "{manner:?} {strategy}: {:?}", after.gaps);
    assert!(after.changes.iter().all(|one| one.kind() == ChangeKind::Clash), "{:?}", after.changes);
    (museum, directory)
}

/// The changes that take something away, or let somebody in.
fn taken(preview: &Preview) -> Vec<String> {
    let loses = |change: &webtaxon::model::preview::Change| {
        change.fields.values().any(|field| field.new.as_deref().is_none_or(str::is_empty))
            || change.fields.get("roles").is_some()
    };
    let is_one = |change: &&webtaxon::model::preview::Change| match change.kind() {
        ChangeKind::Clash | ChangeKind::Wait => false,
        ChangeKind::Update => loses(change),
        _ => true,
    };
    let words =
        |change: &webtaxon::model::preview::Change| format!("{} {}", change.kind().name(), change.login);
    preview.changes.iter().filter(is_one).map(words).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_hidden_takes_nobody_away_without_a_gap_or_a_brake() {
    let attribute = |name: &str| Options {
        hidden: vec![name.to_owned()],
        unsearchable: vec![name.to_owned()],
        ..Options::default()
    };
    let below = |name: &str| Options {
        hidden_below: vec![format!("{name},DC=quillmere,DC=example")],
        ..Options::default()
    };
    let bare =
        |name: &str| Options { bare: vec![format!("{name},DC=quillmere,DC=example")], ..Options::default() };
    let places = [
        "OU=People",
        "OU=Botany,OU=People",
        "OU=Groups",
        "CN=Loans Desk Users,OU=Groups",
        "CN=Loans Desk Staff,OU=Groups",
        "CN=Curators,OU=Groups",
        "CN=Leavers,OU=Groups",
    ];
    let of_controllers = [
        "objectGUID",
        "sAMAccountName",
        "displayName",
        "mail",
        "department",
        "physicalDeliveryOfficeName",
        "userAccountControl",
        "member",
        "memberOf",
        "primaryGroupID",
        "objectClass",
    ];
    let of_others = [
        "entryUUID",
        "nsUniqueId",
        "uid",
        "displayName",
        "mail",
        "departmentNumber",
        "roomNumber",
        "pwdAccountLockedTime",
        "member",
        "uniqueMember",
        "objectClass",
    ];
    let mut tried = 0;
    for (manner, strategies) in [
        (Manner::Controller, &["lists", "upwards", "chain", "tokens"][..]),
        (Manner::Plain, &["sweep", "split"]),
        (Manner::Dirsrv, &["lists"]),
    ] {
        for strategy in strategies {
            // A server that gives few entries at once is read in portions.
            let paged_limit = (*strategy == "split").then_some(60);
            let strategy = if *strategy == "split" { "lists" } else { *strategy };
            let (museum, directory) = settled(manner, strategy).await;
            let attributes = if manner == Manner::Controller { of_controllers } else { of_others };
            let cases = attributes.iter().map(|name| (*name, attribute(name)));
            let cases = cases.chain(places.iter().map(|name| (*name, below(name))));
            let of_controllers = places.iter().filter(|_| manner == Manner::Controller);
            let cases = cases.chain(of_controllers.map(|name| (*name, bare(name))));
            for (what, options) in cases {
                museum.standin().answer_with(Arc::clone(&directory), Options { paged_limit, ..options });
                let Ok(preview) = museum.preview().await else { continue };
                let taken = taken(&preview);
                let is_told = !preview.is_whole() || !preview.brakes.is_empty();
                assert!(taken.is_empty() || is_told, "{manner:?}, {strategy}, {what}: {taken:?}");
                let loses = taken.iter().any(|words| words.starts_with("update"));
                assert!(!loses, "{manner:?}, {strategy}, {what}: {taken:?}");
                let leaves = |kind| preview.of_kind(kind).count();
                let left = leaves(ChangeKind::Suspend) + leaves(ChangeKind::Remove);
                assert!(left <= 12, "{manner:?}, {strategy}, {what}: {left} leave, braked or not");
                tried += 1;
            }
        }
    }
    assert!(tried > 80, "{tried}");
}

/// One hidden person looks like a deleted one: no client can know, as the guide says.
#[tokio::test]
async fn one_hidden_person_leaves_and_nobody_else() {
    for manner in [Manner::Controller, Manner::Plain, Manner::Dirsrv] {
        let (museum, directory) = settled(manner, "lists").await;
        let name = "CN=Tom Ashdown,OU=Entomology,OU=People,DC=quillmere,DC=example".to_owned();
        museum
            .standin()
            .answer_with(Arc::clone(&directory), Options { hidden_below: vec![name], ..Options::default() });
        let preview = museum.preview().await.unwrap();
        assert!(preview.is_whole(), "{manner:?}: {:?}", preview.gaps);
        assert_eq!(taken(&preview), ["remove tashdown"], "{manner:?}");
        let departure = preview.of_kind(ChangeKind::Remove).next().unwrap().departure().unwrap();
        assert!(departure.evidence.contains("at the last apply"), "{manner:?}: {}", departure.evidence);
    }
}

/// A fall that is true is accepted by name, and then carried out.
#[tokio::test]
async fn a_fall_that_is_true_is_accepted_by_releasing_the_brake() {
    let (museum, _) = settled(Manner::Controller, "lists").await;
    let members = |entry: &str| -> String {
        entry.lines().filter(|line| !line.starts_with("member:")).map(|line| format!("{line}\n")).collect()
    };
    let start = DIRECTORY.find("dn: CN=Curators,OU=Groups").unwrap();
    let end = start + DIRECTORY.get(start..).unwrap().find("\n\n").unwrap();
    let emptied =
        [DIRECTORY.get(..start).unwrap(), &members(&DIRECTORY[start..end]), &DIRECTORY[end..]].concat();
    let directory = Arc::new(Directory::from_ldif(emptied.as_bytes()).unwrap());
    museum.standin().answer_with(Arc::clone(&directory), Options::default());
    let workspace = museum.workspace().unwrap();
    let (preview, work) = workspace.work().await.unwrap();
    let part =
        |preview: &Preview| preview.gaps.iter().map(|gap| gap.part.clone()).collect::<Vec<_>>().join("; ");
    assert!(part(&preview).contains("members of CN=Curators"), "{:?}", preview.gaps);
    assert!(preview.brakes.iter().any(|brake| brake.kind == BrakeKind::Shrunk), "{:?}", preview.brakes);
    let loses = |preview: &Preview| {
        preview.of_kind(ChangeKind::Update).filter(|one| one.fields.contains_key("roles")).count()
    };
    assert_eq!(loses(&preview), 0, "the role stays: {:?}", preview.changes);
    let consent = |release: &[&str]| Consent {
        who: "ada".to_owned(),
        release: release.iter().map(|name| (*name).to_owned()).collect(),
        stop_after: None,
    };
    assert!(workspace.apply(&work, &consent(&[])).await.is_err());
    let all = ["shrunk", "removals", "nobody"];
    workspace.apply(&work, &consent(&all)).await.unwrap();
    let preview = museum.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    assert!(preview.brakes.iter().all(|brake| brake.kind != BrakeKind::Shrunk), "{:?}", preview.brakes);
}

/// Another server that has not caught up takes nobody away whom the last apply brought in.
#[tokio::test]
async fn a_server_that_lags_takes_nobody_away_who_just_came() {
    let (museum, _) = settled(Manner::Controller, "lists").await;
    let name = "CN=Felix Cotterill,OU=Botany,OU=People,DC=quillmere,DC=example";
    let start = DIRECTORY.find(&format!("dn: {name}\n")).unwrap();
    let end = start + DIRECTORY.get(start..).unwrap().find("\n\n").unwrap();
    let without = [DIRECTORY.get(..start).unwrap(), DIRECTORY.get(end + 2..).unwrap()].concat();
    let other = Museum::with(&without, Options::default()).await;
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let elsewhere = settings.replace(&museum.standin().url(), &other.standin().url());
    museum.write("webtaxon.toml", elsewhere);
    museum.write("museum-ca.pem", other.standin().authority_pem());
    let preview = museum.preview().await.unwrap();
    let held: Vec<_> = preview.held.iter().map(|held| (held.login.as_str(), held.reason)).collect();
    assert!(held.contains(&("fcotterill", HeldReason::Lagging)), "{held:?}");
    assert_eq!(preview.of_kind(ChangeKind::Remove).count(), 0);
    let notes = preview.intakes.first.notes.join("; ");
    assert!(notes.contains("until this server has shown them"), "{notes}");
    museum.write("webtaxon.toml", settings);
}

/// A check shows today's counts beside those of the last apply.
#[tokio::test]
async fn a_check_compares_with_the_last_apply() {
    let (museum, directory) = settled(Manner::Controller, "lists").await;
    let step = async |museum: &Museum| {
        let steps = museum.workspace().unwrap().check(std::time::Duration::ZERO, |_| {}).await;
        let step = steps.into_iter().find(|step| step.name == "footprint").unwrap();
        (step.outcome, step.message)
    };
    let (outcome, message) = step(&museum).await;
    assert_eq!(outcome, StepOutcome::Good, "{message}");
    assert!(message.starts_with("244 people seen, 244 at the last apply; 3 groups"), "{message}");
    let hidden = vec!["OU=Botany,OU=People,DC=quillmere,DC=example".to_owned()];
    museum
        .standin()
        .answer_with(Arc::clone(&directory), Options { hidden_below: hidden, ..Options::default() });
    let (outcome, message) = step(&museum).await;
    assert_eq!(outcome, StepOutcome::Warning, "{message}");
    assert!(
        message.contains("people in OU=Botany,OU=People,DC=quillmere,DC=example: 0 now, 28 at the"),
        "{message}"
    );
}
