//! The simulated application over HTTP: endpoints, authorization, lists, bulk requests and faults.

use super::exchange::{Refusal, Reply, Wish};
use super::schema::{self, BASE, Kind};
use super::shared::Shared;
use super::trouble::{Trouble, TroubleKind};
use axum::Router;
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{Request, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::Response;
use base64::Engine as _;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::sync::Arc;

/// Maximum bytes of a request.
const LARGEST: usize = 16 << 20;
const ERROR: &str = "urn:ietf:params:scim:api:messages:2.0:Error";
const LISTED: &str = "urn:ietf:params:scim:api:messages:2.0:ListResponse";
const BULK: &str = "urn:ietf:params:scim:api:messages:2.0:BulkRequest";
const BULK_ANSWER: &str = "urn:ietf:params:scim:api:messages:2.0:BulkResponse";

pub(super) fn router(shared: Arc<Shared>) -> Router {
    Router::new().fallback(answer).with_state(shared)
}

async fn answer(State(shared): State<Arc<Shared>>, request: Request) -> Response {
    tokio::time::sleep(shared.options.latency).await;
    let (parts, body) = request.into_parts();
    let is_write = parts.method != Method::GET;
    let write = {
        let mut counts = shared.counts();
        counts.requests += 1;
        counts.writes += u64::from(is_write);
        counts.writes
    };
    let trouble = shared.options.trouble.as_ref();
    if let Some(odd) = trouble.and_then(everywhere) {
        return odd;
    }
    let befalling = trouble.filter(|one| is_write && one.befalls(write)).map(|one| &one.kind);
    match befalling {
        Some(TroubleKind::Busy(seconds)) => {
            let mut busy = refused(&Refusal::new(429, "too many requests"));
            busy.headers_mut().insert(header::RETRY_AFTER, (*seconds).into());
            return busy;
        }
        Some(TroubleKind::Failing) => return refused(&Refusal::new(500, "something broke")),
        Some(TroubleKind::CutBefore) => return broken_off(),
        Some(TroubleKind::Conflict) => {
            let words = "somebody else has this".to_owned();
            return refused(&Refusal { status: 409, kind: Some("uniqueness"), words });
        }
        Some(TroubleKind::Meddling(user, attribute, value)) => {
            shared.list().set(user, attribute, value.clone());
        }
        Some(TroubleKind::Denied) => return refused(&Refusal::new(403, "you may not do this")),
        _ => {}
    }
    let Ok(bytes) = to_bytes(body, LARGEST).await else {
        return refused(&Refusal::new(413, "this is too much"));
    };
    let query = parts.uri.query().unwrap_or("");
    let answered = route(&shared, &parts.method, parts.uri.path(), query, &parts.headers, &bytes);
    match befalling {
        Some(TroubleKind::Forgetful) => refused(&Refusal::new(500, "something broke")),
        Some(TroubleKind::Cut) => broken_off(),
        _ => answered.unwrap_or_else(|refusal| refused(&refusal)),
    }
}

/// The response of a service on which everything fails.
fn everywhere(trouble: &Trouble) -> Option<Response> {
    let html = |body: &'static str| {
        Response::builder().header(header::CONTENT_TYPE, "text/html").body(Body::from(body))
    };
    let made = match &trouble.kind {
        TroubleKind::Page => html("<!doctype html><title>Sign in</title><p>Please sign in first."),
        TroubleKind::Elsewhere(url) => {
            Response::builder().status(307).header(header::LOCATION, url).body(Body::empty())
        }
        TroubleKind::Garbled => json_response(200).body(Body::from("{\"schemas\": [\"urn:")),
        TroubleKind::Huge => {
            let piece = Bytes::from(vec![b' '; 1 << 16]);
            let pieces = futures_util::stream::repeat_with(move || Ok::<_, std::io::Error>(piece.clone()));
            json_response(200).body(Body::from_stream(pieces))
        }
        _ => return None,
    };
    made.ok()
}

