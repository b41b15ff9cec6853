//! Values used in several tables: names, filters, attributes, durations.

use super::table::{Table, Text, Value};
use crate::ldap::filter::Filter;
use crate::ldap::name::{Dn, is_attribute_type};
use crate::settings::SettingsError;
use jiff::SignedDuration;
use miette::Diagnostic as _;
use std::time::Duration;

pub(super) fn duration(
    table: &mut Table<'_>,
    key: &'static str,
    default: Duration,
) -> Result<Duration, SettingsError> {
    let Some(value) = table.take(key) else { return Ok(default) };
    let text = value.text()?;
    let parsed = text.text.parse::<SignedDuration>().ok().and_then(|span| Duration::try_from(span).ok());
    parsed.filter(|span| !span.is_zero()).ok_or_else(|| {
        text.bad("this is not a duration", "write a number with a unit, like \"30s\", \"2m\" or \"500ms\"")
    })
}

pub(super) fn names(value: Value<'_>) -> Result<Vec<Dn>, SettingsError> {
    value
        .texts()?
        .iter()
        .map(|text| {
            let help = |error: &crate::ldap::name::DnError| {
                error.help().map(|help| help.to_string()).unwrap_or_default()
            };
            Dn::parse(&text.text)
                .map_err(|error| text.inside(error.span(), &error.kind().to_string(), &help(&error), false))
        })
        .collect()
}

pub(super) fn search_filter(text: &Text<'_>) -> Result<Filter, SettingsError> {
    Filter::parse(&text.text).map_err(|error| {
        let help = error.help().map(|help| help.to_string()).unwrap_or_default();
        text.inside(error.span(), &error.kind().to_string(), &help, true)
    })
}

pub(super) fn attribute(text: &Text<'_>) -> Result<String, SettingsError> {
    if is_attribute_type(&text.text) {
        return Ok(text.text.clone());
    }
    Err(text
        .bad("this is not an attribute name", "an attribute name has letters, digits and hyphens, like mail"))
}

/// A string that is not empty.
pub(super) fn filled(text: Text<'_>) -> Result<String, SettingsError> {
    if text.text.is_empty() || text.text.contains('\0') {
        return Err(text.bad("this is not a name", "write the name as it is in the database"));
    }
    Ok(text.text)
}
