//! A connection to a MySQL or MariaDB server.

use super::super::{StoreError, StoreErrorKind};
use crate::box_error::BoxError;
use crate::secure::fetch_password;
use mysql_async::prelude::{FromRow, Queryable as _};
use mysql_async::{Conn, Error, OptsBuilder, Params, SslOpts};
use secrecy::ExposeSecret as _;
use std::path::Path;
use std::time::Duration;
use webtaxon_core::settings::{DatabaseServer, Trust};

/// Time limit for a connection, and for rows locked by another program.
pub(super) const WAIT: Duration = Duration::from_secs(10);

/// The session: names in double quotes, values as they are written, nothing cut or rounded in silence, times in UTC.
const SESSION: [&str; 3] = [
    "SET SESSION sql_mode = 'ANSI_QUOTES,STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_VALUE_ON_ZERO'",
    "SET SESSION time_zone = '+00:00', innodb_lock_wait_timeout = 10, lock_wait_timeout = 10",
    "SET NAMES utf8mb4",
];

/// What a script does to read its statements as they are meant.
pub(super) const SCRIPT: &str = "SET SESSION sql_mode = 'ANSI_QUOTES,STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES,NO_AUTO_VALUE_ON_ZERO';\nSET SESSION time_zone = '+00:00';\nSET NAMES utf8mb4;\nSTART TRANSACTION;\n";

/// A connection, with the store in a few words for messages.
pub(super) struct Session {
    pub(super) conn: Conn,
    pub(super) store: String,
}

impl Session {
    /// The rows of a query.
    pub(super) async fn rows<T: FromRow + Send + 'static>(
        &mut self,
        sql: &str,
        values: impl Into<Params> + Send,
    ) -> Result<Vec<T>, StoreError> {
        let rows = self.conn.exec(sql, values.into()).await;
        rows.map_err(|error| refused(&self.store, error))
    }

    /// Ends the session.
    pub(super) async fn end(self) {
        // A server that does not say goodbye is no fault.
        let _ = self.conn.disconnect().await;
    }

    /// Runs a statement without values.
    pub(super) async fn run(&mut self, sql: &str) -> Result<(), StoreError> {
        self.conn.query_drop(sql).await.map_err(|error| refused(&self.store, error))
    }
}

/// The error for a refusal.
pub(super) fn refused(store: &str, error: Error) -> StoreError {
    let store = store.to_owned();
    match &error {
        // ER_LOCK_WAIT_TIMEOUT.
        Error::Server(said) if said.code == 1205 => {
            StoreErrorKind::Locked { store, seconds: WAIT.as_secs() }.into()
        }
        Error::Server(said) => StoreErrorKind::Database { store, source: said.message.clone().into() }.into(),
        _ => StoreErrorKind::Database { store, source: error.into() }.into(),
    }
}

/// Connects; paths in the settings are relative to `folder`.
pub(super) async fn connect(
    server: &DatabaseServer,
    folder: &Path,
    store: String,
) -> Result<Session, StoreError> {
    let failed = |source: BoxError| StoreErrorKind::Database { store: store.clone(), source };
    let mut options = OptsBuilder::default()
        .user(Some(&server.user))
        .db_name(Some(&server.database))
        .client_found_rows(true)
        .prefer_socket(false)
        .setup(SESSION.to_vec());
    if let Some(source) = &server.password {
        let password = fetch_password(source, &server.user, folder, WAIT, None).await;
        let password = password
            .map_err(|error| StoreErrorKind::NoSecret { store: store.clone(), reason: error.to_string() })?;
        options = options.pass(Some(password.expose_secret()));
    }
    let is_local = server.host.starts_with('/');
    options = match is_local {
        true => options.socket(Some(&server.host)).prefer_socket(true),
        false => options.ip_or_hostname(&server.host).tcp_port(server.port).tcp_keepalive(Some(WAIT)),
    };
    if !is_local && !server.plain {
        let trusted = trusted(&server.trust, folder).map_err(failed)?;
        options = options.ssl_opts(
            SslOpts::default()
                .with_disable_built_in_roots(true)
                .with_root_certs(trusted.into_iter().map(Into::into).collect()),
        );
    }
    let connected = tokio::time::timeout(WAIT, Conn::new(options)).await;
    let conn = connected.map_err(|_| failed("it did not answer within 10 seconds".into()))?;
    Ok(Session { conn: conn.map_err(|error| refused(&store, error))?, store })
}

/// The certificates of the trusted authorities.
fn trusted(trust: &Trust, folder: &Path) -> Result<Vec<Vec<u8>>, BoxError> {
    match trust {
        Trust::Authority(file) => {
            let file = folder.join(file);
            let text = std::fs::read(&file).map_err(|error| format!("{}: {error}", file.display()))?;
            Ok(vec![text])
        }
        Trust::System => {
            let found = rustls_native_certs::load_native_certs();
            if found.certs.is_empty() {
                return Err(
                    "the system has no trusted authorities; name one: trust = { authority = \"db-ca.pem\" }"
                        .into(),
                );
            }
            Ok(found.certs.into_iter().map(|certificate| certificate.to_vec()).collect())
        }
        Trust::Pinned(_) => Err("a fingerprint cannot be checked for this kind of server".into()),
    }
}
