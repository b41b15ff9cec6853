//! One connection to one server: a short loop around the conversation of `webtaxon-wire`.
//!
//! It reads from the socket only when an event is awaited, so that a slow reader slows the server down and no data
//! accumulates here.

use super::existence::Existence;
use super::offline::Offline;
use super::query::Query;
use super::root_dse::RootDse;
use super::srv;
use super::transport::{self, Milestone, Stream};
use crate::directory::{DirectoryError, DirectoryErrorKind};
use crate::progress::Watch;
use crate::secure::SecureError;
use std::collections::VecDeque;
use std::net::SocketAddr;
use std::path::Path;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::{Instant, timeout_at};
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::url::Server;
use webtaxon_core::reading::snapshot::Snapshot;
use webtaxon_core::settings::{Directory, Servers};
use webtaxon_wire::control::PasswordState;
use webtaxon_wire::conversation::RequestId;
use webtaxon_wire::entry::ReceivedEntry;
use webtaxon_wire::frame::ENTRY_LIMIT;
use webtaxon_wire::message::{Control, LdapResult, Octets};
use webtaxon_wire::{Conversation, Event, ProtocolErrorKind};

/// Results of a server that does not show its root DSE, perhaps only before a bind: operationsError,
/// strongerAuthRequired, confidentialityRequired, noSuchObject, inappropriateAuthentication, insufficientAccessRights,
/// unwillingToPerform.
fn is_shy(error: &DirectoryError) -> bool {
    matches!(error.kind(), DirectoryErrorKind::Search { result, .. } if [1, 8, 13, 32, 48, 50, 53].contains(&result.code.0))
}

/// Opens the same connection once more, with the root DSE that was read already, and until the same deadline.
pub(super) type Reopen = Arc<
    dyn Fn(RootDse, Instant) -> Pin<Box<dyn Future<Output = Result<Connection, DirectoryError>> + Send>>
        + Send
        + Sync,
>;

/// An open connection.
pub struct Connection {
    stream: Box<dyn Stream>,
    conversation: Conversation,
    buffer: Box<[u8]>,
    /// Events that arrived for requests other than the awaited one.
    aside: VecDeque<Event>,
    server: String,
    timeout: Duration,
    run: Duration,
    deadline: Instant,
    root: RootDse,
    page: u32,
    password_state: Option<PasswordState>,
    /// True until something arrives on a connection without TLS.
    is_unheard: bool,
    /// True without encryption, unless the server is on this machine.
    is_exposed: bool,
    /// Number of searches that ended, or were abandoned, on the present connection.
    searches: usize,
    /// How to open it again, if it ends after each search.
    reopen: Option<Reopen>,
    /// The server ends it after each search.
    is_short_lived: bool,
    /// The filter that finds any entry.
    pub(super) existence: Existence,
    /// The system's error when the connection broke.
    broken: Option<std::io::Error>,
    /// A page whose end has arrived before its entries were all read, with the next page's cookie.
    ahead: Option<(RequestId, Octets)>,
    /// The snapshot that answers in place of a server, if any.
    offline: Option<Offline>,
    /// The receiver of progress events.
    pub(crate) watch: Watch,
}

/// The directory's servers, in the order in which to try them.
pub(crate) async fn servers(directory: &Directory) -> Result<Vec<Server>, DirectoryError> {
    match &directory.servers {
        Servers::Named(list) => Ok(list.clone()),
        Servers::Domain(domain) => srv::servers(domain, directory.connect_timeout).await,
    }
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Connection")
            .field("server", &self.server)
            .field("root", &self.root)
            .finish_non_exhaustive()
    }
}

