//! Logins and addresses that move on real servers: chains, swaps, hand-overs, leavers whose login is claimed, entries
//! made anew. After each apply nothing is left but what waits for a day or for a word, and the word settles it.
//!
//! By itself, like the races: it adds people that other tests would count.

use super::races::{SERVERS, Server, TOP};
use super::{Desk, PASSWORD};
use std::path::Path;
use webtaxon::Workspace;
use webtaxon::apply::Consent;
use webtaxon::model::preview::{BrakeKind, ChangeKind, Preview};
use webtaxon::settle::with_words;

fn unit() -> String {
    format!("OU=Claims {},{TOP}", std::process::id())
}

impl Server {
    /// An entry to be added.
    fn person(self, cn: &str, login: &str, mailbox: &str) -> String {
        let own = match self.controller {
            true => format!(
                "objectClass: user\nsAMAccountName: {}\nuserAccountControl: 544\n",
                Self::login(login)
            ),
            false => format!("objectClass: inetOrgPerson\nsn: x\nuid: {}\n", Self::login(login)),
        };
        let mail = format!("mail: {mailbox}@quillmere.example\n");
        format!("dn: CN={cn},OU=People,{}\nchangetype: add\n{own}cn: {cn}\ntitle: keeper\n{mail}\n", unit())
    }

    /// A login of this test alone: a controller's are unique in the whole directory.
    fn login(name: &str) -> String {
        format!("{name}-{}", std::process::id() % 100_000)
    }

    fn login_is(self, cn: &str, login: &str) -> String {
        let attribute = if self.controller { "sAMAccountName" } else { "uid" };
        let login = Self::login(login);
        Self::change(cn, &format!("replace: {attribute}\n{attribute}: {login}"))
    }

    fn change(cn: &str, change: &str) -> String {
        format!("dn: CN={cn},OU=People,{}\nchangetype: modify\n{change}\n\n", unit())
    }

    fn mail_is(cn: &str, mailbox: &str) -> String {
        Self::change(cn, &format!("replace: mail\nmail: {mailbox}@quillmere.example"))
    }

    /// Moves an entry out of every base.
    fn moved(cn: &str) -> String {
        let (rdn, unit) = (format!("CN={cn}"), unit());
        format!(
            "dn: {rdn},OU=People,{unit}\nchangetype: modrdn\nnewrdn: {rdn}\ndeleteoldrdn: 1\nnewsuperior: OU=Left,{unit}\n\n"
        )
    }

    fn deleted(cn: &str) -> String {
        format!("dn: CN={cn},OU=People,{}\nchangetype: delete\n\n", unit())
    }

    fn disabled(self, cn: &str) -> String {
        match self.controller {
            true => Self::change(cn, "replace: userAccountControl\nuserAccountControl: 546"),
            false => Self::change(cn, "replace: employeeType\nemployeeType: off"),
        }
    }

    fn claims_settings(self) -> String {
        let (class, login, active) = match self.controller {
            true => ("user", "sAMAccountName", String::new()),
            false => ("inetOrgPerson", "uid", "active = \"(!(employeeType=off))\"\n".to_owned()),
        };
        format!(
            "{}[accounts]\nstore = \"csv\"\npath = \"accounts.csv\"\n\
             [[intake]]\nname = \"all\"\ndirectory = \"d\"\nbases = [\"OU=People,{}\"]\n\
             filter = \"(objectClass={class})\"\n{active}\
             [intake.fields]\nlogin = {{ from = \"{login}\" }}\nemail = {{ from = \"mail\", unique = true }}\n\
             [[intake.role]]\nname = \"keeper\"\nwhen = \"(title=keeper)\"\n\
             [intake.leaving]\ngone = {{ do = \"remove\", after_days = 9 }}\n[brakes]\nsettings_changed = false\n",
            self.directory_settings(),
            unit()
        )
    }
}

