//! Reading an intake into a snapshot.

use super::links::KnownLinks;
use super::steps::{read_with, wanted_attributes};
use crate::directory::{Access, DirectoryError, DirectoryErrorKind};
use jiff::Timestamp;
use ring::rand::{SecureRandom as _, SystemRandom};
use std::collections::BTreeSet;
use std::sync::Arc;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::Reading;
use webtaxon_core::reading::snapshot::{Header, Mask, Snapshot};
use webtaxon_core::selection::active_filter;
use webtaxon_core::settings::{GroupIntake, Intake};

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
    let mut by_lists = intake.clone();
    by_lists.strategy = intake.strategy.by_lists();
    let intake = &by_lists;
    let mut more: BTreeSet<String> = intake.filter.attributes().map(str::to_owned).collect();
    more.insert("objectClass".to_owned());
    let more: Vec<String> = more.into_iter().collect();
    let reading = read_with(access, intake, &KnownLinks::known(links), &more).await?;
    let kind = reading.source().kind;
    let mut attributes = wanted_attributes(intake, kind);
    attributes.extend(more.iter().cloned());
    attributes.sort_by_key(|name| name.to_ascii_lowercase());
    attributes.dedup_by_key(|name| name.to_ascii_lowercase());
    let header = Header::new(&reading, intake, &attributes, Timestamp::now());
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
    let mut both = one.clone();
    let intake = &mut both;
    let add = |list: &mut Vec<Dn>, more: &[Dn]| {
        for name in more {
            if !list.iter().any(|known| known.key() == name.key()) {
                list.push(name.clone());
            }
        }
    };
    if let Some(groups) = &two.application_groups {
        match &mut intake.application_groups {
            Some(own) => {
                add(&mut own.bases, &groups.bases);
                own.filter = Filter::any([own.filter.clone(), groups.filter.clone()]);
                let named = groups.fields.iter();
                own.fields.extend(named.map(|(name, rule)| (format!("{name} of the other"), rule.clone())));
            }
            none => *none = Some(groups.clone()),
        }
    }
    intake.strategy = intake.strategy.by_lists();
    add(&mut intake.bases, &two.bases);
    add(&mut intake.groups, &two.groups);
    add(&mut intake.not_in_group, &two.not_in_group);
    // The other settings' rules are added, so that all of their attributes are read.
    intake
        .fields
        .extend(two.fields.iter().map(|(name, rule)| (format!("{name} of the other"), rule.clone())));
    intake.roles.extend(two.roles.iter().cloned());
    if intake.group_bases.is_empty() || two.group_bases.is_empty() {
        intake.group_bases.clear();
    } else {
        add(&mut intake.group_bases, &two.group_bases);
    }
    if one.filter != two.filter {
        intake.filter = Filter::any([one.filter.clone(), two.filter.clone()]);
    }
    let mut more: BTreeSet<String> = intake.filter.attributes().map(str::to_owned).collect();
    more.insert("objectClass".to_owned());
    for kind in [ServerKind::Plain, ServerKind::Controller] {
        more.extend(active_filter(two, kind, Timestamp::UNIX_EPOCH).attributes().map(str::to_owned));
    }
    let more: Vec<String> = more.into_iter().collect();
    let links = KnownLinks::known(links);
    let reading = read_with(access, &both, &links, &more).await?;
    let mut attributes = wanted_attributes(&both, reading.source().kind);
    attributes.extend(more.iter().cloned());
    let mut header = Header::new(&reading, &both, &attributes, Timestamp::now());
    let mut readings = Vec::new();
    for intake in [one, two] {
        header.application_groups = intake.application_groups.as_ref().map(GroupIntake::which);
        header.filter = Some(intake.filter.clone());
        header.group_bases.clone_from(&intake.group_bases);
        let mut snapshot = Snapshot::new(header.clone(), &reading, None);
        snapshot.schema.clone_from(&reading.source().schema);
        let offline = access.clone().from_snapshot(Some(Arc::new(snapshot)));
        readings.push(read_with(&offline, intake, &links, &more).await?);
    }
    readings.try_into().map_err(|_| DirectoryErrorKind::NoServer.into())
}
