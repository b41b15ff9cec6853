//! A snapshot reads back as what was written; what is cut or foreign is not whole; a mask keeps
//! structure and outcome, and nothing else.

use super::*;
use crate::ldap::filter::Matcher;
use crate::ldap::schema::Schema;
use crate::reading::{Ended, Part, ReadingBuilder, Source};
use crate::settings::{GroupPurpose, Intake};
use proptest::prelude::*;

const ADA: &str = "CN=Ibbotson\\, Ada,OU=People,DC=x";

fn dn(text: &str) -> Dn {
    Dn::parse(text).unwrap()
}

fn intake() -> Intake {
    let mut intake = Intake::for_tests();
    intake.bases = vec![dn("OU=People,DC=x")];
    intake.filter = Filter::parse("(&(objectClass=person)(department=Botany)(mail=*))").unwrap();
    intake.groups = vec![dn("CN=Users,DC=x")];
    intake
}

fn reading(intake: &Intake) -> Reading {
    let mut builder = ReadingBuilder::new(Source {
        directory: "museum".to_owned(),
        identity: "entryUUID".to_owned(),
        tops: vec![dn("DC=x")],
        ..Source::default()
    });
    let part = builder.open(Part::People { base: dn("OU=People,DC=x") });
    for (name, uuid) in [
        (ADA, "5fad6505-1296-539b-b8e3-4ec69cea5357"),
        ("CN=Li,OU=People,DC=x", "1d0918b3-8d90-5b15-9df6-0ca356575ccb"),
    ] {
        let values = [
            ("objectClass", vec![&b"person"[..]]),
            ("department", vec![b"botany"]),
            ("cn", vec![b"Ibbotson, Ada"]),
            ("mail", vec![b"Ada@quillmere.example"]),
            ("telephoneNumber", vec![b"+44 1632 960000"]),
            ("manager", vec![ADA.as_bytes()]),
            ("memberOf", vec![b"CN=Users,DC=x"]),
            ("info", vec![b" "]),
            ("jpegPhoto", vec![&[0xff, 0xd8, 0x00]]),
            ("entryUUID", vec![uuid.as_bytes()]),
        ];
        builder.person(name, values).unwrap();
    }
    builder.close(part, Ended::Complete);
    let users = dn("CN=Users,DC=x");
    let group = builder.open_group(&users, GroupPurpose::Admit);
    let members = [ADA, "CN=Gone,DC=x"].map(|name| (dn(name).key(), name));
    builder.graph_mut().add_group(users.key(), "CN=Users,DC=x", members);
    builder.close(group, Ended::Complete);
    let person = |text: &str| Identity::from_link(text).unwrap();
    let lookup = builder.open(Part::Lookup { people: vec![person("gone"), person("moved")] });
    builder.found(person("moved"), "CN=Moved,OU=Leavers,DC=x", [("mail", [&b"m@x"[..]])]).unwrap();
    builder.close(lookup, Ended::Complete);
    builder.finish_shown(&Request::of(intake))
}

fn snapshot(mask: Option<&Mask>) -> Snapshot {
    let intake = intake();
    let reading = reading(&intake);
    let taken = "2026-11-25T09:15:00Z".parse().unwrap();
    let header = Header::new(&reading, &Request::of(&intake), taken);
    Snapshot::new(header, &reading, mask)
}

#[test]
fn what_is_written_is_read_back() {
    let written = snapshot(None);
    let text = written.write();
    let read = Snapshot::read(text.as_bytes()).unwrap();
    assert_eq!(read.header, written.header, "{text}");
    assert!(read.header.whole && read.missing(&Request::of(&intake())).is_empty());
    assert_eq!((read.header.absent.len(), read.header.elsewhere.len()), (1, 1));
    let names: Vec<&str> = read.entries.iter().map(crate::ldap::entry::Entry::dn).collect();
    assert_eq!(names, [ADA, "CN=Li,OU=People,DC=x", "CN=Moved,OU=Leavers,DC=x", "CN=Users,DC=x"]);
    assert_eq!(read.write(), text);
    let crlf = Snapshot::read(text.replace('\n', "\r\n").as_bytes()).unwrap();
    assert!(crlf.header.whole, "line ends of another system");
}

