//! What goes wrong between here and the directory: one clear message each, in time.

use crate::museum::{DIRECTORY, Museum, fails, told};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use webtaxon::check::StepOutcome;
use webtaxon::directory::{Access, Query};
use webtaxon::model::ldap::filter::Filter;
use webtaxon_standin::Options;

#[tokio::test]
async fn servers_that_cannot_be_reached_or_trusted() {
    let museum = Museum::open().await;
    let url = museum.standin().url();
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let refused = format!("ldaps://localhost:{free}");
    for (to, message, code, help) in [
        (refused.as_str(), "no connection", "WX0303", "port"),
        ("ldaps://no-such-host.invalid:636", "cannot be resolved", "WX0302", "spelling"),
    ] {
        museum.change(&url, to);
        fails(&museum, message, code, help).await;
    }
    museum.change("{ authority = \"museum-ca.pem\" }", "{ authority = \"missing.pem\" }");
    fails(&museum, "missing.pem cannot be used", "WX0306", "PEM").await;
    museum.write("empty.pem", "nothing here");
    museum.change("{ authority = \"museum-ca.pem\" }", "{ authority = \"empty.pem\" }");
    fails(&museum, "it contains no certificate", "WX0306", "BEGIN CERTIFICATE").await;
    museum.change("trust    = { authority = \"museum-ca.pem\" }", "");
    fails(&museum, "not signed by an authority that is trusted", "WX0307", "authority").await;
    let other = Museum::open().await;
    museum.write("museum-ca.pem", other.standin().authority_pem());
    museum.write("webtaxon.toml", museum.settings());
    fails(&museum, "not signed by an authority that is trusted", "WX0307", "authority").await;
}

#[tokio::test]
async fn a_certificate_for_another_name_is_refused_and_its_names_are_told() {
    let names = vec!["dc1.quillmere.example".to_owned(), "dc2.quillmere.example".to_owned()];
    let museum = Museum::with(DIRECTORY, Options { names, ..Options::default() }).await;
    fails(&museum, "for dc1.quillmere.example, dc2.quillmere.example;", "WX0308", "servers").await;
}

#[tokio::test]
async fn tls_and_plain_text_mixed_up_are_told_apart() {
    let plain = Museum::with(DIRECTORY, Options { tls: false, ..Options::default() }).await;
    let address = plain.standin().address();
    plain.write(
        "webtaxon.toml",
        plain.settings().replace(&plain.standin().url(), &format!("ldaps://localhost:{}", address.port())),
    );
    let error = plain.preview().await.unwrap_err();
    let (_, code, help) = told(&error);
    assert!(["WX0310", "WX0314"].contains(&code.as_str()), "{error}");
    assert!(help.contains("389") || code == "WX0314", "{help}");
    let secure = Museum::open().await;
    let port = secure.standin().address().port();
    secure.write(
        "webtaxon.toml",
        secure
            .settings()
            .replace(&secure.standin().url(), &format!("ldap://localhost:{port}"))
            .replace("page ", "plain = true\npage "),
    );
    let error = secure.preview().await.unwrap_err();
    assert!(told(&error).2.contains("ldaps://"), "plain text to a port with TLS: {error}");
    // A server may also wait in silence for the first bytes of TLS.
    let silent = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (to, wait) = (silent.local_addr().unwrap(), "plain = true\ntimeout = \"500ms\"");
    let settings = secure.settings().replace(&secure.standin().url(), &format!("ldap://{to}"));
    secure.write("webtaxon.toml", settings.replace("timeout  = \"10s\"", wait));
    let error = secure.preview().await.unwrap_err();
    assert!(told(&error).1 == "WX0304" && told(&error).2.contains("ldaps://"), "{error}");
}

#[tokio::test]
async fn plain_text_needs_its_word_and_warns_at_every_run() {
    let options = Options { tls: false, start_tls: false, ..Options::default() };
    let plain = Museum::with(DIRECTORY, options).await;
    fails(&plain, "refuses StartTLS", "WX0317", "ldaps://").await;
    plain.change("page     = 100", "page     = 100\nplain    = true");
    let workspace = plain.workspace().unwrap();
    assert!(workspace.warnings()[0].contains("without encryption"));
    assert!(workspace.preview().await.unwrap().is_whole());
    let steps = workspace.check(Duration::ZERO, |_| {}).await;
    assert!(steps.iter().any(|step| step.name == "tls" && step.outcome == StepOutcome::Warning));
}

