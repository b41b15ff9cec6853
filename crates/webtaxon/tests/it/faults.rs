//! Servers, and things on the way to them, that do wrong: one clear message each, in time, in
//! bounded memory, and never a proof of a whole reading.

use crate::museum::{DIRECTORY, Museum, fails};
use proptest::prelude::*;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use webtaxon::model::preview::{ChangeKind, HeldReason};
use webtaxon_standin::{Directory, Fault, FaultKind, Manner, Options};

/// A server that says something of its own when it is asked.
async fn impostor(museum: &Museum, bytes: &'static [u8], stay: bool, timeout: &str) {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let settings = museum.settings().replace(&museum.standin().url(), &format!("ldap://{address}"));
    let plain = format!("plain = true\ntimeout = \"{timeout}\"");
    let patient = settings.replace("timeout  = \"10s\"", &plain);
    museum.write("webtaxon.toml", patient);
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut request = [0; 512];
            let _ = stream.read(&mut request).await;
            let _ = stream.write_all(bytes).await;
            if stay {
                tokio::time::sleep(Duration::from_secs(60)).await;
            }
        }
    });
}

#[tokio::test]
async fn servers_that_break_the_protocol_end_in_time_with_a_clear_message() {
    let museum = Museum::open().await;
    for (bytes, stay, message, code) in [
        (&b""[..], true, "no answer within 500 ms", "WX0304"),
        (b"", false, "the connection was lost", "WX0314"),
        (b"HTTP/1.1 400 Bad Request\r\n\r\n", true, "not an LDAP message", "WX0312"),
        (&[0x30, 0], true, "not an LDAP message", "WX0312"),
        (&[0x30, 0x84, 0xff, 0xff, 0xff, 0xff], true, "a message of 4294967295 bytes", "WX0311"),
        (&[0x30, 12, 2, 1, 9, 0x65, 7, 0x0a, 1, 0, 4, 0, 4, 0], true, "never made (message 9)", "WX0312"),
        (&[0x30, 12, 2, 1, 1, 0x61, 7, 0x0a, 1, 0, 4, 0, 4, 0], true, "does not fit the request", "WX0312"),
        (
            &[0x30, 12, 2, 1, 0, 0x78, 7, 0x0a, 1, 52, 4, 0, 4, 0],
            true,
            "ended the connection: unavailable",
            "WX0313",
        ),
        (&[0x30, 12, 2, 1, 1, 0x65, 7, 0x0a, 1, 80, 4, 0, 4, 0], true, "other (80)", "WX0401"),
        (&[0x30, 0x20, 2, 1, 1], true, "no answer within 500 ms", "WX0304"),
    ] {
        // Only who is silent is waited for; a busy machine must not make the others look silent.
        let timeout = if message.starts_with("no answer") { "500ms" } else { "15s" };
        impostor(&museum, bytes, stay, timeout).await;
        let began = Instant::now();
        fails(&museum, message, code, "").await;
        assert!(began.elapsed() < Duration::from_secs(20), "{message}");
    }
}

/// A program that looks for the cause finds the error itself, and its text in the message.
#[tokio::test]
async fn the_cause_of_an_error_is_its_source() {
    use std::error::Error as _;
    let museum = Museum::open().await;
    let port = museum.standin().url();
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let original = museum.settings();
    for (settings, remove, why) in [
        (original.replace(&port, &format!("ldaps://{closed}")), "", "no server"),
        (original.clone(), "accounts.csv", "no list"),
        (original.clone(), "webtaxon.toml", "no settings"),
    ] {
        museum.write("webtaxon.toml", settings);
        if !remove.is_empty() {
            std::fs::remove_file(museum.path().join(remove)).unwrap();
        }
        let error = museum.preview().await.expect_err(why);
        let source = error.source().unwrap_or_else(|| panic!("{why}: {error}"));
        assert!(source.is::<std::io::Error>(), "{why}: {source:?}");
        assert!(error.to_string().contains(&source.to_string()), "{why}: {error}");
    }
}

