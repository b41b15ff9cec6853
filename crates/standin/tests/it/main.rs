//! The simulated directory over real sockets, spoken to message by message.
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    reason = "a test that panics has failed, as it should"
)]

mod manners;

use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_standin::{Directory, Fault, FaultKind, Options, Standin};
use webtaxon_wire::message::{Control, ExtendedRequest, LdapResult, Octets, Operation, Scope, SearchRequest};
use webtaxon_wire::{Conversation, Event, Message, control};

const MUSEUM: &[u8] = include_bytes!("../../../../demo/directory.ldif");
const BOTANY: &str = "OU=Botany,OU=People,DC=quillmere,DC=example";
const TOP: &str = "DC=quillmere,DC=example";

/// A client that speaks one message at a time.
struct Client {
    stream: TcpStream,
    conversation: Conversation,
    _standin: Arc<Standin>,
}

/// An attribute's name and its values.
type Attribute = (String, Vec<Vec<u8>>);

/// What a search brought: names with their attributes, the end, and the cookie.
struct Answer {
    entries: Vec<(String, Vec<Attribute>)>,
    references: Vec<String>,
    result: LdapResult,
    cookie: Option<Octets>,
}

impl Answer {
    fn names(&self) -> Vec<&str> {
        self.entries.iter().map(|(name, _)| name.as_str()).collect()
    }

    /// The attributes' names of the first entry.
    fn attributes(&self) -> Vec<&str> {
        self.entries
            .first()
            .map(|(_, list)| list.iter().map(|(name, _)| name.as_str()).collect())
            .unwrap_or_default()
    }

    fn values(&self, wanted: &str) -> Vec<String> {
        let all = self.entries.iter().flat_map(|(_, list)| list).filter(|(name, _)| name == wanted);
        all.flat_map(|(_, values)| values).map(|value| String::from_utf8_lossy(value).into_owned()).collect()
    }
}

async fn start(options: Options) -> Arc<Standin> {
    let directory = Arc::new(Directory::from_ldif(MUSEUM).unwrap());
    Arc::new(Standin::start(directory, Options { tls: false, ..options }).await.unwrap())
}

impl Client {
    async fn connect(standin: &Arc<Standin>) -> Self {
        let stream = TcpStream::connect(standin.address()).await.unwrap();
        Self { stream, conversation: Conversation::default(), _standin: Arc::clone(standin) }
    }

    /// Connected and signed in.
    async fn bound(options: Options) -> Self {
        let mut client = Self::connect(&start(options).await).await;
        assert_eq!(client.bind("svc-loansdesk@quillmere.example", "botanical-garden-42").await, 0);
        client
    }

    /// The next event; none if the server has hung up.
    async fn event(&mut self) -> Option<Event> {
        let outgoing = self.conversation.outgoing();
        self.stream.write_all(&outgoing).await.ok()?;
        let mut buffer = vec![0; 1 << 16];
        loop {
            if let Some(event) = self.conversation.next_event().unwrap() {
                return Some(event);
            }
            let reading = self.stream.read(&mut buffer);
            let count =
                tokio::time::timeout(Duration::from_secs(20), reading).await.expect("an answer").ok()?;
            if count == 0 {
                return None;
            }
            self.conversation.feed(&buffer[..count]);
        }
    }

    async fn bind(&mut self, name: &str, password: &str) -> u32 {
        self.conversation.bind(name, password.as_bytes(), Vec::new()).unwrap();
        match self.event().await {
            Some(Event::Bound(_, result, _)) => result.code.0,
            other => panic!("{other:?}"),
        }
    }

    async fn ask(&mut self, request: SearchRequest, controls: Vec<Control>) -> Option<Answer> {
        self.conversation.search(request, controls).unwrap();
        let (mut entries, mut references) = (Vec::new(), Vec::new());
        loop {
            match self.event().await? {
                Event::Reference(_, urls) => {
                    references.extend(urls.iter().map(|url| String::from_utf8_lossy(url).into_owned()));
                }
                Event::Entry(_, entry) => {
                    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
                    let list = entry
                        .attributes()
                        .map(|(name, values)| (text(name), values.map(<[u8]>::to_vec).collect()));
                    entries.push((text(entry.name()), list.collect()));
                }
                Event::Done(_, result, cookie) => {
                    return Some(Answer { entries, references, result, cookie });
                }
                other => panic!("{other:?}"),
            }
        }
    }

