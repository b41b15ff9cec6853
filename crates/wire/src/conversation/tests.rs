//! What a server may say, in which order, and what ends the conversation.

use super::*;
use crate::message::{BindResponse, ExtendedResponse, ResultCode, Scope};
use proptest::prelude::*;
use webtaxon_core::ldap::filter::Filter;

fn search() -> SearchRequest {
    SearchRequest::new("", Scope::Base, &Filter::present("objectClass"), []).unwrap()
}

fn entry() -> Operation {
    Operation::SearchResultEntry(crate::message::SearchResultEntry {
        name: Octets::default(),
        attributes: Vec::new(),
    })
}

fn done(code: u32) -> Operation {
    Operation::SearchResultDone(LdapResult::new(code, "words"))
}

fn extended(code: u32) -> Operation {
    let (code, empty) = (ResultCode(code), Octets::default());
    let text = Octets::from_static(b"going down");
    Operation::ExtendedResponse(ExtendedResponse {
        code,
        matched_dn: empty,
        text,
        referral: None,
        name: None,
        value: None,
    })
}

fn bound(code: u32) -> Operation {
    let (code, empty) = (ResultCode(code), Octets::default());
    Operation::BindResponse(BindResponse {
        code,
        matched_dn: empty.clone(),
        text: empty,
        referral: None,
        sasl: None,
    })
}

fn feed(conversation: &mut Conversation, id: u32, operation: Operation) {
    conversation.feed(&Message::new(id, operation).encode().unwrap());
}

#[test]
fn answers_reach_the_request_they_belong_to() {
    let mut conversation = Conversation::default();
    let bind = conversation.bind("cn=a", b"pw", Vec::new()).unwrap();
    let (one, two) =
        (conversation.search(search(), vec![]).unwrap(), conversation.search(search(), vec![]).unwrap());
    assert!(!conversation.outgoing().is_empty());
    assert!(conversation.outgoing().is_empty(), "what is to be sent is taken once");
    feed(&mut conversation, 1, bound(0));
    feed(&mut conversation, 3, entry());
    feed(&mut conversation, 2, done(0));
    let paged = Message { id: 3, operation: done(0), controls: Some(vec![control::paged(5, b"next")]) };
    conversation.feed(&paged.encode().unwrap());
    let mut events = std::iter::from_fn(|| conversation.next_event().unwrap());
    assert_eq!(events.next(), Some(Event::Bound(bind, LdapResult::new(0, ""), Vec::new())));
    assert!(matches!(events.next(), Some(Event::Entry(id, _)) if id == two));
    assert_eq!(events.next(), Some(Event::Done(one, LdapResult::new(0, "words"), None)));
    let cookie = Some(Octets::from_static(b"next"));
    assert_eq!(events.next(), Some(Event::Done(two, LdapResult::new(0, "words"), cookie)));
    assert_eq!(events.next(), None);
}

#[test]
fn an_answer_that_does_not_fit_ends_the_conversation() {
    use ProtocolErrorKind as Kind;
    for (id, operation, expected, why) in [
        (9, done(0), Kind::UnknownRequest { id: 9 }, "never asked"),
        (2, bound(0), Kind::WrongAnswer { id: 2 }, "a bind's answer to a search"),
        (1, done(0), Kind::WrongAnswer { id: 1 }, "a search's answer to a bind"),
        (2, extended(0), Kind::WrongAnswer { id: 2 }, "an extended success is not a search's end"),
        (0, done(0), Kind::UnknownRequest { id: 0 }, "no notification"),
        (
            0,
            extended(52),
            Kind::Disconnected { code: 52, text: "going down".to_owned() },
            "a notice of disconnection",
        ),
    ] {
        let mut conversation = Conversation::default();
        conversation.bind("", b"", Vec::new()).unwrap();
        conversation.search(search(), vec![]).unwrap();
        feed(&mut conversation, id, operation);
        assert_eq!(conversation.next_event().map_err(|error| error.kind().clone()), Err(expected), "{why}");
    }
}

#[test]
fn a_search_is_answered_once() {
    let mut conversation = Conversation::default();
    conversation.search(search(), vec![]).unwrap();
    feed(&mut conversation, 1, done(0));
    feed(&mut conversation, 1, entry());
    assert!(conversation.next_event().unwrap().is_some());
    assert!(conversation.next_event().is_err(), "nothing may follow the end");
}

#[test]
fn a_paging_control_that_cannot_be_read_is_not_the_last_page() {
    for value in [None, Some(Octets::default()), Some(Octets::from_static(&[0x30, 3, 2, 1, 0]))] {
        let mut conversation = Conversation::default();
        conversation.search(search(), vec![]).unwrap();
        let broken = Control { value, ..control::paged(0, b"") };
        let message = Message { id: 1, operation: done(0), controls: Some(vec![broken]) };
        conversation.feed(&message.encode().unwrap());
        let error = conversation.next_event().unwrap_err();
        assert_eq!(*error.kind(), ProtocolErrorKind::Malformed);
    }
}

#[test]
fn a_refusal_in_an_extended_response_is_the_searchs_end() {
    let mut conversation = Conversation::default();
    let id = conversation.search(search(), vec![]).unwrap();
    feed(&mut conversation, 1, extended(12));
    let ended = conversation.next_event().unwrap();
    assert!(matches!(ended, Some(Event::Done(of, result, None)) if of == id && result.code.0 == 12));
}

#[test]
fn what_comes_after_an_abandon_is_passed_over() {
    let mut conversation = Conversation::default();
    let id = conversation.search(search(), vec![]).unwrap();
    conversation.abandon(id).unwrap();
    feed(&mut conversation, 1, entry());
    feed(&mut conversation, 1, done(0));
    assert_eq!(conversation.next_event().unwrap(), None);
    feed(&mut conversation, 1, entry());
    assert!(conversation.next_event().is_err(), "its end came already");
}

#[test]
fn a_password_is_not_printed() {
    let mut conversation = Conversation::default();
    conversation.bind("cn=a", b"geheim", Vec::new()).unwrap();
    let bytes = conversation.outgoing();
    let message = Message::decode(&bytes).unwrap();
    assert!(!format!("{message:?}").contains("geheim"));
    assert!(!format!("{message:?}").contains("103, 101"));
}

proptest! {
    /// Any bytes at any moment: events or an error, no panic, and no end that was not asked for.
    #[test]
    fn any_bytes_are_survived(pieces in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..60), 0..9)) {
        let mut conversation = Conversation::new(4096);
        conversation.search(search(), vec![]).unwrap();
        for piece in &pieces {
            conversation.feed(piece);
            while let Ok(Some(_)) = conversation.next_event() {}
        }
    }
}
