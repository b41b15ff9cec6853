//! Fields that hang on other entries and groups, read from a directory.

use crate::museum::{ACCOUNTS, DIRECTORY, Museum};
use webtaxon::model::preview::Preview;
use webtaxon_standin::Options;

/// The museum with managers: one of the people, one outside the bases, one who is gone, one that is
/// no name.
async fn museum() -> Museum {
    let mut ldif = DIRECTORY.to_owned();
    for (person, manager) in [
        ("CN=Barnaby Sedgewick,", "cn=Ibbotson\\2C Ada,OU=Botany,OU=People,DC=quillmere,DC=example"),
        ("CN=Felix Cotterill,", "CN=Ottilie Brandreth,OU=Partners,DC=quillmere,DC=example"),
        ("CN=Beatrice Thornbury,", "CN=Nobody,OU=Partners,DC=quillmere,DC=example"),
        ("CN=Bronwen Barrowclough,", "Ada"),
    ] {
        let at = ldif.find(&format!("dn: {person}")).expect(person);
        let end = at + ldif[at..].find('\n').unwrap() + 1;
        ldif.insert_str(end, &format!("manager: {manager}\n"));
    }
    let museum = Museum::with(&ldif, Options::default()).await;
    museum.change(
        "[[intake.role]]                                  # what",
        "head = { from = \"manager\", follow = \"login\" }\n\
         limit = [{ in_group = \"CN=Curators,OU=Groups,DC=quillmere,DC=example\", value = \"100\" }, { value = \"10\" }]\n\
         [[intake.role]] # what",
    );
    let rows = ACCOUNTS.lines().enumerate();
    let rows =
        rows.map(|(at, row)| if at == 0 { format!("{row},head,limit\n") } else { format!("{row},,\n") });
    museum.write("accounts.csv", rows.collect::<String>());
    museum
}

fn field<'p>(preview: &'p Preview, login: &str, field: &str) -> &'p str {
    let change = preview.changes.iter().find(|change| change.login == login).expect(login);
    change.fields.get(field).and_then(|field| field.new.as_deref()).unwrap_or("")
}

#[tokio::test]
async fn a_name_is_followed_wherever_it_leads() {
    let museum = museum().await;
    let preview = museum.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    for (login, head, why) in [
        ("bsedgewick", "aibbotson", "one of the people, the name in another spelling"),
        ("fcotterill", "obrandreth", "somebody outside the bases"),
        ("bthornbury", "", "somebody who is gone"),
        ("bbarrowclough", "", "no name at all"),
        ("tashdown2", "", "no manager"),
    ] {
        assert_eq!(field(&preview, login, "head"), head, "{why}");
    }
    let [open] = &preview.open_fields[..] else { panic!("{:?}", preview.open_fields) };
    assert_eq!((open.login.as_str(), open.field.as_str()), ("bbarrowclough", "head"));
    assert_eq!((field(&preview, "aibbotson", "limit"), field(&preview, "tashdown2", "limit")), ("100", "10"));
}

#[tokio::test]
async fn a_snapshot_has_whom_fields_name() {
    let museum = museum().await;
    let live = museum.preview().await.unwrap();
    let text = museum.workspace().unwrap().take_snapshot(false).await.unwrap().write();
    museum.write("snapshot.ldif", &text);
    let file = museum.path().join("snapshot.ldif");
    let again = museum.workspace().unwrap().with_snapshot(&file).unwrap().preview().await.unwrap();
    assert_eq!((&again.changes, &again.gaps), (&live.changes, &live.gaps));
    // One that was taken by settings that follow nobody does not have them.
    museum.write("snapshot.ldif", text.replace("# followed: manager\n", ""));
    let without = museum.workspace().unwrap().with_snapshot(&file).unwrap().preview().await.unwrap();
    assert!(without.gaps.iter().any(|gap| gap.reason.contains("manager")), "{:?}", without.gaps);
    assert_eq!(without.held.iter().filter(|held| held.login == "fcotterill").count(), 1, "not known: held");
}

#[tokio::test]
async fn a_group_that_is_missing_gives_no_role_and_takes_none() {
    let museum = museum().await;
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    museum.write("webtaxon.toml", settings.replace("CN=Curators,", "CN=Curators of old,"));
    let preview = museum.preview().await.unwrap();
    assert!(!preview.is_whole() && preview.gaps[0].part.contains("Curators of old"), "{:?}", preview.gaps);
    let roles = preview.changes.iter().filter(|change| change.fields.contains_key("roles"));
    assert_eq!(roles.count(), 0, "{:?}", preview.changes);
}
