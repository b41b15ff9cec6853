//! Connects an application to an LDAP directory and previews which accounts it would import,
//! update, suspend or remove, before anything happens.
//!
//! ```no_run
//! # #[tokio::main(flavor = "current_thread")]
//! # async fn main() -> Result<(), webtaxon::Error> {
//! let workspace = webtaxon::Workspace::open("demo/webtaxon.toml")?;
//! let preview = workspace.preview().await?;
//! for change in &preview.changes {
//!     println!("{} {}", change.kind().name(), change.login);
//! }
//! # Ok(()) }
//! ```
//!
//! Start with [`Workspace`]: [`Workspace::open`] for a settings file, [`Workspace::new`] for [`Settings`] made by a
//! program.
//!
//! * [`Workspace::preview`] changes nothing. [`Workspace::work`] returns the same preview with the edits of an apply,
//!   [`apply::Work`]; [`Workspace::apply`] carries them out, and [`Workspace::way_back`] returns the edits that undo a
//!   run.
//! * [`store`] holds the application's accounts, [`state`] the journal and what runs remember. An application can
//!   implement either itself: [`Workspace::with_store`], [`Workspace::with_state`].
//! * [`model`] is the computation, without I/O; [`directory`] reads from LDAP servers, [`mod@file`] from LDIF files;
//!   [`report`] writes results as JSON, CSV, HTML and drawings.
//!
//! # The runtime
//! Everything `async` needs a Tokio runtime of either kind, with its time and I/O drivers (`enable_all`); a program
//! without async uses [`Blocking`]. Blocking work (SQLite, the lock, the state in PostgreSQL) runs on threads of its
//! own. Any future may be dropped: a reading ends with it, while an apply that has begun is finished and recorded by a
//! task of its own.
//!
//! # Features
//! All are on by default. `csv`, `postgres`, `scim` and `sqlite` are the account stores; `sqlite` also includes the
//! state in a file, `postgres` the state in a database, and `csv` the tables of [`report`].

pub mod apply;
mod background;
mod blocking;
mod box_error;
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
pub mod settle;
mod setup;
pub mod sign_in;
#[cfg(any(feature = "mysql", feature = "postgres", feature = "sqlite"))]
mod sql_names;
pub mod state;
pub mod store;
pub mod survey;
mod workspace;

pub use blocking::Blocking;
pub use box_error::BoxError;
pub use error::{ApplyError, ApplyErrorKind, Error};
pub use sign_in::SignIns;
pub use survey::Named;
pub use webtaxon_core as model;
pub use webtaxon_core::account::Account;
pub use webtaxon_core::preview::{Change, ChangeKind, Preview};
pub use webtaxon_core::settings::Settings;
pub use workspace::Workspace;
