//! Searches: page after page as a stream (RFC 2696), or many small ones at once.

use super::connection::Connection;
use super::existence::Existence;
use super::query::{Query, SearchItem, Short, first_entry, push};
use crate::directory::{DirectoryError, DirectoryErrorKind};
use std::ops::ControlFlow;
use std::time::Duration;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_wire::conversation::RequestId;
use webtaxon_wire::message::{LdapResult, Octets, ResultCode, Scope};
use webtaxon_wire::{Event, control};

/// Pauses before a busy server is asked again.
const PAUSES: [Duration; 3] = [Duration::from_millis(250), Duration::from_secs(1), Duration::from_secs(3)];
/// Searches of a pipeline in progress at once.
const WINDOW: usize = 64;
/// Consecutive empty pages after which a server is taken to be endless. Honest servers send a few, for costly
/// filters.
const EMPTY_PAGES: usize = 1000;

/// A search in progress: entries as they arrive, page after page.
///
/// Only [`PagedSearch::next`] reads from the socket, so a slow caller slows the server. A search dropped before its
/// end is abandoned.
#[derive(Debug)]
pub struct PagedSearch<'c> {
    connection: &'c mut Connection,
    query: Query,
    current: Option<RequestId>,
    /// The request for the next page, if it was sent already.
    next: Option<RequestId>,
    /// The cookie of the current page; empty for the first.
    cookie: Octets,
    /// Whether a page has ended.
    begun: bool,
    /// Entries of the current page.
    on_page: usize,
    empty_pages: usize,
    /// Number of retries of this page.
    tries: usize,
    /// The filter in use, if any entry is asked for.
    existence: Option<Existence>,
}

impl Connection {
    /// Queues a request; it is sent with the next flush or wait.
    fn ask(
        &mut self,
        query: &Query,
        existence: Option<Existence>,
        cookie: &[u8],
    ) -> Result<RequestId, DirectoryError> {
        let instead = existence.filter(|one| *one != Existence::Present).map(Existence::filter);
        let request = query.request(instead.as_ref());
        let request = request.map_err(|error| DirectoryError::protocol(self.server(), error))?;
        let mut controls = Vec::new();
        if self.root().domain_scope() {
            controls.push(control::domain_scope());
        }
        if query.scope != Scope::Base {
            controls.extend(self.page().map(|size| control::paged(size, cookie)));
        }
        self.queue_search(request, controls)
    }

    /// The filter to begin with, if a query asks for any entry.
    fn existence_for(&self, query: &Query) -> Option<Existence> {
        Existence::is_asked(query).then_some(self.existence)
    }

    /// The filter to try next; remembers the one that found an entry.
    fn after(&mut self, existence: Option<Existence>, code: ResultCode, is_found: bool) -> Option<Existence> {
        let tried = existence?;
        if is_found {
            self.existence = tried.known();
        }
        tried.next(code, is_found)
    }

