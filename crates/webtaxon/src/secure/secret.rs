//! The sources of passwords: the environment, a file, a program, the service manager or a prompt; never the settings.

use crate::secure::SecureError;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::rand::{SecureRandom as _, SystemRandom};
use secrecy::{ExposeSecret as _, SecretString};
use std::io;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::AsyncReadExt as _;
use webtaxon_core::settings::{Bind, Directory, PasswordSource};
use zeroize::Zeroizing;

/// The folder in which a service manager puts a program's credentials.
const CREDENTIALS: &str = "CREDENTIALS_DIRECTORY";
/// Whose secret a token is.
pub(crate) const TOKEN: &str = "the token";

/// The longest password, in bytes.
const LONGEST: u64 = 1 << 16;

/// Asks for a password; the text says whose.
pub type Prompt = dyn Fn(&str) -> io::Result<SecretString> + Send + Sync;

/// Fetches the password of a directory's bind account; `None` for a bind without one.
///
/// # Errors
/// A bind name without a source, or a source that is missing or empty: a name with an empty password would count as
/// anonymous (RFC 4513 §5.1.2).
pub async fn password(
    directory: &Directory,
    folder: &Path,
    prompt: Option<&Prompt>,
) -> Result<Option<SecretString>, SecureError> {
    let Bind::Simple { name, password } = &directory.bind else { return Ok(None) };
    let Some(source) = password else {
        return Err(missing(
            format!("directory {} binds as {name}, but has no password", directory.name),
            "add its source: password = { env = \"MUSEUM_PASSWORD\" } or { file = \"…\" }",
        ));
    };
    fetch(source, name, folder, directory.timeout, prompt).await.map(Some)
}

/// Fetches the password of `whose` from its source; a program has `wait` to answer.
pub(crate) async fn fetch(
    source: &PasswordSource,
    whose: &str,
    folder: &Path,
    wait: Duration,
    prompt: Option<&Prompt>,
) -> Result<SecretString, SecureError> {
    let what = if whose == TOKEN { "token" } else { "password" };
    let found = match source {
        PasswordSource::Env(variable) => from_environment(variable, what)?,
        PasswordSource::File(file) => first_line_of(&folder.join(file), what)?,
        PasswordSource::Credential(name) => first_line_of(&credential(name)?, what)?,
        PasswordSource::Command(words) => from_command(words, folder, wait).await?,
        PasswordSource::Ask => {
            let Some(prompt) = prompt else {
                return Err(missing(
                    "the settings ask for the password at a prompt, but there is no terminal".to_owned(),
                    "run this in a terminal, or name another source: password = { file = \"…\" }",
                ));
            };
            prompt(&format!("Password of {whose}")).map_err(|reason| {
                missing(format!("the password prompt failed: {reason}"), "run this in a terminal")
            })?
        }
    };
    if found.expose_secret().is_empty() {
        return Err(missing(
            format!("{} is empty", described(source, what, folder)),
            &match what {
                "token" => "put the token there".to_owned(),
                _ => format!(
                    "put the password of {whose} there; an anonymous bind has neither bind nor password"
                ),
            },
        ));
    }
    Ok(found)
}

/// A warning about a password file that everybody can read.
#[must_use]
pub fn password_warning(directory: &Directory, folder: &Path) -> Option<String> {
    let Bind::Simple { password: Some(PasswordSource::File(file)), .. } = &directory.bind else {
        return None;
    };
    let file = folder.join(file);
    is_open(&file).then(|| {
        format!(
            "the password file {0} can be read by everybody on this machine: chmod 600 {0}",
            file.display()
        )
    })
}

#[cfg(unix)]
fn is_open(file: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt as _;
    std::fs::metadata(file).is_ok_and(|about| about.permissions().mode() & 0o004 != 0)
}

#[cfg(not(unix))]
fn is_open(_: &Path) -> bool {
    false
}

fn missing(reason: String, help: &str) -> SecureError {
    SecureError::NoPassword { reason, help: help.to_owned() }
}

