//! The place of a field in a user (RFC 7643), according to the service's schema.

use super::super::{StoreError, StoreErrorKind};
use super::service::{Fault, Service};
use serde_json::Value;
use webtaxon_core::settings::{AttributePath, ENTERPRISE, Literal, USER};

/// The standard's attributes, for services without published schemas: the name, the type, whether it is multi-valued,
/// and its sub-attributes.
const STANDARD: [(&str, &str, bool, &[&str]); 25] = [
    (USER, "userName", false, &[]),
    (USER, "externalId", false, &[]),
    (
        USER,
        "name",
        false,
        &["formatted", "familyName", "givenName", "middleName", "honorificPrefix", "honorificSuffix"],
    ),
    (USER, "displayName", false, &[]),
    (USER, "nickName", false, &[]),
    (USER, "profileUrl", false, &[]),
    (USER, "title", false, &[]),
    (USER, "userType", false, &[]),
    (USER, "preferredLanguage", false, &[]),
    (USER, "locale", false, &[]),
    (USER, "timezone", false, &[]),
    (USER, "emails", true, VALUE),
    (USER, "phoneNumbers", true, VALUE),
    (USER, "ims", true, VALUE),
    (USER, "photos", true, VALUE),
    (
        USER,
        "addresses",
        true,
        &["formatted", "streetAddress", "locality", "region", "postalCode", "country", "type", "primary"],
    ),
    (USER, "entitlements", true, VALUE),
    (USER, "roles", true, VALUE),
    (USER, PASSWORD, false, &[]),
    (ENTERPRISE, "employeeNumber", false, &[]),
    (ENTERPRISE, "costCenter", false, &[]),
    (ENTERPRISE, "organization", false, &[]),
    (ENTERPRISE, "division", false, &[]),
    (ENTERPRISE, "department", false, &[]),
    (ENTERPRISE, "manager", false, &["value", "$ref", "displayName"]),
];
/// Never returned (RFC 7643 §4.1.1).
const PASSWORD: &str = "password";
const VALUE: &[&str] = &["value", "display", "type", "primary"];

/// The JSON type of a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Text,
    Boolean,
    Integer,
    Decimal,
}

impl Kind {
    fn of(name: &str) -> Self {
        match name {
            "boolean" => Self::Boolean,
            "integer" => Self::Integer,
            "decimal" => Self::Decimal,
            _ => Self::Text,
        }
    }
}

/// The place of a field in a user.
#[derive(Clone, Debug)]
pub(super) struct Place {
    /// The extension's URN.
    pub(super) extension: Option<String>,
    pub(super) attribute: String,
    pub(super) kind: Kind,
    /// Whether it is multi-valued.
    pub(super) is_list: bool,
    /// Which of several values; `None` for all.
    pub(super) select: Option<(String, Literal)>,
    /// The sub-attribute of a complex value.
    pub(super) part: Option<String>,
    /// Whether it holds the id of another user, whom the field refers to by login.
    pub(super) is_person: bool,
}

/// One attribute of a schema.
struct Attribute {
    schema: String,
    name: String,
    kind: String,
    is_list: bool,
    is_read_only: bool,
    /// True if the service takes values and never returns them.
    is_write_only: bool,
    /// The sub-attributes, with their types.
    parts: Vec<(String, String)>,
}

/// The schemas of a service's users.
pub(super) struct Schemas {
    attributes: Vec<Attribute>,
    /// Whether the service published them.
    are_told: bool,
}

impl Schemas {
    /// Reads the schemas; the standard's if the service publishes none.
    pub(super) async fn read(service: &Service) -> Result<Self, StoreError> {
        let told = match service.get("Schemas", &[]).await {
            Ok(told) => told,
            Err(Fault::Refused { .. }) => Value::Null,
            Err(fault) => return Err(service.told(fault)),
        };
        let list = told.get("Resources").and_then(Value::as_array).or(told.as_array());
        let mut attributes = Vec::new();
        for schema in list.into_iter().flatten() {
            let Some(urn) = schema.get("id").and_then(Value::as_str) else { continue };
            let own = schema.get("attributes").and_then(Value::as_array);
            attributes.extend(own.into_iter().flatten().filter_map(|one| attribute(urn, one)));
        }
        let has_users = attributes.iter().any(|one| one.schema.eq_ignore_ascii_case(USER));
        if has_users {
            return Ok(Self { attributes, are_told: true });
        }
        let standard = STANDARD.iter().map(|(schema, name, is_list, parts)| Attribute {
            schema: (*schema).to_owned(),
            name: (*name).to_owned(),
            kind: if parts.is_empty() { "string" } else { "complex" }.to_owned(),
            is_list: *is_list,
            is_read_only: false,
            is_write_only: *name == PASSWORD,
            parts: parts.iter().map(|part| part_of(part)).collect(),
        });
        Ok(Self { attributes: standard.collect(), are_told: false })
    }

