//! Nested membership as computed by a domain controller: shared by the strategies that ask for it.
//!
//! The groups in between are not known, so that a path contains the named group alone. Only the controller's own
//! domain counts.

use super::group_entry::unlisted;
use super::named_groups::{self, ForeignPrincipal, NamedGroup, is_in_any, rule, texts};
use super::strategy::{Attempt, Nests};
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, SearchItem, first_entry};
use crate::directory::shortcoming::Shortcoming;
use crate::progress::Progress;
use std::collections::HashSet;
use std::ops::ControlFlow;
use webtaxon_core::graph::{NodeId, Roll};
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// The matching rule for chains ([MS-ADTS] §3.1.1.3.4.4.3).
pub(super) const CHAIN: &str = "1.2.840.113556.1.4.1941";

/// A bit of `groupType`: a security group, not a distribution group ([MS-ADTS] §2.2.12).
const SECURITY: u32 = 0x8000_0000;

/// The members of one named group, as computed.
pub(super) struct Computed {
    pub(super) members: Vec<NodeId>,
    /// Why they are incomplete, if they are.
    pub(super) short: Option<Shortcoming>,
}

/// A way to have a domain controller compute membership.
pub(super) trait Computation {
    /// What was done, for a note.
    const NOTE: &str;

    /// Asks whatever concerns all groups; returns why the results are no proof of absence, if they are not.
    async fn prepare(&mut self, nests: &mut Nests<'_>) -> Result<Option<Shortcoming>, DirectoryError>;

    /// The members of one group.
    async fn members(
        &self,
        nests: &mut Nests<'_>,
        group: &NamedGroup,
        inner: &InnerGroups,
        roll: &Roll,
    ) -> Result<Computed, DirectoryError>;
}

/// Reads the members of each named group, and closes its parts.
pub(super) async fn read<C: Computation>(
    nests: &mut Nests<'_>,
    mut computation: C,
) -> Result<Attempt, DirectoryError> {
    let (mut named, roll) = named_groups::look_up(nests).await?;
    named_groups::put_units(nests.builder, &named);
    if nests.connection.root().kind != ServerKind::Controller {
        // Other servers support neither, and would answer as if the groups were empty.
        named_groups::close(nests.builder, named, &roll, Some(&Shortcoming::NotComputed));
        return Ok(Attempt::Read);
    }
    let doubt = named_groups::doubt(nests.connection).await?;
    let own_doubt = computation.prepare(nests).await?;
    let (foreign, short) = named_groups::foreign(nests.connection).await?;
    for (number, group) in named.iter_mut().enumerate() {
        if group.is_unit || group.fault.is_some() {
            continue;
        }
        let inner = InnerGroups::read(nests.connection, &group.dn, &foreign).await?;
        let computed = computation.members(nests, group, &inner, &roll).await?;
        group.fault = inner.fault.or(computed.short);
        let graph = nests.builder.graph_mut();
        let node = graph.node(group.key.clone(), &group.dn);
        graph.set_members(node, computed.members);
        nests.connection.watch.tell(|| Progress::Groups { read: number + 1 });
    }
    nests.builder.note(C::NOTE.to_owned());
    named_groups::close(nests.builder, named, &roll, doubt.or(own_doubt).or(short).as_ref());
    Ok(Attempt::Read)
}

/// A named group, and all groups in it.
#[derive(Default)]
pub(super) struct InnerGroups {
    /// The primary group number of each, and its SID.
    pub(super) numbers: Vec<(Option<u32>, Option<Vec<u8>>)>,
    /// Their names.
    pub(super) keys: HashSet<DnKey>,
    /// A distribution group among them.
    pub(super) for_mail: Option<String>,
    /// Why their members cannot be known.
    fault: Option<Shortcoming>,
}

impl InnerGroups {
    async fn read(
        connection: &mut Connection,
        named: &str,
        foreign: &[ForeignPrincipal],
    ) -> Result<Self, DirectoryError> {
        let mut inner = Self::default();
        let Some(top) = connection.root().default_naming_context.clone() else { return Ok(inner) };
        let inside = rule("memberOf", CHAIN, named.as_bytes());
        let groups = Filter::all([Filter::equal("objectClass", "group"), inside]);
        // Not one search: some servers return computed attributes for single entries only.
        let mut names = Vec::new();
        let take = |entry: Entry<'_>| {
            names.push(entry.dn().to_owned());
            ControlFlow::Continue(())
        };
        let short = connection.each(Query::subtree(&top.to_string(), groups, &["1.1"]), take).await?;
        inner.fault = short.limit.map(Shortcoming::Failed);
        names.push(named.to_owned());
        inner.keys = names.iter().filter_map(|name| Some(Dn::parse(name).ok()?.key())).collect();
        let members = foreign.iter().filter(|principal| is_in_any(&principal.groups, &inner.keys));
        inner.fault = members.rev().find_map(|principal| unlisted(&principal.identity)).or(inner.fault);
        let attributes = ["objectClass", "primaryGroupToken", "objectSid", "groupType"];
        let queries: Vec<Query> = names.iter().map(|dn| Query::base(dn, &attributes)).collect();
        let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
            inner.add(names.get(number).map_or("", String::as_str), &found, &result);
        };
        connection.pipeline(&queries, answer).await?;
        Ok(inner)
    }

    fn add(&mut self, dn: &str, found: &[SearchItem], result: &LdapResult) {
        let entry = first_entry(found).filter(|_| result.code == ResultCode::SUCCESS);
        let Some(entry) = entry else {
            let why = Box::new(Shortcoming::of_lookup(dn, result));
            self.fault = Some(Shortcoming::InnerUnread { name: dn.to_owned(), why });
            return;
        };
        let one = |attribute: &str| texts(entry, attribute).into_iter().next();
        if texts(entry, "objectClass").is_empty() {
            let why = Box::new(Shortcoming::KindHidden);
            self.fault = Some(Shortcoming::InnerUnread { name: dn.to_owned(), why });
            return;
        }
        let sid = entry.attributes_as_text().find(|(name, _)| name.eq_ignore_ascii_case("objectSid"));
        let sid = sid.and_then(|(_, mut values)| values.next().map(<[u8]>::to_vec));
        self.numbers.push((one("primaryGroupToken").and_then(|text| text.parse().ok()), sid));
        let kind = one("groupType").and_then(|text| text.parse::<i64>().ok());
        // The number is signed there.
        let is_for_mail = kind.is_some_and(|kind| kind & i64::from(SECURITY) == 0);
        self.for_mail = self.for_mail.take().or_else(|| is_for_mail.then(|| dn.to_owned()));
    }
}
