//! A group's entry: one response of the server, and several combined.

use crate::directory::shortcoming::Shortcoming;
use foldhash::{HashMap, HashSet};
use webtaxon_core::graph::{Foreign, Graph, NodeId, without_uid};
use webtaxon_core::ldap::schema::Schema;
use webtaxon_core::reading::ReadingBuilder;
use webtaxon_core::settings::{MemberAttribute, MemberAttributeKind};
use webtaxon_wire::entry::ReceivedEntry;

/// Object classes of groups (RFC 4519 §3.5, §3.6, RFC 2307; and a domain controller's own).
pub(crate) const GROUP_CLASSES: [&str; 5] =
    ["group", "groupOfNames", "groupOfUniqueNames", "posixGroup", "groupOfURLs"];

/// Object classes of containers (RFC 4519 §3, [MS-ADSC]): one that the settings name as a group contains everybody
/// below it.
pub(crate) const UNIT_CLASSES: [&str; 6] =
    ["organizationalUnit", "organization", "container", "domain", "dcObject", "locality"];

pub(super) enum Members<'e> {
    /// Not a group.
    None,
    /// Not a group, but a container.
    Unit,
    /// A group whose members cannot be read completely.
    Unreadable(Shortcoming),
    /// A group.
    Listed(Listed<'e>),
}

/// The members in one response.
#[derive(Default)]
pub(super) struct Listed<'e> {
    /// Names of members.
    pub(super) names: Vec<&'e str>,
    /// Logins of members (`memberUid`).
    pub(super) logins: Vec<&'e [u8]>,
    /// The number by which people have it as their primary group.
    pub(super) number: Option<u32>,
    pub(super) sid: Option<&'e [u8]>,
    /// The search URLs of a dynamic group.
    pub(super) urls: Vec<&'e str>,
    /// The attribute with further values, and the number of the next one.
    pub(super) more: Option<(&'e str, usize)>,
    /// Whether names came in a range.
    is_ranged: bool,
}

/// A group's members so far, as numbers of the graph.
#[derive(Default)]
pub(super) struct Listing {
    pub(super) members: Vec<NodeId>,
    /// Names of members received, valid or not.
    pub(super) given: usize,
    /// Whether one of them was not a valid name.
    pub(super) is_strange: bool,
    pub(super) logins: Vec<Vec<u8>>,
    pub(super) number: Option<u32>,
    pub(super) sid: Option<Vec<u8>>,
    pub(super) urls: Vec<String>,
    pub(super) more: Option<(String, usize)>,
}

impl Listing {
    /// Adds one response.
    pub(super) fn add(&mut self, graph: &mut Graph, listed: &Listed<'_>) {
        self.given += listed.names.len();
        let before = self.members.len();
        self.members.reserve(listed.names.len());
        self.members.extend(graph.all_members(&listed.names).flatten());
        self.is_strange |= self.members.len() - before < listed.names.len();
        // The graph wants them sorted; here, the server is busy with the next group.
        self.members.get_mut(before..).into_iter().for_each(<[NodeId]>::sort_unstable);
        self.logins.extend(listed.logins.iter().map(|login| login.to_vec()));
        self.number = self.number.or(listed.number);
        self.sid = self.sid.take().or_else(|| listed.sid.map(<[u8]>::to_vec));
        self.urls.extend(listed.urls.iter().map(|url| (*url).to_owned()));
        self.more = listed.more.map(|(attribute, from)| (attribute.to_owned(), from));
    }

    /// Adds one member.
    pub(super) fn put(&mut self, graph: &mut Graph, name: &str) {
        self.given += 1;
        match graph.member(name) {
            Ok(member) => self.members.push(member),
            Err(_) => self.is_strange = true,
        }
    }
}

/// Names listed in groups that are not people of the reading.
#[derive(Default)]
pub(super) struct NonPeople {
    all: HashSet<NodeId>,
    /// Names met since the last call of `take_new`.
    new: Vec<NodeId>,
    /// Names that stand for identities outside the domain.
    foreign: HashMap<NodeId, Foreign>,
}

impl NonPeople {
    /// Adds the members of a group.
    pub(super) fn add(&mut self, builder: &ReadingBuilder, members: &[NodeId]) {
        for member in members.iter().filter(|member| !builder.is_person_node(**member)) {
            if self.all.insert(*member) {
                self.new.push(*member);
                let foreign = Foreign::of(builder.graph().dn(*member));
                self.foreign.extend(foreign.map(|foreign| (*member, foreign)));
            }
        }
    }

