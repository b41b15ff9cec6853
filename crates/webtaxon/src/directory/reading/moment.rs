//! A directory changes while it is read: people and groups get other names, move, come and go. After the last group, the
//! entries that changed since the first request are read again and take the place of what was read, until nothing
//! changes any more. So the reading is of one moment, and people are joined with their groups under every name that they
//! had meanwhile.
//!
//! Where a server does not tell what changed, listed names that are nobody's are looked up: one may be the new name of
//! somebody who was read under another.

use super::named_entries;
use super::reader::Reader;
use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, SearchItem, first_entry};
use crate::directory::nesting::{self, GROUP_CLASSES, Nests};
use crate::directory::shortcoming::Shortcoming;
use webtaxon_core::graph::without_uid;
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::{Again, ChangeMark, Part, Request};
use webtaxon_core::words::counted;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Rounds after which whoever still changes is left alone for this time.
const ROUNDS: usize = 5;
/// Listed names that are looked up one by one; for more of them, the names of all people are read again.
const FEW_NAMES: usize = 1_000;

/// Object classes of containers that can be renamed or moved (RFC 4519 §3, [MS-ADSC]).
const CONTAINER_CLASSES: [&str; 5] =
    ["organizationalUnit", "container", "organization", "locality", "country"];

/// The server's change mark; `None` if it does not tell.
pub(super) async fn mark(
    connection: &mut Connection,
    request: &Request,
) -> Result<Option<ChangeMark>, DirectoryError> {
    if connection.root().kind == ServerKind::Controller {
        let entries = one(connection, "", "highestCommittedUSN").await?;
        let number = entries.get(0).and_then(|root| root.text("highestCommittedUSN")?.parse().ok());
        return Ok(number.map(ChangeMark::Number));
    }
    let tops: Vec<String> = connection
        .root()
        .naming_contexts
        .iter()
        .filter(|top| request.bases.iter().any(|base| base.key().is_within(&top.key())))
        .map(ToString::to_string)
        .collect();
    let mut times = Vec::new();
    for top in tops {
        let entries = one(connection, &top, "contextCSN").await?;
        let latest = entries.iter().flat_map(|entry| entry.values("contextCSN")).max();
        let latest = latest.and_then(|csn| std::str::from_utf8(csn).ok()?.split('#').next());
        match latest {
            Some(time) => times.push(time.to_owned()),
            None => return Ok(None),
        }
    }
    Ok((!times.is_empty()).then_some(ChangeMark::Times(times)))
}

/// The filter for entries changed between two marks; `None` if nothing changed.
fn changed(then: &ChangeMark, now: &ChangeMark) -> Option<Filter> {
    match (then, now) {
        (ChangeMark::Number(then), ChangeMark::Number(now)) if now > then => {
            Some(Filter::at_least("uSNChanged", (then + 1).to_string()))
        }
        (ChangeMark::Times(then), ChangeMark::Times(now)) if now != then => {
            // The oldest time of all naming contexts: some entries may be read again without need, but none is missed.
            then.iter().min().map(|time| Filter::at_least("entryCSN", format!("{time}#000000#000#000000")))
        }
        _ => None,
    }
}

/// One attribute of one entry; empty if it cannot be read.
async fn one(connection: &mut Connection, dn: &str, attribute: &str) -> Result<Entries, DirectoryError> {
    match connection.entries(Query::base(dn, &[attribute])).await {
        Ok((entries, _)) => Ok(entries),
        Err(error) if error.is_fatal() => Err(error),
        Err(_) => Ok(Entries::new()),
    }
}

fn is_container(entry: Entry<'_>) -> bool {
    let is_one =
        |class: &[u8]| CONTAINER_CLASSES.iter().any(|one| one.as_bytes().eq_ignore_ascii_case(class));
    entry.values("objectClass").any(is_one)
}

/// The result of a look at the changes.
#[derive(Default)]
struct Look {
    people: Again,
    /// A group changed.
    has_groups: bool,
    /// A part of it failed; the reading says so.
    is_short: bool,
}

