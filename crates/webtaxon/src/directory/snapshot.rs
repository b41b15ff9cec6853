//! Reading what an intake needs into a snapshot.

use super::sweep::{read_with, wanted_attributes};
use super::{Access, DirectoryError, DirectoryErrorKind};
use jiff::Timestamp;
use ring::rand::{SecureRandom as _, SystemRandom};
use std::collections::BTreeSet;
use webtaxon_core::identity::Identity;
use webtaxon_core::selection::active_filter;
use webtaxon_core::settings::Settings;
use webtaxon_core::snapshot::{Header, Mask, Snapshot};

/// Reads everything that the intake needs, and what its filter compares with, so that the same
/// people are found in the file.
///
/// # Errors
/// No server could be reached, or the bind was refused.
pub async fn take_snapshot(
    access: &Access,
    settings: &Settings,
    links: &[Identity],
    mask: bool,
) -> Result<Snapshot, DirectoryError> {
    let intake = &settings.intake;
    let mut more: BTreeSet<String> = intake.filter.attributes().map(str::to_owned).collect();
    more.insert("objectClass".to_owned());
    let more: Vec<String> = more.into_iter().collect();
    let reading = read_with(access, settings, links, &more).await?;
    let kind = reading.source().kind;
    let mut attributes = wanted_attributes(intake, kind);
    attributes.extend(more);
    attributes.sort_by_key(|name| name.to_ascii_lowercase());
    attributes.dedup_by_key(|name| name.to_ascii_lowercase());
    let header = Header::new(&reading, intake, &attributes, Timestamp::now());
    if !mask {
        return Ok(Snapshot::new(header, &reading, None));
    }
    let mut key = [0; 16];
    SystemRandom::new().fill(&mut key).map_err(|_| DirectoryErrorKind::NoRandom)?;
    let conditions = intake.conditions().filter_map(|condition| condition.when.clone());
    let filters = std::iter::once(intake.filter.clone()).chain(active_filter(intake, kind));
    let filters: Vec<_> = filters.chain(conditions).collect();
    Ok(Snapshot::new(header, &reading, Some(&Mask::new(key, &filters))))
}
