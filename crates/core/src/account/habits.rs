//! What a store does otherwise than it says: found out from its answers, or with a scratch account, and kept in the
//! state between runs.

use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What a store does otherwise than it says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Habits {
    /// True if an account is changed by sending it as a whole: smaller requests are refused, or have no effect.
    pub whole: bool,
    /// The places that take a value and do not keep it, as the store names them, each with the day on which that
    /// was found.
    pub drops: BTreeMap<String, Date>,
    /// The day of the latest trial with a scratch account.
    pub tried: Option<Date>,
}