    /// Starts a search.
    ///
    /// # Errors
    /// The connection is unusable.
    pub async fn search(&mut self, query: Query) -> Result<PagedSearch<'_>, DirectoryError> {
        let existence = self.existence_for(&query);
        let current = Some(self.ask(&query, existence, b"")?);
        Ok(PagedSearch {
            connection: self,
            query,
            current,
            next: None,
            cookie: Octets::default(),
            begun: false,
            on_page: 0,
            empty_pages: 0,
            tries: 0,
            existence,
        })
    }

    /// All results of a search: its entries, and the references met.
    ///
    /// # Errors
    /// The search did not succeed, or the connection is unusable.
    pub async fn entries(&mut self, query: Query) -> Result<(Entries, Vec<String>), DirectoryError> {
        let (mut entries, mut references) = (Entries::new(), Vec::new());
        let mut search = self.search(query).await?;
        while let Some(found) = search.next().await? {
            match found {
                SearchItem::Entry(entry) => push(&mut entries, &entry),
                SearchItem::Reference(urls) => references.extend(urls),
            }
        }
        Ok((entries, references))
    }

    /// Passes each entry of a search to `take`, one at a time, until `take` breaks off. Nothing is kept. If the
    /// server's limit ended the search, the result says so.
    ///
    /// # Errors
    /// Nothing could be read, or the connection is unusable.
    pub async fn each(
        &mut self,
        query: Query,
        mut take: impl FnMut(Entry<'_>) -> ControlFlow<()>,
    ) -> Result<Short, DirectoryError> {
        let (mut short, mut one, mut came) = (Short::default(), Entries::new(), false);
        let mut search = self.search(query).await?;
        loop {
            match search.next().await {
                Ok(Some(SearchItem::Entry(entry))) => {
                    came = true;
                    one.clear();
                    push(&mut one, &entry);
                    if one.get(0).is_some_and(|entry| take(entry).is_break()) {
                        return Ok(short);
                    }
                }
                Ok(Some(SearchItem::Reference(urls))) => short.references.extend(urls),
                Ok(None) => return Ok(short),
                Err(error) if error.is_limit() && came => {
                    short.limit = Some(error.to_string());
                    return Ok(short);
                }
                Err(error) => return Err(error),
            }
        }
    }

    /// Makes many small searches, up to 64 at once, and passes on each result with the number of its search, in the
    /// order of the responses. One with more than a page of entries ends as if by a limit of its own, with the first of
    /// them.
    ///
    /// # Errors
    /// The connection is unusable. The failure of a single search is part of its result.
    pub async fn pipeline(
        &mut self,
        queries: &[Query],
        mut answer: impl FnMut(usize, Vec<SearchItem>, LdapResult),
    ) -> Result<(), DirectoryError> {
        let mut under_way: Vec<(RequestId, usize, Vec<SearchItem>, Option<Existence>)> = Vec::new();
        let mut waiting = queries.iter().enumerate();
        loop {
            let window = if self.is_short_lived() { 1 } else { WINDOW };
            while under_way.len() < window {
                let Some((number, query)) = waiting.next() else { break };
                let existence = self.existence_for(query);
                under_way.push((self.ask(query, existence, b"")?, number, Vec::new(), existence));
            }
            if under_way.is_empty() {
                return Ok(());
            }
            let event = match self.any_event().await {
                Ok(event) => event,
                Err(error) => {
                    self.open_again(error).await?;
                    for (request, number, found, existence) in &mut under_way {
                        let Some(query) = queries.get(*number) else { continue };
                        found.clear();
                        *request = self.ask(query, *existence, b"")?;
                    }
                    continue;
                }
            };
            let place = |id: RequestId| under_way.iter().position(|(known, ..)| *known == id);
            match event {
                Event::Entry(id, entry) => {
                    if let Some((_, _, found, _)) = place(id).and_then(|at| under_way.get_mut(at)) {
                        found.push(SearchItem::Entry(entry));
                    }
                }
                Event::Reference(id, urls) => {
                    if let Some((_, _, found, _)) = place(id).and_then(|at| under_way.get_mut(at)) {
                        found.push(reference(&urls));
                    }
                }
                Event::Done(id, mut result, cookie) => {
                    let Some(at) = place(id) else { continue };
                    if cookie.is_some_and(|cookie| !cookie.is_empty()) {
                        result.code = ResultCode::SIZE_LIMIT_EXCEEDED;
                    }
                    let (_, number, found, tried) = under_way.swap_remove(at);
                    let next = self.after(tried, result.code, first_entry(&found).is_some());
                    match next.zip(queries.get(number)) {
                        Some((next, query)) => {
                            let request = self.ask(query, Some(next), b"")?;
                            under_way.push((request, number, found, Some(next)));
                        }
                        None => answer(number, found, result),
                    }
                }
                Event::Bound(..) | Event::Extended(..) => {}
            }
        }
    }
}

