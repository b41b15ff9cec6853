//! What the server says of itself: the root DSE (RFC 4512 §5.1) and the subschema (RFC 4512 §4.2).

use webtaxon_core::entry::Entries;
use webtaxon_core::schema::Schema;
use webtaxon_wire::control::{DOMAIN_SCOPE, PAGED_RESULTS};

/// The subschema's name.
pub(crate) const SUBSCHEMA: &str = "cn=Subschema";

/// What every domain controller says it can do.
const CONTROLLER: &str = "1.2.840.113556.1.4.800";

pub(crate) fn root_dse(naming_contexts: &[String], controller: bool) -> Entries {
    let first = naming_contexts.first().map(String::as_str);
    let mut attributes: Vec<(&str, Vec<&str>)> = vec![
        ("objectClass", vec!["top"]),
        ("namingContexts", naming_contexts.iter().map(String::as_str).collect()),
        ("subschemaSubentry", vec![SUBSCHEMA]),
        ("supportedLDAPVersion", vec!["3"]),
        ("supportedControl", vec![PAGED_RESULTS, DOMAIN_SCOPE]),
        // All operational attributes (RFC 3673), absolute true and false (RFC 4526)
        ("supportedFeatures", vec!["1.3.6.1.4.1.4203.1.5.1", "1.3.6.1.4.1.4203.1.5.3"]),
        ("vendorName", vec!["Webtaxon simulated directory"]),
        ("vendorVersion", vec![env!("CARGO_PKG_VERSION")]),
    ];
    if controller {
        attributes.push(("supportedCapabilities", vec![CONTROLLER]));
        attributes.extend(first.map(|first| ("defaultNamingContext", vec![first])));
    }
    one("", attributes)
}

pub(crate) fn subschema() -> Entries {
    let types: Vec<String> =
        Schema::builtin().types().map(webtaxon_core::schema::AttributeType::definition).collect();
    one(
        SUBSCHEMA,
        vec![
            ("objectClass", vec!["top", "subschema"]),
            ("cn", vec!["Subschema"]),
            ("attributeTypes", types.iter().map(String::as_str).collect()),
        ],
    )
}

fn one(dn: &str, attributes: Vec<(&str, Vec<&str>)>) -> Entries {
    let mut entries = Entries::new();
    entries
        .push(dn, attributes.into_iter().map(|(name, values)| (name, values.into_iter().map(str::as_bytes))));
    entries
}