    /// The names met since the last call, sorted, so that the order of responses does not matter.
    pub(super) fn take_new(&mut self, graph: &Graph) -> Vec<NodeId> {
        let mut new = std::mem::take(&mut self.new);
        new.sort_by_key(|id| graph.key(*id));
        new
    }

    /// Why a group with this member cannot be known completely; `None` if the member is no obstacle.
    pub(super) fn obstacle(&self, member: NodeId) -> Option<Shortcoming> {
        self.foreign.get(&member).and_then(unlisted)
    }
}

/// What the attributes of an entry say about its kind.
#[derive(Default)]
struct Classes {
    /// A class is shown.
    is_known: bool,
    is_group: bool,
    is_posix: bool,
    is_unit: bool,
    /// A class whose groups must have a member.
    never_empty: Option<&'static str>,
}

impl Classes {
    fn add(&mut self, class: &[u8], expected: &Expected) {
        let is_one = |classes: &[&str]| classes.iter().any(|one| one.as_bytes().eq_ignore_ascii_case(class));
        self.is_known = true;
        self.is_group |= is_one(&GROUP_CLASSES);
        self.is_unit |= is_one(&UNIT_CLASSES);
        let is = |known: &&&str| known.as_bytes().eq_ignore_ascii_case(class);
        self.never_empty = self.never_empty.or(expected.never_empty.iter().find(is).copied());
        self.is_posix |= class.eq_ignore_ascii_case(b"posixGroup");
    }
}

/// What a reading knows about groups before it sees one.
#[derive(Clone, Debug, Default)]
pub(super) struct Expected {
    /// Whether logins of members can be joined with people.
    pub(super) knows_logins: bool,
    /// The classes of groups that must have a member, as the server's own schema says.
    never_empty: Vec<&'static str>,
    /// The settings' own attribute of groups with the names of members, or with their logins.
    names: Option<String>,
    logins: Option<String>,
}

impl Expected {
    /// `schema` is the one that the server published, if it did. Servers differ: the standard demands members (RFC
    /// 4519 §3.5, §3.6), and some do without.
    pub(super) fn of(schema: Option<&Schema>, knows_logins: bool) -> Self {
        let demands = |(class, attribute): (&'static str, &str)| {
            let must = &schema?.find_class(class)?.must;
            must.iter().any(|name| name.eq_ignore_ascii_case(attribute)).then_some(class)
        };
        let classes = [("groupOfNames", "member"), ("groupOfUniqueNames", "uniqueMember")];
        let never_empty = classes.into_iter().filter_map(demands).collect();
        Self { knows_logins, never_empty, names: None, logins: None }
    }

    /// The classes of groups that must have a member.
    pub(super) fn never_empty(&self) -> impl Iterator<Item = &'static str> {
        self.never_empty.iter().copied()
    }

    /// The same, with the settings' own attribute of groups.
    pub(super) fn with(mut self, own: Option<&MemberAttribute>) -> Self {
        let name = |kind| own.filter(|own| own.kind == kind).map(|own| own.name.clone());
        self.names = name(MemberAttributeKind::NamesOfMembers);
        self.logins = name(MemberAttributeKind::LoginsOfMembers);
        self
    }
}

/// The members in one response, after `begun` earlier values.
pub(super) fn members<'e>(entry: &'e ReceivedEntry, begun: usize, expected: &Expected) -> Members<'e> {
    match read_members(entry, begun, expected) {
        Ok((Classes { is_group: true, .. }, listed)) => Members::Listed(listed),
        Ok((Classes { is_unit: true, .. }, _)) => Members::Unit,
        Ok((Classes { is_known: true, .. }, _)) => Members::None,
        // Whoever asks for further members does not ask for classes.
        Ok(_) if begun > 0 => Members::None,
        Ok(_) => Members::Unreadable(Shortcoming::KindHidden),
        Err(why) => Members::Unreadable(why),
    }
}