/// The museum at a server that does wrong, and waits of this length.
async fn faulty(fault: &str, timeout: &str) -> Museum {
    let fault: Fault = fault.parse().unwrap();
    let museum = Museum::with(DIRECTORY, Options { fault: Some(fault), ..Options::default() }).await;
    // Only a slow answer meets the deadline, however slow the machine is.
    let deadline = if fault.kind == FaultKind::Drip { "15s" } else { "5m" };
    let patient =
        format!("timeout  = \"{timeout}\"\nconnect_timeout = \"{timeout}\"\ndeadline = \"{deadline}\"");
    museum.change("timeout  = \"10s\"", &patient);
    museum
}

/// A fault that comes early ends the run; one that comes later leaves a gap. Nobody is taken away
/// either way, and it ends.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_fault_is_taken_for_a_whole_reading() {
    let cases = [
        ("cut-inside@0", "10s", "was lost"),
        ("cut-inside@2", "10s", "was lost"),
        ("cut-inside@150", "10s", "was lost"),
        ("cut-inside@260", "10s", "was lost"),
        ("stall@0", "500ms", "no answer within 500 ms"),
        ("stall@3", "500ms", "no answer within 500 ms"),
        ("stall@100", "500ms", "no answer within 500 ms"),
        ("stall@265", "500ms", "no answer within 500 ms"),
        ("drip@1", "5s", "deadline of 15 s"),
        ("notice@3", "10s", "ended the connection: unavailable"),
        ("notice@200", "10s", "ended the connection: unavailable"),
        ("huge@3", "10s", "a message of 4294967295 bytes"),
        ("huge@100", "10s", "a message of 4294967295 bytes"),
        ("lie@3", "10s", "not an LDAP message"),
        ("lie@100", "10s", "not an LDAP message"),
        ("nested@3", "10s", "not an LDAP message"),
        ("nested@100", "10s", "not an LDAP message"),
        ("wrong-id@3", "10s", "never made"),
        ("wrong-id@100", "10s", "never made"),
        ("odd-end@3", "10s", "does not fit the request"),
        ("odd-end@100", "10s", "does not fit the request"),
        ("empty-pages@0", "10s", "empty pages without end"),
        ("same-page@0", "10s", "the same entries again and again"),
        ("busy@1000", "10s", "busy (51)"),
    ];
    let mut running = tokio::task::JoinSet::new();
    for (fault, timeout, message) in cases {
        running.spawn(takes_nobody_away(fault, timeout, message));
    }
    while let Some(ended) = running.join_next().await {
        ended.unwrap();
    }
}

/// With this fault, a preview tells the message in time and has no proof.
async fn takes_nobody_away(fault: &'static str, timeout: &'static str, message: &'static str) {
    let museum = faulty(fault, timeout).await;
    let began = Instant::now();
    let told = match museum.preview().await {
        Err(error) => error.to_string(),
        Ok(preview) => {
            assert!(!preview.is_whole(), "{fault}: there must be no proof");
            let takes = |change: &&webtaxon::model::preview::Change| {
                ["suspend", "remove"].contains(&change.kind().name())
            };
            assert_eq!(preview.changes.iter().filter(takes).count(), 0, "{fault}");
            preview.gaps.iter().map(|gap| format!("{}; ", gap.reason)).collect()
        }
    };
    assert!(told.contains(message), "{fault}: {told}");
    assert!(began.elapsed() < Duration::from_secs(240), "{fault}: {:?}", began.elapsed());
}

#[tokio::test]
async fn a_server_that_is_busy_for_a_while_is_asked_again() {
    let museum = faulty("busy@2", "10s").await;
    assert!(museum.preview().await.unwrap().is_whole());
}

