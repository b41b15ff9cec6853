//! One client's connection: requests in, answers out, in order.
//!
//! Requests are read when the one before has been answered; while a search runs, the session looks
//! for an abandon. A request's size is bounded by [`REQUEST_LIMIT`].

use crate::directory::Directory;
use crate::fault::FaultKind;
use crate::search::{Rest, Search};
use crate::{Manner, Options, controller};
use std::collections::{HashMap, VecDeque};
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _, ReadBuf};
use tokio::net::TcpStream;
use tokio::time::Instant;
use tokio_rustls::TlsAcceptor;
use webtaxon_core::name::Dn;
use webtaxon_wire::control::{START_TLS, WHO_AM_I};
use webtaxon_wire::frame::Inbox;
use webtaxon_wire::message::{
    Authentication, BindRequest, BindResponse, Control, ExtendedRequest, ExtendedResponse, LdapResult,
    Octets, ResultCode,
};
use webtaxon_wire::{Message, Operation};

/// The longest request that is accepted, in bytes.
const REQUEST_LIMIT: usize = 1 << 20;
/// Answers are sent when so many bytes have gathered, or when nothing more is to be said.
const SEND_AT: usize = 1 << 16;
/// The unsolicited notification by which a server goes (RFC 4511 §4.4.1).
const DISCONNECTION: &str = "1.3.6.1.4.1.1466.20036";

trait Stream: AsyncRead + AsyncWrite + Send + Unpin {}
impl<S: AsyncRead + AsyncWrite + Send + Unpin> Stream for S {}

/// Serves one client from its first byte to its last.
pub(crate) async fn accept(
    stream: TcpStream,
    acceptor: TlsAcceptor,
    directory: Arc<Directory>,
    options: Arc<Options>,
) {
    let (stream, secure): (Box<dyn Stream>, bool) = match options.tls {
        true => match acceptor.accept(stream).await {
            Ok(stream) => (Box::new(stream), true),
            Err(_) => return,
        },
        false => (Box::new(stream), false),
    };
    let mut session = Session {
        stream,
        secure,
        acceptor,
        inbox: Inbox::default(),
        waiting: VecDeque::new(),
        outbox: Vec::new(),
        sent: 0,
        searches: 0,
        pages: HashMap::new(),
        last_page: 0,
        bound: None,
        directory,
        options,
    };
    // Whatever ends a session ends only this session.
    let _ = session.run().await;
    let _ = session.stream.shutdown().await;
}

pub(crate) struct Session {
    stream: Box<dyn Stream>,
    secure: bool,
    acceptor: TlsAcceptor,
    inbox: Inbox,
    /// Requests that have come, and when.
    waiting: VecDeque<(Instant, Message)>,
    outbox: Vec<u8>,
    /// Messages sent so far.
    sent: u64,
    /// Searches asked so far.
    pub(crate) searches: u64,
    /// Paged searches between two pages.
    pub(crate) pages: HashMap<u64, Rest>,
    pub(crate) last_page: u64,
    /// Who has bound, as who-am-I tells it; nobody while anonymous.
    pub(crate) bound: Option<String>,
    pub(crate) directory: Arc<Directory>,
    pub(crate) options: Arc<Options>,
}

impl Session {
    async fn run(&mut self) -> io::Result<()> {
        while let Some(message) = self.next().await? {
            let id = message.id;
            match message.operation {
                Operation::BindRequest(request) => {
                    self.bound = None;
                    let result = self.bind(&request);
                    let LdapResult { code, matched_dn, text, referral } = result;
                    let response = BindResponse { code, matched_dn, text, referral, sasl: None };
                    self.send(id, Operation::BindResponse(response), None).await?;
                }
                Operation::SearchRequest(request) => {
                    self.searches += 1;
                    Search::new(self, id, request, message.controls).run().await?;
                }
                Operation::ExtendedRequest(request) => self.extended(id, request).await?,
                // Nothing is under way any more when an abandon is read here.
                Operation::AbandonRequest(_) => {}
                // A client that goes, or that sends what only a server may.
                _ => return self.flush().await,
            }
        }
        Ok(())
    }