/// Kinds, logins and fields of the changes.
fn words(preview: &Preview) -> Vec<String> {
    let number = format!("-{}", std::process::id() % 100_000);
    let mut words: Vec<String> = preview
        .changes
        .iter()
        .map(|change| {
            let fields: Vec<&str> = change.fields.keys().map(String::as_str).collect();
            format!("{} {} {}", change.kind().name(), change.login.replace(&number, ""), fields.join(" "))
        })
        .map(|words| words.trim_end().to_owned())
        .collect();
    words.extend(preview.gaps.iter().map(|gap| gap.to_string()));
    words.extend(preview.held.iter().map(|held| format!("held {} {:?}", held.login, held.reason)));
    words.sort();
    words
}

/// Applies, and gives what is left then.
async fn apply(workspace: &Workspace, told: &str) -> Preview {
    let (_, work) = workspace.work().await.unwrap();
    let release = BrakeKind::ALL.map(|kind| kind.name().to_owned()).to_vec();
    let consent = Consent { who: "ada".to_owned(), release, stop_after: None };
    let applied = workspace.apply(&work, &consent).await.unwrap();
    assert!(applied.is_complete(), "{told}: {:?}", applied.outcomes);
    let left = workspace.preview().await.unwrap();
    assert!(!left.has_work(), "{told}: {:?}", words(&left));
    left
}

