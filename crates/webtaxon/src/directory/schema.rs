//! The attributes that a server publishes in its subschema (RFC 4512 §4.2).

use super::DirectoryError;
use super::connection::Connection;
use super::search::Query;
use std::collections::HashMap;
use webtaxon_core::schema::{self, Published};

/// The attribute types that a server knows.
#[derive(Debug, Default)]
pub struct ServerSchema {
    types: Vec<Published>,
    by_name: HashMap<String, usize>,
}

impl ServerSchema {
    /// Reads a server's subschema; empty where the server does not show it.
    ///
    /// # Errors
    /// The connection is of no use any more.
    pub async fn read(connection: &mut Connection) -> Result<Self, DirectoryError> {
        let Some(place) = connection.root().subschema.clone() else { return Ok(Self::default()) };
        let query = Query::base(&place.to_string(), &["attributeTypes"]);
        let entries = match connection.entries(query).await {
            Ok((entries, _)) => entries,
            Err(error) if error.is_fatal() => return Err(error),
            Err(_) => return Ok(Self::default()),
        };
        let texts = entries.iter().flat_map(|entry| entry.values("attributeTypes"));
        let types = texts.filter_map(|text| Published::parse(std::str::from_utf8(text).ok()?));
        Ok(Self::new(types.collect()))
    }

    fn new(types: Vec<Published>) -> Self {
        let by_name = types
            .iter()
            .enumerate()
            .flat_map(|(index, known)| {
                let names = known.names.iter().map(|name| name.to_ascii_lowercase());
                names.chain([known.oid.clone()]).map(move |name| (name, index))
            })
            .collect();
        Self { types, by_name }
    }

    /// Whether the server showed no schema, so that nothing can be said of attributes.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.types.is_empty()
    }

    /// The type of an attribute description, with or without options.
    #[must_use]
    pub fn find(&self, description: &str) -> Option<&Published> {
        let base = description.split(';').next().unwrap_or(description);
        self.types.get(*self.by_name.get(&base.to_ascii_lowercase())?)
    }

    /// The known name that is most like one that is not known, if one is near.
    #[must_use]
    pub fn nearest(&self, wanted: &str) -> Option<&str> {
        schema::nearest(wanted, self.types.iter().flat_map(|known| &known.names).map(String::as_str))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_with_one_letter_wrong_is_told_from_one_that_nobody_knows() {
        let types =
            ["( 1 NAME 'mail' )", "( 2 NAME ( 'department' 'dept' ) )", "( 3 NAME 'sAMAccountName' )"];
        let schema = ServerSchema::new(types.iter().filter_map(|text| Published::parse(text)).collect());
        for (wanted, nearest) in [
            ("departement", Some("department")),
            ("samAcountName", Some("sAMAccountName")),
            ("maill", Some("mail")),
            ("telephoneNumber", None),
        ] {
            assert_eq!(schema.nearest(wanted), nearest, "{wanted}");
            assert!(schema.find(wanted).is_none());
        }
        assert!(schema.find("MAIL;lang-en").is_some() && schema.find("2").is_some());
    }
}
