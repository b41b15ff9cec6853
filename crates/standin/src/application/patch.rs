//! One PATCH operation on a resource (RFC 7644 §3.5.2).

use super::exchange::Refusal;
use super::schema::{self, Kind};
use serde_json::{Map, Value, json};
use webtaxon_core::settings::{AttributePath, Literal};

/// Applies a PATCH request to `resource`: completely, or not at all if it returns an error.
pub(super) fn patch(kind: Kind, resource: &mut Map<String, Value>, body: &Value) -> Result<(), Refusal> {
    let schemas = body.get("schemas").and_then(Value::as_array);
    let is_patch =
        schemas.is_some_and(|list| list.contains(&json!("urn:ietf:params:scim:api:messages:2.0:PatchOp")));
    let operations = body.get("Operations").and_then(Value::as_array).filter(|_| is_patch);
    let operations = operations.filter(|list| !list.is_empty());
    let operations = operations.ok_or_else(|| Refusal::syntax("this is no PatchOp with Operations"))?;
    for operation in operations {
        one(kind, resource, operation)?;
    }
    Ok(())
}

fn one(kind: Kind, resource: &mut Map<String, Value>, operation: &Value) -> Result<(), Refusal> {
    let op = operation.get("op").and_then(Value::as_str).unwrap_or("").to_ascii_lowercase();
    let value = operation.get("value");
    if !["add", "replace", "remove"].contains(&op.as_str()) {
        return Err(Refusal::syntax("an operation is add, replace or remove"));
    }
    if op != "remove" && value.is_none() {
        return Err(Refusal::bad("invalidValue", "there is no value"));
    }
    let Some(path) = operation.get("path").and_then(Value::as_str) else {
        let Some(Value::Object(values)) = value.filter(|_| op != "remove") else {
            return Err(Refusal::bad("noTarget", "there is no path"));
        };
        for (name, value) in values {
            one(kind, resource, &json!({"op": op, "path": name, "value": value}))?;
        }
        return Ok(());
    };
    let unknown = || Refusal::bad("invalidPath", &format!("there is no attribute {path}"));
    if let Some(urn) = schema::extension(kind, path) {
        let Some(Value::Object(values)) = value else { return Err(unknown()) };
        for (name, value) in values {
            one(kind, resource, &json!({"op": op, "path": format!("{urn}:{name}"), "value": value}))?;
        }
        return Ok(());
    }
    let parsed =
        path.parse::<AttributePath>().map_err(|words| Refusal::bad("invalidPath", &words.to_string()))?;
    let urn = match &parsed.extension {
        None => None,
        Some(urn) => Some(schema::extension(kind, urn).ok_or_else(unknown)?),
    };
    if urn.is_none() && schema::is_read_only(&parsed.attribute) {
        return Err(Refusal::bad("mutability", &format!("{} is not for clients", parsed.attribute)));
    }
    let (name, is_list) = schema::canonical(kind, urn, &parsed.attribute).ok_or_else(unknown)?;
    let holder = match urn {
        None => resource,
        Some(urn) => {
            let own = resource.entry(urn).or_insert_with(|| json!({}));
            own.as_object_mut().ok_or_else(unknown)?
        }
    };
    let changed = changed(holder.get(name), &op, &parsed, is_list, value)?;
    match changed {
        Some(new) => {
            schema::checked(urn.unwrap_or(kind.schema()), name, &new)
                .map_err(|words| Refusal::bad("invalidValue", &words))?;
            holder.insert(name.to_owned(), new);
        }
        None => {
            holder.shift_remove(name);
        }
    }
    Ok(())
}

/// The attribute after the operation; `None` if it was removed.
fn changed(
    there: Option<&Value>,
    op: &str,
    path: &AttributePath,
    is_list: bool,
    value: Option<&Value>,
) -> Result<Option<Value>, Refusal> {
    let Some((name, literal)) = &path.select else {
        let Some(part) = &path.part else {
            return Ok(match (op, value) {
                ("remove", _) | (_, None | Some(Value::Null)) => None,
                ("add", Some(value)) if is_list => {
                    let mut items = there.and_then(Value::as_array).cloned().unwrap_or_default();
                    let new = value.as_array().cloned().unwrap_or_else(|| vec![value.clone()]);
                    for item in new {
                        if !items.contains(&item) {
                            items.push(item);
                        }
                    }
                    Some(Value::Array(items))
                }
                (_, Some(Value::Array(list))) if is_list && list.is_empty() => None,
                (_, Some(value)) => Some(value.clone()),
            });
        };
        if is_list {
            return Err(Refusal::bad("invalidPath", "a part of several values wants a filter"));
        }
        let mut object = there.and_then(Value::as_object).cloned().unwrap_or_default();
        match value.filter(|_| op != "remove") {
            Some(value) => object.insert(part.clone(), value.clone()),
            None => object.shift_remove(part),
        };
        return Ok((!object.is_empty()).then_some(Value::Object(object)));
    };
    let mut items = there.and_then(Value::as_array).cloned().unwrap_or_default();
    let wanted = match literal {
        Literal::Text(text) => json!(text),
        Literal::Boolean(value) => json!(value),
    };
    let is_meant = |item: &Value| item.get(name) == Some(&wanted);
    if !items.iter().any(is_meant) {
        return Err(Refusal::bad("noTarget", "no value is meant by this filter"));
    }
    match (op, &path.part) {
        ("remove", None) => items.retain(|item| !is_meant(item)),
        (op, part) => {
            for item in items.iter_mut().filter(|item| is_meant(item)) {
                match (part, item.as_object_mut(), value) {
                    (Some(part), Some(object), Some(value)) if op != "remove" => {
                        object.insert(part.clone(), value.clone());
                    }
                    (Some(part), Some(object), _) => {
                        object.shift_remove(part);
                    }
                    (None, _, Some(value)) => *item = value.clone(),
                    _ => {}
                }
            }
        }
    }
    Ok((!items.is_empty()).then_some(Value::Array(items)))
}
