//! One client's connection: requests in, responses out, in order, with the effects of a fault.
//!
//! A request's size is bounded by [`REQUEST_LIMIT`].

use crate::directory::Directory;
use crate::fault::FaultKind;
use crate::options::Options;
use std::collections::{HashMap, VecDeque};
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::task::Poll;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _, ReadBuf};
use tokio::time::Instant;
use tokio_rustls::TlsAcceptor;
use webtaxon_wire::frame::Inbox;
use webtaxon_wire::message::{Control, ExtendedResponse, Octets, ResultCode};
use webtaxon_wire::{Message, Operation};

/// Maximum bytes of a request.
const REQUEST_LIMIT: usize = 1 << 20;
/// Responses are sent once this many bytes have accumulated, or when there is nothing more to say.
const SEND_AT: usize = 1 << 16;
/// The Notice of Disconnection (RFC 4511 §4.4.1).
const DISCONNECTION: &str = "1.3.6.1.4.1.1466.20036";

pub(crate) trait Stream: AsyncRead + AsyncWrite + Send + Unpin {}
impl<S: AsyncRead + AsyncWrite + Send + Unpin> Stream for S {}

/// The rest of a paged search between two pages.
pub(crate) struct Rest {
    /// The directory as it was when the search began.
    pub(crate) directory: Arc<Directory>,
    pub(crate) places: VecDeque<usize>,
    /// Entries sent on earlier pages.
    pub(crate) sent: usize,
}

/// One client and its state.
pub(crate) struct Peer {
    pub(crate) stream: Box<dyn Stream>,
    pub(crate) secure: bool,
    pub(crate) acceptor: TlsAcceptor,
    pub(crate) inbox: Inbox,
    /// Requests received, with their time of arrival.
    pub(crate) waiting: VecDeque<(Instant, Message)>,
    pub(crate) outbox: Vec<u8>,
    /// Messages sent so far.
    pub(crate) sent: u64,
    /// Searches so far.
    pub(crate) searches: u64,
    /// Paged searches between two pages.
    pub(crate) pages: HashMap<u64, Rest>,
    pub(crate) last_page: u64,
    /// The bound identity as reported by who-am-I; `None` while anonymous.
    pub(crate) bound: Option<String>,
    pub(crate) directory: Arc<Directory>,
    pub(crate) options: Arc<Options>,
    /// Searches so far, of all clients.
    pub(crate) searched: Arc<AtomicU64>,
}

impl Peer {
    /// The next request; `None` once the client has left or sent something that is not LDAP.
    pub(crate) async fn next(&mut self) -> io::Result<Option<Message>> {
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

    /// Reads the requests that have arrived; false if one is not LDAP. Those before it count.
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

    pub(crate) async fn flush(&mut self) -> io::Result<()> {
        self.stream.write_all(&self.outbox).await?;
        self.outbox.clear();
        self.stream.flush().await
    }
}

/// The answer to an extended operation.
pub(crate) fn answer(code: u32, text: &str, name: Octets, value: Option<String>) -> Operation {
    Operation::ExtendedResponse(ExtendedResponse {
        code: ResultCode(code),
        matched_dn: Octets::default(),
        text: Octets::from_slice(text.as_bytes()),
        referral: None,
        name: Some(name).filter(|name| !name.is_empty()),
        value: value.map(|value| Octets::from_slice(value.as_bytes())),
    })
}
