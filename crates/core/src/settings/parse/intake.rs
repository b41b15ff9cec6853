//! The table `[[intake]]`: who is imported, how a person's account is found, what happens to leavers.

use super::fields::{fields, roles};
use super::groups::application_groups;
use super::table::{Table, Text, Value};
use super::values::{attribute, names, search_filter};
use crate::settings::rules::FieldRule;
use crate::settings::{
    Adopt, Directory, Intake, Leaving, LeavingAction, LeavingRule, Locked, MatchBy, MemberAttribute,
    MemberAttributeKind, OtherRoles, SettingsError, Strategy,
};
use indexmap::IndexMap;

const KEYS: [&str; 25] = [
    "name",
    "directory",
    "bases",
    "filter",
    "only",
    "except",
    "groups",
    "not_in_group",
    "group_bases",
    "deleted",
    "active",
    "locked",
    "identity",
    "member_login",
    "member_attribute",
    "strategy",
    "match",
    "adopt",
    "adopt_roles",
    "new",
    "fields",
    "role",
    "other_roles",
    "leaving",
    "application_groups",
];

pub(super) fn intake(
    value: Value<'_>,
    directories: &IndexMap<String, Directory>,
) -> Result<Intake, SettingsError> {
    let mut table = value.table(&KEYS)?;
    let name = table.require("name", "give the intake a name: name = \"staff\"")?.text()?.text;
    let directory = table.require("directory", "name the [directory.NAME] that it reads")?.text()?;
    if !directories.contains_key(&directory.text) {
        let names = directories.keys().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ");
        return Err(
            directory.bad("there is no directory of this name", &format!("the settings have {names}"))
        );
    }
    let help = "say where people are: bases = [\"OU=People,DC=quillmere,DC=example\"]";
    let bases = table.require("bases", help)?;
    let none = bases.bad("it is empty", help);
    let bases = names(bases)?;
    if bases.is_empty() {
        return Err(none);
    }
    let filter =
        table.require("filter", "say which entries are people, like filter = \"(objectClass=person)\"")?;
    let mut intake = Intake::new(name, directory.text, bases, search_filter(&filter.text()?)?);
    selecting(&mut table, &mut intake)?;
    drawing(&mut table, &mut intake)?;
    if let Some(value) = table.take("leaving") {
        intake.leaving = leaving(value)?;
    }
    if let Some(value) = table.take("application_groups") {
        if intake.member_attribute.as_ref().is_some_and(MemberAttribute::is_on_people) {
            return Err(value.bad(
                "their members are read from member lists, and member_attribute is one of people",
                "read the groups with another intake",
            ));
        }
        if !intake.strategy.reads_lists() {
            return Err(value.bad(
                "their members are read from member lists",
                "write strategy = \"auto\", or remove strategy",
            ));
        }
        intake.application_groups = Some(application_groups(value)?);
    }
    Ok(intake)
}

/// The keys that select people.
fn selecting(table: &mut Table<'_>, intake: &mut Intake) -> Result<(), SettingsError> {
    for (key, people) in [("only", &mut intake.only), ("except", &mut intake.except)] {
        let texts = table.take(key).map(Value::texts).transpose()?.unwrap_or_default();
        if let Some(empty) = texts.iter().find(|text| text.text.trim().is_empty()) {
            return Err(empty.bad("it is empty", "write a login, or an entry's name"));
        }
        people.extend(texts.into_iter().map(|text| text.text));
    }
    for (key, groups) in [
        ("groups", &mut intake.groups),
        ("not_in_group", &mut intake.not_in_group),
        ("group_bases", &mut intake.group_bases),
        ("deleted", &mut intake.deleted),
    ] {
        groups.extend(table.take(key).map(names).transpose()?.unwrap_or_default());
    }
    intake.active = table.take("active").map(|value| search_filter(&value.text()?)).transpose()?;
    if let Some(value) = table.take("locked") {
        intake.locked = value.text()?.word(&[("active", Locked::Active), ("inactive", Locked::Inactive)])?;
    }
    intake.identity = table.take("identity").map(|value| attribute(&value.text()?)).transpose()?;
    intake.member_login = table.take("member_login").map(|value| attribute(&value.text()?)).transpose()?;
    intake.member_attribute = table.take("member_attribute").map(member_attribute).transpose()?;
    if let Some(value) = table.take("strategy") {
        if intake.member_attribute.as_ref().is_some_and(MemberAttribute::is_on_people) {
            return Err(value.bad(
                "member_attribute says that people tell their groups themselves, so there is nothing to choose",
                "remove strategy",
            ));
        }
        intake.strategy = strategy(&value.text()?, !intake.group_bases.is_empty())?;
    }
    Ok(())
}

