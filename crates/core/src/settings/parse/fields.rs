//! `[intake.fields]` and `[[intake.role]]`: how an account's fields and roles are drawn.

use super::directory::password;
use super::table::{Table, Text, Value};
use super::values::{attribute, names, search_filter};
use crate::settings::rules::{
    Case, Choice, Condition, FieldRule, Join, LIST, Pattern, ReadAs, RoleRule, Shape, ValueSource, Write,
};
use crate::settings::{SecretRule, SettingsError};
use indexmap::IndexMap;

/// Names with a meaning of their own, which no field rule may fill.
const RESERVED: [&str; 3] = ["link", "state", "roles"];

/// The keys of a field with one choice: of the choice, then of the field as a whole.
#[rustfmt::skip]
const FIELD: [&str; 20] = [
    "from", "value", "join", "when", "in_group", "under", "every", "read_as", "follow", "after", "before",
    "cut_prefix", "cut_suffix", "case", "map", "required", "unique", "write", "longest", "pattern",
];

/// The keys of one of several choices.
const CHOICE: &[&str] = FIELD.split_at(15).0;

/// The keys of a field with several choices.
const CHOOSING: [&str; 6] = ["choose", "required", "unique", "write", "longest", "pattern"];

/// The keys of a secret field.
#[rustfmt::skip]
const SECRET: [&str; 17] = [
    "secret", "from", "value", "join", "required", "when", "in_group", "under", "every", "read_as", "follow", "after",
    "before", "cut_prefix", "cut_suffix", "case", "map",
];

/// Rules by field, and those of secret fields.
type Rules = (IndexMap<String, FieldRule>, IndexMap<String, SecretRule>);

pub(super) fn fields(value: Value<'_>) -> Result<Rules, SettingsError> {
    let no_login = value.bad(
        "`login` is missing",
        "say which attribute is the login, like login = { from = \"sAMAccountName\", case = \"lower\" }",
    );
    let (mut fields, mut secrets) = (IndexMap::new(), IndexMap::new());
    let mut follows = Vec::new();
    for (name, value) in value.entries("a table of field rules")? {
        if RESERVED.contains(&name.as_str()) {
            let help = if name == "roles" {
                "roles are given by [[intake.role]]"
            } else {
                "give the field another name"
            };
            return Err(value.bad("this column is managed by Webtaxon", help));
        }
        let sole = (name == "login").then_some("login");
        if !value.is_list() && value.has("secret") {
            if sole.is_some() {
                return Err(value.bad("a login cannot be secret", "remove secret"));
            }
            secrets.insert(name, secret(value, &mut follows)?);
            continue;
        }
        let rule = field(value, sole, &mut follows)?;
        fields.insert(name, rule);
    }
    for target in follows {
        match fields.get(&target.text) {
            None => {
                let known = fields.keys().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ");
                return Err(target.bad("there is no field of this name", &format!("write one of {known}")));
            }
            Some(rule) if rule.followed().next().is_some() => {
                return Err(target.bad(
                    "this field itself comes from another entry",
                    "follow to a field that comes from the person's own attributes",
                ));
            }
            Some(_) => {}
        }
    }
    if fields.contains_key("login") { Ok((fields, secrets)) } else { Err(no_login) }
}

/// A field that is written when an account is created, and never read.
fn secret<'i>(value: Value<'i>, follows: &mut Vec<Text<'i>>) -> Result<SecretRule, SettingsError> {
    let place = value.place();
    let is_drawn = value.has("from") || value.has("join");
    let step = SECRET.into_iter().skip(5).find(|key| value.has(key));
    let mut table = value.table(&SECRET)?;
    if let Some(value) = table.take("secret") {
        let no = value.bad("this does nothing", "write secret = true, or remove it");
        if !value.boolean()? {
            return Err(no);
        }
    }
    let required = table.take("required");
    if let Some(value) = table.take("value") {
        let two = value.bad("a secret has one source", "keep one of value, from and join");
        let source = password(value)?;
        return if is_drawn { Err(two) } else { Ok(SecretRule::Shared(source)) };
    }
    let required = required.map(Value::boolean).transpose()?.unwrap_or(false);
    if is_drawn {
        let choices = vec![choice(table, &place, None, follows)?];
        return Ok(SecretRule::Drawn(FieldRule { choices, required, ..FieldRule::default() }));
    }
    match step {
        Some(key) => Err(place.bad(&format!("{key} has nothing to work on"), "name the attribute in from")),
        None => Ok(SecretRule::Random),
    }
}

