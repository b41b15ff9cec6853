//! A user in JSON (RFC 7643): reading a field, writing one, and the difference of two users as a PATCH.
//!
//! Attribute names ignore case (RFC 7643 §2.1). Attributes without a field are kept.

use super::schema::{Kind, Place};
use super::service::Resource;
use serde_json::{Map, Number, Value, json};
use webtaxon_core::settings::rules::LIST;
use webtaxon_core::settings::{Literal, USER};

/// Read-only attributes.
const OF_THE_SERVICE: [&str; 4] = ["id", "meta", "groups", "schemas"];

/// The value with this name, ignoring case.
pub(super) fn find<'a>(object: &'a Map<String, Value>, name: &str) -> Option<&'a Value> {
    object.get(name).or_else(|| {
        let mut others = object.iter();
        others.find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| value)
    })
}

/// The spelling of a name in the object, or the given one.
fn key(object: &Map<String, Value>, name: &str) -> String {
    let known = object.keys().find(|known| known.eq_ignore_ascii_case(name));
    known.map_or_else(|| name.to_owned(), Clone::clone)
}

/// A text attribute, such as `userName`.
pub(super) fn text<'a>(resource: &'a Resource, name: &str) -> &'a str {
    find(resource, name).and_then(Value::as_str).unwrap_or_default()
}

/// The version of a user (RFC 7644 §3.14).
pub(super) fn version(user: &Resource) -> Option<&str> {
    find(find(user, "meta")?.as_object()?, "version")?.as_str()
}

/// The value of a field; `None` if it has none.
pub(super) fn read(resource: &Resource, place: &Place) -> Option<String> {
    let holder = match &place.extension {
        None => resource,
        Some(urn) => find(resource, urn)?.as_object()?,
    };
    let value = find(holder, &place.attribute)?;
    let part = |item: &Value| match (&place.part, item) {
        (Some(part), Value::Object(object)) => find(object, part).and_then(shown),
        // Some services write a single value where the standard has a complex one.
        (Some(_), Value::String(text)) => Some(text.clone()),
        (None, item) => shown(item),
        _ => None,
    };
    match (&place.select, value) {
        (Some(select), Value::Array(items)) => {
            meant(items, select).and_then(|at| items.get(at)).and_then(part)
        }
        (Some(_), _) => None,
        (None, Value::Array(items)) => {
            let all: Vec<String> = items.iter().filter_map(part).collect();
            (!all.is_empty()).then(|| all.join(&LIST.to_string()))
        }
        (None, value) => part(value),
    }
}

/// A single value as text.
fn shown(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Bool(value) => Some(value.to_string()),
        Value::Number(number) => Some(number.to_string()),
        _ => None,
    }
}

/// The value that a condition means, by index. A service that keeps no types has one without a type in its place.
fn meant(items: &[Value], select: &(String, Literal)) -> Option<usize> {
    let is_bare = |item: &Value| item.as_object().is_none_or(|object| find(object, &select.0).is_none());
    let bare = || items.iter().position(is_bare).filter(|_| select.0.eq_ignore_ascii_case("type"));
    items.iter().position(|item| is_meant(item, select)).or_else(bare)
}

fn is_meant(item: &Value, (name, literal): &(String, Literal)) -> bool {
    let there = item.as_object().and_then(|object| find(object, name));
    match literal {
        Literal::Text(text) => {
            there.and_then(Value::as_str).is_some_and(|there| there.eq_ignore_ascii_case(text))
        }
        Literal::Boolean(value) => there == Some(&Value::Bool(*value)),
    }
}

/// Sets a field; an empty value removes it.
///
/// # Errors
/// The attribute cannot hold the value, in words.
pub(super) fn write(resource: &mut Resource, place: &Place, text: &str) -> Result<(), String> {
    let Some(urn) = &place.extension else { return write_in(resource, place, text) };
    let name = key(resource, urn);
    let own = resource.entry(name.clone()).or_insert_with(|| json!({}));
    let Value::Object(object) = own else { return Err(format!("{urn} of this user is not an object")) };
    write_in(object, place, text)?;
    if object.is_empty() {
        resource.shift_remove(&name);
    }
    Ok(())
}

fn write_in(holder: &mut Map<String, Value>, place: &Place, text: &str) -> Result<(), String> {
    let name = key(holder, &place.attribute);
    let new = match (place.is_list, &place.select, &place.part) {
        (true, Some(select), part) => selected(holder.get(&name), select, part.as_deref(), place.kind, text)?,
        (true, None, part) => several(holder.get(&name), part.as_deref(), place.kind, text)?,
        (false, _, None) => single(place.kind, text)?,
        (false, _, Some(part)) => {
            // A reference to another person also has an address and a display name.
            let there = holder.get(&name).filter(|_| !place.is_person);
            let mut object = there.and_then(Value::as_object).cloned().unwrap_or_default();
            put(&mut object, part, single(place.kind, text)?);
            (!object.is_empty()).then_some(Value::Object(object))
        }
    };
    put(holder, &name, new);
    Ok(())
}

