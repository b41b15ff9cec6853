//! Sign-ins: the names that people type, how often they may try, and whether somebody gets in.
//!
//! No I/O, and no clock: whatever depends on the time takes it as a value. Whether a person is selected, and what their
//! account becomes, is decided by [`preview`](crate::preview), for one person as for all.

mod name;
mod password;
mod refusal;
mod standing;
#[cfg(test)]
mod tests;
mod throttle;

pub use name::SignInName;
pub use password::PasswordAnswer;
pub use refusal::{LONGEST, NameFault, Refusal, Sentence};
pub use standing::Standing;
pub use throttle::{Source, Throttled, Throttles};
