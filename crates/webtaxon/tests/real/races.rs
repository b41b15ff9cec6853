//! Real servers on which people, a nested group or a container get other names all the time: no reading takes a member
//! away.

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
/// What gets other names, each in a unit of its own in each run: references to deleted entries are removed later, and
/// 389 Directory Server may show entries under a container's earlier name until it is started again.
#[derive(Clone, Copy, Debug)]
enum Racers {
    People,
    PeopleAndGroups,
    /// A container below the base.
    Containers,
    /// The container above the bases.
    Above,
}
pub(super) const TOP: &str = "DC=quillmere,DC=example";
const READINGS: usize = 25;
const PEOPLE: usize = 8;

#[derive(Clone, Copy)]
pub(super) struct Server {
    pub(super) url: &'static str,
    /// It has no TLS.
    plain: bool,
    keeper: &'static str,
    bind: &'static str,
    pub(super) controller: bool,
}

pub(super) const SERVERS: [Server; 3] = [
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

impl Racers {
    fn unit(self) -> String {
        format!("OU={self:?} {},{TOP}", std::process::id())
    }
}

impl Server {
    pub(super) fn tool(&self, program: &str, arguments: &[&str], input: &str) -> bool {
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

    fn entries(&self, racers: Racers) -> String {
        let (mut text, races) = (String::new(), racers.unit());
        let places = [
            String::new(),
            "OU=People,".to_owned(),
            "OU=Team,OU=People,".to_owned(),
            "OU=Groups,".to_owned(),
        ];
        for place in places {
            text += &format!("dn: {place}{races}\nobjectClass: organizationalUnit\n\n");
        }
        let (person, group) = match self.controller {
            true => ("objectClass: contact\n", "objectClass: group\n"),
            false => ("objectClass: inetOrgPerson\nsn: Racer\n", "objectClass: groupOfNames\n"),
        };
        let mut members = String::new();
        for number in 0..PEOPLE {
            text += &format!("dn: CN=p{number},OU=Team,OU=People,{races}\n{person}cn: p{number}\n\n");
            members += &format!("member: CN=p{number},OU=Team,OU=People,{races}\n");
        }
        let name = |name: &str| {
            if self.controller {
                format!("sAMAccountName: {racers:?} {name} {}\n", std::process::id())
            } else {
                String::new()
            }
        };
        text += &format!("dn: CN=Inner,OU=Groups,{races}\n{group}cn: Inner\n{}{members}\n", name("inner"));
        text + &format!(
            "dn: CN=Users,OU=Groups,{races}\n{group}cn: Users\n{}member: CN=Inner,OU=Groups,{races}\n\n",
            name("users")
        )
    }

    /// Other names, and the old ones again.
    fn renames(racers: Racers) -> String {
        let races = racers.unit();
        let one = |from: &str, to: &str, place: &str| {
            format!("dn: {from},{place}{races}\nchangetype: modrdn\nnewrdn: {to}\ndeleteoldrdn: 1\n\n")
        };
        let mut text = String::new();
        if matches!(racers, Racers::Above) {
            let (first, _) = races.split_once(',').unwrap();
            text += &format!("dn: {races}\nchangetype: modrdn\nnewrdn: {first} away\ndeleteoldrdn: 1\n\n");
            text +=
                &format!("dn: {first} away,{TOP}\nchangetype: modrdn\nnewrdn: {first}\ndeleteoldrdn: 1\n\n");
            return text;
        }
        for number in 0..PEOPLE {
            let mut steps = Vec::new();
            let (from, to) = (format!("CN=p{number}"), format!("CN=q{number}"));
            if !matches!(racers, Racers::Containers) {
                steps.push((from, to, "OU=Team,OU=People,"));
            }
            match racers {
                Racers::People | Racers::Above => {}
                Racers::PeopleAndGroups => steps.push(("CN=Inner".into(), "CN=Other".into(), "OU=Groups,")),
                Racers::Containers => steps.push(("OU=Team".into(), "OU=Crew".into(), "OU=People,")),
            }
            steps.iter().for_each(|(from, to, place)| text += &one(from, to, place));
            steps.iter().for_each(|(from, to, place)| text += &one(to, from, place));
        }
        text
    }

    fn settings(&self, racers: Racers) -> String {
        let races = racers.unit();
        let class = if self.controller { "contact" } else { "inetOrgPerson" };
        let directory = self.directory_settings();
        format!(
            "{directory}[accounts]\nstore = \"csv\"\npath = \"accounts.csv\"\n\
             [[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = [\"OU=People,{races}\"]\n\
             filter = \"(objectClass={class})\"\ngroups = [\"CN=Users,OU=Groups,{races}\"]\nactive = \"(cn=*)\"\n\
             [intake.fields]\nlogin = {{ from = \"cn\", write = \"once\" }}\n[intake.leaving]\n\
             gone = {{ do = \"remove\" }}\noutside = {{ do = \"suspend\" }}\n"
        )
    }

    /// The settings that reach it.
    pub(super) fn directory_settings(&self) -> String {
        let authority = home().join("tls/ca.pem").display().to_string();
        let trust = match self.plain {
            true => "plain = true".to_owned(),
            false => format!("trust = {{ authority = \"{authority}\" }}"),
        };
        let (url, bind) = (self.url, self.bind);
        format!(
            "[directory.d]\nservers = [\"{url}\"]\n{trust}\nbind = \"{bind}\"\npassword = {{ file = \"password.txt\" }}\nreferences = \"elsewhere\"\n"
        )
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
#[ignore = "needs scripts/real-directories up"]
async fn whoever_is_renamed_while_they_are_read_stays() {
    let all = [Racers::People, Racers::PeopleAndGroups, Racers::Containers, Racers::Above];
    for (server, racers) in SERVERS.into_iter().flat_map(|server| all.map(|racers| (server, racers))) {
        assert!(server.tool("ldapmodify", &["-a"], &server.entries(racers)), "{}", server.url);
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("webtaxon.toml"), server.settings(racers)).unwrap();
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
            let renames = Server::renames(racers);
            let mut all = true;
            while watched.load(Relaxed) {
                all &= server.tool("ldapmodify", &[], &renames);
            }
            server.tool("ldapdelete", &["-r", &racers.unit()], "");
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
        assert!(renaming.join().unwrap(), "{url}, {racers:?}: renamed all the time");
        assert!(wrong.is_empty(), "{url}, {racers:?}: {wrong:#?}");
    }
}
