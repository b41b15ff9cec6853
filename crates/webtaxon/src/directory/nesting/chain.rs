//! Nested membership by a domain controller's matching rule for chains, group by group ([MS-ADTS] §3.1.1.3.4.4.3).

use super::computed;
use super::computed::{CHAIN, Computation, Computed, InnerGroups};
use super::named_groups::{NamedGroup, add_primary, groups_that_list, hidden_member_of, is_in_any, rule};
use super::strategy::{Attempt, NestStrategy, Nests};
use crate::directory::DirectoryError;
use crate::directory::client::Query;
use crate::directory::shortcoming::Shortcoming;
use std::collections::{HashMap, HashSet};
use std::ops::ControlFlow;
use webtaxon_core::graph::Roll;
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::{Dn, DnKey};

/// The strategy that has the members of each group computed.
pub(super) struct ChainRule;

impl NestStrategy for ChainRule {
    async fn read(&self, nests: &mut Nests<'_>) -> Result<Attempt, DirectoryError> {
        computed::read(nests, Chains::default()).await
    }
}

/// Names of groups, each with the groups that list it.
type Listed = Vec<(String, Vec<String>)>;

/// The groups that the rule does not go through, since the bind account may not read them, each with the groups that
/// list it.
#[derive(Default)]
struct Chains {
    hidden: Listed,
}

impl Computation for Chains {
    const NOTE: &str = "the server computed the members of each group (chain rule)";

    async fn prepare(&mut self, nests: &mut Nests<'_>) -> Result<Option<Shortcoming>, DirectoryError> {
        // The rule does not match people whose memberOf the bind account cannot read.
        let people = nests.builder.people().iter();
        let silent = people.filter(|person| person.values("memberOf").next().is_none());
        let silent: Vec<String> = silent.map(|person| person.dn().to_owned()).collect();
        let why = hidden_member_of(nests.connection, &silent).await?;
        let (hidden, limit) = hidden_groups(nests).await?;
        self.hidden = hidden;
        Ok(why.or(limit.map(Shortcoming::Failed)))
    }

    async fn members(
        &self,
        nests: &mut Nests<'_>,
        group: &NamedGroup,
        inner: &InnerGroups,
        roll: &Roll,
    ) -> Result<Computed, DirectoryError> {
        let hidden = self.hidden.iter().find(|(_, listing)| is_in_any(listing, &inner.keys));
        if let Some(name) = hidden.map(|(name, _)| name.clone()) {
            let why = Box::new(Shortcoming::NotShown);
            let short = Some(Shortcoming::InnerUnread { name, why });
            return Ok(Computed { members: Vec::new(), short });
        }
        let mut computed = Computed { members: Vec::new(), short: None };
        for base in &nests.request.bases {
            let is_in = rule("memberOf", CHAIN, group.dn.as_bytes());
            let filter = Filter::all([nests.request.filter.clone(), is_in]);
            let mut names = Vec::new();
            let take = |entry: Entry<'_>| {
                names.push(entry.dn().to_owned());
                ControlFlow::Continue(())
            };
            let query = Query::subtree(&base.to_string(), filter, &["1.1"]);
            match nests.connection.each(query, take).await {
                Ok(short) => computed.short = short.limit.map(Shortcoming::Failed),
                Err(error) if error.is_fatal() => return Err(error),
                Err(error) => computed.short = Some((&error).into()),
            }
            if computed.short.is_some() {
                break;
            }
            for name in names {
                if let Some(key) =
                    Dn::parse(&name).ok().map(|dn| dn.key()).filter(|key| nests.builder.is_person(key))
                {
                    computed.members.push(nests.builder.graph_mut().node(key, &name));
                }
            }
        }
        for (number, sid) in &inner.numbers {
            add_primary(nests.builder, roll, *number, sid.as_deref(), &mut computed.members);
        }
        Ok(computed)
    }
}

/// The groups that people, and other groups, claim to be in (`memberOf`) and that a search for all groups does not find,
/// each with the groups that list it; and the limit at which the server ended a search, if it did.
async fn hidden_groups(nests: &mut Nests<'_>) -> Result<(Listed, Option<String>), DirectoryError> {
    let Some(top) = nests.connection.root().default_naming_context.clone() else {
        return Ok(Default::default());
    };
    let mut claimed: HashMap<DnKey, String> = HashMap::new();
    let mut claim = |entry: Entry<'_>| {
        for text in entry.values("memberOf").filter_map(|value| std::str::from_utf8(value).ok()) {
            if let Ok(dn) = Dn::parse(text) {
                claimed.entry(dn.key()).or_insert_with(|| text.to_owned());
            }
        }
    };
    nests.builder.people().iter().for_each(&mut claim);
    let mut found = HashSet::new();
    let take = |entry: Entry<'_>| {
        claim(entry);
        found.extend(Dn::parse(entry.dn()).map(|dn| dn.key()));
        ControlFlow::Continue(())
    };
    let groups = Filter::equal("objectClass", "group");
    let query = Query::subtree(&top.to_string(), groups, &["memberOf"]);
    let mut limit = nests.connection.each(query, take).await?.limit;
    let is_hidden = |key: &DnKey| key.is_within(&top.key()) && !found.contains(key);
    let mut hidden: Vec<String> =
        claimed.into_iter().filter(|(key, _)| is_hidden(key)).map(|(_, name)| name).collect();
    hidden.sort();
    let mut all = Vec::new();
    for name in hidden {
        let (listing, short) = groups_that_list(nests.connection, &top.to_string(), &name).await?;
        limit = limit.or(short);
        all.push((name, listing));
    }
    Ok((all, limit))
}
