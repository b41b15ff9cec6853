//! A sign-in, and the record of sign-ins, as JSON.

use super::json;
use crate::sign_in::{AuditLine, Examination};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// A sign-in, step by step: whether they get in, the reason, the steps, and the whole explanation for the person.
#[must_use]
pub fn examination(examination: &Examination) -> Value {
    let refusal = examination.refusal.as_ref();
    let is_in = match (refusal, examination.is_unknown) {
        (Some(_), _) => Some(false),
        (None, true) => None,
        (None, false) => Some(true),
    };
    json!({
        "format": "webtaxon.sign-in/1",
        "in": is_in,
        "dn": examination.dn,
        "reason": refusal.map(|refusal| refusal.name()),
        "message": refusal.map(ToString::to_string),
        "sentence": refusal.map(|refusal| refusal.sentence().to_string()),
        "expires_in": examination.expires_in,
        "grace_left": examination.grace_left,
        "steps": examination.steps,
        "why": examination.why.as_deref().map(json::why),
    })
}

/// Recorded tries, with counts by reason, and the number of lines that cannot be read.
#[must_use]
pub fn audit(tries: &[AuditLine], unreadable: usize) -> Value {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    tries.iter().for_each(|one| *counts.entry(one.reason.as_str()).or_default() += 1);
    json!({ "format": "webtaxon.audit/1", "tries": tries, "counts": counts, "unreadable": unreadable })
}
