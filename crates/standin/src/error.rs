//! Why the simulated directory cannot start.

use miette::Diagnostic;
use std::net::SocketAddr;
use thiserror::Error;

/// Why the simulated directory cannot start.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct StandinError(#[from] StandinErrorKind);

/// The kinds of failure.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum StandinErrorKind {
    /// The address cannot be used.
    #[error("the simulated directory cannot listen on {0}: {1}")]
    #[diagnostic(
        code(WX0701),
        help("another program may have the port: choose another with --listen 127.0.0.1:PORT")
    )]
    Listen(SocketAddr, std::io::Error),
    /// An address that other machines can reach.
    #[error("the simulated directory does not listen on {0}: it serves this machine only")]
    #[diagnostic(code(WX0703), help("choose an address on loopback: --listen 127.0.0.1:6360 or [::1]:6360"))]
    NotLoopback(SocketAddr),
    /// The certificate could not be made.
    #[error("the simulated directory cannot make a certificate: {0}")]
    #[diagnostic(code(WX0702), help("this is a bug in Webtaxon: please report it"))]
    Certificate(String),
}

impl StandinError {
    /// The kind of failure.
    #[must_use]
    pub fn kind(&self) -> &StandinErrorKind {
        &self.0
    }
}