    /// The next request; none when the client has gone or sends something else than LDAP.
    async fn next(&mut self) -> io::Result<Option<Message>> {
        let mut buffer = vec![0; 1 << 14];
        loop {
            if let Some((came, message)) = self.waiting.pop_front() {
                let due = came + self.options.latency;
                if due > Instant::now() {
                    self.flush().await?;
                    tokio::time::sleep_until(due).await;
                }
                return Ok(Some(message));
            }
            if !self.take_requests() {
                return Ok(None);
            }
            if !self.waiting.is_empty() {
                continue;
            }
            self.flush().await?;
            match self.stream.read(&mut buffer).await? {
                0 => return Ok(None),
                count => self.inbox.feed(buffer.get(..count).unwrap_or(&[])),
            }
        }
    }

    /// Reads the requests that have arrived; false if one is no LDAP. Those in front of it count.
    fn take_requests(&mut self) -> bool {
        let now = Instant::now();
        loop {
            match self.inbox.next(REQUEST_LIMIT).map(|bytes| bytes.map(Message::decode)) {
                Ok(Some(Ok(message))) => {
                    let starts_tls = matches!(message.operation, Operation::ExtendedRequest(_));
                    self.waiting.push_back((now, message));
                    if starts_tls {
                        return true; // what is behind it may be no LDAP
                    }
                }
                Ok(None) => return true,
                Ok(Some(Err(_))) | Err(_) => return !self.waiting.is_empty(),
            }
        }
    }

    /// Simple bind (RFC 4513 §5.1).
    fn bind(&mut self, request: &BindRequest) -> LdapResult {
        let password = match &request.authentication {
            Authentication::Simple(password) => password,
            // The handshake let nobody through without a certificate.
            Authentication::Sasl(sasl) if &*sasl.mechanism == b"EXTERNAL" && self.secure => {
                let Some(client) = &self.options.client else {
                    return LdapResult::new(48, "nothing shows who the client is");
                };
                self.bound = Some(format!("dn:{client}"));
                return LdapResult::new(0, "");
            }
            Authentication::Sasl(_) => return LdapResult::new(7, "this mechanism is not known here"),
        };
        if request.version != 3 {
            return LdapResult::new(2, "only LDAP version 3 is known here");
        }
        let Ok(name) = std::str::from_utf8(&request.name) else { return LdapResult::new(34, "") };
        match (name.is_empty(), password.0.is_empty()) {
            (true, true) => return LdapResult::new(0, ""),
            (true, false) => return LdapResult::new(49, ""),
            // RFC 4513 §5.1.2: a name without a password proves nothing.
            (false, true) => {
                return LdapResult::new(53, "unauthenticated bind (DN with no password) disallowed");
            }
            (false, false) => {}
        }
        let controller = self.directory.manner() == Manner::Controller;
        if self.options.secure_bind && !self.secure {
            return match controller {
                true => LdapResult::new(8, "BindSimple: Transport encryption required."),
                false => LdapResult::new(13, "confidentiality required"),
            };
        }
        let result = if controller {
            controller::bind(&self.directory, name, &password.0)
        } else {
            let Ok(dn) = Dn::parse(name) else { return LdapResult::new(34, "invalid DN") };
            let entry = self.directory.at(&dn);
            let right =
                entry.is_some_and(|entry| entry.values("userPassword").any(|value| value == &**password.0));
            LdapResult::new(if right { 0 } else { 49 }, "")
        };
        if result.code == ResultCode::SUCCESS {
            self.bound = Some(format!("dn:{name}"));
        }
        result
    }

    async fn extended(&mut self, id: u32, request: ExtendedRequest) -> io::Result<()> {
        let plain = self.directory.manner() == Manner::Plain;
        let name = request.name;
        let is = |oid: &str| name == oid.as_bytes();
        if is(START_TLS) && self.options.start_tls {
            if self.secure {
                let refused = answer(1, "TLS has begun already", name, None);
                return self.send(id, refused, None).await;
            }
            self.send(id, answer(0, "", name, None), None).await?;
            if self.options.fault.is_some_and(|fault| fault.kind == FaultKind::Injected) {
                self.outbox.extend_from_slice(
                    &Message::new(id + 1, answer(0, "", Octets::default(), None))
                        .encode()
                        .map_err(io::Error::other)?,
                );
            }
            self.flush().await?;
            if !self.inbox.is_empty() {
                return Err(io::ErrorKind::InvalidData.into()); // RFC 4511 §4.14.1
            }
            let (placeholder, _) = tokio::io::duplex(1);
            let stream = std::mem::replace(&mut self.stream, Box::new(placeholder));
            self.stream = Box::new(self.acceptor.accept(stream).await?);
            self.secure = true;
            self.bound = None;
            return Ok(());
        }
        let response = match is(WHO_AM_I) && plain {
            true => answer(0, "", name, Some(self.bound.clone().unwrap_or_default())),
            false => answer(2, "unsupported extended operation", name, None),
        };
        self.send(id, response, None).await
    }

