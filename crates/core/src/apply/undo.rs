//! Undoing an import: an account is removed only if it is as the import made it.

use super::Edit;
use super::standing::are_same;
use crate::account::{Account, Dependents, State, counted_rows};

/// Everything of an account that is not as the import left it, in words. `made` is the account as read after the import,
/// or as it was asked for.
fn since(made: &Account, there: &Account, dependents: &[Dependents]) -> Vec<String> {
    let own = ["login", "link", "state"].into_iter();
    let known = made.fields.keys().chain(there.fields.keys()).map(smol_str::SmolStr::as_str);
    let mut names: Vec<&str> = own.chain(known.filter(|name| *name != "state")).collect();
    let mut seen = foldhash::HashSet::default();
    names.retain(|name| seen.insert(*name));
    let changed = names.into_iter().filter(|name| !are_same(name, made, there));
    let mut words: Vec<String> = changed.map(|name| super::standing::changed(name, there)).collect();
    if !dependents.is_empty() {
        words.push(format!("referred to by {}", counted_rows(dependents)));
    }
    words
}

/// The edit that takes back an import, for the account as it is now: a removal with the whole account, or a suspension,
/// with the reason, if something was added since. `None` if there is nothing to do.
#[must_use]
pub fn taking_back(
    edit: &Edit,
    there: &Account,
    dependents: &[Dependents],
) -> (Option<Edit>, Option<String>) {
    let Some(made) = &edit.before else { return (Some(edit.clone()), None) };
    let since = since(made, there, dependents);
    if since.is_empty() {
        return (Some(Edit { before: Some(there.clone()), ..edit.clone() }), None);
    }
    let words = since.join(", ");
    if there.state != State::Active {
        return (None, Some(format!("{} stays as it is: {words}", there.login)));
    }
    let suspension = Edit { before: Some(there.clone()), after: None, ..edit.clone() }.suspension();
    (suspension, Some(format!("{} is suspended, not removed: {words}", there.login)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::{Effect, Fields};
    use crate::preview::ChangeKind;

    fn account(fields: &[(&str, &str)]) -> Account {
        let fields = fields.iter().map(|(name, value)| ((*name).into(), (*value).into()));
        let mut all = Fields::default();
        all.extend(fields);
        Account { login: "ada".into(), link: None, state: State::Active, fields: all }
    }

    #[test]
    fn only_what_is_as_it_was_made_is_removed() {
        let made = account(&[("name", "Ada"), ("roles", "a;b"), ("logins", "0")]);
        let edit = Edit::new(ChangeKind::Remove, Some(made), None);
        let loan = [Dependents { table: "loan".into(), rows: 2, effect: Effect::Cleared }];
        for (there, dependents, words) in [
            (account(&[("name", "Ada"), ("roles", "b;a"), ("logins", "0"), ("seen", "")]), &[][..], None),
            (account(&[("name", "Ada"), ("roles", "a;b"), ("logins", "3")]), &[], Some("logins has changed")),
            (
                account(&[("name", "Ada"), ("roles", "a;b"), ("logins", "0"), ("seen", "x")]),
                &[],
                Some("seen has changed"),
            ),
            (
                account(&[("name", "Ada"), ("roles", "a;b"), ("logins", "0")]),
                &loan,
                Some("referred to by 2 rows of loan"),
            ),
        ] {
            let (edit, told) = taking_back(&edit, &there, dependents);
            let edit = edit.unwrap();
            match words {
                None => assert_eq!((edit.kind, edit.before.as_ref()), (ChangeKind::Remove, Some(&there))),
                Some(words) => {
                    assert_eq!(edit.kind, ChangeKind::Suspend);
                    assert!(told.unwrap().contains(words), "{words}");
                }
            }
        }
    }
}
