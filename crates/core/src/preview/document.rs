//! A preview as a document for programs, `webtaxon.preview/1`. Keys are added, never changed or removed.

use super::{
    AccountCounts, Brake, Cause, Change, ChangeKind, Clash, FieldChange, GroupPreview, Held, HeldReason,
    Holder, IdleWord, Incomplete, IntakeSummary, OpenField, Preview, Stranger, Wait, Way, Who,
};
use crate::account::Dependents;
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
    whose: Vec<WordDocument<'a>>,
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
    clash: Option<ClashDocument<'a>>,
    wait: Option<&'a Wait>,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    dependents: &'a [Dependents],
}

#[derive(Serialize)]
struct ClashDocument<'a> {
    message: String,
    remedy: String,
    field: Option<&'a str>,
    value: Option<&'a str>,
    holder: Option<HolderDocument<'a>>,
    ways: &'a [Way],
}

/// The account that has what a person draws, and whose it is: `by hand`, `protected`, `in`, `gone`, `outside`,
/// `disabled`, `incomplete` or `unknown`.
#[derive(Serialize)]
struct HolderDocument<'a> {
    account: &'a str,
    who: &'static str,
    dn: Option<&'a str>,
    since: Option<jiff::civil::Date>,
}

/// An entry of `whose` that cannot apply.
#[derive(Serialize)]
struct WordDocument<'a> {
    account: &'a str,
    link: &'a Identity,
    message: String,
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

impl<'a> WordDocument<'a> {
    fn of(word: &'a IdleWord) -> Self {
        Self { account: &word.account, link: &word.link, message: word.message() }
    }
}

impl<'a> ClashDocument<'a> {
    fn of(clash: &'a Clash, change: &'a Change) -> Self {
        let (field, value) = match clash {
            Clash::SameDrawn { field, value, .. } | Clash::Taken { field, value, .. } => {
                (Some(field.as_str()), Some(value.as_str()))
            }
            _ => (None, None),
        };
        let holder = clash.holder().map(|Holder { account, who }| {
            let (dn, since) = match who {
                Who::In { dn, .. } => (Some(dn.as_str()), None),
                Who::Out { dn, since, .. } => (dn.as_deref(), *since),
                _ => (None, None),
            };
            HolderDocument { account, who: who.name(), dn, since }
        });
        Self { message: clash.message(), remedy: change.remedy(), field, value, holder, ways: change.ways() }
    }
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
            whose: self.idle_words.iter().map(WordDocument::of).collect(),
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
        let clash = self.clash().map(|clash| ClashDocument::of(clash, self));
        let document = ChangeDocument {
            kind: self.kind(),
            login: &self.login,
            dn: self.dn.as_deref(),
            link: self.link.as_ref(),
            cause: self.cause(),
            detail: self.detail(),
            evidence: self.departure().map(|departure| departure.evidence.as_str()),
            dependents: self.departure().map(|departure| departure.dependents.as_slice()).unwrap_or_default(),
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
