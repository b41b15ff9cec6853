//! From the TOML text to [`Settings`]: one function for each table of the file.

mod accounts;
mod directory;
mod fields;
mod groups;
mod intake;
mod secrets;
mod sign_in;
mod table;
mod values;

use super::rules::{Choice, FieldRule, ValueSource};
use super::{
    Accounts, Brakes, Directory, Intake, Intakes, Removals, Settings, SettingsError, SettingsErrorKind,
};
use accounts::{accounts, state};
use directory::directory;
use indexmap::{IndexMap, IndexSet};
use intake::intake;
use serde::Serialize;
use table::{SourceText, Table, Value};
use toml::de::DeTable;

impl Settings {
    /// Settings from a program: any serialisable value in the shape of the settings file, so that the file's rules,
    /// defaults and messages apply. It must not contain secrets.
    ///
    /// ```
    /// # use webtaxon_core::settings::Settings;
    /// let settings = Settings::from_value(&serde_json::json!({
    ///     "directory": { "museum": { "servers": "ldaps://dc1.quillmere.example" } },
    ///     "accounts": { "store": "own" },
    ///     "intake": [{
    ///         "name": "staff", "directory": "museum", "bases": "OU=People,DC=quillmere,DC=example",
    ///         "filter": "(objectClass=person)", "fields": { "login": { "from": "uid" } },
    ///     }],
    /// }))?;
    /// assert_eq!(settings.intakes.first.name, "staff");
    /// # Ok::<(), webtaxon_core::settings::SettingsError>(())
    /// ```
    ///
    /// # Errors
    /// The first error, with a remedy; its position refers to the value written as TOML.
    pub fn from_value(value: &impl Serialize) -> Result<Self, SettingsError> {
        let file = "the application's settings";
        let text = toml::to_string(value).map_err(|error| {
            let kind = SettingsErrorKind::Syntax(error.to_string());
            SourceText { file, text: "" }.error(
                kind,
                0..0,
                "",
                "a value in the shape of a settings file must not contain nulls",
            )
        })?;
        Self::parse(file, text.as_bytes())
    }

    /// Parses a settings file; messages call it `file`.
    ///
    /// # Errors
    /// The first error, with its position and a remedy.
    pub fn parse(file: &str, bytes: &[u8]) -> Result<Self, SettingsError> {
        let text = match std::str::from_utf8(bytes) {
            Ok(text) => text,
            Err(error) => {
                let lossy = String::from_utf8_lossy(bytes);
                let at = error.valid_up_to();
                let source = SourceText { file, text: &lossy };
                let kind = SettingsErrorKind::Syntax(format!("byte {at} is not UTF-8"));
                return Err(source.error(kind, at..at + 3, "this is not UTF-8", "save the file as UTF-8"));
            }
        };
        let source = SourceText { file, text };
        let table = DeTable::parse(text).map_err(|error| {
            let span = error.span().unwrap_or(text.len()..text.len());
            let message = error.message().trim().replace('\n', ", ");
            let help = if message.contains("escape") {
                "in double quotes TOML reads \\ itself; write filters and names that have a \\ in single quotes: '(cn=\\2a)'"
            } else if message.contains("control") || text.contains('\0') {
                "remove the invisible character"
            } else {
                "keys are written like name = \"value\", tables like [directory.museum]"
            };
            source.error(SettingsErrorKind::Syntax(message.clone()), span, message, help)
        })?;
        let mut top = Table::new(
            source,
            "",
            table,
            &["directory", "accounts", "intake", "brakes", "state", "sign_in"],
        )?;
        let directories = top
            .require("directory", "add a table [directory.NAME] with servers, bind and password")?
            .entries("tables of the form [directory.NAME]")?
            .into_iter()
            .map(|(name, value)| Ok((name.clone(), directory(name, value)?)))
            .collect::<Result<IndexMap<_, _>, SettingsError>>()?;
        let mut accounts = accounts(top.require("accounts", "add a table [accounts] with store and path")?)?;
        let list = top.require("intake", "add a table [[intake]] that says who is imported")?;
        let intakes = intakes(list, &directories, &accounts)?;
        let secrets = intakes.iter().flat_map(|intake| intake.secrets.keys());
        let secrets: IndexSet<String> = secrets.cloned().collect();
        accounts.store.keep_secret(secrets.into_iter().collect());
        let brakes = top.take("brakes").map(brakes).transpose()?.unwrap_or_default();
        let state = top.take("state").map(state).transpose()?;
        let sign_in = top.take("sign_in").map(|value| sign_in::sign_in(value, &intakes));
        let sign_in = sign_in.transpose()?.unwrap_or_default();
        Ok(Self { directories, accounts, intakes, brakes, state, sign_in })
    }
}

