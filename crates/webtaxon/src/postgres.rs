//! Connecting to a PostgreSQL database, for accounts or for the state.

use crate::secure::{TlsRules, fetch_password};
use secrecy::ExposeSecret as _;
use std::path::Path;
use std::time::Duration;
use tokio_postgres::error::SqlState;
use tokio_postgres::{Client, Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;
use webtaxon_core::settings::DatabaseServer;

/// Time limit for a connection, and for a table locked by another program.
pub(crate) const WAIT: Duration = Duration::from_secs(10);

/// Why a connection failed.
pub(crate) enum Unconnected {
    /// The password is not available.
    NoSecret(String),
    /// The server cannot be reached, is not trusted, or refuses the login.
    Refused(String),
}

/// Connects; paths in the settings are relative to `folder`.
pub(crate) async fn connect(server: &DatabaseServer, folder: &Path) -> Result<Client, Unconnected> {
    let mut config = Config::new();
    config.dbname(&server.database).user(&server.user).port(server.port).connect_timeout(WAIT);
    config.application_name("webtaxon");
    // A server that stops answering is given up sooner than the system would.
    config.keepalives_idle(WAIT).tcp_user_timeout(3 * WAIT);
    if let Some(source) = &server.password {
        let password = fetch_password(source, &server.user, folder, WAIT, None).await;
        let password = password.map_err(|error| Unconnected::NoSecret(error.to_string()))?;
        config.password(password.expose_secret());
    }
    let is_local = server.host.starts_with('/');
    if is_local {
        config.host_path(&server.host)
    } else {
        config.host(&server.host)
    };
    let refused = |error: tokio_postgres::Error| Unconnected::Refused(in_words(&error));
    if is_local || server.plain {
        config.ssl_mode(tokio_postgres::config::SslMode::Disable);
        let (client, connection) = config.connect(NoTls).await.map_err(refused)?;
        tokio::spawn(connection);
        return Ok(client);
    }
    config.ssl_mode(tokio_postgres::config::SslMode::Require);
    let rules = TlsRules::of(&server.host, &server.trust, None, folder);
    let rules = rules.map_err(|error| Unconnected::Refused(error.to_string()))?;
    let tls = MakeRustlsConnect::new((*rules.config).clone());
    let (client, connection) = config.connect(tls).await.map_err(refused)?;
    tokio::spawn(connection);
    Ok(client)
}

/// The server's message, or the failure that prevented one.
pub(crate) fn in_words(error: &tokio_postgres::Error) -> String {
    error.as_db_error().map_or_else(
        || {
            std::error::Error::source(error)
                .map_or_else(|| error.to_string(), |why| format!("{error}: {why}"))
        },
        |said| {
            // Of a row that violates a condition, the detail has every value: also those that are nobody's business.
            let shows_row = [SqlState::NOT_NULL_VIOLATION, SqlState::CHECK_VIOLATION].contains(said.code());
            let detail = said.detail().filter(|_| !shows_row).map(str::to_owned);
            let message = said.message();
            let unnamed = |name: Option<&str>, what: &str| {
                name.filter(|name| !message.contains(*name)).map(|name| format!("{what} {name}"))
            };
            let more = [unnamed(said.column(), "column"), unnamed(said.constraint(), "constraint"), detail];
            let more: Vec<String> = more.into_iter().flatten().collect();
            if more.is_empty() { message.to_owned() } else { format!("{message} ({})", more.join(", ")) }
        },
    )
}
