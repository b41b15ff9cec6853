//! Days of grace: nothing is done before they are over, and nothing starts them without a whole reading.

use super::*;
use crate::ldap::filter::Filter;
use crate::settings::LeavingRule;
use jiff::civil::{Date, date};

fn with_days(action: LeavingAction, after_days: u32) -> Settings {
    let mut settings = settings();
    settings.intakes.first.leaving.gone = LeavingRule { action, after_days, refused: None };
    settings
}

fn missed(days: &[(&str, Date)]) -> Memory {
    let missed = days.iter().map(|(id, day)| (Identity::from_link(id).unwrap(), *day)).collect();
    Memory { missed, ..today() }
}

#[test]
fn what_is_done_waits_for_its_day() {
    let (remove, suspend) = (LeavingAction::Remove, LeavingAction::Suspend);
    let gone =
        |active| Account { state: if active { State::Active } else { State::Suspended }, ..account("ada") };
    for (action, days, since, account, expected, why) in [
        (remove, 0, None, gone(true), "remove ada gone", "no days of grace"),
        (remove, 14, None, gone(true), "wait ada gone until 2026-12-09", "first missed today"),
        (remove, 14, Some(date(2026, 11, 12)), gone(true), "wait ada gone until 2026-11-26", "one day left"),
        (remove, 14, Some(date(2026, 11, 11)), gone(true), "remove ada gone", "the day has come"),
        (suspend, 14, Some(date(2025, 1, 1)), gone(true), "suspend ada gone", "long over"),
        (suspend, 14, None, gone(false), "", "suspended already: nothing to wait for"),
        (
            remove,
            14,
            Some(date(2026, 12, 1)),
            gone(true),
            "wait ada gone until 2026-12-15",
            "a clock was wrong",
        ),
        (
            remove,
            3_660,
            Some(date(9999, 12, 1)),
            gone(true),
            "wait ada gone until 9999-12-31",
            "the end of time",
        ),
    ] {
        let memory = since.map_or_else(today, |since| missed(&[("ada", since)]));
        let preview = Preview::of(Situation::new(
            &with_days(action, days),
            &whole(&[], &["ada"], &[]),
            &[account],
            &memory,
        ));
        let until = preview.changes.first().and_then(|change| change.wait());
        let until = until.map(|wait| format!(" until {}", wait.grace.until)).unwrap_or_default();
        assert_eq!(words(&preview).join(", ") + &until, expected, "{why}");
        let waits = preview.of_kind(ChangeKind::Wait).count();
        assert_eq!(preview.accounts.after, usize::from(!expected.starts_with("remove")), "{why}");
        assert_eq!(
            waits + preview.brakes.iter().filter(|brake| brake.kind == BrakeKind::Removals).count(),
            usize::from(!expected.is_empty()),
            "{why}: a wait is no removal"
        );
        let is_wrong = since.is_some_and(|since| since > today().today);
        assert_eq!(preview.brakes.iter().any(|brake| brake.kind == BrakeKind::Clock), is_wrong, "{why}");
    }
}

#[test]
fn half_a_reading_starts_and_ends_no_days_of_grace() {
    for since in [date(2026, 11, 25), date(2026, 1, 1)] {
        let reading = read(&[], &["ada"], &[], [true, true, false]);
        let settings = with_days(LeavingAction::Remove, 14);
        let preview =
            Preview::of(Situation::new(&settings, &reading, &[account("ada")], &missed(&[("ada", since)])));
        assert_eq!(words(&preview), ["held ada NotWhole"]);
        assert_eq!(preview.missed, missed(&[("ada", since)]).missed, "what is remembered stays as it was");
    }
}

#[test]
fn whoever_is_back_is_back() {
    let preview = Preview::of(Situation::new(
        &with_days(LeavingAction::Remove, 14),
        &whole(&[person("ada")], &[], &[]),
        &[account("ada")],
        &missed(&[("ada", date(2026, 1, 1))]),
    ));
    assert_eq!((words(&preview).len(), preview.unchanged), (0, 1));
    assert!(preview.missed.is_empty(), "forgotten");
}

#[test]
fn the_day_on_which_somebody_was_first_missed_is_kept_until_they_are_away() {
    for (action, days, since, remembered, why) in [
        (LeavingAction::Remove, 14, None, Some(date(2026, 11, 25)), "today is the first day"),
        (LeavingAction::Remove, 14, Some(date(2026, 11, 20)), Some(date(2026, 11, 20)), "still that day"),
        (LeavingAction::Remove, 14, Some(date(2026, 1, 1)), Some(date(2026, 1, 1)), "until it is done"),
        (LeavingAction::Keep, 0, Some(date(2026, 1, 1)), None, "nothing is waited for"),
    ] {
        let memory = since.map_or_else(today, |since| missed(&[("ada", since)]));
        let settings = with_days(action, days);
        let preview =
            Preview::of(Situation::new(&settings, &whole(&[], &["ada"], &[]), &[account("ada")], &memory));
        let ada = Identity::from_link("ada").unwrap();
        assert_eq!(preview.missed.get(&ada).copied(), remembered, "{why}");
    }
}

#[test]
fn an_account_taken_away_by_hand_is_told_as_coming_back() {
    let ada = Identity::from_link("ada").unwrap();
    let memory = Memory { known: [(ada, "ada".to_owned())].into(), ..today() };
    let people = [person("ada"), person("bo")];
    let preview = Preview::of(Situation::new(&settings(), &whole(&people, &[], &[]), &[], &memory));
    let details: Vec<_> = preview.changes.iter().map(|change| change.detail()).collect();
    assert!(details[0].as_deref().unwrap().contains("except = [\"ada\"]"), "{details:?}");
    assert_eq!(details[1], None);
}

#[test]
fn settings_that_select_are_compared_with_those_of_the_last_apply() {
    let applied = settings();
    let memory = Memory { applied: Some(applied.selecting()), ..today() };
    let text = |filter: &str| Filter::parse(filter).unwrap();
    type Row<'a> = (&'a dyn Fn(&mut Settings), &'static str);
    let changes: [Row<'_>; 7] = [
        (&|_| {}, ""),
        (&|one| one.intakes.first.filter = text("(uid=*)"), "filter"),
        (&|one| one.intakes.first.active = None, "active"),
        (&|one| one.intakes.first.groups.push(dn("CN=A")), "groups"),
        (&|one| one.intakes.first.leaving.gone = LeavingAction::Keep.into(), "leaving"),
        (&|one| one.accounts.seats = None, ""),
        (&|one| one.brakes.settings_changed = false, ""),
    ];
    for (change, which) in changes {
        let mut settings = settings();
        change(&mut settings);
        let preview = Preview::of(Situation::new(&settings, &whole(&[], &[], &[]), &[], &memory));
        let brake = preview.brakes.iter().find(|brake| brake.kind == BrakeKind::SettingsChanged);
        assert_eq!(brake.map(|brake| brake.which.join(" ")).unwrap_or_default(), which);
        let first = Preview::of(Situation::new(&settings, &whole(&[], &[], &[]), &[], &today()));
        assert!(
            !first.brakes.iter().any(|brake| brake.kind == BrakeKind::SettingsChanged),
            "nothing was applied yet"
        );
    }
    let mut quiet = settings();
    (quiet.brakes.settings_changed, quiet.intakes.first.active) = (false, None);
    let preview = Preview::of(Situation::new(&quiet, &whole(&[], &[], &[]), &[], &memory));
    assert!(!preview.brakes.iter().any(|brake| brake.kind == BrakeKind::SettingsChanged), "switched off");
}
