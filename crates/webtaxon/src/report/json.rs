//! JSON documents. Each names its format and version; keys are only ever added.

use crate::directory::CheckStep;
use serde_json::{Value, json};
use webtaxon_core::preview::{Change, Held, Preview};

/// A preview, as `webtaxon.preview/1`.
#[must_use]
pub fn preview(preview: &Preview) -> Value {
    let step = |step: &webtaxon_core::selection::FunnelStep| json!({ "step": step.step, "left": step.left, "lost": step.lost });
    json!({
        "format": "webtaxon.preview/1",
        "intake": preview.intake,
        "directory": preview.directory,
        "server": preview.server,
        "whole": preview.is_whole(),
        "gaps": preview.gaps,
        "notes": preview.notes,
        "funnel": preview.funnel.iter().map(step).collect::<Vec<_>>(),
        "incomplete": preview.incomplete,
        "strangers": preview.strangers,
        "accounts": preview.accounts,
        "unchanged": preview.unchanged,
        "changes": preview.changes.iter().map(change).collect::<Vec<_>>(),
        "held": preview.held.iter().map(held).collect::<Vec<_>>(),
        "brakes": preview.brakes,
    })
}

fn change(change: &Change) -> Value {
    let clash =
        change.clash.as_ref().map(|clash| json!({ "message": clash.message(), "remedy": clash.remedy() }));
    json!({
        "kind": change.kind,
        "login": change.login,
        "dn": change.dn,
        "link": change.link,
        "cause": change.cause,
        "detail": change.detail,
        "fields": change.fields,
        "path": change.path,
        "clash": clash,
    })
}

fn held(held: &Held) -> Value {
    json!({
        "login": held.login,
        "dn": held.dn,
        "cause": held.cause,
        "would": held.would,
        "reason": held.reason,
        "message": held.reason.message(),
    })
}

/// A check, as `webtaxon.check/1`.
#[must_use]
pub fn check(steps: &[CheckStep]) -> Value {
    json!({ "format": "webtaxon.check/1", "steps": steps })
}