/// Sets a value, or removes it.
pub(super) fn put(object: &mut Map<String, Value>, name: &str, value: Option<Value>) {
    let name = key(object, name);
    match value {
        Some(value) => drop(object.insert(name, value)),
        None => drop(object.shift_remove(&name)),
    }
}

/// A value of the given type; `None` for an empty text.
fn single(kind: Kind, text: &str) -> Result<Option<Value>, String> {
    if text.is_empty() {
        return Ok(None);
    }
    let wrong = |kind: &str| format!("`{text}` is not {kind}, as the service requires");
    Ok(Some(match kind {
        Kind::Text => Value::String(text.to_owned()),
        Kind::Boolean => Value::Bool(text.parse().map_err(|_| wrong("true or false"))?),
        Kind::Integer => Value::Number(text.parse::<i64>().map_err(|_| wrong("whole number"))?.into()),
        Kind::Decimal => {
            let number = text.parse::<f64>().ok().and_then(Number::from_f64);
            Value::Number(number.ok_or_else(|| wrong("number"))?)
        }
    }))
}

/// A multi-valued attribute after one of its values was set.
fn selected(
    there: Option<&Value>,
    select: &(String, Literal),
    part: Option<&str>,
    kind: Kind,
    text: &str,
) -> Result<Option<Value>, String> {
    let mut items = there.and_then(Value::as_array).cloned().unwrap_or_default();
    let part = part.unwrap_or("value");
    let new = single(kind, text)?;
    let at = meant(&items, select);
    match (at.and_then(|at| items.get_mut(at)).and_then(Value::as_object_mut), new) {
        (Some(object), Some(new)) => put(object, part, Some(new)),
        (Some(object), None) => {
            put(object, part, None);
            let says_nothing = |name: &String| {
                name.eq_ignore_ascii_case(&select.0)
                    || ["primary", "type", "display"].contains(&name.as_str())
            };
            if object.keys().all(says_nothing)
                && let Some(at) = at
            {
                items.remove(at);
            }
        }
        (None, Some(new)) => {
            let literal = match &select.1 {
                Literal::Text(text) => json!(text),
                Literal::Boolean(value) => json!(value),
            };
            items.push(json!({part: new, &select.0: literal}));
        }
        (None, None) => {}
    }
    Ok((!items.is_empty()).then_some(Value::Array(items)))
}

/// Exactly these values; other sub-attributes of values that remain are kept.
fn several(
    there: Option<&Value>,
    part: Option<&str>,
    kind: Kind,
    text: &str,
) -> Result<Option<Value>, String> {
    let mut old = there.and_then(Value::as_array).cloned().unwrap_or_default();
    let mut items = Vec::new();
    for one in text.split(LIST).map(str::trim).filter(|one| !one.is_empty()) {
        let Some(new) = single(kind, one)? else { continue };
        let is_it = |item: &Value| match (part, item) {
            (Some(part), Value::Object(object)) => find(object, part) == Some(&new),
            (_, item) => *item == new,
        };
        let item = match old.iter().position(is_it) {
            Some(at) => old.remove(at),
            None => match part {
                Some(part) => json!({part: new}),
                None => new,
            },
        };
        items.push(item);
    }
    Ok((!items.is_empty()).then_some(Value::Array(items)))
}

/// The user as a client may send it: without read-only attributes, and with the schemas of all extensions used.
pub(super) fn sendable(resource: &Resource) -> Value {
    let is_own = |name: &str| OF_THE_SERVICE.iter().any(|known| known.eq_ignore_ascii_case(name));
    let mut sent = Map::new();
    let extensions = resource.keys().filter(|name| name.to_ascii_lowercase().starts_with("urn:"));
    let schemas: Vec<&str> = std::iter::once(USER).chain(extensions.map(String::as_str)).collect();
    sent.insert("schemas".to_owned(), json!(schemas));
    for (name, value) in resource.iter().filter(|(name, _)| !is_own(name)) {
        sent.insert(name.clone(), value.clone());
    }
    Value::Object(sent)
}

/// The PATCH that turns one user into another (RFC 7644 §3.5.2); multi-valued attributes are replaced as a whole,
/// since services differ on filters in paths.
pub(super) fn patch(before: &Resource, after: &Resource) -> Value {
    let mut operations = Vec::new();
    let names = |one: &Resource, other: &Resource| -> Vec<String> {
        let more = other.keys().filter(|name| !one.contains_key(*name));
        let all = one.keys().chain(more);
        all.filter(|name| !OF_THE_SERVICE.iter().any(|own| own.eq_ignore_ascii_case(name))).cloned().collect()
    };
    for name in names(before, after) {
        let (old, new) = (before.get(&name), after.get(&name));
        let is_extension = name.to_ascii_lowercase().starts_with("urn:");
        match (old.and_then(Value::as_object), new.and_then(Value::as_object)) {
            (old, new) if is_extension => {
                let none = Map::new();
                let (old, new) = (old.unwrap_or(&none), new.unwrap_or(&none));
                for part in names(old, new) {
                    differ(&mut operations, &format!("{name}:{part}"), old.get(&part), new.get(&part));
                }
            }
            (Some(old), Some(new)) => {
                for part in names(old, new) {
                    differ(&mut operations, &format!("{name}.{part}"), old.get(&part), new.get(&part));
                }
            }
            _ => differ(&mut operations, &name, old, new),
        }
    }
    patch_of(&operations)
}

