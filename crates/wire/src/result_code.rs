//! Result codes (RFC 4511 §4.1.9).

use rasn::prelude::*;

/// A result code (RFC 4511 §4.1.9, appendix A). Servers add their own, so any number is kept.
#[derive(AsnType, Encode, Decode, Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[rasn(delegate, tag(universal, 10))]
pub struct ResultCode(pub u32);

impl ResultCode {
    /// Success.
    pub const SUCCESS: Self = Self(0);
    /// More entries than the size limit.
    pub const SIZE_LIMIT_EXCEEDED: Self = Self(4);
    /// More than an administrative limit allows.
    pub const ADMIN_LIMIT_EXCEEDED: Self = Self(11);
    /// Longer than the time limit.
    pub const TIME_LIMIT_EXCEEDED: Self = Self(3);
    /// Another server holds the entries.
    pub const REFERRAL: Self = Self(10);
    /// The server is too busy.
    pub const BUSY: Self = Self(51);
    /// The server is shutting down or starting.
    pub const UNAVAILABLE: Self = Self(52);
    /// unavailableCriticalExtension
    pub const UNAVAILABLE_CRITICAL_EXTENSION: Self = Self(12);
    /// protocolError
    pub const PROTOCOL_ERROR: Self = Self(2);
    /// inappropriateMatching
    pub const INAPPROPRIATE_MATCHING: Self = Self(18);
    /// unwillingToPerform
    pub const UNWILLING_TO_PERFORM: Self = Self(53);
    /// The base does not exist.
    pub const NO_SUCH_OBJECT: Self = Self(32);

    /// The standard's name for the code (RFC 4511 appendix A).
    #[must_use]
    pub fn name(self) -> &'static str {
        match self.0 {
            0 => "success",
            1 => "operationsError",
            2 => "protocolError",
            3 => "timeLimitExceeded",
            4 => "sizeLimitExceeded",
            7 => "authMethodNotSupported",
            8 => "strongerAuthRequired",
            10 => "referral",
            11 => "adminLimitExceeded",
            12 => "unavailableCriticalExtension",
            13 => "confidentialityRequired",
            14 => "saslBindInProgress",
            16 => "noSuchAttribute",
            18 => "inappropriateMatching",
            21 => "invalidAttributeSyntax",
            32 => "noSuchObject",
            34 => "invalidDNSyntax",
            48 => "inappropriateAuthentication",
            49 => "invalidCredentials",
            50 => "insufficientAccessRights",
            51 => "busy",
            52 => "unavailable",
            53 => "unwillingToPerform",
            80 => "other",
            _ => "a result code of the server's own",
        }
    }
}

impl std::fmt::Display for ResultCode {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "{} ({})", self.name(), self.0)
    }
}
