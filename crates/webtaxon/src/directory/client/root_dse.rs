//! What a server says of itself: its root DSE (RFC 4512 §5.1).

use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_wire::control::{DOMAIN_SCOPE, PAGED_RESULTS};

/// What a domain controller says it can do ([MS-ADTS] §3.1.1.3.4.3.1).
const CONTROLLER: &str = "1.2.840.113556.1.4.800";
/// What OpenLDAP calls its root DSE.
const OPENLDAP: &str = "OpenLDAProotDSE";

/// What a server says of itself.
#[derive(Clone, Debug, Default)]
pub struct RootDse {
    /// What kind of server it is.
    pub kind: ServerKind,
    /// The tops of its trees.
    pub naming_contexts: Vec<Dn>,
    /// The tree that its people are in, if it says which one.
    pub default_naming_context: Option<Dn>,
    /// The OIDs of the controls that it knows.
    pub controls: Vec<String>,
    /// The OIDs of the extended operations that it knows.
    pub extensions: Vec<String>,
    /// The SASL mechanisms that it knows.
    pub mechanisms: Vec<String>,
    /// Who made it, if it can be told.
    pub vendor: Option<String>,
    /// Where its schema is published.
    pub subschema: Option<Dn>,
    /// What its clock says, as generalized time (RFC 4517 §3.3.13).
    pub current_time: Option<String>,
    /// The number of the last change, on a domain controller.
    pub highest_change: Option<u64>,
    /// Whether it said anything at all.
    pub read: bool,
}

impl RootDse {
    /// The attributes that are asked for.
    pub(crate) const ATTRIBUTES: [&str; 11] = [
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
            highest_change: entry.text("highestCommittedUSN").and_then(|number| number.parse().ok()),
            read: true,
        }
    }

    /// Whether the server knows a control.
    #[must_use]
    pub fn knows(&self, control: &str) -> bool {
        self.controls.iter().any(|known| known == control)
    }

    /// Whether the server says that it knows an extended operation.
    #[must_use]
    pub fn extends(&self, operation: &str) -> bool {
        self.extensions.iter().any(|known| known == operation)
    }

    /// Whether it knows paged results (RFC 2696).
    #[must_use]
    pub fn paged(&self) -> bool {
        self.knows(PAGED_RESULTS)
    }

    /// Whether it can keep a search inside one domain.
    #[must_use]
    pub fn domain_scope(&self) -> bool {
        self.knows(DOMAIN_SCOPE)
    }

    /// The tops of the trees that people may be in: the one that the server names, or all of them.
    #[must_use]
    pub fn tops(&self) -> &[Dn] {
        match &self.default_naming_context {
            Some(only) => std::slice::from_ref(only),
            None => &self.naming_contexts,
        }
    }

    /// What kind of server it is, in words.
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
