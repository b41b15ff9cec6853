//! Promise 1 against the access rules of real servers: whatever is hidden from the bind account after an apply, nobody
//! leaves, comes in or loses a value without a gap or a brake.
//!
//! By itself, since it changes what others read.

use super::{ACCOUNT, CONTROLLER, Desk, PLAIN, home};
use std::io::Write as _;
use std::process::{Command, Stdio};
use webtaxon::apply::Consent;
use webtaxon::model::preview::{BrakeKind, Change, ChangeKind, Preview};

const TOP: &str = "DC=quillmere,DC=example";
const PASSWORD: &str = "Keeper-of-the-Keys-7";
const ONE_PERSON: &str = "CN=Tom Ashdown,OU=Entomology,OU=People";

/// A part of the directory that the bind account may no longer read.
#[derive(Clone, Copy, Debug)]
enum Hidden {
    /// An entry and all below it.
    Entry(&'static str),
    Attribute(&'static str),
}

/// The places that the settings name or people are in.
const PLACES: [&str; 6] = [
    "OU=People",
    "OU=Botany,OU=People",
    "OU=Groups",
    "CN=Loans Desk Users,OU=Groups",
    "CN=Loans Desk Staff,OU=Groups",
    "CN=Leavers,OU=Groups",
];

trait Server {
    fn desk(&self) -> Desk;
    /// The attributes that the settings use.
    fn attributes(&self) -> &'static [&'static str];
    fn hide(&self, what: Hidden);
    fn show(&self, what: Hidden);
}

/// The output of a program.
fn run(program: &str, arguments: &[&str], input: &str) -> String {
    let mut tool = Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::inherit())
        .spawn()
        .unwrap();
    tool.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let output = tool.wait_with_output().unwrap();
    assert!(output.status.success(), "{program} {arguments:?}: {input}");
    String::from_utf8(output.stdout).unwrap()
}

fn modify(server: &str, keeper: &str, input: &str) {
    run("ldapmodify", &["-x", "-H", server, "-D", keeper, "-w", PASSWORD], input);
}

struct Slapd;

impl Slapd {
    fn rule(change: &str) {
        let text = format!("dn: olcDatabase={{1}}mdb,cn=config\nchangetype: modify\n{change}\n");
        modify("ldap://127.0.0.1:3893", "cn=config", &text);
    }
}

impl Server for Slapd {
    fn desk(&self) -> Desk {
        Desk::slapd()
    }

    fn attributes(&self) -> &'static [&'static str] {
        &["member", "uid", "mail", "departmentNumber", "pwdAccountLockedTime", "entryUUID", "objectClass"]
    }

    fn hide(&self, what: Hidden) {
        let what = match what {
            Hidden::Entry(name) => format!("dn.subtree=\"{name},{TOP}\""),
            Hidden::Attribute(name) => format!("attrs={name}"),
        };
        Self::rule(&format!(
            "add: olcAccess\nolcAccess: {{0}}to {what} by dn.exact=\"{ACCOUNT}\" none by * break"
        ));
    }

    fn show(&self, _: Hidden) {
        Self::rule("delete: olcAccess\nolcAccess: {0}");
    }
}

struct Dirsrv;

impl Dirsrv {
    fn rule(verb: &str, what: Hidden) {
        let what = match what {
            Hidden::Entry(name) => format!("(target=\"ldap:///{name},{TOP}\")(targetattr=\"*\")"),
            Hidden::Attribute(name) => format!("(targetattr=\"{name}\")"),
        };
        let rule = format!("{what}(version 3.0; acl \"hides\"; deny (all) userdn=\"ldap:///{ACCOUNT}\";)");
        let text = format!("dn: {TOP}\nchangetype: modify\n{verb}: aci\naci: {rule}\n");
        modify("ldap://127.0.0.1:3891", "cn=Directory Manager", &text);
    }
}

impl Server for Dirsrv {
    fn desk(&self) -> Desk {
        Desk::new(PLAIN, "ldap://127.0.0.1:3891")
            .with("[directory.museum]", "[directory.museum]\nplain = true")
            .with("(!(pwdAccountLockedTime=*))", "(!(nsAccountLock=true))")
    }

