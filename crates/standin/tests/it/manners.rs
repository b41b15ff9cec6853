//! The two kinds of server, each as measured on real ones or as the specification says.

use crate::{BOTANY, Client, MUSEUM, TOP, request};
use std::fmt::Write as _;
use std::sync::Arc;
use webtaxon_core::ldap::ldif;
use webtaxon_standin::{Directory, Manner, Options, Standin, scenario};
use webtaxon_wire::control::{self, WHO_AM_I};
use webtaxon_wire::message::{Operation, Scope};
use webtaxon_wire::{Event, Message};

async fn serving(ldif: &str, manner: Manner, options: Options) -> Client {
    let directory = Arc::new(Directory::with_manner(ldif.as_bytes(), manner).unwrap());
    let standin = Standin::start(directory, Options { tls: false, ..options }).await.unwrap();
    Client::connect(&Arc::new(standin)).await
}

fn anonymous() -> Options {
    Options { anonymous: true, ..Options::default() }
}

/// Accounts in every state that a bind can meet.
fn accounts() -> String {
    let mut ldif = String::from_utf8(MUSEUM.to_vec()).unwrap();
    for (login, state) in [
        ("fine", ""),
        ("disabled", "userAccountControl: 514\n"),
        ("ended", "accountExpires: 132000000000000000\n"),
        ("endless", "accountExpires: 9223372036854775807\n"),
        ("newcomer", "pwdLastSet: 0\n"),
        ("stale", "userAccountControl: 8389120\n"),
        ("locked", "lockoutTime: 134000000000000000\n"),
        ("desk", "userWorkstations: DESK-1\n"),
        ("night", "logonHours:: AAAAAAAAAAAAAAAAAAAAAAAAAAAA\n"),
    ] {
        let _ = write!(
            ldif,
            "\ndn: CN={login},OU=Service Accounts,{TOP}\nobjectClass: user\ncn: {login}\nsAMAccountName: {login}\n\
             userPrincipalName: {login}@quillmere.example\nuserPassword: right\n{state}"
        );
    }
    ldif
}

#[tokio::test]
async fn a_controller_says_why_it_refuses_a_bind() {
    let mut client = serving(&accounts(), Manner::Controller, Options::default()).await;
    for (login, password, data) in [
        ("nobody", "right", "525"),
        ("fine", "wrong", "52e"),
        ("disabled", "wrong", "52e"),
        ("locked", "wrong", "775"),
        ("locked", "right", "775"),
        ("night", "right", "530"),
        ("desk", "right", "531"),
        ("stale", "right", "532"),
        ("disabled", "right", "533"),
        ("ended", "right", "701"),
        ("newcomer", "right", "773"),
        ("fine", "right", ""),
        ("endless", "right", ""),
    ] {
        let id = client
            .conversation
            .bind(&format!("{login}@quillmere.example"), password.as_bytes(), vec![])
            .unwrap();
        let Some(Event::Bound(its, result, _)) = client.event().await else { panic!("{login}") };
        let code = if data.is_empty() { 0 } else { 49 };
        assert_eq!((its, result.code.0), (id, code), "{login} {password}: {}", result.words());
        assert!(
            data.is_empty() || result.words().contains(&format!("data {data},")),
            "{login}: {}",
            result.words()
        );
    }
}

#[tokio::test]
async fn a_controller_takes_its_own_forms_of_a_name_and_no_bare_login() {
    let mut client = serving(&accounts(), Manner::Controller, Options::default()).await;
    for (name, code) in [
        ("CN=fine,OU=Service Accounts,DC=quillmere,DC=example", 0),
        ("FINE@quillmere.example", 0),
        ("QUILLMERE\\fine", 0),
        ("quillmere.example\\fine", 49),
        ("ELSEWHERE\\fine", 49),
        ("fine", 49),
    ] {
        assert_eq!(client.bind(name, "right").await, code, "{name}");
    }
    let account = format!("CN=fine,OU=Service Accounts,{TOP}");
    assert_eq!(client.bind(&account, "right").await, 0);
    let answer = client
        .ask(request(&account, Scope::Base, "(objectClass=*)", &["objectGUID"]), Vec::new())
        .await
        .unwrap();
    let guid = &answer.entries[0].1[0].1[0];
    let text = webtaxon_core::ldap::value::readable("objectGUID", guid);
    assert_eq!(client.bind(&format!("<GUID={text}>"), "right").await, 0);
}

