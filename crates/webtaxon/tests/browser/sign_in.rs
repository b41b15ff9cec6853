//! The example's sign-in page in a real browser: in, out, refused, and closed to other sites.

use crate::Browser;
use crate::museum::{DIRECTORY, Museum};
use fantoccini::Locator;
use fantoccini::cookies::Cookie;
use serde_json::json;
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use webtaxon_standin::Options;

/// The example, ended when the test ends.
struct Desk {
    program: Child,
    url: String,
}

impl Drop for Desk {
    fn drop(&mut self) {
        let _ = self.program.kill();
        let _ = self.program.wait();
    }
}

impl Desk {
    fn start(museum: &Museum) -> Self {
        let own = std::env::current_exe().unwrap();
        let example = own.parent().unwrap().parent().unwrap().join("examples/sign_in");
        let settings = museum.path().join("webtaxon.toml");
        let mut program = Command::new(example)
            .arg(settings)
            .stdout(Stdio::piped())
            .spawn()
            .expect("cargo build --examples");
        let mut url = String::new();
        BufReader::new(program.stdout.take().unwrap()).read_line(&mut url).unwrap();
        Self { program, url: url.trim().to_owned() }
    }
}

async fn sign_in(browser: &Browser, name: &str, password: &str) -> String {
    for (field, text) in [("name", name), ("password", password)] {
        let field = browser.client.find(Locator::Css(&format!("input[name={field}]"))).await.unwrap();
        field.clear().await.unwrap();
        field.send_keys(text).await.unwrap();
    }
    browser.click("button").await;
    text(browser).await
}

async fn text(browser: &Browser) -> String {
    browser.client.wait().for_element(Locator::Css("button")).await.unwrap();
    browser.client.find(Locator::Css("body")).await.unwrap().text().await.unwrap()
}

async fn session(browser: &Browser) -> Option<Cookie<'static>> {
    browser.client.get_named_cookie("session").await.ok()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
#[ignore = "needs Chromium"]
async fn somebody_signs_in_and_out() {
    let museum = Museum::with(DIRECTORY, Options::default()).await;
    let desk = Desk::start(&museum);
    let browser = Browser::open(true).await;
    browser.client.goto(&desk.url).await.unwrap();
    let wrong = "The name or the password is wrong.";
    for (name, password, expected) in [
        ("aibbotson", "wrong", wrong),
        ("nobody", "heron-nobody", wrong),
        ("<b>x</b>", "x", wrong),
        ("hemberson", "heron-hemberson", "must be changed first"),
        ("gfennimore", "heron-gfennimore", "you have no access"),
    ] {
        let shown = sign_in(&browser, name, password).await;
        assert!(shown.contains(expected), "{name}: {shown}");
        assert!(session(&browser).await.is_none(), "{name}");
    }
    let shown = sign_in(&browser, "aibbotson", "heron-aibbotson").await;
    assert!(
        shown.contains("You are signed in as Ibbotson, Ada (aibbotson), borrower and approver."),
        "{shown}"
    );
    let cookie = session(&browser).await.unwrap();
    assert_eq!((cookie.http_only(), cookie.secure()), (Some(true), Some(true)));
    assert!(cookie.same_site().is_some_and(|same| same.is_strict()));
    assert_eq!(browser.run("return document.cookie").await, json!(""), "no script reads it");
    let address = browser.client.current_url().await.unwrap();
    assert!(!address.as_str().contains("heron"), "{address}");
    // A form of another site does not know the token.
    let forged = "return fetch('/out', { method: 'POST', body: new URLSearchParams({ token: '0'.repeat(64) }) }).then(() => 1, () => 0)";
    let _ = browser.client.execute(forged, Vec::new()).await;
    browser.client.goto(&desk.url).await.unwrap();
    assert!(text(&browser).await.contains("You are signed in"), "signed out by another site");
    browser.click("button").await;
    assert!(text(&browser).await.contains("Password"), "signed out");
    assert!(session(&browser).await.is_none());
    // The old cookie is nobody's.
    let mut old = Cookie::new("session", cookie.value().to_owned());
    old.set_domain("localhost");
    old.set_path("/");
    old.set_secure(true);
    browser.client.add_cookie(old).await.unwrap();
    browser.client.goto(&desk.url).await.unwrap();
    assert!(text(&browser).await.contains("Password"), "the session is over");
    browser.end().await;
}
