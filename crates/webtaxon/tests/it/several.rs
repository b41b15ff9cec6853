//! Several intakes of one settings file, over the museum's directory and over two.

use crate::museum::{DIRECTORY, Museum, told};
use std::collections::BTreeMap;
use std::time::Duration;
use webtaxon::apply::Consent;
use webtaxon::directory::read;
use webtaxon::model::ldap::identity::CALLED;
use webtaxon::model::preview::why::{self, Subject, Why};
use webtaxon::model::preview::{ChangeKind, Memory, Situation};
use webtaxon::model::reading::Request;
use webtaxon::{Named, Workspace, report};
use webtaxon_standin::Options;

/// A second intake: the partners, and whoever of the staff the first one leaves.
const PARTNERS: &str = r#"
[[intake]]
name      = "partners"
directory = "museum"
bases     = ["OU=Partners,DC=quillmere,DC=example", "OU=Botany,OU=People,DC=quillmere,DC=example"]
filter    = "(&(objectCategory=person)(objectClass=user))"
groups    = ["CN=Loans Desk Users,OU=Groups,DC=quillmere,DC=example"]
not_in_group = ["CN=Leavers,OU=Groups,DC=quillmere,DC=example"]
deleted   = ["CN=Hugo Vanish,OU=Registry,OU=People,DC=quillmere,DC=example"]

[intake.fields]
login      = { from = "sAMAccountName", case = "lower" }
name       = { from = "displayName" }
email      = { from = "mail", required = true, unique = true }
department = { value = "Partners" }
"#;

fn with(museum: &Museum, more: &str) -> Workspace {
    let settings = museum.settings();
    let at = settings.find("[brakes]").unwrap();
    museum.write("webtaxon.toml", format!("{}{more}\n{}", &settings[..at], &settings[at..]));
    museum.workspace().unwrap()
}

#[tokio::test]
async fn a_second_intake_brings_in_whom_the_first_leaves() {
    let museum = Museum::open().await;
    let alone = museum.preview().await.unwrap();
    let workspace = with(&museum, PARTNERS);
    let (preview, work) = workspace.work().await.unwrap();
    let earlier = preview.intakes.further[0].funnel.last().unwrap();
    assert_eq!(earlier.step.name(), "earlier");
    assert!(earlier.lost > 5, "the botanists are staff: {earlier:?}");
    let logins = |preview: &webtaxon::model::preview::Preview| -> Vec<String> {
        preview.of_kind(ChangeKind::Import).map(|change| change.login.clone()).collect()
    };
    let mut expected = logins(&alone);
    expected.push("obrandreth".to_owned());
    expected.sort();
    assert_eq!(logins(&preview), expected, "Ottilie Brandreth comes from outside the staff's bases");
    let ottilie = preview.of_kind(ChangeKind::Import).find(|change| change.login == "obrandreth").unwrap();
    assert_eq!(ottilie.fields["department"].new.as_deref(), Some("Partners"));
    assert_eq!(preview.of_kind(ChangeKind::Remove).count(), alone.of_kind(ChangeKind::Remove).count() - 3);
    assert_eq!(
        preview.of_kind(ChangeKind::Suspend).count(),
        alone.of_kind(ChangeKind::Suspend).count() + 3,
        "dpryce, hvanish, mfallow"
    );
    let consent =
        Consent { who: "ada".into(), release: vec!["seats".into(), "first".into()], stop_after: None };
    assert!(workspace.apply(&work, &consent).await.unwrap().is_complete());
    let after = workspace.preview().await.unwrap();
    assert!(after.kinds.iter().all(|(kind, _)| !kind.is_done()), "{:?}", after.kinds);
    let Named::One(why) = workspace.why("obrandreth").await.unwrap() else { panic!() };
    assert_eq!((why.intake.as_str(), why.selected), ("partners", true));
    let Named::One(why) = workspace.why("bthornbury").await.unwrap() else { panic!() };
    assert_eq!(why.intake, "staff");
}

#[tokio::test]
async fn a_check_looks_at_each_intake_and_a_comparison_takes_both_sides_whole() {
    let museum = Museum::open().await;
    let alone = museum.workspace().unwrap();
    let workspace = with(&museum, PARTNERS);
    let steps = workspace.check(Duration::ZERO, |_| {}).await;
    let of = |intake: &str, name: &str| {
        steps.iter().filter(|step| step.name == name && step.message.starts_with(intake)).count()
    };
    assert_eq!((of("staff: ", "base"), of("partners: ", "base")), (2, 2), "{steps:?}");
    assert_eq!((of("staff: ", "connect"), of("partners: ", "connect")), (of("staff: ", "connect"), 0));
    assert_eq!(steps.iter().filter(|step| step.name == "accounts").count(), 1);
    let comparison = alone.compare(&workspace).await.unwrap();
    assert!(comparison.is_whole());
    let come_in: Vec<_> = comparison.come_in.iter().map(|one| one.login.as_str()).collect();
    assert_eq!(come_in, ["obrandreth"]);
    assert!(comparison.go_out.is_empty() && comparison.differ.is_empty(), "{:?}", comparison.differ);
}

