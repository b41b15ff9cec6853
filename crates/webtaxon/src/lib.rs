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
//! [`Workspace`] is where to begin: [`Workspace::open`] with a settings file, or [`Workspace::new`] with
//! [`Settings`] that a program put together.
//!
//! * [`Workspace::preview`] changes nothing. [`Workspace::work`] gives the same preview with what an apply would
//!   do of it, [`apply::Work`]; [`Workspace::apply`] does it, and [`Workspace::way_back`] takes it back.
//! * [`store`] is the application's list of accounts, [`state`] the journal and what is remembered from run to
//!   run. An application may keep both itself: [`Workspace::with_store`], [`Workspace::with_state`].
//! * [`model`] is the computation, which needs no I/O; [`directory`] reads from LDAP servers, [`mod@file`] from
//!   LDIF files; [`report`] writes results as JSON, CSV, HTML and pictures.
//!
//! # The runtime
//! Whatever is `async` here needs a Tokio runtime with its time and I/O drivers (`enable_all`), of either kind.
//! What blocks (SQLite, the lock, PostgreSQL as a place for the state) goes to threads of its own. Any future may
//! be dropped: a reading ends with it, an apply that has begun is finished and recorded by a task of its own.
//!
//! # Features
//! All are on unless turned off. `csv`, `postgres`, `scim` and `sqlite` are the kinds of account store; `sqlite` is
//! also the state in a file, `postgres` the state in a database, and `csv` the tables of [`report`].

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
pub use webtaxon_core as model;
pub use webtaxon_core::account::Account;
pub use webtaxon_core::preview::{Change, ChangeKind, Preview};
pub use webtaxon_core::settings::Settings;
pub use workspace::{Answer, Workspace};