/// A source in words.
fn described(source: &PasswordSource, what: &str, folder: &Path) -> String {
    match source {
        PasswordSource::Env(variable) => format!("the environment variable {variable}"),
        PasswordSource::File(file) => format!("the {what} file {}", folder.join(file).display()),
        PasswordSource::Command(words) => format!("the first line of the output of {}", program(words)),
        PasswordSource::Credential(name) => format!("the credential {name}"),
        PasswordSource::Ask => format!("the {what}"),
    }
}

fn from_environment(variable: &str, what: &str) -> Result<SecretString, SecureError> {
    match std::env::var(variable) {
        Ok(value) => Ok(SecretString::from(value)),
        Err(std::env::VarError::NotPresent) => Err(missing(
            format!("the environment variable {variable} is not set; it should hold the {what}"),
            &format!("set it for this run: read -rs {variable} && export {variable}"),
        )),
        Err(std::env::VarError::NotUnicode(_)) => {
            Err(missing(format!("the environment variable {variable} is not UTF-8"), "set it again"))
        }
    }
}

fn first_line_of(file: &Path, what: &str) -> Result<SecretString, SecureError> {
    let text = std::fs::read_to_string(file).map(Zeroizing::new).map_err(|reason| {
        missing(
            format!("the {what} file {} cannot be read: {reason}", file.display()),
            "its path is relative to the settings file; the user who runs this must be able to read it",
        )
    })?;
    Ok(first_line(&text))
}

fn first_line(text: &str) -> SecretString {
    SecretString::from(text.lines().next().unwrap_or("").to_owned())
}

fn credential(name: &str) -> Result<PathBuf, SecureError> {
    std::env::var_os(CREDENTIALS).map(|folder| PathBuf::from(folder).join(name)).ok_or_else(|| {
        missing(
            format!("there is no credential {name}: this program was not started by a service manager"),
            "LoadCredential= in the service's unit passes it on; by hand, name another source, like { ask = true }",
        )
    })
}

fn program(words: &[String]) -> &str {
    words.first().map_or("", String::as_str)
}

/// The first line of a program's output. It is started without a shell; its standard error is passed through.
async fn from_command(words: &[String], folder: &Path, wait: Duration) -> Result<SecretString, SecureError> {
    let name = program(words);
    let failed = |reason: String| {
        missing(
            format!("the password command {name} {reason}"),
            "type the command by hand: it must write the password as its first line, and exit",
        )
    };
    let mut command = tokio::process::Command::new(name);
    command
        .args(words.get(1..).unwrap_or(&[]))
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .kill_on_drop(true);
    if folder.as_os_str().is_empty() {
        command.current_dir(".");
    } else {
        command.current_dir(folder);
    }
    let mut child = command.spawn().map_err(|error| failed(format!("cannot be started: {error}")))?;
    let running = async {
        let mut text = Zeroizing::new(Vec::new());
        if let Some(stdout) = child.stdout.take() {
            stdout.take(LONGEST).read_to_end(&mut text).await?;
        }
        Ok::<_, io::Error>((text, child.wait().await?))
    };
    let (text, status) = tokio::time::timeout(wait, running)
        .await
        .map_err(|_| failed(format!("did not end within {} s", wait.as_secs())))?
        .map_err(|error| failed(format!("failed: {error}")))?;
    if !status.success() {
        return Err(failed(format!("failed: {status}")));
    }
    let text = std::str::from_utf8(&text).map_err(|_| failed("wrote text that is not UTF-8".to_owned()))?;
    Ok(first_line(text))
}

/// A text that nobody can guess: 192 bits.
pub(crate) fn random_secret() -> Result<SecretString, String> {
    let mut bytes = Zeroizing::new([0_u8; 24]);
    let made = SystemRandom::new().fill(&mut *bytes);
    made.map_err(|_| "the system gives no random numbers".to_owned())?;
    Ok(SecretString::from(URL_SAFE_NO_PAD.encode(*bytes)))
}