/// A response whose connection breaks before its end.
fn broken_off() -> Response {
    let pieces = [Ok(Bytes::from("{\"id\": ")), Err(std::io::Error::other("cut"))];
    let body = Body::from_stream(futures_util::stream::iter(pieces));
    json_response(200).body(body).unwrap_or_default()
}

fn json_response(status: u16) -> axum::http::response::Builder {
    Response::builder().status(status).header(header::CONTENT_TYPE, "application/scim+json")
}

fn sent(status: u16, body: &Value) -> Response {
    json_response(status).body(Body::from(body.to_string())).unwrap_or_default()
}

/// The body of an error response (RFC 7644 §3.12).
fn told(refusal: &Refusal) -> Value {
    let mut body = json!({"schemas": [ERROR], "status": refusal.status.to_string(), "detail": refusal.words});
    if let (Some(kind), Some(body)) = (refusal.kind, body.as_object_mut()) {
        body.insert("scimType".to_owned(), json!(kind));
    }
    body
}

fn refused(refusal: &Refusal) -> Response {
    sent(refusal.status, &told(refusal))
}

/// Finds the resource of a request, and carries the request out.
fn route(
    shared: &Shared,
    method: &Method,
    path: &str,
    query: &str,
    headers: &HeaderMap,
    body: &[u8],
) -> Result<Response, Refusal> {
    if !is_authorized(shared, headers) {
        return Err(Refusal::new(401, "who are you?"));
    }
    let options = &shared.options;
    let inside = path.strip_prefix(BASE).and_then(|rest| rest.strip_prefix('/'));
    let inside = inside.ok_or_else(|| Refusal::new(404, "there is nothing here"))?;
    let (endpoint, id) = match inside.split_once('/') {
        Some((endpoint, id)) => (endpoint, Some(id)),
        None => (inside, None),
    };
    let is_read = *method == Method::GET;
    match endpoint {
        "ServiceProviderConfig" if is_read => return Ok(sent(200, &offered(shared))),
        "Schemas" if is_read && options.schemas => {
            let schemas = schema::told();
            let total = schemas.len();
            return Ok(sent(200, &json!({"schemas": [LISTED], "totalResults": total, "Resources": schemas})));
        }
        "ResourceTypes" if is_read => {
            let one =
                |name: &str, urn: &str| json!({"name": name, "endpoint": format!("/{name}s"), "schema": urn});
            let kinds = [one("User", Kind::User.schema()), one("Group", Kind::Group.schema())];
            return Ok(sent(200, &json!({"schemas": [LISTED], "totalResults": 2, "Resources": kinds})));
        }
        _ => {}
    }
    if endpoint == "Groups" && !options.groups {
        return Err(Refusal::new(403, "you may not see groups"));
    }
    if is_read {
        let kind = Kind::of(endpoint).ok_or_else(|| Refusal::new(404, "there is nothing here"))?;
        return match id {
            Some(id) => {
                let one = shared.list().shown(kind, id, options.etag);
                one.map(|one| sent(200, &one)).ok_or_else(|| Refusal::new(404, "there is no such resource"))
            }
            None => list(shared, kind, query),
        };
    }
    let body = read(headers, body)?;
    if endpoint == "Bulk" && *method == Method::POST {
        return bulk(shared, &body);
    }
    let kind = Kind::of(endpoint).ok_or_else(|| Refusal::new(404, "there is nothing here"))?;
    let version = headers.get(header::IF_MATCH).and_then(|value| value.to_str().ok());
    let wish = Wish { method: method.as_str(), kind, id, version, body: &body };
    let reply = perform(shared, &wish)?;
    Ok(match &reply.resource {
        None => json_response(reply.status).body(Body::empty()).unwrap_or_default(),
        Some(resource) => {
            let mut response = sent(reply.status, resource);
            let tag = resource.get("meta").and_then(|meta| meta.get("version")?.as_str()?.parse().ok());
            if let Some(tag) = tag {
                response.headers_mut().insert(header::ETAG, tag);
            }
            response
        }
    })
}

