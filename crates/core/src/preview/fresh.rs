//! People whom an apply brought in a short while ago. Another server of the directory, or one that fell back, may not know
//! about it yet; it takes nobody away who was brought in since, until it has shown them once.

use super::situation::Selected;
use super::{Change, ChangeKind, Fresh, Memory};
use crate::ldap::identity::Identity;
use foldhash::{HashMap, HashSet};
use std::collections::BTreeMap;

/// True if this intake's server may be behind the one of the last apply.
fn is_elsewhere(part: &Selected<'_>) -> bool {
    let pair = part.reading.footprint().zip(part.reading.footprint_before());
    pair.is_some_and(|(now, before)| now.is_elsewhere(before))
}

/// True if a server that was read may not have a new person yet.
pub(super) fn may_lag(parts: &[Selected<'_>], memory: &Memory, link: &Identity) -> bool {
    let Some(fresh) = memory.fresh.get(link).filter(|fresh| memory.is_fresh(fresh)) else { return false };
    let is_another = |part: &Selected<'_>| {
        // A snapshot is a reading of the past anyway.
        let is_live = part.reading.source().bound.is_some();
        is_live && part.reading.server() != fresh.server || is_elsewhere(part)
    };
    parts.iter().any(is_another)
}

/// The people to remember: those who come in, and those who did a short while ago and whom no other server has shown
/// since. If only one person was read, others are not among them.
pub(super) fn fresh(
    parts: &[Selected<'_>],
    changes: &[Change],
    memory: &Memory,
) -> BTreeMap<Identity, Fresh> {
    let comes = |change: &&Change| {
        matches!(change.kind(), ChangeKind::Import | ChangeKind::Adopt | ChangeKind::Restore)
    };
    let is_of_one = parts.iter().any(|part| part.reading.is_of_one());
    let known = || memory.still_fresh().filter(|_| !is_of_one);
    let coming = changes.iter().filter(comes).filter_map(|change| change.link.as_ref());
    let asked: HashSet<&Identity> = coming.chain(known().map(|(link, _)| link)).collect();
    if asked.is_empty() {
        return BTreeMap::new();
    }
    let mut shown: HashMap<&Identity, &str> = HashMap::default();
    for part in parts {
        let server = part.reading.server();
        let theirs = part.selection.candidates.iter().map(|one| &one.identity);
        shown.extend(theirs.filter(|link| asked.contains(link)).map(|link| (link, server)));
    }
    let is_open =
        |(link, fresh): &(&Identity, &Fresh)| shown.get(*link).is_none_or(|server| *server == fresh.server);
    let earlier = known().filter(is_open).map(|(link, fresh)| (link.clone(), fresh.clone()));
    let now = changes.iter().filter(comes).filter_map(|change| {
        let link = change.link.as_ref()?;
        let server = shown.get(link).filter(|server| !server.is_empty())?;
        Some((link.clone(), Fresh { server: (*server).to_owned(), since: memory.today }))
    });
    earlier.chain(now).collect()
}

/// The remark on a server that may not know yet what the last apply saw.
pub(super) fn note(part: &Selected<'_>, memory: &Memory) -> Option<String> {
    let (now, before) = part.reading.footprint().zip(part.reading.footprint_before())?;
    if !now.is_elsewhere(before) || memory.still_fresh().next().is_none() {
        return None;
    }
    let what = match now.server == before.server {
        true => format!("{} shows an earlier state than at the last apply", now.server),
        false => format!("{} answered, and {} at the last apply", now.server, before.server),
    };
    Some(format!("{what}: whom recent applies brought in stays until this server has shown them"))
}
