//! What the strategies for reading nested groups have in common.

use crate::directory::DirectoryError;
use crate::directory::client::Connection;
use webtaxon_core::reading::ReadingBuilder;
use webtaxon_core::reading::Request;

/// The nests that an intake needs, and the reading that they become part of.
pub(crate) struct Nests<'r> {
    pub(crate) connection: &'r mut Connection,
    pub(crate) builder: &'r mut ReadingBuilder,
    pub(crate) request: &'r Request,
}

/// What became of an attempt to read nests.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Attempt {
    /// They were read, and the part of each named group was closed.
    Read,
    /// Another strategy is cheaper, or sees more. No part was opened.
    Declined,
}

/// A strategy for reading nested groups. All of them find the same people; each leaves the parts short that it cannot
/// see completely.
pub(super) trait NestStrategy {
    /// Reads the members of the named groups, direct and nested.
    ///
    /// # Errors
    /// The connection is unusable; the reading records what is missing.
    async fn read(&self, nests: &mut Nests<'_>) -> Result<Attempt, DirectoryError>;
}
