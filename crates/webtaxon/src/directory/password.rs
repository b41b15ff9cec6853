//! Where a bind password comes from: the environment or a file, never the settings.

use super::{DirectoryError, DirectoryErrorKind};
use secrecy::{ExposeSecret as _, SecretString};
use std::path::Path;
use webtaxon_core::settings::{Directory, PasswordSource};
use zeroize::Zeroizing;

/// Fetches the password of a directory's bind account; none for an anonymous one.
///
/// # Errors
/// A name without a password source, or a source that is missing or empty: a name with an empty
/// password would count as anonymous (RFC 4513 §5.1.2).
pub fn password(directory: &Directory, folder: &Path) -> Result<Option<SecretString>, DirectoryError> {
    let missing = |reason: String, help: &str| {
        DirectoryError::from(DirectoryErrorKind::NoPassword { reason, help: help.to_owned() })
    };
    let Some(name) = &directory.bind else { return Ok(None) };
    let found = match &directory.password {
        None => {
            let reason = format!("directory {} binds as {name}, but has no password", directory.name);
            return Err(missing(
                reason,
                "say where it comes from: password = { env = \"MUSEUM_PASSWORD\" } or { file = \"…\" }",
            ));
        }
        Some(PasswordSource::Env(variable)) => match std::env::var(variable) {
            Ok(value) => SecretString::from(value),
            Err(std::env::VarError::NotPresent) => {
                let reason = format!(
                    "the environment variable {variable} is not set; it should hold the bind password"
                );
                return Err(missing(
                    reason,
                    &format!("set it for this run: read -rs {variable} && export {variable}"),
                ));
            }
            Err(std::env::VarError::NotUnicode(_)) => {
                let reason = format!("the environment variable {variable} is not UTF-8");
                return Err(missing(reason, "set it again"));
            }
        },
        Some(PasswordSource::File(file)) => {
            let file = folder.join(file);
            let text = std::fs::read_to_string(&file).map(Zeroizing::new).map_err(|reason| {
                let reason = format!("the password file {} cannot be read: {reason}", file.display());
                missing(reason, "a relative path starts beside the settings; the file must be readable by whoever runs this")
            })?;
            SecretString::from(text.lines().next().unwrap_or("").to_owned())
        }
    };
    if found.expose_secret().is_empty() {
        let source = match &directory.password {
            Some(PasswordSource::Env(variable)) => format!("the environment variable {variable}"),
            Some(PasswordSource::File(file)) => format!("the password file {}", folder.join(file).display()),
            _ => "the password".to_owned(),
        };
        return Err(missing(
            format!("{source} is empty"),
            "put the bind password there; to ask anonymously, leave bind and password out",
        ));
    }
    Ok(Some(found))
}
