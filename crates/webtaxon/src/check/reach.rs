//! Steps on each server of the directory: name, connection, certificate, root DSE.

use super::steps::{Finding, StepOutcome, Steps, bad, good, warning};
use crate::directory::client::Connection;
use crate::directory::{Access, DirectoryError, DirectoryErrorKind, Milestone};
use crate::secure::Certificate;
use jiff::Timestamp;
use std::time::{Duration, Instant};
use webtaxon_core::ldap::url::Server;
use webtaxon_core::ldap::value::generalized_time;

/// Pause before a server that cannot be reached is tried again.
const PAUSE: Duration = Duration::from_secs(2);
/// Days before the expiry of a certificate at which to warn.
const SOON: i64 = 30;
/// A difference of clocks that latency and rounding explain, in seconds.
const TOGETHER: i64 = 5;
/// A difference of clocks that invalidates tickets and falsifies expiry, in seconds.
const APART: i64 = 300;

/// Tries every server, so that a fallback is known to work before it is needed. Returns the first connection.
pub(crate) async fn servers(access: &Access, wait: Duration, steps: &mut Steps<'_>) -> Option<Connection> {
    let began = Instant::now();
    let list = match access.servers().await {
        Ok(list) => list,
        Err(error) => {
            steps.end("name", began, bad(&error));
            return None;
        }
    };
    let until = Instant::now() + wait;
    let mut first = None;
    for (index, server) in list.iter().enumerate() {
        let others = first.is_some() || index + 1 < list.len();
        match one(server, access, until, others, steps).await {
            Some(connection) if first.is_none() => first = Some(connection),
            Some(connection) => connection.close().await,
            None => {}
        }
    }
    first
}

/// One server. If there are others, an unusable one is only a warning.
async fn one(
    server: &Server,
    access: &Access,
    until: Instant,
    others: bool,
    steps: &mut Steps<'_>,
) -> Option<Connection> {
    let mut reported = 0;
    loop {
        let mut since = Instant::now();
        let mut done = 0;
        let mut tell = |milestone: Milestone| {
            done += 1;
            if done > reported {
                let (name, finding) = in_words(server, &milestone);
                steps.end(name, since, finding);
                reported = done;
            }
            since = Instant::now();
        };
        let opened = access.connect(server, &mut tell).await;
        if opened.as_ref().is_err_and(is_passing) && Instant::now() + PAUSE < until {
            tokio::time::sleep(PAUSE).await;
            continue;
        }
        return match opened {
            Err(error) => {
                let mut finding = bad(&error);
                if others {
                    finding.outcome = StepOutcome::Warning;
                }
                steps.end(failed_step(&error, done), since, finding);
                None
            }
            Ok(connection) => {
                steps.end("server", since, about(&connection));
                clock(&connection, steps);
                Some(connection)
            }
        };
    }
}

/// Whether another attempt may help.
fn is_passing(error: &DirectoryError) -> bool {
    use DirectoryErrorKind as Kind;
    match error.kind() {
        Kind::Resolve { .. } | Kind::Connect { .. } | Kind::NoAnswer { .. } | Kind::Cut { .. } => true,
        Kind::Search { result, .. } | Kind::NoStartTls { result, .. } => matches!(result.code.0, 51 | 52),
        _ => false,
    }
}

fn in_words(server: &Server, milestone: &Milestone) -> (&'static str, Finding) {
    match milestone {
        Milestone::Resolved(addresses) => {
            let shown: Vec<String> = addresses.iter().map(|address| address.ip().to_string()).collect();
            ("name", good(format!("{server}: {}", shown.join(", "))))
        }
        Milestone::Connected(Some(address)) => ("connect", good(format!("{address} answers"))),
        Milestone::Connected(None) => ("connect", good(format!("{server} answers"))),
        Milestone::Plain => (
            "tls",
            warning(
                "plain text, as set in the settings (plain = true)",
                "anybody on the network path can read the password: remove `plain`, except for tests",
            ),
        ),
        Milestone::Secured { protocol, certificate, start_tls } => {
            let by = if *start_tls { " by StartTLS" } else { "" };
            (
                "tls",
                match certificate {
                    Some(certificate) => secured(&format!("{protocol}{by}"), certificate),
                    None => good(format!("{protocol}{by}")),
                },
            )
        }
    }
}

fn secured(how: &str, certificate: &Certificate) -> Finding {
    let left = certificate.days_left(Timestamp::now());
    let until = certificate.not_after.strftime("%Y-%m-%d");
    let message = format!(
        "{how}; the certificate is for {}, issued by {}, valid until {until} ({left} days)",
        certificate.names.join(", "),
        certificate.issuer
    );
    if left > SOON {
        return good(message);
    }
    warning(
        message,
        "ask the directory's administrators to renew it in time: nothing works once it has expired",
    )
}

/// The step that an error belongs to, given the steps already done.
fn failed_step(error: &DirectoryError, done: usize) -> &'static str {
    use DirectoryErrorKind as Kind;
    match error.kind() {
        Kind::Resolve { .. } => "name",
        Kind::Connect { .. } => "connect",
        Kind::Certificate(_) | Kind::Secure(_) | Kind::NoStartTls { .. } | Kind::Injected { .. } => "tls",
        _ => ["name", "connect", "tls"].get(done).copied().unwrap_or("server"),
    }
}

fn about(connection: &Connection) -> Finding {
    let root = connection.root();
    if !root.read {
        return good("it shows nothing before the bind");
    }
    let tops: Vec<String> = root.tops().iter().map(ToString::to_string).collect();
    let tops = if tops.is_empty() { "it shows no naming context".to_owned() } else { tops.join(", ") };
    let message = format!("{}; it holds {tops}", root.described());
    if root.paged() {
        return good(message);
    }
    warning(
        format!("{message}; it does not support paged results"),
        "a search beyond the server's limit ends early; then no account is suspended or removed",
    )
}

/// The difference between the server's clock and this machine's, if the server shows its own.
fn clock(connection: &Connection, steps: &mut Steps<'_>) {
    let began = Instant::now();
    let Some(told) = &connection.root().current_time else { return };
    let Some(theirs) = generalized_time(told) else { return };
    let apart = (theirs.as_second() - Timestamp::now().as_second()).abs();
    let finding = if apart <= TOGETHER {
        good("the server's clock and this machine's agree")
    } else if apart <= APART {
        good(format!("the server's clock and this machine's are {apart} s apart"))
    } else {
        warning(
            format!("the server's clock says {theirs}: {apart} s away from this machine's"),
            "set this machine's clock by the company's time server; certificates and expiry dates depend on it",
        )
    };
    steps.end("clock", began, finding);
}