#[tokio::test]
async fn a_controller_computes_who_is_in_which_group() {
    let ldif = String::from_utf8(MUSEUM.to_vec()).unwrap();
    let mut client = serving(&ldif, Manner::Controller, anonymous()).await;
    let beatrice =
        client.search(TOP, Scope::Subtree, "(cn=Beatrice Thornbury)", &["memberOf", "primaryGroupID"]).await;
    assert!(!beatrice.values("primaryGroupID").is_empty());
    let primary = client.search(TOP, Scope::Subtree, "(cn=Loans Desk Terminal Users)", &["member"]).await;
    assert!(
        !primary.values("member").iter().any(|name| name.contains("Beatrice")),
        "a primary group lists nobody"
    );
    let lenders = "memberOf:1.2.840.113556.1.4.1941:=CN=Loans Desk Users,OU=Groups,DC=quillmere,DC=example";
    let nested =
        client.search(TOP, Scope::Subtree, &format!("(&(objectClass=user)({lenders}))"), &["1.1"]).await;
    let direct = client
        .search(
            TOP,
            Scope::Subtree,
            &format!("(&(objectClass=user)({}))", lenders.replace(":1.2.840.113556.1.4.1941:", "")),
            &["1.1"],
        )
        .await;
    assert!(
        nested.entries.len() > 70 && direct.entries.len() < 10,
        "{} {}",
        nested.entries.len(),
        direct.entries.len()
    );
    let neither =
        client.search(TOP, Scope::Subtree, &format!("(&(objectClass=user)(!({lenders})))"), &["1.1"]).await;
    let all = client.search(TOP, Scope::Subtree, "(objectClass=user)", &["1.1"]).await;
    assert_eq!(nested.entries.len() + neither.entries.len(), all.entries.len());
    let cycle = client
        .search(
            TOP,
            Scope::Subtree,
            &format!("(&(cn=Field Teams)({}))", lenders.replace("Loans Desk Users", "Field Teams")),
            &["1.1"],
        )
        .await;
    assert_eq!(cycle.entries.len(), 1, "in a cycle the group itself is found, too");
    let ada = "CN=Ibbotson\\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example";
    let tokens = client.search(ada, Scope::Base, "(objectClass=*)", &["tokenGroups"]).await;
    let groups =
        client.search(ada, Scope::Base, "(objectClass=*)", &["memberOf"]).await.values("memberOf").len();
    assert!(tokens.entries[0].1[0].1.len() > groups, "nested and primary groups, too");
    let below = client.search(BOTANY, Scope::Subtree, "(objectClass=user)", &["tokenGroups"]).await;
    assert!(below.attributes().is_empty(), "only at base scope");
}

#[tokio::test]
async fn a_controller_gives_long_lists_of_members_in_ranges() {
    let group = format!("CN=Everybody,{TOP}");
    let mut ldif = format!(
        "dn: {TOP}\nobjectClass: domain\ndc: quillmere\n\ndn: {group}\nobjectClass: group\ncn: Everybody\n"
    );
    for number in 0..3200 {
        let _ = writeln!(ldif, "member: CN=p{number:04},{TOP}");
    }
    let mut client = serving(&ldif, Manner::Controller, anonymous()).await;
    for (asked, names, count, first) in [
        ("member", &["member", "member;range=0-1499"][..], 1500, "CN=p0000"),
        ("member;range=1500-*", &["member;range=1500-2999"], 1500, "CN=p1500"),
        ("member;range=3000-*", &["member;range=3000-*"], 200, "CN=p3000"),
        ("member;range=10-19", &["member;range=10-19"], 10, "CN=p0010"),
        ("member;range=3200-*", &[], 0, ""),
    ] {
        let answer = client.search(&group, Scope::Base, "(objectClass=*)", &[asked]).await;
        assert_eq!(answer.attributes(), names, "{asked}");
        let values: Vec<String> = names.iter().flat_map(|name| answer.values(name)).collect();
        assert_eq!(values.len(), count, "{asked}");
        assert!(values.first().is_none_or(|value| value.starts_with(first)), "{asked}");
    }
}