impl Connection {
    /// Connects to one server, reports each step, and reads its root DSE unless it is known.
    pub(crate) async fn open_at(
        server: &Server,
        directory: &Directory,
        folder: &Path,
        deadline: Instant,
        known: Option<RootDse>,
        told: &mut (dyn FnMut(Milestone) + Send),
    ) -> Result<Self, DirectoryError> {
        let mut is_exposed = false;
        let mut told = |milestone: Milestone| {
            if let Milestone::Connected(peer) = &milestone {
                is_exposed = is_plain_over_network(server, directory, *peer);
            }
            told(milestone);
        };
        let stream = transport::open(server, directory, folder, &mut told).await?;
        let mut connection = Self {
            stream,
            conversation: Conversation::default(),
            buffer: vec![0; 1 << 18].into(),
            aside: VecDeque::new(),
            server: server.to_string(),
            timeout: directory.timeout,
            run: directory.deadline,
            deadline,
            root: RootDse::default(),
            page: directory.page,
            password_state: None,
            is_unheard: server.begins_plain() && directory.plain && known.is_none(),
            is_exposed,
            searches: 0,
            reopen: None,
            is_short_lived: false,
            existence: Existence::default(),
            broken: None,
            ahead: None,
            offline: None,
            watch: Watch::default(),
        };
        if let Some(root) = known {
            connection.root = root;
            connection.conversation.allow(ENTRY_LIMIT);
            return Ok(connection);
        }
        match connection.read_root().await {
            // It may be readable after the bind.
            Err(error) if !is_shy(&error) => {
                let reason = connection.broken.take();
                let reason = reason.and_then(|reason| transport::ended(&reason, directory));
                Err(reason.map_or(error, |reason| {
                    SecureError::Tls { server: connection.server.clone(), source: reason.into() }.into()
                }))
            }
            _ => {
                connection.conversation.allow(ENTRY_LIMIT);
                Ok(connection)
            }
        }
    }

    /// A connection to a snapshot in place of a server.
    pub(crate) fn offline(snapshot: Arc<Snapshot>, directory: &Directory, deadline: Instant) -> Self {
        let offline = Offline::new(snapshot);
        Self {
            stream: Box::new(tokio::io::join(tokio::io::empty(), tokio::io::sink())),
            conversation: Conversation::default(),
            buffer: Box::default(),
            aside: VecDeque::new(),
            server: offline.snapshot.header.server.clone(),
            timeout: directory.timeout,
            run: directory.deadline,
            deadline,
            root: offline.root(),
            page: 0,
            password_state: None,
            is_unheard: false,
            is_exposed: false,
            searches: 0,
            reopen: None,
            is_short_lived: false,
            existence: Existence::default(),
            broken: None,
            ahead: None,
            offline: Some(offline),
            watch: Watch::default(),
        }
    }

    /// The snapshot that answers in place of a server, if any.
    #[must_use]
    pub fn snapshot(&self) -> Option<&Arc<Snapshot>> {
        self.offline.as_ref().map(|offline| &offline.snapshot)
    }

    /// The server's address, as in the settings.
    #[must_use]
    pub fn server(&self) -> &str {
        &self.server
    }

    /// The server's root DSE.
    #[must_use]
    pub fn root(&self) -> &RootDse {
        &self.root
    }

    /// Entries on a page; `None` if the server does not support paging.
    pub(crate) fn page(&self) -> Option<u32> {
        Some(self.page).filter(|page| *page > 0 && self.root.paged())
    }

    /// Goes on without pages; false if there were none.
    pub(crate) fn no_pages(&mut self) -> bool {
        let paged = self.page().is_some();
        self.page = 0;
        paged
    }

    /// Halves the page size from here on, down to no paging; false if there was none already.
    pub(crate) fn halve_page(&mut self) -> bool {
        let paged = self.page().is_some();
        self.page /= 2;
        paged
    }

    /// Waits, but not beyond the run's deadline.
    pub(crate) async fn rest(&self, pause: Duration) -> Result<(), DirectoryError> {
        if Instant::now() + pause >= self.deadline {
            return Err(
                DirectoryErrorKind::Deadline { server: self.server.clone(), deadline: self.run }.into()
            );
        }
        tokio::time::sleep(pause).await;
        Ok(())
    }

