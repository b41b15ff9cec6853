//! Reading an intake into a snapshot.

use super::links::KnownLinks;
use super::steps::read_for;
use crate::directory::{Access, DirectoryError, DirectoryErrorKind};
use jiff::Timestamp;
use ring::rand::{SecureRandom as _, SystemRandom};
use std::sync::Arc;
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::reading::snapshot::{Header, Mask, Snapshot};
use webtaxon_core::reading::{Reading, Request};
use webtaxon_core::settings::{Intake, active_filter};

/// Reads everything that the intake needs, and the attributes in its filter, so that a search in the file finds the
/// same people.
///
/// # Errors
/// No server could be reached, or the bind was refused.
pub async fn take_snapshot(
    access: &Access,
    intake: &Intake,
    links: &[Identity],
    mask: bool,
) -> Result<Snapshot, DirectoryError> {
    let request = Request::of(intake).by_lists().with_filter();
    let reading = read_for(access, &request, &KnownLinks::known(links)).await?;
    let kind = reading.source().kind;
    let header = Header::new(&reading, &request, Timestamp::now());
    if !mask {
        return Ok(Snapshot::new(header, &reading, None));
    }
    let mut key = [0; 16];
    SystemRandom::new().fill(&mut key).map_err(|_| DirectoryErrorKind::NoRandom)?;
    let conditions = intake.conditions().filter_map(|condition| condition.when.clone());
    let filters =
        std::iter::once(intake.filter.clone()).chain([active_filter(intake, kind, Timestamp::UNIX_EPOCH)]);
    let filters: Vec<_> = filters.chain(conditions).collect();
    Ok(Snapshot::new(header, &reading, Some(&Mask::new(key, &filters))))
}

/// Reads once for two settings of one directory, and returns the reading of each. Both are taken from a snapshot in
/// memory.
///
/// # Errors
/// No server could be reached, or the bind was refused.
pub(crate) async fn read_for_both(
    access: &Access,
    one: &Intake,
    two: &Intake,
    links: &[Identity],
) -> Result<[Reading; 2], DirectoryError> {
    let requests = [one, two].map(Request::of);
    let [first, second] = &requests;
    let both = first.clone().union(second).by_lists().with_filter();
    let links = KnownLinks::known(links);
    let reading = read_for(access, &both, &links).await?;
    let mut header = Header::new(&reading, &both, Timestamp::now());
    let mut readings = Vec::new();
    for request in requests {
        header.application_groups = request.application_groups.as_ref().map(|groups| groups.which.clone());
        header.filter = Some(request.filter.clone());
        header.group_bases.clone_from(&request.group_bases);
        let mut snapshot = Snapshot::new(header.clone(), &reading, None);
        snapshot.schema.clone_from(&reading.source().schema);
        let offline = access.clone().from_snapshot(Some(Arc::new(snapshot)));
        readings.push(read_for(&offline, &request.with(both.tested()), &links).await?);
    }
    readings.try_into().map_err(|_| DirectoryErrorKind::NoServer.into())
}
