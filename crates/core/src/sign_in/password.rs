//! A directory's answer to a person's password.

use serde::Serialize;

/// A directory's answer to a person's password.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case", tag = "answer")]
#[non_exhaustive]
pub enum PasswordAnswer {
    /// It is right.
    Right {
        /// Seconds until it expires, if the server tells.
        expires_in: Option<u64>,
        /// Sign-ins that are left after it has expired, if it has.
        grace_left: Option<u32>,
    },
    /// The name or the password is wrong; a server may say the same of an account that is disabled.
    Wrong,
    /// It must be changed first.
    MustChange {
        /// True if that shows that it is right.
        is_right: bool,
    },
    /// It has expired.
    Expired {
        /// True if that shows that it is right.
        is_right: bool,
    },
    /// The account is locked, after wrong passwords or by an administrator.
    Locked,
    /// The account is disabled.
    Disabled,
    /// The account has expired.
    AccountExpired,
    /// The account may not be used at this hour.
    Hours,
    /// The account may not be used from this machine.
    Machine,
    /// There is no such entry any more.
    Gone,
    /// Something else, with the server's words.
    Other(String),
}

impl PasswordAnswer {
    /// True if the person gets in, as far as the directory is concerned.
    #[must_use]
    pub fn is_yes(&self) -> bool {
        matches!(self, Self::Right { .. })
    }

    /// True if the try may count towards a lock-out.
    #[must_use]
    pub fn counts(&self) -> bool {
        !matches!(
            self,
            Self::Right { .. } | Self::MustChange { is_right: true } | Self::Expired { is_right: true }
        )
    }
}
