//! What is there, and a first settings file from it, at both kinds of server.

use crate::museum::{DIRECTORY, Museum};
use webtaxon::Named;
use webtaxon::directory::{Access, Connection};
use webtaxon::model::ldap::filter::Filter;
use webtaxon::model::ldap::name::Dn;
use webtaxon::model::settings::{Servers, Settings, StoreSettings};
use webtaxon::survey::{self, DraftOptions, EntryKind, Tree};
use webtaxon_core::ldap::ldif;
use webtaxon_standin::{Options, scenario};

fn plain() -> String {
    scenario::plain(&ldif::entries(DIRECTORY.as_bytes()).unwrap())
}

/// A connection to the museum, and the draft that it gives.
async fn drafted(museum: &Museum, account: &str) -> (Connection, String, Settings) {
    museum.change("svc-loansdesk@quillmere.example", account);
    let workspace = museum.workspace().unwrap();
    let mut connection = workspace.connect().await.unwrap();
    let directory = workspace.settings().directory(&workspace.settings().intakes.first).unwrap();
    let options = DraftOptions { directory, accounts: "list of accounts.csv" };
    let draft = survey::draft(&mut connection, &options).await.unwrap();
    let settings = Settings::parse("draft", draft.text.as_bytes())
        .unwrap_or_else(|error| panic!("{error}: {}", draft.text));
    (connection, draft.text, settings)
}

const DN: &str = "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example";

#[tokio::test]
async fn a_draft_is_complete_and_finds_the_museums_people() {
    for (ldif, account, filter, fields, lost) in [
        (
            DIRECTORY.to_owned(),
            "svc-loansdesk@quillmere.example",
            "(&(objectCategory=person)(objectClass=user))",
            [
                "sAMAccountName",
                "displayName",
                "mail",
                "department",
                "telephoneNumber",
                "physicalDeliveryOfficeName",
            ],
            3,
        ),
        (
            plain(),
            DN,
            "(&(objectClass=inetOrgPerson)(uid=*))",
            ["uid", "displayName", "mail", "departmentNumber", "telephoneNumber", "roomNumber"],
            3,
        ),
    ] {
        let museum = Museum::with(&ldif, Options::default()).await;
        let (_, text, settings) = drafted(&museum, account).await;
        let intake = &settings.intakes.first;
        assert_eq!(intake.bases[0].to_string(), "OU=People,DC=quillmere,DC=example");
        assert_eq!(intake.group_bases[0].to_string(), "OU=Groups,DC=quillmere,DC=example");
        assert_eq!(intake.filter.to_string(), filter);
        assert!(intake.active.is_none() && text.contains("neither disabled nor expired"), "{text}");
        let from: Vec<&str> = intake.fields.values().map(|rule| rule.from_attributes()[0]).collect();
        assert_eq!(from, fields);
        let StoreSettings::Csv { path, .. } = &settings.accounts.store else { panic!() };
        assert_eq!(path.to_str(), Some("list of accounts.csv"));
        assert!(
            text.contains("CN=All Botany,OU=Groups,DC=quillmere,DC=example\",")
                && text.contains("28 members"),
            "{text}"
        );
        // It runs as it is: everybody who is active would come in.
        museum.write("webtaxon.toml", &text);
        museum.write("list of accounts.csv", "login,link,state,name,email,department,phone,room\n");
        let preview = museum.preview().await.unwrap();
        let left: Vec<usize> = preview.intakes.first.funnel.iter().map(|step| step.left).collect();
        assert!(preview.is_whole(), "{:?}", preview.gaps);
        assert_eq!(left, [244, 244 - lost, 244 - lost], "{text}");
    }
}

