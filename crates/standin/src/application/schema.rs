//! The simulated application's schema for users and groups (RFC 7643 §4, §7), and checks of resources against it.

use serde_json::{Map, Value, json};
use webtaxon_core::settings::{ENTERPRISE, USER};

/// The path of the service.
pub(super) const BASE: &str = "/scim/v2";
/// The schema of a group (RFC 7643 §4.2).
pub(super) const GROUP: &str = "urn:ietf:params:scim:schemas:core:2.0:Group";
/// The Loans Desk's own extension of a user.
pub(super) const LOANS: &str = "urn:quillmere:loans:2.0:User";

/// Attributes of each schema: the name, its type, whether it is multi-valued, and its sub-attributes.
type Attribute = (&'static str, &'static str, bool, &'static [&'static str]);

const VALUE: &[&str] = &["value", "display", "type", "primary"];
const USERS: [Attribute; 21] = [
    ("externalId", "string", false, &[]),
    ("userName", "string", false, &[]),
    (
        "name",
        "complex",
        false,
        &["formatted", "familyName", "givenName", "middleName", "honorificPrefix", "honorificSuffix"],
    ),
    ("displayName", "string", false, &[]),
    ("nickName", "string", false, &[]),
    ("profileUrl", "reference", false, &[]),
    ("title", "string", false, &[]),
    ("userType", "string", false, &[]),
    ("preferredLanguage", "string", false, &[]),
    ("locale", "string", false, &[]),
    ("timezone", "string", false, &[]),
    ("active", "boolean", false, &[]),
    ("password", "string", false, &[]),
    ("emails", "complex", true, VALUE),
    ("phoneNumbers", "complex", true, VALUE),
    ("ims", "complex", true, VALUE),
    ("photos", "complex", true, VALUE),
    (
        "addresses",
        "complex",
        true,
        &["formatted", "streetAddress", "locality", "region", "postalCode", "country", "type", "primary"],
    ),
    ("groups", "complex", true, &["value", "$ref", "display", "type"]),
    ("entitlements", "complex", true, VALUE),
    ("roles", "complex", true, VALUE),
];
const OF_ENTERPRISE: [Attribute; 6] = [
    ("employeeNumber", "string", false, &[]),
    ("costCenter", "string", false, &[]),
    ("organization", "string", false, &[]),
    ("division", "string", false, &[]),
    ("department", "string", false, &[]),
    ("manager", "complex", false, &["value", "$ref", "displayName"]),
];
const OF_LOANS: [Attribute; 3] = [
    ("room", "string", false, &[]),
    ("borrowLimit", "integer", false, &[]),
    ("collections", "string", true, &[]),
];
const GROUPS: [Attribute; 3] = [
    ("externalId", "string", false, &[]),
    ("displayName", "string", false, &[]),
    ("members", "complex", true, &["value", "$ref", "display", "type"]),
];

/// The two resource types (RFC 7643 §6).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    User,
    Group,
}

impl Kind {
    /// The type with this endpoint.
    pub(super) fn of(endpoint: &str) -> Option<Self> {
        match endpoint {
            "Users" => Some(Self::User),
            "Groups" => Some(Self::Group),
            _ => None,
        }
    }

    pub(super) fn name(self) -> &'static str {
        match self {
            Self::User => "User",
            Self::Group => "Group",
        }
    }

    pub(super) fn schema(self) -> &'static str {
        match self {
            Self::User => USER,
            Self::Group => GROUP,
        }
    }

    /// The required attribute that names a resource.
    pub(super) fn title(self) -> &'static str {
        match self {
            Self::User => "userName",
            Self::Group => "displayName",
        }
    }

    fn extensions(self) -> &'static [&'static str] {
        match self {
            Self::User => &[ENTERPRISE, LOANS],
            Self::Group => &[],
        }
    }
}

fn attributes(schema: &str) -> &'static [Attribute] {
    match schema {
        ENTERPRISE => &OF_ENTERPRISE,
        LOANS => &OF_LOANS,
        GROUP => &GROUPS,
        _ => &USERS,
    }
}

/// An attribute of a schema; case is ignored.
fn find(schema: &str, name: &str) -> Option<&'static Attribute> {
    attributes(schema).iter().find(|attribute| attribute.0.eq_ignore_ascii_case(name))
}