impl Reader<'_> {
    /// Reads groups and whatever else depends on the people, and reads again what changes meanwhile. `before` is how
    /// far the server had come before the first request.
    pub(super) async fn settle(
        &mut self,
        before: Option<ChangeMark>,
        identity: &str,
    ) -> Result<(), DirectoryError> {
        let start = self.builder.checkpoint();
        let (mut since, mut all) = (before, Again::default());
        let (mut reads_groups, mut is_settled) = (true, false);
        for round in 1..=ROUNDS {
            if reads_groups {
                self.builder.back_to(start);
                self.what_depends_on_people().await?;
            }
            if self.connection.snapshot().is_some() {
                return Ok(());
            }
            let (look, now) = match &since {
                Some(then) => {
                    let now = mark(&mut self.connection, self.request).await?;
                    let look = match now.as_ref().and_then(|now| changed(then, now)) {
                        Some(filter) => self.look(&filter, identity).await?,
                        None => Look::default(),
                    };
                    (look, now)
                }
                None => (self.look_by_name(identity).await?, None),
            };
            all.add(&look.people);
            reads_groups = look.people.joins_anew() || look.has_groups;
            is_settled = !reads_groups && look.people.is_nothing();
            if is_settled || look.is_short {
                break;
            }
            if round == ROUNDS {
                self.builder.moving(look.people.who);
            }
            since = now.or(since);
        }
        if !all.is_nothing() {
            let found = match all.more {
                0 => "nobody else was found".to_owned(),
                more => counted(more, "more was found", "more were found"),
            };
            let note = format!("the directory changed while it was being read; at a second look, {found}");
            self.builder.note(note);
        }
        self.vanished(is_settled);
        Ok(())
    }

    async fn what_depends_on_people(&mut self) -> Result<(), DirectoryError> {
        named_entries::read(self).await?;
        self.application_groups().await?;
        let nests =
            Nests { connection: &mut self.connection, builder: &mut self.builder, request: self.request };
        nesting::read(nests).await
    }

    /// Reads the people who changed, and asks whether a group did.
    async fn look(&mut self, filter: &Filter, identity: &str) -> Result<Look, DirectoryError> {
        let mut look = Look::default();
        let mut found = Entries::new();
        for base in &self.request.bases {
            let both = Filter::And(vec![self.request.filter.clone(), filter.clone()]);
            let query = self.query(&base.to_string(), both);
            look.is_short |= self.collect(base, query, &mut found).await?;
        }
        look.people = self.again(&found, identity);
        let mut is_moved = false;
        for place in self.changing_places() {
            let classes = GROUP_CLASSES.iter().chain(&CONTAINER_CLASSES);
            let classes = Filter::any(classes.map(|class| Filter::equal("objectClass", class)));
            let both = Filter::And(vec![classes, filter.clone()]);
            let query = Query::subtree(&place.to_string(), both, &["objectClass"]);
            let mut changed = Entries::new();
            look.is_short |= self.collect(&place, query, &mut changed).await?;
            look.has_groups |= self.request.reads_groups() && !changed.is_empty();
            is_moved |= changed.iter().any(is_container);
        }
        // With a container's name those of all entries below it change, and their marks stay.
        if is_moved {
            let found = self.under_new_names(identity, &mut look).await?;
            let people = self.again(&found, identity);
            look.people.add(&people);
        }
        Ok(look)
    }

    /// The places of groups, and of containers of groups and people.
    fn changing_places(&self) -> Vec<Dn> {
        let request = self.request;
        let groups = match (request.reads_groups(), request.group_bases.is_empty()) {
            (false, _) => &[],
            (true, true) => self.connection.root().tops(),
            (true, false) => &request.group_bases[..],
        };
        let mut places = groups.to_vec();
        for base in &request.bases {
            if !places.iter().any(|place| base.key().is_within(&place.key())) {
                places.push(base.clone());
            }
        }
        places
    }

    /// The people of the reading who have other names by now, after a look at the names of everybody.
    async fn under_new_names(&mut self, identity: &str, look: &mut Look) -> Result<Entries, DirectoryError> {
        let mut found = Entries::new();
        for base in &self.request.bases {
            let query = self.query(&base.to_string(), self.request.filter.clone());
            let names = Query { attributes: vec![identity.to_owned()], ..query };
            look.is_short |= self.collect(base, names, &mut found).await?;
        }
        let renamed = self.builder.renamed(&found, identity);
        self.whole_entries(&renamed).await
    }

    /// Adds the entries of a search; true if it failed, and the reading says so.
    async fn collect(
        &mut self,
        base: &Dn,
        query: Query,
        found: &mut Entries,
    ) -> Result<bool, DirectoryError> {
        let why = match self.connection.entries(query).await {
            Ok((entries, references)) => {
                for entry in entries.iter() {
                    found.push(entry.dn(), entry.attributes());
                }
                let is_ours = !references.is_empty() && self.leaves_gaps();
                is_ours.then(|| Shortcoming::NotFollowed(references.join(" or ")))
            }
            Err(error) if error.is_fatal() => return Err(error),
            Err(error) => Some((&error).into()),
        };
        let is_short = why.is_some();
        let part = self.builder.open(Part::SecondLook { base: base.clone() });
        self.builder.close(part, Shortcoming::ended(why));
        Ok(is_short)
    }

    /// Looks up the listed names that are nobody's, where the server does not tell what changed: one may be the new
    /// name of somebody who was read, or of a group.
    async fn look_by_name(&mut self, identity: &str) -> Result<Look, DirectoryError> {
        let strangers = self.builder.strangers();
        if strangers.is_empty() {
            return Ok(Look::default());
        }
        let mut look = Look { has_groups: self.is_renamed_group().await?, ..Look::default() };
        let found = if strangers.len() > FEW_NAMES {
            self.under_new_names(identity, &mut look).await?
        } else {
            let found = self.whole_entries(&strangers).await?;
            self.builder.only_known(&found, identity)
        };
        look.people = self.again(&found, identity);
        Ok(look)
    }

    /// Puts people as they are by now in the place of what was read.
    fn again(&mut self, found: &Entries, identity: &str) -> Again {
        let joining = self.request.joining(self.connection.root().kind);
        self.builder.again(found, identity, &joining)
    }

    /// These entries with every attribute that people need; those that are not shown are left out.
    async fn whole_entries(&mut self, names: &[String]) -> Result<Entries, DirectoryError> {
        let wanted: Vec<&str> = self.wanted.iter().map(String::as_str).collect();
        let queries: Vec<Query> = names.iter().map(|dn| Query::base(dn, &wanted)).collect();
        let mut entries = Entries::new();
        let answer = |_: usize, found: Vec<SearchItem>, result: LdapResult| {
            if let Some(entry) = first_entry(&found).filter(|_| result.code == ResultCode::SUCCESS) {
                let dn = std::str::from_utf8(entry.name()).unwrap_or("");
                entries.push(dn, entry.attributes_as_text());
            }
        };
        self.connection.pipeline(&queries, answer).await?;
        Ok(entries)
    }

    /// True if a group no longer lists a name that was not found: then the name was changed meanwhile.
    async fn is_renamed_group(&mut self) -> Result<bool, DirectoryError> {
        let gone = self.builder.gone_members();
        let queries: Vec<Query> =
            gone.iter().map(|(group, _)| Query::base(group, &["member", "uniqueMember"])).collect();
        let mut is_renamed = false;
        let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
            let (Some(entry), Some((_, member))) = (first_entry(&found), gone.get(number)) else { return };
            let values = || entry.attributes_as_text().flat_map(|(_, values)| values);
            let is_it = |value: &[u8]| {
                let text = std::str::from_utf8(value).unwrap_or("");
                Dn::parse(without_uid(text)).is_ok_and(|dn| dn.key() == *member)
            };
            let is_read = result.code == ResultCode::SUCCESS && values().next().is_some();
            is_renamed |= is_read && !values().any(is_it);
        };
        self.connection.pipeline(&queries, answer).await?;
        Ok(is_renamed)
    }

    /// A listed name that is not found is a deleted entry's on a domain controller, which keeps references right, unless
    /// groups still changed at the last look. Elsewhere it may be a group that is hidden from the bind account.
    fn vanished(&mut self, is_settled: bool) {
        if is_settled && self.connection.root().kind == ServerKind::Controller {
            return;
        }
        for (name, purpose) in self.builder.vanished(self.request) {
            let part = self.builder.open(Part::Group { group: name, purpose });
            self.builder.close(part, Shortcoming::ended(Some(Shortcoming::Vanished)));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_changed_is_looked_at_again() {
        let times = |list: &[&str]| ChangeMark::Times(list.iter().map(|time| (*time).to_owned()).collect());
        for (then, now, filter) in [
            (ChangeMark::Number(7), ChangeMark::Number(7), ""),
            (ChangeMark::Number(7), ChangeMark::Number(9), "(uSNChanged>=8)"),
            (times(&["20261125091500.000001Z"]), times(&["20261125091500.000001Z"]), ""),
            (
                times(&["20261125091500.000001Z", "20261124000000.000000Z"]),
                times(&["20261125091501.000001Z", "20261124000000.000000Z"]),
                "(entryCSN>=20261124000000.000000Z#000000#000#000000)",
            ),
        ] {
            let since = changed(&then, &now).map(|filter| filter.to_string()).unwrap_or_default();
            assert_eq!(since, filter, "{then:?} {now:?}");
        }
    }
}
