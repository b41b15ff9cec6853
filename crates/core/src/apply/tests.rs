//! How an edit stands to a list that has moved on, row by row; and that taking back is a way back.

use super::*;
use crate::account::{Account, State};
use crate::ldap::identity::Identity;
use crate::preview::{Brake, BrakeKind, ChangeKind};
use indexmap::IndexMap;
use proptest::prelude::*;
use std::collections::BTreeMap;

/// No unique fields beside login and link.
const NONE: &[&str] = &[];

fn account(login: &str, link: &str, fields: &[(&str, &str)]) -> Account {
    let fields = fields.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect();
    Account { login: login.to_owned(), link: Identity::from_link(link), state: State::Active, fields }
}

fn ada(room: &str) -> Account {
    account("ada", "1", &[("room", room), ("email", "ada@x")])
}

fn edit(kind: ChangeKind, before: Option<Account>, after: Option<Account>) -> Edit {
    Edit::new(kind, before, after)
}

fn moves() -> Edit {
    let side = |room| Some(account("ada", "1", &[("room", room)]));
    edit(ChangeKind::Update, side("4"), side("5"))
}

/// Ready at a place; made already, for an empty text; or stale, with these words.
fn is_as_wanted(standing: Standing, wanted: Result<Option<usize>, &str>, why: &str) {
    match (standing, wanted) {
        (Standing::Ready(at), Ok(wanted)) => assert_eq!(at, wanted, "{why}"),
        (Standing::Made, Err("")) => {}
        (Standing::Stale(words), Err(wanted)) if !wanted.is_empty() => {
            assert!(words.contains(wanted), "{why}: {words}");
        }
        (standing, _) => panic!("{why}: {standing:?}"),
    }
}

/// What a store added to a new account is part of what an undo takes back, and of no question whether it was made.
#[test]
fn what_the_store_added_is_known_to_the_way_back_alone() {
    let import = edit(ChangeKind::Import, None, Some(ada("4")));
    let there = account("ada", "1", &[("room", "Room 4"), ("email", "ada@x"), ("logins", "0"), ("note", "")]);
    let made = import.with_added(&there).unwrap();
    assert_eq!((&made.after, made.added.iter().count()), (&import.after, 2), "{made:?}");
    let undone = made.back().before.unwrap();
    assert_eq!(["room", "email", "logins"].map(|name| undone.value(name)), ["Room 4", "ada@x", "0"]);
    let busy = account("ada", "1", &[("room", "4"), ("email", "ada@x"), ("logins", "3")]);
    is_as_wanted(standings(std::slice::from_ref(&made), &[busy], NONE).remove(0), Err(""), "used since");
    assert_eq!(import.with_added(&ada("4")), None);
    assert_eq!(moves().with_added(&there), None, "only new accounts");
    let read: Edit = serde_json::from_str(&serde_json::to_string(&made).unwrap()).unwrap();
    assert_eq!(read, made);
    assert!(!serde_json::to_string(&import).unwrap().contains("added"));
}

#[test]
fn an_edit_is_made_once_or_left_out() {
    let import = || edit(ChangeKind::Import, None, Some(ada("4")));
    let remove = || edit(ChangeKind::Remove, Some(ada("4")), None);
    let adopt = || {
        let side = |link| Some(account("ada", link, &[]));
        edit(ChangeKind::Adopt, side(""), side("1"))
    };
    let by_hand = account("ada", "", &[("room", "4")]);
    type Row = (Edit, Vec<Account>, Result<Option<usize>, &'static str>, &'static str);
    let rows: [Row; 14] = [
        (moves(), vec![ada("4")], Ok(Some(0)), "as it was"),
        (moves(), vec![ada("5")], Err(""), "made already"),
        (moves(), vec![ada("6")], Err("room is 6 now"), "somebody moved her"),
        (moves(), vec![ada("")], Err("room is empty now"), "somebody emptied it"),
        (moves(), vec![], Err("the account no longer exists"), "gone"),
        (moves(), vec![Account { login: "ad".into(), ..ada("4") }], Ok(Some(0)), "found by its link"),
        (moves(), vec![by_hand.clone()], Err("the account no longer exists"), "no longer linked"),
        (import(), vec![], Ok(None), "nobody of that name"),
        (import(), vec![ada("4")], Err(""), "imported already"),
        (import(), vec![ada("5")], Err("the account ada was created meanwhile"), "somebody was quicker"),
        (import(), vec![by_hand.clone()], Err("the same login"), "the login is taken"),
        (remove(), vec![], Err(""), "removed already"),
        (remove(), vec![ada("5")], Err("room has changed"), "changed since: kept"),
        (adopt(), vec![by_hand], Ok(Some(0)), "found by its login"),
    ];
    for (edit, list, wanted, why) in rows {
        let standing = standings(&[edit], &list, NONE).remove(0);
        is_as_wanted(standing, wanted, why);
    }
}