#[tokio::test]
async fn each_kind_has_its_own_limits_and_references() {
    let mut ldif = format!("dn: {TOP}\nobjectClass: domain\ndc: quillmere\n");
    for number in 0..1100 {
        let _ = write!(ldif, "\ndn: CN=p{number},{TOP}\nobjectClass: person\ncn: p{number}\n");
    }
    for (manner, limit, on_page, references) in
        [(Manner::Controller, 1000, 1000, 3), (Manner::Plain, 500, 1100, 0)]
    {
        let mut client = serving(&ldif, manner, anonymous()).await;
        let unpaged = client.search(TOP, Scope::Subtree, "(objectClass=person)", &["1.1"]).await;
        assert_eq!((unpaged.entries.len(), unpaged.result.code.0), (limit, 4), "{manner:?}");
        let question = request(TOP, Scope::Subtree, "(objectClass=person)", &["1.1"]);
        let paged = client.ask(question, vec![control::paged(5000, b"")]).await.unwrap();
        assert_eq!((paged.entries.len(), paged.cookie.is_some()), (on_page, on_page < 1100), "{manner:?}");
        let top = client.search(TOP, Scope::Subtree, "(cn=p1)", &["1.1"]).await;
        assert_eq!(top.references.len(), references, "{manner:?}: {:?}", top.references);
        let question = request(TOP, Scope::Subtree, "(cn=p1)", &["1.1"]);
        let inside = client.ask(question, vec![control::domain_scope()]).await.unwrap();
        assert_eq!(inside.references.len(), 0, "{manner:?}");
    }
}

#[tokio::test]
async fn only_the_plain_kind_says_who_one_is_and_keeps_one_paged_search() {
    let plain = scenario::plain(&ldif::entries(MUSEUM).unwrap());
    let account = format!("CN=svc-loansdesk,OU=Service Accounts,{TOP}");
    for (text, manner, answer) in [
        (plain.as_str(), Manner::Plain, Some(format!("dn:{account}"))),
        (std::str::from_utf8(MUSEUM).unwrap(), Manner::Controller, None),
    ] {
        let mut client = serving(text, manner, Options::default()).await;
        assert_eq!(client.bind(&account, "botanical-garden-42").await, 0);
        client.conversation.extended(WHO_AM_I).unwrap();
        let Some(Event::Extended(_, result, value)) = client.event().await else { panic!() };
        let value = value.map(|value| String::from_utf8(value.to_vec()).unwrap());
        assert_eq!((result.code.0 == 0, value), (answer.is_some(), answer), "{manner:?}");
        let page = |cookie: &[u8]| vec![control::paged(5, cookie)];
        let people = || request(BOTANY, Scope::Subtree, "(cn=*)", &["1.1"]);
        let first = client.ask(people(), page(b"")).await.unwrap().cookie.unwrap();
        client.ask(people(), page(b"")).await.unwrap();
        let again = client.ask(people(), page(&first)).await.unwrap().result.code.0;
        assert_eq!(again, if manner == Manner::Plain { 53 } else { 0 }, "{manner:?}");
    }
}

#[test]
fn the_museums_plain_form_is_what_the_demo_ships() {
    let made = scenario::plain(&ldif::entries(MUSEUM).unwrap());
    let file = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/directory-plain.ldif");
    if std::env::var("SNAPSHOTS").is_ok_and(|value| value == "overwrite") {
        std::fs::write(&file, &made).unwrap();
    }
    assert_eq!(std::fs::read_to_string(file).unwrap(), made, "SNAPSHOTS=overwrite writes it anew");
    let entries = ldif::entries(made.as_bytes()).unwrap();
    assert_eq!(Manner::of(&entries), Manner::Plain);
    assert_eq!(entries.len(), ldif::entries(MUSEUM).unwrap().len());
}

#[tokio::test]
async fn nothing_but_tls_follows_the_answer_to_start_tls() {
    let mut client =
        serving(std::str::from_utf8(MUSEUM).unwrap(), Manner::Controller, Options::default()).await;
    // A request behind StartTLS, in plain text: the server must not take it as said in secret.
    client.conversation.extended(control::START_TLS).unwrap();
    client.conversation.extended(WHO_AM_I).unwrap();
    assert!(matches!(client.event().await, Some(Event::Extended(_, result, _)) if result.code.0 == 0));
    assert!(client.event().await.is_none(), "the server hangs up");
    let off = Options { start_tls: false, secure_bind: true, ..Options::default() };
    let mut client = serving(std::str::from_utf8(MUSEUM).unwrap(), Manner::Controller, off).await;
    client.conversation.extended(control::START_TLS).unwrap();
    assert!(matches!(client.event().await, Some(Event::Extended(_, result, _)) if result.code.0 == 2));
    assert_eq!(client.bind("svc-loansdesk@quillmere.example", "botanical-garden-42").await, 8);
    let unbind = Message::new(9, Operation::UnbindRequest(())).encode().unwrap();
    tokio::io::AsyncWriteExt::write_all(&mut client.stream, &unbind).await.unwrap();
    assert!(client.event().await.is_none());
}
