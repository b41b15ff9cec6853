//! A server's change marks, and the filters for entries that changed since.

use crate::directory::DirectoryError;
use crate::directory::client::{Connection, Query, RootDse};
use jiff::{SignedDuration, Timestamp};
use webtaxon_core::ldap::entry::{Entries, Entry};
use webtaxon_core::ldap::filter::Filter;
use webtaxon_core::ldap::name::Dn;
use webtaxon_core::ldap::schema::ServerKind;
use webtaxon_core::ldap::value::generalized_time;
use webtaxon_core::reading::{ChangeMark, Request};

/// Seconds within which member lists follow a rename, on clocks that are not quite the same.
const LATELY: i64 = 120;

/// The latest change of each part of the directory at some moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Marks {
    /// The highest change number of a domain controller.
    Number(u64),
    /// The change sequence number of each naming context that tells one.
    Times(Vec<Latest>),
}

/// The latest change below one naming context.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Latest {
    top: Dn,
    /// The newest value of its `contextCSN`: `20261130091500.000001Z#000000#001#000000`.
    csn: String,
    has_people: bool,
}

impl Marks {
    /// The server's marks; `None` if it does not tell them for all contexts with people.
    pub(super) async fn read(
        connection: &mut Connection,
        request: &Request,
    ) -> Result<Option<Self>, DirectoryError> {
        let asked = Self::asked(connection.root(), request);
        let mut entries = Vec::new();
        for query in asked.queries() {
            entries.push(one(connection, query).await?);
        }
        Ok(asked.told(&entries))
    }

    /// The searches that tell the marks.
    pub(super) fn asked(root: &RootDse, request: &Request) -> AskedMarks {
        if root.kind == ServerKind::Controller {
            return AskedMarks::Number;
        }
        let mut tops = Vec::new();
        for top in root.naming_contexts.clone() {
            let key = top.key();
            let has_people = request.bases.iter().any(|base| base.key().is_within(&key));
            let has_groups = request.reads_groups()
                && (request.group_bases.is_empty()
                    || request.group_bases.iter().any(|base| base.key().is_within(&key)));
            if has_people || has_groups {
                tops.push((top, has_people));
            }
        }
        AskedMarks::Times(tops)
    }

    /// The mark to remember.
    pub(super) fn to_remember(&self) -> ChangeMark {
        match self {
            Self::Number(number) => ChangeMark::Number(*number),
            Self::Times(all) => {
                let time = |latest: &Latest| latest.csn.split('#').next().unwrap_or("").to_owned();
                ChangeMark::Times(all.iter().filter(|latest| latest.has_people).map(time).collect())
            }
        }
    }

    /// The filter for entries below a place that changed since; `None` if none did, or if the server does not tell.
    ///
    /// OpenLDAP shows a change a moment before its mark, so that equal marks do not mean that nothing changed.
    pub(super) fn changed(&self, now: &Self, place: &Dn) -> Option<Filter> {
        match (self, now) {
            (Self::Number(then), Self::Number(now)) if now > then => {
                Some(Filter::at_least("uSNChanged", (then + 1).to_string()))
            }
            (Self::Times(_), Self::Times(_)) => {
                let csn = self.latest(place)?;
                let own = Filter::equal("entryCSN", csn);
                Some(Filter::all([Filter::at_least("entryCSN", csn), !own]))
            }
            _ => None,
        }
    }

    /// The attribute of an entry's own mark.
    pub(super) fn attribute(&self) -> &'static str {
        match self {
            Self::Number(_) => "uSNChanged",
            Self::Times(_) => "entryCSN",
        }
    }

    /// True unless an entry shows that it did not change since.
    pub(super) fn may_be_older_than(&self, entry: Entry<'_>) -> bool {
        let Some(own) = entry.text(self.attribute()) else { return true };
        match self {
            Self::Number(number) => own.parse().map_or(true, |own: u64| own > *number),
            Self::Times(_) => {
                let place = Dn::parse(entry.dn()).ok();
                place.and_then(|place| self.latest(&place).map(|csn| own > csn)).unwrap_or(true)
            }
        }
    }

    /// The filter for entries below a place that changed a short while before now, or before the latest change there.
    pub(super) fn changed_lately(marks: Option<&Self>, place: &Dn, now: Timestamp) -> Filter {
        let form = |time: Timestamp| (time - SignedDuration::from_secs(LATELY)).strftime("%Y%m%d%H%M%S");
        match marks.and_then(|marks| marks.latest(place)) {
            Some(csn) => {
                let latest = csn.split('#').next().and_then(generalized_time).unwrap_or(now);
                let time = form(latest.max(now));
                Filter::at_least("entryCSN", format!("{time}.000000Z#000000#000#000000"))
            }
            None => Filter::at_least("modifyTimestamp", format!("{}Z", form(now))),
        }
    }

    /// The latest change of the context that a place is in.
    fn latest(&self, place: &Dn) -> Option<&str> {
        let Self::Times(all) = self else { return None };
        let holds = |latest: &&Latest| place.key().is_within(&latest.top.key());
        let depth = |latest: &&Latest| latest.top.to_string().len();
        all.iter().filter(holds).max_by_key(depth).map(|latest| latest.csn.as_str())
    }
}

