//! The servers of a domain from DNS: `_ldap._tcp.DOMAIN` (RFC 2782).
//!
//! DNS answers are not authenticated. A target outside the domain is left out: a forger could present a valid
//! certificate for it, and would receive the password.

use crate::box_error::BoxError;
use crate::directory::{DirectoryError, DirectoryErrorKind};
use hickory_resolver::TokioResolver;
use hickory_resolver::net::NetError;
use hickory_resolver::proto::rr::RData;
use std::time::Duration;
use tokio::time::timeout;
use webtaxon_core::ldap::url::{Scheme, Server};

/// Maximum servers of a domain that are tried.
const MOST: usize = 16;

/// One record: priority, weight, host, port.
type Target = (u16, u16, String, u16);

/// The servers of a domain, in the order in which to try them.
pub(crate) async fn servers(domain: &str, wait: Duration) -> Result<Vec<Server>, DirectoryError> {
    let unknown = |source: BoxError| DirectoryErrorKind::Domain { domain: domain.to_owned(), source };
    let resolver = TokioResolver::builder_tokio()
        .and_then(hickory_resolver::ResolverBuilder::build)
        .map_err(|error| unknown(error.into()))?;
    ask(&resolver, domain, wait).await
}

async fn ask(resolver: &TokioResolver, domain: &str, wait: Duration) -> Result<Vec<Server>, DirectoryError> {
    let unknown = |source: BoxError| DirectoryErrorKind::Domain { domain: domain.to_owned(), source };
    let question = format!("_ldap._tcp.{}.", domain.trim_end_matches('.'));
    let answer = timeout(wait, resolver.srv_lookup(question)).await;
    let answer = answer
        .map_err(|_| unknown(format!("no answer within {} s", wait.as_secs()).into()))?
        .map_err(|error| unknown(in_words(domain, &error)))?;
    let targets = answer.answers().iter().filter_map(|record| match &record.data {
        RData::SRV(srv) => Some((srv.priority, srv.weight, srv.target.to_utf8(), srv.port)),
        _ => None,
    });
    order(domain, targets.collect()).map_err(|reason| unknown(reason.into()).into())
}

/// The reason why DNS gives no servers.
fn in_words(domain: &str, error: &NetError) -> BoxError {
    if error.is_nx_domain() {
        format!("the DNS that this machine asks does not know _ldap._tcp.{domain}").into()
    } else if error.is_no_records_found() {
        format!("DNS has no servers (SRV) at _ldap._tcp.{domain}").into()
    } else {
        error.to_string().into()
    }
}

/// Sorted by priority, then by descending weight, then by name: RFC 2782 would choose at random, but a run must be
/// repeatable.
fn order(domain: &str, mut targets: Vec<Target>) -> Result<Vec<Server>, String> {
    let domain = domain.trim_end_matches('.').to_ascii_lowercase();
    for (_, _, host, _) in &mut targets {
        *host = host.trim_end_matches('.').to_ascii_lowercase();
    }
    targets.retain(|(_, _, host, _)| !host.is_empty()); // a dot alone says: no such service
    if targets.is_empty() {
        return Err("the domain has no LDAP service".to_owned());
    }
    targets.sort_by(|left, right| {
        (left.0, std::cmp::Reverse(left.1), &left.2).cmp(&(right.0, std::cmp::Reverse(right.1), &right.2))
    });
    let inside =
        |host: &str| host == domain || host.strip_suffix(&domain).is_some_and(|rest| rest.ends_with('.'));
    let (good, strange): (Vec<Target>, Vec<Target>) =
        targets.into_iter().partition(|(_, _, host, _)| inside(host));
    if good.is_empty() {
        let hosts: Vec<String> = strange.into_iter().map(|(_, _, host, _)| host).collect();
        return Err(format!("its servers are not part of the domain: {}", hosts.join(", ")));
    }
    let server = |(_, _, host, port): Target| {
        let scheme = if port == Scheme::Ldaps.port() { Scheme::Ldaps } else { Scheme::Ldap };
        Server::Host { scheme, host, port }
    };
    Ok(good.into_iter().take(MOST).map(server).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use hickory_resolver::config::{ConnectionConfig, NameServerConfig, ResolverConfig};
    use hickory_resolver::net::runtime::TokioRuntimeProvider;
    use hickory_resolver::proto::op::{Message, MessageType, OpCode};
    use hickory_resolver::proto::rr::rdata::SRV;
    use hickory_resolver::proto::rr::{Name, Record};

    fn urls(servers: Vec<Server>) -> Vec<String> {
        servers.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn the_order_is_by_priority_then_weight_and_strangers_are_left_out() {
        let target = |priority, weight, host: &str, port| (priority, weight, host.to_owned(), port);
        let targets = vec![
            target(10, 5, "dc3.quillmere.example.", 389),
            target(0, 10, "dc2.Quillmere.Example.", 389),
            target(0, 90, "dc1.quillmere.example.", 636),
            target(0, 99, "dc1.quillmere.example.impostor.example.", 389),
            target(0, 99, "notquillmere.example.", 389),
        ];
        assert_eq!(
            urls(order("Quillmere.example", targets).unwrap()),
            [
                "ldaps://dc1.quillmere.example:636",
                "ldap://dc2.quillmere.example:389",
                "ldap://dc3.quillmere.example:389"
            ]
        );
        assert!(
            order("quillmere.example", vec![target(0, 0, ".", 0)]).unwrap_err().contains("no LDAP service")
        );
        let stranger = vec![target(0, 0, "impostor.example.", 389)];
        assert!(order("quillmere.example", stranger).unwrap_err().contains("impostor.example"));
    }

    /// A DNS server that knows one domain.
    async fn name_server() -> u16 {
        let socket = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let port = socket.local_addr().unwrap().port();
        tokio::spawn(async move {
            let mut buffer = [0; 512];
            while let Ok((count, from)) = socket.recv_from(&mut buffer).await {
                let asked = Message::from_vec(&buffer[..count]).unwrap();
                let mut answer = Message::new(asked.id, MessageType::Response, OpCode::Query);
                for query in &asked.queries {
                    answer.add_query(query.clone());
                    if query.name().to_utf8() == "_ldap._tcp.quillmere.example." {
                        let host = Name::from_utf8("dc1.quillmere.example.").unwrap();
                        let record = Record::from_rdata(
                            query.name().clone(),
                            60,
                            RData::SRV(SRV::new(0, 100, 3890, host)),
                        );
                        answer.add_answer(record);
                    }
                }
                socket.send_to(&answer.to_vec().unwrap(), from).await.unwrap();
            }
        });
        port
    }

    #[tokio::test]
    async fn a_name_server_is_asked_for_the_domains_servers() {
        let mut connection = ConnectionConfig::udp();
        connection.port = name_server().await;
        let server = NameServerConfig::new("127.0.0.1".parse().unwrap(), true, vec![connection]);
        let config = ResolverConfig::from_parts(None, Vec::new(), vec![server]);
        let resolver =
            TokioResolver::builder_with_config(config, TokioRuntimeProvider::default()).build().unwrap();
        let wait = Duration::from_secs(10);
        let found = ask(&resolver, "quillmere.example", wait).await.unwrap();
        assert_eq!(urls(found), ["ldap://dc1.quillmere.example:3890"]);
        let error = ask(&resolver, "elsewhere.example", wait).await.unwrap_err();
        assert!(error.to_string().contains("elsewhere.example"), "{error}");
    }
}
