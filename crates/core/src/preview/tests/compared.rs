//! Two settings over one reading: what differs is told once, and in both directions.

use super::*;
use crate::preview::compare::Comparison;

fn compared(now: &Settings, then: &Settings, reading: &Reading, accounts: &[Account]) -> Comparison {
    let today = today();
    let readings = std::slice::from_ref(reading);
    let side =
        |settings| Situation { settings, readings, accounts, memory: &today, groups: None, replies: None };
    Comparison::of(side(now), side(then))
}

/// Other settings: nobody is kept out by a group, names come from the login, and everybody has a role.
fn others() -> Settings {
    let mut settings = settings();
    settings.intakes.first.not_in_group.clear();
    settings.intakes.first.fields["name"] = crate::settings::rules::FieldRule::from(&["uid"]);
    settings
        .intakes
        .first
        .roles
        .push(crate::settings::rules::RoleRule { name: "reader".into(), ..Default::default() });
    settings
}

#[test]
fn who_comes_who_goes_and_who_is_something_else() {
    let people = [
        person("ada"),
        Person { out: true, ..person("out") },
        Person { out: true, off: true, ..person("off") },
    ];
    let accounts = [account("ada"), account("out")];
    let reading = whole(&people, &[], &[]);
    let comparison = compared(&settings(), &others(), &reading, &accounts);
    assert_eq!(comparison.people, (1, 2));
    let [out] = &comparison.come_in[..] else { panic!("{:?}", comparison.come_in) };
    assert_eq!((out.login.as_str(), out.why.as_str()), ("out", "in an excluding group"));
    let [ada] = &comparison.differ[..] else { panic!("{:?}", comparison.differ) };
    assert_eq!(ada.fields.keys().collect::<Vec<_>>(), ["roles"], "the name is the login anyway");
    let fates: Vec<_> =
        comparison.fates.iter().map(|fate| (fate.login.as_str(), fate.now, fate.then)).collect();
    let (suspend, update) = (Some(ChangeKind::Suspend), Some(ChangeKind::Update));
    assert_eq!(fates, [("ada", None, update), ("out", suspend, update)]);
    let back = compared(&others(), &settings(), &reading, &accounts);
    assert_eq!(back.go_out.len(), 1);
}

#[test]
fn a_filter_is_judged_by_what_the_entry_has() {
    let mut strict = settings();
    strict.intakes.first.filter =
        crate::ldap::filter::Filter::parse("(&(objectClass=person)(!(cn=ben)))").unwrap();
    let both = [person("ada"), person("ben")];
    let (all, fewer) = (whole(&both, &[], &[]), whole(&both[..1], &[], &["ben"]));
    let (loose, accounts) = (settings(), []);
    let today = today();
    let side = |settings, reading| {
        let readings = std::slice::from_ref(reading);
        Situation { settings, readings, accounts: &accounts, memory: &today, groups: None, replies: None }
    };
    let comparison = Comparison::of(side(&loose, &all), side(&strict, &fewer));
    assert_eq!(comparison.go_out.len(), 1);
    assert!(comparison.go_out[0].why.starts_with("not matched by the filter"), "{:?}", comparison.go_out);
    let mut elsewhere = strict.clone();
    elsewhere.intakes.first.bases = vec![dn("OU=Elsewhere")];
    let comparison = Comparison::of(side(&loose, &all), side(&elsewhere, &fewer));
    assert_eq!(comparison.go_out[0].why, "under none of the bases");
}

proptest! {
    /// The same settings make no difference, and other ones the same in both directions.
    #[test]
    fn a_comparison_is_its_own_mirror((people, accounts, _) in any_museum()) {
        let (one, two) = (settings(), others());
        let reading = read_all(&people, &accounts);
        prop_assert!(compared(&one, &one, &reading, &accounts).is_same());
        let (there, back) = (compared(&one, &two, &reading, &accounts), compared(&two, &one, &reading, &accounts));
        let names = |list: &[crate::preview::compare::Moved]| list.iter().map(|one| one.dn.clone()).collect::<Vec<_>>();
        prop_assert_eq!(names(&there.come_in), names(&back.go_out));
        prop_assert_eq!(names(&there.go_out), names(&back.come_in));
        prop_assert_eq!(there.people.0 + there.come_in.len(), there.people.1 + there.go_out.len());
        prop_assert_eq!(there.differ.len(), back.differ.len());
        prop_assert_eq!(there.fates.len(), back.fates.len());
    }
}
