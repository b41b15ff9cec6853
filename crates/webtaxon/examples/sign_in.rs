//! A sign-in page: the directory judges the password, and the account is the one that an apply would make of the person:
//! `cargo run --example sign_in -- webtaxon.toml`.
//!
//! `GET /` shows the form, or who is signed in; `POST /in` signs in, `POST /out` signs out. Each form carries a token that
//! only this browser has as a cookie, so that no other site can send it; a session gets a new name at each sign-in, and its
//! cookie is out of reach of scripts. In earnest, the page is behind HTTPS.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use axum::extract::{ConnectInfo, Form, State};
use axum::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, COOKIE, SET_COOKIE};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Router, serve};
use maud::{DOCTYPE, Markup, html};
use ring::rand::{SecureRandom as _, SystemRandom};
use secrecy::SecretString;
use serde::{Deserialize, Deserializer};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use webtaxon::sign_in::SignInOutcome;
use webtaxon::{SignIns, Workspace};

/// Time after which somebody signs in again.
const SESSION: Duration = Duration::from_secs(8 * 3600);
const STYLE: &str = "body{font:1.1rem/1.5 sans-serif;max-width:24rem;margin:12vh auto;padding:0 1rem;color:#1d2b24}\
 h1{font-size:1.4rem}label{display:block;margin:1rem 0}input{display:block;width:100%;box-sizing:border-box;font:inherit;\
 padding:.4rem;border:1px solid #7a8a80;border-radius:4px}button{font:inherit;padding:.4rem 1.2rem;border:0;\
 border-radius:4px;background:#23614a;color:#fff}[role=alert]{padding:.6rem .8rem;background:#fbe9e7;border-left:4px solid #b3261e}";

/// Somebody who is signed in.
#[derive(Clone)]
struct Session {
    login: String,
    name: String,
    roles: String,
    since: Instant,
}

#[derive(Clone)]
struct Desk {
    sign_ins: SignIns,
    sessions: Arc<Mutex<HashMap<String, Session>>>,
}

#[derive(Deserialize)]
struct Token {
    token: String,
}

#[derive(Deserialize)]
struct Typed {
    token: String,
    name: String,
    #[serde(deserialize_with = "secret")]
    password: SecretString,
}

fn secret<'d, D: Deserializer<'d>>(typed: D) -> Result<SecretString, D::Error> {
    String::deserialize(typed).map(SecretString::from)
}

impl Desk {
    fn sessions(&self) -> MutexGuard<'_, HashMap<String, Session>> {
        let mut sessions = self.sessions.lock().unwrap_or_else(PoisonError::into_inner);
        sessions.retain(|_, one| one.since.elapsed() < SESSION);
        sessions
    }
}

