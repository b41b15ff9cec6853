//! The story of one person says what the preview says of them.

use super::*;
use crate::preview::why::{Found, Subject, Verdict, Why, find};

fn tell(settings: &Settings, reading: &Reading, accounts: &[Account], found: Found) -> Why {
    let subject = Subject { person: found.person, stranger: None, account: found.account };
    Why::of(Situation::new(settings, reading, accounts, &today()), subject).unwrap()
}

#[test]
fn each_step_is_told_with_its_way_out() {
    let settings = settings();
    let people = [
        person("ada"),
        Person { off: true, ..person("off") },
        Person { out: true, off: true, ..person("out") },
        Person { mail: String::new(), ..person("half") },
    ];
    let accounts = [account("ada"), account("out"), account("gone"), by_hand("half"), by_hand("root")];
    let reading = whole(&people, &["gone"], &[]);
    for (text, against, outcome, why) in [
        ("ADA", "", "", "a login, whatever its case"),
        ("cn=ada, ou=People", "", "", "a name in full"),
        ("off@quillmere", "active", "", "a piece of a mail"),
        ("out", "not_in_group active", "suspend", "every step that keeps them out"),
        ("half", "complete", "", "a value is missing"),
        ("gone", "", "remove", "an account whose person is gone"),
        ("root", "", "", "a protected account"),
    ] {
        let found = find(Situation::new(&settings, &reading, &accounts, &today()), text);
        let [one] = found.as_slice() else { panic!("{why}: {found:?}") };
        let story = tell(&settings, &reading, &accounts, *one);
        let steps: Vec<&str> = story.against().map(|step| step.name).collect();
        assert_eq!(steps.join(" "), against, "{why}");
        assert_eq!(story.kind().map_or("", ChangeKind::name), outcome, "{why}");
        assert!(story.against().all(|step| !step.remedy.is_empty()), "{why}");
        assert_eq!(!story.untouched.is_empty(), ["half", "root"].contains(&text), "{why}");
    }
    assert_eq!(find(Situation::new(&settings, &reading, &accounts, &today()), "nobody"), []);
    assert_eq!(
        find(Situation::new(&settings, &reading, &accounts, &today()), "quillmere").len(),
        6,
        "several: none is guessed"
    );
}

#[test]
fn what_was_not_read_is_no_reason() {
    let mut settings = settings();
    settings.intakes.first.groups = vec![dn("CN=In")];
    let reading = whole(&[person("ada")], &[], &[]);
    let mut builder = ReadingBuilder::new(Source::default());
    builder.person("CN=ada,OU=People", [("cn", [b"ada".as_slice()])]).unwrap();
    let unread = builder.finish_shown(&Request::of(&settings.intakes.first));
    assert!(reading.whole().is_some() && unread.whole().is_none());
    let one = Found { person: Some((0, 0)), account: None };
    let step = |story: &Why| story.steps.iter().find(|step| step.name == "groups").unwrap().verdict;
    assert_eq!(step(&tell(&settings, &reading, &[], one)), Verdict::No);
    assert_eq!(step(&tell(&settings, &unread, &[], one)), Verdict::Unknown);
}

proptest! {
    /// For everybody, and every account, the story ends as the preview says.
    #[test]
    fn the_story_agrees_with_the_preview((people, accounts, adopt) in any_museum()) {
        let mut settings = settings();
        settings.intakes.first.adopt = if adopt { Adopt::same_login() } else { Adopt::Never };
        let reading = read_all(&people, &accounts);
        let preview = Preview::of(Situation::new(&settings, &reading, &accounts, &today()));
        let in_all = preview.intakes.first.funnel.last().map_or(0, |step| step.left);
        let linked = |id: &str| accounts.iter().position(|one| one.link == Identity::from_link(id));
        let mut selected = 0;
        for (at, one) in people.iter().enumerate() {
            let story = tell(&settings, &reading, &accounts, Found { person: Some((0, at)), account: linked(&one.id) });
            let name = format!("CN={},OU=People", one.id);
            let change = preview.changes.iter().find(|change| change.dn.as_deref() == Some(&name));
            prop_assert_eq!(story.change.as_ref(), change);
            prop_assert_eq!(story.held.as_ref(), preview.held.iter().find(|held| held.dn.as_deref() == Some(&name)));
            prop_assert_eq!(story.selected, story.against().next().is_none());
            selected += usize::from(story.selected);
        }
        prop_assert_eq!(selected, in_all);
        for (at, one) in accounts.iter().enumerate() {
            let has_person = people.iter().any(|person| one.link == Identity::from_link(&person.id));
            if !has_person {
                let story = tell(&settings, &reading, &accounts, Found { person: None, account: Some(at) });
                let change = preview.changes.iter().find(|change| change.dn.is_none() && change.login == one.login);
                prop_assert_eq!(story.change.as_ref(), change);
            }
        }
    }
}
