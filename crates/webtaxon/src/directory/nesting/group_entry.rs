//! A group's entry: one response of the server, and several combined.

use foldhash::{HashMap, HashSet};
use webtaxon_core::graph::{Foreign, Graph, NodeId, without_uid};
use webtaxon_core::reading::ReadingBuilder;
use webtaxon_wire::entry::ReceivedEntry;

/// Object classes of groups (RFC 4519 §3.5, §3.6, RFC 2307; and a domain controller's own).
pub(crate) const GROUP_CLASSES: [&str; 5] =
    ["group", "groupOfNames", "groupOfUniqueNames", "posixGroup", "groupOfURLs"];

/// Object classes of containers (RFC 4519 §3, [MS-ADSC]): one that the settings name as a group contains everybody
/// below it.
const UNIT_CLASSES: [&str; 6] =
    ["organizationalUnit", "organization", "container", "domain", "dcObject", "locality"];

pub(crate) fn not_the_rest(begun: usize) -> String {
    format!("the server returned {begun} of its members, but not the rest")
}

pub(crate) enum Members<'e> {
    /// Not a group.
    None,
    /// Not a group, but a container.
    Unit,
    /// A group whose members cannot be read completely.
    Unreadable(String),
    /// A group.
    Listed(Listed<'e>),
}

/// The members in one response.
#[derive(Default)]
pub(crate) struct Listed<'e> {
    /// Names of members.
    pub(crate) names: Vec<&'e str>,
    /// Logins of members (`memberUid`).
    pub(crate) logins: Vec<&'e [u8]>,
    /// The number by which people have it as their primary group.
    pub(crate) number: Option<u32>,
    pub(crate) sid: Option<&'e [u8]>,
    /// The search URLs of a dynamic group.
    pub(crate) urls: Vec<&'e str>,
    /// The attribute with further values, and the number of the next one.
    pub(crate) more: Option<(&'e str, usize)>,
}

/// A group's members so far, as numbers of the graph.
#[derive(Default)]
pub(crate) struct Listing {
    pub(crate) members: Vec<NodeId>,
    /// Names of members received, valid or not.
    pub(crate) given: usize,
    /// Whether one of them was not a valid name.
    pub(crate) is_strange: bool,
    pub(crate) logins: Vec<Vec<u8>>,
    pub(crate) number: Option<u32>,
    pub(crate) sid: Option<Vec<u8>>,
    pub(crate) urls: Vec<String>,
    pub(crate) more: Option<(String, usize)>,
}

impl Listing {
    /// Adds one response.
    pub(crate) fn add(&mut self, graph: &mut Graph, listed: &Listed<'_>) {
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
    pub(crate) fn put(&mut self, graph: &mut Graph, name: &str) {
        self.given += 1;
        match graph.member(name) {
            Ok(member) => self.members.push(member),
            Err(_) => self.is_strange = true,
        }
    }
}

/// Names listed in groups that are not people of the reading.
#[derive(Default)]
pub(crate) struct Met {
    all: HashSet<NodeId>,
    /// Names met since the last call of `take_new`.
    new: Vec<NodeId>,
    /// Names that stand for identities outside the domain.
    foreign: HashMap<NodeId, Foreign>,
}

impl Met {
    /// Adds the members of a group.
    pub(crate) fn list(&mut self, builder: &ReadingBuilder, members: &[NodeId]) {
        for member in members.iter().filter(|member| !builder.is_person_node(**member)) {
            if self.all.insert(*member) {
                self.new.push(*member);
                let foreign = Foreign::of(builder.graph().dn(*member));
                self.foreign.extend(foreign.map(|foreign| (*member, foreign)));
            }
        }
    }

    /// The names met since the last call, sorted, so that the order of responses does not matter.
    pub(crate) fn take_new(&mut self, graph: &Graph) -> Vec<NodeId> {
        let mut new = std::mem::take(&mut self.new);
        new.sort_by_key(|id| graph.key(*id));
        new
    }

