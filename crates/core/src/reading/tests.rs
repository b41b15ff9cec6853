//! The proof of a whole reading, and what takes it away.

use super::*;
use crate::settings::{GroupPurpose, Intake, Settings};

fn intake() -> Intake {
    let mut intake = Intake::for_tests();
    intake.bases = vec![Dn::parse("OU=People,DC=x").unwrap()];
    intake.groups = vec![Dn::parse("CN=Users,DC=x").unwrap()];
    intake.not_in_group = vec![Dn::parse("CN=Leavers,DC=x").unwrap()];
    intake
}

/// One of the three parts that the intake needs.
fn open(builder: &mut ReadingBuilder, number: usize) -> PartId {
    match number {
        0 => builder.open(Part::People { base: Dn::parse("OU=People,DC=x").unwrap() }),
        1 => builder.open_group(&Dn::parse("CN=Users,DC=x").unwrap(), GroupPurpose::Admit),
        _ => builder.open_group(&Dn::parse("CN=Leavers,DC=x").unwrap(), GroupPurpose::Exclude),
    }
}

#[test]
fn every_part_must_have_been_opened_and_completed() {
    for missing in 0..=3 {
        let mut builder = ReadingBuilder::new(Source::default());
        for part in (0..3).filter(|part| *part != missing) {
            let id = open(&mut builder, part);
            builder.close(id, Ended::Complete);
        }
        let reading = builder.finish_shown(&Request::of(&intake()));
        assert_eq!(reading.whole().is_some(), missing == 3, "without part {missing}");
        assert_eq!(reading.gaps().len(), usize::from(missing < 3));
        assert_eq!(reading.gaps().iter().any(|gap| gap.hides_excluded), missing == 2);
    }
}

#[test]
fn one_part_left_open_or_short_takes_the_proof_away() {
    for ending in [None, Some(Ended::Short("cut".to_owned()))] {
        for short in 0..3 {
            let mut builder = ReadingBuilder::new(Source::default());
            for part in 0..3 {
                let id = open(&mut builder, part);
                match &ending {
                    None if part == short => {}
                    Some(ended) if part == short => {
                        builder.close(id, ended.clone());
                        builder.close(id, Ended::Complete); // must not mend the first ending
                    }
                    _ => builder.close(id, Ended::Complete),
                }
            }
            let reading = builder.finish_shown(&Request::of(&intake()));
            assert!(reading.whole().is_none(), "part {short}");
            assert_eq!(reading.gaps().len(), 1);
        }
    }
}

#[test]
fn nobody_is_gone_unless_the_lookup_ended_well() {
    let person = Identity::from_link("p").unwrap();
    for (ended, expected) in
        [(Ended::Complete, Some(Whereabouts::Nowhere)), (Ended::Short("time limit".to_owned()), None)]
    {
        let mut builder = ReadingBuilder::new(Source::default());
        let id = builder.open(Part::Lookup { people: vec![person.clone()] });
        builder.close(id, ended);
        assert_eq!(builder.finish_shown(&Request::of(&intake())).whereabouts(&person), expected.as_ref());
    }
}

/// A group that both lets people in and keeps them out: whoever must stay out is hidden, whichever of the two was
/// not read.
#[test]
fn a_gap_that_is_told_once_hides_all_that_it_hides() {
    let users = Dn::parse("CN=Users,DC=x").unwrap();
    let mut both = intake();
    both.not_in_group = vec![users.clone()];
    let mut builder = ReadingBuilder::new(Source::default());
    let base = open(&mut builder, 0);
    builder.close(base, Ended::Complete);
    let group = builder.open_group(&users, GroupPurpose::Admit);
    builder.close(group, Ended::Short("cut".to_owned()));
    let reading = builder.finish_shown(&Request::of(&both));
    assert_eq!(reading.gaps().len(), 1, "{:?}", reading.gaps());
    assert!(reading.gaps()[0].hides_excluded);
}

