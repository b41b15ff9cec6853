//! Referrals and continuation references (RFC 4511 §4.1.10, §4.5.3): followed, ignored or refused, as the settings
//! say. Whatever is not read to its end takes the proof away.

use super::reader::{Reader, Remainder, Sought, run};
use crate::directory::client::Connection;
use crate::directory::client::Query;
use crate::directory::{DirectoryError, DirectoryErrorKind};
use std::collections::HashSet;
use webtaxon_core::ldap::url::{LdapUrl, UrlScope};
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
    ) -> Result<Option<String>, DirectoryError> {
        let Some(first) = references.first() else { return Ok(None) };
        match self.access.directory().references {
            References::Refuse => {
                let (base, urls) = (query.base.clone(), first.clone());
                return Err(DirectoryErrorKind::Referred { base, urls }.into());
            }
            References::Ignore => {
                return Ok(Some(format!(
                    "a part of it is held by another server, and the referral was not followed: {}",
                    first.join(" or ")
                )));
            }
            References::Follow => {}
        }
        let mut visited: HashSet<String> = HashSet::new();
        let mut waiting: Vec<(Vec<String>, usize)> = references.into_iter().map(|urls| (urls, 1)).collect();
        while let Some((urls, hops)) = waiting.pop() {
            if hops > HOPS {
                return Ok(Some(format!(
                    "there are more than {HOPS} referrals in a row: {}",
                    urls.join(" or ")
                )));
            }
            let mut why = "it names no server".to_owned();
            let mut is_read = false;
            for url in &urls {
                if !visited.insert(url.clone()) {
                    is_read = true; // it was read already, or is being read
                    break;
                }
                match self.read_there(url, query, purpose).await {
                    Ok(remainder) => {
                        if let Some(short) = remainder.short {
                            return Ok(Some(format!("{url}: {short}")));
                        }
                        waiting.extend(remainder.references.into_iter().map(|urls| (urls, hops + 1)));
                        is_read = true;
                        break;
                    }
                    Err(reason) => why = reason,
                }
            }
            if !is_read {
                return Ok(Some(format!(
                    "a part of it is held by {}, which was not read: {why}",
                    urls.join(" or ")
                )));
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
    ) -> Result<Remainder, String> {
        let place = LdapUrl::parse(url).map_err(|reason| format!("its address is invalid: {reason}"))?;
        let server = place.server.ok_or("it names no server")?;
        let key = server.to_string();
        let mut connection: Connection = match self.others.remove(&key) {
            Some(connection) => connection,
            None => {
                let opened = self.access.open_referred(&server).await.map_err(|error| error.to_string())?;
                self.builder.note(format!("{url} was read as well"));
                opened
            }
        };
        let mut there = query.clone();
        if let Some(base) = place.base {
            there.base = base.to_string();
        }
        if let Some(scope) = place.scope {
            there.scope = match scope {
                UrlScope::Base => Scope::Base,
                UrlScope::One => Scope::One,
                UrlScope::Subtree => Scope::Subtree,
            };
        }
        if let Some(filter) = place.filter {
            there.filter = filter;
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
                None => Err(error.to_string()),
            },
        }
    }
}
