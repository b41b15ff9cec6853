//! The client's side of an LDAP conversation (RFC 4511 §4): requests in, bytes out; bytes in,
//! events out. No socket, no clock.
//!
//! Every response is checked against its request: an unknown message id or a response of the wrong kind ends the
//! conversation. Several requests may be in progress at once.

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

/// One request of a [`Conversation`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RequestId(u32);

/// A response from the server.
#[derive(Debug, PartialEq, Eq)]
pub enum Event {
    /// The response to a bind, with its controls.
    Bound(RequestId, LdapResult, Vec<Control>),
    /// The response to an extended operation, with its value.
    Extended(RequestId, LdapResult, Option<Octets>),
    /// One entry of a search.
    Entry(RequestId, ReceivedEntry),
    /// A search continuation reference.
    Reference(RequestId, Vec<Octets>),
    /// The end of a search, with the cookie of the next page if there is one.
    Done(RequestId, LdapResult, Option<Octets>),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Pending {
    Bind,
    Search,
    Extended,
    /// The request was abandoned; responses may still arrive.
    Abandoned,
}

/// The conversation on one connection.
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
    /// A new conversation; no message may be longer than `limit` bytes.
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

    /// Raises the limit on message length.
    pub fn allow(&mut self, limit: usize) {
        self.limit = limit;
    }

    fn send(&mut self, operation: Operation, controls: Vec<Control>) -> Result<u32, ProtocolError> {
        // Ids are used once; no conversation lasts long enough to run out (RFC 4511 §4.1.1.1).
        self.last_id = self.last_id.wrapping_add(1).clamp(1, i32::MAX.unsigned_abs());
        let controls = Some(controls).filter(|controls| !controls.is_empty());
        let message = Message { id: self.last_id, operation, controls };
        let bytes = Zeroizing::new(message.encode()?);
        self.outbox.extend_from_slice(&bytes);
        Ok(self.last_id)
    }

    /// A simple bind (RFC 4513 §5.1).
    ///
    /// # Errors
    /// The message cannot be encoded.
    pub fn bind(
        &mut self,
        name: &str,
        password: &[u8],
        controls: Vec<Control>,
    ) -> Result<RequestId, ProtocolError> {
        self.authenticate(name, Authentication::Simple(Password(Zeroizing::new(password.to_vec()))), controls)
    }

    /// A bind by SASL EXTERNAL: the connection itself identifies the client, by its certificate or as the user at a
    /// local socket (RFC 4422 appendix A).
    ///
    /// # Errors
    /// The message cannot be encoded.
    pub fn bind_external(&mut self) -> Result<RequestId, ProtocolError> {
        let mechanism = Octets::from_static(b"EXTERNAL");
        // Empty credentials: the authorization identity is that of the connection.
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

    /// An extended operation (RFC 4511 §4.12).
    ///
    /// # Errors
    /// The message cannot be encoded.
    pub fn extended(&mut self, oid: &'static str) -> Result<RequestId, ProtocolError> {
        let request = ExtendedRequest { name: Octets::from_static(oid.as_bytes()), value: None };
        let id = self.send(Operation::ExtendedRequest(request), Vec::new())?;
        self.pending.insert(id, Pending::Extended);
        Ok(RequestId(id))
    }

    /// A search.
    ///
    /// # Errors
    /// The message cannot be encoded.
    pub fn search(
        &mut self,
        request: SearchRequest,
        controls: Vec<Control>,
    ) -> Result<RequestId, ProtocolError> {
        let id = self.send(Operation::SearchRequest(request), controls)?;
        self.pending.insert(id, Pending::Search);
        Ok(RequestId(id))
    }

    /// Abandons a request (RFC 4511 §4.11).
    ///
    /// # Errors
    /// The message cannot be encoded.
    pub fn abandon(&mut self, request: RequestId) -> Result<(), ProtocolError> {
        if let Some(pending) = self.pending.get_mut(&request.0) {
            *pending = Pending::Abandoned;
            self.send(Operation::AbandonRequest(request.0), Vec::new())?;
        }
        Ok(())
    }

    /// Ends the session (RFC 4511 §4.3).
    ///
    /// # Errors
    /// The message cannot be encoded.
    pub fn unbind(&mut self) -> Result<(), ProtocolError> {
        self.send(Operation::UnbindRequest(()), Vec::new()).map(|_| ())
    }

    /// The bytes to be sent; they are wiped when dropped.
    pub fn outgoing(&mut self) -> Zeroizing<Vec<u8>> {
        std::mem::take(&mut self.outbox)
    }

    /// Adds bytes received from the server.
    pub fn feed(&mut self, bytes: &[u8]) {
        self.inbox.feed(bytes);
    }

    /// Whether received bytes are still unread. There must be none after the response to StartTLS: they were sent
    /// before the connection was secure (RFC 4511 §4.14.1).
    #[must_use]
    pub fn has_unread(&self) -> bool {
        !self.inbox.is_empty()
    }

    /// The cookie of a page whose end has arrived, even if its entries have not been read yet: the next page can be
    /// requested early.
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

    /// The next response, if it has arrived completely.
    ///
    /// # Errors
    /// The server broke the protocol or ended the connection; nothing can follow.
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
            // The only unsolicited notification in the standard (RFC 4511 §4.4).
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
            // One server refuses a search's control with an extended response: that ends the search, and must not be
            // taken for success.
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
