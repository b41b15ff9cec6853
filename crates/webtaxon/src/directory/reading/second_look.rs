//! People who move during the reading, from a part not yet read into one already read. If the server publishes change
//! numbers or times, a second look finds them.

use super::reader::{Reader, Sought};
use crate::directory::DirectoryError;
use crate::directory::client::Connection;
use crate::directory::client::Query;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::reading::Part;
use webtaxon_core::reading::Request;
use webtaxon_core::words::counted;

/// The server's change counter at the start of a reading.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Mark {
    /// The server publishes none.
    Unknown,
    /// The highest change number (a domain controller's highestCommittedUSN).
    Number(u64),
    /// The time of the last change (contextCSN up to its first `#`), for each naming context.
    Times(Vec<String>),
}

impl Mark {
    pub(crate) async fn take(connection: &mut Connection, request: &Request) -> Result<Self, DirectoryError> {
        if connection.root().kind == ServerKind::Controller {
            let entries = one(connection, "", "highestCommittedUSN").await?;
            let number = entries.get(0).and_then(|root| root.text("highestCommittedUSN")?.parse().ok());
            return Ok(number.map_or(Self::Unknown, Self::Number));
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
                None => return Ok(Self::Unknown),
            }
        }
        Ok(if times.is_empty() { Self::Unknown } else { Self::Times(times) })
    }

    /// The filter for entries changed since; `None` if nothing changed.
    fn since(&self, now: &Self) -> Option<Filter> {
        match (self, now) {
            (Self::Number(then), Self::Number(now)) if now > then => {
                Some(Filter::at_least("uSNChanged", (then + 1).to_string()))
            }
            (Self::Times(then), Self::Times(now)) if now != then => {
                // The oldest time of all naming contexts: some entries may be read again without need, but none is
                // missed.
                then.iter()
                    .min()
                    .map(|time| Filter::at_least("entryCSN", format!("{time}#000000#000#000000")))
            }
            _ => None,
        }
    }

    /// Reads the entries changed meanwhile, and keeps people not yet seen.
    pub(crate) async fn look_again(
        self,
        reader: &mut Reader<'_>,
        identity: &str,
    ) -> Result<(), DirectoryError> {
        let now = Self::take(&mut reader.connection, reader.request).await?;
        let Some(changed) = self.since(&now) else { return Ok(()) };
        let met = reader.identities_met(identity);
        let before = reader.builder.people().len();
        for base in &reader.request.bases {
            let part = reader.builder.open(Part::SecondLook { base: base.clone() });
            let filter = Filter::And(vec![reader.request.filter.clone(), changed.clone()]);
            let query: Query = reader.query(&base.to_string(), filter);
            let ended = reader.whole(&query, Sought::Moved(identity, &met)).await;
            reader.close(part, ended)?;
        }
        let more = reader.builder.people().len() - before;
        let found = match more {
            0 => "nobody else was found".to_owned(),
            _ => counted(more, "more was found", "more were found"),
        };
        reader
            .builder
            .note(format!("the directory changed while it was being read; at a second look, {found}"));
        Ok(())
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_changed_is_looked_at_again() {
        let times = |list: &[&str]| Mark::Times(list.iter().map(|time| (*time).to_owned()).collect());
        for (then, now, filter) in [
            (Mark::Unknown, Mark::Unknown, ""),
            (Mark::Number(7), Mark::Number(7), ""),
            (Mark::Number(7), Mark::Number(9), "(uSNChanged>=8)"),
            (Mark::Number(7), Mark::Unknown, ""),
            (times(&["20261125091500.000001Z"]), times(&["20261125091500.000001Z"]), ""),
            (
                times(&["20261125091500.000001Z", "20261124000000.000000Z"]),
                times(&["20261125091501.000001Z", "20261124000000.000000Z"]),
                "(entryCSN>=20261124000000.000000Z#000000#000#000000)",
            ),
        ] {
            let since = then.since(&now).map(|filter| filter.to_string()).unwrap_or_default();
            assert_eq!(since, filter, "{then:?} {now:?}");
        }
    }
}