/// The rule for a group's name.
pub(super) fn group_name(value: Value<'_>) -> Result<FieldRule, SettingsError> {
    let place = value.place();
    let rule = field(value, Some("name"), &mut Vec::new())?;
    if rule.unique || rule.write != Write::Always {
        return Err(place.bad("a name is always written, and always unique", "remove unique and write"));
    }
    if rule.choices.iter().any(|choice| !choice.condition.in_group.is_empty()) {
        return Err(
            place.bad("a group is not a person", "remove in_group; use when and under to choose groups")
        );
    }
    Ok(rule)
}

/// One field; the field that it follows to is checked once all are known. `sole` names a field that is required in
/// any case.
fn field<'i>(
    value: Value<'i>,
    sole: Option<&str>,
    follows: &mut Vec<Text<'i>>,
) -> Result<FieldRule, SettingsError> {
    let none = value.bad("it is empty", "write at least one choice, like { from = \"mail\" }");
    let mut rule = FieldRule { required: sole.is_some(), ..FieldRule::default() };
    let list = if value.is_list() {
        value
    } else if value.has("choose") {
        let mut table = value.table(&CHOOSING)?;
        whole(&mut table, &mut rule)?;
        table.require("choose", "write a list of choices")?
    } else {
        let place = value.place();
        let mut table = value.table(&FIELD)?;
        whole(&mut table, &mut rule)?;
        rule.choices.push(choice(table, &place, sole, follows)?);
        return Ok(rule);
    };
    let wanted =
        "a list of choices, like [{ when = \"(department=Botany)\", value = \"40\" }, { value = \"10\" }]";
    for value in list.tables(wanted)? {
        let place = value.place();
        rule.choices.push(choice(value.table(CHOICE)?, &place, sole, follows)?);
    }
    if rule.choices.is_empty() { Err(none) } else { Ok(rule) }
}

/// The keys that apply to a field as a whole.
fn whole(table: &mut Table<'_>, rule: &mut FieldRule) -> Result<(), SettingsError> {
    rule.required |= table.take("required").map(Value::boolean).transpose()?.unwrap_or(false);
    rule.unique = table.take("unique").map(Value::boolean).transpose()?.unwrap_or(false);
    if let Some(value) = table.take("write") {
        let words = [("always", Write::Always), ("once", Write::Once), ("empty", Write::Empty)];
        rule.write = value.text()?.word(&words)?;
    }
    if let Some(value) = table.take("longest") {
        rule.longest = Some(usize::try_from(value.number(1)?).unwrap_or(usize::MAX));
    }
    if let Some(value) = table.take("pattern") {
        let text = value.text()?;
        let pattern = text.text.parse::<Pattern>().map_err(|why| {
            text.bad(&why.to_string(), "write a regular expression in single quotes, like '[A-Z]{2}-[0-9]+'")
        })?;
        rule.pattern = Some(pattern);
    }
    Ok(())
}

/// One choice of a field; messages about the whole choice point to `place`.
fn choice<'i>(
    mut table: Table<'i>,
    place: &Value<'i>,
    sole: Option<&str>,
    follows: &mut Vec<Text<'i>>,
) -> Result<Choice, SettingsError> {
    let condition = condition(&mut table)?;
    let source = source(&mut table, place, sole)?;
    let mut text = |key| -> Result<Option<String>, SettingsError> {
        let Some(value) = table.take(key) else { return Ok(None) };
        let text = value.text()?;
        match text.text.is_empty() {
            true => Err(text.bad("it is empty", "write the text, or remove the key")),
            false => Ok(Some(text.text)),
        }
    };
    let (after, before) = (text("after")?, text("before")?);
    let (cut_prefix, cut_suffix) = (text("cut_prefix")?, text("cut_suffix")?);
    let mut word = |key| table.take(key).map(Value::text).transpose();
    let all = [ReadAs::Date, ReadAs::Time, ReadAs::Guid, ReadAs::Sid, ReadAs::Base64];
    let read_as = word("read_as")?.map(|text| text.word(&all.map(|one| (one.name(), one)))).transpose()?;
    let cases = [("lower", Case::Lower), ("upper", Case::Upper)];
    let case = word("case")?.map(|text| text.word(&cases)).transpose()?;
    let follow = word("follow")?;
    let every = match (table.take("every"), sole) {
        (Some(value), Some(sole)) => {
            return Err(value.bad(&format!("a {sole} has one value"), "remove every"));
        }
        (Some(value), None) => value.boolean()?,
        (None, _) => false,
    };
    let map = table.take("map").map(map).transpose()?;
    if let (Some(text), Some(sole)) = (&follow, sole) {
        let help = format!("take {sole} from an attribute");
        return Err(text.bad(&format!("a {sole} comes from the entry itself"), &help));
    }
    let named = follow.as_ref().map(|text| text.text.clone());
    follows.extend(follow);
    let shape = Shape { every, read_as, follow: named, after, before, cut_prefix, cut_suffix, case, map };
    Ok(Choice { condition, source, shape })
}

