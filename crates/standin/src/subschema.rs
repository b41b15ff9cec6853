//! The subschema that the simulated directory publishes (RFC 4512 §4.2).

use crate::manner::Manner;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::{ldif, schema};

/// The subschema's name.
pub(crate) const SUBSCHEMA: &str = "cn=Subschema";

/// The subschema of this kind of server.
pub(crate) fn subschema(manner: Manner) -> Entries {
    let file = match manner {
        Manner::Plain => std::borrow::Cow::Borrowed(schema::STANDARD),
        Manner::Dirsrv => {
            let text = String::from_utf8_lossy(schema::STANDARD);
            let may = text.replace("MUST ( member $ cn ) MAY (", "MUST cn MAY ( member $");
            may.replace("MUST ( uniqueMember $ cn ) MAY (", "MUST cn MAY ( uniqueMember $")
                .into_bytes()
                .into()
        }
        Manner::Controller => std::borrow::Cow::Borrowed(schema::CONTROLLER),
    };
    // Tests read the files.
    ldif::entries(&file).unwrap_or_default()
}