/// The intakes: each `[[intake]]`.
fn intakes(
    list: Value<'_>,
    directories: &IndexMap<String, Directory>,
    accounts: &Accounts,
) -> Result<Intakes, SettingsError> {
    let none = list.bad("it is empty", "add a table [[intake]] that says who is imported");
    let mut intakes: Vec<Intake> = Vec::new();
    for value in list.tables("a list: write [[intake]] with two brackets")? {
        let place = value.place();
        let mut next = intake(value, directories)?;
        if next.application_groups.is_some() && !accounts.store.has_groups() {
            return Err(place.bad(
                "the application has no place for its groups",
                "say in [accounts.groups] where the application keeps its groups, or remove [intake.application_groups]",
            ));
        }
        if intakes.iter().any(|earlier| earlier.name == next.name) {
            return Err(place.bad(
                &format!("an intake called {} exists already", next.name),
                "give each intake a name of its own",
            ));
        }
        if let Some(field) = next.secrets.keys().find(|field| accounts.store.is_beside(field)) {
            return Err(place.bad(
                &format!("{field} is secret, and a table beside the accounts is read"),
                &format!("remove {field} from [accounts.more], or remove secret"),
            ));
        }
        if let Some(field) = seen_elsewhere(&next, &intakes) {
            return Err(place.bad(
                &format!("{field} is secret in one intake, and read in another"),
                "write secret = true for it in every intake that fills it",
            ));
        }
        if let Some(field) = &accounts.origin
            && !fill_with_directory(&mut next, field)
        {
            return Err(place.bad(
                &format!("{field} is filled with the directory's name (origin in [accounts])"),
                &format!("remove {field} from [intake.fields], or name another field in origin"),
            ));
        }
        intakes.push(next);
    }
    Intakes::new(intakes).ok_or(none)
}

/// A field that is secret in this intake or in an earlier one, and not in the other.
fn seen_elsewhere<'i>(next: &'i Intake, earlier: &'i [Intake]) -> Option<&'i str> {
    let is_seen = |field: &&String| earlier.iter().any(|one| one.fields.contains_key(*field));
    let ours = next.secrets.keys().find(is_seen);
    let theirs =
        || earlier.iter().flat_map(|one| one.secrets.keys()).find(|field| next.fields.contains_key(*field));
    ours.or_else(theirs).map(String::as_str)
}

/// Gives the intake the rule that fills a field with the name of its directory; false if it has a rule for it.
fn fill_with_directory(intake: &mut Intake, field: &str) -> bool {
    let source = ValueSource::Value(intake.directory.clone());
    let choices = vec![Choice { source, ..Choice::default() }];
    let rule = FieldRule { choices, ..FieldRule::default() };
    intake.fields.insert(field.to_owned(), rule).is_none() && !intake.secrets.contains_key(field)
}

fn brakes(value: Value<'_>) -> Result<Brakes, SettingsError> {
    let mut table =
        value.table(&["removals", "fewest", "settings_changed", "memberships", "shrunk", "cascades"])?;
    let mut limit = |key| match table.take(key) {
        None => Ok(None),
        Some(value) if value.is_integer() => Ok(Some(Removals::Number(value.number(0)?))),
        Some(value) => {
            let text = value.text()?;
            let share = text.text.strip_suffix('%').and_then(|share| share.trim().parse::<f64>().ok());
            let share = share.filter(|share| (0.0..=100.0).contains(share));
            let share = share.ok_or_else(|| {
                text.bad(
                    "this is neither a number nor a percentage",
                    "write a number like 5, or a percentage like \"5%\"",
                )
            })?;
            Ok(Some(Removals::Percent(share)))
        }
    };
    let (removals, memberships) = (limit("removals")?, limit("memberships")?);
    let shrunk = limit("shrunk")?.unwrap_or(Brakes::default().shrunk);
    let fewest = table.take("fewest").map(|value| value.number(0)).transpose()?;
    let cascades = table.take("cascades").map(|value| value.number(0)).transpose()?.unwrap_or(0);
    let settings_changed = table.take("settings_changed").map(Value::boolean).transpose()?.unwrap_or(true);
    Ok(Brakes { removals, fewest, settings_changed, memberships, shrunk, cascades })
}