    /// Looks whether the client has abandoned the search that runs; keeps everything else that
    /// came for later.
    pub(crate) async fn is_abandoned(&mut self, running: u32) -> io::Result<bool> {
        tokio::task::yield_now().await;
        let mut buffer = [0; 1 << 12];
        let mut read = ReadBuf::new(&mut buffer);
        let stream = &mut self.stream;
        let came = std::future::poll_fn(|context| {
            Poll::Ready(match Pin::new(&mut *stream).poll_read(context, &mut read) {
                Poll::Ready(result) => Some(result),
                Poll::Pending => None,
            })
        });
        if let Some(result) = came.await {
            result?;
            if read.filled().is_empty() {
                return Err(io::ErrorKind::ConnectionAborted.into());
            }
            self.inbox.feed(read.filled());
        }
        let before = self.waiting.len();
        self.take_requests();
        for at in (before..self.waiting.len()).rev() {
            match self.waiting.get(at).map(|(_, message)| &message.operation) {
                Some(Operation::AbandonRequest(id)) if *id == running => {
                    drop(self.waiting.remove(at));
                    return Ok(true);
                }
                Some(Operation::UnbindRequest(())) => return Err(io::ErrorKind::ConnectionAborted.into()),
                _ => {}
            }
        }
        Ok(false)
    }

    /// Sends one message, or does what a fault wants instead.
    pub(crate) async fn send(
        &mut self,
        id: u32,
        operation: Operation,
        controls: Option<Vec<Control>>,
    ) -> io::Result<()> {
        let encode = |message: Message| message.encode().map_err(io::Error::other);
        let mut message = Message { id, operation, controls };
        let due = self.options.fault.filter(|fault| self.sent >= fault.after);
        self.sent += 1;
        match due.map(|fault| (fault.kind, fault)) {
            Some((FaultKind::Cut, _)) => {
                self.flush().await?;
                return Err(io::ErrorKind::ConnectionAborted.into());
            }
            Some((FaultKind::CutInside, _)) => {
                let bytes = encode(message)?;
                self.outbox.extend_from_slice(bytes.get(..bytes.len() / 2).unwrap_or(&[]));
                self.flush().await?;
                return Err(io::ErrorKind::ConnectionAborted.into());
            }
            Some((FaultKind::Stall, _)) => {
                self.flush().await?;
                return std::future::pending().await;
            }
            Some((FaultKind::Drip, _)) => {
                self.flush().await?;
                for byte in encode(message)? {
                    self.stream.write_all(&[byte]).await?;
                    self.stream.flush().await?;
                    tokio::time::sleep(Duration::from_secs(1)).await;
                }
                return Ok(());
            }
            Some((FaultKind::Notice, _)) => {
                let notice = answer(
                    52,
                    "the server is going down",
                    Octets::from_static(DISCONNECTION.as_bytes()),
                    None,
                );
                self.outbox.extend_from_slice(&encode(Message::new(0, notice))?);
                self.flush().await?;
                return Err(io::ErrorKind::ConnectionAborted.into());
            }
            Some((FaultKind::WrongId, _)) => message.id += 1000,
            Some((FaultKind::OddEnd, _)) if matches!(message.operation, Operation::SearchResultDone(_)) => {
                message.operation = answer(0, "", Octets::default(), None);
            }
            Some((_, fault)) => {
                if let Some(bytes) = fault.bytes(id) {
                    self.outbox.extend_from_slice(&bytes);
                    self.flush().await?;
                    return std::future::pending().await;
                }
            }
            None => {}
        }
        self.outbox.extend_from_slice(&encode(message)?);
        if self.outbox.len() >= SEND_AT {
            self.flush().await?;
        }
        Ok(())
    }

    async fn flush(&mut self) -> io::Result<()> {
        self.stream.write_all(&self.outbox).await?;
        self.outbox.clear();
        self.stream.flush().await
    }
}

/// The answer to an extended operation.
fn answer(code: u32, text: &str, name: Octets, value: Option<String>) -> Operation {
    Operation::ExtendedResponse(ExtendedResponse {
        code: ResultCode(code),
        matched_dn: Octets::default(),
        text: Octets::from_slice(text.as_bytes()),
        referral: None,
        name: Some(name).filter(|name| !name.is_empty()),
        value: value.map(|value| Octets::from_slice(value.as_bytes())),
    })
}
