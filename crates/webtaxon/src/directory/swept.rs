//! All groups of a directory, read with one search in place of a look-up for each.
//!
//! What the search does not bring is looked up all the same, so that it may end early: nothing that
//! is said of a nest depends on it. The members of each are put into the graph as they come, while the server
//! works on the next.

use super::DirectoryError;
use super::connection::Connection;
use super::group::{GROUP_CLASSES, Listing, Members, Met, members};
use super::progress::{EVERY, Progress};
use super::search::{Found, Query};
use foldhash::HashMap;
use webtaxon_core::filter::Filter;
use webtaxon_core::name::{Dn, DnKey, KeyReader};
use webtaxon_core::reading::Sweep;
use webtaxon_core::settings::{Intake, Strategy};
use webtaxon_wire::entry::ReceivedEntry;

/// Look-ups that are made one by one in any case: they are under way together.
const FEW: usize = 200;
/// Groups that a search may bring for each look-up that it spares, before the look-ups are cheaper.
/// Measured by `scripts/bench` against slapd: a look-up of an entry, 64 under way, takes 80 µs, and a
/// group of forty that a paged search brings 16.
const FOR_EACH: usize = 4;

/// The groups that were brought, until they are asked for.
pub(super) struct Swept {
    strategy: Strategy,
    bases: Vec<String>,
    groups: HashMap<DnKey, Listing>,
    names: KeyReader,
    /// Whether it is known what `memberUid` speaks of.
    knows_logins: bool,
    is_done: bool,
}

impl Swept {
    /// Nothing read yet; groups sit where the intake says, or anywhere below the server's tops.
    pub(super) fn new(intake: &Intake, tops: &[Dn], knows_logins: bool) -> Self {
        let bases = if intake.group_bases.is_empty() { tops } else { &intake.group_bases };
        let bases = bases.iter().map(Dn::to_string).collect();
        let (groups, names, is_done) = (HashMap::default(), KeyReader::default(), false);
        Self { strategy: intake.strategy, bases, groups, names, knows_logins, is_done }
    }

    /// Reads them, if the settings say so or it is cheaper than so many look-ups; tells what was done
    /// and why, if anything was.
    pub(super) async fn read_for(
        &mut self,
        connection: &mut Connection,
        sweep: &mut Sweep,
        met: &mut Met,
        lookups: usize,
        attributes: &[&str],
    ) -> Result<Option<String>, DirectoryError> {
        let most = match self.strategy {
            Strategy::Sweep => usize::MAX,
            Strategy::Auto if lookups > FEW => lookups.saturating_mul(FOR_EACH),
            _ => return Ok(None),
        };
        if std::mem::replace(&mut self.is_done, true) {
            return Ok(None);
        }
        let classes = Filter::any(GROUP_CLASSES.map(|class| Filter::equal("objectClass", class)));
        let mut short = "";
        for base in std::mem::take(&mut self.bases) {
            let watch = connection.watch.clone();
            let mut search = connection.search(Query::subtree(&base, classes.clone(), attributes)).await?;
            loop {
                match search.next().await {
                    Ok(Some(Found::Entry(entry))) => {
                        self.keep(sweep, met, &entry);
                        let read = self.groups.len();
                        if read.is_multiple_of(EVERY) {
                            watch.tell(|| Progress::Groups { read });
                        }
                    }
                    Ok(Some(Found::Reference(_))) => {}
                    Ok(None) => break,
                    Err(error) if error.is_fatal() => return Err(error),
                    Err(error) => {
                        tracing::debug!(%error, base, "the search for all groups ended early");
                        short = ", which ended early; the others were looked up";
                        break;
                    }
                }
                if self.groups.len() > most {
                    return Ok(Some(format!(
                        "a search for all groups was left after {most} of them, since {lookups} look-ups take less"
                    )));
                }
            }
        }
        let why = match self.strategy {
            Strategy::Sweep => "as the settings say".to_owned(),
            _ => format!("in place of {lookups} look-ups"),
        };
        Ok(Some(format!("{} groups were read with one search, {why}{short}", self.groups.len())))
    }

    /// Keeps what an entry says. A dynamic group's searches are made behind its own look-up, and so is it found out
    /// what is wrong with a group that cannot be read.
    fn keep(&mut self, sweep: &mut Sweep, met: &mut Met, entry: &ReceivedEntry) {
        let key = std::str::from_utf8(entry.name()).ok().and_then(|name| self.names.key(name).ok());
        if let Some(key) = key
            && let Members::Listed(listed) = members(entry, 0, self.knows_logins)
            && listed.urls.is_empty()
        {
            let mut listing = Listing::default();
            listing.add(sweep.graph_mut(), met, &listed);
            self.groups.insert(key, listing);
        }
    }

    /// The group of this name, if it was brought.
    pub(super) fn take(&mut self, key: &DnKey) -> Option<Listing> {
        self.groups.remove(key)
    }
}
