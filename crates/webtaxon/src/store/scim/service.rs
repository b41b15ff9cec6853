//! Talking to a SCIM service (RFC 7644): requests, features, and the meaning of refusals.
//!
//! The service is not trusted: responses have size limits, and redirects are not followed, so that credentials go
//! nowhere else.

use crate::crash;
use crate::secure::{TOKEN, TlsRules, fetch_password};
use crate::store::{KnownHabits, StoreError, StoreErrorKind};
use futures_util::{StreamExt as _, stream};
use jiff::Timestamp;
use jiff::fmt::rfc2822;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::header::{self, HeaderValue};
use reqwest::{Client, Method, redirect};
use secrecy::ExposeSecret as _;
use serde_json::{Map, Value, json};
use std::path::Path;
use std::time::Duration;
use webtaxon_core::settings::{Credentials, Scim};
use zeroize::Zeroizing;

/// Time limit for a connection, and for a password.
const CONNECT: Duration = Duration::from_secs(10);
/// Time limit for a response.
const ANSWER: Duration = Duration::from_secs(60);
/// Maximum bytes of a response.
const LARGEST: usize = 64 << 20;
/// Resources requested at once, unless the service allows fewer.
const PAGE: u64 = 1000;
/// Requests under way at once, where many independent changes do not fit into one.
pub(super) const AT_ONCE: usize = 8;
/// Number of attempts if the service is busy, and the maximum wait between them.
const REQUESTS: usize = 6;
const PATIENCE: Duration = Duration::from_secs(60);

const BULK: &str = "urn:ietf:params:scim:api:messages:2.0:BulkRequest";

/// A resource as returned by the service.
pub(super) type Resource = Map<String, Value>;

/// A SCIM service.
pub(super) struct Service {
    http: Client,
    pub(super) base: String,
    authorization: Option<HeaderValue>,
    pub(super) offer: Offer,
    /// What it is known to do otherwise than it says.
    pub(super) habits: KnownHabits,
}

/// The features of a service (RFC 7643 §5).
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Offer {
    pub(super) patch: bool,
    pub(super) etag: bool,
    /// Maximum operations and bytes of a bulk request.
    pub(super) bulk: Option<(usize, usize)>,
    pub(super) filter: bool,
    pub(super) page: u64,
    /// True if pages follow each other by cursor (RFC 9865), and not by number.
    pub(super) cursor: bool,
}

/// A change to request.
#[derive(Clone, Debug)]
pub(super) struct Wish {
    pub(super) method: Method,
    /// The path after the base URL: `Users`, or `Users/2819c223`.
    pub(super) path: String,
    pub(super) body: Option<Value>,
    /// The version to be changed.
    pub(super) version: Option<String>,
}

/// Why a request failed.
#[derive(Debug)]
pub(super) enum Fault {
    /// It was refused, and nothing was changed.
    Refused { status: u16, words: String },
    /// Whether it was carried out is unknown.
    Unclear(String),
    /// The service is unusable.
    Fatal(StoreError),
}

impl Fault {
    /// True if another kind of request may do what this one was refused: nobody's rights or values are the reason.
    pub(super) fn is_of_the_request(&self) -> bool {
        matches!(self, Self::Refused { status, .. } if ![403, 404, 409, 410, 412, 429].contains(status))
    }
}

impl From<StoreErrorKind> for Fault {
    fn from(kind: StoreErrorKind) -> Self {
        Self::Fatal(kind.into())
    }
}

impl Service {
    /// Connects, and reads the service's features.
    pub(super) async fn open(
        settings: &Scim,
        folder: &Path,
        habits: KnownHabits,
    ) -> Result<Self, StoreError> {
        let unusable =
            |reason: String| StoreErrorKind::Unanswered { store: settings.service.clone(), reason };
        // The library requires a TLS configuration even without TLS.
        let rules = TlsRules::of(&settings.service, &settings.trust, None, folder);
        let rules = rules.map_err(|error| unusable(error.to_string()))?;
        let mut builder = Client::builder();
        if is_here(&settings.service) {
            // The environment's proxies are not for this machine's own addresses.
            builder = builder.no_proxy();
        }
        let http = builder
            .tls_backend_preconfigured((*rules.config).clone())
            .redirect(redirect::Policy::none())
            .connect_timeout(CONNECT)
            .timeout(ANSWER)
            .user_agent("webtaxon")
            .build()
            .map_err(|error| unusable(causes(&error)))?;
        let authorization = match authorization(&settings.credentials, folder).await {
            Ok(authorization) => authorization,
            Err(reason) => {
                return Err(StoreErrorKind::NoSecret { store: settings.service.clone(), reason }.into());
            }
        };
        let base = settings.service.clone();
        let mut service = Self { http, base, authorization, offer: Offer::default(), habits };
        let config = service.get("ServiceProviderConfig", &[]).await.map_err(|fault| service.told(fault))?;
        service.offer = offer(&config);
        Ok(service)
    }