    /// Lets a connection that was kept serve another run, which begins now.
    pub(crate) fn renew(&mut self) {
        self.deadline = Instant::now() + self.timeout * 2;
    }

    /// True if somebody between here and the server could read what is sent.
    pub(crate) fn is_exposed(&self) -> bool {
        self.is_exposed
    }

    /// Sets how to open this connection again.
    pub(super) fn can_reopen(&mut self, reopen: Reopen) {
        self.reopen = Some(reopen);
    }

    /// Whether the connection ended after one search: some servers end it after each.
    pub(super) fn ended_after_one(&self, error: &DirectoryError) -> bool {
        self.searches == 1 && matches!(error.kind(), DirectoryErrorKind::Cut { .. })
    }

    /// Opens the connection again if it ended after one search.
    ///
    /// # Errors
    /// It ended otherwise, with this error, or it cannot be opened again.
    pub(super) async fn open_again(&mut self, error: DirectoryError) -> Result<(), DirectoryError> {
        let reopen = self.reopen.clone().filter(|_| self.ended_after_one(&error));
        let Some(reopen) = reopen else { return Err(error) };
        let fresh = reopen(self.root.clone(), self.deadline).await?;
        (self.stream, self.conversation) = (fresh.stream, fresh.conversation);
        self.aside.clear();
        (self.ahead, self.broken, self.searches, self.is_short_lived) = (None, None, 0, true);
        self.is_exposed |= fresh.is_exposed;
        Ok(())
    }

    /// Whether the server ends the connection after each search.
    pub(super) fn is_short_lived(&self) -> bool {
        self.is_short_lived
    }

    async fn read_root(&mut self) -> Result<(), DirectoryError> {
        let query = Query::base("", &RootDse::ATTRIBUTES);
        let entries = self.entries(query).await?.0;
        if let Some(entry) = entries.get(0) {
            self.root = RootDse::of(entry);
        }
        Ok(())
    }

    /// The conversation, for requests that are sent with the next wait.
    pub(crate) fn conversation(&mut self) -> &mut Conversation {
        &mut self.conversation
    }

    /// Waits for the response to a bind.
    pub(crate) async fn bound(
        &mut self,
        request: RequestId,
    ) -> Result<(LdapResult, Vec<Control>), DirectoryError> {
        match self.event_for(request).await? {
            Event::Bound(_, result, controls) => Ok((result, controls)),
            _ => Err(DirectoryError::protocol(&self.server, ProtocolErrorKind::WrongAnswer { id: 0 }.into())),
        }
    }

    /// Makes an extended operation, and waits for its response.
    pub(crate) async fn extended(
        &mut self,
        oid: &'static str,
    ) -> Result<(LdapResult, Option<Octets>), DirectoryError> {
        let request = self.conversation.extended(oid);
        let request = request.map_err(|error| DirectoryError::protocol(&self.server, error))?;
        match self.event_for(request).await? {
            Event::Extended(_, result, value) => Ok((result, value)),
            _ => Err(DirectoryError::protocol(&self.server, ProtocolErrorKind::WrongAnswer { id: 0 }.into())),
        }
    }

    /// Reads the root DSE if it was refused, or showed nothing, before the bind; `tops` are the naming contexts in the
    /// settings.
    pub(crate) async fn read_root_again(&mut self, tops: &[Dn]) -> Result<(), DirectoryError> {
        if !self.root.read {
            self.read_root().await.or_else(|error| if is_shy(&error) { Ok(()) } else { Err(error) })?;
        }
        self.put_tops(tops);
        Ok(())
    }

    /// Takes the naming contexts in the settings, if any, instead of those that the server names.
    pub(crate) fn put_tops(&mut self, tops: &[Dn]) {
        if !tops.is_empty() {
            self.root.naming_contexts = tops.to_vec();
            self.root.default_naming_context = None;
        }
    }

