//! The table `[sign_in]`.

use super::table::{Table, Value};
use super::values::duration;
use crate::settings::sign_in::{Audit, FirstSignIn, LeaverSignIn, Rotation, SignIn, Throttle};
use crate::settings::{Intakes, SettingsError};

pub(super) fn sign_in(value: Value<'_>, intakes: &Intakes) -> Result<SignIn, SettingsError> {
    let mut table = value.table(&["names", "new", "refresh", "leavers", "audit", "throttle"])?;
    let mut sign_in = SignIn::default();
    if let Some(value) = table.take("names") {
        sign_in.names = names(value, intakes)?;
    }
    if let Some(value) = table.take("new") {
        let words = [("refuse", FirstSignIn::Refuse), ("import", FirstSignIn::Import)];
        sign_in.new = value.text()?.word(&words)?;
    }
    if let Some(value) = table.take("refresh") {
        sign_in.refresh = value.boolean()?;
    }
    if let Some(value) = table.take("leavers") {
        let words = [("refuse", LeaverSignIn::Refuse), ("suspend", LeaverSignIn::Suspend)];
        sign_in.leavers = value.text()?.word(&words)?;
    }
    sign_in.audit = table.take("audit").map(audit).transpose()?.unwrap_or_default();
    sign_in.throttle = table.take("throttle").map(throttle).transpose()?.unwrap_or_default();
    Ok(sign_in)
}

/// The fields by which people call themselves: each filled by a rule that a directory can be searched by.
fn names(value: Value<'_>, intakes: &Intakes) -> Result<Vec<String>, SettingsError> {
    let none = value.bad("it is empty", "name the fields by which people call themselves, like [\"login\"]");
    let mut names: Vec<String> = Vec::new();
    for text in value.texts()? {
        let rules = || intakes.iter().filter_map(|intake| intake.fields.get(&text.text));
        if rules().next().is_none() {
            return Err(text.bad(
                &format!("no intake fills the field {}", text.text),
                "name fields of [intake.fields], like \"login\" or \"email\"",
            ));
        }
        if !rules().any(|rule| rule.filter_for("x").is_some()) {
            return Err(text.bad(
                &format!("a directory cannot be searched for the value of {}", text.text),
                "name a field that is taken from an attribute, like \"login\" or \"email\"",
            ));
        }
        if !names.contains(&text.text) {
            names.push(text.text);
        }
    }
    if names.is_empty() { Err(none) } else { Ok(names) }
}

fn audit(value: Value<'_>) -> Result<Audit, SettingsError> {
    if value.is_text() {
        return Ok(Audit { file: Some(file(value)?), ..Audit::default() });
    }
    let mut table = value.table(&["file", "rotate", "keep"])?;
    let mut audit = Audit { file: table.take("file").map(file).transpose()?, ..Audit::default() };
    if let Some(value) = table.take("rotate") {
        audit.rotate = rotation(value)?;
    }
    if let Some(value) = table.take("keep") {
        audit.keep = value.number(0)?;
    }
    Ok(audit)
}

fn file(value: Value<'_>) -> Result<String, SettingsError> {
    let text = value.text()?;
    match text.text.is_empty() || text.text.contains('\0') {
        true => Err(text.bad("this is not the name of a file", "write one like \"signins.jsonl\"")),
        false => Ok(text.text),
    }
}

/// `"daily"`, or a size like `"10 MB"`.
fn rotation(value: Value<'_>) -> Result<Rotation, SettingsError> {
    let text = value.text()?;
    if text.text == "daily" {
        return Ok(Rotation::Daily);
    }
    let units = [("kB", 1_000), ("MB", 1_000_000), ("GB", 1_000_000_000)];
    let size = units.into_iter().find_map(|(unit, bytes)| {
        let number: u64 = text.text.strip_suffix(unit)?.trim().parse().ok()?;
        number.checked_mul(bytes).filter(|bytes| *bytes > 0)
    });
    let size = size.ok_or_else(|| {
        text.bad("this is neither \"daily\" nor a size", "write \"daily\", or a size like \"10 MB\"")
    })?;
    Ok(Rotation::Bytes(size))
}

fn throttle(value: Value<'_>) -> Result<Throttle, SettingsError> {
    let mut table: Table<'_> = value.table(&["tries", "from_one_source", "within"])?;
    let usual = Throttle::default();
    let mut number = |key, usual| table.take(key).map_or(Ok(usual), |value| value.number(1));
    let (tries, from_one_source) =
        (number("tries", usual.tries)?, number("from_one_source", usual.from_one_source)?);
    let within = duration(&mut table, "within", usual.within)?;
    Ok(Throttle { tries, from_one_source, within })
}