/// An attribute of groups with the names of members, or a table that says what it is.
fn member_attribute(value: Value<'_>) -> Result<MemberAttribute, SettingsError> {
    if value.is_text() {
        let name = attribute(&value.text()?)?;
        return Ok(MemberAttribute { name, kind: MemberAttributeKind::NamesOfMembers });
    }
    let mut table = value.table(&["name", "of", "holds"])?;
    let name = table.require("name", "name the attribute: name = \"isMemberOf\"")?.text()?;
    let name = attribute(&name)?;
    let help = "say whose attribute it is: of = \"groups\", or of = \"people\"";
    let is_on_people = table.require("of", help)?.text()?.word(&[("groups", false), ("people", true)])?;
    let holds = table.take("holds").map(Value::text).transpose()?;
    let kind = match (is_on_people, &holds) {
        (false, None) => MemberAttributeKind::NamesOfMembers,
        (true, None) => MemberAttributeKind::NamesOfGroups,
        (false, Some(holds)) => holds.word(&[
            ("names", MemberAttributeKind::NamesOfMembers),
            ("logins", MemberAttributeKind::LoginsOfMembers),
        ])?,
        (true, Some(holds)) => holds.word(&[
            ("names", MemberAttributeKind::NamesOfGroups),
            ("cn", MemberAttributeKind::CommonNamesOfGroups),
        ])?,
    };
    Ok(MemberAttribute { name, kind })
}

fn strategy(text: &Text<'_>, has_group_bases: bool) -> Result<Strategy, SettingsError> {
    let strategy = text.word(&[
        ("auto", Strategy::Auto),
        ("lists", Strategy::Lists),
        ("downwards", Strategy::Downwards),
        ("sweep", Strategy::Sweep),
        ("upwards", Strategy::Upwards),
        ("chain", Strategy::Chain),
        ("tokens", Strategy::Tokens),
    ])?;
    if matches!(strategy, Strategy::Chain | Strategy::Tokens) && has_group_bases {
        return Err(text.bad(
            "with this strategy the server follows groups everywhere, not only under group_bases",
            "remove group_bases, or use another strategy",
        ));
    }
    Ok(strategy)
}

/// The keys that match people with accounts and fill the accounts.
fn drawing(table: &mut Table<'_>, intake: &mut Intake) -> Result<(), SettingsError> {
    if let Some(value) = table.take("new") {
        intake.new = value.boolean()?;
    }
    (intake.fields, intake.secrets) =
        fields(table.require("fields", "add [intake.fields] with at least login = { from = \"…\" }")?)?;
    if let Some(value) = table.take("match") {
        intake.matching = matching(value, &intake.fields)?;
    }
    if let Some(value) = table.take("adopt") {
        intake.adopt = adoption(value, &intake.matching)?;
    }
    if let Some(value) = table.take("adopt_roles") {
        intake.adopt_roles = value.boolean()?;
    }
    if let Some(value) = table.take("role") {
        intake.roles = roles(value)?;
    }
    if let Some(value) = table.take("other_roles") {
        intake.other_roles =
            value.text()?.word(&[("keep", OtherRoles::Keep), ("remove", OtherRoles::Remove)])?;
    }
    Ok(())
}

