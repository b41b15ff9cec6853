//! The client's side of an LDAP conversation (RFC 4511 §4): requests in, bytes out; bytes in,
//! events out. No socket, no clock.
//!
//! Every answer is checked against what was asked: an unknown message id or an answer of the wrong
//! kind ends the conversation. Several requests may be under way at once.

use crate::entry::{self, ReceivedEntry};
use crate::frame::{Inbox, MESSAGE_LIMIT};
use crate::message::{
    Authentication, BindRequest, Control, ExtendedRequest, LdapResult, Message, Octets, Operation, Password,
    ResultCode, Sasl, SearchRequest,
};
use crate::{ProtocolError, ProtocolErrorKind, control};
use std::collections::HashMap;
use zeroize::Zeroizing;

/// The tag of a SearchResultDone.
const DONE: u8 = 0x65;

/// Names one request of a [`Conversation`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RequestId(u32);

/// What the server said.
#[derive(Debug, PartialEq, Eq)]
pub enum Event {
    /// The answer to a bind, and the controls that came with it.
    Bound(RequestId, LdapResult, Vec<Control>),
    /// The answer to an extended operation, and its own bytes.
    Extended(RequestId, LdapResult, Option<Octets>),
    /// One entry of a search.
    Entry(RequestId, ReceivedEntry),
    /// A search would have to go on elsewhere.
    Reference(RequestId, Vec<Octets>),
    /// The end of a search, and the cookie of the next page if there is one.
    Done(RequestId, LdapResult, Option<Octets>),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Pending {
    Bind,
    Search,
    Extended,
    /// The client does not want the answers any more; some may be on their way.
    Abandoned,
}

/// One connection's conversation.
#[derive(Debug)]
pub struct Conversation {
    last_id: u32,
    pending: HashMap<u32, Pending>,
    inbox: Inbox,
    outbox: Zeroizing<Vec<u8>>,
    limit: usize,
}

impl Default for Conversation {
    fn default() -> Self {
        Self::new(MESSAGE_LIMIT)
    }
}

impl Conversation {
    /// Nothing said yet; no message may be longer than `limit` bytes.
    #[must_use]
    pub fn new(limit: usize) -> Self {
        Self {
            last_id: 0,
            pending: HashMap::new(),
            inbox: Inbox::default(),
            outbox: Zeroizing::default(),
            limit,
        }
    }

    /// From here on, messages may be as long as this.
    pub fn allow(&mut self, limit: usize) {
        self.limit = limit;
    }

    fn send(&mut self, operation: Operation, controls: Vec<Control>) -> Result<u32, ProtocolError> {
        // Ids are used once; a conversation ends long before they run out (RFC 4511 §4.1.1.1).
        self.last_id = self.last_id.wrapping_add(1).clamp(1, i32::MAX.unsigned_abs());
        let controls = Some(controls).filter(|controls| !controls.is_empty());
        let message = Message { id: self.last_id, operation, controls };
        let bytes = Zeroizing::new(message.encode()?);
        self.outbox.extend_from_slice(&bytes);
        Ok(self.last_id)
    }

    /// Says who asks, by a name and a password (RFC 4513 §5.1).
    ///
    /// # Errors
    /// The message cannot be written.
    pub fn bind(
        &mut self,
        name: &str,
        password: &[u8],
        controls: Vec<Control>,
    ) -> Result<RequestId, ProtocolError> {
        self.authenticate(name, Authentication::Simple(Password(Zeroizing::new(password.to_vec()))), controls)
    }

    /// Asks the server to take whom the connection itself shows: a client certificate, or the user
    /// at a local socket (SASL EXTERNAL, RFC 4422 appendix A).
    ///
    /// # Errors
    /// The message cannot be written.
    pub fn bind_external(&mut self) -> Result<RequestId, ProtocolError> {
        let mechanism = Octets::from_static(b"EXTERNAL");
        // Empty credentials: whoever the connection shows, and nobody else.
        let credentials = Some(Octets::default());
        self.authenticate("", Authentication::Sasl(Sasl { mechanism, credentials }), Vec::new())
    }

    fn authenticate(
        &mut self,
        name: &str,
        authentication: Authentication,
        controls: Vec<Control>,
    ) -> Result<RequestId, ProtocolError> {
        let name = Octets::from_slice(name.as_bytes());
        let request = BindRequest { version: 3, name, authentication };
        let id = self.send(Operation::BindRequest(request), controls)?;
        self.pending.insert(id, Pending::Bind);
        Ok(RequestId(id))
    }

    /// Asks for something beyond the standard's own operations (RFC 4511 §4.12).
    ///
    /// # Errors
    /// The message cannot be written.
    pub fn extended(&mut self, oid: &'static str) -> Result<RequestId, ProtocolError> {
        let request = ExtendedRequest { name: Octets::from_static(oid.as_bytes()), value: None };
        let id = self.send(Operation::ExtendedRequest(request), Vec::new())?;
        self.pending.insert(id, Pending::Extended);
        Ok(RequestId(id))
    }

    /// Asks for entries.
    ///
    /// # Errors
    /// The message cannot be written.
    pub fn search(
        &mut self,
        request: SearchRequest,
        controls: Vec<Control>,
    ) -> Result<RequestId, ProtocolError> {
        let id = self.send(Operation::SearchRequest(request), controls)?;
        self.pending.insert(id, Pending::Search);
        Ok(RequestId(id))
    }