#[test]
fn no_value_that_must_be_unique_is_there_twice_afterwards() {
    let mail = |login: &str, link: &str, old: &str, new: &str| {
        let side = |mail: &str| Some(account(login, link, &[("email", mail)]));
        edit(ChangeKind::Update, side(old), side(new))
    };
    let list = [
        account("ada", "1", &[("email", "a@x")]),
        account("bo", "2", &[("email", "b@x")]),
        account("cy", "", &[]),
    ];
    let rename = |old: &str, link: &str, new: &str| {
        edit(ChangeKind::Update, Some(account(old, link, &[])), Some(account(new, link, &[])))
    };
    for (edits, ready, why) in [
        (vec![mail("ada", "1", "a@x", "B@x")], vec![false], "bo has it, whatever the case"),
        (vec![mail("ada", "1", "a@x", "b@x"), mail("bo", "2", "b@x", "a@x")], vec![true, true], "they swap"),
        (vec![mail("ada", "1", "a@x", "b@x"), mail("bo", "2", "b@x", "c@x")], vec![true, true], "a chain"),
        (
            vec![mail("ada", "1", "a@x", "b@x"), mail("bo", "2", "old@x", "c@x")],
            vec![false, false],
            "bo's is stale, so ada's would be a second one",
        ),
        (
            vec![mail("ada", "1", "a@x", "c@x"), mail("bo", "2", "b@x", "c@x")],
            vec![false, false],
            "both want it",
        ),
        (
            vec![mail("ada", "1", "a@x", ""), mail("bo", "2", "b@x", "")],
            vec![true, true],
            "empty is no value",
        ),
        (vec![rename("ada", "1", "cy")], vec![false], "an account made by hand is called so"),
        (vec![rename("ada", "1", "bo"), rename("bo", "2", "ada")], vec![true, true], "they swap logins"),
        (
            vec![edit(ChangeKind::Remove, Some(list[1].clone()), None), rename("ada", "1", "bo")],
            vec![true, true],
            "the other goes",
        ),
    ] {
        let found: Vec<bool> = standings(&edits, &list, &["email"]).iter().map(Standing::is_ready).collect();
        assert_eq!(found, ready, "{why}");
    }
}

#[test]
fn what_others_changed_stays() {
    let before = [account("ada", "1", &[("room", "4"), ("badge", "7")])];
    let edits = [moves()];
    let after = Plan::of(&edits, &before, NONE).made();
    assert_eq!(after, [account("ada", "1", &[("room", "5"), ("badge", "7")])]);
    let back = [moves().back()];
    assert_eq!(Plan::of(&back, &after, NONE).made(), before);
    assert_eq!(back[0].fields().keys().collect::<Vec<_>>(), ["room"]);
    let none: IndexMap<_, _> = edit(ChangeKind::Update, Some(ada("4")), Some(ada("4"))).fields();
    assert!(none.is_empty());
}