fn read_members<'e>(
    entry: &'e ReceivedEntry,
    begun: usize,
    expected: &Expected,
) -> Result<(Classes, Listed<'e>), Shortcoming> {
    let (mut classes, mut listed) = (Classes::default(), Listed::default());
    for (description, values) in entry.attributes_as_text() {
        let attribute = description.split(';').next().unwrap_or(description);
        let is = |name: &str| attribute.eq_ignore_ascii_case(name);
        let is_own = |own: &Option<String>| own.as_deref().is_some_and(is);
        if is("objectClass") {
            values.for_each(|class| classes.add(class, expected));
        } else if is("memberURL") {
            for value in values {
                listed.urls.push(std::str::from_utf8(value).map_err(|_| Shortcoming::UrlNotUtf8)?);
            }
        } else if is("memberUid") || is_own(&expected.logins) {
            listed.logins.extend(values);
        } else if is("primaryGroupToken") || is("gidNumber") {
            let mut numbers = values.filter_map(|value| std::str::from_utf8(value).ok()?.parse().ok());
            listed.number = numbers.next();
        } else if is("objectSid") {
            listed.sid = values.into_iter().next();
        } else if is("member") || is("uniqueMember") || is_own(&expected.names) {
            let before = listed.names.len();
            for value in values {
                let dn = std::str::from_utf8(value).map_err(|_| Shortcoming::MemberNotUtf8)?;
                listed.names.push(if is("uniqueMember") { without_uid(dn) } else { dn });
            }
            if let Some(range) = range(description) {
                classes.is_group = true;
                listed.add_range(attribute, range, begun, before)?;
            }
        }
    }
    let has_logins = !listed.logins.is_empty();
    classes.is_group |= has_logins || !listed.names.is_empty() || !listed.urls.is_empty();
    if has_logins && !expected.knows_logins {
        // Groups that list both keep the logins as a copy of the names.
        if listed.names.is_empty() {
            return Err(Shortcoming::UnknownLogins);
        }
        listed.logins.clear();
    }
    // A group of this class must have a number (RFC 2307 §4); without one, it is hidden.
    let is_empty = listed.names.is_empty() && listed.logins.is_empty() && listed.urls.is_empty();
    if classes.is_posix && is_empty && begun == 0 && listed.number.is_none() {
        return Err(Shortcoming::HiddenNumber);
    }
    if let Some(class) = classes.never_empty.filter(|_| is_empty && begun == 0) {
        return Err(Shortcoming::NeverEmpty(class));
    }
    Ok((classes, listed))
}

impl<'e> Listed<'e> {
    /// Notes the range that names came in, from index `before`. A range other than the one requested would lose
    /// members.
    fn add_range(
        &mut self,
        attribute: &'e str,
        range: Option<Range>,
        begun: usize,
        before: usize,
    ) -> Result<(), Shortcoming> {
        let given = self.names.len() - before;
        let is_next = |(from, to): &Range| {
            let spans = |to: usize| to.checked_sub(*from).is_some_and(|span| span + 1 == given);
            *from == begun && to.is_none_or(spans)
        };
        let (_, to) =
            range.filter(|range| !self.is_ranged && is_next(range)).ok_or(Shortcoming::NotTheRest(begun))?;
        self.more = to.map(|to| (attribute, to + 1));
        self.is_ranged = true;
        Ok(())
    }
}

/// Why a group with this member cannot be known completely; `None` if the member is no obstacle.
pub(super) fn unlisted(identity: &Foreign) -> Option<Shortcoming> {
    match identity {
        Foreign::Unlisted(sid, called) => {
            Some(Shortcoming::Unlisted { called: called.unwrap_or("an unknown principal"), sid: sid.clone() })
        }
        _ => None,
    }
}

/// Whether the group's members are found by searches.
pub(super) fn is_dynamic(entry: &ReceivedEntry) -> bool {
    entry.attributes_as_text().any(|(name, _)| name.eq_ignore_ascii_case("memberURL"))
}

/// The first value, and the last one unless it is the end.
type Range = (usize, Option<usize>);

/// The range in a description like `member;range=0-1499`, without an end if it is the last; `Some(None)` if it is
/// invalid, `None` without a range.
fn range(description: &str) -> Option<Option<Range>> {
    let option = description.split(';').skip(1).find_map(|option| {
        option.get(..6).filter(|start| start.eq_ignore_ascii_case("range=")).and_then(|_| option.get(6..))
    })?;
    let read = option.split_once('-').and_then(|(from, to)| {
        let to = if to == "*" { None } else { Some(to.parse().ok()?) };
        Some((from.parse().ok()?, to))
    });
    Some(read)
}

#[cfg(test)]
mod tests {
    use super::range;

    #[test]
    fn ranges_are_read_as_servers_write_them() {
        for (description, expected) in [
            ("member", None),
            ("member;binary", None),
            ("member;range=0-1499", Some(Some((0, Some(1499))))),
            ("member;Range=1500-*", Some(Some((1500, None)))),
            ("member;range=x", Some(None)),
            ("member;range=5-", Some(None)),
        ] {
            assert_eq!(range(description), expected, "{description}");
        }
    }
}
