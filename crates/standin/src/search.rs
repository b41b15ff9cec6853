//! One search of a client (RFC 4511 §4.5), with pages (RFC 2696) and limits.

use crate::directory::{Directory, Wanted};
use crate::fault::{Fault, FaultKind};
use crate::manner::Manner;
use crate::options::ServedFilters;
use crate::peer::{Peer, Rest};
use crate::{controller, root};
use std::io;
use std::sync::Arc;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::{Filter, Item, Matcher};
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::Schema;
use webtaxon_wire::Operation;
use webtaxon_wire::control::{DOMAIN_SCOPE, PAGED_RESULTS, paged, paged_value};
use webtaxon_wire::message::{
    Control, LdapResult, Octets, PartialAttribute, Scope, SearchRequest, SearchResultEntry,
};

/// A search being answered.
pub(crate) struct Search<'s> {
    peer: &'s mut Peer,
    id: u32,
    request: SearchRequest,
    controls: Vec<Control>,
}

/// The result of a search that was refused.
type Refused = LdapResult;

impl<'s> Search<'s> {
    pub(crate) fn new(
        peer: &'s mut Peer,
        id: u32,
        request: SearchRequest,
        controls: Option<Vec<Control>>,
    ) -> Self {
        Self { peer, id, request, controls: controls.unwrap_or_default() }
    }

    /// Answers the search, to its result.
    pub(crate) async fn run(mut self) -> io::Result<()> {
        match self.prepare() {
            Err(refused) => self.done(refused, None).await,
            Ok((base, filter)) => self.answer(base, filter).await,
        }
    }

    async fn done(&mut self, result: LdapResult, controls: Option<Vec<Control>>) -> io::Result<()> {
        self.peer.send(self.id, Operation::SearchResultDone(result), controls).await
    }

    fn fault(&self, kind: FaultKind) -> Option<Fault> {
        self.peer.options.fault.filter(|fault| fault.kind == kind)
    }

    fn has(&self, control: &str) -> bool {
        self.controls.iter().any(|its| its.oid == control.as_bytes())
    }

    /// Checks the request.
    fn prepare(&self) -> Result<(Dn, Filter), Refused> {
        let options = &self.peer.options;
        let controller = self.peer.directory.manner() == Manner::Controller;
        let known = |control: &Control| {
            (options.paging && control.oid == PAGED_RESULTS.as_bytes())
                || (controller && control.oid == DOMAIN_SCOPE.as_bytes())
        };
        if self.controls.iter().any(|control| control.critical && !known(control)) {
            return Err(LdapResult::new(12, "critical control unknown"));
        }
        if self.fault(FaultKind::Busy).is_some_and(|fault| self.peer.searches <= fault.after) {
            return Err(LdapResult::new(51, "too many searches at once"));
        }
        let base = std::str::from_utf8(&self.request.base).ok().and_then(|base| Dn::parse(base).ok());
        let base = base.ok_or_else(|| LdapResult::new(34, "the base is not a distinguished name"))?;
        let filter = self.request.filter.to_filter();
        let filter = filter.map_err(|_| LdapResult::new(2, "the filter cannot be read"))?;
        let is_root = base.first().is_none() && self.request.scope == Scope::Base;
        let is_served = match options.filters {
            ServedFilters::All => true,
            ServedFilters::NoPresence => filter.items().all(|item| !matches!(item, Item::Present { .. })),
            ServedFilters::EqualityAlone => matches!(filter, Filter::Item(Item::Equal { .. })),
        };
        if !is_served && !is_root {
            return Err(LdapResult::new(53, "this filter is not served"));
        }
        let filter = searchable(&filter, &options.unsearchable);
        if options.shy && self.peer.bound.is_none() {
            return Err(LdapResult::new(50, ""));
        }
        Ok((base, filter))
    }

    async fn answer(&mut self, base: Dn, filter: Filter) -> io::Result<()> {
        let directory = Arc::clone(&self.peer.directory);
        let (root, partitions);
        let is_root = base.first().is_none() && self.request.scope == Scope::Base;
        let own = if is_root {
            root = root::root_dse(&directory, &self.peer.options);
            Some(&root)
        } else {
            partitions = root::partitions(&directory, &base).filter(|_| self.peer.bound.is_some());
            partitions.as_ref().or_else(|| directory.subschema(&base))
        };
        if let Some(entries) = own {
            let hidden = if is_root { self.peer.options.hidden.clone() } else { Vec::new() };
            return self.about_itself(entries, &filter, (directory.schema(), &hidden)).await;
        }
        if self.peer.bound.is_none() && !self.peer.options.anonymous {
            let refused = match directory.manner() {
                Manner::Controller => {
                    LdapResult::new(1, "00002020: Operation unavailable without authentication")
                }
                Manner::Plain | Manner::Dirsrv => LdapResult::new(50, ""),
            };
            return self.done(refused, None).await;
        }
        let page = match paged_value(Some(&self.controls)) {
            Ok(page) => page,
            Err(_) => return self.done(LdapResult::new(2, "the paging control cannot be read"), None).await,
        };
        if page.is_some() && self.peer.options.refuses_pages {
            return self.done(LdapResult::new(53, "pages are not served"), None).await;
        }
        let largest = self.peer.options.largest_page;
        if let (Some((size, _)), Some(largest)) = (&page, largest)
            && *size > largest
        {
            return self.done(LdapResult::new(11, "illegal pagedResults page size"), None).await;
        }
        let begun = match page.as_ref().filter(|(_, cookie)| !cookie.is_empty()) {
            Some((_, cookie)) => self.resume(cookie),
            None => self.begin(&directory, &base, page.is_some()),
        };
        match begun {
            Ok(rest) => {
                let directory = Arc::clone(&rest.directory);
                self.entries(&directory, &base, filter, rest, page).await
            }
            Err(refused) => self.done(refused, None).await,
        }
    }

