//! Nested membership by a domain controller's matching rule for chains, group by group ([MS-ADTS] §3.1.1.3.4.4.3).

use super::computed;
use super::computed::{CHAIN, Computation, Computed, InnerGroups};
use super::named_groups::{NamedGroup, add_primary, hidden_member_of, rule};
use super::strategy::{Attempt, NestStrategy, Nests};
use crate::directory::DirectoryError;
use crate::directory::client::Query;
use crate::directory::shortcoming::Shortcoming;
use std::ops::ControlFlow;
use webtaxon_core::graph::Roll;
use webtaxon_core::ldap::entry::Entry;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::Dn;

/// The strategy that has the members of each group computed.
pub(super) struct ChainRule;

impl NestStrategy for ChainRule {
    async fn read(&self, nests: &mut Nests<'_>) -> Result<Attempt, DirectoryError> {
        computed::read(nests, Self).await
    }
}

impl Computation for ChainRule {
    const NOTE: &str = "the server computed the members of each group (chain rule)";

    async fn prepare(&mut self, nests: &mut Nests<'_>) -> Result<Option<Shortcoming>, DirectoryError> {
        // The rule does not match people whose memberOf the bind account cannot read.
        let people = nests.builder.people().iter();
        let silent = people.filter(|person| person.values("memberOf").next().is_none());
        let silent: Vec<String> = silent.map(|person| person.dn().to_owned()).collect();
        hidden_member_of(nests.connection, &silent).await
    }

    async fn members(
        &self,
        nests: &mut Nests<'_>,
        group: &NamedGroup,
        inner: &InnerGroups,
        roll: &Roll,
    ) -> Result<Computed, DirectoryError> {
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
