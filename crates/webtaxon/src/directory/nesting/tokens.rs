//! Nested membership by a domain controller's list of each person's groups, `tokenGroups`, person by person. It omits
//! distribution groups ([MS-ADTS] §3.1.1.4.5.19).

use super::computed;
use super::computed::{Computation, Computed, InnerGroups};
use super::named_groups::NamedGroup;
use super::strategy::{Attempt, NestStrategy, Nests};
use crate::directory::DirectoryError;
use crate::directory::client::{Query, SearchItem};
use crate::directory::shortcoming::Shortcoming;
use webtaxon_core::graph::Roll;
use webtaxon_wire::message::LdapResult;

/// The strategy that has the groups of each person computed.
pub(super) struct Tokens;

impl NestStrategy for Tokens {
    async fn read(&self, nests: &mut Nests<'_>) -> Result<Attempt, DirectoryError> {
        computed::read(nests, TokenGroups::default()).await
    }
}

/// The SIDs of each person's groups, or why they are hidden.
#[derive(Default)]
struct TokenGroups(Vec<Result<Vec<Vec<u8>>, Shortcoming>>);

impl Computation for TokenGroups {
    const NOTE: &str = "the server computed the groups of each person (tokenGroups)";

    async fn prepare(&mut self, nests: &mut Nests<'_>) -> Result<Option<Shortcoming>, DirectoryError> {
        let names = (0..nests.builder.people().len()).filter_map(|person| nests.builder.name_of(person));
        let names: Vec<&str> = names.map(|(_, dn)| dn).collect();
        let queries: Vec<Query> = names.iter().map(|dn| Query::base(dn, &["tokenGroups"])).collect();
        self.0 = vec![Ok(Vec::new()); queries.len()];
        let answer = |number: usize, found: Vec<SearchItem>, result: LdapResult| {
            let sids = sids(&found);
            let Some(slot) = self.0.get_mut(number) else { return };
            // Every account has at least a primary group.
            *slot = match sids.is_empty() {
                true => Err(Shortcoming::of_lookup(names.get(number).map_or("", |dn| dn), &result)),
                false => Ok(sids),
            };
        };
        nests.connection.pipeline(&queries, answer).await?;
        Ok(None)
    }

    async fn members(
        &self,
        nests: &mut Nests<'_>,
        group: &NamedGroup,
        inner: &InnerGroups,
        _: &Roll,
    ) -> Result<Computed, DirectoryError> {
        let mut computed = Computed { members: Vec::new(), short: None };
        let Some(sid) = group.sid.as_deref() else {
            return Ok(Computed { short: Some(Shortcoming::NoSid), ..computed });
        };
        for (person, groups) in self.0.iter().enumerate() {
            match groups {
                Ok(groups) if groups.iter().any(|one| one == sid) => {
                    computed.members.extend(nests.builder.node_of(person));
                }
                Ok(_) => {}
                Err(why) => {
                    let name = nests.builder.name_of(person).map_or("", |(_, dn)| dn).to_owned();
                    let why = Box::new(why.clone());
                    computed.short.get_or_insert(Shortcoming::TokensNotShown { name, why });
                }
            }
        }
        let for_mail = inner.for_mail.clone().map(Shortcoming::DistributionGroup);
        computed.short = computed.short.or(for_mail);
        Ok(computed)
    }
}

/// The values of `tokenGroups`.
fn sids(found: &[SearchItem]) -> Vec<Vec<u8>> {
    let entries = found.iter().filter_map(|found| match found {
        SearchItem::Entry(entry) => Some(entry),
        SearchItem::Reference(_) => None,
    });
    let own = entries.flat_map(|entry| entry.attributes_as_text());
    let own = own.filter(|(name, _)| name.eq_ignore_ascii_case("tokenGroups"));
    own.flat_map(|(_, values)| values.map(<[u8]>::to_vec)).collect()
}
