//! `webtaxon sign-in`: can this person get in, and what would they be; and the record of earlier tries.

use crate::arguments::SignIn;
use crate::session::{Exit, Failure, Session, who};
use crate::text;
use jiff::Timestamp;
use secrecy::{ExposeSecret as _, SecretString};
use std::io::{self, Read as _};
use std::path::Path;
use webtaxon::report;
use webtaxon::sign_in::{AuditLine, SignIns};

/// Maximum bytes of a file with a password.
const MOST: u64 = 1 << 16;

pub(crate) async fn run(options: &SignIn, session: &Session<'_>) -> Result<Exit, Failure> {
    if options.audit {
        return audit(options, session);
    }
    let Some(name) = options.name.as_deref() else {
        return Err(Failure::wrong("whose sign-in is to be tried? Type: webtaxon sign-in NAME"));
    };
    if session.common.from.is_some() {
        return Err(Failure::wrong("a snapshot cannot judge a password: leave out --from"));
    }
    let password = match (&options.password_file, options.without_password) {
        (_, true) => None,
        (Some(file), false) => Some(from_file(file)?),
        (None, false) => Some(asked(session, name).await?),
    };
    examine(name, password.as_ref(), session).await
}

/// Goes through a sign-in, and shows it.
pub(crate) async fn examine(
    name: &str,
    password: Option<&SecretString>,
    session: &Session<'_>,
) -> Result<Exit, Failure> {
    let workspace = session.open()?;
    let from = format!("webtaxon sign-in by {}", who());
    let examination = SignIns::open(&workspace).await?.examine(name, password, &from).await?;
    let tried = (name, password.is_some());
    session.answer(
        |width| {
            let option = session.same_options();
            text::examination(&examination, workspace.settings(), tried, width, &option)
        },
        || report::examination(&examination),
    );
    Ok(match (&examination.refusal, examination.is_unknown) {
        (Some(_), _) => Exit::Refused,
        (None, true) => Exit::Failed,
        (None, false) => Exit::Done,
    })
}

/// Asks for the password on the terminal, on a thread of its own, so that Ctrl-C ends the question.
async fn asked(session: &Session<'_>, name: &str) -> Result<SecretString, Failure> {
    let question = format!("Password of {name}");
    let asked = tokio::task::spawn_blocking(move || crate::session::ask(&question)).await;
    let failed = |reason: String| {
        let option = session.same_options();
        Failure::failed(format!("the password cannot be asked for: {reason}")).with(format!(
            "  To do: webtaxon sign-in NAME{option} --password-file - reads it from standard input, --without-password goes without\n"
        ))
    };
    match asked {
        Ok(Ok(password)) => Ok(password),
        Ok(Err(error)) => Err(failed(error.to_string())),
        Err(error) => Err(failed(error.to_string())),
    }
}

/// The first line of a file, or of standard input.
fn from_file(file: &Path) -> Result<SecretString, Failure> {
    let mut text = zeroize::Zeroizing::new(String::new());
    let read = match file == Path::new("-") {
        true => io::stdin().take(MOST).read_to_string(&mut text),
        false => std::fs::File::open(file).and_then(|file| file.take(MOST).read_to_string(&mut text)),
    };
    read.map_err(|error| {
        Failure::failed(format!("{}: the password cannot be read: {error}", file.display()))
    })?;
    let password = SecretString::from(text.lines().next().unwrap_or_default());
    match password.expose_secret().is_empty() {
        true => Err(Failure::failed(format!("{}: the password is empty", file.display()))),
        false => Ok(password),
    }
}

/// The record of tries.
fn audit(options: &SignIn, session: &Session<'_>) -> Result<Exit, Failure> {
    let workspace = session.open()?;
    let since = options.since.map(|time| time.since(Timestamp::now()));
    let is_meant = |line: &AuditLine| {
        let is_since = since.is_none_or(|since| line.at >= since);
        let is = |text: &str, wanted: &str| text.to_lowercase().contains(&wanted.to_lowercase());
        let is_of = options.of.as_deref().is_none_or(|of| {
            let texts = [Some(&line.name), line.dn.as_ref(), line.account.as_ref()];
            texts.into_iter().flatten().any(|text| is(text, of))
        });
        is_since && is_of
    };
    let mut tries = Vec::new();
    let bad = workspace.recorded_sign_ins(|line| tries.extend(is_meant(&line).then_some(line)))?;
    session.answer(
        |width| text::audit(&tries, bad, &workspace.audit_file(), width),
        || report::audit(&tries, bad),
    );
    Ok(Exit::Done)
}