    /// Whether changes are requested by PATCH.
    pub(super) fn patches(&self) -> bool {
        self.offer.patch && !self.habits.now().whole
    }

    /// Requests changes by PUT from here on.
    pub(super) fn give_up_patch(&self) {
        self.habits.add(|habits| habits.whole = true);
    }

    pub(super) fn name(&self) -> &str {
        &self.base
    }

    /// The error for a failed request that changes nothing.
    pub(super) fn told(&self, fault: Fault) -> StoreError {
        let store = self.base.clone();
        match fault {
            Fault::Fatal(error) => error,
            Fault::Unclear(reason) => StoreErrorKind::Unanswered { store, reason }.into(),
            Fault::Refused { status, words } => {
                StoreErrorKind::NotScim { store, what: format!("answers {status}: {words}") }.into()
            }
        }
    }

    /// Reads one document.
    pub(super) async fn get(&self, path: &str, query: &[(&str, String)]) -> Result<Value, Fault> {
        self.request(&Request { method: &Method::GET, path, query, body: None, version: None }).await
    }

    /// Requests one change; returns the resulting resource if the service sends it.
    pub(super) async fn ask(&self, wish: &Wish) -> Result<Value, Fault> {
        let Wish { method, path, body, version } = wish;
        let (body, version) = (body.as_ref(), version.as_deref());
        self.request(&Request { method, path, query: &[], body, version }).await
    }

    /// Requests several independent changes, in bulk if the service supports it, else several at once. Returns their
    /// results in order, up to the first that says that the service is unusable.
    pub(super) async fn ask_all(&self, wishes: &[Wish]) -> Vec<Result<Value, Fault>> {
        if self.offer.bulk.is_some() && wishes.len() > 1 {
            return self.ask_in_bulk(wishes).await;
        }
        let mut answers = Vec::with_capacity(wishes.len());
        let requests: Vec<_> = wishes.iter().map(|wish| self.ask(wish)).collect();
        let mut under_way = stream::iter(requests).buffered(AT_ONCE);
        while let Some(answer) = under_way.next().await {
            crash::point();
            let ends = matches!(answer, Err(Fault::Fatal(_)));
            answers.push(answer);
            if ends {
                break;
            }
        }
        answers
    }

    /// One bulk request (RFC 7644 §3.7).
    async fn ask_in_bulk(&self, wishes: &[Wish]) -> Vec<Result<Value, Fault>> {
        let operations: Vec<Value> =
            wishes.iter().enumerate().map(|(at, wish)| operation(at, wish, self.offer.etag)).collect();
        let body = json!({"schemas": [BULK], "Operations": operations});
        let body = Some(&body);
        let request = Request { method: &Method::POST, path: "Bulk", query: &[], body, version: None };
        let answer = match self.request(&request).await {
            Ok(answer) => answer,
            Err(Fault::Fatal(error)) => return vec![Err(Fault::Fatal(error))],
            Err(Fault::Refused { status, words }) => {
                let refused = || Err(Fault::Refused { status, words: words.clone() });
                return wishes.iter().map(|_| refused()).collect();
            }
            Err(Fault::Unclear(words)) => {
                return wishes.iter().map(|_| Err(Fault::Unclear(words.clone()))).collect();
            }
        };
        let mut done = answer.get("Operations").and_then(Value::as_array).into_iter().flatten();
        let mut one = |at: usize| {
            let odd = || Fault::Unclear("its answer to a bulk request does not contain this".to_owned());
            let answer = done.next().filter(|one| {
                let said = one.get("bulkId").and_then(Value::as_str);
                said.is_none_or(|said| said == bulk_id(at))
            });
            let answer = answer.ok_or_else(odd)?;
            // The standard has the status as a string, some services as a number.
            let status = answer.get("status").and_then(|status| match status {
                Value::String(text) => text.parse::<u16>().ok(),
                Value::Object(object) => object.get("code").and_then(Value::as_str)?.parse().ok(),
                status => status.as_u64().and_then(|status| u16::try_from(status).ok()),
            });
            match status.ok_or_else(odd)? {
                200..=299 => Ok(answer.clone()),
                status @ (500..=599 | 100..=199) => {
                    Err(Fault::Unclear(detail(answer.get("response").unwrap_or(&Value::Null), status)))
                }
                status => {
                    let words = detail(answer.get("response").unwrap_or(&Value::Null), status);
                    Err(Fault::Refused { status, words })
                }
            }
        };
        (0..wishes.len()).map(&mut one).collect()
    }

