//! The examples run against the simulated directory, and the README shows them as they are.

use crate::museum::{ACCOUNTS, Museum};
use std::path::PathBuf;
use webtaxon::ChangeKind;

const README: &str = include_str!("../../../../README.md");
const GROUPS_TOO: &str = include_str!("../../../../demo/application-groups.toml");
const PREVIEW: &str = include_str!("../../examples/preview.rs");

/// Cargo puts examples beside the folder of test programs.
fn example(name: &str) -> PathBuf {
    let own = std::env::current_exe().unwrap();
    let path = own.parent().unwrap().parent().unwrap().join("examples").join(name);
    assert!(path.exists(), "build the examples first: cargo build --examples");
    path
}

#[tokio::test]
async fn the_preview_example_lists_the_museums_changes() {
    let museum = Museum::open().await;
    let settings = museum.path().join("webtaxon.toml");
    let output = tokio::process::Command::new(example("preview")).arg(settings).output().await.unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(output.status.success());
    assert_eq!(text.lines().count(), 33, "{text}");
    assert!(text.contains("update   rfairweather\n") && text.contains("remove   hvanish\n"), "{text}");
}

#[tokio::test]
async fn settings_in_code_need_no_file() {
    let museum = Museum::open().await;
    std::fs::remove_file(museum.path().join("webtaxon.toml")).unwrap();
    let mut run = tokio::process::Command::new(example("settings_in_code"));
    run.arg(museum.standin().url()).arg(museum.path()).arg(museum.path().join("museum-password.txt"));
    let output = run.output().await.unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(text, "28 changes, whole: true\n");
}

/// Runs an example, and gives what it prints.
async fn run(name: &str, arguments: &[&str]) -> String {
    let output = tokio::process::Command::new(example(name)).args(arguments).output().await.unwrap();
    assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[tokio::test]
async fn an_approval_applies_what_was_approved_and_no_more() {
    let museum = Museum::open().await;
    let (settings, saved) = (museum.path().join("webtaxon.toml"), museum.path().join("monday.json"));
    let arguments = [settings.to_str().unwrap(), saved.to_str().unwrap(), "seats,first"];
    assert_eq!(run("approval", &arguments).await, "33 changes wait for an approval\n");
    assert_eq!(run("approval", &arguments).await, "21 of 31 applied: complete: true\n");
    let kinds = museum.preview().await.unwrap().kinds;
    assert!(
        kinds.iter().all(|(kind, _)| !matches!(kind, ChangeKind::Import | ChangeKind::Update)),
        "{kinds:?}"
    );
    assert!(kinds.iter().any(|(kind, _)| *kind == ChangeKind::Remove), "{kinds:?}");
}

#[tokio::test]
async fn a_groups_members_and_a_filters_advice() {
    let museum = Museum::open().await;
    let settings = museum.path().join("webtaxon.toml");
    let group = "CN=Curators,OU=Groups,DC=quillmere,DC=example";
    let members = run("members", &[settings.to_str().unwrap(), group]).await;
    assert!(members.contains(" directly\n") && members.contains(" through other groups\n"), "{members}");
    assert!(members.ends_with("whole: true\n"), "{members}");
    let advice = run("filter_advice", &["(&(objectClass=user)(sAMAcountName=*))"]).await;
    assert!(advice.contains("sAMAccountName") && advice.contains("WX02"), "{advice}");
}

/// What a service answers to one request.
async fn asked(address: &str, request: &str, body: &str) -> String {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    let mut stream = tokio::net::TcpStream::connect(address).await.unwrap();
    let length = body.len();
    let head = format!("{request} HTTP/1.1\r\nHost: desk\r\nConnection: close\r\nContent-Length: {length}");
    stream.write_all(format!("{head}\r\n\r\n{body}").as_bytes()).await.unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).await.unwrap();
    answer
}

#[tokio::test]
async fn a_service_applies_what_it_showed_once() {
    use tokio::io::AsyncBufReadExt as _;
    let museum = Museum::open().await;
    let mut command = tokio::process::Command::new(example("web_service"));
    command.arg(museum.path().join("webtaxon.toml")).stdout(std::process::Stdio::piped()).kill_on_drop(true);
    let mut service = command.spawn().unwrap();
    let mut lines = tokio::io::BufReader::new(service.stdout.take().unwrap()).lines();
    let address = lines.next_line().await.unwrap().unwrap().replace("http://", "");
    for (request, body, status, words) in [
        ("POST /apply", "", 409, "look at /preview first"),
        ("GET /preview", "", 200, "\"format\":\"webtaxon.preview/"),
        ("POST /apply", "", 502, "seats"),
        ("POST /apply", "seats\nfirst", 200, "31 edits, complete: true"),
        ("POST /apply", "seats\nfirst", 409, "look at /preview first"),
    ] {
        let answer = asked(&address, request, body).await;
        assert!(answer.starts_with(&format!("HTTP/1.1 {status}")), "{request}: {answer}");
        assert!(answer.contains(words), "{request}: {answer}");
    }
    let left = run("blocking", &[museum.path().join("webtaxon.toml").to_str().unwrap()]).await;
    assert_eq!(left, "2 changes, whole: true\n", "the clashes, which nobody can apply");
}

#[tokio::test]
async fn the_other_examples_apply_and_take_back() {
    for (name, lines) in [
        (
            "apply",
            "33 changes, 2 brakes\n31 of 31 looked at\nrun 1: complete: true\n31 of 31 looked at\ntaken back: complete: true\n",
        ),
        ("own_store", "73 accounts, 4 groups, complete: true\n0 left to do\n"),
    ] {
        let museum = Museum::open().await;
        if name == "own_store" {
            museum.write("webtaxon.toml", museum.settings() + GROUPS_TOO);
        }
        let mut command = tokio::process::Command::new(example(name));
        let output =
            command.arg(museum.path().join("webtaxon.toml")).arg("seats,first").output().await.unwrap();
        assert_eq!(String::from_utf8(output.stdout).unwrap(), lines, "{name}");
        assert!(output.status.success(), "{name}");
        assert_eq!(std::fs::read_to_string(museum.path().join("accounts.csv")).unwrap(), ACCOUNTS, "{name}");
    }
}

#[test]
fn the_readme_shows_the_example_as_it_is() {
    let body = PREVIEW.split_once("#[tokio::main").unwrap().1;
    assert!(README.contains(body.trim_end()), "README.md and examples/preview.rs differ");
    assert!(body.lines().filter(|line| !line.is_empty()).count() < 15);
}
