//! Each server of the directory: its name, the way to it, its certificate, what it says of itself.

use super::steps::{Finding, StepOutcome, Steps, bad, good, warning};
use crate::directory::client::Connection;
use crate::directory::{Access, DirectoryError, DirectoryErrorKind, Milestone};
use crate::secure::Certificate;
use jiff::Timestamp;
use std::time::{Duration, Instant};
use webtaxon_core::ldap::url::Server;
use webtaxon_core::ldap::value::generalized_time;

/// Between two tries of a server that cannot be reached.
const PAUSE: Duration = Duration::from_secs(2);
/// A certificate that ends so soon is worth a word, in days.
const SOON: i64 = 30;
/// A difference that the way to the server and a full second explain, in seconds.
const TOGETHER: i64 = 5;
/// Clocks further apart than this break signed tickets and mislead about expiry, in seconds.
const APART: i64 = 300;

/// Tries every server, so that the second one is known to work before it is needed. Gives the
/// first connection that came about.
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

/// One server. Where there are others, one that cannot be used is a warning.
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

/// Whether trying again may help.
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
                "plain text, as the settings say (plain = true)",
                "anybody on the way can read the password: take `plain` out, outside of tests",
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
        "{how}; the certificate is for {}, issued by {}, good until {until} ({left} days)",
        certificate.names.join(", "),
        certificate.issuer
    );
    if left > SOON {
        return good(message);
    }
    warning(
        message,
        "ask the directory's administrators to renew it in time: when it has expired, nothing works any more",
    )
}

/// The step that an error belongs to, by what was done already.
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
        return good("it says nothing of itself before the bind");
    }
    let tops: Vec<String> = root.tops().iter().map(ToString::to_string).collect();
    let tops = if tops.is_empty() { "it names no tree".to_owned() } else { tops.join(", ") };
    let message = format!("{}; it holds {tops}", root.described());
    if root.paged() {
        return good(message);
    }
    warning(
        format!("{message}; it does not know paged results"),
        "a search that finds more than the server's limit ends early; then nobody's account is taken away",
    )
}

/// How far the server's clock is from this machine's, where the server tells.
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
            "set this machine's clock by the company's time server; certificates and expiry dates are judged by it",
        )
    };
    steps.end("clock", began, finding);
}
