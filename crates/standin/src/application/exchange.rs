//! One request to a resource, and its outcome.

use super::schema::Kind;
use serde_json::Value;

/// A request to one resource, alone or as part of a bulk request.
pub(super) struct Wish<'a> {
    pub(super) method: &'a str,
    pub(super) kind: Kind,
    pub(super) id: Option<&'a str>,
    pub(super) version: Option<&'a str>,
    pub(super) body: &'a Value,
}

/// The result of a successful request.
pub(super) struct Reply {
    pub(super) status: u16,
    /// The resource's id.
    pub(super) id: String,
    /// The resource after the request; `None` if it was deleted.
    pub(super) resource: Option<Value>,
}

/// Why a request was refused (RFC 7644 §3.12).
#[derive(Debug)]
pub(super) struct Refusal {
    pub(super) status: u16,
    pub(super) kind: Option<&'static str>,
    pub(super) words: String,
}

impl Refusal {
    pub(super) fn new(status: u16, words: &str) -> Self {
        Self { status, kind: None, words: words.to_owned() }
    }

    pub(super) fn bad(kind: &'static str, words: &str) -> Self {
        Self { status: 400, kind: Some(kind), words: words.to_owned() }
    }

    pub(super) fn syntax(words: &str) -> Self {
        Self::bad("invalidSyntax", words)
    }
}
