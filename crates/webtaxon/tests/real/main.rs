//! The library against real servers: OpenLDAP's slapd and a Samba domain controller, which
//! `scripts/real-directories up` starts with the museum in them.
//!
//! The tests are ignored by default, since they need those servers; `scripts/test` runs them, and
//! fails if the servers could not be started.
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    clippy::too_many_lines,
    reason = "a test that panics has failed, as it should, and a table of cases is long"
)]

mod claims;
mod dirsrv;
mod explained;
mod filters;
mod groups;
mod hidden;
mod races;
mod ranges;
mod schema;
mod sign_ins;

use std::path::{Path, PathBuf};
use std::time::Duration;
use tempfile::TempDir;
use webtaxon::check::{CheckStep, StepOutcome};
use webtaxon::model::ldap::name::Dn;
use webtaxon::model::membership::Nest;
use webtaxon::model::preview::{ChangeKind, FieldChange, Preview};
use webtaxon::survey;
use webtaxon::{Error, Workspace};

const CONTROLLER: &str = include_str!("../../../../demo/webtaxon.toml");
const PLAIN: &str = include_str!("../../../../demo/webtaxon-plain.toml");
const ACCOUNTS: &str = include_str!("../../../../demo/accounts.csv");
const PASSWORD: &str = "botanical-garden-42";
const ACCOUNT: &str = "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example";

/// Where the servers' certificates and sockets are.
fn home() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/real-directories").canonicalize().unwrap()
}

/// A folder with the museum's settings for one of the servers.
struct Desk {
    folder: TempDir,
    settings: String,
}

