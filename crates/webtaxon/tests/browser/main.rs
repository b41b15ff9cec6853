//! Pages in a real browser: the preview's, searched, narrowed, sorted, and complete without scripts; and the sign-in page of
//! an example.
//!
//! The tests are ignored by default, since they need Chromium and its driver; `scripts/test` installs
//! both and runs them.
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    clippy::print_stdout,
    reason = "a test that panics has failed, as it should; one prints what it measured"
)]

#[path = "../it/museum.rs"]
#[expect(dead_code, reason = "it is shared with the tests of the library")]
mod museum;
mod sign_in;

use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use tempfile::TempDir;
use webtaxon::model::account::{Account, State};
use webtaxon::model::ldap::identity::Identity;
use webtaxon::model::ldap::name::Dn;
use webtaxon::model::preview::{Memory, Preview, Situation};
use webtaxon::model::reading::{Ended, Part, ReadingBuilder, Request, Source};
use webtaxon::model::settings::Settings;
use webtaxon::report;

/// What a hostile entry may hold.
const HOSTILE: &str =
    "\"><script>window.hacked=1</script><img src=x onerror=window.hacked=2>\u{202e}{{x}}\u{1b}[2J";

/// The driver, ended with its browser when the test ends.
struct Driver(Child);

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

struct Browser {
    client: Client,
    folder: TempDir,
    _driver: Driver,
}

