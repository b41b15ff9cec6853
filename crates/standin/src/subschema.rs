//! The subschema that the simulated directory publishes (RFC 4512 §4.2).

use crate::manner::Manner;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::{ldif, schema};

/// The subschema's name.
pub(crate) const SUBSCHEMA: &str = "cn=Subschema";

/// The subschema, as a server of this manner publishes it.
pub(crate) fn subschema(manner: Manner) -> Entries {
    let file = match manner {
        Manner::Plain => schema::STANDARD,
        Manner::Controller => schema::CONTROLLER,
    };
    // The files are read at every build's tests.
    ldif::entries(file).unwrap_or_default()
}
