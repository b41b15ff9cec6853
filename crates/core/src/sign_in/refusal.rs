//! Why somebody does not get in: one sentence for their page, the reason for the audit and the administrator.

use super::password::PasswordAnswer;
use super::standing::Standing;
use jiff::Timestamp;
use std::fmt;

/// Maximum characters of a name.
pub const LONGEST: usize = 256;

/// Why a name cannot be anybody's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NameFault {
    /// Nothing was typed.
    Empty,
    /// It has more than [`LONGEST`] characters.
    TooLong,
    /// It contains control characters.
    Control,
}

/// Why somebody does not get in.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Refusal {
    /// The name cannot be anybody's.
    BadName(NameFault),
    /// No password was typed: a directory would take the bind for an anonymous one (RFC 4513 §5.1.2).
    NoPassword,
    /// There were too many tries; the next one counts after this time.
    Throttled {
        /// The time.
        until: Timestamp,
        /// True if it is for the source, whatever the name.
        is_source: bool,
    },
    /// Nobody is called so.
    UnknownName,
    /// Several entries are called so.
    SeveralEntries(Vec<String>),
    /// The directory's answer to the password.
    Password(PasswordAnswer),
    /// After the password was accepted, the entry's name belonged to another entry.
    OtherEntry,
    /// The password is right, and the application does not let the person in.
    Standing(Standing),
}

/// The sentence for the page of somebody who does not get in. It tells nothing that an attacker could use: an unknown
/// name and a wrong password read alike.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Sentence {
    /// The name or the password is wrong, or something else is that only the owner of the password may know.
    NameOrPassword,
    /// There were too many tries.
    TooManyTries,
    /// The password is right, and must be changed first.
    ChangePassword,
    /// The password is right, and the person may not use the application.
    NoAccess,
    /// The directory or the application could not be asked.
    NotNow,
}

impl fmt::Display for Sentence {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::NameOrPassword => "The name or the password is wrong.",
            Self::TooManyTries => "There were too many tries. Wait a few minutes, then try again.",
            Self::ChangePassword => {
                "Your password must be changed first, where you change it for your computer."
            }
            Self::NoAccess => "Your password is right, but you have no access to this application.",
            Self::NotNow => "Signing in is not possible at the moment. Try again in a few minutes.",
        })
    }
}

impl Refusal {
    /// The name of the reason in the audit and in JSON.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::BadName(_) => "bad_name",
            Self::NoPassword => "no_password",
            Self::Throttled { .. } => "throttled",
            Self::UnknownName => "unknown_name",
            Self::SeveralEntries(_) => "several_entries",
            Self::Password(answer) => match answer {
                PasswordAnswer::Right { .. } => "right",
                PasswordAnswer::Wrong => "wrong_password",
                PasswordAnswer::MustChange { .. } => "password_must_change",
                PasswordAnswer::Expired { .. } => "password_expired",
                PasswordAnswer::Locked => "locked",
                PasswordAnswer::Disabled => "disabled",
                PasswordAnswer::AccountExpired => "expired",
                PasswordAnswer::Hours => "hours",
                PasswordAnswer::Machine => "machine",
                PasswordAnswer::Gone => "gone",
                PasswordAnswer::Other(_) => "refused",
            },
            Self::OtherEntry => "other_entry",
            Self::Standing(standing) => standing.name(),
        }
    }

    /// The sentence for the person's page.
    #[must_use]
    pub fn sentence(&self) -> Sentence {
        match self {
            Self::Throttled { .. } => Sentence::TooManyTries,
            Self::Password(
                PasswordAnswer::MustChange { is_right: true } | PasswordAnswer::Expired { is_right: true },
            ) => Sentence::ChangePassword,
            Self::Standing(_) => Sentence::NoAccess,
            _ => Sentence::NameOrPassword,
        }
    }

    /// The remedy, for the administrator.
    #[must_use]
    pub fn remedy(&self) -> &str {
        match self {
            Self::BadName(_) => "type the name as people type it at the application",
            Self::NoPassword => {
                "type a password; without one, a directory takes the bind for an anonymous one"
            }
            Self::Throttled { .. } => {
                "wait; `webtaxon sign-in --audit` shows who tries. [sign_in] throttle sets the limits"
            }
            Self::UnknownName => {
                "check the spelling and `names` in [sign_in]; `webtaxon why` finds people outside the intakes, too"
            }
            Self::SeveralEntries(_) => {
                "have the double value corrected in the directory, or name a field in `names` that is unique"
            }
            Self::Password(answer) => remedy(answer),
            Self::OtherEntry => "try again: the entry was renamed while the sign-in ran",
            Self::Standing(standing) => standing.remedy(),
        }
    }
}

fn remedy(answer: &PasswordAnswer) -> &'static str {
    match answer {
        PasswordAnswer::Right { .. } => "",
        PasswordAnswer::Wrong => {
            "type it again with care: each wrong one counts towards a lock-out. Some servers answer the same for an account that is disabled or locked: ask the directory's administrators"
        }
        PasswordAnswer::MustChange { .. } | PasswordAnswer::Expired { .. } => {
            "the person changes it where they sign in to their computer, or the directory's administrators set another"
        }
        PasswordAnswer::Locked => {
            "wait, or have the account unlocked by the directory's administrators; then find out who tries wrong passwords. Some servers say the same of an account whose time has not begun, or is over"
        }
        PasswordAnswer::Disabled => "ask the directory's administrators whether the account is to be enabled",
        PasswordAnswer::AccountExpired => {
            "ask the directory's administrators to extend the account's end date"
        }
        PasswordAnswer::Hours => "try at another hour, or have the account's logon hours changed",
        PasswordAnswer::Machine => "have this machine added to those from which the account may sign in",
        PasswordAnswer::Gone => "the entry was removed while the sign-in ran",
        PasswordAnswer::Other(_) => "ask the directory's administrators, and give them the server's words",
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::BadName(NameFault::Empty) => out.write_str("no name was typed"),
            Self::BadName(NameFault::TooLong) => {
                write!(out, "the name has more than {} characters", LONGEST)
            }
            Self::BadName(NameFault::Control) => out.write_str("the name contains control characters"),
            Self::NoPassword => out.write_str("no password was typed"),
            Self::Throttled { until, is_source } => {
                let what = if *is_source { "from this source" } else { "for this name from this source" };
                write!(out, "there were too many wrong tries {what}; the next one counts after {until:.0}")
            }
            Self::UnknownName => out.write_str("nobody is called so"),
            Self::SeveralEntries(names) => write!(out, "several entries are called so: {}", names.join("; ")),
            Self::Password(answer) => write!(out, "{answer}"),
            Self::OtherEntry => out.write_str("the entry's name belongs to another entry by now"),
            Self::Standing(standing) => write!(out, "{standing}"),
        }
    }
}

impl fmt::Display for PasswordAnswer {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::Right { .. } => "the password is right",
            Self::Wrong => "the password is wrong",
            Self::MustChange { .. } => "the password must be changed first",
            Self::Expired { .. } => "the password has expired",
            Self::Locked => "the account is locked",
            Self::Disabled => "the account is disabled",
            Self::AccountExpired => "the account has expired",
            Self::Hours => "the account may not be used at this hour",
            Self::Machine => "the account may not be used from this machine",
            Self::Gone => "the entry is gone",
            Self::Other(words) => return write!(out, "the directory refuses: {words}"),
        })
    }
}