#[test]
fn what_is_cut_foreign_or_read_otherwise_is_not_whole() {
    let text = snapshot(None).write();
    for (at, _) in text.match_indices('\n').take(text.lines().count() - 1) {
        if let Ok(cut) = Snapshot::read(&text.as_bytes()[..at]) {
            assert!(!cut.missing(&Request::of(&intake())).is_empty(), "cut at {at}");
        }
    }
    let foreign = Snapshot::read(b"dn: CN=a,DC=x\ncn: a\n").unwrap();
    assert!(foreign.missing(&Request::of(&intake()))[0].contains("does not say"));
    let said_no = text.replace("# whole: yes", "# whole: no");
    assert!(!Snapshot::read(said_no.as_bytes()).unwrap().missing(&Request::of(&intake())).is_empty());
    let read = Snapshot::read(text.as_bytes()).unwrap();
    type Change = fn(&mut Intake);
    let changes: [(&str, Change); 5] = [
        ("another filter", |intake| intake.filter = Filter::present("cn")),
        ("was not read", |intake| intake.bases.push(dn("OU=Leavers,DC=x"))),
        ("the nest of", |intake| intake.groups.push(dn("CN=Others,DC=x"))),
        ("the nest of", |intake| intake.not_in_group.push(dn("CN=Others,DC=x"))),
        ("other bases", |intake| intake.group_bases.push(dn("OU=Groups,DC=x"))),
    ];
    for (reason, change) in changes {
        let mut other = intake();
        change(&mut other);
        let missing = read.missing(&Request::of(&other));
        assert!(missing.len() == 1 && missing[0].contains(reason), "{reason}: {missing:?}");
    }
}

#[test]
fn a_mask_hides_people_and_keeps_structure_and_outcome() {
    let filters = [intake().filter];
    let mask = Mask::new([7; 16], &filters);
    let (open, masked) = (snapshot(None), snapshot(Some(&mask)));
    let text = masked.write();
    for secret in ["Ibbotson", "Ada", "quillmere", "960000", "5fad6505", "Gone", "Moved"] {
        assert!(!text.contains(secret), "{secret}: {text}");
    }
    assert!(text.contains("OU=People,DC=x") && text.contains("dn: CN=Users,DC=x"), "{text}");
    let count = |snapshot: &Snapshot| {
        let matcher = Matcher::new(&filters[0], Schema::builtin(), snapshot.entries.names());
        snapshot.entries.iter().filter(|entry| matcher.matches(*entry)).count()
    };
    assert_eq!((count(&open), count(&masked)), (2, 2));
    let first = masked.entries.get(0).unwrap();
    let group = masked.entries.get(2).unwrap();
    assert!(
        group.values("member").any(|member| member == first.dn().as_bytes()),
        "who is in the group stays in it"
    );
    assert_eq!(first.text("manager"), Some(first.dn()));
    assert_eq!((first.text("memberOf"), first.text("department")), (Some("CN=Users,DC=x"), Some("botany")));
    assert_eq!(first.values("info").next(), Some(&b" "[..]), "a blank stays blank");
    assert_eq!(
        masked.header.unmasked.as_deref(),
        Some(&["department", "objectclass"].map(str::to_owned)[..])
    );
    let read = Snapshot::read(text.as_bytes()).unwrap();
    assert_eq!(read.header, masked.header);
    let other = snapshot(Some(&Mask::new([8; 16], &filters))).write();
    assert_ne!(other, text, "another key, other values");
    assert_eq!(snapshot(Some(&mask)).write(), text, "the same key, the same values");
}

proptest! {
    /// Equal values stay equal, different ones different, letters' case aside.
    #[test]
    fn masked_values_are_as_unique_as_they_were(left in "[a-zA-Z@ä]{1,12}", right in "[a-zA-Z@ä]{1,12}") {
        let mask = Mask::new([1; 16], &[]);
        let masked = |text: &str| {
            String::from_utf8(mask.value("cn", text.as_bytes(), &|_| false)).unwrap().to_lowercase()
        };
        let same = left.to_lowercase() == right.to_lowercase();
        prop_assert_eq!(masked(&left) == masked(&right), same);
    }

    /// Anything may stand in a file.
    #[test]
    fn any_text_is_read_or_refused(text in "(# webtaxon.snapshot/1\n)?(# [a-z]{1,9}: [a-zA-Z=,() ]{0,9}\n){0,4}\n?(dn: cn=[a-z]{1,3}\n\n){0,3}(# end of the snapshot)?") {
        let _ = Snapshot::read(text.as_bytes());
    }
}