/// A PATCH request with these operations.
pub(super) fn patch_of(operations: &[Value]) -> Value {
    json!({"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": operations})
}

fn differ(operations: &mut Vec<Value>, path: &str, old: Option<&Value>, new: Option<&Value>) {
    match (old, new) {
        (old, new) if old == new => {}
        (None, Some(new)) => operations.push(json!({"op": "add", "path": path, "value": new})),
        (_, Some(new)) => operations.push(json!({"op": "replace", "path": path, "value": new})),
        (_, None) => operations.push(json!({"op": "remove", "path": path})),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn object(value: Value) -> Resource {
        value.as_object().cloned().unwrap()
    }

    fn place(attribute: &str, part: Option<&str>, is_list: bool, select: Option<&str>) -> Place {
        Place {
            extension: None,
            attribute: attribute.to_owned(),
            kind: Kind::Text,
            is_list,
            select: select.map(|kind| ("type".to_owned(), Literal::Text(kind.to_owned()))),
            part: part.map(str::to_owned),
            is_person: false,
        }
    }

    #[test]
    fn a_field_is_read_and_written_where_it_stands() {
        let before = object(json!({
            "USERNAME": "ada", "title": "Curator",
            "name": {"familyName": "Ibbotson", "givenName": "Ada"},
            "emails": [{"value": "home@x", "type": "home"}, {"value": "work@x", "type": "Work", "primary": true}],
            "roles": [{"value": "a", "display": "A"}, {"value": "b"}],
        }));
        let work = place("emails", Some("value"), true, Some("work"));
        let roles = place("roles", Some("value"), true, None);
        let given = place("name", Some("givenName"), false, None);
        let title = place("title", None, false, None);
        for (place, there, new, after) in [
            (&place("userName", None, false, None), "ada", "eve", json!({"USERNAME": "eve"})),
            (&title, "Curator", "", json!({})),
            (&given, "Ada", "Eve", json!({"name": {"familyName": "Ibbotson", "givenName": "Eve"}})),
            (
                &work,
                "work@x",
                "new@x",
                json!({"emails": [{"value": "home@x", "type": "home"}, {"value": "new@x", "type": "Work", "primary": true}]}),
            ),
            (&work, "work@x", "", json!({"emails": [{"value": "home@x", "type": "home"}]})),
            (&roles, "a;b", "c;a", json!({"roles": [{"value": "c"}, {"value": "a", "display": "A"}]})),
            (&roles, "a;b", "", json!({})),
        ] {
            assert_eq!(read(&before, place).as_deref(), Some(there), "{place:?}");
            let mut now = before.clone();
            write(&mut now, place, new).unwrap();
            assert_eq!(read(&now, place).unwrap_or_default(), new, "{place:?}");
            for (name, value) in object(after) {
                assert_eq!(now.get(&name), Some(&value), "{place:?}");
            }
            write(&mut now, place, there).unwrap();
            assert_eq!(read(&now, place).as_deref(), Some(there), "{place:?}");
        }
    }

    #[test]
    fn a_patch_says_only_what_differs() {
        let before = object(
            json!({"id": "1", "title": "a", "x": 1, "name": {"a": "1", "b": "2"}, "urn:e": {"d": "1"}}),
        );
        let after = object(
            json!({"id": "2", "title": "b", "y": [1], "name": {"a": "1"}, "urn:e": {"d": "1", "e": "2"}}),
        );
        let patch = patch(&before, &after);
        let said: Vec<String> = patch["Operations"]
            .as_array()
            .unwrap()
            .iter()
            .map(|one| format!("{} {}", one["op"].as_str().unwrap(), one["path"].as_str().unwrap()))
            .collect();
        assert_eq!(said, ["replace title", "remove x", "remove name.b", "add urn:e:e", "add y"]);
    }

    #[test]
    fn a_value_is_of_the_kind_that_the_service_wants() {
        let mut one = place("limit", None, false, None);
        for (kind, text, written) in [
            (Kind::Integer, "12", Some(json!(12))),
            (Kind::Integer, "many", None),
            (Kind::Boolean, "true", Some(json!(true))),
            (Kind::Boolean, "yes", None),
            (Kind::Decimal, "1.5", Some(json!(1.5))),
            (Kind::Decimal, "nan", None),
        ] {
            one.kind = kind;
            let mut resource = Map::new();
            assert_eq!(
                write(&mut resource, &one, text).ok().and(resource.remove("limit")),
                written,
                "{text}"
            );
        }
    }
}
