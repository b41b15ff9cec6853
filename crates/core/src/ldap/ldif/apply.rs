//! Applying changes to entries in memory, in the order of a file (RFC 2849 changes, RFC 4511 §4.6–§4.9).

use super::{Change, LdifError, LdifErrorKind, Modification, Operation, Record, records};
use crate::ldap::entry::Entries;
use crate::ldap::name::{Dn, DnKey};
use indexmap::IndexMap;

/// Attributes by lower-case name: the name as written, and the values.
type Attributes = IndexMap<String, (String, Vec<Vec<u8>>)>;
/// An entry's name, and its attributes.
type Held = (String, Attributes);

/// The entries after the changes in an LDIF text. An entry record counts as an addition.
///
/// # Errors
/// The first line that is not LDIF, or whose change does not fit the entries; then nothing is changed.
pub fn changed(entries: &Entries, text: &[u8]) -> Result<Entries, LdifError> {
    let mut held: IndexMap<DnKey, Held> = IndexMap::new();
    for entry in entries.iter() {
        if let Ok(dn) = Dn::parse(entry.dn()) {
            let mut attributes = Attributes::new();
            for (name, values) in entry.attributes() {
                of(&mut attributes, name).extend(values.map(<[u8]>::to_vec));
            }
            held.insert(dn.key(), (entry.dn().to_owned(), attributes));
        }
    }
    for record in records(text) {
        let record = record?;
        let at = record.line;
        make(&mut held, &record).ok_or(LdifErrorKind::NoEntry.at(at))?;
    }
    let mut changed = Entries::new();
    for (dn, attributes) in held.values() {
        let attributes = attributes.values().filter(|(_, values)| !values.is_empty());
        changed.push(dn, attributes.map(|(name, values)| (name.as_str(), values.iter().map(Vec::as_slice))));
    }
    Ok(changed)
}

/// Makes one change; `None` if its entry is missing, or there already.
fn make(held: &mut IndexMap<DnKey, Held>, record: &Record<'_>) -> Option<()> {
    let dn = Dn::parse(&record.dn).ok()?;
    let key = dn.key();
    match &record.change {
        None | Some(Change::Add) => {
            if held.contains_key(&key) {
                return None;
            }
            let mut attributes = Attributes::new();
            for (name, value) in &record.attributes {
                of(&mut attributes, name).push(value.to_vec());
            }
            held.insert(key, (record.dn.clone().into_owned(), attributes));
        }
        Some(Change::Delete) => {
            held.shift_remove(&key)?;
        }
        Some(Change::Modify(modifications)) => {
            let (_, attributes) = held.get_mut(&key)?;
            modifications.iter().for_each(|one| modify(attributes, one));
        }
        Some(Change::Rename { new_rdn, delete_old, new_superior }) => {
            let above = match new_superior {
                Some(above) => Dn::parse(above).ok()?,
                None => dn.parent()?,
            };
            let text = format!("{new_rdn}{}{above}", if above.depth() == 0 { "" } else { "," });
            let new = Dn::parse(&text).ok()?;
            let target = new.key();
            if target != key && held.contains_key(&target) {
                return None;
            }
            let (_, attributes) = held.get_mut(&key)?;
            if *delete_old {
                for old in dn.first().into_iter().flat_map(|rdn| rdn.avas()) {
                    let same = |value: &Vec<u8>| value.eq_ignore_ascii_case(&old.value);
                    of(attributes, &old.attribute).retain(|value| !same(value));
                }
            }
            for ava in new.first().into_iter().flat_map(|rdn| rdn.avas()) {
                let values = of(attributes, &ava.attribute);
                if !values.contains(&ava.value) {
                    values.push(ava.value.clone());
                }
            }
            moved(held, &key, &dn, &new);
        }
    }
    Some(())
}

/// Moves an entry, and everything below it, to a new name.
fn moved(held: &mut IndexMap<DnKey, Held>, key: &DnKey, old: &Dn, new: &Dn) {
    *held = std::mem::take(held)
        .into_iter()
        .map(|(own, (text, attributes))| {
            let front = own.is_within(key).then(|| Dn::parse(&text).ok()?.relative_to(old)).flatten();
            match front {
                None => (own, (text, attributes)),
                Some(front) => {
                    let named = if front.depth() == 0 { new.to_string() } else { format!("{front},{new}") };
                    let key = Dn::parse(&named).map_or(own, |dn| dn.key());
                    (key, (named, attributes))
                }
            }
        })
        .collect();
}

fn modify(attributes: &mut Attributes, change: &Modification<'_>) {
    let values = of(attributes, &change.attribute);
    let given = || change.values.iter().map(|value| value.to_vec());
    match change.operation {
        Operation::Add => values.extend(given()),
        Operation::Replace => *values = given().collect(),
        Operation::Delete if change.values.is_empty() => values.clear(),
        Operation::Delete => values.retain(|value| !given().any(|gone| gone == *value)),
    }
}

/// The values of an attribute, created empty if absent.
fn of<'h>(attributes: &'h mut Attributes, name: &str) -> &'h mut Vec<Vec<u8>> {
    &mut attributes.entry(name.to_ascii_lowercase()).or_insert_with(|| (name.to_owned(), Vec::new())).1
}
