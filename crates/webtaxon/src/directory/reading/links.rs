//! The accounts' links, which may become known while people are being read.

use foldhash::HashSet;
use tokio::sync::watch;
use webtaxon_core::ldap::identity::Identity;

/// The links of the existing accounts. They are needed last, so the account list may be read at the same time as the
/// people.
#[derive(Clone, Debug)]
pub(crate) struct KnownLinks(watch::Receiver<Option<Vec<Identity>>>);

impl KnownLinks {
    /// The links of a list that has been read.
    pub(crate) fn known(links: &[Identity]) -> Self {
        Self(watch::channel(Some(links.to_vec())).1)
    }

    /// The links of a list that is being read, and the sender for them.
    pub(crate) fn later() -> (watch::Sender<Option<Vec<Identity>>>, Self) {
        let (tell, links) = watch::channel(None);
        (tell, Self(links))
    }

    /// Links that this reading did not see. Waits for the account list; empty if the list failed.
    pub(super) async fn without(&self, met: &HashSet<Identity>) -> Vec<Identity> {
        let mut links = self.0.clone();
        let Ok(links) = links.wait_for(Option::is_some).await else { return Vec::new() };
        links.iter().flatten().filter(|link| !met.contains(link)).cloned().collect()
    }
}
