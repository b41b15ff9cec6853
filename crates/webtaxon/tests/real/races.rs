//! Real servers on which people and a nested group get other names all the time: no reading takes a member away.

use super::{PASSWORD, home};
use std::io::Write as _;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering::Relaxed;
use std::time::Duration;
use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::model::preview::{BrakeKind, ChangeKind};

const KEEPER: &str = "Keeper-of-the-Keys-7";
/// One unit for people who are renamed alone, one for people and groups: references to deleted entries are removed later.
const UNITS: [&str; 2] = ["Racers", "Races"];
const TOP: &str = "DC=quillmere,DC=example";
const READINGS: usize = 25;
const PEOPLE: usize = 8;

#[derive(Clone, Copy)]
struct Server {
    url: &'static str,
    /// It has no TLS.
    plain: bool,
    keeper: &'static str,
    bind: &'static str,
    controller: bool,
}

const SERVERS: [Server; 3] = [
    Server {
        url: "ldap://localhost:3893",
        plain: false,
        keeper: "CN=Keeper,DC=quillmere,DC=example",
        bind: "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example",
        controller: false,
    },
    Server {
        url: "ldap://127.0.0.1:3891",
        plain: true,
        keeper: "cn=Directory Manager",
        bind: "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example",
        controller: false,
    },
    Server {
        url: "ldap://127.0.0.2",
        plain: false,
        keeper: "administrator@quillmere.example",
        bind: "svc-loansdesk@quillmere.example",
        controller: true,
    },
];

fn races(unit: &str) -> String {
    format!("OU={unit},{TOP}")
}

impl Server {
    fn tool(&self, program: &str, arguments: &[&str], input: &str) -> bool {
        let mut tool = Command::new(program)
            .env("LDAPTLS_CACERT", home().join("tls/ca.pem"))
            .args(["-x", "-H", self.url, "-D", self.keeper, "-w", KEEPER])
            .args(self.controller.then_some("-ZZ"))
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        tool.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        tool.wait().unwrap().success()
    }

    fn entries(&self, unit: &str) -> String {
        let (mut text, races) = (String::new(), races(unit));
        for (ou, above) in [(unit, TOP), ("People", &races), ("Groups", &races)] {
            text += &format!("dn: OU={ou},{above}\nobjectClass: organizationalUnit\nou: {ou}\n\n");
        }
        let (person, group) = match self.controller {
            true => ("objectClass: contact\n", "objectClass: group\n"),
            false => ("objectClass: inetOrgPerson\nsn: Racer\n", "objectClass: groupOfNames\n"),
        };
        let mut members = String::new();
        for number in 0..PEOPLE {
            text += &format!("dn: CN=p{number},OU=People,{races}\n{person}cn: p{number}\n\n");
            members += &format!("member: CN=p{number},OU=People,{races}\n");
        }
        let name = |name: &str| {
            if self.controller { format!("sAMAccountName: race {name}\n") } else { String::new() }
        };
        text += &format!(
            "dn: CN=Inner,OU=Groups,{races}\n{group}cn: Inner\n{}{members}\n",
            name(&format!("{unit} inner"))
        );
        text + &format!(
            "dn: CN=Users,OU=Groups,{races}\n{group}cn: Users\n{}member: CN=Inner,OU=Groups,{races}\n\n",
            name(&format!("{unit} users"))
        )
    }

    /// Other names for everybody, and for the nested group where `groups`, and the old ones again.
    fn renames(unit: &str, groups: bool) -> String {
        let races = races(unit);
        let one = |from: &str, to: &str, place: &str| {
            format!(
                "dn: CN={from},OU={place},{races}\nchangetype: modrdn\nnewrdn: CN={to}\ndeleteoldrdn: 1\n\n"
            )
        };
        let mut text = String::new();
        for number in 0..PEOPLE {
            let (from, to) = (format!("p{number}"), format!("q{number}"));
            text += &one(&from, &to, "People");
            if groups {
                text += &one("Inner", "Other", "Groups");
            }
            text += &one(&to, &from, "People");
            if groups {
                text += &one("Other", "Inner", "Groups");
            }
        }
        text
    }

    fn settings(&self, unit: &str) -> String {
        let races = races(unit);
        let class = if self.controller { "contact" } else { "inetOrgPerson" };
        let authority = home().join("tls/ca.pem").display().to_string();
        let trust = match self.plain {
            true => "plain = true".to_owned(),
            false => format!("trust = {{ authority = \"{authority}\" }}"),
        };
        format!(
            "[directory.d]\nservers = [\"{}\"]\n{trust}\nbind = \"{}\"\n\
             password = {{ file = \"password.txt\" }}\n[accounts]\nstore = \"csv\"\npath = \"accounts.csv\"\n\
             [[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = [\"OU=People,{races}\"]\n\
             filter = \"(objectClass={class})\"\ngroups = [\"CN=Users,OU=Groups,{races}\"]\nactive = \"(cn=*)\"\n\
             [intake.fields]\nlogin = {{ from = \"cn\", write = \"once\" }}\n[intake.leaving]\n\
             gone = {{ do = \"remove\" }}\noutside = {{ do = \"suspend\" }}\n",
            self.url, self.bind
        )
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
#[ignore = "needs scripts/real-directories up"]
async fn whoever_is_renamed_while_they_are_read_stays() {
    for (server, groups) in SERVERS.into_iter().flat_map(|server| [(server, true), (server, false)]) {
        let unit = UNITS[usize::from(groups)];
        server.tool("ldapdelete", &["-r", &races(unit)], "");
        assert!(server.tool("ldapmodify", &["-a"], &server.entries(unit)), "{}", server.url);
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("webtaxon.toml"), server.settings(unit)).unwrap();
        std::fs::write(folder.path().join("accounts.csv"), "login,link,state\n").unwrap();
        std::fs::write(folder.path().join("password.txt"), PASSWORD).unwrap();
        let workspace = Workspace::open(folder.path().join("webtaxon.toml")).unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let release = BrakeKind::ALL.map(|kind| kind.name().to_owned()).to_vec();
        let consent = Consent { who: "ada".to_owned(), release, stop_after: None };
        assert!(workspace.apply(&work, &consent).await.unwrap().is_complete());
        assert_eq!(work.edits().len(), PEOPLE, "{}", server.url);
        // Times of creation and change are whole seconds.
        tokio::time::sleep(Duration::from_millis(1100)).await;
        let goes_on = Arc::new(AtomicBool::new(true));
        let (url, watched) = (server.url, Arc::clone(&goes_on));
        let renaming = std::thread::spawn(move || {
            let renames = Server::renames(unit, groups);
            let mut all = true;
            while watched.load(Relaxed) {
                all &= server.tool("ldapmodify", &[], &renames);
            }
            server.tool("ldapdelete", &["-r", &races(unit)], "");
            all
        });
        let mut wrong = Vec::new();
        for _ in 0..READINGS {
            let preview = workspace.preview().await.unwrap();
            let takes = [ChangeKind::Suspend, ChangeKind::Remove];
            let left = preview.changes.iter().filter(|change| takes.contains(&change.kind()));
            wrong.extend(left.map(|change| format!("{:?} {:?}", change.dn, change.action)));
        }
        goes_on.store(false, Relaxed);
        assert!(renaming.join().unwrap(), "{url}: renamed all the time");
        assert!(wrong.is_empty(), "{url}: {wrong:#?}");
    }
}