#[tokio::test]
async fn where_a_server_goes_away_the_next_one_reads_from_the_beginning() {
    let museum = faulty("cut@150", "10s").await;
    let (url, whole) = (museum.standin().url(), Museum::open().await);
    let other = whole.standin().url();
    let both = [museum.standin().authority_pem(), whole.standin().authority_pem()].concat();
    museum.write("museum-ca.pem", both);
    museum.change(&format!("\"{url}\""), &format!("\"{url}\", \"{other}\""));
    let preview = museum.preview().await.unwrap();
    assert!(preview.is_whole() && preview.intakes.first.server == other, "{:?}", preview.gaps);
    assert!(
        preview.intakes.first.notes[0].contains("was lost; the reading started again on"),
        "{:?}",
        preview.intakes.first.notes
    );
    let expected = whole.preview().await.unwrap();
    assert_eq!(
        (preview.changes, preview.intakes.first.funnel),
        (expected.changes, expected.intakes.first.funnel)
    );
    // The same the other way round: the last server has nobody behind it.
    museum.change(&format!("\"{url}\""), &format!("\"{url}\", \"ldaps://no-such-host.invalid\""));
    assert!(!museum.preview().await.unwrap().is_whole());
}

#[tokio::test]
async fn a_server_that_gives_few_entries_at_once_is_read_in_parts() {
    let expected = Museum::open().await.preview().await.unwrap();
    for (options, why) in [
        (Options { paged_limit: Some(40), ..Options::default() }, "a hard limit over all pages"),
        (Options { paging: false, size_limit: Some(40), ..Options::default() }, "no pages at all"),
        (Options { paging: false, size_limit: Some(7), ..Options::default() }, "hardly anything at once"),
    ] {
        let museum = Museum::with(DIRECTORY, options).await;
        let preview = museum.preview().await.unwrap();
        assert!(preview.is_whole(), "{why}: {:?}", preview.gaps);
        assert!(
            preview.intakes.first.notes.iter().any(|note| note.contains("parts by sAMAccountName")),
            "{why}: {:?}",
            preview.intakes.first.notes
        );
        assert_eq!(
            (&preview.changes, &preview.intakes.first.funnel),
            (&expected.changes, &expected.intakes.first.funnel),
            "{why}"
        );
    }
    let hidden = vec!["sAMAccountName".to_owned(), "uid".to_owned(), "cn".to_owned()];
    let museum =
        Museum::with(DIRECTORY, Options { paged_limit: Some(40), hidden, ..Options::default() }).await;
    assert!(!museum.preview().await.unwrap().is_whole(), "names that are hidden cannot be split by");
}