#[test]
fn whoever_leaves_a_login_goes_before_whoever_takes_it() {
    let list: Vec<Account> = ["ada", "bo", "cy", "di"].map(|login| account(login, login, &[])).to_vec();
    let rename = |old: &str, new: &str| {
        edit(ChangeKind::Update, Some(account(old, old, &[])), Some(account(new, old, &[])))
    };
    let import = |login: &str| edit(ChangeKind::Import, None, Some(account(login, "new", &[])));
    let remove = |login: &str| edit(ChangeKind::Remove, Some(account(login, login, &[])), None);
    for (edits, units, why) in [
        (vec![rename("ada", "x"), rename("bo", "y")], vec![vec![0], vec![1]], "each for itself"),
        (
            vec![rename("ada", "bo"), rename("bo", "cy"), rename("cy", "x")],
            vec![vec![2], vec![1], vec![0]],
            "a chain",
        ),
        (
            vec![import("ADA"), rename("ada", "x")],
            vec![vec![1], vec![0]],
            "into a login that is left, whatever its case",
        ),
        (vec![import("ada"), remove("ada")], vec![vec![1], vec![0]], "or into one that is removed"),
        (vec![rename("ada", "bo"), rename("bo", "ada")], vec![vec![0, 1]], "they swap"),
        (vec![rename("ada", "Ada")], vec![vec![0]], "only another case"),
        (
            vec![
                rename("di", "x"),
                rename("ada", "bo"),
                rename("bo", "cy"),
                rename("cy", "ada"),
                import("di"),
            ],
            vec![vec![0], vec![1, 2, 3], vec![4]],
            "a ring of three between others",
        ),
    ] {
        let plan = Plan::of(&edits, &list, NONE);
        assert_eq!(plan.left_out().next(), None, "{why}");
        assert_eq!(plan.units().map(|unit| unit.edits.to_vec()).collect::<Vec<_>>(), units, "{why}");
    }
}

/// An account with one of six logins, and one of four addresses, or none.
fn people() -> impl Strategy<Value = Vec<(Option<u8>, u8)>> {
    proptest::collection::vec((proptest::option::weighted(0.9, 0_u8..6), 0_u8..5), 1..6)
}

proptest! {
    /// No value is there twice at any moment, whatever changes hands, and in the end everybody has what the edits
    /// say. Links stand for persons; a person without a login has no account.
    #[test]
    fn no_step_gives_an_account_a_value_that_another_still_has(old in people(), new in people()) {
        let one = |(person, (login, address)): (usize, &(Option<u8>, u8))| {
            let address = format!("{address}@x");
            let fields = [("email", if address == "0@x" { "" } else { &address })];
            Some(account(&format!("p{}", (*login)?), &format!("link {person}"), &fields))
        };
        let both = [old, new].map(|list| list.iter().enumerate().map(one).collect::<Vec<_>>());
        let mut edits = Vec::new();
        for person in 0..both[0].len().max(both[1].len()) {
            let [before, after] = both.each_ref().map(|list| list.get(person).cloned().flatten());
            edits.extend((before != after).then(|| edit(ChangeKind::Update, before, after)));
        }
        let accounts: Vec<Account> = both.into_iter().next().unwrap().into_iter().flatten().collect();
        prop_assume!(are_unique(&accounts));
        let plan = Plan::of(&edits, &accounts, &["email"]);
        let mut list: Vec<Option<Account>> = accounts.iter().cloned().map(Some).collect();
        for unit in plan.units() {
            for step in unit.steps {
                match step {
                    Step::PutAside { at, field } => {
                        let aside = (field == "login").then(|| format!("aside {at}"));
                        list[at].as_mut().unwrap().set(field, aside.as_deref());
                    }
                    Step::Insert { account } => list.push(Some(account.clone())),
                    Step::Delete { at } => list[at] = None,
                    Step::Update { at, set } => {
                        let there = list[at].as_mut().unwrap();
                        set.into_iter().for_each(|(name, value)| there.set(name, value));
                    }
                }
                let now: Vec<Account> = list.iter().flatten().cloned().collect();
                prop_assert!(are_unique(&now), "{now:?} {edits:?}");
            }
        }
        let list: Vec<Account> = list.into_iter().flatten().collect();
        prop_assert_eq!(&list, &plan.made());
        for (edit, (_, outcome)) in edits.iter().zip(plan.outcomes()).filter(|(_, (_, one))| *one == Outcome::Done) {
            let link = edit.after.as_ref().or(edit.before.as_ref()).unwrap().link.clone();
            prop_assert_eq!(list.iter().find(|one| one.link == link), edit.after.as_ref(), "{:?}", outcome);
        }
    }
}

