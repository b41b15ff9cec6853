//! The accounts file: what is read, and what is refused at its line.

use crate::museum::{Museum, told};
use crate::stores::{self, Kind};
use indexmap::IndexMap;
use miette::Diagnostic;
use webtaxon::model::account::State;
use webtaxon::model::preview::ChangeKind;
use webtaxon::store::{AccountStore, CsvStore};

async fn read(bytes: &[u8]) -> Result<Vec<webtaxon::model::account::Account>, webtaxon::store::StoreError> {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("accounts.csv");
    std::fs::write(&file, bytes).unwrap();
    CsvStore::new(file, IndexMap::new()).accounts(["login", "email"].map(str::to_owned).into()).await
}

#[tokio::test]
async fn every_form_of_a_row_is_read() {
    let text = "\u{feff}login,link,state,email,note\r\n\"o\"\"dallaigh\",ABC,,a@b,\"two\r\nlines, one value\"\r\nben,, Suspended ,,\r\n";
    let accounts = read(text.as_bytes()).await.unwrap();
    assert_eq!(accounts.len(), 2);
    assert_eq!((accounts[0].login.as_str(), accounts[0].state), ("o\"dallaigh", State::Active));
    assert_eq!(accounts[0].link.as_ref().map(|link| link.as_str()), Some("abc"));
    assert_eq!((accounts[0].field("email"), accounts[0].field("note")), ("a@b", "two\r\nlines, one value"));
    assert_eq!((accounts[1].state, accounts[1].link.is_none()), (State::Suspended, true));
}

#[tokio::test]
async fn each_fault_is_told_with_its_line_and_a_way_out() {
    let head = "login,link,state,email\n";
    let rows = |rows: &str| format!("{head}{rows}").into_bytes();
    for (bytes, message, code, why) in [
        (b"login,state,email\n".to_vec(), "no column `link`", "WX0502", "a column of Webtaxon's own"),
        (b"login,link,state\n".to_vec(), "no column `email`", "WX0502", "a field's column"),
        (b"".to_vec(), "no column `login`", "WX0502", "an empty file"),
        (b"login,link,state,email,email\n".to_vec(), "two columns `email`", "WX0502", "a column twice"),
        (
            rows("ada,,,a@b\nADA,,,c@d\n"),
            "line 3: the login `ADA` is on line 2 already",
            "WX0506",
            "a login twice",
        ),
        (rows("ada,X,,\nben,x,,\n"), "line 3: the link `x` is on line 2 already", "WX0506", "a link twice"),
        (rows("ada,,,\n ,,,\n"), "line 3: the login is empty", "WX0505", "no login"),
        (rows("ada,,on,\n"), "line 2: `on` is not a state", "WX0507", "a state that is none"),
        (rows("ada,,\n"), "line 2: 3 values where the first line has 4", "WX0503", "a value too few"),
        (
            [head.as_bytes(), b"ada,,,\nben,,,\xff\n"].concat(),
            "line 3: a byte that is not UTF-8",
            "WX0504",
            "no UTF-8",
        ),
        ([head.as_bytes(), b"a\0da,,,\n"].concat(), "line 2: a NUL byte", "WX0504", "a NUL"),
    ] {
        let error = read(&bytes).await.expect_err(why);
        assert!(error.to_string().contains(message), "{why}: {error}");
        assert_eq!(error.code().unwrap().to_string(), code, "{why}");
        assert!(error.help().is_some(), "{why}");
    }
}

/// Settings that leave the list to the application: without one it is said, with one all is as ever.
#[tokio::test]
async fn a_list_of_the_applications_own_is_asked_for_by_name() {
    let museum = Museum::open().await;
    let workspace = museum.workspace().unwrap();
    let (csv, wanted) = (workspace.store(), workspace.preview().await.unwrap());
    museum.change("store     = \"csv\"\npath      = \"accounts.csv\"", "store = \"own\"");
    let workspace = museum.workspace().unwrap();
    assert_eq!(told(&workspace.preview().await.unwrap_err()).1, "WX0519");
    let preview = workspace.with_store(csv).preview().await.unwrap();
    assert_eq!(preview.changes, wanted.changes);
}

#[tokio::test]
async fn columns_of_other_names_are_found_by_the_settings() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("accounts.csv");
    std::fs::write(&file, "Kennung,guid,state,email\nada,x,active,a@b\n").unwrap();
    let columns = IndexMap::from(
        [("login", "Kennung"), ("link", "guid")].map(|(own, column)| (own.to_owned(), column.to_owned())),
    );
    let accounts =
        CsvStore::new(file, columns).accounts(["login", "email"].map(str::to_owned).into()).await.unwrap();
    assert_eq!((accounts[0].login.as_str(), accounts[0].field("email")), ("ada", "a@b"));
    let missing =
        CsvStore::new(folder.path().join("none.csv"), IndexMap::new()).accounts([].into()).await.unwrap_err();
    assert!(missing.to_string().contains("none.csv cannot be read"));
}

/// A secret field of new accounts is filled in a file and in a service, and what others have stays unread.
#[tokio::test]
async fn a_first_password_reaches_a_file_and_a_service_once() {
    for kind in [Kind::Csv, Kind::Scim, Kind::HalfScim, Kind::BareScim] {
        let museum = stores::museum(kind).await;
        let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
        let fields = "\n[intake.fields]";
        museum.write(
            "webtaxon.toml",
            settings.replace(fields, &format!("{fields}\npassword = {{ secret = true }}")),
        );
        if kind == Kind::Csv {
            let file = museum.path().join("accounts.csv");
            let text = std::fs::read_to_string(&file).unwrap();
            let with = |(at, line)| format!("{line},{}\n", if at == 0 { "password" } else { "hush-hush" });
            museum.write("accounts.csv", text.lines().enumerate().map(with).collect::<String>());
        }
        let workspace = museum.workspace().unwrap();
        let (preview, work) = workspace.work().await.unwrap();
        assert!(!format!("{preview:?}{work:?}").contains("hush-hush"), "{kind:?}");
        let mut consent = stores::agreed();
        consent.release.push("removals".to_owned());
        let applied = workspace.apply(&work, &consent).await.unwrap();
        assert!(applied.is_complete(), "{kind:?}: {:?}", applied.outcomes);
        let new = |login: &str| -> String {
            if let Some(application) = &museum.application {
                return application.list().password(login).unwrap().to_owned();
            }
            let rows = stores::dump(&museum, kind);
            rows.iter().find(|row| row.contains(login)).unwrap().rsplit(',').next().unwrap().to_owned()
        };
        let logins: Vec<_> = preview.of_kind(ChangeKind::Import).map(|change| change.login.clone()).collect();
        let secrets: std::collections::HashSet<String> = logins.iter().map(|login| new(login)).collect();
        assert_eq!(secrets.len(), logins.len(), "{kind:?}: another one for each");
        assert!(secrets.iter().all(|secret| secret.len() == 32), "{kind:?}: {secrets:?}");
        assert_eq!(workspace.preview().await.unwrap().kinds, [(ChangeKind::Clash, 2)], "{kind:?}");
        if kind == Kind::Csv {
            assert_eq!(new("bedgeworth"), "hush-hush", "a changed row keeps its own");
        }
    }
}
