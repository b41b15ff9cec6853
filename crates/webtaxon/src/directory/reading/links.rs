//! The links of the accounts, which may still be on their way while people are read.

use foldhash::HashSet;
use tokio::sync::watch;
use webtaxon_core::ldap::identity::Identity;

/// The links of the accounts that there are. They are needed last: a list of accounts may be read while
/// people are.
#[derive(Clone, Debug)]
pub(crate) struct Links(watch::Receiver<Option<Vec<Identity>>>);

impl Links {
    /// Those of a list that was read.
    pub(crate) fn known(links: &[Identity]) -> Self {
        Self(watch::channel(Some(links.to_vec())).1)
    }

    /// Those of a list that is being read, and whom to tell of them.
    pub(crate) fn later() -> (watch::Sender<Option<Vec<Identity>>>, Self) {
        let (tell, links) = watch::channel(None);
        (tell, Self(links))
    }

    /// Those whom nobody met. Waits until the list has been read; where it cannot be, nobody is missed.
    pub(super) async fn without(&self, met: &HashSet<Identity>) -> Vec<Identity> {
        let mut links = self.0.clone();
        let Ok(links) = links.wait_for(Option::is_some).await else { return Vec::new() };
        links.iter().flatten().filter(|link| !met.contains(link)).cloned().collect()
    }
}