#[tokio::test]
async fn passwords_that_are_wrong_missing_or_empty() {
    let museum = Museum::open().await;
    museum.write("museum-password.txt", "geheim-42\n");
    fails(
        &museum,
        "was refused: the name or the password is wrong: invalidCredentials (49)",
        "WX0316",
        "password",
    )
    .await;
    let (said, ..) = told(&museum.preview().await.unwrap_err());
    assert!(!said.contains("geheim"), "{said}");
    museum.write("museum-password.txt", "\n");
    fails(&museum, "museum-password.txt is empty", "WX0315", "put the password of").await;
    std::fs::remove_file(museum.path().join("museum-password.txt")).unwrap();
    fails(&museum, "cannot be read", "WX0315", "relative to the settings file").await;
    museum.change("{ file = \"museum-password.txt\" }", "{ env = \"WEBTAXON_TEST_NOT_SET\" }");
    fails(&museum, "WEBTAXON_TEST_NOT_SET is not set", "WX0315", "export").await;
    museum.change("password = { file = \"museum-password.txt\" }", "");
    fails(&museum, "has no password", "WX0315", "env").await;
}

#[cfg(unix)]
#[tokio::test]
async fn passwords_from_programs_credentials_and_questions() {
    use std::os::unix::fs::PermissionsExt as _;
    const FILE: &str = "{ file = \"museum-password.txt\" }";
    let museum = Museum::open().await;
    museum.write("show", "#!/bin/sh\ntest \"$1\" = 'two words' && echo botanical-garden-42 && echo more\n");
    let program = museum.path().join("show");
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o700)).unwrap();
    let command = |words: &str| format!("{{ command = [{words}] }}");
    museum.change(FILE, &command("\"./show\", \"two words\""));
    assert!(museum.preview().await.unwrap().is_whole(), "a program's first line");
    for (words, message) in [
        ("\"./show\", \"two\", \"words\"", "failed: exit status: 1"),
        ("\"./none\"", "cannot be started"),
        ("\"/bin/true\"", "is empty"),
        ("\"/bin/echo\", \"wrong-secret-7\"", "was refused"),
    ] {
        museum.change(FILE, &command(words));
        let (said, ..) = told(&museum.preview().await.unwrap_err());
        assert!(said.contains(message) && !said.contains("wrong-secret"), "{words}: {said}");
    }
    let slow = command("\"/bin/sleep\", \"60\"");
    museum.write("webtaxon.toml", museum.settings().replace(FILE, &slow).replace("\"10s\"", "\"1s\""));
    fails(&museum, "did not end within 1 s", "WX0315", "by hand").await;
    museum.change(FILE, "{ credential = \"museum\" }");
    fails(&museum, "was not started by a service manager", "WX0315", "LoadCredential").await;
    museum.change(FILE, "{ ask = true }");
    fails(&museum, "there is no terminal", "WX0315", "terminal").await;
    let asked = museum.workspace().unwrap().with_prompt(|whose| {
        assert_eq!(whose, "Password of svc-loansdesk@quillmere.example");
        Ok("botanical-garden-42".to_owned().into())
    });
    assert!(asked.preview().await.unwrap().is_whole());
    museum.write("webtaxon.toml", museum.settings());
    assert!(museum.workspace().unwrap().warnings().is_empty());
    let secret = museum.path().join("museum-password.txt");
    std::fs::set_permissions(&secret, std::fs::Permissions::from_mode(0o644)).unwrap();
    let warnings = museum.workspace().unwrap().warnings();
    assert!(warnings[0].contains("can be read by everybody"), "{warnings:?}");
}

#[tokio::test]
async fn an_address_of_the_newer_kind_is_reached_like_any_other() {
    let listen = "[::1]:0".parse().unwrap();
    let museum = Museum::with(DIRECTORY, Options { listen, ..Options::default() }).await;
    let port = museum.standin().address().port();
    museum.change("localhost", "[::1]");
    assert!(museum.preview().await.unwrap().is_whole(), "port {port}");
}

#[tokio::test]
async fn a_socket_of_this_machine_that_is_not_there_is_told_by_its_path() {
    let museum = Museum::open().await;
    museum.change(&museum.standin().url(), "ldapi://%2Fno%2Fsuch%2Fsocket");
    fails(&museum, "ldapi://%2Fno%2Fsuch%2Fsocket: no connection", "WX0303", "port").await;
}

