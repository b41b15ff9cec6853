//! Connects an application to an LDAP directory and previews which accounts it would import,
//! update, suspend or remove, before anything happens.
//!
//! ```no_run
//! # #[tokio::main(flavor = "current_thread")]
//! # async fn main() -> Result<(), webtaxon::Error> {
//! let workspace = webtaxon::Workspace::open("demo/webtaxon.toml")?;
//! let preview = workspace.preview().await?;
//! for change in &preview.changes {
//!     println!("{} {}", change.kind.name(), change.login);
//! }
//! # Ok(()) }
//! ```
//!
//! [`Workspace`] is where to begin. [`core`] is the computation, which needs no I/O; [`directory`]
//! reads from LDAP servers, [`mod@file`] from LDIF files, [`store`] from the application's own
//! list, [`apply`] carries out what was previewed, [`state`] is the journal and what is remembered from
//! run to run, and [`report`] renders results.
//!
//! Each kind of account store is a feature, and all are on unless turned off: `csv`, `postgres`, `scim`,
//! `sqlite`.

pub mod apply;
mod background;
pub mod check;
mod crash;
pub mod directory;
mod error;
pub mod file;
mod links;
#[cfg(feature = "postgres")]
mod postgres;
mod private;
pub mod progress;
pub mod report;
pub mod secure;
mod setup;
#[cfg(any(feature = "postgres", feature = "sqlite"))]
mod sql_names;
pub mod state;
pub mod store;
pub mod survey;
mod workspace;

pub use error::{ApplyError, ApplyErrorKind, Error};
pub use webtaxon_core as core;
pub use workspace::{Answer, Workspace};
