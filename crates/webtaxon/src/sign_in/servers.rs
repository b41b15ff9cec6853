//! The servers of a directory, for many sign-ins: which there are, in order, and which of them failed a short while ago.
//!
//! One that failed is left out for a while, and then tried again in the background, so that no try waits for it twice.

use crate::directory::Access;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::time::Instant;
use webtaxon_core::ldap::url::Server;

/// Time for which a server that failed is left out.
const LEFT_OUT: Duration = Duration::from_secs(15);
/// Age of a domain's list of servers after which DNS is asked again.
const FRESH: Duration = Duration::from_secs(60);

/// One server, and its address in text.
#[derive(Clone, Debug)]
pub(super) struct Named {
    pub(super) server: Server,
    pub(super) name: Arc<str>,
}

/// The servers of a directory.
#[derive(Default)]
pub(super) struct Servers {
    /// The list, and when it was asked for.
    all: tokio::sync::Mutex<Option<(Instant, Vec<Named>)>>,
    /// The servers that failed, each with the time until which it is left out.
    down: Mutex<HashMap<Arc<str>, Down>>,
}

#[derive(Clone, Copy)]
struct Down {
    until: Instant,
    /// It is being tried in the background.
    is_tried: bool,
}

impl Servers {
    /// All servers in order, from `ask` if nothing fresh is known. While there is no answer, the last one holds.
    ///
    /// # Errors
    /// There has never been an answer.
    pub(super) async fn all<E>(
        &self,
        now: Instant,
        ask: impl Future<Output = Result<Vec<Server>, E>>,
    ) -> Result<Vec<Named>, E> {
        let mut all = self.all.lock().await;
        if let Some((since, known)) = all.as_ref()
            && now.duration_since(*since) < FRESH
        {
            return Ok(known.clone());
        }
        let known = match (ask.await, all.take()) {
            (Ok(servers), _) => servers.into_iter().map(Named::from).collect(),
            (Err(_), Some((_, known))) => known,
            (Err(error), None) => return Err(error),
        };
        *all = Some((now, known.clone()));
        Ok(known)
    }

    /// The servers that are not left out, in order; all of them if every one is.
    pub(super) fn usable(self: &Arc<Self>, all: &[Named], access: &Access) -> Vec<Named> {
        let mut down = self.down();
        let mut usable = Vec::new();
        for one in all {
            match down.get_mut(&one.name) {
                None => usable.push(one.clone()),
                Some(failed) if failed.until <= Instant::now() && !failed.is_tried => {
                    failed.is_tried = true;
                    let (servers, access, one) = (Arc::clone(self), access.renewed(), one.clone());
                    drop(tokio::spawn(async move { servers.try_again(&access, one).await }));
                }
                Some(_) => {}
            }
        }
        if usable.is_empty() { all.to_vec() } else { usable }
    }

    async fn try_again(&self, access: &Access, one: Named) {
        match access.connect(&one.server, &mut |_| {}).await {
            Ok(connection) => {
                connection.close().await;
                self.down().remove(&one.name);
            }
            Err(_) => self.leave_out(one.name),
        }
    }

    pub(super) fn leave_out(&self, name: Arc<str>) {
        let until = Instant::now() + LEFT_OUT;
        self.down().insert(name, Down { until, is_tried: false });
    }

    fn down(&self) -> MutexGuard<'_, HashMap<Arc<str>, Down>> {
        self.down.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl From<Server> for Named {
    fn from(server: Server) -> Self {
        Self { name: server.to_string().into(), server }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use webtaxon_core::ldap::url::Scheme;

    /// The hosts after a question that `answer` answers.
    async fn hosts(servers: &Servers, now: Instant, answer: Result<&str, ()>) -> Result<Vec<String>, ()> {
        let server = |host: &str| Server::Host { scheme: Scheme::Ldap, host: host.to_owned(), port: 389 };
        let ask = async { Ok(vec![server(answer?)]) };
        Ok(servers.all(now, ask).await?.into_iter().map(|one| one.name.to_string()).collect())
    }

    #[tokio::test]
    async fn dns_is_asked_now_and_then_and_need_not_answer_each_time() {
        let servers = Servers::default();
        let mut now = Instant::now();
        assert!(hosts(&servers, now, Err(())).await.is_err());
        let (a, b) = (Ok("a.example"), Ok("b.example"));
        let first = hosts(&servers, now, a).await.unwrap();
        for (later, answer, is_first) in [(1, b, true), (60, Err(()), true), (30, b, true), (31, b, false)] {
            now += Duration::from_secs(later);
            assert_eq!(hosts(&servers, now, answer).await.unwrap() == first, is_first, "{later}, {answer:?}");
        }
    }
}