fn matching(value: Value<'_>, fields: &IndexMap<String, FieldRule>) -> Result<Vec<MatchBy>, SettingsError> {
    let first = value.bad(
        "the link comes first",
        "write match = [\"link\", \"login\"]: a person is the same person under a new name",
    );
    let one = |text: &Text<'_>| match text.text.as_str() {
        "link" => Ok(MatchBy::Link),
        "login" => Ok(MatchBy::Login),
        name if fields.get(name).is_some_and(|rule| rule.unique) => Ok(MatchBy::Field(name.to_owned())),
        name if fields.contains_key(name) => Err(text.bad(
            "two accounts may have the same value of this field",
            &format!("add unique = true to the field {name}"),
        )),
        other => Err(text.bad(
            &format!("`{other}` is neither a keyword here nor a field"),
            "write \"link\", \"login\", or a field with unique = true",
        )),
    };
    let list = value.texts()?.iter().map(one).collect::<Result<Vec<_>, _>>()?;
    if list.first() == Some(&MatchBy::Link) { Ok(list) } else { Err(first) }
}

/// `never`, `ask`, or `same-login`, `same-email` and the like for what accounts are matched by.
fn adoption(value: Value<'_>, matching: &[MatchBy]) -> Result<Adopt, SettingsError> {
    let mut same = Vec::new();
    let mut alone = None;
    let texts = value.texts()?;
    for text in &texts {
        let by = text.text.strip_prefix("same-").map(|name| match name {
            "login" => MatchBy::Login,
            field => MatchBy::Field(field.to_owned()),
        });
        match (text.text.as_str(), by) {
            ("never", _) => alone = Some(Adopt::Never),
            ("ask", _) => alone = Some(Adopt::Ask),
            (_, Some(by)) if matching.contains(&by) => same.push(by),
            (_, Some(_)) => {
                return Err(text.bad(
                    "accounts are not matched by this",
                    "add it to match, like match = [\"link\", \"login\", \"email\"]",
                ));
            }
            (other, None) => {
                return Err(text.bad(
                    &format!("`{other}` is not a keyword here"),
                    "write \"never\", \"ask\", or \"same-\" and what is compared, like \"same-login\"",
                ));
            }
        }
    }
    match (alone, texts.as_slice()) {
        (None, _) => Ok(Adopt::Same(same)),
        (Some(alone), [_]) => Ok(alone),
        (Some(_), [first, ..]) => {
            Err(first.bad("this cannot be combined", "write \"never\" or \"ask\" alone"))
        }
        (Some(alone), []) => Ok(alone),
    }
}

fn leaving(value: Value<'_>) -> Result<Leaving, SettingsError> {
    let mut table = value.table(&["gone", "outside", "disabled", "incomplete", "refresh"])?;
    let default = Leaving::default();
    let mut action = |key, default| match table.take(key) {
        None => Ok(default),
        Some(value) => {
            let mut table = value.table(&["do", "after_days", "refused"])?;
            let words = [
                ("remove", LeavingAction::Remove),
                ("suspend", LeavingAction::Suspend),
                ("keep", LeavingAction::Keep),
            ];
            let action = table.require("do", "write { do = \"suspend\" }, \"remove\" or \"keep\"")?;
            let action = action.text()?.word(&words)?;
            let after_days = match table.take("after_days") {
                None => 0,
                Some(value) if action == LeavingAction::Keep => {
                    return Err(
                        value.bad("nothing happens after these days", "remove after_days, or use another do")
                    );
                }
                Some(value) => {
                    let too_many =
                        value.bad("that is more than ten years", "write a number of days, like 14");
                    let days = u32::try_from(value.number(0)?).ok().filter(|days| *days <= 3_660);
                    days.ok_or(too_many)?
                }
            };
            let refused = match table.take("refused") {
                None => None,
                Some(value) if action != LeavingAction::Remove => {
                    return Err(value.bad("nothing is removed here", "remove it, or write do = \"remove\""));
                }
                Some(value) => Some(value.text()?.word(&[("suspend", LeavingAction::Suspend)])?),
            };
            Ok(LeavingRule { action, after_days, refused })
        }
    };
    let (gone, outside) = (action("gone", default.gone)?, action("outside", default.outside)?);
    let (disabled, incomplete) =
        (action("disabled", default.disabled)?, action("incomplete", default.incomplete)?);
    let refresh = table.take("refresh").map(Value::boolean).transpose()?.unwrap_or(default.refresh);
    Ok(Leaving { gone, outside, disabled, incomplete, refresh })
}
