//! RFC 2849's forms and examples, and each way in which a file can be wrong.

use super::*;
use proptest::prelude::*;

fn all(text: &[u8]) -> Vec<Record<'_>> {
    records(text).map(|record| record.unwrap_or_else(|error| panic!("{error}"))).collect()
}

fn attributes<'r>(record: &'r Record<'_>) -> Vec<(&'r str, &'r [u8])> {
    record.attributes.iter().map(|(name, value)| (&**name, &**value)).collect()
}

#[test]
fn every_form_of_a_line_is_read() {
    let text = b"\xef\xbb\xbfversion: 1\r\n# a comment\r\n#  that goes\r\n  on\r\ndn: cn=Barbara Jensen, ou=Product\r\n \
Development, dc=airius, dc=com\r\nobjectclass: top\r\ncn:: QmFyYmFyYSBKZW5zZW4=\r\ndescription:Babs is a big \r\n \
sailing fan\r\ncn;lang-ja::5bCP56yg5Y6f\r\nempty:\r\n\r\n\r\ndn:: Y249w6Q=\r\nsn: x";
    let read = all(text);
    assert_eq!(read.len(), 2);
    assert_eq!(
        (read[0].line, &*read[0].dn),
        (5, "cn=Barbara Jensen, ou=ProductDevelopment, dc=airius, dc=com")
    );
    let expected: Vec<(&str, &[u8])> = vec![
        ("objectclass", b"top"),
        ("cn", b"Barbara Jensen"),
        ("description", b"Babs is a big sailing fan"),
        ("cn;lang-ja", "小笠原".as_bytes()),
        ("empty", b""),
    ];
    assert_eq!(attributes(&read[0]), expected);
    assert_eq!((&*read[1].dn, read[1].attributes.len()), ("cn=ä", 1));
}

/// RFC 2849's examples 6 and 7, put together: every kind of change.
const CHANGES: &str = "version: 1
# Add a new entry
dn: cn=Fiona Jensen, ou=Marketing, dc=airius, dc=com
changetype: add
objectclass: top
objectclass: person
cn: Fiona Jensen
sn: Jensen

# Delete an existing entry
dn: cn=Robert Jensen, ou=Marketing, dc=airius, dc=com
changetype: delete

# Modify an entry's relative distinguished name
dn: cn=Paul Jensen, ou=Product Development, dc=airius, dc=com
changetype: modrdn
newrdn: cn=Paula Jensen
deleteoldrdn: 1

# Rename an entry and move all of its children to a new location
dn: ou=PD Accountants, ou=Product Development, dc=airius, dc=com
changetype: modrdn
newrdn: ou=Product Development Accountants
deleteoldrdn: 0
newsuperior: ou=Accounting, dc=airius, dc=com

# Modify an entry
dn: cn=Paula Jensen, ou=Product Development, dc=airius, dc=com
changetype: modify
add: postaladdress
postaladdress: 123 Anystreet $ Sunnyvale, CA $ 94086
-
delete: description
-
replace: telephonenumber
telephonenumber: +1 408 555 1234
telephonenumber: +1 408 555 5678
-
delete: facsimiletelephonenumber
facsimiletelephonenumber: +1 408 555 9876
-

# Delete an entry, with a control
dn: ou=Product Development, dc=airius, dc=com
control: 1.2.840.113556.1.4.805 true
changetype: delete
";

#[test]
fn the_standards_changes_are_read() {
    let read = all(CHANGES.as_bytes());
    let kinds: Vec<&str> = read
        .iter()
        .map(|record| match &record.change {
            Some(Change::Add) => "add",
            Some(Change::Delete) => "delete",
            Some(Change::Modify(_)) => "modify",
            Some(Change::Rename { .. }) => "rename",
            None => "entry",
        })
        .collect();
    assert_eq!(kinds, ["add", "delete", "rename", "rename", "modify", "delete"]);
    assert_eq!(read[0].attributes.len(), 4);
    let moved = Change::Rename {
        new_rdn: "ou=Product Development Accountants".into(),
        delete_old: false,
        new_superior: Some("ou=Accounting, dc=airius, dc=com".into()),
    };
    assert_eq!(read[3].change, Some(moved));
    let Some(Change::Modify(list)) = &read[4].change else { panic!("{:?}", read[4]) };
    let told: Vec<(Operation, &str, usize)> =
        list.iter().map(|one| (one.operation, &*one.attribute, one.values.len())).collect();
    use Operation::{Add, Delete, Replace};
    let expected = [
        (Add, "postaladdress", 1),
        (Delete, "description", 0),
        (Replace, "telephonenumber", 2),
        (Delete, "facsimiletelephonenumber", 1),
    ];
    assert_eq!(told, expected);
    let control = Control { oid: "1.2.840.113556.1.4.805".to_owned(), critical: true, value: None };
    assert_eq!(read[5].controls, [control]);
}