/// Promise 1: what contradicts itself, or was not shown, takes nobody away and no role; and says what to do.
#[tokio::test]
async fn evidence_that_does_not_hold_takes_nobody_away() {
    let below = |dn: &str| Options { hidden_below: vec![dn.to_owned()], ..Options::default() };
    let unsearchable = Options { unsearchable: vec!["objectGUID".to_owned()], ..Options::default() };
    let people = "OU=People,DC=quillmere,DC=example";
    let rows: [(&str, Options, [&str; 2], &str); 12] = [
        (
            "a group that is misspelt",
            Options::default(),
            ["CN=Leavers,", "CN=Leevers,"],
            "group CN=Leevers,OU=Groups,DC=quillmere,DC=example: the server does not show it; did you mean CN=Leavers,",
        ),
        (
            "a base that is hidden",
            below(people),
            ["", ""],
            "base OU=People,DC=quillmere,DC=example: the server does not show it",
        ),
        (
            "a base that is misspelt",
            Options::default(),
            ["\"OU=People,", "\"OU=Poeple,"],
            "base OU=Poeple,DC=quillmere,DC=example: the server does not show it; did you mean OU=People,DC=quillmere,DC=example?",
        ),
        (
            "a part of it that is misspelt",
            Options::default(),
            ["\"OU=People,", "\"OU=Botany,OU=Peopel,"],
            "did you mean OU=Botany,OU=People,DC=quillmere,DC=example?",
        ),
        (
            "a base of another tree",
            Options::default(),
            ["\"OU=People,DC=quillmere,", "\"OU=People,DC=quilmere,"],
            "this server holds DC=quillmere,DC=example",
        ),
        (
            "a base for groups that does not exist",
            Options::default(),
            ["group_bases  = [\"OU=Groups,", "group_bases  = [\"OU=Nests,"],
            "group base OU=Nests,DC=quillmere,DC=example: the server does not show it",
        ),
        (
            "an identity that nobody can search for",
            unsearchable,
            ["", ""],
            "choose another attribute with `identity`",
        ),
        (
            "a list cut short with success",
            Options { fault: Some("short@150".parse().unwrap()), ..Options::default() },
            ["page     = 100", ""],
            "matches the filter, but the search there did not return it",
        ),
        (
            "an empty list that somebody claims to be in",
            Options { hidden: vec!["member".to_owned()], ..Options::default() },
            ["", ""],
            "claims to be one (memberOf)",
        ),
        (
            "a domain controller that does not say so",
            Options { hidden: vec!["supportedCapabilities".to_owned()], ..Options::default() },
            ["", ""],
            "the server does not say that it is one",
        ),
        (
            "a reference to a local socket",
            Options { references: vec!["ldapi://%2Fvar%2Frun%2Fldapi".to_owned()], ..Options::default() },
            ["page     = 100", "references = \"follow\""],
            "may not send us to a local socket",
        ),
        (
            "a naming context that is not all",
            Options { tops: Some(vec![people.to_owned()]), ..Options::default() },
            ["", ""],
            "lies outside the trees that the server names",
        ),
    ];
    for (what, options, [from, to], wanted) in rows {
        let museum = Museum::with(DIRECTORY, options).await;
        if !from.is_empty() {
            museum.change(from, to);
        }
        let preview = museum.preview().await.unwrap();
        let gaps: Vec<String> = preview.gaps.iter().map(ToString::to_string).collect();
        assert!(gaps.iter().any(|gap| gap.contains(wanted)), "{what}: {gaps:#?}");
        let leaving = [ChangeKind::Remove, ChangeKind::Suspend, ChangeKind::Wait];
        let gone = preview.changes.iter().filter(|change| leaving.contains(&change.kind())).count();
        assert_eq!((gone, preview.is_whole()), (0, false), "{what}");
    }
}

/// Servers that say less than others, or do less than they say, are read all the same.
#[tokio::test]
async fn odd_servers_are_read_whole() {
    let expected = Museum::open().await.preview().await.unwrap();
    let urls = vec!["ldap://127.0.0.1:1/OU=Annexe,DC=quillmere,DC=example".to_owned()];
    for (what, options, line) in [
        ("pages that are advertised and refused", Options { refuses_pages: true, ..Options::default() }, ""),
        (
            "what other servers hold is not ours",
            Options { references: urls, ..Options::default() },
            "references = \"elsewhere\"",
        ),
        (
            "no naming contexts",
            Options {
                tops: Some(Vec::new()),
                hidden: vec!["defaultNamingContext".to_owned()],
                ..Options::default()
            },
            "tops = [\"DC=quillmere,DC=example\"]",
        ),
    ] {
        let museum = Museum::with(DIRECTORY, options).await;
        museum.change("page     = 100", &format!("page = 100\n{line}"));
        let preview = museum.preview().await.unwrap();
        assert!(preview.is_whole(), "{what}: {:?}", preview.gaps);
        assert_eq!(preview.changes, expected.changes, "{what}");
    }
}

/// Where the rules leave doubt, the server is asked, and whoever it judges otherwise is left alone.
#[tokio::test]
async fn whom_the_server_judges_otherwise_is_left_alone() {
    let options = || Options { unsearchable: vec!["department".to_owned()], ..Options::default() };
    for (active, is_doubtful) in [("(!(department~=Botany))", true), ("(!(department=Botany))", false)] {
        let museum = Museum::with(DIRECTORY, options()).await;
        museum.change("(!(userAccountControl:1.2.840.113556.1.4.803:=2))", active);
        let preview = museum.preview().await.unwrap();
        assert!(preview.is_whole(), "{:?}", preview.gaps);
        let held = preview.held.iter().filter(|held| held.reason == HeldReason::JudgedOtherwise).count();
        let suspended = preview.of_kind(ChangeKind::Suspend).count();
        assert_eq!((held > 5, suspended > 10), (is_doubtful, !is_doubtful), "{held} {suspended}");
        let notes = preview.intakes.first.notes.join("; ");
        assert_eq!(
            notes.contains("judges (!(department~=Botany)) in a way of its own"),
            is_doubtful,
            "{notes}"
        );
    }
}

