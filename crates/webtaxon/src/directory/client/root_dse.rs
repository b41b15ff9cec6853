//! A server's root DSE (RFC 4512 §5.1).

use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_wire::control::{DOMAIN_SCOPE, PAGED_RESULTS};

/// The capability of domain controllers ([MS-ADTS] §3.1.1.3.4.3.1).
const CONTROLLER: &str = "1.2.840.113556.1.4.800";
/// The object class of OpenLDAP's root DSE.
const OPENLDAP: &str = "OpenLDAProotDSE";

/// A server's root DSE.
#[derive(Clone, Debug, Default)]
pub struct RootDse {
    /// The kind of server.
    pub kind: ServerKind,
    /// The naming contexts.
    pub naming_contexts: Vec<Dn>,
    /// The naming context with the people, if the server names one.
    pub default_naming_context: Option<Dn>,
    /// The OIDs of supported controls.
    pub controls: Vec<String>,
    /// The OIDs of supported extended operations.
    pub extensions: Vec<String>,
    /// The supported SASL mechanisms.
    pub mechanisms: Vec<String>,
    /// The vendor, if known.
    pub vendor: Option<String>,
    /// The name of the subschema entry.
    pub subschema: Option<Dn>,
    /// The server's time, as generalized time (RFC 4517 §3.3.13).
    pub current_time: Option<String>,
    /// The server's own name, on a domain controller.
    pub own_name: Option<String>,
    /// The highest change number, on a domain controller.
    pub highest_change: Option<u64>,
    /// The root DSE has supportedCapabilities, as that of every domain controller.
    pub(crate) tells_kind: bool,
    /// Whether the server showed anything.
    pub read: bool,
}

impl RootDse {
    /// The attributes requested.
    pub(crate) const ATTRIBUTES: [&str; 12] = [
        "namingContexts",
        "defaultNamingContext",
        "supportedControl",
        "supportedExtension",
        "supportedCapabilities",
        "supportedSASLMechanisms",
        "vendorName",
        "structuralObjectClass",
        "subschemaSubentry",
        "currentTime",
        "dnsHostName",
        "highestCommittedUSN",
    ];

    pub(crate) fn of(entry: Entry<'_>) -> Self {
        let texts = |attribute: &str| -> Vec<String> {
            let text = |value: &[u8]| std::str::from_utf8(value).ok().map(str::to_owned);
            entry.values(attribute).filter_map(text).collect()
        };
        let name = |text: &String| Dn::parse(text).ok();
        let has = |attribute: &str, wanted: &str| texts(attribute).iter().any(|value| value == wanted);
        let controller = has("supportedCapabilities", CONTROLLER);
        let vendor = entry.text("vendorName").map(str::to_owned);
        let vendor = vendor.or_else(|| match controller {
            true => Some("Active Directory".to_owned()),
            false => has("structuralObjectClass", OPENLDAP).then(|| "OpenLDAP".to_owned()),
        });
        Self {
            kind: if controller { ServerKind::Controller } else { ServerKind::Plain },
            naming_contexts: texts("namingContexts").iter().filter_map(name).collect(),
            default_naming_context: texts("defaultNamingContext").iter().find_map(name),
            controls: texts("supportedControl"),
            extensions: texts("supportedExtension"),
            mechanisms: texts("supportedSASLMechanisms"),
            vendor,
            subschema: texts("subschemaSubentry").iter().find_map(name),
            current_time: entry.text("currentTime").map(str::to_owned),
            own_name: entry.text("dnsHostName").map(str::to_owned),
            highest_change: entry.text("highestCommittedUSN").and_then(|number| number.parse().ok()),
            tells_kind: entry.values("supportedCapabilities").next().is_some(),
            read: entry.attributes().next().is_some(),
        }
    }

    /// True if the server compares values by their syntax where an attribute type names no matching rule.
    pub(crate) fn goes_by_syntax(&self) -> bool {
        self.vendor.as_deref().is_some_and(|vendor| vendor.starts_with("389 Project"))
    }

    /// Whether a control is supported.
    #[must_use]
    pub fn knows(&self, control: &str) -> bool {
        self.controls.iter().any(|known| known == control)
    }

    /// Whether an extended operation is supported.
    #[must_use]
    pub fn extends(&self, operation: &str) -> bool {
        self.extensions.iter().any(|known| known == operation)
    }

    /// Whether paged results are supported (RFC 2696).
    #[must_use]
    pub fn paged(&self) -> bool {
        self.knows(PAGED_RESULTS)
    }

    /// Whether a search can be kept within one domain.
    #[must_use]
    pub fn domain_scope(&self) -> bool {
        self.knows(DOMAIN_SCOPE)
    }

    /// The naming contexts that people may be in: the default one, or all.
    #[must_use]
    pub fn tops(&self) -> &[Dn] {
        match &self.default_naming_context {
            Some(only) => std::slice::from_ref(only),
            None => &self.naming_contexts,
        }
    }

    /// The kind of server, in words.
    #[must_use]
    pub fn described(&self) -> String {
        let kind = match self.kind {
            ServerKind::Controller => "a domain controller",
            _ => "an LDAP server",
        };
        match &self.vendor {
            Some(vendor) => format!("{kind} ({vendor})"),
            None => kind.to_owned(),
        }
    }
}