    /// One request, repeated while the service is busy (RFC 6585 §4).
    async fn request(&self, request: &Request<'_>) -> Result<Value, Fault> {
        let mut waited = Duration::ZERO;
        for _ in 0..REQUESTS {
            let answer = self.once(request).await;
            let Err(Later(wait, fault)) = answer else {
                return answer.map_err(|later| later.1);
            };
            let is_short = |wait: &Duration| waited.saturating_add(*wait) <= PATIENCE;
            let Some(wait) = wait.filter(is_short) else { return Err(fault) };
            tokio::time::sleep(wait).await;
            waited += wait;
        }
        let words = format!("it is still busy after {REQUESTS} requests");
        Err(Fault::Refused { status: 429, words })
    }

    async fn once(&self, request: &Request<'_>) -> Result<Value, Later> {
        let never = |fault: Fault| Later(None, fault);
        let store = || self.base.clone();
        let response = self.built(request).send().await.map_err(|error| {
            let reason = causes(&error);
            never(match error.is_connect() || error.is_builder() {
                true => StoreErrorKind::Unanswered { store: store(), reason }.into(),
                false => Fault::Unclear(reason),
            })
        })?;
        let status = response.status().as_u16();
        if (300..400).contains(&status) {
            let to = response.headers().get(header::LOCATION).and_then(|to| to.to_str().ok());
            let what = format!(
                "redirects to {}; nothing was sent there. If that is the service, use its address in the settings",
                to.unwrap_or("another address")
            );
            return Err(never(StoreErrorKind::NotScim { store: store(), what }.into()));
        }
        let wait = retry_after(response.headers());
        let kind = response.headers().get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok());
        let kind = kind.unwrap_or("").split(';').next().unwrap_or("").trim().to_ascii_lowercase();
        let bytes = body_of(response).await.map_err(never)?;
        let document: Option<Value> = serde_json::from_slice(&bytes).ok();
        let words = || detail(document.as_ref().unwrap_or(&Value::Null), status);
        match status {
            200..=299 if bytes.is_empty() => Ok(Value::Null),
            200..=299 => document.ok_or_else(|| {
                let what = not_json(&kind);
                // The change may have been made.
                never(match *request.method == Method::GET {
                    true => StoreErrorKind::NotScim { store: store(), what }.into(),
                    false => Fault::Unclear(format!("it {what}")),
                })
            }),
            401 => Err(never(StoreErrorKind::Unauthorized { store: store(), reason: words() }.into())),
            429 | 503 => {
                let wait = wait.unwrap_or(Duration::from_secs(1));
                Err(Later(Some(wait), Fault::Refused { status, words: words() }))
            }
            500..=599 if status != 501 => Err(never(Fault::Unclear(words()))),
            status => Err(never(Fault::Refused { status, words: words() })),
        }
    }

    /// The HTTP request.
    fn built(&self, request: &Request<'_>) -> reqwest::RequestBuilder {
        let Request { method, path, query, body, version } = *request;
        let mut url = format!("{}/{path}", self.base);
        for (at, (name, value)) in query.iter().enumerate() {
            url += &format!("{}{name}={}", if at == 0 { '?' } else { '&' }, escaped(value));
        }
        let mut built =
            self.http.request(method.clone(), &url).header(header::ACCEPT, "application/scim+json");
        if let Some(authorization) = &self.authorization {
            built = built.header(header::AUTHORIZATION, authorization.clone());
        }
        if let Some(version) = version.filter(|_| self.offer.etag) {
            built = built.header(header::IF_MATCH, version);
        }
        if let Some(body) = body {
            built = built.header(header::CONTENT_TYPE, "application/scim+json").body(body.to_string());
        }
        built
    }
}

