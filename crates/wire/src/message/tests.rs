//! Messages against bytes written out by hand, and the filter's way over the wire.

use super::*;
use crate::filter::WireFilter;
use proptest::prelude::*;
use webtaxon_core::ldap::filter::{Filter, Limits};

#[test]
fn messages_are_the_standards_bytes() {
    let bind = BindRequest {
        version: 3,
        name: Octets::from_static(b"cn=a"),
        authentication: Authentication::Simple(Password(b"pw".to_vec().into())),
    };
    let search = SearchRequest {
        base: Octets::from_static(b"dc=x"),
        scope: Scope::Subtree,
        aliases: Aliases::Never,
        size_limit: 0,
        time_limit: 0,
        types_only: false,
        filter: WireFilter::new(&Filter::parse("(a=b)").unwrap()).unwrap(),
        attributes: vec![Octets::from_static(b"cn")],
    };
    let entry = SearchResultEntry {
        name: Octets::from_static(b"cn=a"),
        attributes: vec![PartialAttribute {
            description: Octets::from_static(b"cn"),
            values: vec![Octets::from_static(b"b"), Octets::from_static(b"a")],
        }],
    };
    for (operation, hex, why) in [
        (Operation::BindRequest(bind), "3012 020101 600d 020103 0404636e3d61 80027077", "bind"),
        (Operation::UnbindRequest(()), "3005 020101 4200", "unbind"),
        (Operation::AbandonRequest(7), "3006 020101 500107", "abandon"),
        (
            Operation::SearchRequest(search),
            "3028 020101 6323 040464633d78 0a0102 0a0100 020100 020100 010100 a306 040161 040162 3004 0402636e",
            "search",
        ),
        (
            Operation::SearchResultEntry(entry),
            "301b 020101 6416 0404636e3d61 300e 300c 0402636e 3106 040162 040161 ",
            "an entry, its values in their own order, not sorted",
        ),
        (
            Operation::SearchResultDone(LdapResult::new(4096, "")),
            "300d 020101 6508 0a021000 0400 0400",
            "a result code of a vendor's own",
        ),
    ] {
        let digits: Vec<u8> = hex.bytes().filter(|byte| *byte != b' ').collect();
        let pair = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap();
        let expected: Vec<u8> = digits.chunks(2).map(pair).collect();
        let message = Message::new(1, operation);
        assert_eq!(message.encode().unwrap(), expected, "{why}");
        assert_eq!(Message::decode(&expected).unwrap(), message, "{why}");
    }
}

#[test]
fn what_is_no_message_is_refused() {
    for (bytes, why) in [
        (&[0x30, 0][..], "an empty message"),
        (&[0x30, 5, 2, 1, 1, 0x42, 1], "cut short"),
        (&[0x30, 7, 2, 1, 1, 0x7f, 0x63, 0, 0], "an operation that is none"),
        (&[0x30, 12, 2, 1, 1, 0x65, 7, 0x0a, 0, 4, 0, 4, 0, 0], "an empty result code"),
    ] {
        assert!(Message::decode(bytes).is_err(), "{why}");
    }
}

#[test]
fn nesting_is_bounded_when_reading_and_when_writing() {
    let depth = Limits::default().depth;
    let nested =
        |depth: usize| (1..depth).fold(Filter::present("a"), |inner, _| Filter::Not(Box::new(inner)));
    assert_eq!(*WireFilter::new(&nested(depth + 1)).unwrap_err().kind(), ProtocolErrorKind::FilterTooDeep);
    let allowed = nested(depth);
    let bytes = rasn::ber::encode(&WireFilter::new(&allowed).unwrap()).unwrap();
    let read: WireFilter = rasn::ber::decode(&bytes).unwrap();
    assert_eq!(read.to_filter().unwrap(), allowed);
    // A hostile peer nests ten thousand deep.
    let mut hostile = vec![0x87, 1, b'a'];
    for _ in 0..10_000 {
        let length = u32::try_from(hostile.len()).unwrap().to_be_bytes();
        hostile.splice(0..0, [&[0xa2, 0x84][..], &length].concat());
    }
    assert!(rasn::ber::decode::<WireFilter>(&hostile).is_err());
}

proptest! {
    /// Over the wire and back is the same filter.
    #[test]
    fn a_filter_survives_the_wire(
        attribute in "[a-z]{1,5}", value in proptest::collection::vec(any::<u8>(), 0..6), kind in 0u8..6, wrap in 0u8..4,
    ) {
        let escaped: String = value.iter().map(|byte| format!("\\{byte:02x}")).collect();
        let item = match kind {
            0 => format!("({attribute}={escaped})"),
            1 => format!("({attribute}>={escaped})"),
            2 => format!("({attribute}~={escaped})"),
            3 => format!("({attribute}:dn:1.2.3:={escaped})"),
            4 => format!("({attribute}=a*{escaped}*z)"),
            _ => format!("({attribute}=*)"),
        };
        let text = match wrap { 0 => item, 1 => format!("(!{item})"), 2 => format!("(&{item}{item})"), _ => format!("(|{item}(&))") };
        let filter = Filter::parse(&text).unwrap();
        let bytes = rasn::ber::encode(&WireFilter::new(&filter).unwrap()).unwrap();
        let read: WireFilter = rasn::ber::decode(&bytes).unwrap();
        prop_assert_eq!(read.to_filter().unwrap(), filter);
    }

    /// Any bytes: a message or an error, no panic.
    #[test]
    fn any_bytes_are_decoded_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        let _ = Message::decode(&bytes);
    }
}