/// What another server keeps is missing until it was read there, whatever way led to it.
#[tokio::test]
async fn a_reference_that_is_not_followed_to_its_end_takes_nobody_away() {
    for (fault, references, message) in [
        (None, "ignore", "was not followed"),
        (None, "refuse", "is held by another server"),
        (None, "follow", "which was not read"),
        (Some("hurried@3"), "ignore", "was not followed"),
    ] {
        let fault = fault.map(|fault| fault.parse().unwrap());
        let urls = vec!["ldap://127.0.0.1:1/OU=Annexe,DC=quillmere,DC=example".to_owned()];
        let museum = Museum::with(DIRECTORY, Options { fault, references: urls, ..Options::default() }).await;
        museum.change("page     = 100", &format!("references = \"{references}\""));
        let preview = museum.preview().await.unwrap();
        let people = preview.gaps.iter().find(|gap| gap.part.starts_with("people under"));
        let reason = people.map_or("", |gap| gap.reason.as_str());
        assert!(
            !preview.is_whole() && reason.contains(message),
            "{references}, {fault:?}: {:?}",
            preview.gaps
        );
    }
}

#[tokio::test]
async fn a_search_that_ran_out_of_time_is_whole_once_the_server_gives_it_time() {
    let expected = Museum::open().await.preview().await.unwrap();
    let preview = faulty("hurried@5", "10s").await.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    assert_eq!(
        (preview.changes, preview.intakes.first.funnel),
        (expected.changes, expected.intakes.first.funnel)
    );
}

#[tokio::test]
async fn a_server_that_goes_away_before_it_lets_anybody_in_gives_way_to_the_next() {
    let whole = Museum::open().await;
    let other = whole.standin().url();
    for fault in ["cut@0", "cut@1", "cut@2", "notice@2", "busy@1000"] {
        let museum = faulty(fault, "10s").await;
        let url = museum.standin().url();
        museum.write(
            "museum-ca.pem",
            [museum.standin().authority_pem(), whole.standin().authority_pem()].concat(),
        );
        museum.change(&format!("\"{url}\""), &format!("\"{url}\", \"{other}\""));
        let preview = museum.preview().await.unwrap_or_else(|error| panic!("{fault}: {error}"));
        assert!(preview.is_whole() && preview.intakes.first.server == other, "{fault}");
    }
}

/// Somebody comes into the part that was read already, out of one that is still to come.
#[tokio::test]
async fn a_person_who_moves_while_the_others_are_read_is_found_on_a_second_look() {
    let rosa = "CN=Rosa Pemberton,OU=Registry,OU=People,DC=quillmere,DC=example";
    let moved = DIRECTORY.replace(&format!("dn: {rosa}\n"), &format!("dn: {rosa}\nuSNChanged: 1000\n"));
    let elsewhere = moved.replace(
        &format!("dn: {rosa}\n"),
        "dn: CN=Rosa Pemberton,OU=Service Accounts,DC=quillmere,DC=example\n",
    );
    let elsewhere = elsewhere.replace("uSNChanged: 1000\n", "uSNChanged: 999\n");
    let expected = Museum::open().await.preview().await.unwrap();
    // Searches up to the people's three pages: the root DSE twice, two places, three groups, and they.
    let after = |searches| {
        let later = Directory::with_manner(moved.as_bytes(), Manner::Controller).unwrap();
        Options { moments: vec![(searches, Arc::new(later))], ..Options::default() }
    };
    let museum = Museum::with(&elsewhere, after(10)).await;
    let preview = museum.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    assert!(
        preview.intakes.first.notes[0].contains("at a second look, 1 more was found"),
        "{:?}",
        preview.intakes.first.notes
    );
    assert_eq!(
        (&preview.changes, &preview.intakes.first.funnel),
        (&expected.changes, &expected.intakes.first.funnel)
    );
    // Before the people were read: they are as before then, and groups list them as they are.
    let early = Museum::with(&elsewhere, after(5)).await.preview().await.unwrap();
    assert_eq!(early.changes, expected.changes);
    let quiet = Museum::with(&moved, Options::default()).await.preview().await.unwrap();
    assert!(quiet.intakes.first.notes.is_empty(), "{:?}", quiet.intakes.first.notes);
}

