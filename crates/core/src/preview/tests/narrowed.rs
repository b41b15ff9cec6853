//! A part of a preview has the whole's figures.

use super::*;
use crate::preview::{Narrow, Sort};

#[test]
fn only_what_is_wanted_is_listed() {
    let mut settings = settings();
    settings.intakes.first.leaving.outside = LeavingAction::Keep.into();
    let people = [
        person("new"),
        Person { name: "Ada Married".into(), ..person("ada") },
        Person { off: true, ..person("off") },
        Person { out: true, ..person("out") },
    ];
    let accounts = ["ada", "off", "out", "gone"].map(account);
    let whole =
        || Preview::of(Situation::new(&settings, &whole(&people, &["gone"], &[]), &accounts, &today()));
    let kinds = |only: &[ChangeKind]| Narrow { only: only.to_vec(), ..Narrow::default() };
    let find = |text: &str| Narrow { find: text.into(), ..Narrow::default() };
    let sorted = |sort| Narrow { sort, ..Narrow::default() };
    for (narrow, expected, why) in [
        (Narrow::default(), "new ada off gone out", "everything"),
        (kinds(&[ChangeKind::Remove, ChangeKind::Import]), "new gone", "two kinds"),
        (Narrow { held: true, ..Narrow::default() }, "out", "only what was held back"),
        (Narrow { held: true, ..kinds(&[ChangeKind::Update]) }, "ada out", "a kind, and what was held back"),
        (find("MARRIED"), "ada", "a value"),
        (find("people outside"), "out", "every word"),
        (find("gone"), "gone", "a cause or a login"),
        (sorted(Sort::Place), "new ada off gone out", "by place within a kind"),
        (sorted(Sort::Cause), "new ada off gone out", "by cause within a kind"),
    ] {
        let mut preview = whole();
        preview.narrow(&narrow);
        let logins = preview.changes.iter().map(|change| &change.login);
        let logins: Vec<&str> =
            logins.chain(preview.held.iter().map(|held| &held.login)).map(String::as_str).collect();
        assert_eq!(logins.join(" "), expected, "{why}");
        assert_eq!((logins.len() + preview.left_out, preview.kinds.len()), (5, 4), "{why}");
        assert_eq!(preview.accounts, whole().accounts, "{why}");
    }
}