fn perform(shared: &Shared, wish: &Wish<'_>) -> Result<Reply, Refusal> {
    if wish.method == "PATCH" && !shared.options.patch {
        return Err(Refusal::new(501, "PATCH is not known here"));
    }
    let is_kept =
        |path: &str| shared.options.forgets.as_ref().is_none_or(|name| !path.starts_with(name.as_str()));
    let mut body = wish.body.clone();
    if let Some(operations) = body.get_mut("Operations").and_then(Value::as_array_mut) {
        let path = |one: &Value| one.get("path").and_then(Value::as_str).unwrap_or_default().to_owned();
        if shared.options.half_patch {
            if operations.iter().any(|one| one.get("op").and_then(Value::as_str) == Some("remove")) {
                return Err(Refusal::new(501, "remove is not known here"));
            }
            operations.retain(|one| !path(one).starts_with("urn:"));
        }
        operations.retain(|one| is_kept(&path(one)));
        if operations.is_empty() {
            let version = wish.version;
            let nothing = Wish { method: "PATCH", id: wish.id, version, body: &Value::Null, ..*wish };
            return shared.list().perform(&nothing, shared.options.etag);
        }
    } else if let Some(object) = body.as_object_mut() {
        object.retain(|name, _| is_kept(name));
    }
    shared.list().perform(&Wish { body: &body, ..*wish }, shared.options.etag)
}

fn is_authorized(shared: &Shared, headers: &HeaderMap) -> bool {
    let said = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let wanted = match (&shared.options.token, &shared.options.basic) {
        (Some(token), _) => format!("Bearer {token}"),
        (None, Some((user, password))) => {
            let pair = base64::engine::general_purpose::STANDARD.encode(format!("{user}:{password}"));
            format!("Basic {pair}")
        }
        (None, None) => return true,
    };
    said == Some(wanted.as_str())
}

/// The JSON body of a request; null if it has none.
fn read(headers: &HeaderMap, body: &[u8]) -> Result<Value, Refusal> {
    if body.is_empty() {
        return Ok(Value::Null);
    }
    let kind = headers.get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or("");
    if !["application/scim+json", "application/json"].iter().any(|known| kind.starts_with(known)) {
        return Err(Refusal::new(StatusCode::UNSUPPORTED_MEDIA_TYPE.as_u16(), "send application/scim+json"));
    }
    serde_json::from_slice(body).map_err(|error| Refusal::syntax(&error.to_string()))
}

/// One page of a list (RFC 7644 §3.4.2).
fn list(shared: &Shared, kind: Kind, query: &str) -> Result<Response, Refusal> {
    let asked: HashMap<String, String> = form_urlencoded::parse(query.as_bytes()).into_owned().collect();
    let number = |name: &str| asked.get(name).and_then(|text| text.parse::<usize>().ok());
    let options = &shared.options;
    if asked.contains_key("filter") && !options.filter {
        return Err(Refusal::new(403, "filters are not known here"));
    }
    let list = shared.list();
    let ids = list.matching(kind, asked.get("filter").map(String::as_str))?;
    let trouble = options.trouble.as_ref().map(|one| &one.kind);
    let start = match trouble {
        Some(TroubleKind::SamePage) => 1,
        _ if options.cursor => match asked.get("cursor").map(String::as_str) {
            Some("") => 1,
            Some(cursor) => cursor
                .strip_prefix("after-")
                .and_then(|last| last.parse::<usize>().ok())
                .map(|last| last + 1)
                .ok_or_else(|| Refusal::bad("invalidCursor", "there is no such page"))?,
            None if asked.contains_key("filter") => 1,
            None => return Err(Refusal::new(400, "lists are paged by cursor here")),
        },
        _ => number("startIndex").unwrap_or(1).max(1),
    };
    let count = number("count").unwrap_or(options.page).min(options.page);
    let mut page: Vec<Value> =
        ids.iter().skip(start - 1).take(count).filter_map(|id| list.shown(kind, id, options.etag)).collect();
    let total = match trouble {
        Some(TroubleKind::Endless) => {
            page = (0..5)
                .map(|at| json!({"id": format!("{start}-{at}"), "userName": format!("n{start}-{at}")}))
                .collect();
            usize::MAX >> 12
        }
        Some(TroubleKind::Short) => ids.len() + 3,
        _ => ids.len(),
    };
    let last = start - 1 + page.len();
    let mut told = json!({"schemas": [LISTED], "itemsPerPage": page.len(), "Resources": page});
    if let Some(told) = told.as_object_mut() {
        if options.cursor {
            told.extend((last < total).then(|| ("nextCursor".to_owned(), json!(format!("after-{last}")))));
        } else {
            told.extend([("totalResults".to_owned(), json!(total)), ("startIndex".to_owned(), json!(start))]);
        }
    }
    Ok(sent(200, &told))
}

