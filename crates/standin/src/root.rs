//! The root DSE (RFC 4512 §5.1), and the partitions of a forest.

use crate::directory::Directory;
use crate::manner::Manner;
use crate::options::Options;
use crate::subschema::SUBSCHEMA;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::name::Dn;
use webtaxon_wire::control::{DOMAIN_SCOPE, PAGED_RESULTS, PASSWORD_POLICY, START_TLS, WHO_AM_I};

/// The capability of every domain controller.
const CONTROLLER: &str = "1.2.840.113556.1.4.800";

pub(crate) fn root_dse(directory: &Directory, options: &Options) -> Entries {
    let start_tls = options.start_tls && !options.tls;
    let paged = options.paging.then_some(PAGED_RESULTS);
    let tops: Vec<String> = directory.tops().iter().map(ToString::to_string).collect();
    let first = tops.first().map_or("", String::as_str);
    let (configuration, schema, now, last_change);
    // All operational attributes (RFC 3673), absolute true and false (RFC 4526)
    let features = vec!["1.3.6.1.4.1.4203.1.5.1", "1.3.6.1.4.1.4203.1.5.3"];
    let mut attributes: Vec<(&str, Vec<&str>)> = vec![
        ("objectClass", vec!["top"]),
        ("namingContexts", options.tops.as_ref().unwrap_or(&tops).iter().map(String::as_str).collect()),
        ("subschemaSubentry", vec![SUBSCHEMA]),
        ("supportedLDAPVersion", vec!["3"]),
        ("supportedFeatures", features),
        ("vendorName", vec!["Webtaxon simulated directory"]),
        ("vendorVersion", vec![env!("CARGO_PKG_VERSION")]),
    ];
    match directory.manner() {
        Manner::Plain | Manner::Dirsrv => {
            let policy = (directory.manner() == Manner::Plain).then_some(PASSWORD_POLICY);
            attributes.push(("supportedControl", paged.into_iter().chain(policy).collect()));
            let tls = start_tls.then_some(START_TLS);
            attributes.push(("supportedExtension", tls.into_iter().chain([WHO_AM_I]).collect()));
        }
        Manner::Controller => {
            configuration = format!("CN=Configuration,{first}");
            schema = format!("CN=Schema,{configuration}");
            last_change = directory.last_change().to_string();
            now = jiff::Timestamp::now().strftime("%Y%m%d%H%M%S.0Z").to_string();
            attributes.extend([
                ("supportedControl", paged.into_iter().chain([DOMAIN_SCOPE]).collect()),
                ("supportedCapabilities", vec![CONTROLLER]),
                ("defaultNamingContext", vec![first]),
                ("rootDomainNamingContext", vec![first]),
                ("configurationNamingContext", vec![configuration.as_str()]),
                ("schemaNamingContext", vec![schema.as_str()]),
                ("currentTime", vec![now.as_str()]),
                ("highestCommittedUSN", vec![last_change.as_str()]),
            ]);
        }
    }
    one("", attributes)
}

/// The domains of the forest, of which there is one ([MS-ADTS] §6.1.1.2.1.1.4).
pub(crate) fn partitions(directory: &Directory, base: &Dn) -> Option<Entries> {
    let top = directory.top().filter(|_| directory.manner() == Manner::Controller)?;
    let name = Dn::parse(&format!("CN=Partitions,CN=Configuration,{top}")).ok()?;
    if name.key() != base.key() || directory.at(&name).is_some() {
        return None;
    }
    let domain = top.to_string();
    let attributes = vec![
        ("objectClass", vec!["top", "crossRef"]),
        ("nCName", vec![domain.as_str()]),
        ("systemFlags", vec!["3"]),
    ];
    Some(one(&format!("CN={},{name}", directory.first_label().unwrap_or_default()), attributes))
}

fn one(dn: &str, attributes: Vec<(&str, Vec<&str>)>) -> Entries {
    let mut entries = Entries::new();
    entries
        .push(dn, attributes.into_iter().map(|(name, values)| (name, values.into_iter().map(str::as_bytes))));
    entries
}
