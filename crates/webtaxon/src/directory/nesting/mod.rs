//! Nested groups: the strategies for reading them, and the choice of one.

mod above;
mod bulk;
mod chain;
mod claims;
mod climb;
mod computed;
mod cost;
mod facts;
mod group_entry;
mod listing;
mod lists;
mod named_groups;
mod strategy;
mod tokens;
mod upwards;

pub(crate) use facts::GroupFacts;
pub(crate) use group_entry::{GROUP_CLASSES, UNIT_CLASSES};

pub(super) use strategy::Nests;

use super::error::DirectoryError;
use above::Above;
use chain::ChainRule;
use claims::Claims;
use lists::Lists;
use strategy::{Attempt, NestStrategy};
use tokens::Tokens;
use upwards::Upwards;
use webtaxon_core::settings::Strategy;

/// Reads the nests by the strategy in the settings.
///
/// # Errors
/// The connection is unusable; the reading records what is missing.
pub(super) async fn read(mut nests: Nests<'_>) -> Result<(), DirectoryError> {
    let nests = &mut nests;
    if nests.builder.nests(nests.request).iter().all(|(groups, _)| groups.is_empty()) {
        return Ok(());
    }
    let attempt = match nests.request.strategy {
        // A snapshot has member lists, but no server that computes anything.
        _ if nests.connection.snapshot().is_some() => Ok(Attempt::Declined),
        _ if nests.request.attribute_of_people().is_some() => Claims.read(nests).await,
        Strategy::Auto => Upwards { only_if_cheaper: true }.read(nests).await,
        Strategy::Upwards => Upwards { only_if_cheaper: false }.read(nests).await,
        Strategy::Chain => ChainRule.read(nests).await,
        Strategy::Tokens => Tokens.read(nests).await,
        _ => Ok(Attempt::Declined),
    };
    match attempt {
        Ok(Attempt::Read) => Ok(()),
        Ok(Attempt::Declined) => Lists.read(nests).await.map(drop),
        // A refusal on the way upwards does not prevent reading lists.
        Err(error) if nests.request.strategy == Strategy::Auto && !error.is_fatal() => {
            Lists.read(nests).await.map(drop)
        }
        Err(error) => Err(error),
    }
}

/// Reads what one person's membership depends on: the groups above them; or, where searches for lists tell nothing, the
/// nests.
///
/// # Errors
/// The connection is unusable; the reading records what is missing.
pub(super) async fn read_above(mut nests: Nests<'_>, facts: &GroupFacts) -> Result<(), DirectoryError> {
    let nests = &mut nests;
    if nests.request.groups().next().is_none() {
        return Ok(());
    }
    let attempt = match nests.request.strategy {
        _ if nests.connection.snapshot().is_some() => Attempt::Declined,
        _ if nests.request.attribute_of_people().is_some() => Claims.read(nests).await?,
        Strategy::Upwards => Upwards { only_if_cheaper: false }.read(nests).await?,
        Strategy::Tokens => Tokens.read(nests).await?,
        _ => Above { facts }.read(nests).await?,
    };
    match attempt {
        Attempt::Read => Ok(()),
        Attempt::Declined => Lists.read(nests).await.map(drop),
    }
}