/// The extension with this URN.
pub(super) fn extension(kind: Kind, urn: &str) -> Option<&'static str> {
    kind.extensions().iter().find(|known| known.eq_ignore_ascii_case(urn)).copied()
}

/// The name in the schema's spelling, and whether it is multi-valued.
pub(super) fn canonical(kind: Kind, extension: Option<&str>, name: &str) -> Option<(&'static str, bool)> {
    find(extension.unwrap_or(kind.schema()), name).map(|attribute| (attribute.0, attribute.2))
}

/// Whether it is read-only to clients.
pub(super) fn is_read_only(name: &str) -> bool {
    ["id", "meta", "groups", "schemas"].iter().any(|known| known.eq_ignore_ascii_case(name))
}

/// The writable part of a resource sent by a client.
///
/// # Errors
/// The violation of the schema, in words.
pub(super) fn accept(kind: Kind, sent: &Map<String, Value>) -> Result<Map<String, Value>, String> {
    let named: Vec<&str> = match sent.get("schemas") {
        Some(Value::Array(list)) => list.iter().filter_map(Value::as_str).collect(),
        _ => return Err("`schemas` is missing".to_owned()),
    };
    if !named.contains(&kind.schema()) {
        return Err(format!("`schemas` does not name {}", kind.schema()));
    }
    let mut accepted = Map::new();
    accepted.insert("schemas".to_owned(), json!(named));
    for (name, value) in sent {
        if is_read_only(name) {
            continue;
        }
        if let Some(urn) = extension(kind, name) {
            if !named.contains(&urn) {
                return Err(format!("`schemas` does not name {urn}"));
            }
            let Value::Object(values) = value else { return Err(format!("{urn} is no object")) };
            let mut own = Map::new();
            for (name, value) in values {
                own.insert(checked(urn, name, value)?.to_owned(), value.clone());
            }
            accepted.insert(urn.to_owned(), Value::Object(own));
            continue;
        }
        if value.is_null() {
            continue;
        }
        accepted.insert(checked(kind.schema(), name, value)?.to_owned(), value.clone());
    }
    Ok(accepted)
}

/// The name in the schema's spelling, if the value has its type.
pub(super) fn checked(schema: &str, name: &str, value: &Value) -> Result<&'static str, String> {
    let (known, kind, is_list, parts) =
        find(schema, name).ok_or_else(|| format!("{schema} has no attribute `{name}`"))?;
    let wrong = || {
        format!("`{known}` is not what its schema says: {kind}{}", if *is_list { ", several" } else { "" })
    };
    let items: Vec<&Value> = match (is_list, value) {
        (true, Value::Array(items)) => items.iter().collect(),
        (false, value) => vec![value],
        (true, _) => return Err(wrong()),
    };
    for item in items {
        let fits = match *kind {
            "boolean" => item.is_boolean(),
            "integer" => item.is_i64(),
            "complex" => item.as_object().is_some_and(|object| {
                object.iter().all(|(name, value)| {
                    parts.contains(&name.as_str())
                        && if name == "primary" { value.is_boolean() } else { value.is_string() }
                })
            }),
            _ => item.is_string(),
        };
        if !fits {
            return Err(wrong());
        }
    }
    Ok(known)
}

/// The schemas as the service publishes them (RFC 7643 §7).
pub(super) fn told() -> Vec<Value> {
    let part = |name: &str| {
        let kind = if name == "primary" { "boolean" } else { "string" };
        json!({"name": name, "type": kind, "multiValued": false, "mutability": "readWrite"})
    };
    let attribute = |(name, kind, is_list, parts): &Attribute| {
        let mutability = match *name {
            "groups" => "readOnly",
            "password" => "writeOnly",
            _ => "readWrite",
        };
        let mut one = json!({
            "name": name, "type": kind, "multiValued": is_list, "mutability": mutability,
            "required": *name == "userName",
        });
        if !parts.is_empty()
            && let Some(object) = one.as_object_mut()
        {
            object.insert("subAttributes".to_owned(), parts.iter().map(|name| part(name)).collect());
        }
        one
    };
    [(USER, "User"), (ENTERPRISE, "Enterprise User"), (LOANS, "Borrower"), (GROUP, "Group")]
        .into_iter()
        .map(|(urn, name)| {
            json!({
                "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Schema"],
                "id": urn,
                "name": name,
                "attributes": attributes(urn).iter().map(attribute).collect::<Vec<_>>(),
            })
        })
        .collect()
}
