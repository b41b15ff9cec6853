//! The work as SQL statements, for an administrator to review and run.

use super::{Consent, Work, consider, terms};
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::setup::Setup;
use crate::store::ScriptWork;
use webtaxon_core::apply::{Edit, Untouchable};

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
    let is_new = |edit: &Edit| edit.before.is_none();
    let secrets = setup.settings.secret_fields();
    let note = match secrets.is_empty() || !script.edits.iter().any(is_new) {
        true => String::new(),
        false => format!(
            "-- Without {}: a secret is set by an apply only, never written to a file.\n",
            secrets.join(", ")
        ),
    };
    Ok(note + &store.statements(script, terms).await?.ok_or_else(none)?)
}
