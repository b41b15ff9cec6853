//! Securing connections: certificates and their checks, and the sources of passwords.

mod certificate;
mod error;
mod secret;
mod tls;

pub use certificate::Certificate;
pub use error::{CertificateFault, RefusedCertificate, SecureError};
#[cfg(feature = "scim")]
pub(crate) use secret::TOKEN;
pub(crate) use secret::fetch as fetch_password;
pub(crate) use secret::random_secret;
pub use secret::{Prompt, password, password_warning};
pub(crate) use tls::TlsRules;
