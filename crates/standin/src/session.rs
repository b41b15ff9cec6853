//! One client's connection: requests in, answers out, in order.
//!
//! A reader task cuts the stream into messages and hands them over; the session answers them one
//! after the other and looks for an abandon while a search runs. The client's bytes are bounded by
//! [`REQUEST_LIMIT`] and by a short queue.

use crate::Options;
use crate::directory::{Directory, Wanted};
use std::collections::{HashMap, HashSet, VecDeque};
use std::io;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _, WriteHalf};
use tokio::sync::mpsc;
use webtaxon_core::entry::{Entry, NameId};
use webtaxon_core::filter::Matcher;
use webtaxon_core::name::Dn;
use webtaxon_core::schema::Schema;
use webtaxon_wire::control::{DOMAIN_SCOPE, PAGED_RESULTS, paged, paged_value};
use webtaxon_wire::frame::Inbox;
use webtaxon_wire::message::{
    Authentication, BindRequest, BindResponse, Control, ExtendedResponse, LdapResult, Octets,
    PartialAttribute, ResultCode, Scope, SearchRequest, SearchResultEntry,
};
use webtaxon_wire::{Message, Operation};

/// The longest request that is accepted, in bytes.
const REQUEST_LIMIT: usize = 1 << 20;
/// Answers are sent when so many bytes have gathered, or when nothing more is to be said.
const SEND_AT: usize = 1 << 16;

pub(crate) async fn serve<S>(stream: S, directory: Arc<Directory>, options: Arc<Options>)
where
    S: AsyncRead + AsyncWrite + Send + 'static,
{
    let (mut reader, writer) = tokio::io::split(stream);
    let (sender, requests) = mpsc::channel(64);
    let reading = tokio::spawn(async move {
        let mut inbox = Inbox::default();
        let mut buffer = vec![0; 1 << 14];
        while let Ok(count @ 1..) = reader.read(&mut buffer).await {
            inbox.feed(buffer.get(..count).unwrap_or(&[]));
            loop {
                match inbox.next(REQUEST_LIMIT).map(|bytes| bytes.map(Message::decode)) {
                    Ok(Some(Ok(message))) => {
                        if sender.send(message).await.is_err() {
                            return;
                        }
                    }
                    Ok(None) => break,
                    Ok(Some(Err(_))) | Err(_) => return,
                }
            }
        }
    });
    let mut session = Session {
        writer,
        requests,
        waiting: VecDeque::new(),
        outbox: Vec::new(),
        sent: 0,
        pages: HashMap::new(),
        last_page: 0,
        bound: false,
        directory,
        options,
    };
    // Whatever ends a session ends only this session.
    let _ = session.run().await;
    reading.abort();
    let _ = session.writer.shutdown().await;
}

/// A paged search between two pages (RFC 2696).
struct Rest {
    places: VecDeque<usize>,
    /// Entries sent on earlier pages.
    sent: usize,
}

struct Session<S> {
    writer: WriteHalf<S>,
    requests: mpsc::Receiver<Message>,
    /// Requests that came while a search ran.
    waiting: VecDeque<Message>,
    outbox: Vec<u8>,
    sent: u64,
    pages: HashMap<u64, Rest>,
    last_page: u64,
    bound: bool,
    directory: Arc<Directory>,
    options: Arc<Options>,
}

