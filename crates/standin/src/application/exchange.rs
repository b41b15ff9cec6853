//! One request to a resource, and how it ended.

use super::schema::Kind;
use serde_json::Value;

/// A request to one resource, by itself or as a part of a bulk request.
pub(super) struct Wish<'a> {
    pub(super) method: &'a str,
    pub(super) kind: Kind,
    pub(super) id: Option<&'a str>,
    pub(super) version: Option<&'a str>,
    pub(super) body: &'a Value,
}

/// What was done.
pub(super) struct Reply {
    pub(super) status: u16,
    /// The resource's id.
    pub(super) id: String,
    /// The resource as it is now; none for one that is gone.
    pub(super) resource: Option<Value>,
}

/// Why something was not done (RFC 7644 §3.12).
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