#[test]
fn changes_are_made_in_the_order_of_the_file() {
    let before = entries(
        b"dn: ou=A,dc=x\nou: A\n\ndn: cn=Ada,ou=A,dc=x\ncn: Ada\nmail: a@x\nmail: b@x\n\ndn: cn=Gus,ou=A,dc=x\ncn: Gus\n",
    )
    .unwrap();
    let text = b"dn: cn=ada,OU=A,dc=x\nchangetype: modify\ndelete: Mail\nmail: a@x\n-\nadd: title\ntitle: Curator\n-\nreplace: sn\nsn: Old\n-\nreplace: sn\nsn: New\n-\n
dn: cn=Ada,ou=A,dc=x\nchangetype: moddn\nnewrdn: cn=Ada Lovage\ndeleteoldrdn: 1\n
dn: cn=Gus,ou=A,dc=x\nchangetype: delete\n
dn: ou=B,dc=x\nchangetype: add\nou: B\n
dn: ou=A,dc=x\nchangetype: modrdn\nnewrdn: ou=C\ndeleteoldrdn: 0\nnewsuperior: ou=B,dc=x\n";
    let after = changed(&before, text).unwrap();
    let mut shown = String::new();
    for entry in after.iter() {
        write_record(&mut shown, entry.dn(), entry.attributes());
    }
    assert_eq!(
        shown,
        "dn: ou=C,ou=B,dc=x\nou: A\nou: C\n\ndn: cn=Ada Lovage,ou=C,ou=B,dc=x\ncn: Ada Lovage\nmail: b@x\ntitle: Curator\nsn: New\n\ndn: ou=B,dc=x\nou: B\n\n"
    );
    for (text, line, why) in [
        ("dn: cn=Nobody,dc=x\nchangetype: delete\n", 1, "nobody of this name"),
        ("\ndn: cn=Gus,ou=A,dc=x\nchangetype: add\ncn: Gus\n", 2, "there already"),
        (
            "dn: cn=Gus,ou=A,dc=x\nchangetype: modrdn\nnewrdn: cn=Ada\ndeleteoldrdn: 1\n",
            1,
            "the name is taken",
        ),
    ] {
        let error = changed(&before, text.as_bytes()).expect_err(why);
        assert_eq!((error.kind(), error.line()), (LdifErrorKind::NoEntry, line), "{why}");
    }
}

#[test]
fn each_fault_is_told_with_its_line() {
    use LdifErrorKind as Kind;
    let change = |rest: &str| format!("dn: cn=a\nchangetype: {rest}\n");
    for (text, kind, line, why) in [
        ("dn: cn=a\ncn a\n".to_owned(), Kind::NoColon, 2, "no colon"),
        ("dn: cn=a\nc n: a\n".to_owned(), Kind::BadAttribute, 2, "a blank in the name"),
        ("cn: a\n".to_owned(), Kind::NoDn, 1, "no dn"),
        ("dn: cn=a\ncn: a\ndn: cn=b\n".to_owned(), Kind::NoBlankLine, 3, "no empty line"),
        ("\n\ndn: a\n".to_owned(), Kind::BadName, 3, "not a name"),
        ("dn: cn=a\n\ndn: CN=A\n".to_owned(), Kind::Twice, 3, "one name twice"),
        ("dn: cn=a\ncn:: &&\n".to_owned(), Kind::BadBase64, 2, "no base64"),
        ("dn: cn=a\nphoto:< file:///etc/passwd\n".to_owned(), Kind::Url, 2, "a URL"),
        (change("delete"), Kind::Change, 1, "a change record"),
        ("version: 2\ndn: cn=a\n".to_owned(), Kind::Version, 1, "another version"),
        (change("destroy"), Kind::BadChange, 2, "no kind of change"),
        (change("delete\ncn: a"), Kind::NothingMore, 3, "lines behind a deletion"),
        (change("modify\nmove: cn"), Kind::BadOperation, 3, "no modification"),
        (change("modify\nadd: cn\ncn: b\n"), Kind::NoDash, 5, "no dash"),
        (change("modify\nadd: cn\nsn: b\n-"), Kind::OtherAttribute, 4, "another attribute"),
        (change("modrdn\nnewrdn: cn=b"), Kind::BadRename, 2, "a line too few"),
        (change("modrdn\nnewrdn: cn=b\ndeleteoldrdn: yes"), Kind::BadRename, 4, "neither 0 nor 1"),
        ("dn: cn=a\ncn: a\nchangetype: add\n".to_owned(), Kind::LateChange, 3, "behind an attribute"),
        ("dn: cn=a\ncontrol: 1.2.3\ncn: a\n".to_owned(), Kind::NoChange, 1, "a control of no change"),
        ("dn: cn=a\ncontrol: x y\nchangetype: delete\n".to_owned(), Kind::BadControl, 2, "no control"),
    ] {
        let error = entries(text.as_bytes()).expect_err(why);
        assert_eq!((error.kind(), error.line()), (kind, line), "{why}");
        // What is wrong with one record is no fault of the next.
        let more = format!("{text}\n\ndn: cn=next\ncn: next\n");
        let last = records(more.as_bytes()).last().unwrap().unwrap();
        assert_eq!(last.dn, "cn=next", "{why}");
    }
    assert_eq!(entries(b"dn: cn=\xff\n").unwrap_err().kind(), Kind::NotUtf8);
}