/// Whatever one of two requests reads, both together read, on either kind of server.
#[test]
fn a_union_of_requests_reads_what_each_does() {
    let settings = |more: &str| {
        let text = format!(
            "[directory.museum]\nservers = [\"ldaps://localhost\"]\n[accounts]\nstore = \"csv\"\npath = \"a.csv\"\n\
             [[intake]]\nname = \"staff\"\ndirectory = \"museum\"\n{more}\n\
             [intake.fields]\nlogin = {{ from = \"uid\" }}\nchief = {{ from = \"manager\", follow = \"login\" }}\n"
        );
        Settings::parse("", text.as_bytes()).unwrap_or_else(|error| panic!("{error}: {text}"))
    };
    let requests: Vec<Request> = [
        "bases = [\"OU=A,DC=x\"]\nfilter = \"(cn=*)\"\ngroups = [\"CN=G,DC=x\"]",
        "bases = [\"OU=B,DC=x\"]\nfilter = \"(sn=*)\"\nnot_in_group = [\"CN=H,DC=x\"]\nactive = \"(state=on)\"",
        "bases = [\"ou=a, dc=X\"]\nfilter = \"(cn=*)\"\nidentity = \"employeeNumber\"\ngroup_bases = [\"OU=C,DC=x\"]",
    ]
    .map(|more| Request::of(&settings(more).intakes.first))
    .into();
    for (one, other) in requests.iter().flat_map(|one| requests.iter().map(move |other| (one, other))) {
        let both = one.clone().union(other);
        for part in [one, other] {
            for kind in [ServerKind::Plain, ServerKind::Controller] {
                let (all, its) = (both.attributes(kind), part.attributes(kind));
                let is_in = |name: &String| all.contains(name) || part.identity != both.identity;
                assert!(its.iter().all(is_in), "{its:?} in {all:?}");
            }
            assert!(part.bases.iter().all(|base| both.bases.iter().any(|one| one.key() == base.key())));
            assert!(part.groups().all(|group| both.groups().any(|one| one.key() == group.key())));
            assert!(
                part.group_bases.is_empty() <= both.group_bases.is_empty(),
                "everywhere stays everywhere"
            );
            assert!(part.tested().all(|name| both.tested().any(|one| one == name)));
            assert!(part.filter == both.filter || both.filter.to_string().contains(&part.filter.to_string()));
        }
        assert_eq!(
            both.bases.len(),
            both.bases.iter().map(Dn::key).collect::<std::collections::HashSet<_>>().len()
        );
    }
}

/// People as they are by now take the place of what was read, and are members under every name that they had, unless
/// somebody else has it now.
#[test]
fn people_are_joined_with_groups_under_every_name_that_nobody_else_has() {
    let entry = |id: &str, name: &str| (format!("CN={name},OU=People"), id.to_owned());
    for (now, members, is_member) in [
        // Unchanged, renamed, renamed with the list already changed.
        (vec![entry("a", "a")], "CN=a,OU=People", [true, false]),
        (vec![entry("a", "x")], "CN=a,OU=People", [true, false]),
        (vec![entry("a", "x")], "CN=x,OU=People", [true, false]),
        // Two who swap names, and one who takes another's: the name is its present holder's.
        (vec![entry("a", "b"), entry("b", "a")], "CN=a,OU=People", [false, true]),
        (vec![entry("a", "b"), entry("b", "a")], "CN=b,OU=People", [true, false]),
        (vec![entry("a", "x"), entry("b", "a")], "CN=a,OU=People", [false, true]),
        (vec![entry("a", "x"), entry("b", "a")], "CN=x,OU=People", [true, false]),
    ] {
        let mut builder = ReadingBuilder::new(Source { identity: "entryUUID".into(), ..Source::default() });
        for (dn, id) in [entry("a", "a"), entry("b", "b")] {
            builder.person(&dn, [("entryUUID", [id.as_bytes()])]).unwrap();
        }
        let mut found = Entries::new();
        for (dn, id) in &now {
            found.push(dn, [("entryUUID", [id.as_bytes()])]);
        }
        let again = builder.again(&found, "entryUUID", &[]);
        let renamed = now.iter().filter(|(dn, id)| *dn != format!("CN={id},OU=People")).count();
        assert_eq!((again.changed, again.more, again.joins_anew()), (renamed, 0, renamed > 0), "{now:?}");
        let group = Dn::parse("CN=Users").unwrap();
        let member = Dn::parse(members).unwrap();
        builder.graph_mut().add_group(group.key(), "CN=Users", [(member.key(), members)]);
        let reading = builder.finish(&Request::of(&Intake::for_tests()));
        assert_eq!(reading.people().len(), 2);
        let reach = reading.graph().reach([&group.key()]);
        for (id, wanted) in ["a", "b"].into_iter().zip(is_member) {
            let is_theirs = |person: &usize| {
                Identity::of(reading.people().get(*person).unwrap(), "entryUUID") == Identity::from_link(id)
            };
            let person = (0..2).find(is_theirs).unwrap();
            let key = reading.key(person).unwrap();
            assert_eq!(reach.contains(reading.graph(), key), wanted, "{id}: {now:?}, {members}");
            assert_eq!(reading.index_of(key), Some(person));
        }
    }
}