    /// Tells the server that nobody waits for a request any more (RFC 4511 §4.11).
    ///
    /// # Errors
    /// The message cannot be written.
    pub fn abandon(&mut self, request: RequestId) -> Result<(), ProtocolError> {
        if let Some(pending) = self.pending.get_mut(&request.0) {
            *pending = Pending::Abandoned;
            self.send(Operation::AbandonRequest(request.0), Vec::new())?;
        }
        Ok(())
    }

    /// Says that the client goes (RFC 4511 §4.3).
    ///
    /// # Errors
    /// The message cannot be written.
    pub fn unbind(&mut self) -> Result<(), ProtocolError> {
        self.send(Operation::UnbindRequest(()), Vec::new()).map(|_| ())
    }

    /// Takes the bytes that are to be sent; they are wiped when they are dropped.
    pub fn outgoing(&mut self) -> Zeroizing<Vec<u8>> {
        std::mem::take(&mut self.outbox)
    }

    /// Adds bytes that the server sent.
    pub fn feed(&mut self, bytes: &[u8]) {
        self.inbox.feed(bytes);
    }

    /// Whether bytes have arrived that were not read yet. Behind the answer to StartTLS there must
    /// be none: they were sent before the connection was secure (RFC 4511 §4.14.1).
    #[must_use]
    pub fn has_unread(&self) -> bool {
        !self.inbox.is_empty()
    }

    /// The end of a search that has arrived behind entries which were not read yet, with the cookie
    /// of its next page: that page can be asked for before this one is gone through.
    pub fn page_ahead(&mut self) -> Option<(RequestId, Octets)> {
        while let Some(bytes) = self.inbox.look_ahead(self.limit) {
            let Some((id, DONE)) = entry::head(bytes) else { continue };
            if self.pending.get(&id) != Some(&Pending::Search) {
                continue;
            }
            let Ok(message) = Message::decode(bytes) else { continue };
            let Operation::SearchResultDone(result) = message.operation else { continue };
            let cookie = control::paged_value(message.controls.as_deref()).ok().flatten();
            match cookie {
                Some((_, cookie)) if result.code == ResultCode::SUCCESS && !cookie.is_empty() => {
                    return Some((RequestId(id), cookie));
                }
                _ => {}
            }
        }
        None
    }

    /// The next thing that the server said, if enough bytes have arrived.
    ///
    /// # Errors
    /// The server broke the protocol, or ended the connection; nothing can follow.
    pub fn next_event(&mut self) -> Result<Option<Event>, ProtocolError> {
        while let Some(bytes) = self.inbox.next(self.limit)? {
            if let Some((id, entry::ENTRY)) = entry::head(bytes) {
                match self.pending.get(&id) {
                    Some(Pending::Search) => {
                        return Ok(Some(Event::Entry(RequestId(id), ReceivedEntry::decode(bytes)?)));
                    }
                    Some(Pending::Abandoned) => continue,
                    Some(_) => return Err(ProtocolErrorKind::WrongAnswer { id }.into()),
                    None => return Err(ProtocolErrorKind::UnknownRequest { id }.into()),
                }
            }
            let message = Message::decode(bytes)?;
            if let Some(event) = self.receive(message)? {
                return Ok(Some(event));
            }
        }
        Ok(None)
    }

    fn receive(&mut self, message: Message) -> Result<Option<Event>, ProtocolError> {
        let id = message.id;
        if id == 0 {
            // The only unsolicited notification there is (RFC 4511 §4.4).
            return Err(match message.operation {
                Operation::ExtendedResponse(notice) => {
                    let result = LdapResult::from(notice);
                    ProtocolErrorKind::Disconnected { code: result.code.0, text: result.words() }
                }
                _ => ProtocolErrorKind::UnknownRequest { id },
            }
            .into());
        }
        let Some(&pending) = self.pending.get(&id) else {
            return Err(ProtocolErrorKind::UnknownRequest { id }.into());
        };
        if pending == Pending::Abandoned {
            if matches!(message.operation, Operation::SearchResultDone(_) | Operation::ExtendedResponse(_)) {
                self.pending.remove(&id);
            }
            return Ok(None);
        }
        let request = RequestId(id);
        let event = match (pending, message.operation) {
            (Pending::Search, Operation::SearchResultReference(urls)) => {
                return Ok(Some(Event::Reference(request, urls)));
            }
            (Pending::Search, Operation::SearchResultDone(result)) => {
                let cookie = control::paged_value(message.controls.as_deref())?.map(|(_, cookie)| cookie);
                Event::Done(request, result, cookie.filter(|cookie| !cookie.is_empty()))
            }
            // One server refuses a search's control with an extended response: it is the end all
            // the same, and must not be taken for success.
            (Pending::Search, Operation::ExtendedResponse(response)) if response.code.0 != 0 => {
                Event::Done(request, response.into(), None)
            }
            (Pending::Bind, Operation::BindResponse(response)) => {
                Event::Bound(request, response.into(), message.controls.unwrap_or_default())
            }
            (Pending::Extended, Operation::ExtendedResponse(mut response)) => {
                let value = response.value.take();
                Event::Extended(request, response.into(), value)
            }
            _ => return Err(ProtocolErrorKind::WrongAnswer { id }.into()),
        };
        self.pending.remove(&id);
        Ok(Some(event))
    }
}

#[cfg(test)]
mod tests;