/// A bulk request (RFC 7644 §3.7), carried out in order.
fn bulk(shared: &Shared, body: &Value) -> Result<Response, Refusal> {
    let Some(most) = shared.options.bulk else { return Err(Refusal::new(501, "no bulk requests here")) };
    let is_bulk = body.get("schemas").is_some_and(|list| list == &json!([BULK]));
    let operations = body.get("Operations").and_then(Value::as_array).filter(|_| is_bulk);
    let operations = operations.ok_or_else(|| Refusal::syntax("this is no BulkRequest with Operations"))?;
    if operations.len() > most {
        return Err(Refusal::new(413, &format!("more than {most} operations")));
    }
    let mut answers = Vec::with_capacity(operations.len());
    for operation in operations {
        let text = |name: &str| operation.get(name).and_then(Value::as_str);
        let method = text("method").unwrap_or("");
        let path = text("path").unwrap_or("").trim_start_matches('/');
        let (endpoint, id) = match path.split_once('/') {
            Some((endpoint, id)) => (endpoint, Some(id)),
            None => (path, None),
        };
        let done = match Kind::of(endpoint) {
            None => Err(Refusal::syntax("there is no such endpoint")),
            Some(_) if method == "POST" && text("bulkId").is_none() => {
                Err(Refusal::syntax("bulkId is missing"))
            }
            Some(kind) => {
                let body = operation.get("data").unwrap_or(&Value::Null);
                perform(shared, &Wish { method, kind, id, version: text("version"), body })
            }
        };
        let mut one = match done {
            Ok(reply) => json!({
                "method": method,
                "location": format!("{BASE}/{endpoint}/{}", reply.id),
                "status": reply.status.to_string(),
            }),
            Err(refusal) => json!({
                "method": method, "status": refusal.status.to_string(), "response": told(&refusal),
            }),
        };
        if let (Some(bulk_id), Some(one)) = (text("bulkId"), one.as_object_mut()) {
            one.insert("bulkId".to_owned(), json!(bulk_id));
        }
        answers.push(one);
    }
    Ok(sent(200, &json!({"schemas": [BULK_ANSWER], "Operations": answers})))
}

/// The service's features (RFC 7643 §5).
fn offered(shared: &Shared) -> Value {
    let options = &shared.options;
    let scheme = if options.basic.is_some() { "httpbasic" } else { "oauthbearertoken" };
    json!({
        "schemas": ["urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"],
        "patch": {"supported": options.patch},
        "bulk": {
            "supported": options.bulk.is_some(),
            "maxOperations": options.bulk.unwrap_or(0),
            "maxPayloadSize": LARGEST,
        },
        "filter": {"supported": options.filter, "maxResults": options.page},
        "pagination": {"cursor": options.cursor, "index": !options.cursor},
        "changePassword": {"supported": false},
        "sort": {"supported": false},
        "etag": {"supported": options.etag},
        "authenticationSchemes": [{"type": scheme, "name": scheme, "description": "as the options say"}],
    })
}
