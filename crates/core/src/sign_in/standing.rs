//! A person's standing in the application once their password is right: read from the explanation for them, which decides
//! nothing itself.

use crate::account::State;
use crate::ldap::identity::Identity;
use crate::preview::why::{Verdict, Why};
use crate::preview::{Action, ChangeKind, Clash, HeldReason};
use crate::reading::Reading;
use crate::words::counted;
use std::fmt;

/// A person's standing in the application.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Standing {
    /// They have an account, and get in.
    In,
    /// They are selected and have no account: an apply would import one.
    New,
    /// They are not selected.
    Out {
        /// The step of the selection.
        step: &'static str,
        /// The reason, in words.
        why: String,
    },
    /// They are selected, have no account, and would not simply get a new one.
    NoAccount(String),
    /// Their account is suspended.
    Suspended,
    /// Their account is neither active nor suspended; with the application's word.
    OtherState(String),
    /// Their account is claimed by somebody else, too.
    Contested(String),
    /// Every seat is taken.
    NoSeat(u64),
    /// Something that decides it was not read: they are neither let in nor refused.
    Unknown(String),
}

impl Standing {
    /// The standing of the person with this identity, as their explanation has it.
    #[must_use]
    pub fn of(why: &Why, identity: Option<&Identity>, readings: &[Reading]) -> Self {
        let is_open = |reason: HeldReason| {
            matches!(
                reason,
                HeldReason::ExclusionUnknown
                    | HeldReason::Moving
                    | HeldReason::Lagging
                    | HeldReason::JudgedOtherwise
                    | HeldReason::ActivityHidden
            )
        };
        if let Some(held) = why.held.as_ref().filter(|held| is_open(held.reason)) {
            return Self::Unknown(held.reason.message().to_owned());
        }
        if !why.selected {
            return Self::of_somebody_out(why, readings);
        }
        let mut gaps = readings.iter().flat_map(Reading::gaps);
        if let Some(gap) = gaps.find(|gap| gap.hides_excluded) {
            return Self::Unknown(gap.to_string());
        }
        let unknown = why.against().find(|step| step.verdict == Verdict::Unknown);
        if let Some(step) = unknown.filter(|step| step.name != "groups") {
            return Self::Unknown(not_read(&step.message, readings));
        }
        let own = why.account.as_ref().filter(|one| identity.is_some() && one.link.as_ref() == identity);
        let clash = why.change.iter().chain(&why.also).find_map(|change| match &change.action {
            Action::Clash(clash, _) => Some(clash),
            _ => None,
        });
        let Some(account) = own else { return Self::of_somebody_new(why, clash) };
        if let Some(clash @ (Clash::SameIdentity { .. } | Clash::OtherOrigin { .. })) = clash {
            return Self::Contested(clash.message());
        }
        match account.state {
            State::Active => Self::In,
            State::Suspended => Self::Suspended,
            State::Other => Self::OtherState(account.login.clone()),
        }
    }

    fn of_somebody_out(why: &Why, readings: &[Reading]) -> Self {
        let decided = why.against().find(|step| step.verdict == Verdict::No);
        let open = why.against().find(|step| step.verdict == Verdict::Unknown);
        match (decided, open) {
            // What a required field is drawn from may not have been read.
            (Some(step), _) if step.name == "complete" && !why.whole => {
                Self::Unknown(not_read(&step.message, readings))
            }
            (Some(step), _) => Self::Out { step: step.name, why: step.message.clone() },
            (None, Some(step)) => Self::Unknown(not_read(&step.message, readings)),
            (None, None) => Self::Out { step: "base", why: "no intake reads them".to_owned() },
        }
    }

    fn of_somebody_new(why: &Why, clash: Option<&Clash>) -> Self {
        if let Some(clash) = clash {
            return Self::Contested(clash.message());
        }
        if let Some(held) = &why.held {
            return Self::NoAccount(held.reason.message().to_owned());
        }
        match why.change.as_ref().map(|change| (change.kind(), &change.login)) {
            Some((ChangeKind::Import, _)) => Self::New,
            Some((ChangeKind::Adopt, login)) => Self::NoAccount(format!(
                "an apply would link the account {login}, which was made by hand, to them"
            )),
            Some((ChangeKind::Wait, _)) => {
                Self::NoAccount("another account has their login, for some days yet".to_owned())
            }
            _ => Self::NoAccount("an apply would not give them one".to_owned()),
        }
    }

    /// The name of the reason in the audit and in JSON.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::In => "in",
            Self::New => "new",
            Self::Out { .. } => "not_selected",
            Self::NoAccount(_) => "no_account",
            Self::Suspended => "suspended",
            Self::OtherState(_) => "other_state",
            Self::Contested(_) => "contested",
            Self::NoSeat(_) => "no_seat",
            Self::Unknown(_) => "unknown",
        }
    }

    /// The remedy, for the administrator.
    #[must_use]
    pub fn remedy(&self) -> &'static str {
        match self {
            Self::In => "",
            Self::New => {
                "`webtaxon apply` imports them; with new = \"import\" in [sign_in], their first sign-in does"
            }
            Self::Out { .. } => "`webtaxon why` shows every step, and what would have to change",
            Self::NoAccount(_) | Self::Contested(_) => "`webtaxon why` shows the account, and the ways out",
            Self::Suspended => "`webtaxon preview` shows whether an apply would restore it",
            Self::OtherState(_) => "change the account's state in the application",
            Self::NoSeat(_) => "free a seat, or raise `seats` in [accounts]",
            Self::Unknown(_) => "`webtaxon check` shows what cannot be read",
        }
    }
}

/// Something unknown, with the first part that was not read to its end.
fn not_read(what: &str, readings: &[Reading]) -> String {
    match readings.iter().flat_map(Reading::gaps).next() {
        Some(gap) => format!("{what} ({gap})"),
        None => what.to_owned(),
    }
}

impl fmt::Display for Standing {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::In => out.write_str("they have an account"),
            Self::New => out.write_str("they are selected, and have no account yet"),
            Self::Out { why, .. } => write!(out, "they are not selected: {why}"),
            Self::NoAccount(why) => write!(out, "they are selected, and have no account: {why}"),
            Self::Suspended => out.write_str("their account is suspended"),
            Self::OtherState(word) => write!(out, "their account {word} is neither active nor suspended"),
            Self::Contested(why) => write!(out, "their account is contested: {why}"),
            Self::NoSeat(seats) => {
                let count = usize::try_from(*seats).unwrap_or(usize::MAX);
                write!(out, "there is no seat left: {} in all", counted(count, "seat", "seats"))
            }
            Self::Unknown(why) => write!(out, "it could not be found out whether they are selected: {why}"),
        }
    }
}