    async fn search(&mut self, base: &str, scope: Scope, filter: &str, attributes: &[&str]) -> Answer {
        self.ask(request(base, scope, filter, attributes), Vec::new()).await.expect("an end")
    }
}

fn request(base: &str, scope: Scope, filter: &str, attributes: &[&str]) -> SearchRequest {
    SearchRequest::new(base, scope, &Filter::parse(filter).unwrap(), attributes.iter().copied()).unwrap()
}

#[tokio::test]
async fn binds_are_answered_as_the_standard_says() {
    let standin = start(Options::default()).await;
    let dn = "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example";
    for (name, password, code, why) in [
        ("svc-loansdesk@quillmere.example", "botanical-garden-42", 0, "by userPrincipalName"),
        (dn, "botanical-garden-42", 0, "by name"),
        (&dn.to_lowercase(), "botanical-garden-42", 0, "by name in other letters"),
        (dn, "botanical-garden-43", 49, "a wrong password"),
        ("CN=nobody,DC=quillmere,DC=example", "botanical-garden-42", 49, "an unknown name looks the same"),
        (dn, "", 53, "a name without a password (RFC 4513 5.1.2)"),
        ("", "", 0, "anonymous"),
        ("", "something", 49, "a password without a name"),
        (
            "CN=Rosa Pemberton,OU=Registry,OU=People,DC=quillmere,DC=example",
            "x",
            49,
            "an entry without a password",
        ),
    ] {
        let mut client = Client::connect(&standin).await;
        assert_eq!(client.bind(name, password).await, code, "{why}");
    }
}

#[tokio::test]
async fn without_a_bind_only_the_server_itself_can_be_read() {
    let standin = start(Options::default()).await;
    let mut client = Client::connect(&standin).await;
    let root = client.search("", Scope::Base, "(objectClass=*)", &["+", "*"]).await;
    assert_eq!(root.values("namingContexts"), [TOP]);
    assert_eq!(root.values("supportedCapabilities"), ["1.2.840.113556.1.4.800"]);
    assert!(root.values("supportedControl").contains(&control::PAGED_RESULTS.to_owned()));
    let schema =
        client.search("cn=subschema", Scope::Base, "(objectClass=subschema)", &["attributeTypes"]).await;
    assert!(schema.values("attributeTypes").iter().any(|text| text.contains("NAME 'sAMAccountName'")));
    assert_eq!(client.search(TOP, Scope::Subtree, "(objectClass=*)", &[]).await.result.code.0, 1);
    let anybody = start(Options { anonymous: true, ..Options::default() }).await;
    let mut client = Client::connect(&anybody).await;
    assert_eq!(client.search(TOP, Scope::Base, "(objectClass=*)", &[]).await.entries.len(), 1);
    assert_eq!(client.bind("CN=x", "wrong").await, 49);
}

#[tokio::test]
async fn a_failed_bind_takes_the_earlier_one_away() {
    let mut client = Client::bound(Options::default()).await;
    assert_eq!(client.bind("svc-loansdesk@quillmere.example", "wrong").await, 49);
    assert_eq!(client.search(TOP, Scope::Base, "(objectClass=*)", &[]).await.result.code.0, 1);
}

#[tokio::test]
async fn scopes_reach_as_far_as_they_should() {
    let mut client = Client::bound(Options::default()).await;
    for (base, scope, filter, count, why) in [
        (BOTANY, Scope::Base, "(objectClass=*)", 1, "the base alone"),
        (BOTANY, Scope::One, "(objectClass=*)", 28, "its children, not itself"),
        (BOTANY, Scope::Subtree, "(objectClass=*)", 29, "itself and its children"),
        (TOP, Scope::One, "(objectClass=organizationalUnit)", 7, "one level, not two"),
        ("", Scope::Subtree, "(sAMAccountName=tashdown*)", 2, "the root reaches every tree"),
        ("", Scope::One, "(objectClass=*)", 1, "the tops of the trees"),
        (
            "ou=BOTANY, ou=people,dc=Quillmere,dc=Example",
            Scope::Base,
            "(ou=botany)",
            1,
            "a name in other letters",
        ),
        (TOP, Scope::Subtree, "(nonsense=1)", 0, "an unknown attribute is undefined, and so is its opposite"),
        (
            TOP,
            Scope::Subtree,
            "(!(nonsense=1))",
            0,
            "an unknown attribute is undefined, and so is its opposite",
        ),
    ] {
        assert_eq!(client.search(base, scope, filter, &["1.1"]).await.entries.len(), count, "{why}");
    }
}