    /// The password's state as reported with the bind, if it was.
    #[must_use]
    pub fn password_state(&self) -> Option<PasswordState> {
        self.password_state
    }

    pub(crate) fn set_password_state(&mut self, state: Option<PasswordState>) {
        self.password_state = state;
    }

    pub(crate) fn queue_search(
        &mut self,
        request: webtaxon_wire::message::SearchRequest,
        controls: Vec<Control>,
    ) -> Result<RequestId, DirectoryError> {
        let answer = self.offline.as_ref().map(|offline| offline.answer(&request));
        let id = self
            .conversation
            .search(request, controls)
            .map_err(|error| DirectoryError::protocol(&self.server, error))?;
        match answer {
            None => {} // goes out with the next wait, together with others
            Some((entries, result)) => {
                drop(self.conversation.outgoing());
                self.aside
                    .extend(entries.into_iter().map(|entry| Event::Entry(id, ReceivedEntry::from(&entry))));
                self.aside.push_back(Event::Done(id, result, None));
            }
        }
        Ok(id)
    }

    /// The cookie of the page after this one, if it has already arrived.
    pub(crate) fn page_behind(&mut self, current: RequestId) -> Option<Octets> {
        self.ahead.take_if(|(id, _)| *id == current).map(|(_, cookie)| cookie)
    }

    /// Abandons a search; sent with the next request.
    pub(crate) fn abandon(&mut self, request: RequestId) {
        let _ = self.conversation.abandon(request);
        self.searches += 1;
    }

    /// Sends pending requests.
    pub(crate) async fn flush(&mut self) -> Result<(), DirectoryError> {
        let outgoing = self.conversation.outgoing();
        if outgoing.is_empty() {
            return Ok(());
        }
        let until = self.until();
        let cut = || DirectoryErrorKind::Cut { server: self.server.clone(), is_unheard: self.is_unheard };
        let sending = async {
            self.stream.write_all(&outgoing).await?;
            self.stream.flush().await
        };
        match timeout_at(until, sending).await {
            Err(_) => Err(self.too_late().into()),
            Ok(Err(_)) => Err(cut().into()),
            Ok(Ok(())) => Ok(()),
        }
    }

    fn until(&self) -> Instant {
        self.deadline.min(Instant::now() + self.timeout)
    }

    fn too_late(&self) -> DirectoryErrorKind {
        let server = self.server.clone();
        if Instant::now() >= self.deadline {
            DirectoryErrorKind::Deadline { server, deadline: self.run }
        } else {
            DirectoryErrorKind::NoAnswer { server, is_unheard: self.is_unheard, waited: self.timeout }
        }
    }

    /// The next event of any request.
    pub(crate) async fn any_event(&mut self) -> Result<Event, DirectoryError> {
        match self.aside.pop_front() {
            Some(event) => Ok(event),
            None => self.event().await,
        }
    }

    /// The next event of one request.
    pub(crate) async fn event_for(&mut self, wanted: RequestId) -> Result<Event, DirectoryError> {
        let place = self.aside.iter().position(|event| request_of(event) == wanted);
        if let Some(event) = place.and_then(|at| self.aside.remove(at)) {
            return Ok(event);
        }
        loop {
            let event = self.event().await?;
            if request_of(&event) == wanted {
                return Ok(event);
            }
            self.aside.push_back(event);
        }
    }

