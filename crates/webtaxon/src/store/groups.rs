//! Groups in stores whose rows are accounts: a group is a row with its name in place of a login, and its members in
//! place of roles.

use webtaxon_core::account::{Account, Fields, Group, State};
use webtaxon_core::apply::{Edit, GroupEdit, Standing, group_standings};
use webtaxon_core::preview::ChangeKind;
use webtaxon_core::settings::rules::LIST;

/// The field that holds the members in a row.
pub(super) const MEMBERS: &str = "roles";

/// The group in a row.
pub(super) fn group(row: &Account) -> Group {
    let members = row.field(MEMBERS).split(LIST).map(str::trim).filter(|login| !login.is_empty());
    let members = members.map(str::to_owned).collect();
    let mut fields = row.fields.clone();
    fields.remove(MEMBERS);
    Group { name: row.login.clone(), link: row.link.clone(), members, fields }
}

/// A group as a row; of one that remains, only what may change.
fn row(group: &Group, wanted: Wanted) -> Account {
    let members = group.members.join(&LIST.to_string());
    let mut fields = if wanted == Wanted::All { group.fields.clone() } else { Fields::default() };
    fields.insert(MEMBERS.into(), members.into());
    Account { login: group.name.clone(), link: group.link.clone(), state: State::Active, fields }
}

#[derive(Clone, Copy, PartialEq)]
enum Wanted {
    All,
    Ours,
}

/// Edits of groups as edits of rows, with their standings. One that is not ready changes no row.
pub(super) fn as_edits(edits: &[GroupEdit], rows: &[Account]) -> (Vec<Edit>, Vec<Standing>) {
    let groups: Vec<Group> = rows.iter().map(group).collect();
    let standings = group_standings(edits, &groups);
    let edits = edits.iter().zip(&standings).map(|(one, standing)| {
        let Standing::Ready(at) = standing else { return Edit::new(ChangeKind::Update, None, None) };
        let there = at.and_then(|at| groups.get(at));
        match (there, &one.after) {
            (None, after) => {
                let after = after.as_ref().map(|after| row(after, Wanted::All));
                Edit::new(ChangeKind::Import, None, after)
            }
            (Some(there), None) => Edit::new(ChangeKind::Remove, Some(row(there, Wanted::All)), None),
            (Some(there), Some(after)) => {
                let members = one.members_of(there);
                let after = Group { members, ..after.clone() };
                let [before, after] = [there, &after].map(|side| Some(row(side, Wanted::Ours)));
                Edit::new(ChangeKind::Update, before, after)
            }
        }
    });
    (edits.collect(), standings)
}