/// A random name that nobody can guess.
fn random() -> String {
    let mut bytes = [0_u8; 32];
    SystemRandom::new().fill(&mut bytes).expect("the system's randomness");
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn cookie(headers: &HeaderMap, wanted: &str) -> Option<String> {
    let all = headers.get_all(COOKIE).iter().filter_map(|value| value.to_str().ok());
    let mut pairs = all.flat_map(|value| value.split("; ")).filter_map(|pair| pair.split_once('='));
    pairs.find(|(name, _)| *name == wanted).map(|(_, value)| value.to_owned())
}

/// A cookie that goes to this site only, encrypted, and that no script reads; without a value it is deleted.
fn set(name: &str, value: Option<&str>) -> String {
    let age = value.map_or(0, |_| SESSION.as_secs());
    format!("{name}={}; Path=/; Max-Age={age}; HttpOnly; Secure; SameSite=Strict", value.unwrap_or_default())
}

fn page(status: StatusCode, token: &str, content: &Markup) -> Response {
    let body = html! {
        (DOCTYPE)
        html lang="en" {
            head { meta charset="utf-8"; meta name="viewport" content="width=device-width"; title { "Loans Desk" } style { (STYLE) } }
            body { h1 { "Quillmere Museum: Loans Desk" } (content) }
        }
    };
    let policy = "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'";
    let headers = [(CACHE_CONTROL, "no-store"), (CONTENT_SECURITY_POLICY, policy)];
    let kind = [("content-type", "text/html; charset=utf-8")];
    (status, headers, kind, [(SET_COOKIE, set("token", Some(token)))], body.into_string()).into_response()
}

fn form(status: StatusCode, token: &str, sentence: Option<String>) -> Response {
    let content = html! {
        @if let Some(sentence) = sentence { p role="alert" { (sentence) } }
        form method="post" action="/in" {
            input type="hidden" name="token" value=(token);
            label { "Name" input name="name" autocomplete="username" required autofocus maxlength="256"; }
            label { "Password" input name="password" type="password" autocomplete="current-password" required; }
            button { "Sign in" }
        }
    };
    page(status, token, &content)
}

async fn home(State(desk): State<Desk>, headers: HeaderMap) -> Response {
    let token = cookie(&headers, "token").unwrap_or_else(random);
    let session = cookie(&headers, "session").and_then(|name| desk.sessions().get(&name).cloned());
    let Some(Session { login, name, roles, .. }) = session else { return form(StatusCode::OK, &token, None) };
    let content = html! {
        p { "You are signed in as " strong { (name) } " (" (login) ")" @if !roles.is_empty() { ", " (roles) } "." }
        form method="post" action="/out" {
            input type="hidden" name="token" value=(token);
            button { "Sign out" }
        }
    };
    page(StatusCode::OK, &token, &content)
}

/// True if a form came from a page of this site, in this browser.
fn is_ours(headers: &HeaderMap, token: &str) -> bool {
    cookie(headers, "token").is_some_and(|own| own.len() == 64 && own == token)
}

async fn sign_in(
    State(desk): State<Desk>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Form(typed): Form<Typed>,
) -> Response {
    if !is_ours(&headers, &typed.token) {
        let sentence = "The form was too old, or came from another site. Please sign in again.";
        return form(StatusCode::FORBIDDEN, &random(), Some(sentence.to_owned()));
    }
    // Behind a proxy, the address is the one that the proxy tells.
    let outcome = desk.sign_ins.sign_in(&typed.name, &typed.password, &from.ip().to_string()).await;
    let SignInOutcome::SignedIn(person) = outcome else {
        let sentence = outcome.sentence().map(|sentence| sentence.to_string());
        return form(StatusCode::UNAUTHORIZED, &typed.token, sentence);
    };
    let account = &person.account;
    let roles = account.field("roles").split(';').collect::<Vec<_>>().join(" and ");
    let (login, name) = (account.login.clone(), account.field("name").to_owned());
    let fresh = random();
    desk.sessions().insert(fresh.clone(), Session { login, name, roles, since: Instant::now() });
    ([(SET_COOKIE, set("session", Some(&fresh)))], Redirect::to("/")).into_response()
}

async fn sign_out(State(desk): State<Desk>, headers: HeaderMap, Form(typed): Form<Token>) -> Response {
    if is_ours(&headers, &typed.token)
        && let Some(session) = cookie(&headers, "session")
    {
        desk.sessions().remove(&session);
    }
    ([(SET_COOKIE, set("session", None))], Redirect::to("/")).into_response()
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let file = std::env::args().nth(1).unwrap_or_else(|| "webtaxon.toml".to_owned());
    let sign_ins = SignIns::open(&Workspace::open(file)?).await?;
    let desk = Desk { sign_ins, sessions: Arc::default() };
    let service =
        Router::new().route("/", get(home)).route("/in", post(sign_in)).route("/out", post(sign_out));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    println!("http://localhost:{}", listener.local_addr()?.port());
    serve(listener, service.with_state(desk).into_make_service_with_connect_info::<SocketAddr>()).await?;
    Ok(())
}