    fn attributes(&self) -> &'static [&'static str] {
        &["member", "uid", "mail", "departmentNumber", "nsAccountLock", "entryUUID", "objectClass"]
    }

    fn hide(&self, what: Hidden) {
        Self::rule("add", what);
    }

    fn show(&self, what: Hidden) {
        Self::rule("delete", what);
    }
}

struct Samba {
    /// The bind account's SID.
    account: String,
    entries: Vec<SambaEntry>,
}

/// A person, a group or a container of the museum.
struct SambaEntry {
    dn: String,
    guid: String,
    /// Its security descriptor, in SDDL, as entries of its class have it.
    descriptor: String,
}

impl Samba {
    fn new() -> Self {
        let mut entries = Vec::new();
        for (class, example) in
            [("user", ONE_PERSON), ("group", "CN=Leavers,OU=Groups"), ("organizationalUnit", "OU=People")]
        {
            let example = format!("--objectdn={example},{TOP}");
            let told = run("samba-tool", &["dsacl", "get", &example, "-H", &Self::database()], "");
            let filter = format!("(objectClass={class})");
            for place in ["OU=People", "OU=Groups"] {
                let names = Self::values(place, &filter, "dn");
                let guids = Self::values(place, &filter, "objectGUID");
                assert_eq!(names.len(), guids.len());
                let descriptor = || told.lines().last().unwrap().to_owned();
                let one = |(dn, guid)| SambaEntry { dn, guid, descriptor: descriptor() };
                entries.extend(names.into_iter().zip(guids).map(one));
            }
        }
        let account = ACCOUNT.strip_suffix(TOP).unwrap().trim_end_matches(',');
        Self { account: Self::values(account, "(objectClass=*)", "objectSid").remove(0), entries }
    }

    fn database() -> String {
        home().join("samba/private/sam.ldb").display().to_string()
    }

    /// The values of an attribute, or names of entries.
    fn values(base: &str, filter: &str, attribute: &str) -> Vec<String> {
        let base = format!("{base},{TOP}");
        let found = run("ldbsearch", &["-H", &Self::database(), "-b", &base, filter, attribute], "");
        let value = |line: &str| line.strip_prefix(attribute)?.strip_prefix(": ").map(str::to_owned);
        found.lines().filter_map(value).collect()
    }

    /// Gives each entry its descriptor, with `denies` before all else.
    fn rights(&self, what: Hidden, denies: &str) {
        let (people, groups) = (format!("OU=People,{TOP}"), format!("OU=Groups,{TOP}"));
        let place = |name: &str| vec![format!("{name},{TOP}")];
        let places = match what {
            Hidden::Entry(name) => place(name),
            Hidden::Attribute("member") => vec![groups],
            Hidden::Attribute("objectClass") => vec![people, groups],
            Hidden::Attribute(_) => vec![people],
        };
        let mut changes = String::new();
        for SambaEntry { dn, guid, descriptor } in &self.entries {
            if places.iter().any(|place| dn.ends_with(place)) {
                let descriptor = descriptor.replacen('(', &format!("{denies}("), 1);
                changes += &format!("dn: <GUID={guid}>\nchangetype: modify\nreplace: nTSecurityDescriptor\n");
                changes += &format!("nTSecurityDescriptor: {descriptor}\n\n");
            }
        }
        run("ldbmodify", &["-H", &Self::database()], &changes);
    }
}

impl Server for Samba {
    fn desk(&self) -> Desk {
        Desk::new(CONTROLLER, "ldap://127.0.0.2")
    }

