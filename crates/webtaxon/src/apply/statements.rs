//! The work as SQL statements, for an administrator to review and run.

use super::{Consent, Work, consider, terms};
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::setup::Setup;
use crate::store::group_store;
use webtaxon_core::apply::Untouchable;

/// The statements, in order. Nothing is changed or recorded.
pub(crate) async fn statements(setup: &Setup, work: &Work, consent: &Consent) -> Result<String, Error> {
    let store = setup.store();
    consider(setup, &*store, work, consent)?;
    if setup.linked(&*store).is_apart() {
        return Err(ApplyError::from(ApplyErrorKind::LinksApart).into());
    }
    let terms = terms(setup, work, consent);
    let none = || ApplyError::from(ApplyErrorKind::NoTable(store.describe()));
    let mut all = String::new();
    if !work.groups.first.is_empty() {
        all += &group_store(&*store)?
            .group_statements(work.groups.first.as_slice().into())
            .await?
            .ok_or_else(none)?;
    }
    let untouchable = Untouchable::new(&setup.settings.accounts.protected);
    let allowed = work.edits.iter().filter(|edit| untouchable.forbids(edit).is_none());
    let allowed = allowed.cloned().collect();
    all += &store.statements(allowed, terms).await?.ok_or_else(none)?;
    if !work.groups.last.is_empty() {
        all += &group_store(&*store)?
            .group_statements(work.groups.last.as_slice().into())
            .await?
            .ok_or_else(none)?;
    }
    Ok(all)
}
