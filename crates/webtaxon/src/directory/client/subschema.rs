//! Reading a server's own subschema (RFC 4512 §4.4).

use super::connection::Connection;
use super::query::Query;
use crate::directory::DirectoryError;
use webtaxon_core::ldap::schema::Schema;

/// Reads the published attribute types and classes; an empty schema if the server shows none.
///
/// # Errors
/// The connection is unusable.
pub async fn read_schema(connection: &mut Connection) -> Result<Schema, DirectoryError> {
    let Some(place) = connection.root().subschema.clone() else { return Ok(Schema::default()) };
    let wanted = ["attributeTypes", "objectClasses", "matchingRules", "ldapSyntaxes"];
    let entries = match connection.entries(Query::base(&place.to_string(), &wanted)).await {
        Ok((entries, _)) => entries,
        Err(error) if error.is_fatal() => return Err(error),
        Err(_) => return Ok(Schema::default()),
    };
    let values = entries.iter().flat_map(|entry| entry.attributes());
    let definitions = values.flat_map(|(name, values)| values.map(move |value| (name, value)));
    let (root, schema) = (connection.root(), Schema::read(connection.root().kind, definitions));
    Ok(if root.goes_by_syntax() { schema.by_syntax(root.kind) } else { schema })
}
