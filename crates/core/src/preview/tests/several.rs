//! Several intakes: the first that selects a person has them, and nobody leaves unless each says so.

use super::*;
use crate::settings::Leaving;

/// `staff` as elsewhere, and `guests` behind it, who are only suspended when they are gone.
fn both() -> Settings {
    let mut settings = settings();
    let mut guests = settings.intakes.first.clone();
    guests.name = "guests".into();
    guests.leaving = Leaving { gone: LeavingAction::Suspend.into(), ..guests.leaving };
    guests.roles.push(crate::settings::rules::RoleRule { name: "guest".into(), ..Default::default() });
    settings.intakes.further.push(guests);
    settings.accounts.seats = None;
    settings
}

fn preview(staff: &[Person], guests: &[Person], absent: &[&str], accounts: &[Account]) -> Preview {
    let readings = [whole(staff, absent, &[]), whole(guests, absent, &[])];
    Preview::of(Situation::new(&both(), &readings[..], accounts, &today()))
}

#[test]
fn the_first_intake_that_selects_a_person_has_them() {
    let off = Person { off: true, ..person("dora") };
    let staff = [person("ada"), off.clone(), person("eli")];
    let guests = [person("ada"), person("ben"), person("dora")];
    let preview = preview(&staff, &guests, &[], &[]);
    assert_eq!(
        words(&preview),
        [
            "import ada login name email",
            "import ben login name email roles",
            "import dora login name email roles",
            "import eli login name email"
        ]
    );
    let steps: Vec<_> = preview.intakes.further[0]
        .funnel
        .iter()
        .map(|step| (step.step.name(), step.left, step.lost))
        .collect();
    assert_eq!(steps.last(), Some(&("earlier", 2, 1)), "{steps:?}");
    assert!(!preview.intakes.first.funnel.iter().any(|step| step.step.name() == "earlier"));
}

#[test]
fn who_is_in_no_intake_leaves_as_carefully_as_any_of_them_says() {
    let (off, out) = (Person { off: true, ..person("ada") }, Person { out: true, ..person("ada") });
    let elsewhere = |id: &str| whole(&[], &[], &[id]);
    let nowhere = |id: &str| whole(&[], &[id], &[]);
    let cut = |id: &str| read(&[], &[id], &[], [true, true, false]);
    let only = |people: &[Person]| whole(people, &[], &[]);
    for (staff, guests, expected, why) in [
        (nowhere("ada"), nowhere("ada"), "suspend ada gone", "staff would remove, guests suspend"),
        (nowhere("ada"), elsewhere("ada"), "suspend ada outside", "there, in one of the directories"),
        (only(std::slice::from_ref(&off)), nowhere("ada"), "suspend ada disabled", "known to one of them"),
        (only(&[out]), only(&[off]), "suspend ada disabled", "she came further as a guest"),
        (only(&[person("ada")]), nowhere("ada"), "update ada", "in by the first"),
        (nowhere("ada"), only(&[person("ada")]), "update ada roles", "in by the second"),
        (nowhere("ada"), cut("ada"), "held ada NotWhole", "half of it was not read"),
        (cut("ada"), nowhere("ada"), "held ada NotWhole", "whichever half"),
        (nowhere("ada"), only(&[]), "held ada NotLookedUp", "one of them did not look"),
    ] {
        let account = Account {
            fields: [("name".into(), "ada".into()), ("email".into(), "old".into())].into_iter().collect(),
            ..account("ada")
        };
        let mut settings = both();
        for intake in [&mut settings.intakes.first, &mut settings.intakes.further[0]] {
            intake.fields.shift_remove("email");
        }
        if expected == "update ada" {
            settings.intakes.first.fields["name"] = crate::settings::rules::FieldRule::from(&["mail"]);
        }
        let preview = Preview::of(Situation::new(&settings, &[staff, guests][..], &[account], &today()));
        let told = words(&preview).join(", ");
        let told = if expected == "update ada" { told.replace(" name", "") } else { told };
        assert_eq!(told, expected, "{why}");
    }
}

/// Promise 1: a reading that is missing altogether is no proof either.
#[test]
fn an_intake_without_a_reading_takes_nobody_away() {
    let preview =
        Preview::of(Situation::new(&both(), &whole(&[], &["ada"], &[]), &[account("ada")], &today()));
    assert_eq!(words(&preview), ["held ada NotWhole"]);
    assert!(preview.missed.is_empty());
}

#[test]
fn people_of_two_intakes_are_rivals_for_one_login() {
    let guest = Person { id: "zed".into(), ..person("ada") };
    let preview = preview(&[person("ada")], &[Person { mail: "z@x".into(), ..guest }], &[], &[]);
    assert_eq!(words(&preview), ["clash ada", "clash ada"]);
}

#[test]
fn the_story_is_told_by_the_intake_in_which_somebody_came_furthest() {
    let (off, out) = (Person { off: true, ..person("ada") }, Person { out: true, ..person("ada") });
    for (staff, guests, teller, why) in [
        (vec![person("ada")], vec![person("ada")], "staff", "both select her"),
        (vec![off.clone()], vec![person("ada")], "guests", "the second selects her"),
        (vec![out.clone()], vec![off.clone()], "guests", "she comes further there"),
        (vec![off.clone()], vec![out], "staff", "or here"),
        (vec![], vec![off], "guests", "the first does not find her"),
    ] {
        let readings = [whole(&staff, &[], &[]), whole(&guests, &[], &[])];
        let found = why::find(Situation::new(&both(), &readings[..], &[], &today()), "ada");
        assert_eq!(found.len(), 1, "{why}: {found:?}");
        let subject = why::Subject { person: found[0].person, stranger: None, account: None };
        let story = why::Why::of(Situation::new(&both(), &readings[..], &[], &today()), subject).unwrap();
        assert_eq!(story.intake, teller, "{why}");
    }
}

proptest! {
    /// With two intakes, too, carrying a preview out leaves only what a person must decide, and the
    /// figures are those of the list afterwards.
    #[test]
    fn carrying_out_leaves_nothing_to_do_with_two_intakes(
        (staff, accounts, _) in any_museum(), (guests, _, _) in any_museum(),
    ) {
        let read = |list: &[Account]| [read_all(&staff, list), read_all(&guests, list)];
        let first = Preview::of(Situation::new(&both(), &read(&accounts)[..], &accounts, &today()));
        let after = carry_out(&first, &accounts);
        let second = Preview::of(Situation::new(&both(), &read(&after)[..], &after, &today()));
        prop_assert!(!second.has_work(), "{:?}", words(&second));
        prop_assert_eq!(after.len(), first.accounts.after);
    }
}
