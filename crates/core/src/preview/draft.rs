//! Drafts: gains of a person and losses of an account, before claims are decided.

use super::change::FieldChanges;
use super::claims::Fate;
use super::situation::{Chosen, Selected};
use super::{Cause, Change, ChangeKind, Clash, Held};
use crate::selection::Dropped;
use jiff::civil::Date;

/// A candidate with something to get.
pub(super) struct Draft<'a> {
    /// The index of the candidate.
    pub(super) index: usize,
    pub(super) chosen: Chosen<'a>,
    /// The account; `None` for a new one.
    pub(super) account: Option<usize>,
    /// The kind of change.
    pub(super) kind: ChangeKind,
    pub(super) fields: FieldChanges,
    /// The reason if nothing comes of it in this run, whatever becomes of the claims.
    pub(super) idle: Option<Idle>,
}

/// The reason why nothing comes of a draft.
pub(super) enum Idle {
    /// It is held back.
    Held(Held),
    /// An administrator decides, unless others draw the same login: then that clash is told.
    Clash(Clash),
}

/// A person who dropped out of an intake.
pub(super) type Left<'a> = (Selected<'a>, &'a Dropped);

/// A linked account whose person is no candidate.
pub(super) struct Leaver {
    /// The index of the account.
    pub(super) at: usize,
    /// The person's entry, where one is known.
    pub(super) dn: Option<String>,
    /// The cause, if it is known.
    pub(super) cause: Option<Cause>,
    /// Since when they have been missed.
    pub(super) since: Option<Date>,
    pub(super) fate: Fate,
    pub(super) outcome: Leaving,
    /// The login and the unique fields that the directory has for them now.
    pub(super) refresh: FieldChanges,
}

/// The fate of the account of somebody who is out.
pub(super) enum Leaving {
    /// It is suspended, removed, or waits for that.
    Change(Box<Change>),
    /// It is left alone, and why.
    Held(Held),
    /// It is suspended already.
    Unchanged,
}