impl<S: AsyncRead + AsyncWrite> Session<S> {
    async fn run(&mut self) -> io::Result<()> {
        if self.options.cut_after == Some(0) {
            return Ok(());
        }
        loop {
            let message = match self.waiting.pop_front() {
                Some(message) => message,
                None => {
                    self.flush().await?;
                    match self.requests.recv().await {
                        Some(message) => message,
                        None => return Ok(()),
                    }
                }
            };
            let id = message.id;
            match message.operation {
                Operation::BindRequest(request) => {
                    self.bound = false;
                    let result = self.bind(&request);
                    self.bound = result.code == ResultCode::SUCCESS && !request.name.is_empty();
                    let LdapResult { code, matched_dn, text, referral } = result;
                    let response = BindResponse { code, matched_dn, text, referral, sasl: None };
                    self.send(id, Operation::BindResponse(response), None).await?;
                }
                Operation::SearchRequest(request) => {
                    self.search(id, &request, message.controls.as_deref()).await?;
                }
                Operation::ExtendedRequest(request) => {
                    let response = ExtendedResponse {
                        code: ResultCode(2),
                        matched_dn: Octets::default(),
                        text: Octets::from_slice(b"unsupported extended operation"),
                        referral: None,
                        name: Some(request.name),
                        value: None,
                    };
                    self.send(id, Operation::ExtendedResponse(response), None).await?;
                }
                // Nothing is under way any more when an abandon is read here.
                Operation::AbandonRequest(_) => {}
                // A client that goes, or that sends what only a server may.
                _ => return self.flush().await,
            }
        }
    }