/// The searches that tell a server's marks.
pub(super) enum AskedMarks {
    Number,
    /// The naming contexts, and whether people are in each.
    Times(Vec<(Dn, bool)>),
}

impl AskedMarks {
    pub(super) fn queries(&self) -> Vec<Query> {
        match self {
            Self::Number => vec![Query::base("", &["highestCommittedUSN"])],
            Self::Times(tops) => {
                tops.iter().map(|(top, _)| Query::base(&top.to_string(), &["contextCSN"])).collect()
            }
        }
    }

    /// The marks, from the entries that each search found.
    pub(super) fn told(self, entries: &[Entries]) -> Option<Marks> {
        match self {
            Self::Number => {
                let root = entries.first()?.get(0)?;
                root.text("highestCommittedUSN")?.parse().ok().map(Marks::Number)
            }
            Self::Times(tops) => {
                let mut all = Vec::new();
                for ((top, has_people), found) in tops.into_iter().zip(entries) {
                    let values = found.iter().flat_map(|entry| entry.values("contextCSN"));
                    match values.filter_map(|csn| std::str::from_utf8(csn).ok()).max() {
                        Some(csn) => all.push(Latest { top, csn: csn.to_owned(), has_people }),
                        None if has_people => return None,
                        None => {}
                    }
                }
                (!all.is_empty()).then_some(Marks::Times(all))
            }
        }
    }
}

/// The entries of a search; empty if it fails.
async fn one(connection: &mut Connection, query: Query) -> Result<Entries, DirectoryError> {
    match connection.entries(query).await {
        Ok((entries, _)) => Ok(entries),
        Err(error) if error.is_fatal() => Err(error),
        Err(_) => Ok(Entries::new()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PEOPLE: &str = "OU=People,DC=quillmere,DC=example";

    fn times(all: &[(&str, &str)]) -> Marks {
        let latest = |(top, csn): &(&str, &str)| Latest {
            top: Dn::parse(top).unwrap(),
            csn: (*csn).to_owned(),
            has_people: true,
        };
        Marks::Times(all.iter().map(latest).collect())
    }

    #[test]
    fn only_what_changed_is_looked_at_again() {
        let here = times(&[
            ("DC=quillmere,DC=example", "20261125091500.000001Z#000000#001#000000"),
            ("OU=Partners,DC=example", "20261124000000.000000Z#000000#001#000000"),
        ]);
        let csn = "(&(entryCSN>=20261125091500.000001Z#000000#001#000000)(!(entryCSN=20261125091500.000001Z#000000#001#000000)))";
        for (then, now, filter) in [
            (&Marks::Number(7), &Marks::Number(7), ""),
            (&Marks::Number(7), &Marks::Number(9), "(uSNChanged>=8)"),
            (&Marks::Number(7), &here, ""),
            // Equal marks say nothing.
            (&here, &here, csn),
            (&times(&[("OU=Partners,DC=example", "20261124000000.000000Z#000000#001#000000")]), &here, ""),
        ] {
            let since = then.changed(now, &Dn::parse(PEOPLE).unwrap());
            assert_eq!(
                since.map(|filter| filter.to_string()).unwrap_or_default(),
                filter,
                "{then:?} {now:?}"
            );
        }
    }

    #[test]
    fn a_short_while_is_measured_by_the_newer_of_both_clocks() {
        let now: Timestamp = "2026-11-30T09:15:00Z".parse().unwrap();
        let csn = |time: &str| times(&[("DC=example", &format!("{time}.000000Z#000000#001#000000"))]);
        for (marks, filter) in [
            (None, "(modifyTimestamp>=20261130091300Z)"),
            (Some(csn("20261101000000")), "(entryCSN>=20261130091300.000000Z#000000#000#000000)"),
            (Some(csn("20261130092000")), "(entryCSN>=20261130091800.000000Z#000000#000#000000)"),
        ] {
            let place = Dn::parse(PEOPLE).unwrap();
            assert_eq!(Marks::changed_lately(marks.as_ref(), &place, now).to_string(), filter);
        }
    }
}
