//! Referrals and continuation references (RFC 4511 §4.1.10, §4.5.3): followed, ignored or refused, as the settings
//! say. Whatever is not read to its end takes the proof away.

use super::reader::{Reader, Remainder, Sought, run};
use crate::directory::client::Connection;
use crate::directory::client::Query;
use crate::directory::shortcoming::Shortcoming;
use crate::directory::{DirectoryError, DirectoryErrorKind};
use std::collections::HashSet;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::url::{LdapUrl, Server, UrlScope};
use webtaxon_core::settings::References;
use webtaxon_wire::message::Scope;

/// Maximum hops from server to server.
const HOPS: usize = 5;

impl Reader<'_> {
    /// Reads the parts held by other servers; returns why they are incomplete, if they are.
    pub(crate) async fn follow(
        &mut self,
        query: &Query,
        purpose: Sought<'_>,
        references: Vec<Vec<String>>,
    ) -> Result<Option<Shortcoming>, DirectoryError> {
        let Some(first) = references.first() else { return Ok(None) };
        match self.access.directory().references {
            References::Refuse => {
                let (base, urls) = (query.base.clone(), first.clone());
                return Err(DirectoryErrorKind::Referred { base, urls }.into());
            }
            References::Ignore => {
                return Ok(Some(Shortcoming::NotFollowed(first.join(" or "))));
            }
            References::Elsewhere => return Ok(None),
            References::Follow => {}
        }
        let mut visited: HashSet<String> = HashSet::new();
        let mut waiting: Vec<(Vec<String>, usize)> = references.into_iter().map(|urls| (urls, 1)).collect();
        while let Some((urls, hops)) = waiting.pop() {
            if hops > HOPS {
                return Ok(Some(Shortcoming::TooManyHops { hops: HOPS, urls: urls.join(" or ") }));
            }
            let mut why = Shortcoming::NoServer;
            let mut is_read = false;
            for url in &urls {
                if !visited.insert(url.clone()) {
                    is_read = true; // it was read already, or is being read
                    break;
                }
                match self.read_there(url, query, purpose).await {
                    Ok(remainder) => {
                        if let Some(short) = remainder.short {
                            return Ok(Some(Shortcoming::Failed(format!("{url}: {short}"))));
                        }
                        waiting.extend(remainder.references.into_iter().map(|urls| (urls, hops + 1)));
                        is_read = true;
                        break;
                    }
                    Err(reason) => why = reason,
                }
            }
            if !is_read {
                let (urls, why) = (urls.join(" or "), Box::new(why));
                return Ok(Some(Shortcoming::NotReadThere { urls, why }));
            }
        }
        Ok(None)
    }

    /// The same search at another server.
    async fn read_there(
        &mut self,
        url: &str,
        query: &Query,
        purpose: Sought<'_>,
    ) -> Result<Remainder, Shortcoming> {
        let place = url.parse::<LdapUrl>().map_err(|reason| Shortcoming::BadAddress(reason.to_string()))?;
        let server = place.server.ok_or(Shortcoming::NoServer)?;
        if matches!(server, Server::Socket(_)) {
            return Err(Shortcoming::BadAddress("a server may not send us to a local socket".to_owned()));
        }
        let key = server.to_string();
        let mut connection: Connection = match self.others.remove(&key) {
            Some(connection) => connection,
            None => {
                let opened =
                    self.access.open_referred(&server).await.map_err(|error| Shortcoming::from(&error))?;
                self.builder.note(format!("{url} was read as well"));
                opened
            }
        };
        let mut there = query.clone();
        if let Some(base) = place.base {
            let is_below = Dn::parse(&query.base).is_ok_and(|own| base.key().is_within(&own.key()));
            if !is_below {
                return Err(Shortcoming::BadAddress(format!("it leads outside {}", query.base)));
            }
            there.base = base.to_string();
        }
        if let Some(scope) = place.scope {
            there.scope = match scope {
                UrlScope::Base => Scope::Base,
                UrlScope::One => Scope::One,
                UrlScope::Subtree => Scope::Subtree,
            };
        }
        // Another server's referral cannot widen the intake's own filter.
        if let Some(filter) = place.filter {
            there.filter = Filter::And(vec![query.filter.clone(), filter]);
        }
        let mut remainder = Remainder::default();
        match run(&mut connection, &mut self.builder, there, purpose, &mut remainder).await {
            Ok(()) => {
                self.others.insert(key, connection);
                Ok(remainder)
            }
            Err(error) => match error.referral() {
                Some(urls) => {
                    remainder.references.push(urls);
                    self.others.insert(key, connection);
                    Ok(remainder)
                }
                None => Err((&error).into()),
            },
        }
    }
}