/// `why` reads one person by every intake where nothing depends on others: the explanation is the same.
#[tokio::test]
async fn one_person_is_explained_by_all_intakes_as_everybody_is() {
    let museum = Museum::open().await;
    let workspace = with(&museum, PARTNERS);
    let settings = workspace.settings();
    let accounts = workspace.accounts().await.unwrap();
    let links: Vec<_> = accounts.iter().filter_map(|account| account.link.clone()).collect();
    let filters = settings.intakes.iter().flat_map(|intake| intake.filter.attributes());
    let more: Vec<String> = CALLED.into_iter().chain(filters).map(str::to_owned).collect();
    let mut readings = Vec::new();
    for intake in &settings.intakes {
        let request = Request::of(intake).with(&more);
        readings.push(read(&workspace.access().await.unwrap(), &request, &links).await.unwrap());
    }
    let memory = Memory::on(jiff::Zoned::now().date());
    let situation = Situation::new(settings, &readings, &accounts, &memory);
    let mut intakes = BTreeMap::new();
    for login in DIRECTORY.lines().filter_map(|line| line.strip_prefix("sAMAccountName: ")).step_by(2) {
        let [found] = why::find(situation, login)[..] else { continue };
        let Some((intake, _)) = found.person else { continue };
        let subject = Subject { person: found.person, stranger: None, account: found.account };
        // The clauses contain the time.
        let told = |why: &Why| {
            let mut told = report::why(why);
            let steps = told["steps"].as_array_mut().unwrap();
            steps.iter_mut().for_each(|step| drop(step.as_object_mut().unwrap().remove("clauses")));
            told
        };
        let whole = told(&Why::of(situation, subject).unwrap());
        let Named::One(alone) = workspace.why(login).await.unwrap() else { panic!("{login}") };
        assert_eq!(told(&alone), whole, "{login}");
        *intakes.entry(intake).or_insert(0) += 1;
    }
    assert!(intakes[&0] > 60 && intakes[&1] > 0, "{intakes:?}");
}

#[tokio::test]
async fn two_directories_are_read_each_by_its_own_intake() {
    let museum = Museum::open().await;
    let guests = "dn: DC=guests\nobjectClass: domain\ndc: guests\n\ndn: CN=Zed,DC=guests\nobjectClass: inetOrgPerson\n\
        cn: Zed\nuid: zed\nmail: zed@guests.example\nentryUUID: 11111111-2222-4333-8444-555555555555\n";
    let other = Museum::with(guests, Options { anonymous: true, ..Options::default() }).await;
    museum.write("guests-ca.pem", other.standin().authority_pem());
    let url = other.standin().url();
    let more = format!(
        "[[intake]]\nname = \"guests\"\ndirectory = \"guests\"\nbases = \"DC=guests\"\nfilter = \"(uid=*)\"\n\
         [intake.fields]\nlogin = {{ from = \"uid\" }}\nname = {{ from = \"cn\" }}\nemail = {{ from = \"mail\" }}\n\
         [directory.guests]\nservers = [\"{url}\"]\ntrust = {{ authority = \"guests-ca.pem\" }}\n"
    );
    let workspace = with(&museum, &more);
    let preview = workspace.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    assert_eq!(preview.intakes.further[0].server, url);
    assert!(preview.of_kind(ChangeKind::Import).any(|change| change.login == "zed"));
    // Without the second directory nobody's account is taken away, and there is no preview to apply.
    drop(other);
    let error = workspace.preview().await.unwrap_err();
    assert!(told(&error).1.starts_with("WX03"), "{error}");
    assert_eq!(told(&workspace.take_snapshot(false).await.unwrap_err()).1, "WX0109");
}

/// The state is lost, and the directory that the accounts come from is read as another one.
#[tokio::test]
async fn an_account_that_names_another_directory_is_left_alone() {
    let museum = Museum::open().await;
    museum.write("accounts.csv", "login,link,state,name,email,department,room,roles,source\n");
    museum.change("[accounts]", "[accounts]\norigin = \"source\"");
    let workspace = museum.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let consent = Consent { who: "ada".into(), release: vec!["seats".into()], stop_after: None };
    assert!(workspace.apply(&work, &consent).await.unwrap().is_complete());
    let accounts = std::fs::read_to_string(museum.path().join("accounts.csv")).unwrap();
    assert!(accounts.lines().skip(1).all(|row| row.ends_with(",museum")), "{accounts}");
    std::fs::remove_file(museum.path().join("webtaxon.state.sqlite")).unwrap();
    let text = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let (from, to) = (text.find("[directory.museum]").unwrap(), text.find("[accounts]").unwrap());
    let twin = text[from..to].replace("[directory.museum]", "[directory.twin]");
    let text = text.replace("directory    = \"museum\"", "directory    = \"twin\"");
    museum.write("webtaxon.toml", format!("{twin}\n{text}"));
    let preview = museum.preview().await.unwrap();
    let clashes = preview.of_kind(ChangeKind::Clash).count();
    assert_eq!((clashes, preview.changes.len()), (work.edits().len(), work.edits().len()));
    museum.write("webtaxon.toml", format!("{twin}\n{text}").replace("origin = ", "# origin = "));
    assert!(museum.preview().await.unwrap().changes.is_empty(), "nothing else says where they come from");
}