/// Whether no login, link or address is there twice.
fn are_unique(accounts: &[Account]) -> bool {
    ["login", "link", "email"].into_iter().all(|name| {
        let mut seen = std::collections::HashSet::new();
        accounts
            .iter()
            .map(|one| one.value(name))
            .filter(|value| !value.is_empty())
            .all(|value| seen.insert(value))
    })
}

#[test]
fn an_edit_of_a_group_is_made_once_or_left_out() {
    use crate::account::Group;
    use crate::preview::GroupChangeKind;
    let group = |name: &str, link: &str, members: &[&str]| {
        let members = members.iter().map(|login| (*login).to_owned()).collect();
        Group { name: name.to_owned(), link: Identity::from_link(link), members, ..Group::default() }
    };
    let edit =
        |kind, before: Option<Group>, after: Option<Group>| GroupEdit { kind, dn: None, before, after };
    let import = || edit(GroupChangeKind::Import, None, Some(group("Moss", "1", &["ada"])));
    let remove = || edit(GroupChangeKind::Remove, Some(group("Moss", "1", &["ada"])), None);
    let sides = |before: Group, after: Group| edit(GroupChangeKind::Members, Some(before), Some(after));
    let swap = || sides(group("Moss", "1", &["ada"]), group("Moss", "1", &["ben"]));
    let rename = || sides(group("Moss", "1", &[]), group("Fern", "1", &[]));
    let adopt = || sides(group("Moss", "", &[]), group("Moss", "1", &["ben"]));
    type Row = (GroupEdit, Vec<Group>, Result<Option<usize>, &'static str>, &'static str);
    let rows: [Row; 17] = [
        (import(), vec![], Ok(None), "none of that name"),
        (import(), vec![group("Moss", "1", &["ADA"])], Err(""), "made already"),
        (import(), vec![group("Moss", "1", &[])], Err("created meanwhile"), "somebody was quicker"),
        (import(), vec![group("moss", "", &[])], Err("another group is called Moss"), "the name is taken"),
        (remove(), vec![], Err(""), "removed already"),
        (remove(), vec![group("Moss", "1", &["ada"])], Ok(Some(0)), "as it was"),
        (
            remove(),
            vec![group("Moss", "1", &["ada", "kiosk"])],
            Err("other members"),
            "somebody put another in",
        ),
        (
            remove(),
            vec![group("Fern", "1", &["ada"])],
            Err("called Fern now"),
            "somebody gave it another name",
        ),
        (swap(), vec![group("Moss", "1", &["ada", "kiosk"])], Ok(Some(0)), "whoever else is in it"),
        (swap(), vec![group("Moss", "1", &["ada", "ben"])], Ok(Some(0)), "half of it is there"),
        (swap(), vec![group("Moss", "1", &["Ben", "kiosk"])], Err(""), "made already"),
        (swap(), vec![], Err("no longer exists"), "gone"),
        (swap(), vec![group("Moss", "", &["ada"])], Err("no longer exists"), "no longer linked"),
        (rename(), vec![group("Fern", "1", &["x"])], Err(""), "renamed already"),
        (
            rename(),
            vec![group("Moss", "1", &[]), group("FERN", "2", &[])],
            Err("another group"),
            "taken meanwhile",
        ),
        (rename(), vec![group("Lichen", "1", &[])], Err("called Lichen now"), "somebody was quicker"),
        (
            adopt(),
            vec![group("moss", "", &["kiosk"])],
            Err("called moss now"),
            "another name, if only by case",
        ),
    ];
    for (edit, list, wanted, why) in rows {
        let standing = group_standings(&[edit], &list).remove(0);
        is_as_wanted(standing, wanted, why);
    }
}