#[tokio::test]
async fn odd_names_come_through_a_draft_and_its_comments_unharmed() {
    let odd = "OU=Pe\\\"ople \\22\\0Aevil = true,DC=x";
    let ldif = format!(
        "dn: DC=x\nobjectClass: domain\ndc: x\n\ndn: {odd}\nobjectClass: organizationalUnit\n\n\
         dn: CN=Ada,{odd}\nobjectClass: inetOrgPerson\ncn: Ada\nuid: ada\n\n\
         dn: CN=Group \\0Ax,DC=x\nobjectClass: groupOfNames\nmember: CN=Ada,{odd}\n"
    );
    let museum = Museum::with(&ldif, Options { anonymous: true, ..Options::default() }).await;
    let workspace = museum.workspace().unwrap();
    let mut directory = workspace.settings().directory(&workspace.settings().intakes.first).unwrap().clone();
    directory.bind = webtaxon::model::settings::Bind::Anonymous;
    directory.name = "the \"museum\"".to_owned();
    let access = Access::new(&directory, museum.path(), None);
    let mut connection = access.open_first(&access.servers().await.unwrap()).await.unwrap();
    let options = DraftOptions { directory: &directory, accounts: "a\\\"b.csv" };
    let draft = survey::draft(&mut connection, &options).await.unwrap();
    let settings = Settings::parse("draft", draft.text.as_bytes())
        .unwrap_or_else(|error| panic!("{error}: {}", draft.text));
    assert_eq!(settings.intakes.first.bases[0].key(), Dn::parse(odd).unwrap().key(), "{}", draft.text);
    assert_eq!(settings.intakes.first.directory, "the \"museum\"");
    let Servers::Named(servers) = &settings.directory(&settings.intakes.first).unwrap().servers else {
        panic!()
    };
    assert_eq!(servers[0].to_string(), museum.standin().url());
}

/// A directory that anybody may read, and settings that bind anonymously.
async fn open_to_all(ldif: &str) -> Museum {
    let museum = Museum::with(ldif, Options { anonymous: true, ..Options::default() }).await;
    let settings = museum.settings();
    let lines = settings.lines().filter(|line| !line.starts_with("bind ") && !line.starts_with("password "));
    museum.write("webtaxon.toml", lines.collect::<Vec<_>>().join("\n"));
    museum
}

#[tokio::test]
async fn a_directory_that_shows_nobody_says_so() {
    let museum = open_to_all("dn: DC=x\nobjectClass: domain\ndc: x\n").await;
    let workspace = museum.workspace().unwrap();
    let mut connection = workspace.connect().await.unwrap();
    let directory = workspace.settings().directory(&workspace.settings().intakes.first).unwrap();
    let options = DraftOptions { directory, accounts: "accounts.csv" };
    let error = survey::draft(&mut connection, &options).await.unwrap_err();
    assert!(error.to_string().contains("shows no people"), "{error}");
}

/// In the draft, the tree and the search alike.
#[tokio::test]
async fn a_group_of_every_kind_is_seen_as_one() {
    for (class, member) in [
        ("group", "member: CN=Ada,OU=People,DC=x"),
        ("groupOfNames", "member: CN=Ada,OU=People,DC=x"),
        ("groupOfUniqueNames", "uniqueMember: CN=Ada,OU=People,DC=x"),
        ("posixGroup", "memberUid: ada"),
        ("groupOfURLs", "member: CN=Ada,OU=People,DC=x"),
    ] {
        let ldif = format!(
            "dn: DC=x\nobjectClass: domain\ndc: x\n\n\
             dn: OU=People,DC=x\nobjectClass: organizationalUnit\n\n\
             dn: CN=Ada,OU=People,DC=x\nobjectClass: inetOrgPerson\ncn: Ada\nuid: ada\n\n\
             dn: OU=Groups,DC=x\nobjectClass: organizationalUnit\n\n\
             dn: CN=Readers,OU=Groups,DC=x\nobjectClass: {class}\ncn: Readers\n{member}\n"
        );
        let museum = open_to_all(&ldif).await;
        let workspace = museum.workspace().unwrap();
        let mut connection = workspace.connect().await.unwrap();
        let directory = workspace.settings().directory(&workspace.settings().intakes.first).unwrap();
        let options = DraftOptions { directory, accounts: "accounts.csv" };
        let draft = survey::draft(&mut connection, &options).await.unwrap().text;
        assert!(draft.contains("\"CN=Readers,OU=Groups,DC=x\""), "{class}: {draft}");
        let tree = Tree::read(&mut connection, &Dn::parse("DC=x").unwrap()).await.unwrap();
        assert_eq!(tree.containers.iter().map(|one| one.groups).max(), Some(1), "{class}");
        let named = workspace.find_group("read").await.unwrap();
        assert_eq!(named, Named::One(Dn::parse("CN=Readers,OU=Groups,DC=x").unwrap()), "{class}");
        let near = workspace.nearest("Reades", EntryKind::Group).await.unwrap();
        assert_eq!(near.map(|near| near.name).as_deref(), Some("Readers"), "{class}");
    }
}