/// The source of a choice's value: exactly one of three keys.
fn source(
    table: &mut Table<'_>,
    place: &Value<'_>,
    sole: Option<&str>,
) -> Result<ValueSource, SettingsError> {
    let from = table.take("from").map(Value::texts).transpose()?;
    let fixed = table.take("value").map(Value::text).transpose()?;
    let join = table.take("join").map(Value::text).transpose()?;
    match (from, fixed, join, sole) {
        (Some(list), None, None, _) if !list.is_empty() => {
            Ok(ValueSource::Attributes(list.iter().map(attribute).collect::<Result<_, _>>()?))
        }
        (None, Some(fixed), None, None) => Ok(ValueSource::Value(fixed.text)),
        (None, None, Some(text), _) => Ok(ValueSource::Join(Join::parse(&text.text).map_err(|error| {
            text.bad(error.reason, "write it like \"{physicalDeliveryOfficeName} ({l})\"")
        })?)),
        (None, Some(_), None, Some(sole)) => Err(place
            .bad(&format!("all would get the same {sole}"), &format!("take {sole} from an attribute"))),
        _ => Err(place.bad(
            "a field comes from attributes, is joined from several, or has a fixed value: only one of the three",
            "write { from = \"mail\" }, { join = \"{givenName} {sn}\" } or { value = \"en-GB\" }",
        )),
    }
}

/// The condition of a choice or a role.
fn condition(table: &mut Table<'_>) -> Result<Condition, SettingsError> {
    let when = match table.take("when") {
        Some(value) => Some(search_filter(&value.text()?)?),
        None => None,
    };
    let mut list = |key| table.take(key).map(names).transpose().map(Option::unwrap_or_default);
    Ok(Condition { when, in_group: list("in_group")?, under: list("under")? })
}

fn map(value: Value<'_>) -> Result<IndexMap<String, String>, SettingsError> {
    let none = value.bad("it is empty", "write map = { \"Botany\" = \"BOT\", \"*\" = \"OTHER\" }");
    let mut map = IndexMap::new();
    for (key, value) in value.entries("a table like { \"Botany\" = \"BOT\" }")? {
        map.insert(key, value.text()?.text);
    }
    if map.is_empty() { Err(none) } else { Ok(map) }
}

pub(super) fn roles(value: Value<'_>) -> Result<Vec<RoleRule>, SettingsError> {
    let mut roles: Vec<RoleRule> = Vec::new();
    for value in value.tables("a list: write [[intake.role]] with two brackets")? {
        let mut table = value.table(&["name", "when", "in_group", "under"])?;
        let name =
            table.require("name", "give the role's name in the application: name = \"borrower\"")?.text()?;
        let is_twice = roles.iter().any(|role| role.name == name.text);
        if name.text.trim().is_empty() || name.text.contains(LIST) {
            return Err(name.bad(
                "this cannot be the name of a role",
                "write a name without a semicolon, which separates the roles of an account",
            ));
        }
        if is_twice {
            return Err(name.bad(
                "this role has a rule already",
                "combine the two: when = \"(|(…)(…))\", or several groups in in_group",
            ));
        }
        let condition = condition(&mut table)?;
        roles.push(RoleRule { name: name.text, condition });
    }
    Ok(roles)
}