#[tokio::test]
async fn a_page_that_is_too_large_for_the_server_is_made_smaller() {
    let museum = Museum::with(DIRECTORY, Options { largest_page: Some(30), ..Options::default() }).await;
    assert!(museum.preview().await.unwrap().is_whole());
}

/// Most servers give a group of very many members in one entry, which is longer than what anybody else would be let
/// say; here it is a name that is.
#[tokio::test]
async fn an_entry_of_many_megabytes_is_read() {
    let name = "displayName: Greta Fennimore\n";
    assert_eq!(DIRECTORY.matches(name).count(), 1);
    let long = DIRECTORY.replace(name, &format!("displayName: {}\n", "x".repeat(17 << 20)));
    let preview = Museum::with(&long, Options::default()).await.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
}

#[tokio::test]
async fn a_downgrade_is_never_gone_along_with() {
    let injected = Options { tls: false, fault: Some("injected".parse().unwrap()), ..Options::default() };
    let museum = Museum::with(DIRECTORY, injected).await;
    fails(&museum, "data was injected before the connection was secure", "WX0318", "tampering").await;
    let options = Options { tls: false, start_tls: false, ..Options::default() };
    let museum = Museum::with(DIRECTORY, options.clone()).await;
    fails(&museum, "refuses StartTLS", "WX0317", "the password was not sent").await;
    let museum = Museum::with(DIRECTORY, Options { secure_bind: true, ..options }).await;
    museum.change("page     = 100", "plain = true");
    fails(
        &museum,
        "strongerAuthRequired (8), the server says: BindSimple: Transport",
        "WX0316",
        "remove `plain`",
    )
    .await;
    let museum =
        Museum::with(DIRECTORY, Options { tls: false, secure_bind: true, ..Options::default() }).await;
    assert!(museum.preview().await.unwrap().is_whole(), "StartTLS is the rule");
}

/// Serves one connection with these bytes, whatever it is asked.
async fn serve_once(bytes: Vec<u8>) -> std::net::SocketAddr {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let _ = stream.write_all(&bytes).await;
            let _ = stream.shutdown().await;
            let mut rest = Vec::new();
            let _ = stream.read_to_end(&mut rest).await;
        }
    });
    address
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    /// A server may send anything: it ends in an error or in a reading that is not whole.
    #[test]
    fn any_bytes_end_in_a_message(
        random in proptest::collection::vec(any::<u8>(), 0..200),
        begin in 0usize..4,
    ) {
        // Bytes that get further than the first message: a root DSE's end, a bind's success.
        let good = [
            &[][..],
            &[0x30, 12, 2, 1, 1, 0x65, 7, 0x0a, 1, 0, 4, 0, 4, 0],
            &[0x30, 12, 2, 1, 1, 0x65, 7, 0x0a, 1, 0, 4, 0, 4, 0, 0x30, 12, 2, 1, 2, 0x61, 7, 0x0a, 1, 0, 4, 0, 4, 0],
            &[0x30, 0x82],
        ];
        let bytes = [good[begin], &random].concat();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let address = serve_once(bytes).await;
            let museum = Museum::open().await;
            let settings = museum.settings().replace(&museum.standin().url(), &format!("ldap://{address}"));
            museum.write("webtaxon.toml", settings.replace("page     = 100", "plain = true"));
            if let Ok(preview) = museum.preview().await {
                assert!(!preview.is_whole());
            }
        });
    }
}
