//! One connection to one server: a short loop around the conversation of `webtaxon-wire`.
//!
//! It reads from the socket only when somebody waits for the next event, so that a slow reader
//! slows the server down and nothing piles up here.

use super::transport::{self, Stream};
use super::{DirectoryError, DirectoryErrorKind, Query};
use secrecy::{ExposeSecret, SecretString};
use std::collections::VecDeque;
use std::path::Path;
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::{Instant, timeout_at};
use webtaxon_core::entry::Entries;
use webtaxon_core::filter::Filter;
use webtaxon_core::name::Dn;
use webtaxon_core::reading::ServerKind;
use webtaxon_core::settings::Directory;
use webtaxon_wire::control::{DOMAIN_SCOPE, PAGED_RESULTS};
use webtaxon_wire::conversation::RequestId;
use webtaxon_wire::message::{Control, ResultCode, Scope, SearchResultEntry};
use webtaxon_wire::{Conversation, Event};

/// What a domain controller says it can do ([MS-ADTS] §3.1.1.3.4.3.1).
const CONTROLLER: &str = "1.2.840.113556.1.4.800";

/// What a server says of itself (RFC 4512 §5.1).
#[derive(Clone, Debug, Default)]
pub struct RootDse {
    /// What kind of server it is.
    pub kind: ServerKind,
    /// The tops of its trees.
    pub naming_contexts: Vec<Dn>,
    /// Whether it knows paged results (RFC 2696).
    pub paged: bool,
    /// Whether it can keep a search inside one domain.
    pub domain_scope: bool,
    /// Who made it, if it says so.
    pub vendor: Option<String>,
    /// Whether it said anything at all.
    pub read: bool,
}

/// Whether a server refuses to speak of itself to strangers: operationsError,
/// strongerAuthRequired, confidentialityRequired, inappropriateAuthentication,
/// insufficientAccessRights.
fn is_shy(error: &DirectoryError) -> bool {
    matches!(error.kind(), DirectoryErrorKind::Search { result, .. } if [1, 8, 13, 48, 50].contains(&result.code.0))
}

/// A connection that is open.
pub struct Connection {
    stream: Box<dyn Stream>,
    conversation: Conversation,
    buffer: Box<[u8]>,
    /// Events that came for other requests than the one that was waited for.
    aside: VecDeque<Event>,
    server: String,
    timeout: Duration,
    run: Duration,
    deadline: Instant,
    root: RootDse,
    page: u32,
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
    /// Connects to the first of the directory's servers that can be reached and trusted, and reads
    /// what it says of itself. The deadline of the whole run begins here.
    ///
    /// # Errors
    /// What the last server answered, if none could be used.
    pub async fn open(directory: &Directory, folder: &Path) -> Result<Self, DirectoryError> {
        let deadline = Instant::now() + directory.deadline;
        let mut failed = DirectoryErrorKind::NoServer.into();
        for server in &directory.servers {
            match transport::open(server, directory, folder, directory.timeout).await {
                Ok(stream) => {
                    let mut connection = Self {
                        stream,
                        conversation: Conversation::default(),
                        buffer: vec![0; 1 << 16].into(),
                        aside: VecDeque::new(),
                        server: server.to_string(),
                        timeout: directory.timeout,
                        run: directory.deadline,
                        deadline,
                        root: RootDse::default(),
                        page: directory.page,
                    };
                    match connection.read_root().await {
                        Ok(()) => return Ok(connection),
                        // It may be willing to after the bind.
                        Err(error) if is_shy(&error) => return Ok(connection),
                        Err(error) => failed = error,
                    }
                }
                Err(error) => failed = error,
            }
            tracing::debug!(%server, error = %failed, "this server cannot be used");
        }
        Err(failed)
    }

    /// The server's address, as the settings write it.
    #[must_use]
    pub fn server(&self) -> &str {
        &self.server
    }

    /// What the server says of itself.
    #[must_use]
    pub fn root(&self) -> &RootDse {
        &self.root
    }

    /// Entries in a page, if the server knows pages.
    pub(super) fn page(&self) -> Option<u32> {
        self.root.paged.then_some(self.page)
    }

    async fn read_root(&mut self) -> Result<(), DirectoryError> {
        let attributes = ["namingContexts", "supportedControl", "supportedCapabilities", "vendorName"];
        let query = Query {
            base: String::new(),
            scope: Scope::Base,
            filter: Filter::present("objectClass"),
            attributes: attributes.map(str::to_owned).to_vec(),
        };
        let mut entries = Entries::new();
        let mut search = self.search(query).await?;
        while let Some(found) = search.next().await? {
            if let super::Found::Entry(entry) = found {
                push(&mut entries, &entry);
            }
        }
        drop(search);
        let Some(entry) = entries.get(0) else { return Ok(()) };
        let has = |attribute, oid: &str| entry.values(attribute).any(|value| value == oid.as_bytes());
        self.root = RootDse {
            kind: if has("supportedCapabilities", CONTROLLER) {
                ServerKind::Controller
            } else {
                ServerKind::Plain
            },
            naming_contexts: entry
                .values("namingContexts")
                .filter_map(|value| Dn::parse(std::str::from_utf8(value).ok()?).ok())
                .collect(),
            paged: has("supportedControl", PAGED_RESULTS),
            domain_scope: has("supportedControl", DOMAIN_SCOPE),
            vendor: entry.text("vendorName").map(str::to_owned),
            read: true,
        };
        Ok(())
    }