#[tokio::test]
async fn the_second_server_answers_where_the_first_does_not() {
    let museum = Museum::open().await;
    let url = museum.standin().url();
    museum.change(&format!("\"{url}\""), &format!("\"ldaps://no-such-host.invalid\", \"{url}\""));
    assert!(museum.preview().await.unwrap().is_whole());
}

#[tokio::test]
async fn a_server_that_hides_itself_before_the_bind_is_read_after_it() {
    let museum = Museum::with(DIRECTORY, Options { shy: true, ..Options::default() }).await;
    let connection = museum.workspace().unwrap().connect().await.unwrap();
    assert!(connection.root().paged() && !connection.root().naming_contexts.is_empty());
    assert!(museum.preview().await.unwrap().is_whole());
}

#[tokio::test]
async fn a_server_that_never_stops_meets_the_deadline() {
    // A flood of answers to nobody's question would be refused; a flood of entries is a slow end.
    let museum = Museum::open().await;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let settings = museum.settings().replace(&museum.standin().url(), &format!("ldap://{address}"));
    museum.write("webtaxon.toml", settings.replace("timeout  = \"10s\"", "plain = true\ndeadline = \"1s\""));
    tokio::spawn(async move {
        let (mut stream, _) = listener.accept().await.unwrap();
        let entry = [0x30, 9, 2, 1, 1, 0x64, 4, 4, 0, 0x30, 0].repeat(100);
        while stream.write_all(&entry).await.is_ok() {}
    });
    fails(&museum, "longer than its deadline of 1 s", "WX0305", "deadline").await;
}

#[tokio::test]
async fn a_slow_reader_slows_the_server_and_nothing_piles_up() {
    let museum = Museum::open().await;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let settings = museum.settings().replace(&museum.standin().url(), &format!("ldap://{address}"));
    museum.write("webtaxon.toml", settings.replace("timeout  =", "plain = true\ntimeout ="));
    let sent = Arc::new(AtomicUsize::new(0));
    let counter = Arc::clone(&sent);
    tokio::spawn(async move {
        let (mut stream, _) = listener.accept().await.unwrap();
        let mut request = [0; 512];
        let _ = stream.read(&mut request).await;
        stream.write_all(&[0x30, 12, 2, 1, 1, 0x65, 7, 0x0a, 1, 0, 4, 0, 4, 0]).await.unwrap();
        let _ = stream.read(&mut request).await;
        let entries = [0x30, 9, 2, 1, 2, 0x64, 4, 4, 0, 0x30, 0].repeat(1000);
        while stream.write_all(&entries).await.is_ok() {
            counter.fetch_add(entries.len(), Ordering::SeqCst);
        }
    });
    let workspace = museum.workspace().unwrap();
    let directory = workspace.settings().directory(&workspace.settings().intakes.first).unwrap();
    let access = Access::new(&directory.anonymous(), museum.path(), None);
    let mut connection = access.open_first(&access.servers().await.unwrap()).await.unwrap();
    let query = Query::subtree("", Filter::present("objectClass"), &[]);
    let mut search = connection.search(query).await.unwrap();
    assert!(search.next().await.unwrap().is_some());
    // The server fills the sockets' buffers, and then it has to wait.
    let mut before = usize::MAX;
    while sent.load(Ordering::SeqCst) != before {
        before = sent.load(Ordering::SeqCst);
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
    assert!(before < 32 << 20, "{before} bytes were taken from the server that nobody asked for");
    let mut read = 0;
    while sent.load(Ordering::SeqCst) == before {
        search.next().await.unwrap();
        read += 11;
        assert!(read <= 2 * before, "it goes on when somebody reads");
    }
}

/// An application that serves many people at once runs on several threads.
#[tokio::test]
async fn what_an_application_waits_for_may_move_between_threads() {
    fn movable<F: Future + Send>(waiting: F) -> F {
        waiting
    }
    let museum = Museum::open().await;
    let workspace = museum.workspace().unwrap();
    assert!(movable(workspace.preview()).await.unwrap().is_whole());
    assert!(!movable(workspace.check(Duration::ZERO, |_| {})).await.is_empty());
    assert!(movable(workspace.take_snapshot(false)).await.unwrap().header.whole);
    let mut connection = movable(workspace.connect()).await.unwrap();
    let directory = workspace.settings().directory(&workspace.settings().intakes.first).unwrap();
    let options = webtaxon::survey::DraftOptions { directory, accounts: "accounts.csv" };
    assert!(movable(webtaxon::survey::draft(&mut connection, &options)).await.is_ok());
}
