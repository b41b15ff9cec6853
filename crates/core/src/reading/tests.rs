//! The proof of a whole reading, and what takes it away.

use super::*;

fn intake() -> Intake {
    let mut intake = Intake::for_tests();
    intake.bases = vec![Dn::parse("OU=People,DC=x").unwrap()];
    intake.groups = vec![Dn::parse("CN=Users,DC=x").unwrap()];
    intake.not_in_group = vec![Dn::parse("CN=Leavers,DC=x").unwrap()];
    intake
}

/// One of the three parts that the intake needs.
fn open(sweep: &mut Sweep, number: usize) -> PartId {
    match number {
        0 => sweep.open(Part::People { base: Dn::parse("OU=People,DC=x").unwrap() }),
        1 => sweep.open_group(&Dn::parse("CN=Users,DC=x").unwrap(), Purpose::Admit),
        _ => sweep.open_group(&Dn::parse("CN=Leavers,DC=x").unwrap(), Purpose::Exclude),
    }
}

#[test]
fn every_part_must_have_been_opened_and_completed() {
    for missing in 0..=3 {
        let mut sweep = Sweep::new(Source::default());
        for part in (0..3).filter(|part| *part != missing) {
            let id = open(&mut sweep, part);
            sweep.close(id, Ended::Complete);
        }
        let reading = sweep.finish(&intake());
        assert_eq!(reading.whole().is_some(), missing == 3, "without part {missing}");
        assert_eq!(reading.gaps().len(), usize::from(missing < 3));
        assert_eq!(reading.gaps().iter().any(|gap| gap.hides_excluded), missing == 2);
    }
}

#[test]
fn one_part_left_open_or_short_takes_the_proof_away() {
    for ending in [None, Some(Ended::Short("cut".to_owned()))] {
        for short in 0..3 {
            let mut sweep = Sweep::new(Source::default());
            for part in 0..3 {
                let id = open(&mut sweep, part);
                match &ending {
                    None if part == short => {}
                    Some(ended) if part == short => {
                        sweep.close(id, ended.clone());
                        sweep.close(id, Ended::Complete); // must not mend the first ending
                    }
                    _ => sweep.close(id, Ended::Complete),
                }
            }
            let reading = sweep.finish(&intake());
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
        let mut sweep = Sweep::new(Source::default());
        let id = sweep.open(Part::Lookup { people: vec![person.clone()] });
        sweep.close(id, ended);
        assert_eq!(sweep.finish(&intake()).whereabouts(&person), expected.as_ref());
    }
}

/// A group that both lets people in and keeps them out: whoever must stay out is hidden, whichever of the two was
/// not read.
#[test]
fn a_gap_that_is_told_once_hides_all_that_it_hides() {
    let users = Dn::parse("CN=Users,DC=x").unwrap();
    let mut both = intake();
    both.not_in_group = vec![users.clone()];
    let mut sweep = Sweep::new(Source::default());
    let base = open(&mut sweep, 0);
    sweep.close(base, Ended::Complete);
    let group = sweep.open_group(&users, Purpose::Admit);
    sweep.close(group, Ended::Short("cut".to_owned()));
    let reading = sweep.finish(&both);
    assert_eq!(reading.gaps().len(), 1, "{:?}", reading.gaps());
    assert!(reading.gaps()[0].hides_excluded);
}