/// Writes the first word that is offered for a clash into the settings.
async fn follow(workspace: &Workspace, file: &Path) {
    let clashes = workspace.clashes().await.unwrap();
    let text = std::fs::read_to_string(file).unwrap();
    let mut words =
        clashes.preview.of_kind(ChangeKind::Clash).filter_map(|clash| clash.ways()[0].word.clone());
    // One that is not said yet.
    let word = words.find(|word| !text.contains(word.link.as_str())).unwrap();
    std::fs::write(file, with_words("settings", &text, &[word]).unwrap()).unwrap();
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn every_claim_settles() {
    for server in SERVERS {
        let unit = unit();
        let mut text = String::new();
        for place in [String::new(), "OU=People,".to_owned(), "OU=Left,".to_owned()] {
            text += &format!("dn: {place}{unit}\nchangetype: add\nobjectClass: organizationalUnit\n\n");
        }
        for name in ["ada", "bo", "cy", "dee", "eve", "fay", "gus", "hal"] {
            text += &server.person(name, name, name);
        }
        assert!(server.tool("ldapmodify", &[], &text), "{}", server.url);
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("webtaxon.toml");
        std::fs::write(&file, server.claims_settings()).unwrap();
        let by_hand = format!(
            "login,link,state,email,roles\n{},,active,kiosk@quillmere.example,\n",
            Server::login("kiosk")
        );
        std::fs::write(folder.path().join("accounts.csv"), by_hand).unwrap();
        std::fs::write(folder.path().join("password.txt"), PASSWORD).unwrap();
        let workspace = Workspace::open(&file).unwrap();
        assert_eq!(apply(&workspace, "all come in").await.unchanged, 8);
        for (why, change, expected, left) in [
            (
                "two swap their addresses",
                Server::mail_is("ada", "bo") + &Server::mail_is("bo", "ada"),
                vec!["update ada email", "update bo email"],
                vec![],
            ),
            (
                "three logins and addresses in a chain",
                server.login_is("cy", "cy2")
                    + &server.login_is("dee", "cy")
                    + &server.login_is("eve", "dee")
                    + &Server::mail_is("cy", "cy2")
                    + &Server::mail_is("dee", "cy")
                    + &Server::mail_is("eve", "dee"),
                vec!["update cy login email", "update dee login email", "update eve login email"],
                vec![],
            ),
            (
                "somebody disabled makes room, and whoever comes gets their login and address at once",
                server.disabled("fay")
                    + &server.login_is("fay", "fay-left")
                    + &Server::mail_is("fay", "fay-left")
                    + &server.person("fay2", "fay", "fay"),
                vec!["import fay login email roles", "suspend fay state login email"],
                vec![],
            ),
            (
                "and so does somebody in no base, long suspended",
                Server::moved("gus"),
                vec!["suspend gus state"],
                vec![],
            ),
            (
                "whose login passes to somebody new afterwards",
                format!("dn: CN=gus,OU=Left,{unit}\nchangetype: modify\n")
                    + &if server.controller {
                        format!("replace: sAMAccountName\nsAMAccountName: {}\n-\n", Server::login("gus-left"))
                    } else {
                        format!("replace: uid\nuid: {}\n-\n", Server::login("gus-left"))
                    }
                    + "replace: mail\nmail: gus-left@quillmere.example\n\n"
                    + &server.person("gus2", "gus", "gus"),
                vec!["import gus login email roles", "update gus login email"],
                vec![],
            ),
            (
                "a leaver whose login somebody claims is seen to leave, and the other waits",
                Server::deleted("hal") + &server.person("ian", "hal", "ian"),
                vec!["wait hal", "wait hal"],
                vec!["wait hal", "wait hal"],
            ),
            (
                "what clashes is frozen, and a role is lost all the same",
                server.login_is("ada", "kiosk") + &Server::change("ada", "replace: title\ntitle: guest"),
                vec!["clash ada", "update ada roles", "wait hal", "wait hal"],
                vec!["clash ada", "wait hal", "wait hal"],
            ),
            (
                "which another login in the directory settles",
                server.login_is("ada", "ada3"),
                vec!["update ada login", "wait hal", "wait hal"],
                vec!["wait hal", "wait hal"],
            ),
        ] {
            let told = format!("{}, {why}", server.url);
            assert!(server.tool("ldapmodify", &[], &change), "{told}");
            assert_eq!(words(&workspace.preview().await.unwrap()), expected, "{told}");
            assert_eq!(words(&apply(&workspace, &told).await), left, "{told}");
        }
        // An entry made anew is one question, and its answer settles it.
        let anew = Server::deleted("bo") + &server.person("bo", "bo", "ada");
        assert!(server.tool("ldapmodify", &[], &anew), "{}", server.url);
        let asked = workspace.preview().await.unwrap();
        assert_eq!(words(&asked), ["clash bo", "wait bo", "wait hal", "wait hal"], "{}", server.url);
        follow(&workspace, &file).await;
        let workspace = Workspace::open(&file).unwrap();
        let settled = workspace.preview().await.unwrap();
        assert_eq!(words(&settled), ["adopt bo link", "wait hal", "wait hal"], "{}", server.url);
        let adopted = settled.of_kind(ChangeKind::Adopt).next().unwrap();
        assert_eq!(adopted.detail().unwrap(), "was linked to an entry that is gone");
        assert_eq!(words(&apply(&workspace, "anew").await), ["wait hal", "wait hal"], "{}", server.url);
        assert!(server.tool("ldapdelete", &["-r", &unit], ""), "{}", server.url);
    }
}

/// The museum's own: two clashes, and the first word of each settles them.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn the_museums_clashes_settle() {
    let desk = Desk::slapd();
    let workspace = desk.workspace().unwrap();
    let left = apply(&workspace, "the museum").await;
    assert_eq!(words(&left), ["clash dpryce", "clash ghollow", "held dpryce MadeAnew", "held wgrebe Kept"]);
    let file = desk.folder.path().join("webtaxon.toml");
    for clashes in [1, 0] {
        let workspace = Workspace::open(&file).unwrap();
        follow(&workspace, &file).await;
        let preview = apply(&Workspace::open(&file).unwrap(), "a word").await;
        assert_eq!(preview.of_kind(ChangeKind::Clash).count(), clashes, "{:?}", words(&preview));
    }
}

/// A domain controller makes identities of its own, so that everybody's entry is another one than the accounts say: a
/// rule ties them again, and nobody is taken for somebody who left.
#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_museum_that_was_made_anew_is_tied_again() {
    let rule = "[accounts]\nanew = \"same-login-and-email\"\n#";
    let desk = Desk::samba().with("[accounts] ", rule);
    let workspace = desk.workspace().unwrap();
    let preview = workspace.preview().await.unwrap();
    let count = |preview: &Preview, kind| preview.of_kind(kind).count();
    assert!(count(&preview, ChangeKind::Adopt) > 50, "{:?}", words(&preview));
    assert!(preview.of_kind(ChangeKind::Adopt).any(|change| change.login == "dpryce"));
    let left = apply(&workspace, "made anew").await;
    assert_eq!(words(&left), ["clash ghollow"]);
}
