//! Who is active: what each kind of server says of itself, or the settings' own filter.
//!
//! The conditions are filters like any other, so that `why` can judge them; the time is that of the
//! reading. Attributes that a server does not have exclude nobody.

use crate::ldap::filter::Filter;
use crate::ldap::schema::Schema;
use crate::ldap::schema::ServerKind;
use crate::reading::Reading;
use crate::settings::{Intake, Locked};
use jiff::Timestamp;

/// Seconds from 1601-01-01, where a domain controller's times begin, to 1970-01-01.
const FROM_1601: i64 = 11_644_473_600;

/// One condition, and what is said of whoever does not meet it; nothing where the step says enough.
pub(crate) struct Condition {
    pub(crate) filter: Filter,
    pub(crate) otherwise: Option<&'static str>,
    /// Whether it is the settings' own.
    is_own: bool,
}

impl Condition {
    /// What is known of attributes where it is judged. The settings' own filter means what it means to the server;
    /// the others are meant as they are here, also where a server compares nothing by order (the usual schema of
    /// OpenLDAP has no order for `shadowExpire`).
    pub(crate) fn schema<'r>(&self, reading: &'r Reading) -> &'r Schema {
        if self.is_own { reading.schema() } else { Schema::of(reading.source().kind) }
    }
}

/// The conditions that an active person meets, each of them.
pub(crate) fn conditions(intake: &Intake, kind: ServerKind, at: Timestamp) -> Vec<Condition> {
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
            // 0, and the largest number there is, mean never.
            texts.push((format!("(!(&(accountExpires>=1)(accountExpires<={ticks})))"), Some(expired)));
        }
        ServerKind::Plain => {
            texts.push(("(!(nsAccountLock=TRUE))".to_owned(), None));
            // The value for a lock that only an administrator takes away.
            texts.push(("(!(pwdAccountLockedTime=000001010000Z))".to_owned(), None));
            // Days since 1970; -1 means never.
            texts.push((format!("(!(&(shadowExpire>=0)(shadowExpire<={days})))"), Some(expired)));
        }
    }
    if intake.locked == Locked::Inactive {
        texts.push(match kind {
            // The server works out whether the lock has run out; bit 16 is LOCKOUT.
            ServerKind::Controller => (
                "(!(msDS-User-Account-Control-Computed:1.2.840.113556.1.4.803:=16))".to_owned(),
                Some(locked),
            ),
            ServerKind::Plain => ("(!(pwdAccountLockedTime=*))".to_owned(), Some(locked)),
        });
    }
    let own = intake.active.clone().map(|filter| Condition { filter, otherwise: None, is_own: true });
    let built = texts.into_iter().filter_map(|(text, otherwise)| {
        Some(Condition { filter: Filter::parse(&text).ok()?, otherwise, is_own: false })
    });
    own.into_iter().chain(built).collect()
}

/// The filter for active people of this intake at this kind of server, at this time.
#[must_use]
pub fn active_filter(intake: &Intake, kind: ServerKind, at: Timestamp) -> Filter {
    let mut filters: Vec<Filter> =
        conditions(intake, kind, at).into_iter().map(|condition| condition.filter).collect();
    match (filters.len(), filters.pop()) {
        (1, Some(only)) => only,
        (_, last) => Filter::And(filters.into_iter().chain(last).collect()),
    }
}
