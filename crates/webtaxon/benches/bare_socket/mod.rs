//! The floor of the benches: a search's answers, read from a bare socket without decoding them.

use std::io::{Read as _, Write as _};
use std::net::{TcpStream, ToSocketAddrs};
use webtaxon::core::filter::Filter;
use webtaxon_wire::filter::WireFilter;
use webtaxon_wire::message::{Aliases, Octets, Operation, Scope, SearchRequest};
use webtaxon_wire::{Message, control, frame};

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
        let request = SearchRequest {
            base: Octets::from_slice(base.as_bytes()),
            scope: Scope::Subtree,
            aliases: Aliases::Never,
            size_limit: 0,
            time_limit: 0,
            types_only: false,
            filter: WireFilter::new(&Filter::parse(filter).unwrap()).unwrap(),
            attributes: attributes.iter().map(|name| Octets::from_slice(name.as_bytes())).collect(),
        };
        let controls = Some(vec![control::paged(page, &cookie)]);
        let message = Message { id, operation: Operation::SearchRequest(request), controls };
        stream.write_all(&message.encode().unwrap()).unwrap();
        let mut inbox = frame::Inbox::default();
        'page: loop {
            let count = stream.read(&mut buffer).unwrap();
            assert!(count > 0, "the server went away");
            bytes += count;
            inbox.feed(&buffer[..count]);
            while let Some(message) = inbox.next(frame::MESSAGE_LIMIT).unwrap() {
                messages += 1;
                // The operation's tag stands behind the message id: 0x65 is the search's end.
                let header = if message[1] < 0x80 { 2 } else { 2 + usize::from(message[1] & 0x7f) };
                if message[header + 2 + usize::from(message[header + 1])] == 0x65 {
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
