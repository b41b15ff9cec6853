use super::*;
use crate::settings::Throttle;
use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use std::time::Duration;

const LIMITS: Throttle = Throttle { tries: 3, from_one_source: 5, within: Duration::from_secs(900) };

fn at(seconds: i64) -> Timestamp {
    "2026-12-01T09:00:00Z".parse::<Timestamp>().unwrap() + SignedDuration::from_secs(seconds)
}

fn wrong(throttles: &mut Throttles, name: &str, source: &str, seconds: i64) -> bool {
    throttles.begin(name, &Source::new(source), at(seconds)).is_ok()
}

#[test]
fn a_name_has_a_length_and_no_control_characters() {
    for (text, expected) in [
        (" amoss ", Ok("amoss")),
        ("a*)(uid=*", Ok("a*)(uid=*")),
        ("", Err(NameFault::Empty)),
        ("  ", Err(NameFault::Empty)),
        (&"x".repeat(256), Ok(&*"x".repeat(256))),
        (&"é".repeat(256), Ok(&*"é".repeat(256))),
        (&"x".repeat(257), Err(NameFault::TooLong)),
        ("a\0", Err(NameFault::Control)),
        ("a\nb", Err(NameFault::Control)),
    ] {
        assert_eq!(
            SignInName::new(text).as_ref().map(SignInName::as_str),
            expected.as_ref().map(|one| *one),
            "{text:?}"
        );
    }
}

#[test]
fn the_third_wrong_password_is_the_last_for_a_while() {
    let mut throttles = Throttles::new(LIMITS);
    for second in 0..3 {
        assert!(wrong(&mut throttles, "amoss", "10.0.0.1", second));
    }
    let refused = throttles.begin("amoss", &Source::new("10.0.0.1"), at(3)).unwrap_err();
    assert!(!refused.is_source);
    // One of three runs down in a third of the time.
    assert!(refused.until > at(290) && refused.until <= at(301), "{refused:?}");
    assert!(!wrong(&mut throttles, "amoss", "10.0.0.1", 290));
    assert!(wrong(&mut throttles, "amoss", "10.0.0.1", 302));
}

#[test]
fn a_right_password_from_elsewhere_gets_in_during_an_attack() {
    let mut throttles = Throttles::new(LIMITS);
    for source in ["10.0.0.1", "10.0.0.2"] {
        for _ in 0..9 {
            wrong(&mut throttles, "amoss", source, 0);
        }
    }
    let home = Source::new("192.168.1.1");
    throttles.begin("amoss", &home, at(1)).unwrap();
    throttles.right("amoss", &home, at(1));
    assert!(!wrong(&mut throttles, "amoss", "10.0.0.1", 2), "the attacker is still refused");
    throttles.begin("amoss", &home, at(2)).unwrap();
}

#[test]
fn sources_together_send_no_more_than_one_does_and_one_each() {
    let mut throttles = Throttles::new(LIMITS);
    let sent = |throttles: &mut Throttles, source: &str| {
        (0..9).filter(|_| wrong(throttles, "amoss", source, 0)).count()
    };
    assert_eq!(sent(&mut throttles, "10.0.0.1"), 3);
    for source in ["10.0.0.2", "10.0.0.3", "10.0.0.4"] {
        assert_eq!(sent(&mut throttles, source), 1, "{source}");
    }
}

#[test]
fn a_source_that_tries_many_names_is_refused_and_nobody_else_is() {
    let mut throttles = Throttles::new(LIMITS);
    let sent =
        (0..20).filter(|number| wrong(&mut throttles, &format!("name{number}"), "10.0.0.1", 0)).count();
    assert_eq!(sent, 5);
    assert!(throttles.begin("other", &Source::new("10.0.0.1"), at(0)).unwrap_err().is_source);
    assert!(wrong(&mut throttles, "other", "10.0.0.2", 0));
}

#[test]
fn tries_that_the_directory_did_not_answer_do_not_count() {
    let mut throttles = Throttles::new(LIMITS);
    let source = Source::new("10.0.0.1");
    for _ in 0..50 {
        throttles.begin("amoss", &source, at(0)).unwrap();
        throttles.undecided("amoss", &source, at(0));
    }
}

#[test]
fn a_flood_of_names_and_sources_does_not_fill_the_memory() {
    let mut throttles = Throttles::new(LIMITS);
    for number in 0..140_000_u32 {
        let text = number.to_string();
        let _ = throttles.begin(&text, &Source::new(&text), at(0));
    }
    assert!(throttles.counted() <= 3 << 16);
}

#[test]
fn an_address_is_one_source_however_it_is_written() {
    for (one, other, is_same) in [
        ("2001:db8::1", "2001:db8:0:0::ffff", true),
        ("2001:db8::1", "2001:db8:0:1::1", false),
        ("::ffff:10.0.0.1", "10.0.0.1", true),
        (" Desk 4", "desk 4", true),
    ] {
        assert_eq!(Source::new(one) == Source::new(other), is_same, "{one} {other}");
    }
}

proptest! {
    /// However tries are spread over sources and time, a source sends no more for one name than the limit and what runs
    /// down meanwhile.
    #[test]
    fn a_source_never_sends_more_than_the_limit(steps in proptest::collection::vec((0_u8..3, 0_u8..3, 0_i64..200), 1..200)) {
        let mut throttles = Throttles::new(LIMITS);
        let (mut now, mut sent) = (0, std::collections::HashMap::new());
        for (name, source, pause) in steps {
            now += pause;
            if wrong(&mut throttles, &name.to_string(), &source.to_string(), now) {
                *sent.entry((name, source)).or_insert(0_i64) += 1;
            }
        }
        for count in sent.values() {
            prop_assert!(*count <= 3 + (now * 3) / 900 + 1);
        }
    }
}
