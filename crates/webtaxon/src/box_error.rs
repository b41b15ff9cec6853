//! What lies behind an error.

/// The error that caused another one: the system's, a library's, or a text. The message of an error contains its
/// cause's; [`source`](std::error::Error::source) returns the cause itself.
pub type BoxError = Box<dyn std::error::Error + Send + Sync>;
