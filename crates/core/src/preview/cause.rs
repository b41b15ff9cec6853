//! Why an account's person is no longer a candidate.

use serde::{Deserialize, Serialize};

/// Why a linked account's person is no longer a candidate.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Cause {
    /// The entry does not exist.
    Gone,
    /// The entry exists, but is not selected.
    Outside,
    /// The person is not active.
    Disabled,
    /// A required field is missing.
    Incomplete,
}

impl Cause {
    /// The keyword.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Gone => "gone",
            Self::Outside => "outside",
            Self::Disabled => "disabled",
            Self::Incomplete => "incomplete",
        }
    }
}