impl Browser {
    /// Starts a browser; without scripts if `scripts` is false.
    async fn open(scripts: bool) -> Self {
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map(Driver)
            .expect("chromedriver is missing: scripts/test installs it");
        let folder = tempfile::tempdir().unwrap();
        let profile = folder.path().join("profile");
        let javascript = if scripts { 1 } else { 2 };
        let options = json!({
            "args": [
                "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
                "--disable-component-update", "--window-size=1280,800", format!("--user-data-dir={}", profile.display()),
            ],
            "prefs": { "profile.managed_default_content_settings.javascript": javascript },
        });
        let capabilities = json!({ "goog:chromeOptions": options }).as_object().unwrap().clone();
        let mut builder = ClientBuilder::new(HttpConnector::new());
        builder.capabilities(capabilities);
        for _ in 0..100 {
            if let Ok(client) = builder.connect(&format!("http://127.0.0.1:{port}")).await {
                return Self { client, folder, _driver: driver };
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("the browser did not start");
    }

    async fn show(&self, page: &str) {
        let file = self.folder.path().join("page.html");
        std::fs::write(&file, page).unwrap();
        self.client.goto(&format!("file://{}", file.display())).await.unwrap();
    }

    async fn run(&self, script: &str) -> serde_json::Value {
        self.client.execute(script, Vec::new()).await.unwrap()
    }

    /// The logins of the changes that are to be seen, from the top down.
    async fn logins(&self) -> Vec<String> {
        let script = "return [...document.querySelectorAll('#changes ~ table td.login')]\
            .filter((cell) => cell.checkVisibility()).map((cell) => cell.textContent)";
        serde_json::from_value(self.run(script).await).unwrap()
    }

    async fn find(&self, words: &str) {
        let field = self.client.find(Locator::Css("input[type=search]")).await.unwrap();
        field.clear().await.unwrap();
        field.send_keys(words).await.unwrap();
        // The table is narrowed before the next picture is drawn.
        self.client
            .execute_async("requestAnimationFrame(() => requestAnimationFrame(arguments[0]))", Vec::new())
            .await
            .unwrap();
    }

    async fn click(&self, css: &str) {
        self.client.find(Locator::Css(css)).await.unwrap().click().await.unwrap();
    }

    async fn end(self) {
        self.client.close().await.unwrap();
    }
}

fn settings() -> Settings {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/webtaxon.toml");
    let text = std::fs::read_to_string(file).unwrap();
    let kept = text.lines().filter(|line| !line.starts_with("groups") && !line.starts_with("not_in_group"));
    let text =
        kept.collect::<Vec<_>>().join("\n").replace("in_group = \"CN=Curators,", "under = \"OU=Curators,");
    Settings::parse("webtaxon.toml", text.as_bytes()).unwrap()
}

/// A preview of so many people, half of them with an account that has another room, and of one whose
/// every value is hostile.
fn preview(people: usize) -> (Preview, Settings) {
    let settings = settings();
    let mut sweep = ReadingBuilder::new(Source {
        directory: HOSTILE.into(),
        identity: "entryUUID".into(),
        ..Source::default()
    });
    let part = sweep.open(Part::People { base: Dn::parse("OU=People,DC=quillmere,DC=example").unwrap() });
    let mut accounts = Vec::new();
    for at in 0..people {
        let (login, mail) = (format!("person{at}"), format!("person{at}@quillmere.example"));
        let (name, room, control) =
            (format!("Person {}", people - at), format!("Room-{at}"), "512".to_owned());
        let values = [
            ("entryUUID", &login),
            ("sAMAccountName", &login),
            ("cn", &name),
            ("mail", &mail),
            ("userAccountControl", &control),
            ("physicalDeliveryOfficeName", &room),
        ]
        .map(|(name, value)| (name, [value.as_bytes()]));
        sweep.person(&format!("CN={name},OU=People,DC=quillmere,DC=example"), values).unwrap();
        if at % 2 == 0 {
            let fields = [
                ("name", name),
                ("email", mail),
                ("room", "Elsewhere".to_owned()),
                ("roles", "borrower".to_owned()),
            ];
            let fields = fields.map(|(name, value)| (name.into(), value.into())).into_iter().collect();
            accounts.push(Account { link: Identity::from_link(&login), login, state: State::Active, fields });
        }
    }
    let hostile = format!("{HOSTILE}@x");
    // A login or a unique value contains nothing invisible.
    let visible: String = hostile.chars().filter(|one| one.is_ascii_graphic() || *one == ' ').collect();
    let values = ["entryUUID", "sAMAccountName", "cn", "mail", "department"]
        .map(|name| (name, [if ["sAMAccountName", "mail"].contains(&name) { &visible } else { &hostile }]))
        .map(|(name, [value])| (name, [value.as_bytes()]));
    let more = ("userAccountControl", [b"512".as_slice()]);
    sweep
        .person(
            "CN=x\\22\\3e\\3cscript\\3ewindow.hacked=3,OU=People,DC=quillmere,DC=example",
            values.into_iter().chain([more]),
        )
        .unwrap();
    sweep.close(part, Ended::Complete);
    (
        Preview::of(Situation::new(
            &settings,
            &sweep.finish_shown(&Request::of(&settings.intakes.first)),
            &accounts,
            &Memory::on(jiff::civil::date(2026, 11, 25)),
        )),
        settings,
    )
}

fn page(people: usize) -> (Preview, String) {
    let (preview, settings) = preview(people);
    let made = "2026-11-25T09:15:00Z".parse().unwrap();
    let page = report::preview_html(&preview, &settings, made);
    (preview, page)
}

#[tokio::test]
#[ignore = "needs Chromium"]
async fn the_page_is_searched_narrowed_and_sorted() {
    let (preview, page) = page(20);
    let browser = Browser::open(true).await;
    browser.show(&page).await;
    let listed: Vec<String> = preview.changes.iter().map(|change| report::harmless(&change.login)).collect();
    assert_eq!(browser.logins().await, listed, "in the preview's own order");
    browser.find("room-1").await;
    let found = browser.logins().await;
    assert!(
        found.len() == 11 && found.contains(&"person1".to_owned()) && found.contains(&"person18".to_owned()),
        "{found:?}"
    );
    browser.click("input[value=import]").await;
    let narrowed = browser.logins().await;
    assert_eq!(narrowed, ["person10", "person12", "person14", "person16", "person18"]);
    let said = browser.client.find(Locator::Css("[role=status]")).await.unwrap().text().await.unwrap();
    assert_eq!(said, "5 of 21 shown");
    browser.find("").await;
    browser.click("#changes ~ table th:nth-child(2) button").await;
    let sorted = browser.logins().await;
    let order: Vec<&str> = sorted.iter().map(String::as_str).take(3).collect();
    assert_eq!(
        order,
        ["person18", "person16", "person14"],
        "by the person's name, numbers as numbers: {sorted:?}"
    );
    browser.click("#changes ~ table th:nth-child(2) button").await;
    let back = browser.logins().await;
    assert_eq!(back[0], "person0", "and back: {back:?}");
    browser.end().await;
}

#[tokio::test]
#[ignore = "needs Chromium"]
async fn hostile_values_stay_text() {
    let (_, page) = page(3);
    let browser = Browser::open(true).await;
    browser.show(&page).await;
    let facts = browser
        .run("return [String(window.hacked), document.scripts.length, document.images.length, document.querySelectorAll('[onerror]').length]")
        .await;
    assert_eq!(facts, json!(["undefined", 1, 0, 0]));
    let shown = browser.run("return document.body.textContent").await;
    let shown = shown.as_str().unwrap();
    assert!(shown.contains("<script>window.hacked=1</script>") && shown.contains("\\u{202e}"), "{shown}");
    assert!(!shown.contains('\u{202e}') && !shown.contains('\u{1b}'));
    // The page's own rules refuse a script even if one should get in.
    let injected = "const one = document.createElement('script'); one.textContent = 'window.hacked = 4'; document.body.append(one); return String(window.hacked)";
    assert_eq!(browser.run(injected).await, json!("undefined"));
    browser.end().await;
}

#[tokio::test]
#[ignore = "needs Chromium"]
async fn the_page_is_complete_without_scripts() {
    let (preview, page) = page(20);
    let browser = Browser::open(false).await;
    browser.show(&page).await;
    let main = browser.client.find(Locator::Css("body")).await.unwrap().text().await.unwrap();
    for change in &preview.changes {
        let values = change.fields.values().flat_map(|field| [&field.old, &field.new]).flatten();
        for value in values.chain([&change.login]).filter(|value| !value.is_empty()) {
            assert!(main.contains(&report::harmless(value)), "{value}: {main}");
        }
    }
    assert!(main.contains("found under People") && !main.contains("any words"), "{main}");
    let tools = browser.client.find(Locator::Css(".tools")).await.unwrap();
    assert!(!tools.is_displayed().await.unwrap(), "what would do nothing is not shown");
    browser.end().await;
}

#[tokio::test]
#[ignore = "needs Chromium"]
async fn ten_thousand_changes_open_and_are_searched() {
    let (preview, page) = page(10_000);
    assert_eq!(preview.changes.len(), 10_001);
    let browser = Browser::open(true).await;
    browser.show(&page).await;
    let timed = "const field = document.querySelector('input[type=search]');\
        const loaded = performance.getEntriesByType('navigation')[0].domComplete;\
        const begun = performance.now(); field.value = 'Room-77'; field.dispatchEvent(new Event('input'));\
        const done = arguments[0];\
        requestAnimationFrame(() => requestAnimationFrame(() => done([Math.round(loaded), Math.round(performance.now() - begun)])))";
    let times = browser.client.execute_async(timed, Vec::new()).await.unwrap();
    println!(
        "10,001 changes, {} bytes: loaded after {} ms, searched and drawn in {} ms",
        page.len(),
        times[0],
        times[1]
    );
    let found = browser.logins().await;
    assert_eq!(found.len(), 111, "77, 770 to 779, 7700 to 7799");
    browser.end().await;
}
