//! One client's session: each request is answered before the next is read, except that an abandon is noticed while a
//! search runs.

use crate::controller;
use crate::directory::Directory;
use crate::fault::FaultKind;
use crate::manner::Manner;
use crate::options::Options;
use crate::password_state::{self, PasswordState};
use crate::peer::{Peer, Stream, answer};
use crate::search::Search;
use std::collections::{HashMap, VecDeque};
use std::io;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering::Relaxed;
use tokio::io::AsyncWriteExt as _;
use tokio::net::TcpStream;
use tokio_rustls::TlsAcceptor;
use webtaxon_core::ldap::name::Dn;
use webtaxon_wire::control::{PASSWORD_POLICY, START_TLS, WHO_AM_I};
use webtaxon_wire::frame::Inbox;
use webtaxon_wire::message::{
    Authentication, BindRequest, BindResponse, Control, ExtendedRequest, LdapResult, Octets, ResultCode,
};
use webtaxon_wire::{Message, Operation};

/// Serves one client from its first byte to its last.
pub(crate) async fn accept(
    stream: TcpStream,
    acceptor: TlsAcceptor,
    directory: Arc<Directory>,
    options: Arc<Options>,
    searched: Arc<AtomicU64>,
) {
    let (stream, secure): (Box<dyn Stream>, bool) = match options.tls {
        true => match acceptor.accept(stream).await {
            Ok(stream) => (Box::new(stream), true),
            Err(_) => return,
        },
        false => (Box::new(stream), false),
    };
    let mut session = Peer {
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
        searched,
    };
    // An error ends only this session.
    let _ = session.run().await;
    let _ = session.stream.shutdown().await;
}

impl Peer {
    async fn run(&mut self) -> io::Result<()> {
        while let Some(message) = self.next().await? {
            let id = message.id;
            match message.operation {
                Operation::BindRequest(request) => {
                    self.bound = None;
                    let (result, state) = self.bind(&request);
                    let is_asked = |control: &Control| control.oid == PASSWORD_POLICY.as_bytes();
                    let is_asked = message.controls.iter().flatten().any(is_asked);
                    let LdapResult { code, matched_dn, text, referral } = result;
                    let response = BindResponse { code, matched_dn, text, referral, sasl: None };
                    let controls = state.and_then(|state| state.control(self.directory.manner(), is_asked));
                    self.send(id, Operation::BindResponse(response), controls.map(|one| vec![one])).await?;
                }
                Operation::SearchRequest(request) => {
                    self.searches += 1;
                    self.move_on();
                    Search::new(self, id, request, message.controls).run().await?;
                    if self.options.one_search {
                        return self.flush().await;
                    }
                }
                Operation::ExtendedRequest(request) => self.extended(id, request).await?,
                // Nothing is in progress when an abandon is read here.
                Operation::AbandonRequest(_) => {}
                // An unbind, or a message that only a server may send.
                _ => return self.flush().await,
            }
        }
        Ok(())
    }

    /// The state of the directory after one more search.
    fn move_on(&mut self) {
        let searched = self.searched.fetch_add(1, Relaxed);
        let due = self.options.moments.iter().rev().find(|(after, _)| searched >= *after);
        if let Some((_, directory)) = due {
            self.directory = Arc::clone(directory);
        }
    }

    /// Simple bind (RFC 4513 §5.1).
    fn bind(&mut self, request: &BindRequest) -> (LdapResult, Option<PasswordState>) {
        let plainly = |code, words: &str| (LdapResult::new(code, words), None);
        let password = match &request.authentication {
            Authentication::Simple(password) => password,
            // The handshake has required a certificate.
            Authentication::Sasl(sasl) if &*sasl.mechanism == b"EXTERNAL" && self.secure => {
                let Some(client) = &self.options.client else {
                    return plainly(48, "nothing shows who the client is");
                };
                self.bound = Some(format!("dn:{client}"));
                return plainly(0, "");
            }
            Authentication::Sasl(_) => return plainly(7, "this mechanism is not known here"),
        };
        if request.version != 3 {
            return plainly(2, "only LDAP version 3 is known here");
        }
        let Ok(name) = std::str::from_utf8(&request.name) else { return plainly(34, "") };
        match (name.is_empty(), password.0.is_empty()) {
            (true, true) => return plainly(0, ""),
            (true, false) => return plainly(49, ""),
            // RFC 4513 §5.1.2: a name without a password is not authenticated.
            (false, true) => {
                return plainly(53, "unauthenticated bind (DN with no password) disallowed");
            }
            (false, false) => {}
        }
        let controller = self.directory.manner() == Manner::Controller;
        if self.options.secure_bind && !self.secure {
            return match controller {
                true => plainly(8, "BindSimple: Transport encryption required."),
                false => plainly(13, "confidentiality required"),
            };
        }
        let (result, state) = if controller {
            (controller::bind(&self.directory, name, &password.0), None)
        } else {
            let Ok(dn) = Dn::parse(name) else { return plainly(34, "invalid DN") };
            let is_dirsrv = self.directory.manner() == Manner::Dirsrv;
            self.directory.at(&dn).map_or_else(
                || plainly(49, ""),
                |entry| password_state::answer(entry, &password.0, is_dirsrv),
            )
        };
        if result.code == ResultCode::SUCCESS {
            self.bound = Some(format!("dn:{name}"));
        }
        (result, state)
    }

    async fn extended(&mut self, id: u32, request: ExtendedRequest) -> io::Result<()> {
        let plain = self.directory.manner() != Manner::Controller;
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
}