impl Desk {
    fn new(settings: &str, server: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let authority = home().join("tls/ca.pem");
        let settings = settings
            .replace("ldaps://localhost:6360", server)
            .replace("museum-ca.pem", authority.to_str().unwrap());
        std::fs::write(folder.path().join("accounts.csv"), ACCOUNTS).unwrap();
        let secret = folder.path().join("museum-password.txt");
        std::fs::write(&secret, PASSWORD).unwrap();
        std::fs::set_permissions(&secret, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
        Self { folder, settings }
    }

    fn slapd() -> Self {
        Self::new(PLAIN, "ldap://localhost:3893")
    }

    fn samba() -> Self {
        Self::new(CONTROLLER, "ldap://127.0.0.2")
    }

    /// The same with one text of the settings changed.
    fn with(mut self, from: &str, to: &str) -> Self {
        assert!(self.settings.contains(from), "{from}");
        self.settings = self.settings.replace(from, to);
        self
    }

    fn workspace(&self) -> Result<Workspace, Error> {
        let file = self.folder.path().join("webtaxon.toml");
        std::fs::write(&file, &self.settings).unwrap();
        Workspace::open(file)
    }

    async fn preview(&self) -> Result<Preview, Error> {
        self.workspace()?.preview().await
    }

    async fn check(&self) -> Vec<CheckStep> {
        self.workspace().unwrap().check(Duration::ZERO, |_| {}).await
    }

    /// The museum is read whole, with the counts that `demo/README.md` explains.
    async fn is_read(&self, why: &str) -> Preview {
        let preview = self.preview().await.unwrap_or_else(|error| panic!("{why}: {error}"));
        assert!(preview.is_whole(), "{why}: {:?}", preview.gaps);
        let left: Vec<usize> = preview.intakes.first.funnel.iter().map(|step| step.left).collect();
        assert_eq!(left, [244, 81, 78, 75, 73], "{why}");
        preview
    }
}

const NAME: &str = "\"svc-loansdesk@quillmere.example\"";

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_primary_group_counts_on_a_domain_controller() {
    let everybody = Desk::samba()
        .with("CN=Loans Desk Users,OU=Groups", "CN=Domain Users,CN=Users")
        .with("group_bases", "# group_bases");
    let preview = everybody.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    // Nobody is listed there: it is everybody's primary group.
    assert_eq!(preview.intakes.first.funnel[1].left, 244);
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn everybody_who_has_signed_in_is_told_on_a_domain_controller() {
    // The controller's own group of all users, as it comes; and however membership is read.
    for strategy in ["auto", "upwards", "chain", "tokens"] {
        let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
        let desk = Desk::samba().with("CN=Loans Desk Users,OU=Groups", "CN=Users,CN=Builtin");
        let desk = desk.with("group_bases  = ", "# group_bases = ").with("[intake.fields]", &line);
        let gaps = desk.preview().await.unwrap().gaps;
        assert!(gaps.iter().any(|gap| gap.reason.contains("(S-1-5-")), "{strategy}: {gaps:?}");
    }
    let group = Dn::parse("CN=Users,CN=Builtin,DC=quillmere,DC=example").unwrap();
    let reading = Desk::samba().workspace().unwrap().nest(&group).await.unwrap();
    let told: Vec<String> = reading.gaps().iter().map(|gap| gap.reason.clone()).collect();
    assert!(told.iter().any(|gap| gap.contains("(S-1-5-")), "{told:?}");
    let broken = Nest::of(&reading, &group.key()).unwrap().broken();
    let called: Vec<_> = broken.foreign.iter().map(|one| (one.called, one.sid.as_str())).collect();
    assert!(called.contains(&(Some("Authenticated Users"), "S-1-5-11")), "{called:?}");
}

/// A global catalog shows only some attributes and members: nobody leaves, and no value is lost, on its word.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_global_catalog_takes_nothing_away() {
    let desk = Desk::samba().with("ldap://127.0.0.2", "ldap://127.0.0.2:3268");
    let preview = desk.preview().await.unwrap();
    let gaps: Vec<String> = preview.gaps.iter().map(ToString::to_string).collect();
    assert!(gaps.iter().any(|gap| gap.starts_with("the global catalog: ")), "{gaps:?}");
    let takes = [ChangeKind::Suspend, ChangeKind::Remove, ChangeKind::Import];
    assert!(preview.changes.iter().all(|change| !takes.contains(&change.kind())), "{:?}", preview.kinds);
    let empties = |field: &FieldChange| field.new.as_deref() == Some("");
    assert!(!preview.changes.iter().any(|change| change.fields.values().any(empties)));
    let steps = desk.check().await;
    assert!(steps.iter().any(|step| step.message.contains("the port of the global catalog")), "{steps:?}");
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn every_way_to_a_domain_controller() {
    for (from, to, why) in [
        ("", "", "StartTLS, user@domain"),
        ("ldap://127.0.0.2", "ldaps://127.0.0.2", "TLS from the beginning"),
        ("ldap://127.0.0.2", "ldap://localhost:9\", \"ldaps://127.0.0.2", "the second server"),
        (NAME, "'QUILLMERE\\svc-loansdesk'", "DOMAIN\\user"),
        (NAME, &format!("\"{ACCOUNT}\""), "the account's DN"),
        ("page     = 100", "page = 1000", "one page"),
        ("page     = 100", "page = 7", "many pages"),
    ] {
        Desk::samba().with(from, to).is_read(why).await;
    }
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn every_way_to_slapd() {
    // slapd refers to itself by ldap://: it is named, too, so that the bind goes there.
    const LDAP: &str = "ldap://localhost:3893";
    const TLS: &str = "ldaps://localhost:6393\", \"ldap://localhost:3893";
    let socket = home().join("slapd/socket").display().to_string().replace('/', "%2F");
    let local = format!("ldapi://{socket}\", \"{LDAP}");
    let bind = format!("bind       = \"{ACCOUNT}\"");
    let password = "password   = { file = \"museum-password.txt\" }";
    let tls = home().join("tls");
    let certificate = format!(
        "certificate = {{ chain = \"{0}/loansdesk.pem\", key = \"{0}/loansdesk.key\" }}\nbind = {{ external = true }}",
        tls.display()
    );
    let simple = || Desk::slapd();
    let external = |how: &str| Desk::slapd().with(&bind, how).with(password, "");
    for (desk, why) in [
        (simple(), "StartTLS, the account's DN"),
        (simple().with(LDAP, TLS), "TLS from the beginning"),
        (simple().with(LDAP, &local), "a socket of this machine"),
        (external(&certificate).with(LDAP, &local), "whoever is at the socket"),
        (external(&certificate), "a client certificate by StartTLS"),
        (external(&certificate).with(LDAP, TLS), "a client certificate"),
    ] {
        desk.is_read(why).await;
    }
}

/// Its schema has no attribute for a lock that only an administrator takes away; it gives it all the same.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn what_a_proxy_gives_beyond_its_schema_counts() {
    // slapd is named, too, for the part of the tree for which it refers to itself.
    let servers = "ldap://localhost:3895\", \"ldap://localhost:3893";
    // Nothing in the settings names the lock.
    let proxy = Desk::slapd().with("ldap://localhost:3893", servers).with("active  ", "# active  ");
    let proxy = proxy.with("[directory.museum]", "[directory.museum]\nplain = true");
    let mut connection = proxy.workspace().unwrap().connect().await.unwrap();
    let schema = webtaxon::directory::read_schema(&mut connection).await.unwrap();
    assert!(schema.find("entryUUID").is_some() && schema.find("pwdAccountLockedTime").is_none());
    // A proxy may spell names in another way.
    let told = |preview: Preview| -> Vec<String> {
        preview
            .changes
            .iter()
            .map(|one| format!("{} {} {:?}", one.kind().name(), one.login, one.fields))
            .collect()
    };
    let direct = told(Desk::slapd().is_read("slapd").await);
    assert_eq!(told(proxy.is_read("the proxy").await), direct);
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn the_same_people_come_from_both_servers() {
    let (slapd, samba) = (Desk::slapd().is_read("slapd").await, Desk::samba().is_read("samba").await);
    // slapd keeps the demo's identities: what the simulated directory gives.
    let kinds = |preview: &Preview| -> Vec<(String, String)> {
        preview.changes.iter().map(|change| (change.kind().name().to_owned(), change.login.clone())).collect()
    };
    let told = kinds(&slapd);
    for change in [("import", "fcotterill"), ("adopt", "ppinchbeck"), ("suspend", "gfennimore")] {
        assert!(told.contains(&(change.0.to_owned(), change.1.to_owned())), "{change:?}: {told:?}");
    }
    // A controller makes its own: every link is a stranger's, and nobody is taken for somebody else.
    assert!(samba.changes.iter().all(|change| change.kind().name() != "update"));
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn every_strategy_finds_the_same_on_each_server() {
    for strategy in ["downwards", "sweep", "auto"] {
        let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
        for (desk, server) in [(Desk::slapd(), "slapd"), (Desk::samba(), "Samba")] {
            let preview = desk.with("[intake.fields]", &line).is_read(&format!("{server}, {strategy}")).await;
            let swept =
                preview.intakes.first.notes.iter().any(|note| note.contains("were read with one search"));
            assert_eq!(swept, strategy == "sweep", "{server}: {:?}", preview.intakes.first.notes);
        }
    }
}

/// slapd's schema knows no order of `shadowExpire`, and whoever expires one day is in until then.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn an_expiry_to_come_keeps_nobody_out_on_slapd() {
    let desk = Desk::slapd().with("active  ", "# active  ");
    let mut connection = desk.workspace().unwrap().connect().await.unwrap();
    let schema = webtaxon::directory::read_schema(&mut connection).await.unwrap();
    assert!(!schema.find("shadowExpire").unwrap().is_ordered);
    let preview = desk.preview().await.unwrap();
    assert!(
        preview.changes.iter().any(|change| change.login == "bthornbury" && change.kind().name() == "import")
    );
}

/// Every class of groups that slapd has schemas for: by logins, by names with bits, and by searches, which its
/// dynlist overlay fills in; and all of them in one.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn every_kind_of_group_is_read_on_slapd() {
    let at = |group: &str, strategy: &str| {
        let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
        let desk = Desk::slapd().with("CN=Loans Desk Users,OU=Groups", group);
        desk.with("group_bases", "# group_bases").with("[intake.fields]", &line)
    };
    let botanists = at("OU=Botany,OU=People", "auto").preview().await.unwrap().intakes.first.funnel[1].left;
    assert!(botanists > 20, "{botanists}");
    for strategy in ["downwards", "sweep"] {
        for (group, people) in [
            ("CN=By Login,OU=Kinds", 2),
            ("CN=By Unique Name,OU=Kinds", 1),
            ("CN=By Search,OU=Kinds", botanists),
            // Ada is a botanist.
            ("CN=By All,OU=Kinds", botanists + 1),
        ] {
            let preview = at(group, strategy).preview().await.unwrap();
            assert!(preview.is_whole(), "{group}, {strategy}: {:?}", preview.gaps);
            assert_eq!(preview.intakes.first.funnel[1].left, people, "{group}, {strategy}");
        }
    }
}

/// A real controller works out itself who is in which group, and says the same as the lists do.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn what_a_domain_controller_works_out_is_what_the_lists_say() {
    let told = |preview: &Preview| -> Vec<String> {
        preview.changes.iter().map(|one| format!("{} {}", one.kind().name(), one.login)).collect()
    };
    for (group, why) in [
        ("CN=Loans Desk Users,OU=Groups", "the museum's nest"),
        ("CN=Loans Desk Terminal Users,OU=Groups", "the primary group"),
        ("CN=Domain Users,CN=Users", "everybody's primary group"),
    ] {
        let desk = |strategy: &str| {
            let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
            let desk = Desk::samba().with("CN=Loans Desk Users,OU=Groups", group);
            desk.with("group_bases  = ", "# group_bases = ").with("[intake.fields]", &line)
        };
        let expected = desk("downwards").preview().await.unwrap();
        assert!(expected.is_whole(), "{why}: {:?}", expected.gaps);
        for strategy in ["upwards", "chain", "tokens"] {
            let preview = desk(strategy).preview().await.unwrap();
            assert!(preview.is_whole(), "{strategy}, {why}: {:?}", preview.gaps);
            assert_eq!(preview.intakes.first.funnel, expected.intakes.first.funnel, "{strategy}, {why}");
            assert_eq!(told(&preview), told(&expected), "{strategy}, {why}");
        }
    }
}

/// slapd keeps `memberOf` by an overlay, which does nothing about what was loaded without it: most people seem to
/// be in no group, and nobody leaves on its word.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn what_slapd_says_upwards_lets_in_and_takes_nobody_away() {
    let expected = Desk::slapd().is_read("by lists").await;
    let desk = Desk::slapd().with("[intake.fields]", "strategy = \"upwards\"\n[intake.fields]");
    let preview = desk.preview().await.unwrap();
    assert!(
        preview.intakes.first.funnel[1].left < expected.intakes.first.funnel[1].left,
        "{:?}",
        preview.intakes.first.funnel
    );
    assert!(preview.gaps.iter().all(|gap| gap.reason.contains("need not maintain")), "{:?}", preview.gaps);
    assert!(preview.changes.iter().all(|one| !["suspend", "remove"].contains(&one.kind().name())));
    for strategy in ["chain", "tokens"] {
        let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
        let desk = Desk::slapd().with("group_bases", "# group_bases").with("[intake.fields]", &line);
        let preview = desk.preview().await.unwrap();
        assert!(preview.gaps.iter().any(|gap| gap.reason.contains("only a domain controller")), "{strategy}");
    }
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_server_with_a_hard_limit_is_read_in_parts() {
    let desk = Desk::slapd().with("svc-loansdesk,", "svc-scanner,");
    let preview = desk.is_read("100 entries at once").await;
    assert!(
        preview.intakes.first.notes.iter().any(|note| note.contains("parts by uid")),
        "{:?}",
        preview.intakes.first.notes
    );
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_part_that_is_kept_elsewhere_is_followed_or_takes_the_proof_away() {
    let follow = "references = \"follow\"";
    let preview = Desk::slapd().is_read("followed").await;
    assert!(
        preview.intakes.first.notes.iter().any(|note| note.contains("ou=Partners")),
        "{:?}",
        preview.intakes.first.notes
    );
    let preview = Desk::slapd().with(follow, "references = \"ignore\"").preview().await.unwrap();
    assert!(!preview.is_whole() && preview.gaps[0].reason.contains("was not followed"), "{:?}", preview.gaps);
    let preview = Desk::slapd().with(follow, "references = \"refuse\"").preview().await.unwrap();
    assert!(
        !preview.is_whole() && preview.gaps[0].reason.contains("held by another server"),
        "{:?}",
        preview.gaps
    );
    // The password goes to no server that the settings do not name: asked anonymously, it refuses.
    let unnamed = Desk::slapd().with("ldap://localhost:3893", "ldaps://localhost:6393");
    let preview = unnamed.preview().await.unwrap();
    assert!(preview.gaps[0].reason.contains("insufficientAccessRights"), "{:?}", preview.gaps);
    // A controller refers to its other trees from the domain's root, and keeps to itself if asked.
    let root = Desk::samba().with("[\"OU=People,DC=quillmere,DC=example\"]", "[\"DC=quillmere,DC=example\"]");
    assert!(root.preview().await.unwrap().is_whole());
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_domain_controller_says_why_it_refuses_a_bind() {
    for (login, password, message) in [
        ("svc-loansdesk", "wrong", "the name or the password is wrong: invalidCredentials (49)"),
        ("svc-nobody", PASSWORD, "the name or the password is wrong"),
        ("svc-disabled", "wrong", "the name or the password is wrong"),
        ("svc-disabled", PASSWORD, "the account is disabled"),
        ("svc-expired", PASSWORD, "the account has expired"),
        ("svc-newcomer", PASSWORD, "the account's password must be changed first"),
    ] {
        let desk = Desk::samba().with("svc-loansdesk@", &format!("{login}@"));
        std::fs::write(desk.folder.path().join("museum-password.txt"), password).unwrap();
        let told = desk.preview().await.unwrap_err().to_string();
        assert!(told.contains(message), "{login}: {told}");
    }
    let plain = Desk::samba().with("page     = 100", "plain = true");
    let told = plain.preview().await.unwrap_err().to_string();
    assert!(told.contains("strongerAuthRequired (8)"), "{told}");
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_check_of_each_server_is_in_order_and_tells_what_is_not() {
    for (desk, who) in [(Desk::slapd(), "OpenLDAP"), (Desk::samba(), "Samba")] {
        let steps = desk.check().await;
        let strange: Vec<_> = steps.iter().filter(|step| step.outcome != StepOutcome::Good).collect();
        assert!(strange.len() == 1 && strange[0].message.contains("242 of 244"), "{who}: {strange:?}");
        let server = steps.iter().find(|step| step.name == "server").unwrap();
        assert!(server.message.contains(who), "{}", server.message);
        let bind = steps.iter().find(|step| step.name == "bind").unwrap();
        assert!(
            bind.message.to_lowercase().contains("cn=svc-loansdesk,ou=service accounts"),
            "{}",
            bind.message
        );
    }
    let ending = Desk::slapd().with("svc-loansdesk,", "svc-scanner,").check().await;
    let told = ending.iter().filter(|step| step.name == "password").nth(1).unwrap();
    assert!(told.outcome == StepOutcome::Warning && told.message.contains("expires in 9 days"), "{told:?}");
    let limited = ending.iter().find(|step| step.name == "filter").unwrap();
    assert!(
        limited.outcome == StepOutcome::Warning && limited.message.contains("matches 100 entries, and more"),
        "{limited:?}"
    );
    let mighty = Desk::samba().with("svc-loansdesk@", "svc-mighty@").check().await;
    let rights = mighty.iter().find(|step| step.name == "rights").unwrap();
    assert_eq!(rights.outcome, StepOutcome::Warning);
    for power in ["Domain Admins", "Administrators", "it may write"] {
        assert!(rights.message.contains(power), "{power}: {}", rights.message);
    }
    let untrusted = Desk::slapd().with("ca.pem", "loansdesk.pem").check().await;
    let tls = untrusted.iter().find(|step| step.name == "tls").unwrap();
    assert!(tls.outcome == StepOutcome::Bad && tls.remedy.contains("fingerprint = \"sha256:"), "{tls:?}");
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_draft_of_each_server_runs_as_it_is() {
    // One account at the domain controller has ended.
    for (desk, login, active) in [(Desk::slapd(), "uid", 241), (Desk::samba(), "sAMAccountName", 240)] {
        let workspace = desk.workspace().unwrap();
        let mut connection = workspace.connect().await.unwrap();
        let directory = workspace.settings().directory(&workspace.settings().intakes.first).unwrap();
        let options = survey::DraftOptions { directory, accounts: "list.csv" };
        let draft = survey::draft(&mut connection, &options).await.unwrap();
        std::fs::write(
            desk.folder.path().join("list.csv"),
            "login,link,state,name,email,department,phone,room\n",
        )
        .unwrap();
        let file = desk.folder.path().join("drafted.toml");
        std::fs::write(&file, &draft.text).unwrap();
        let workspace = Workspace::open(&file).unwrap_or_else(|error| panic!("{error}: {}", draft.text));
        assert_eq!(workspace.settings().intakes.first.fields["login"].from_attributes(), [login]);
        let preview = workspace.preview().await.unwrap();
        let left: Vec<usize> = preview.intakes.first.funnel.iter().map(|step| step.left).collect();
        assert!(preview.is_whole(), "{:?}", preview.gaps);
        assert_eq!(left, [244, active, active], "{}", draft.text);
        let steps = workspace.check(Duration::ZERO, |_| {}).await;
        assert!(steps.iter().all(|step| step.outcome == StepOutcome::Good), "{steps:?}");
    }
}