    /// Says who asks (RFC 4513 §5.1). A directory without a bind name is asked anonymously.
    ///
    /// # Errors
    /// The bind was refused, or there is no password: an empty one is never sent with a name.
    pub async fn bind(
        &mut self,
        directory: &Directory,
        password: Option<&SecretString>,
    ) -> Result<(), DirectoryError> {
        let Some(name) = &directory.bind else { return Ok(()) };
        let secret = password
            .map(ExposeSecret::expose_secret)
            .filter(|secret| !secret.is_empty())
            .ok_or_else(|| DirectoryErrorKind::NoPassword {
                reason: format!("the bind as {name} has no password"),
                help: "a name without a password would count as anonymous (RFC 4513 section 5.1.2)"
                    .to_owned(),
            })?;
        let request = self
            .conversation
            .bind(name, secret.as_bytes())
            .map_err(|_| DirectoryError::unwritable(&self.server))?;
        let result = loop {
            match self.event().await? {
                Event::Bound(id, result) if id == request => break result,
                other => self.aside.push_back(other),
            }
        };
        if result.code == ResultCode::SUCCESS {
            if !self.root.read {
                // It refused to speak of itself before the bind.
                return self
                    .read_root()
                    .await
                    .or_else(|error| if is_shy(&error) { Ok(()) } else { Err(error) });
            }
            return Ok(());
        }
        let words = result.words();
        let words = if words.is_empty() { String::new() } else { format!(", the server says: {words}") };
        Err(DirectoryErrorKind::BindRefused {
            server: self.server.clone(),
            name: name.clone(),
            result: format!("{}{words}", result.code),
            help: bind_remedy(result.code.0),
        }
        .into())
    }

    pub(super) async fn send_search(
        &mut self,
        request: webtaxon_wire::message::SearchRequest,
        controls: Vec<Control>,
    ) -> Result<RequestId, DirectoryError> {
        let id = self
            .conversation
            .search(request, controls)
            .map_err(|error| DirectoryError::protocol(&self.server, error))?;
        self.flush().await?;
        Ok(id)
    }

    /// Tells the server that nobody waits for a search any more; goes out with the next request.
    pub(super) fn abandon(&mut self, request: RequestId) {
        let _ = self.conversation.abandon(request);
    }

    /// Sends what is to be sent.
    async fn flush(&mut self) -> Result<(), DirectoryError> {
        let outgoing = self.conversation.outgoing();
        if outgoing.is_empty() {
            return Ok(());
        }
        let until = self.until();
        let cut = || DirectoryErrorKind::Cut { server: self.server.clone() };
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
            DirectoryErrorKind::NoAnswer { server, waited: self.timeout }
        }
    }

    /// The next event for anybody.
    pub(super) async fn any_event(&mut self) -> Result<Event, DirectoryError> {
        match self.aside.pop_front() {
            Some(event) => Ok(event),
            None => self.event().await,
        }
    }

    /// The next event for one request.
    pub(super) async fn event_for(&mut self, wanted: RequestId) -> Result<Event, DirectoryError> {
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
            // A peer that keeps sending must not outrun the deadline.
            if Instant::now() >= self.deadline {
                return Err(self.too_late().into());
            }
            let next = self.conversation.next_event();
            if let Some(event) = next.map_err(|error| DirectoryError::protocol(&self.server, error))? {
                return Ok(event);
            }
            let until = self.until();
            let count = match timeout_at(until, self.stream.read(&mut self.buffer)).await {
                Err(_) => return Err(self.too_late().into()),
                Ok(Ok(0) | Err(_)) => {
                    return Err(DirectoryErrorKind::Cut { server: self.server.clone() }.into());
                }
                Ok(Ok(count)) => count,
            };
            self.conversation.feed(self.buffer.get(..count).unwrap_or(&[]));
        }
    }

    /// Says good-bye (RFC 4511 §4.3) and hangs up.
    pub async fn close(mut self) {
        let _ = self.conversation.unbind();
        let _ = self.flush().await;
        let _ = self.stream.shutdown().await;
    }
}

fn request_of(event: &Event) -> RequestId {
    match event {
        Event::Bound(id, _) | Event::Entry(id, _) | Event::Reference(id, _) | Event::Done(id, _, _) => *id,
    }
}

/// Keeps an entry; names that are not UTF-8 are passed over.
pub(super) fn push(entries: &mut Entries, entry: &SearchResultEntry) {
    entries.push(std::str::from_utf8(&entry.name).unwrap_or(""), attributes(entry));
}

/// An entry's attributes as core takes them.
pub(super) fn attributes(
    entry: &SearchResultEntry,
) -> impl Iterator<Item = (&str, impl Iterator<Item = &[u8]>)> {
    entry.attributes.iter().filter_map(|attribute| {
        let name = std::str::from_utf8(&attribute.description).ok()?;
        Some((name, attribute.values.iter().map(|value| &**value)))
    })
}

fn bind_remedy(code: u32) -> &'static str {
    match code {
        7 | 8 | 13 => "the server wants a secure connection before a password: use ldaps://",
        34 => "the bind name is not taken as it is written: try the full DN, or user@domain",
        48 | 53 => {
            "the server does not allow this kind of bind: ask its administrators how this account should bind"
        }
        49 => {
            "the name or the password is wrong, or the account is disabled or expired: check `bind`, then the password's source"
        }
        51 | 52 => "the server is busy or going down: try again later, or name another one in `servers`",
        _ => "ask the directory's administrators, and give them the result code",
    }
}