/// What a limit says of a part is what a preview would say of a list whose other edits are made by nobody.
#[test]
fn the_brakes_of_a_part_are_counted_from_the_part() {
    let one = |name: &str, state| Some(Account { state, ..account(name, name, &[]) });
    let (active, suspended) = (State::Active, State::Suspended);
    let edits = [
        edit(ChangeKind::Import, None, one("a", active)),
        edit(ChangeKind::Import, None, one("b", active)),
        edit(ChangeKind::Restore, one("c", suspended), one("c", active)),
        edit(ChangeKind::Suspend, one("d", active), one("d", suspended)),
        edit(ChangeKind::Remove, one("e", active), None),
        edit(ChangeKind::Remove, one("f", suspended), None),
        edit(ChangeKind::Update, one("g", active), one("g", active)),
    ];
    let brake = |kind, figure, limit| Brake { kind, figure, limit, which: Vec::new() };
    let whole: Vec<Brake> = BrakeKind::ALL
        .into_iter()
        .filter(|kind| *kind != BrakeKind::First)
        .map(|kind| brake(kind, if kind == BrakeKind::Removals { 3 } else { 9 }, 1))
        .collect();
    let stays = [
        (BrakeKind::Fewest, 9),
        (BrakeKind::SettingsChanged, 9),
        (BrakeKind::Reading, 9),
        (BrakeKind::Clock, 9),
        (BrakeKind::Nobody, 9),
        (BrakeKind::Shrunk, 9),
        (BrakeKind::View, 9),
    ];
    // The logins that are kept, how many seats there are (four are taken), and what is held besides.
    type Row = (&'static str, Option<u64>, &'static [(BrakeKind, u64)]);
    let rows: [Row; 11] = [
        ("", Some(0), &[]),
        ("d", Some(4), &[]),
        ("de", None, &[(BrakeKind::Removals, 2)]),
        ("ef", Some(4), &[(BrakeKind::Removals, 2)]),
        ("g", Some(0), &[]),
        ("a", Some(4), &[(BrakeKind::Seats, 5)]),
        ("a", Some(5), &[]),
        ("ab", Some(5), &[(BrakeKind::Seats, 6)]),
        ("ad", Some(4), &[]),
        ("cf", Some(4), &[(BrakeKind::Seats, 5)]),
        ("ab", None, &[]),
    ];
    for (kept, limit, besides) in rows {
        let part: Vec<Edit> = edits.iter().filter(|edit| kept.contains(edit.login())).cloned().collect();
        let seats = limit.map(|limit| Seats { limit, taken: 4 });
        let held: BTreeMap<&str, u64> = brakes_of_part(&whole, seats, &part)
            .iter()
            .map(|brake| (brake.kind.name(), brake.figure))
            .collect();
        let wanted = stays.iter().chain(besides).map(|(kind, figure)| (kind.name(), *figure)).collect();
        assert_eq!(held, wanted, "{kept} of {limit:?} seats");
    }
}

#[test]
fn no_edit_touches_what_is_protected_or_made_by_hand() {
    use crate::apply::Untouchable;
    let untouchable = Untouchable::new(&["Admin".to_owned()]);
    let linked = |name: &str| Some(account(name, name, &[]));
    let bare = |name: &str| Some(Account { link: None, ..account(name, name, &[]) });
    for (edit, why) in [
        (edit(ChangeKind::Update, linked("ada"), linked("ada")), ""),
        (edit(ChangeKind::Import, None, linked("ada")), ""),
        (edit(ChangeKind::Remove, linked("ada"), None), ""),
        (edit(ChangeKind::Adopt, bare("ada"), linked("ada")), ""),
        (edit(ChangeKind::Update, linked("ada"), bare("ada")), ""),
        (edit(ChangeKind::Update, linked("ADMIN"), linked("ada")), "protected"),
        (edit(ChangeKind::Update, linked("ada"), linked("admin")), "protected"),
        (edit(ChangeKind::Import, None, linked("admin")), "protected"),
        (edit(ChangeKind::Suspend, bare("ada"), bare("ada")), "made by hand"),
        (edit(ChangeKind::Remove, bare("ada"), None), "made by hand"),
        (edit(ChangeKind::Import, None, bare("ada")), "something else than its kind"),
        (edit(ChangeKind::Update, linked("ada"), None), "something else than its kind"),
    ] {
        let told = untouchable.forbids(&edit).unwrap_or_default();
        assert!(told.contains(why) && (told.is_empty() == why.is_empty()), "{edit:?}: {told}");
    }
}
