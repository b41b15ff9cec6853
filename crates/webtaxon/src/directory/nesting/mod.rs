//! Nested groups: the strategies for reading them, and the choice of one.

mod bulk;
mod group_entry;
mod lists;
mod named_groups;
mod server_side;
mod upwards;

pub(crate) use group_entry::GROUP_CLASSES;

use super::client::Connection;
use super::error::DirectoryError;
use webtaxon_core::reading::ReadingBuilder;
use webtaxon_core::settings::{Intake, Strategy};

/// Reads the named groups and all groups in them, by the strategy in the settings.
///
/// # Errors
/// The connection is unusable; the reading records what is missing.
pub(super) async fn read(
    connection: &mut Connection,
    reading: &mut ReadingBuilder,
    intake: &Intake,
) -> Result<(), DirectoryError> {
    if reading.nests(intake).iter().all(|(groups, _)| groups.is_empty()) {
        return Ok(());
    }
    // A snapshot has member lists, but no server that computes anything.
    if connection.snapshot().is_some() {
        return lists::read(connection, reading, intake).await;
    }
    match intake.strategy {
        Strategy::Upwards => upwards::read(connection, reading, intake).await.map(drop),
        Strategy::Chain | Strategy::Tokens => server_side::read(connection, reading, intake).await,
        // A refusal on the way upwards does not prevent reading lists.
        Strategy::Auto => match upwards::read(connection, reading, intake).await {
            Ok(true) => Ok(()),
            Err(error) if error.is_fatal() => Err(error),
            Ok(false) | Err(_) => lists::read(connection, reading, intake).await,
        },
        _ => lists::read(connection, reading, intake).await,
    }
}