/// What a service does that answers with a document of this kind, which is not JSON.
fn not_json(kind: &str) -> String {
    match kind {
        "" | "application/json" | "application/scim+json" => {
            "answers with something other than JSON".to_owned()
        }
        kind => format!("answers with {kind} instead of JSON, as a web page would"),
    }
}

/// One request in all its parts.
struct Request<'a> {
    method: &'a Method,
    path: &'a str,
    query: &'a [(&'a str, String)],
    body: Option<&'a Value>,
    /// The version to be changed.
    version: Option<&'a str>,
}

/// Whether an address is this machine's own.
fn is_here(service: &str) -> bool {
    let address = service.split_once("://").map_or(service, |(_, rest)| rest);
    let authority = address.split('/').next().unwrap_or_default();
    let host = match authority.rsplit_once(':') {
        Some((host, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => host,
        _ => authority,
    };
    let host = host.trim_start_matches('[').trim_end_matches(']');
    host.eq_ignore_ascii_case("localhost")
        || host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
}

/// A fault, and the time to wait before another attempt; `None` if that is useless.
struct Later(Option<Duration>, Fault);

/// The body of a response, up to the size limit.
async fn body_of(mut response: reqwest::Response) -> Result<Vec<u8>, Fault> {
    let mut bytes = Vec::new();
    loop {
        match response.chunk().await {
            Ok(Some(piece)) if bytes.len() + piece.len() > LARGEST => {
                return Err(Fault::Unclear(format!("its answer exceeds {} MB", LARGEST >> 20)));
            }
            Ok(Some(piece)) => bytes.extend_from_slice(&piece),
            Ok(None) => return Ok(bytes),
            Err(error) => return Err(Fault::Unclear(causes(&error))),
        }
    }
}

async fn authorization(credentials: &Credentials, folder: &Path) -> Result<Option<HeaderValue>, String> {
    let (scheme, source, user) = match credentials {
        Credentials::None => return Ok(None),
        Credentials::Token(source) => ("Bearer", source, None),
        Credentials::Basic { user, password } => ("Basic", password, Some(user)),
    };
    let whose = user.map_or(TOKEN, String::as_str);
    let secret = fetch_password(source, whose, folder, CONNECT, None).await;
    let secret = secret.map_err(|error| error.to_string())?;
    let text = Zeroizing::new(match user {
        None => format!("{scheme} {}", secret.expose_secret()),
        Some(user) => {
            use base64::Engine as _;
            let pair = Zeroizing::new(format!("{user}:{}", secret.expose_secret()));
            format!("{scheme} {}", base64::engine::general_purpose::STANDARD.encode(pair.as_bytes()))
        }
    });
    let mut value =
        HeaderValue::from_str(&text).map_err(|_| "the token is not a single line of text".to_owned())?;
    value.set_sensitive(true);
    Ok(Some(value))
}

fn offer(config: &Value) -> Offer {
    let of = |name: &str| config.get(name);
    let is_offered = |name: &str| of(name).and_then(|one| one.get("supported")) == Some(&Value::Bool(true));
    let number =
        |name: &str, key: &str| of(name).and_then(|one| one.get(key)?.as_u64()).filter(|most| *most > 0);
    let small =
        |number: Option<u64>| number.map_or(usize::MAX, |most| usize::try_from(most).unwrap_or(usize::MAX));
    // Pages by cursor may have a limit of their own (RFC 9865 §4).
    let most = number("pagination", "maxPageSize").or_else(|| number("filter", "maxResults"));
    Offer {
        patch: is_offered("patch"),
        etag: is_offered("etag"),
        bulk: is_offered("bulk")
            .then(|| (small(number("bulk", "maxOperations")), small(number("bulk", "maxPayloadSize")))),
        filter: is_offered("filter"),
        page: most.map_or(PAGE, |most| most.min(PAGE)),
        cursor: of("pagination").and_then(|one| one.get("cursor")) == Some(&Value::Bool(true)),
    }
}

/// One operation of a bulk request.
fn operation(at: usize, wish: &Wish, has_versions: bool) -> Value {
    let mut one = json!({
        "method": wish.method.as_str(), "path": format!("/{}", wish.path), "bulkId": bulk_id(at),
    });
    if let Some(object) = one.as_object_mut() {
        if let Some(version) = wish.version.as_ref().filter(|_| has_versions) {
            object.insert("version".to_owned(), json!(version));
        }
        if let Some(body) = &wish.body {
            object.insert("data".to_owned(), body.clone());
        }
    }
    one
}

fn bulk_id(at: usize) -> String {
    format!("change{at}")
}

/// Number of bytes of a change in a bulk request.
pub(super) fn bytes_of(wish: &Wish) -> usize {
    operation(0, wish, true).to_string().len() + 16
}

/// A service's explanation of an error (RFC 7644 §3.12).
fn detail(body: &Value, status: u16) -> String {
    let said = body.get("detail").and_then(Value::as_str).filter(|words| !words.trim().is_empty());
    let kind = body.get("scimType").and_then(Value::as_str);
    let cut = |words: &str| words.chars().take(500).collect::<String>();
    match (said, kind) {
        (Some(words), Some(kind)) => format!("{} ({})", cut(words), cut(kind)),
        (Some(words), None) => cut(words),
        (None, Some(kind)) => cut(kind),
        (None, None) => format!("HTTP status {status}"),
    }
}

/// Seconds, or a date (RFC 9110 §10.2.3).
fn retry_after(headers: &header::HeaderMap) -> Option<Duration> {
    let text = headers.get(header::RETRY_AFTER)?.to_str().ok()?.trim();
    if let Ok(seconds) = text.parse() {
        return Some(Duration::from_secs(seconds));
    }
    let moment = rfc2822::DateTimeParser::new().parse_timestamp(text).ok()?;
    let left = moment.as_second() - Timestamp::now().as_second();
    Some(Duration::from_secs(u64::try_from(left).unwrap_or(0)))
}

/// Characters that need no escape in a URL (RFC 3986 §2.3).
const UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A text escaped for a URL.
pub(super) fn escaped(text: &str) -> String {
    utf8_percent_encode(text, UNRESERVED).to_string()
}

/// An error with its causes, without the URL, which might contain a secret.
fn causes(error: &reqwest::Error) -> String {
    let mut words = match error {
        error if error.is_timeout() => "no answer in time".to_owned(),
        error if error.is_connect() => "no connection".to_owned(),
        error if error.is_body() || error.is_decode() => "the answer breaks off".to_owned(),
        _ => "the connection broke".to_owned(),
    };
    let mut cause = std::error::Error::source(error);
    while let Some(inner) = cause {
        let text = inner.to_string();
        if !words.contains(&text) {
            words += &format!(": {text}");
        }
        cause = inner.source();
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_of_this_machine_is_told_from_others() {
        for (service, here) in [
            ("http://127.0.0.1:6370/scim/v2", true),
            ("http://LOCALHOST/x", true),
            ("https://[::1]:8443/x", true),
            ("https://[::1]/x", true),
            ("https://localhost.quillmere.example/x", false),
            ("https://loans.quillmere.example:443/127.0.0.1", false),
            ("https://10.0.0.1/x", false),
        ] {
            assert_eq!(is_here(service), here, "{service}");
        }
    }

    #[test]
    fn a_wait_is_read_as_seconds_or_as_a_moment() {
        let later = Timestamp::now() + jiff::SignedDuration::from_secs(100);
        let moment = later.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string();
        for (text, least, most) in [
            ("7", 7, 7),
            ("18446744073709551615", u64::MAX, u64::MAX),
            (moment.as_str(), 98, 100),
            ("Wed, 21 Oct 2015 07:28:00 GMT", 0, 0),
        ] {
            let mut headers = header::HeaderMap::new();
            headers.insert(header::RETRY_AFTER, HeaderValue::from_str(text).unwrap());
            let seconds = retry_after(&headers).unwrap().as_secs();
            assert!((least..=most).contains(&seconds), "{text}: {seconds}");
        }
    }
}