fn reference(urls: &[Octets]) -> SearchItem {
    SearchItem::Reference(urls.iter().map(|url| String::from_utf8_lossy(url).into_owned()).collect())
}

impl PagedSearch<'_> {
    /// Whether to repeat a page that failed: after a pause if the server is busy, with a smaller page if it rejects
    /// the size. No part of the page may have arrived.
    async fn again(&mut self, result: &LdapResult) -> Result<bool, DirectoryError> {
        let next = self.connection.after(self.existence, result.code, self.on_page > 0);
        if next.is_some() {
            self.existence = next;
            return Ok(true);
        }
        if self.on_page > 0 {
            return Ok(false);
        }
        if result.code == ResultCode::ADMIN_LIMIT_EXCEEDED && !self.begun {
            return Ok(self.connection.halve_page());
        }
        // Some servers advertise pages and refuse them.
        let refuses = [ResultCode::UNAVAILABLE_CRITICAL_EXTENSION, ResultCode::UNWILLING_TO_PERFORM];
        if refuses.contains(&result.code) && !self.begun && self.query.scope != Scope::Base {
            return Ok(self.connection.no_pages());
        }
        if !matches!(result.code, ResultCode::BUSY | ResultCode::UNAVAILABLE) {
            return Ok(false);
        }
        let Some(pause) = PAUSES.get(self.tries) else { return Ok(false) };
        self.tries += 1;
        self.connection.rest(*pause).await?;
        Ok(true)
    }

    /// The next entry or reference; `None` after success.
    ///
    /// # Errors
    /// The search did not succeed, or the connection is unusable. Nothing follows an error.
    pub async fn next(&mut self) -> Result<Option<SearchItem>, DirectoryError> {
        while let Some(current) = self.current {
            if self.next.is_none()
                && let Some(cookie) = self.connection.page_behind(current)
            {
                // The server works on the next page while this one is read.
                self.next = Some(self.connection.ask(&self.query, self.existence, &cookie)?);
                self.connection.flush().await?;
            }
            let event = match self.connection.event_for(current).await {
                Ok(event) => event,
                Err(error) => {
                    self.current = None;
                    if self.begun || self.on_page > 0 {
                        return Err(error);
                    }
                    self.connection.open_again(error).await?;
                    self.current = Some(self.connection.ask(&self.query, self.existence, &self.cookie)?);
                    continue;
                }
            };
            match event {
                Event::Entry(_, entry) => {
                    self.on_page += 1;
                    return Ok(Some(SearchItem::Entry(entry)));
                }
                Event::Reference(_, urls) => return Ok(Some(reference(&urls))),
                Event::Done(_, result, cookie) => {
                    self.current = None;
                    if self.again(&result).await? {
                        self.current =
                            Some(self.connection.ask(&self.query, self.existence, &self.cookie)?);
                        continue;
                    }
                    if result.code != ResultCode::SUCCESS {
                        let base = self.query.base.clone();
                        return Err(DirectoryErrorKind::Search { base, result: Box::new(result) }.into());
                    }
                    if let Some(cookie) = cookie {
                        self.empty_pages = if self.on_page == 0 { self.empty_pages + 1 } else { 0 };
                        if self.empty_pages > EMPTY_PAGES {
                            let base = self.query.base.clone();
                            return Err(DirectoryErrorKind::EndlessPages { base }.into());
                        }
                        self.current = match self.next.take() {
                            Some(asked) => Some(asked),
                            None => Some(self.connection.ask(&self.query, self.existence, &cookie)?),
                        };
                        (self.cookie, self.on_page, self.begun, self.tries) = (cookie, 0, true, 0);
                    }
                }
                Event::Bound(..) | Event::Extended(..) => {}
            }
        }
        Ok(None)
    }
}

impl Drop for PagedSearch<'_> {
    fn drop(&mut self) {
        for request in self.current.into_iter().chain(self.next) {
            self.connection.abandon(request);
        }
    }
}