    /// The place of a field, which is only written if it is secret.
    pub(super) fn place(
        &self,
        store: &str,
        (field, is_secret): (&str, bool),
        path: &AttributePath,
    ) -> Result<Place, StoreErrorKind> {
        let missing = |help: String| StoreErrorKind::NoAttribute {
            store: store.to_owned(),
            attribute: path.to_string(),
            field: field.to_owned(),
            help,
        };
        let schema = path.extension.as_deref().unwrap_or(USER);
        let name = &path.attribute;
        let mut of_schema =
            self.attributes.iter().filter(|one| one.schema.eq_ignore_ascii_case(schema)).peekable();
        let is_unknown_schema = of_schema.peek().is_none();
        let found = of_schema.find(|one| one.name.eq_ignore_ascii_case(name));
        let place = |attribute: &str, kind, is_list, part: Option<&str>| Place {
            extension: path.extension.clone(),
            attribute: attribute.to_owned(),
            kind,
            is_list,
            select: path.select.clone(),
            part: part.map(str::to_owned),
            is_person: path.is_person(),
        };
        let Some(known) = found else {
            // An extension without a published schema is accepted as it is.
            if is_unknown_schema && !self.are_told && path.extension.is_some() {
                let is_list = path.select.is_some();
                let part = path.part.as_deref().or(is_list.then_some("value"));
                return Ok(place(name, Kind::Text, is_list, part));
            }
            return Err(missing(self.nearest(field, name, schema)));
        };
        if known.is_read_only {
            return Err(missing("the service says that it is read-only; use another".to_owned()));
        }
        if known.is_write_only && !is_secret {
            return Err(missing(format!(
                "the service never returns it: write {field} = {{ secret = true }}, which is set once"
            )));
        }
        let parts: Vec<&str> = known.parts.iter().map(|(name, _)| name.as_str()).collect();
        if parts.is_empty() {
            if path.part.is_some() || path.select.is_some() {
                return Err(missing(format!("`{}` has no sub-attributes: write it alone", known.name)));
            }
            return Ok(place(&known.name, Kind::of(&known.kind), known.is_list, None));
        }
        if path.select.is_some() && !known.is_list {
            return Err(missing(format!("`{}` is single-valued: remove the bracket", known.name)));
        }
        let wanted = path.part.as_deref().unwrap_or("value");
        let Some((part, kind)) = known.parts.iter().find(|(name, _)| name.eq_ignore_ascii_case(wanted))
        else {
            return Err(missing(format!("add one of its sub-attributes after a dot: {}", parts.join(", "))));
        };
        Ok(place(&known.name, Kind::of(kind), known.is_list, Some(part)))
    }

    /// A remedy for an unknown attribute.
    fn nearest(&self, field: &str, name: &str, schema: &str) -> String {
        let name = name.to_lowercase();
        let of = |one: &&Attribute| one.schema.eq_ignore_ascii_case(schema);
        let nearest = self
            .attributes
            .iter()
            .filter(of)
            .map(|one| (strsim::damerau_levenshtein(&one.name.to_lowercase(), &name), &one.name))
            .filter(|(distance, known)| *distance <= 1 + known.len() / 4)
            .min();
        match nearest {
            Some((_, nearest)) => format!("did you mean `{nearest}`?"),
            None => {
                let has: Vec<&str> = self.attributes.iter().filter(of).map(|one| one.name.as_str()).collect();
                let has = if has.is_empty() { "nothing in this schema".to_owned() } else { has.join(", ") };
                format!(
                    "give the field's attribute: [accounts.attributes] {field} = \"…\"; the service knows {has}"
                )
            }
        }
    }
}

fn part_of(name: &str) -> (String, String) {
    (name.to_owned(), if name == "primary" { "boolean" } else { "string" }.to_owned())
}

/// An attribute as described by a service (RFC 7643 §7).
fn attribute(schema: &str, one: &Value) -> Option<Attribute> {
    let text = |value: &Value, key: &str| value.get(key).and_then(Value::as_str).map(str::to_owned);
    let parts = one.get("subAttributes").and_then(Value::as_array).into_iter().flatten();
    Some(Attribute {
        schema: schema.to_owned(),
        name: text(one, "name")?,
        kind: text(one, "type").unwrap_or_default(),
        is_list: one.get("multiValued") == Some(&Value::Bool(true)),
        is_read_only: text(one, "mutability").as_deref() == Some("readOnly"),
        is_write_only: text(one, "mutability").as_deref() == Some("writeOnly")
            || text(one, "returned").as_deref() == Some("never"),
        parts: parts
            .filter_map(|part| Some((text(part, "name")?, text(part, "type").unwrap_or_default())))
            .collect(),
    })
}