    /// Simple bind (RFC 4513 §5.1).
    fn bind(&self, request: &BindRequest) -> LdapResult {
        let Authentication::Simple(password) = &request.authentication else {
            return LdapResult::new(7, "only simple binds are known here");
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
        let entry = self.directory.bind_entry(name);
        let right =
            entry.is_some_and(|entry| entry.values("userPassword").any(|value| value == &**password.0));
        LdapResult::new(if right { 0 } else { 49 }, "")
    }

    async fn search(
        &mut self,
        id: u32,
        request: &SearchRequest,
        controls: Option<&[Control]>,
    ) -> io::Result<()> {
        let done = |result| Operation::SearchResultDone(result);
        let unknown = controls.unwrap_or_default().iter().find(|control| {
            control.critical
                && ![PAGED_RESULTS, DOMAIN_SCOPE].iter().any(|known| control.oid == known.as_bytes())
        });
        if unknown.is_some() {
            return self.send(id, done(LdapResult::new(12, "critical control unknown")), None).await;
        }
        let text = |octets: &Octets| String::from_utf8(octets.to_vec()).ok();
        let base = text(&request.base).and_then(|base| Dn::parse(&base).ok());
        let Some(base) = base else {
            return self
                .send(id, done(LdapResult::new(34, "the base is not a distinguished name")), None)
                .await;
        };
        let Ok(filter) = request.filter.to_filter() else {
            return self.send(id, done(LdapResult::new(2, "the filter cannot be read")), None).await;
        };
        let wanted = Wanted::new(&request.attributes.iter().filter_map(text).collect::<Vec<_>>());
        let directory = Arc::clone(&self.directory);
        if self.options.shy && !self.bound {
            return self.send(id, done(LdapResult::new(50, "")), None).await;
        }
        if let Some(entries) = directory.about_itself(&base, request.scope) {
            let matcher = Matcher::new(&filter, Schema::builtin(), entries.names());
            let wanted = wanted.among(entries.names(), &[]);
            for entry in entries.iter().filter(|entry| request.scope != Scope::One && matcher.matches(*entry))
            {
                self.send(id, answer(entry, &wanted, request.types_only), None).await?;
            }
            return self.send(id, done(LdapResult::new(0, "")), None).await;
        }
        if !self.bound && !self.options.anonymous {
            let refused = LdapResult::new(1, "00002020: Operation unavailable without authentication");
            return self.send(id, done(refused), None).await;
        }
        let Ok(page) = paged_value(controls) else {
            return self.send(id, done(LdapResult::new(2, "the paging control cannot be read")), None).await;
        };
        let begun = match page.as_ref().filter(|(_, cookie)| !cookie.is_empty()) {
            Some((_, cookie)) => self.resume(cookie),
            None => begin(&directory, &base, request.scope),
        };
        let mut rest = match begun {
            Ok(rest) => rest,
            Err(refused) => return self.send(id, done(refused), None).await,
        };
        let matcher = directory.matcher(&filter);
        let wanted = wanted.among(directory.names(), &self.options.hidden);
        let own = usize::try_from(request.size_limit).ok().filter(|limit| *limit > 0);
        let limit = own.into_iter().chain(if page.is_some() {
            self.options.paged_limit
        } else {
            self.options.size_limit
        });
        let limit = limit.min().unwrap_or(usize::MAX);
        let on_page = page.as_ref().and_then(|(size, _)| usize::try_from(*size).ok()).unwrap_or(usize::MAX);
        let mut sent = 0;
        let mut code = 0;
        let mut looked = 0_u32;
        while let Some(index) = rest.places.pop_front() {
            looked += 1;
            if looked.is_multiple_of(64) && self.is_abandoned(id).await? {
                return Ok(());
            }
            let Some(entry) = directory.entry(index).filter(|entry| matcher.matches(*entry)) else {
                continue;
            };
            if rest.sent + sent >= limit {
                code = 4;
                rest.places.clear();
                break;
            }
            if sent >= on_page {
                rest.places.push_front(index);
                break;
            }
            sent += 1;
            self.send(id, answer(entry, &wanted, request.types_only), None).await?;
        }
        let control = page.map(|_| {
            if rest.places.is_empty() {
                return vec![paged(0, b"")];
            }
            self.last_page += 1;
            self.pages.insert(self.last_page, Rest { sent: rest.sent + sent, places: rest.places });
            vec![paged(0, &self.last_page.to_be_bytes())]
        });
        self.send(id, done(LdapResult::new(code, "")), control).await
    }

    /// What is left of a paged search; a cookie is good for one page.
    fn resume(&mut self, cookie: &[u8]) -> Result<Rest, LdapResult> {
        let key = <[u8; 8]>::try_from(cookie).ok().map(u64::from_be_bytes);
        let rest = key.and_then(|key| self.pages.remove(&key));
        rest.ok_or_else(|| LdapResult::new(53, "the page cookie is not known"))
    }

    /// Looks whether the client has abandoned the search that runs; keeps everything else that
    /// came for later.
    async fn is_abandoned(&mut self, running: u32) -> io::Result<bool> {
        tokio::task::yield_now().await;
        while let Ok(message) = self.requests.try_recv() {
            match message.operation {
                Operation::AbandonRequest(id) if id == running => return Ok(true),
                Operation::UnbindRequest(()) => return Err(io::ErrorKind::ConnectionAborted.into()),
                _ => self.waiting.push_back(message),
            }
        }
        Ok(false)
    }

    async fn send(
        &mut self,
        id: u32,
        operation: Operation,
        controls: Option<Vec<Control>>,
    ) -> io::Result<()> {
        let message = Message { id, operation, controls };
        let bytes = message.encode().map_err(io::Error::other)?;
        self.outbox.extend_from_slice(&bytes);
        self.sent += 1;
        if self.options.cut_after.is_some_and(|limit| self.sent >= limit) {
            self.flush().await?;
            return Err(io::ErrorKind::ConnectionAborted.into());
        }
        if self.outbox.len() >= SEND_AT {
            self.flush().await?;
        }
        Ok(())
    }

    async fn flush(&mut self) -> io::Result<()> {
        self.writer.write_all(&self.outbox).await?;
        self.outbox.clear();
        self.writer.flush().await
    }
}

/// The beginning of a search: every place that it looks at.
fn begin(directory: &Directory, base: &Dn, scope: Scope) -> Result<Rest, LdapResult> {
    let missing = |matched: String| LdapResult {
        matched_dn: Octets::from_slice(matched.as_bytes()),
        ..LdapResult::new(32, "")
    };
    Ok(Rest { places: directory.places(base, scope).map_err(missing)?.into(), sent: 0 })
}

/// One entry as it goes out.
fn answer(entry: Entry<'_>, wanted: &HashSet<NameId>, types_only: bool) -> Operation {
    let attributes = entry
        .attributes_by_id()
        .filter(|(id, _)| wanted.contains(id))
        .map(|(id, values)| PartialAttribute {
            description: Octets::from_slice(entry.spelling(id).as_bytes()),
            values: if types_only { Vec::new() } else { values.map(Octets::from_slice).collect() },
        })
        .collect();
    Operation::SearchResultEntry(SearchResultEntry {
        name: Octets::from_slice(entry.dn().as_bytes()),
        attributes,
    })
}