#[tokio::test]
async fn attributes_are_selected_as_asked() {
    let mut client = Client::bound(Options::default()).await;
    let rosa = "CN=Rosa Pemberton,OU=Registry,OU=People,DC=quillmere,DC=example";
    for (wanted, has, has_not, why) in [
        (&[][..], &["mail", "objectGUID"][..], &["entryDN"][..], "nothing asked: every user attribute"),
        (&["*"], &["mail"], &["entryDN"], "every user attribute"),
        (&["+"], &["entryDN", "hasSubordinates"], &["mail"], "every operational one"),
        (&["*", "+"], &["mail", "entryDN"], &[], "both"),
        (&["1.1"], &[], &["mail", "entryDN"], "none"),
        (&["MAIL", "entrydn"], &["mail", "entryDN"], &["sn"], "by name, in any case"),
        (&["2.5.4.4"], &["sn"], &["mail"], "by OID"),
        (&["mail;lang-de"], &[], &["mail"], "an option that no value has"),
        (&["1.1", "mail"], &["mail"], &["sn"], "1.1 beside others means nothing"),
    ] {
        let answer = client.search(rosa, Scope::Base, "(objectClass=*)", wanted).await;
        let names = answer.attributes();
        assert!(has.iter().all(|name| names.contains(name)), "{why}: {names:?}");
        assert!(!has_not.iter().any(|name| names.contains(name)), "{why}: {names:?}");
    }
    let account = "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example";
    let answer = client.search(account, Scope::Base, "(objectClass=*)", &["*", "+", "userPassword"]).await;
    assert!(!answer.attributes().contains(&"userPassword"), "a password never goes out");
    let types =
        SearchRequest { types_only: true, ..request(rosa, Scope::Base, "(objectClass=*)", &["mail"]) };
    let answer = client.ask(types, Vec::new()).await.unwrap();
    assert_eq!((answer.attributes(), answer.values("mail").len()), (vec!["mail"], 0));
}

#[tokio::test]
async fn a_missing_base_tells_what_does_exist() {
    let mut client = Client::bound(Options::default()).await;
    for (base, matched) in
        [("OU=Fungi,OU=Botany,OU=People,DC=quillmere,DC=example", BOTANY), ("DC=elsewhere", "")]
    {
        let answer = client.search(base, Scope::Subtree, "(objectClass=*)", &[]).await;
        let told = String::from_utf8(answer.result.matched_dn.to_vec()).unwrap();
        assert_eq!((answer.result.code.0, told.as_str()), (32, matched), "{base}");
    }
    assert_eq!(client.search("Botany", Scope::Base, "(objectClass=*)", &[]).await.result.code.0, 34);
}

#[tokio::test]
async fn pages_come_one_after_the_other_and_all_of_them() {
    let mut client = Client::bound(Options::default()).await;
    let (mut names, mut cookie, mut pages) = (Vec::new(), Octets::default(), 0);
    loop {
        let question = request(BOTANY, Scope::Subtree, "(objectClass=user)", &["cn"]);
        let answer = client.ask(question, vec![control::paged(5, &cookie)]).await.unwrap();
        assert!(answer.entries.len() <= 5);
        names.extend(answer.names().into_iter().map(str::to_owned));
        pages += 1;
        match answer.cookie {
            Some(next) => cookie = next,
            None => break,
        }
    }
    let whole = client.search(BOTANY, Scope::Subtree, "(objectClass=user)", &["cn"]).await;
    assert_eq!((pages, names), (6, whole.names().into_iter().map(str::to_owned).collect()));
    let used = request(BOTANY, Scope::Subtree, "(objectClass=user)", &["cn"]);
    let answer = client.ask(used, vec![control::paged(5, &cookie)]).await.unwrap();
    assert_eq!(answer.result.code.0, 53, "a cookie is good for one page");
}