#[tokio::test]
async fn many_people_of_a_name_hide_no_group_of_it() {
    let mut ldif = "dn: DC=x\nobjectClass: domain\ndc: x\n".to_owned();
    for number in 0..250 {
        ldif += &format!("\ndn: CN=Reader {number},DC=x\nobjectClass: inetOrgPerson\ncn: Reader {number}\n");
    }
    ldif += "\ndn: CN=Readers,DC=x\nobjectClass: group\ncn: Readers\n";
    let named = open_to_all(&ldif).await.workspace().unwrap().find_group("reader").await.unwrap();
    assert_eq!(named, Named::One(Dn::parse("CN=Readers,DC=x").unwrap()));
}

#[tokio::test]
async fn the_tree_the_findings_and_the_fields_are_the_museums() {
    let museum = Museum::open().await;
    let mut connection = museum.workspace().unwrap().connect().await.unwrap();
    let tree = Tree::read(&mut connection, &Dn::parse("DC=quillmere,DC=example").unwrap()).await.unwrap();
    let at = |dn: &str| {
        let one = tree.containers.iter().find(|one| one.dn.starts_with(dn)).unwrap_or_else(|| panic!("{dn}"));
        (one.depth, one.people, one.groups, one.others)
    };
    assert_eq!(at("OU=Botany,"), (2, 28, 0, 0));
    assert_eq!(at("OU=People,").1, 244);
    assert_eq!(at("OU=Groups,"), (1, 0, 40, 0));
    assert_eq!(at("OU=Computers,").1, 0, "a computer is nobody");
    let (found, more) = survey::find(&mut connection, "ibbotson", 10).await.unwrap();
    assert!(!more && found.iter().any(|one| one.login.as_deref() == Some("aibbotson")), "{found:?}");
    let (found, more) = survey::find(&mut connection, "curators", 2).await.unwrap();
    assert!(more && found.iter().all(|one| one.kind == EntryKind::Group), "{found:?}");
    assert!(
        survey::find(&mut connection, "*)(cn=*", 10).await.unwrap().0.is_empty(),
        "no filter can be slipped in"
    );
    let bases = [Dn::parse("OU=People,DC=quillmere,DC=example").unwrap()];
    let filter = Filter::parse("(&(objectCategory=person)(objectClass=user))").unwrap();
    for mask in [false, true] {
        let survey = survey::fields(&mut connection, &bases, &filter, mask).await.unwrap();
        let mail = survey.find("MAIL").unwrap();
        assert_eq!((survey.people, mail.filled, mail.unique, mail.most_values), (244, 242, true, 1));
        assert_eq!(mail.example.is_some(), !mask);
        assert_eq!(survey.fields.iter().any(|facts| facts.example.is_some()), !mask);
        let good: Vec<_> =
            survey.suggestions().map(|(what, facts)| (what, facts.attribute.as_str())).collect();
        let expected = [
            ("login", "sAMAccountName"),
            ("name", "displayName"),
            ("email", "mail"),
            ("identity", "objectGUID"),
        ];
        assert_eq!(good, expected);
    }
}