    async fn event(&mut self) -> Result<Event, DirectoryError> {
        self.flush().await?;
        loop {
            // A server that keeps sending must not outlast the deadline.
            if Instant::now() >= self.deadline {
                return Err(self.too_late().into());
            }
            let next = self.conversation.next_event();
            if let Some(event) = next.map_err(|error| DirectoryError::protocol(&self.server, error))? {
                self.searches += usize::from(matches!(event, Event::Done(..)));
                return Ok(event);
            }
            let until = self.until();
            let count = match timeout_at(until, self.stream.read(&mut self.buffer)).await {
                Err(_) => return Err(self.too_late().into()),
                Ok(Ok(0)) => {
                    return Err(DirectoryErrorKind::Cut {
                        server: self.server.clone(),
                        is_unheard: self.is_unheard,
                    }
                    .into());
                }
                Ok(Err(reason)) => {
                    let server = self.server.clone();
                    self.broken = Some(reason);
                    let is_unheard = self.is_unheard;
                    return Err(DirectoryErrorKind::Cut { server, is_unheard }.into());
                }
                Ok(Ok(count)) => count,
            };
            self.is_unheard = false;
            self.conversation.feed(self.buffer.get(..count).unwrap_or(&[]));
            self.ahead = self.conversation.page_ahead().or(self.ahead.take());
        }
    }

    /// Ends the session (RFC 4511 §4.3) and closes the connection.
    pub async fn close(mut self) {
        let _ = self.conversation.unbind();
        let _ = self.flush().await;
        let _ = self.stream.shutdown().await;
    }
}

fn request_of(event: &Event) -> RequestId {
    match event {
        Event::Bound(id, ..)
        | Event::Extended(id, ..)
        | Event::Entry(id, _)
        | Event::Reference(id, _)
        | Event::Done(id, _, _) => *id,
    }
}

/// True if a connection to this address stays in plain text over a network; `None` stands for a local socket.
fn is_plain_over_network(server: &Server, directory: &Directory, peer: Option<SocketAddr>) -> bool {
    let is_far = peer.is_some_and(|peer| !peer.ip().to_canonical().is_loopback());
    server.begins_plain() && directory.plain && is_far
}

#[cfg(test)]
mod tests {
    use super::*;
    use secrecy::SecretString;
    use webtaxon_core::sign_in::PasswordAnswer;

    #[test]
    fn plain_text_leaves_this_machine_only_by_a_network() {
        for (server, plain, peer, expected) in [
            ("ldap://dc1.quillmere.example", true, "10.0.0.1:389", true),
            ("ldap://dc1.quillmere.example", false, "10.0.0.1:389", false),
            ("ldaps://dc1.quillmere.example", true, "10.0.0.1:636", false),
            ("ldap://localhost", true, "127.0.0.1:389", false),
            ("ldap://localhost", true, "[::1]:389", false),
            ("ldap://localhost", true, "[::ffff:127.0.0.1]:389", false),
            ("ldap://localhost", true, "192.168.1.7:389", true),
        ] {
            let server: Server = server.parse().unwrap();
            let mut directory = Directory::new("museum".to_owned(), Servers::Named(vec![server.clone()]));
            directory.plain = plain;
            let peer = Some(peer.parse().unwrap());
            assert_eq!(
                is_plain_over_network(&server, &directory, peer),
                expected,
                "{server} {plain} {peer:?}"
            );
        }
    }

    #[tokio::test]
    async fn nothing_is_sent_that_others_could_read_and_no_empty_password() {
        let directory = Directory::new("museum".to_owned(), Servers::Named(Vec::new()));
        let snapshot = Arc::new(Snapshot::default());
        let mut connection = Connection::offline(snapshot, &directory, Instant::now());
        let dn = "cn=x,dc=quillmere,dc=example";
        for (name, password) in [(dn, ""), ("", "heron")] {
            let answer = connection.bind_person(name, &SecretString::from(password)).await.unwrap();
            assert_eq!(answer, PasswordAnswer::Wrong);
        }
        connection.is_exposed = true;
        let error = connection.bind_person(dn, &SecretString::from("heron")).await.unwrap_err();
        assert!(matches!(error.kind(), DirectoryErrorKind::Exposed { .. }), "{error}");
        assert!(connection.conversation().outgoing().is_empty(), "something was to be sent");
    }
}