    async fn about_itself(
        &mut self,
        entries: &Entries,
        filter: &Filter,
        (schema, hidden): (&Schema, &[String]),
    ) -> io::Result<()> {
        let matcher = Matcher::new(filter, schema, entries.names());
        let wanted = Wanted::new(&self.attributes(), entries.names(), hidden, schema);
        let scope = self.request.scope;
        for entry in entries.iter().filter(|entry| scope != Scope::One && matcher.matches(*entry)) {
            let attributes = entry.attributes_by_id().filter(|(id, _)| wanted.ids.contains(id));
            let attributes = attributes
                .map(|(id, values)| (entry.spelling(id).to_owned(), values.map(<[u8]>::to_vec).collect()))
                .collect();
            self.entry(entry.dn(), attributes).await?;
        }
        self.done(LdapResult::new(0, ""), None).await
    }

    async fn entries(
        &mut self,
        directory: &Directory,
        base: &Dn,
        filter: Filter,
        mut rest: Rest,
        page: Option<(u32, Octets)>,
    ) -> io::Result<()> {
        let options = Arc::clone(&self.peer.options);
        let matcher = directory.matcher(&filter);
        let schema = directory.schema();
        let wanted = Wanted::new(&self.attributes(), directory.names(), &options.hidden, schema);
        let (limit, on_page) = self.limits(directory, page.as_ref());
        let is_hurried =
            self.fault(FaultKind::Hurried).is_some_and(|fault| self.peer.searches <= fault.after);
        let again = self.fault(FaultKind::SamePage).map(|_| rest.places.clone());
        let (hidden, bare) = (keys(&options.hidden_below), keys(&options.bare));
        let most = self.fault(FaultKind::Short).and_then(|fault| usize::try_from(fault.after).ok());
        let (mut sent, mut code, mut looked) = (0, 0, 0_u32);
        while let Some(index) = rest.places.pop_front() {
            looked += 1;
            if looked.is_multiple_of(64) && self.peer.is_abandoned(self.id).await? {
                return Ok(());
            }
            let entry = directory.entry(index).filter(|entry| Self::shows(entry.dn(), &hidden));
            let is_bare = entry.is_some_and(|entry| !Self::shows(entry.dn(), &bare));
            let is_found = |entry: Entry<'_>| match is_bare {
                true => filter == Filter::present("objectClass"),
                false => matcher.matches(entry),
            };
            let Some(entry) = entry.filter(|entry| is_found(*entry)) else { continue };
            if most.is_some_and(|most| rest.sent + sent >= most) {
                rest.places.clear();
                break;
            }
            if is_hurried && sent > 0 {
                code = 3;
                rest.places.clear();
                break;
            }
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
            let answer = directory.answer(entry, &wanted, self.request.scope);
            self.entry(entry.dn(), if is_bare { Vec::new() } else { answer }).await?;
        }
        if let Some(again) = again {
            rest.places = again;
        }
        if rest.places.is_empty() && code == 0 {
            self.references(directory, base).await?;
        }
        let control = page.map(|_| vec![paged(0, &self.keep(rest, sent))]);
        self.done(LdapResult::new(code, ""), control).await
    }

    /// Maximum entries of the search, and of a page.
    fn limits(&self, directory: &Directory, page: Option<&(u32, Octets)>) -> (usize, usize) {
        let options = &self.peer.options;
        let own = usize::try_from(self.request.size_limit).ok().filter(|limit| *limit > 0);
        let servers = match page {
            Some(_) => options.paged_limit,
            None => Some(options.size_limit.unwrap_or(directory.manner().size_limit())),
        };
        let limit = own.into_iter().chain(servers).min().unwrap_or(usize::MAX);
        let on_page = page.and_then(|(size, _)| usize::try_from(*size).ok()).unwrap_or(usize::MAX);
        let on_page = on_page.min(match (directory.manner(), page) {
            (Manner::Controller, Some(_)) => Manner::Controller.size_limit(),
            _ => usize::MAX,
        });
        let on_page = if self.fault(FaultKind::EmptyPages).is_some() { 0 } else { on_page };
        (limit, on_page)
    }

    /// Whether an entry is not hidden.
    fn shows(dn: &str, hidden: &[DnKey]) -> bool {
        let is_hidden = || Dn::parse(dn).is_ok_and(|dn| hidden.iter().any(|top| dn.key().is_within(top)));
        hidden.is_empty() || !is_hidden()
    }

    /// The continuation references.
    async fn references(&mut self, directory: &Directory, base: &Dn) -> io::Result<()> {
        let wants = self.request.scope == Scope::Subtree && !self.has(DOMAIN_SCOPE);
        let mut urls = Vec::new();
        if directory.manner() == Manner::Controller && wants {
            urls = controller::references(directory, base);
        }
        if self.request.scope == Scope::Subtree {
            urls.extend(self.peer.options.references.iter().cloned());
        }
        for url in urls {
            let reference = Operation::SearchResultReference(vec![Octets::from_slice(url.as_bytes())]);
            self.peer.send(self.id, reference, None).await?;
        }
        Ok(())
    }

    /// Keeps the rest of a paged search, and returns its cookie; empty at the end.
    fn keep(&mut self, rest: Rest, sent: usize) -> Vec<u8> {
        if rest.places.is_empty() {
            return Vec::new();
        }
        self.peer.last_page += 1;
        let (key, sent) = (self.peer.last_page, rest.sent + sent);
        self.peer.pages.insert(key, Rest { places: rest.places, sent, directory: rest.directory });
        key.to_be_bytes().to_vec()
    }

    /// The rest of a paged search; a cookie is valid for one page.
    fn resume(&mut self, cookie: &[u8]) -> Result<Rest, Refused> {
        let key = <[u8; 8]>::try_from(cookie).ok().map(u64::from_be_bytes);
        let rest = key.and_then(|key| self.peer.pages.remove(&key));
        rest.ok_or_else(|| LdapResult::new(53, "the page cookie is not known"))
    }

    /// The start of a search: every entry in its scope.
    fn begin(&mut self, directory: &Arc<Directory>, base: &Dn, in_pages: bool) -> Result<Rest, Refused> {
        let missing = |matched: String| LdapResult {
            matched_dn: Octets::from_slice(matched.as_bytes()),
            ..LdapResult::new(32, "")
        };
        let own = Arc::clone(directory);
        let rest = |places: Vec<usize>| Rest { directory: own, places: places.into(), sent: 0 };
        if in_pages && directory.manner() == Manner::Plain {
            self.peer.pages.clear(); // one paged search at a time on a connection
        }
        let hidden = keys(&self.peer.options.hidden_below);
        if hidden.iter().any(|top| base.key().is_within(top)) {
            return match directory.manner() {
                Manner::Dirsrv => Ok(rest(Vec::new())),
                Manner::Plain | Manner::Controller => Err(missing(String::new())),
            };
        }
        let places = directory.places(base, self.request.scope);
        if places.is_err()
            && directory.manner() == Manner::Dirsrv
            && (in_pages || self.request.scope == Scope::Base)
        {
            return Ok(rest(Vec::new()));
        }
        Ok(rest(places.map_err(missing)?))
    }

    fn attributes(&self) -> Vec<String> {
        let text = |octets: &Octets| String::from_utf8(octets.to_vec()).ok();
        self.request.attributes.iter().filter_map(text).collect()
    }

    async fn entry(&mut self, dn: &str, attributes: Vec<(String, Vec<Vec<u8>>)>) -> io::Result<()> {
        let types_only = self.request.types_only;
        let attribute = |(name, values): (String, Vec<Vec<u8>>)| PartialAttribute {
            description: Octets::from(name.into_bytes()),
            values: if types_only { Vec::new() } else { values.into_iter().map(Octets::from).collect() },
        };
        let attributes = attributes.into_iter().map(attribute).collect();
        let name = Octets::from_slice(dn.as_bytes());
        self.peer
            .send(self.id, Operation::SearchResultEntry(SearchResultEntry { name, attributes }), None)
            .await
    }
}

fn keys(names: &[String]) -> Vec<DnKey> {
    names.iter().filter_map(|name| Some(Dn::parse(name).ok()?.key())).collect()
}

/// The filter as a server sees it that cannot test these attributes: such a comparison is false.
fn searchable(filter: &Filter, unsearchable: &[String]) -> Filter {
    let all = |list: &[Filter]| list.iter().map(|one| searchable(one, unsearchable)).collect();
    match filter {
        Filter::And(list) => Filter::And(all(list)),
        Filter::Or(list) => Filter::Or(all(list)),
        Filter::Not(one) => Filter::Not(Box::new(searchable(one, unsearchable))),
        Filter::Item(item) => {
            let name = item.attribute().unwrap_or_default();
            match unsearchable.iter().any(|attribute| attribute.eq_ignore_ascii_case(name)) {
                true => Filter::Or(Vec::new()),
                false => filter.clone(),
            }
        }
    }
}
