//! `[sign_in]`: how people call themselves at a sign-in, and what it does to their accounts.

use serde::Serialize;
use std::time::Duration;

/// The settings of a sign-in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct SignIn {
    /// The fields by which people may call themselves, in the order in which they are compared.
    pub names: Vec<String>,
    /// The outcome for somebody who is selected and has no account.
    pub new: FirstSignIn,
    /// True if fields and roles are drawn anew.
    pub refresh: bool,
    /// The account of somebody who is not selected any more.
    pub leavers: LeaverSignIn,
    /// Where tries are recorded.
    pub audit: Audit,
    /// When tries are refused without asking the directory.
    pub throttle: Throttle,
}

/// The outcome for somebody who is selected and has no account.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum FirstSignIn {
    /// A refusal: the next apply imports them.
    #[default]
    Refuse,
    /// The account that an apply would import.
    Import,
}

/// The account of somebody who is not selected any more, and who is refused in any case.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum LeaverSignIn {
    /// Nothing: the next apply decides.
    #[default]
    Refuse,
    /// It is suspended, if an apply would suspend or remove it today.
    Suspend,
}

/// Where tries are recorded.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Audit {
    /// The file; `None` for one beside the settings.
    pub file: Option<String>,
    /// When a new file is begun.
    pub rotate: Rotation,
    /// Number of full files that are kept.
    pub keep: u64,
}

/// When a new file is begun.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Rotation {
    /// Each day, in UTC.
    Daily,
    /// Before it is larger than so many bytes.
    Bytes(u64),
}

/// When tries are refused without asking the directory, so that it locks nobody out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Throttle {
    /// Wrong passwords for one name, from one source.
    pub tries: u64,
    /// Wrong passwords and unknown names from one source, for all names together.
    pub from_one_source: u64,
    /// The time in which they count.
    #[serde(rename = "seconds", serialize_with = "seconds")]
    pub within: Duration,
}

fn seconds<S: serde::Serializer>(time: &Duration, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_u64(time.as_secs())
}

impl Default for SignIn {
    fn default() -> Self {
        Self {
            names: vec!["login".to_owned()],
            new: FirstSignIn::default(),
            refresh: true,
            leavers: LeaverSignIn::default(),
            audit: Audit::default(),
            throttle: Throttle::default(),
        }
    }
}

impl SignIn {
    /// True if nothing differs from the default.
    pub(super) fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

impl Default for Audit {
    fn default() -> Self {
        Self { file: None, rotate: Rotation::Bytes(10 << 20), keep: 9 }
    }
}

impl Default for Throttle {
    fn default() -> Self {
        Self { tries: 3, from_one_source: 30, within: Duration::from_secs(15 * 60) }
    }
}
