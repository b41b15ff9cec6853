//! The work as SQL statements, for an administrator to review and run.

use super::{Consent, Work, consider, terms};
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::setup::Setup;
use crate::store::ScriptWork;
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
    let untouchable = Untouchable::new(&setup.settings.accounts.protected);
    let allowed = work.edits.iter().filter(|edit| untouchable.forbids(edit).is_none());
    let script = ScriptWork {
        first: work.groups.first.as_slice().into(),
        edits: allowed.cloned().collect(),
        last: work.groups.last.as_slice().into(),
    };
    Ok(store.statements(script, terms).await?.ok_or_else(none)?)
}
