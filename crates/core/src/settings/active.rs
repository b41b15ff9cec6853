//! The definition of an active person: each server kind's own, or the settings' filter.
//!
//! The conditions are ordinary filters, so that `why` can explain them; times are compared with that of the reading.
//! An attribute that a server does not have excludes nobody.

use crate::ldap::filter::Filter;
use crate::ldap::schema::ServerKind;
use crate::settings::{Intake, Locked};
use jiff::Timestamp;

/// Seconds from 1601-01-01, the epoch of a domain controller, to 1970-01-01.
const FROM_1601: i64 = 11_644_473_600;

/// One condition, and the reason given for people who fail it, if the step's own is not enough.
pub(crate) struct ActiveCondition {
    pub(crate) filter: Filter,
    pub(crate) otherwise: Option<&'static str>,
    /// Whether it comes from the settings.
    pub(crate) is_own: bool,
}

/// All conditions that an active person meets.
pub(crate) fn active_conditions(intake: &Intake, kind: ServerKind, at: Timestamp) -> Vec<ActiveCondition> {
    let seconds = at.as_second();
    let (ticks, days) = ((seconds + FROM_1601).saturating_mul(10_000_000), seconds.div_euclid(86_400));
    let expired = "the directory's account has expired";
    let locked = "the directory's account is locked after wrong passwords";
    let mut texts: Vec<(String, Option<&'static str>)> = Vec::new();
    match kind {
        _ if intake.active.is_some() => {}
        ServerKind::Controller => {
            // [MS-ADTS] §2.2.16: bit 2 of userAccountControl is ACCOUNTDISABLE.
            texts.push(("(!(userAccountControl:1.2.840.113556.1.4.803:=2))".to_owned(), None));
            // 0 and the largest number mean never.
            texts.push((format!("(!(&(accountExpires>=1)(accountExpires<={ticks})))"), Some(expired)));
        }
        ServerKind::Plain => {
            texts.push(("(!(nsAccountLock=TRUE))".to_owned(), None));
            // The value of a lock that only an administrator removes.
            texts.push(("(!(pwdAccountLockedTime=000001010000Z))".to_owned(), None));
            // Days since 1970; -1 means never.
            texts.push((format!("(!(&(shadowExpire>=0)(shadowExpire<={days})))"), Some(expired)));
        }
    }
    if intake.locked == Locked::Inactive {
        texts.push(match kind {
            // The server computes whether the lock has expired; bit 16 is LOCKOUT.
            ServerKind::Controller => (
                "(!(msDS-User-Account-Control-Computed:1.2.840.113556.1.4.803:=16))".to_owned(),
                Some(locked),
            ),
            ServerKind::Plain => ("(!(pwdAccountLockedTime=*))".to_owned(), Some(locked)),
        });
    }
    let own = intake.active.clone().map(|filter| ActiveCondition { filter, otherwise: None, is_own: true });
    let built = texts.into_iter().filter_map(|(text, otherwise)| {
        Some(ActiveCondition { filter: Filter::parse(&text).ok()?, otherwise, is_own: false })
    });
    own.into_iter().chain(built).collect()
}

/// The filter for active people of this intake, on this kind of server, at this time.
#[must_use]
pub fn active_filter(intake: &Intake, kind: ServerKind, at: Timestamp) -> Filter {
    let mut filters: Vec<Filter> =
        active_conditions(intake, kind, at).into_iter().map(|condition| condition.filter).collect();
    match (filters.len(), filters.pop()) {
        (1, Some(only)) => only,
        (_, last) => Filter::And(filters.into_iter().chain(last).collect()),
    }
}