    /// Why a group with this member cannot be known completely; `None` if the member is no obstacle.
    pub(crate) fn stranger(&self, member: NodeId) -> Option<String> {
        match self.foreign.get(&member) {
            Some(Foreign::Unlisted(sid, called)) => Some(unlisted(sid, *called)),
            _ => None,
        }
    }
}

/// The members in one response, after `begun` earlier values.
pub(crate) fn members(entry: &ReceivedEntry, begun: usize, knows_logins: bool) -> Members<'_> {
    let mut listed = Listed::default();
    let (mut is_group, mut is_posix, mut is_unit, mut ranged) = (false, false, false, false);
    for (description, values) in entry.attributes_as_text() {
        let base = description.split(';').next().unwrap_or(description);
        let is = |name: &str| base.eq_ignore_ascii_case(name);
        if is("objectClass") {
            let is_one = |classes: &[&str], value: &[u8]| {
                classes.iter().any(|class| class.as_bytes().eq_ignore_ascii_case(value))
            };
            for value in values {
                is_group |= is_one(&GROUP_CLASSES, value);
                is_unit |= is_one(&UNIT_CLASSES, value);
                is_posix |= value.eq_ignore_ascii_case(b"posixGroup");
            }
        } else if is("memberURL") {
            for value in values {
                let Ok(url) = std::str::from_utf8(value) else {
                    return Members::Unreadable("it has a memberURL that is not UTF-8".to_owned());
                };
                is_group = true;
                listed.urls.push(url);
            }
        } else if is("memberUid") {
            listed.logins.extend(values);
        } else if is("primaryGroupToken") || is("gidNumber") {
            let numbers =
                values.into_iter().filter_map(|value| std::str::from_utf8(value).ok()?.parse().ok());
            listed.number = numbers.into_iter().next();
        } else if is("objectSid") {
            listed.sid = values.into_iter().next();
        } else if is("member") || is("uniqueMember") {
            let before = listed.names.len();
            for value in values {
                let Ok(dn) = std::str::from_utf8(value) else {
                    return Members::Unreadable("it lists a member that is not UTF-8".to_owned());
                };
                is_group = true;
                listed.names.push(if is("uniqueMember") { without_uid(dn) } else { dn });
            }
            let Some(range) = range(description) else { continue };
            // A range other than the one requested would lose members.
            let given = listed.names.len() - before;
            let is_next = |from: usize, to: Option<usize>| {
                from == begun
                    && to.is_none_or(|to| to.checked_sub(from).is_some_and(|span| span + 1 == given))
            };
            match range.filter(|(from, to)| !ranged && is_next(*from, *to)) {
                Some((_, to)) => listed.more = to.map(|to| (base, to + 1)),
                None => return Members::Unreadable(not_the_rest(begun)),
            }
            (is_group, ranged) = (true, true);
        }
    }
    if !listed.logins.is_empty() {
        is_group = true;
        if !knows_logins {
            // Groups that list both keep the logins as a copy of the names.
            if listed.names.is_empty() {
                return Members::Unreadable(
                    "its members are stored as memberUid; set member_login to the attribute of people that it refers to"
                        .to_owned(),
                );
            }
            listed.logins.clear();
        }
    }
    // A group of this class must have a number (RFC 2307 §4); without one, it is hidden.
    let empty = listed.names.is_empty() && listed.logins.is_empty() && listed.urls.is_empty();
    if is_posix && empty && begun == 0 && listed.number.is_none() {
        return Members::Unreadable(
            "it lists nobody and does not show its gidNumber; the bind account may lack the right to read it"
                .to_owned(),
        );
    }
    match (is_group, is_unit) {
        (true, _) => Members::Listed(listed),
        (false, true) => Members::Unit,
        (false, false) => Members::None,
    }
}

/// Why a group with an unlisted member counts as not read, in words.
pub(crate) fn unlisted(sid: &str, called: Option<&str>) -> String {
    let called = called.unwrap_or("an unknown principal");
    format!("{called} ({sid}) is a member, which stands for people whom no list shows")
}

/// Whether the group's members are found by searches.
pub(crate) fn is_dynamic(entry: &ReceivedEntry) -> bool {
    entry.attributes_as_text().any(|(name, _)| name.eq_ignore_ascii_case("memberURL"))
}

/// The range in a description like `member;range=0-1499`, without an end if it is the last; `Some(None)` if it is
/// invalid, `None` without a range.
fn range(description: &str) -> Option<Option<(usize, Option<usize>)>> {
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
