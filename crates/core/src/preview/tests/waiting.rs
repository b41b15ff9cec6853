//! Days of grace: nothing is done before they are over, and nothing starts them without a whole reading.

use super::*;
use crate::settings::LeavingRule;
use jiff::civil::{Date, date};

fn with_days(action: LeavingAction, after_days: u32) -> Settings {
    let mut settings = settings();
    settings.intake.leaving.gone = LeavingRule { action, after_days };
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
        let preview = Preview::new(&with_days(action, days), &whole(&[], &["ada"], &[]), &[account], &memory);
        let until = preview.changes.first().and_then(|change| change.wait);
        let until = until.map(|wait| format!(" until {}", wait.grace.until)).unwrap_or_default();
        assert_eq!(words(&preview).join(", ") + &until, expected, "{why}");
        let waits = preview.of(ChangeKind::Wait).count();
        assert_eq!(preview.accounts.after, usize::from(!expected.starts_with("remove")), "{why}");
        assert_eq!(
            waits + preview.brakes.iter().filter(|brake| brake.name == "removals").count(),
            usize::from(!expected.is_empty()),
            "{why}: a wait is no removal"
        );
        let is_wrong = since.is_some_and(|since| since > today().today);
        assert_eq!(preview.brakes.iter().any(|brake| brake.name == "clock"), is_wrong, "{why}");
    }
}

#[test]
fn half_a_reading_starts_and_ends_no_days_of_grace() {
    for since in [date(2026, 11, 25), date(2026, 1, 1)] {
        let reading = read(&[], &["ada"], &[], [true, true, false]);
        let settings = with_days(LeavingAction::Remove, 14);
        let preview = Preview::new(&settings, &reading, &[account("ada")], &missed(&[("ada", since)]));
        assert_eq!(words(&preview), ["held ada NotWhole"]);
    }
}

#[test]
fn whoever_is_back_is_back() {
    let preview = Preview::new(
        &with_days(LeavingAction::Remove, 14),
        &whole(&[person("ada")], &[], &[]),
        &[account("ada")],
        &missed(&[("ada", date(2026, 1, 1))]),
    );
    assert_eq!((words(&preview).len(), preview.unchanged), (0, 1));
}
