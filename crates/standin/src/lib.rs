//! The simulated directory, an LDAPv3 server on loopback that holds an LDIF file in memory; and the simulated
//! application, a SCIM service that holds accounts there.
//!
//! For the demo, tests and benches; not a directory server for production. It answers over real sockets, with TLS
//! from a certificate made at start, and evaluates filters with the same core as the client.
//!
//! * [`Directory`]: the entries, and searches in them;
//! * [`Standin`]: the server; [`Options`]: its limits and faults;
//! * [`Application`]: the simulated application.

mod application;
mod change;
mod computed;
mod controller;
mod directory;
mod error;
mod fault;
mod manner;
mod options;
mod password_state;
mod peer;
mod root;
pub mod scenario;
mod search;
mod server;
mod session;
mod subschema;
mod tls;

pub use application::{Application, ApplicationOptions, List, Trouble, TroubleKind};
pub use directory::Directory;
pub use error::{StandinError, StandinErrorKind};
pub use fault::{Fault, FaultKind};
pub use manner::Manner;
pub use options::{Options, ServedFilters};
pub use server::Standin;
pub use tls::CertificateKind;
