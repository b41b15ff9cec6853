//! The attributes by which groups list members, as filters: the groups that list a name, and those that list anybody.

use super::group_entry::GROUP_CLASSES;
use crate::directory::client::{Connection, Query};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::Request;
use webtaxon_core::settings::MemberAttributeKind;
use webtaxon_wire::message::Scope;

/// The attributes by which groups list members, and the places of groups.
#[derive(Clone, Debug)]
pub(super) struct Listing {
    pub(super) kind: ServerKind,
    /// Attributes with names of members.
    pub(super) names: Vec<String>,
    /// Attributes with logins of members.
    pub(super) logins: Vec<String>,
    /// Where groups are.
    pub(super) places: Vec<(Dn, Scope)>,
}

impl Listing {
    pub(super) fn of(connection: &Connection, request: &Request) -> Self {
        let root = connection.root();
        let own = |kind| {
            let own = request.member_attribute.as_ref().filter(move |own| own.kind == kind);
            own.map(|own| own.name.clone())
        };
        let is_plain = root.kind == ServerKind::Plain;
        let unique = is_plain.then(|| "uniqueMember".to_owned());
        let names = ["member".to_owned()].into_iter().chain(unique);
        let names = names.chain(own(MemberAttributeKind::NamesOfMembers)).collect();
        let by_login = request.member_login_attribute(root.kind).map(|_| "memberUid".to_owned());
        let logins = by_login.into_iter().chain(own(MemberAttributeKind::LoginsOfMembers)).collect();
        let bases = if request.group_bases.is_empty() { root.tops() } else { &request.group_bases };
        let within = |dn: &Dn| bases.iter().any(|base| dn.key().is_within(&base.key()));
        let named = request.groups().filter(|dn| !within(dn)).map(|dn| (dn.clone(), Scope::Base));
        let places = bases.iter().map(|base| (base.clone(), Scope::Subtree)).chain(named).collect();
        Self { kind: root.kind, names, logins, places }
    }

    /// Every attribute by which a group lists anybody.
    pub(super) fn attributes(&self) -> Vec<&str> {
        let url = (self.kind == ServerKind::Plain).then_some("memberURL");
        self.names.iter().chain(&self.logins).map(String::as_str).chain(url).collect()
    }

    /// Groups that list anybody, as far as the bind account may know.
    pub(super) fn anybody(&self) -> Filter {
        Filter::any(self.attributes().into_iter().map(Filter::present))
    }

    /// Groups that list this name.
    pub(super) fn naming(&self, dn: &str) -> Filter {
        Filter::any(self.names.iter().map(|attribute| Filter::equal(attribute, dn)))
    }

    /// Groups that list one of these logins; `None` if none can.
    pub(super) fn with_logins(&self, logins: &[Vec<u8>]) -> Option<Filter> {
        let pairs =
            self.logins.iter().flat_map(|attribute| logins.iter().map(move |login| (attribute, login)));
        let any: Vec<Filter> = pairs.map(|(attribute, login)| Filter::equal(attribute, login)).collect();
        (!any.is_empty()).then(|| Filter::any(any))
    }

    /// Groups that have a value of an attribute: of the usual classes, unless it is the settings' own attribute. Most
    /// servers have an index of classes, and few one of this.
    pub(super) fn with_any(&self, attribute: &str) -> Filter {
        let present = Filter::present(attribute);
        let is_usual = ["member", "uniqueMember", "memberUid", "memberURL"].contains(&attribute);
        if is_usual { Filter::all([of_groups(), present]) } else { present }
    }

    /// Groups with this number, by which people have them as their primary group (RFC 2307 §3).
    pub(super) fn with_number(number: u32) -> Filter {
        Filter::all([of_groups(), Filter::equal("gidNumber", number.to_string())])
    }

    /// The searches for a filter in all places of groups.
    pub(super) fn queries<'q>(
        &'q self,
        filter: &'q Filter,
        attributes: &'q [&str],
    ) -> impl Iterator<Item = Query> + 'q {
        self.places.iter().map(move |(place, scope)| Query {
            scope: *scope,
            ..Query::subtree(&place.to_string(), filter.clone(), attributes)
        })
    }
}

/// Entries of the usual classes of groups.
fn of_groups() -> Filter {
    Filter::any(GROUP_CLASSES.map(|class| Filter::equal("objectClass", class)))
}
