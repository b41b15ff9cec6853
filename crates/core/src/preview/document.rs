//! A preview as a document for programs, `webtaxon.preview/1`. Keys are added, never changed or removed.

use super::{
    AccountCounts, Brake, Cause, Change, ChangeKind, FieldChange, GroupPreview, Held, HeldReason, Incomplete,
    IntakeSummary, OpenField, Preview, Stranger, Wait,
};
use crate::graph::GroupPath;
use crate::ldap::identity::Identity;
use crate::reading::Gap;
use crate::selection::FunnelStep;
use indexmap::IndexMap;
use serde::{Serialize, Serializer};
use std::borrow::Cow;

#[derive(Serialize)]
struct Document<'a> {
    format: &'static str,
    #[serde(flatten)]
    first: Part<'a>,
    whole: bool,
    gaps: &'a [Gap],
    further: Vec<Part<'a>>,
    incomplete: &'a [Incomplete],
    open_fields: &'a [OpenField],
    strangers: &'a [Stranger],
    nobody: &'a [String],
    unseated: &'a [String],
    accounts: AccountCounts,
    unchanged: usize,
    counts: IndexMap<&'static str, usize>,
    left_out: usize,
    changes: &'a [Change],
    held: &'a [Held],
    groups: Option<&'a GroupPreview>,
    brakes: &'a [Brake],
    interrupted: Option<i64>,
}

/// One intake.
#[derive(Serialize)]
struct Part<'a> {
    intake: &'a str,
    directory: &'a str,
    server: &'a str,
    notes: &'a [String],
    funnel: &'a [FunnelStep],
}

#[derive(Serialize)]
struct ChangeDocument<'a> {
    kind: ChangeKind,
    login: &'a str,
    dn: Option<&'a str>,
    link: Option<&'a Identity>,
    cause: Option<Cause>,
    detail: Option<Cow<'a, str>>,
    evidence: Option<&'a str>,
    fields: &'a IndexMap<String, FieldChange>,
    #[serde(flatten)]
    path: &'a GroupPath,
    clash: Option<ClashDocument>,
    wait: Option<&'a Wait>,
}

#[derive(Serialize)]
struct ClashDocument {
    message: String,
    remedy: String,
}

#[derive(Serialize)]
struct HeldDocument<'a> {
    login: &'a str,
    dn: Option<&'a str>,
    cause: Option<Cause>,
    would: Option<ChangeKind>,
    reason: HeldReason,
    message: Cow<'a, str>,
}

impl<'a> Part<'a> {
    fn of(part: &'a IntakeSummary) -> Self {
        Self {
            intake: &part.intake,
            directory: &part.directory,
            server: &part.server,
            notes: &part.notes,
            funnel: &part.funnel,
        }
    }
}

impl Preview {
    /// The number of changes of each kind that occurs, by keyword.
    #[must_use]
    pub fn counts(&self) -> IndexMap<&'static str, usize> {
        self.kinds.iter().map(|(kind, count)| (kind.name(), *count)).collect()
    }
}

impl Serialize for Preview {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let document = Document {
            format: "webtaxon.preview/1",
            first: Part::of(&self.intakes.first),
            whole: self.is_whole(),
            gaps: &self.gaps,
            further: self.intakes.further.iter().map(Part::of).collect(),
            incomplete: &self.incomplete,
            open_fields: &self.open_fields,
            strangers: &self.strangers,
            nobody: &self.nobody,
            unseated: &self.unseated,
            accounts: self.accounts,
            unchanged: self.unchanged,
            counts: self.counts(),
            left_out: self.left_out,
            changes: &self.changes,
            held: &self.held,
            groups: self.groups.as_ref(),
            brakes: &self.brakes,
            interrupted: self.interrupted,
        };
        document.serialize(serializer)
    }
}

impl Serialize for Change {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let clash =
            self.clash().map(|clash| ClashDocument { message: clash.message(), remedy: self.remedy() });
        let document = ChangeDocument {
            kind: self.kind(),
            login: &self.login,
            dn: self.dn.as_deref(),
            link: self.link.as_ref(),
            cause: self.cause(),
            detail: self.detail(),
            evidence: self.departure().map(|departure| departure.evidence.as_str()),
            fields: &self.fields,
            path: &self.path,
            clash,
            wait: self.wait(),
        };
        document.serialize(serializer)
    }
}

impl Serialize for Held {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let document = HeldDocument {
            login: &self.login,
            dn: self.dn.as_deref(),
            cause: self.cause,
            would: self.would,
            reason: self.reason,
            message: self.message(),
        };
        document.serialize(serializer)
    }
}