#[tokio::test]
async fn limits_end_a_search_with_what_was_found_so_far() {
    let limits = Options { size_limit: Some(10), paged_limit: Some(12), ..Options::default() };
    let mut client = Client::bound(limits).await;
    let question = || request(BOTANY, Scope::Subtree, "(objectClass=user)", &["1.1"]);
    let unpaged = client.ask(question(), Vec::new()).await.unwrap();
    assert_eq!((unpaged.entries.len(), unpaged.result.code.0), (10, 4), "without paging");
    let own = SearchRequest { size_limit: 3, ..question() };
    let answer = client.ask(own, Vec::new()).await.unwrap();
    assert_eq!((answer.entries.len(), answer.result.code.0), (3, 4), "the client's own limit");
    let exact = client.search(BOTANY, Scope::Subtree, "(sAMAccountName=a*)", &["1.1"]).await;
    assert_eq!(exact.result.code.0, 0, "fewer than the limit");
    let first = client.ask(question(), vec![control::paged(8, b"")]).await.unwrap();
    assert_eq!((first.entries.len(), first.result.code.0), (8, 0), "the first page");
    let second = client.ask(question(), vec![control::paged(8, &first.cookie.unwrap())]).await.unwrap();
    assert_eq!((second.entries.len(), second.result.code.0), (4, 4), "the limit counts over pages");
}

#[tokio::test]
async fn an_unknown_critical_control_is_refused_and_another_ignored() {
    let mut client = Client::bound(Options::default()).await;
    for (critical, code) in [(true, 12), (false, 0)] {
        let unknown = Control { oid: Octets::from_static(b"1.2.3"), critical, value: None };
        let answer =
            client.ask(request(TOP, Scope::Base, "(objectClass=*)", &[]), vec![unknown]).await.unwrap();
        assert_eq!(answer.result.code.0, code);
    }
}

#[tokio::test]
async fn an_abandoned_search_has_no_end_and_the_next_one_is_answered() {
    let mut client = Client::bound(Options::default()).await;
    let id =
        client.conversation.search(request(TOP, Scope::Subtree, "(objectClass=*)", &[]), vec![]).unwrap();
    client.conversation.abandon(id).unwrap();
    assert_eq!(client.search(TOP, Scope::Base, "(objectClass=*)", &["1.1"]).await.names(), [TOP]);
}

#[tokio::test]
async fn an_unbind_ends_the_connection_and_an_unknown_operation_does_not() {
    let mut client = Client::bound(Options::default()).await;
    let request = ExtendedRequest { name: Octets::from_static(b"1.2.3.4"), value: None };
    let bytes = Message::new(99, Operation::ExtendedRequest(request)).encode().unwrap();
    client.stream.write_all(&bytes).await.unwrap();
    let mut answer = [0; 256];
    let count = client.stream.read(&mut answer).await.unwrap();
    let Operation::ExtendedResponse(response) = Message::decode(&answer[..count]).unwrap().operation else {
        panic!()
    };
    assert_eq!(response.code.0, 2);
    client.conversation.unbind().unwrap();
    assert!(client.event().await.is_none());
}

#[tokio::test]
async fn bytes_that_are_no_ldap_end_only_their_own_connection() {
    let standin = start(Options::default()).await;
    for bytes in [&b"GET / HTTP/1.1\r\n\r\n"[..], &[0x30, 0x84, 0xff, 0xff, 0xff, 0xff], &[0x30, 3, 2, 1, 1]]
    {
        let mut stream = TcpStream::connect(standin.address()).await.unwrap();
        stream.write_all(bytes).await.unwrap();
        let mut rest = Vec::new();
        let ended = tokio::time::timeout(Duration::from_secs(20), stream.read_to_end(&mut rest)).await;
        assert!(ended.is_ok() && rest.is_empty());
    }
    assert_eq!(Client::connect(&standin).await.bind("", "").await, 0);
}

#[tokio::test]
async fn a_cut_comes_after_exactly_so_many_messages() {
    for cut in [1, 2, 7] {
        let standin = start(Options {
            anonymous: true,
            fault: Some(Fault { kind: FaultKind::Cut, after: cut }),
            ..Options::default()
        })
        .await;
        let mut client = Client::connect(&standin).await;
        client
            .conversation
            .search(request(BOTANY, Scope::Subtree, "(objectClass=*)", &["1.1"]), vec![])
            .unwrap();
        let mut came = 0;
        while client.event().await.is_some() {
            came += 1;
        }
        assert_eq!(came, cut);
    }
}