/// What a stream gives of a text that comes in pieces of so many bytes.
fn streamed(text: &[u8], piece: usize, longest: usize) -> Vec<Result<(usize, String, usize), LdifError>> {
    let mut given = Vec::new();
    let mut keep = |record: Result<Record<'_>, LdifError>| {
        given.push(record.map(|one| (one.line, one.dn.into_owned(), one.attributes.len())));
    };
    let mut stream = Stream::within(longest);
    text.chunks(piece).for_each(|piece| stream.push(piece, &mut keep));
    stream.end(&mut keep);
    given
}

#[test]
fn a_record_ends_at_its_empty_line_whatever_the_last_one_had() {
    // The first name of the first record is folded, so that it is not expected again.
    let text = b"dn: cn=a\nc\n n: a\ncn: b\n\ndn: cn=b\n\n: x\n\ndn: cn=c\n";
    let expected = [
        Ok((1, "cn=a".to_owned(), 2)),
        Ok((6, "cn=b".to_owned(), 0)),
        Err(LdifErrorKind::BadAttribute.at(8)),
        Ok((10, "cn=c".to_owned(), 0)),
    ];
    assert_eq!(streamed(text, 100, LONGEST), expected);
    assert_eq!(streamed(text, 3, LONGEST), expected);
}

#[test]
fn a_record_that_is_too_long_is_told_and_passed_over() {
    let long = format!(
        "dn: cn=a\ncn: a\n\ndn: cn=b\ncn: {}\n{}\ndn: cn=c\ncn: c\n",
        "x".repeat(5000),
        " y\n".repeat(100)
    );
    for piece in [1, 7, 64, 4000] {
        let given = streamed(long.as_bytes(), piece, 4100);
        assert_eq!(given[0], Ok((1, "cn=a".to_owned(), 1)), "{piece}");
        assert_eq!(given[1].as_ref().unwrap_err().kind(), LdifErrorKind::TooLong, "{piece}");
        assert_eq!(given[2], Ok((107, "cn=c".to_owned(), 1)), "{piece}: lines are counted on");
        assert_eq!(given.len(), 3, "{piece}");
    }
}

#[test]
fn a_line_that_never_ends_takes_no_memory() {
    let mut stream = Stream::within(1 << 16);
    let mut told = Vec::new();
    stream.push(b"dn: cn=a\ncn: ", |_| {});
    for _ in 0..16_384 {
        stream.push(&[b'x'; 65_536], |record| told.push(record.map(|_| ()).unwrap_err().kind()));
        assert!(stream.held() < 1 << 19, "{}", stream.held());
    }
    stream.end(|record| told.push(record.map(|_| ()).unwrap_err().kind()));
    assert_eq!(told[0], LdifErrorKind::TooLong, "after 1 GiB");
    assert!(told.len() <= 2, "{told:?}");
}

proptest! {
    /// Any bytes: records or faults, no panic; in pieces they give what they give at once.
    #[test]
    fn any_bytes_are_read_or_refused(
        text in proptest::collection::vec(prop_oneof![Just(b"\n".to_vec()), Just(b"\r\n".to_vec()), Just(b"dn: cn=a\n".to_vec()), Just(b"changetype: modify\n".to_vec()), Just(b" ".to_vec()), Just(b"-\n".to_vec()), Just(b"cn: b\n".to_vec()), Just(b"c\n n: b\n".to_vec()), Just(b":".to_vec()), proptest::collection::vec(any::<u8>(), 0..9)], 0..40),
        piece in 1_usize..40,
    ) {
        let text = text.concat();
        let whole: Vec<_> = records(&text)
            .map(|record| record.map(|one| (one.line, one.dn.into_owned(), one.attributes.len())))
            .collect();
        prop_assert_eq!(streamed(&text, piece, LONGEST), whole);
    }
}
