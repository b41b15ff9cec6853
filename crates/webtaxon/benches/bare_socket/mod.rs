//! The floor of the benches: a search's answers, read from a bare socket without decoding them.
#![allow(dead_code, reason = "each bench uses a part of it")]

use std::io::{Read as _, Write as _};
use std::net::{TcpStream, ToSocketAddrs};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use webtaxon::model::ldap::filter::Filter;
use webtaxon_wire::message::{
    Authentication, BindRequest, Octets, Operation, Password, Scope, SearchRequest,
};
use webtaxon_wire::{Message, control, frame};

/// A search as a message.
fn message(id: u32, base: &str, scope: Scope, filter: &Filter, attributes: &[&str]) -> Message {
    let request = SearchRequest::new(base, scope, filter, attributes.iter().copied()).unwrap();
    Message { id, operation: Operation::SearchRequest(request), controls: None }
}

/// The tag of a message's operation, which stands behind the message id.
fn tag(message: &[u8]) -> u8 {
    let header = if message[1] < 0x80 { 2 } else { 2 + usize::from(message[1] & 0x7f) };
    message[header + 2 + usize::from(message[header + 1])]
}

/// True if a message is the end of a search.
fn is_end(message: &[u8]) -> bool {
    tag(message) == 0x65
}

/// Reads entries by their names, so many look-ups under way at once, and gives the bytes.
pub(crate) fn look_up(
    server: impl ToSocketAddrs,
    names: &[String],
    attributes: &[&str],
    window: usize,
) -> usize {
    let mut stream = TcpStream::connect(server).unwrap();
    stream.set_nodelay(true).unwrap();
    let (mut buffer, mut inbox) = (vec![0; 1 << 18], frame::Inbox::default());
    let (mut bytes, mut ended, mut id) = (0, 0, 0);
    let mut waiting = names.iter();
    while ended < names.len() {
        let mut requests = Vec::new();
        for name in waiting.by_ref().take(window - (id as usize - ended)) {
            id += 1;
            let any = Filter::present("objectClass");
            requests.extend(message(id, name, Scope::Base, &any, attributes).encode().unwrap());
        }
        stream.write_all(&requests).unwrap();
        let count = stream.read(&mut buffer).unwrap();
        assert!(count > 0, "the server went away");
        bytes += count;
        inbox.feed(&buffer[..count]);
        while let Some(message) = inbox.next(frame::MESSAGE_LIMIT).unwrap() {
            ended += usize::from(is_end(message));
        }
    }
    bytes
}

/// Reads every page of a search, and gives the bytes and the messages; only the last message of each
/// page is decoded, for its cookie.
pub(crate) fn read(
    server: impl ToSocketAddrs,
    base: &str,
    filter: &str,
    attributes: &[&str],
    page: u32,
) -> (usize, usize) {
    let mut stream = TcpStream::connect(server).unwrap();
    stream.set_nodelay(true).unwrap();
    let mut buffer = vec![0; 1 << 18];
    let (mut cookie, mut bytes, mut messages, mut id) = (Vec::new(), 0, 0, 0);
    loop {
        id += 1;
        let filter = Filter::parse(filter).unwrap();
        let message = Message {
            controls: Some(vec![control::paged(page, &cookie)]),
            ..message(id, base, Scope::Subtree, &filter, attributes)
        };
        stream.write_all(&message.encode().unwrap()).unwrap();
        let mut inbox = frame::Inbox::default();
        'page: loop {
            let count = stream.read(&mut buffer).unwrap();
            assert!(count > 0, "the server went away");
            bytes += count;
            inbox.feed(&buffer[..count]);
            while let Some(message) = inbox.next(frame::MESSAGE_LIMIT).unwrap() {
                messages += 1;
                if is_end(message) {
                    let ended = Message::decode(message).unwrap();
                    cookie = control::paged_value(ended.controls.as_deref()).unwrap().unwrap().1.to_vec();
                    break 'page;
                }
            }
        }
        if cookie.is_empty() {
            return (bytes, messages);
        }
    }
}

/// A connection that makes one small request after the other, and decodes no response.
pub(crate) struct Bare {
    stream: tokio::net::TcpStream,
    inbox: frame::Inbox,
    id: u32,
}

impl Bare {
    pub(crate) async fn open(server: &str) -> Self {
        let stream = tokio::net::TcpStream::connect(server).await.unwrap();
        stream.set_nodelay(true).unwrap();
        Self { stream, inbox: frame::Inbox::default(), id: 0 }
    }

    /// Sends a message, and waits for the last one of its response, which has this tag.
    async fn send(&mut self, operation: Operation, last: u8) -> Vec<u8> {
        self.id += 1;
        let message = Message { id: self.id, operation, controls: None };
        self.stream.write_all(&message.encode().unwrap()).await.unwrap();
        let mut buffer = vec![0; 1 << 14];
        loop {
            while let Some(message) = self.inbox.next(frame::MESSAGE_LIMIT).unwrap() {
                if tag(message) == last {
                    return message.to_vec();
                }
            }
            let count = self.stream.read(&mut buffer).await.unwrap();
            assert!(count > 0, "the server went away");
            self.inbox.feed(&buffer[..count]);
        }
    }

    /// Searches for the entry with this value.
    pub(crate) async fn find(&mut self, base: &str, attribute: &str, value: &str) {
        let filter = Filter::all([
            Filter::parse("(objectClass=inetOrgPerson)").unwrap(),
            Filter::equal(attribute, value),
        ]);
        let attributes = ["cn", "entryUUID", "uid"];
        let request = SearchRequest::new(base, Scope::Subtree, &filter, attributes).unwrap();
        self.send(Operation::SearchRequest(request), 0x65).await;
    }

    /// Binds with a right password.
    pub(crate) async fn bind(&mut self, dn: &str, password: &str) {
        let authentication = Authentication::Simple(Password(password.as_bytes().to_vec().into()));
        let request = BindRequest { version: 3, name: Octets::from_slice(dn.as_bytes()), authentication };
        let response = self.send(Operation::BindRequest(request), 0x61).await;
        let Operation::BindResponse(response) = Message::decode(&response).unwrap().operation else {
            panic!()
        };
        assert_eq!(response.code.0, 0, "{dn}");
    }
}