    fn attributes(&self) -> &'static [&'static str] {
        &["member", "sAMAccountName", "mail", "department", "userAccountControl", "objectGUID", "objectClass"]
    }

    fn hide(&self, what: Hidden) {
        let account = &self.account;
        let denies = match what {
            Hidden::Entry(_) => format!("(D;;RPLCLO;;;{account})"),
            Hidden::Attribute(name) => {
                let filter = format!("(lDAPDisplayName={name})");
                let guid = Self::values("CN=Schema,CN=Configuration", &filter, "schemaIDGUID").remove(0);
                format!("(OD;;RP;{guid};;{account})")
            }
        };
        self.rights(what, &denies);
    }

    fn show(&self, what: Hidden) {
        self.rights(what, "");
    }
}

/// What it would take away from accounts, or let in.
fn taken(preview: &Preview) -> Vec<String> {
    let takes = |change: &&Change| match change.kind() {
        ChangeKind::Clash | ChangeKind::Wait => false,
        ChangeKind::Update => change.fields.values().any(|field| field.new.as_deref() == Some("")),
        _ => true,
    };
    let words = |change: &Change| format!("{} {}", change.kind().name(), change.login);
    preview.changes.iter().filter(takes).map(words).collect()
}

/// The desk, once it has applied everything.
async fn settled(desk: Desk) -> Desk {
    let none = "login,link,state,name,email,department,room,roles\n";
    std::fs::write(desk.folder.path().join("accounts.csv"), none).unwrap();
    let workspace = desk.workspace().unwrap();
    let (_, work) = workspace.work().await.unwrap();
    let release = BrakeKind::ALL.map(|kind| kind.name().to_owned()).to_vec();
    let consent = Consent { who: "ada".to_owned(), release, stop_after: None };
    assert!(workspace.apply(&work, &consent).await.unwrap().is_complete());
    is_settled(&desk).await;
    desk
}

async fn is_settled(desk: &Desk) {
    let preview = desk.preview().await.unwrap();
    assert!(preview.is_whole() && taken(&preview).is_empty(), "{:?}", preview.gaps);
}

async fn preview_without(server: &dyn Server, desk: &Desk, what: Hidden) -> Result<Preview, webtaxon::Error> {
    server.hide(what);
    let preview = desk.preview().await;
    server.show(what);
    preview
}

async fn nothing_hidden_takes_anybody_away(server: &dyn Server) {
    let desk = settled(server.desk()).await;
    let attributes = server.attributes().iter().map(|name| Hidden::Attribute(name));
    let mut refused = Vec::new();
    for what in PLACES.map(Hidden::Entry).into_iter().chain(attributes) {
        let preview = match preview_without(server, &desk, what).await {
            Ok(preview) => preview,
            Err(error) => {
                refused.push(format!("{what:?}: {error}"));
                continue;
            }
        };
        let is_told = !preview.is_whole() || !preview.brakes.is_empty();
        assert!(is_told, "{what:?} is missed");
        let loses = taken(&preview);
        assert!(loses.is_empty(), "{what:?}, braked or not: {loses:?}");
    }
    assert!(refused.is_empty(), "without any preview: {refused:?}");
    let preview = preview_without(server, &desk, Hidden::Entry(ONE_PERSON)).await.unwrap();
    assert_eq!(taken(&preview), ["remove tashdown"], "what no client can know");
    is_settled(&desk).await;
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn nothing_hidden_takes_anybody_away_on_slapd() {
    nothing_hidden_takes_anybody_away(&Slapd).await;
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn nothing_hidden_takes_anybody_away_on_389() {
    nothing_hidden_takes_anybody_away(&Dirsrv).await;
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn nothing_hidden_takes_anybody_away_on_samba() {
    let server = Samba::new();
    nothing_hidden_takes_anybody_away(&server).await;
    for strategy in ["upwards", "chain", "tokens"] {
        let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
        let desk =
            settled(server.desk().with("[intake.fields]", &line).with("group_bases", "# group_bases")).await;
        let cases = [Hidden::Entry("CN=Loans Desk Staff,OU=Groups"), Hidden::Attribute("memberOf")];
        for what in cases {
            let preview = preview_without(&server, &desk, what).await.unwrap();
            assert!(taken(&preview).is_empty(), "{strategy}, {what:?}: {:?}", preview.changes);
        }
    }
}
