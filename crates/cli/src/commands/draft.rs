//! `webtaxon draft`: a first settings file, from what a directory shows.

use crate::arguments::Draft;
use crate::output::{Output, Tone, harmless, paint};
use crate::session::{Exit, Failure, Session, ask, create, settings_option};
use secrecy::SecretString;
use std::io::{self, IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};
use webtaxon::Error;
use webtaxon::directory::{Access, Connection, DirectoryError, DirectoryErrorKind};
use webtaxon::model::ldap::url::Server;
use webtaxon::model::settings::{
    Bind, Directory, Fingerprint, PasswordSource, References, Servers, Settings, Trust,
};
use webtaxon::secure::password;
use webtaxon::survey::{self, Draft as Drafted, DraftOptions};

/// The directory's name in the settings.
const NAME: &str = "main";

pub(crate) async fn run(options: &Draft, session: &Session<'_>) -> Result<Exit, Failure> {
    let output = session.output;
    if session.common.from.is_some() {
        return Err(Failure::wrong("draft needs a directory: a snapshot does not say how to reach one")
            .with(
                "  To do: remove --from; `webtaxon fields --from FILE` shows the attributes in a snapshot\n",
            ));
    }
    let to_stdout = options.out == Path::new("-");
    if !to_stdout && options.out.exists() {
        let file = options.out.display();
        return Err(Failure::failed(format!("{file} exists already, and nothing is overwritten"))
            .with("  To do: name another file with --out FILE, or - to see the draft\n"));
    }
    let mut directory = directory(options)?;
    let folder = std::env::current_dir().unwrap_or_default();
    let secret = password(&directory, &folder, Some(&ask)).await.map_err(DirectoryError::from)?;
    let mut connection = connect(&mut directory, &folder, secret, options, output).await?;
    // Only the server that answered goes into the file.
    if let Ok(server) = connection.server().parse::<Server>() {
        directory.servers = Servers::Named(vec![server]);
    }
    seen_from_the_file(&mut directory, &options.out, &folder);
    let accounts = &options.accounts;
    let drafted = survey::draft(&mut connection, &DraftOptions { directory: &directory, accounts }).await;
    connection.close().await;
    let draft = drafted?;
    // The draft must be valid: an error here is a bug.
    Settings::parse("the draft", draft.text.as_bytes()).map_err(Error::from)?;
    if to_stdout {
        output.answer(&draft.text);
        return Ok(Exit::Done);
    }
    create(&options.out, &draft.text, false).map_err(|error| Failure::unwritable(&options.out, error))?;
    say_what_is_there(&draft, options, session);
    Ok(Exit::Done)
}

/// Reports what was found and written, and the next step; creates an empty list of accounts if there is none.
fn say_what_is_there(draft: &Drafted, options: &Draft, session: &Session<'_>) {
    let output = session.output;
    for line in &draft.found {
        output.answer(&format!("  {}\n", harmless(line)));
    }
    let list = options.out.parent().unwrap_or(Path::new("")).join(&options.accounts);
    let header = format!("{},link,state\n", draft.fields.join(","));
    let made = !list.exists() && create(&list, &header, false).is_ok();
    output.answer(&format!("\n{} {}\n", paint(Tone::Good, "Written:"), options.out.display()));
    if made {
        output.answer(&format!(
            "{} {}, an empty list to start with: put the application's accounts there\n",
            paint(Tone::Good, "Written:"),
            list.display()
        ));
    }
    let is_usual = options.out == session.common.settings;
    let option = if is_usual { String::new() } else { settings_option(&options.out) };
    output.answer(&format!("Next: read the file, choose the groups, then webtaxon check{option}\n"));
}

/// The directory in the options; asks for the bind name if it is missing.
fn directory(options: &Draft) -> Result<Directory, Failure> {
    let wrong = |reason: &str| Failure::wrong(reason);
    // A host alone: with TLS first, then with StartTLS.
    let addresses = match options.url.contains("://") {
        true => vec![options.url.clone()],
        false => vec![format!("ldaps://{}", options.url), format!("ldap://{}", options.url)],
    };
    let servers = addresses.iter().map(|address| address.parse::<Server>()).collect::<Result<Vec<_>, _>>();
    let servers = servers.map_err(|reason| wrong(&format!("{}: {reason}", options.url)))?;
    let trust = match (&options.authority, &options.fingerprint) {
        (Some(file), _) => Trust::Authority(file.clone()),
        (None, Some(text)) => {
            let pin =
                text.parse::<Fingerprint>().map_err(|reason| wrong(&format!("--fingerprint: {reason}")))?;
            Trust::Pinned(vec![pin])
        }
        (None, None) => Trust::System,
    };
    let name = match &options.bind {
        Some(name) => name.clone(),
        None if io::stdin().is_terminal() => {
            question("Bind name (empty for anonymous)").map_err(|error| wrong(&error.to_string()))?
        }
        None => String::new(),
    };
    let password = match (&options.password_env, &options.password_file) {
        (Some(variable), _) => PasswordSource::Env(variable.clone()),
        (None, Some(file)) => PasswordSource::File(file.clone()),
        (None, None) => PasswordSource::Ask,
    };
    let bind = match name.is_empty() {
        true => Bind::Anonymous,
        false => Bind::Simple { name, password: Some(password) },
    };
    let mut directory = Directory::new(NAME, Servers::Named(servers));
    directory.trust = trust;
    directory.bind = bind;
    // A draft is about the tree that these servers hold.
    directory.references = References::Ignore;
    Ok(directory)
}

/// Connects; an unknown certificate is shown, and trusted once the user has verified it.
async fn connect(
    directory: &mut Directory,
    folder: &Path,
    secret: Option<SecretString>,
    options: &Draft,
    output: &Output,
) -> Result<Connection, DirectoryError> {
    loop {
        let access = Access::new(directory, folder, secret.clone());
        let error = match access.open_first(&access.servers().await?).await {
            Ok(connection) => return Ok(connection),
            Err(error) => error,
        };
        let Some(pin) = unknown(&error) else { return Err(error) };
        if !io::stdin().is_terminal() || options.fingerprint.is_some() || options.authority.is_some() {
            output.aside("  For draft: --authority FILE names the authority's certificate, --fingerprint sha256:… trusts this one\n");
            return Err(error);
        }
        output.error(&error);
        let sure =
            question("Is this the fingerprint that was read out to you at the server? Type yes to trust it");
        if sure.is_ok_and(|sure| sure.trim().eq_ignore_ascii_case("yes")) {
            directory.trust = Trust::Pinned(vec![pin]);
        } else {
            return Err(error);
        }
    }
}

/// The fingerprint of a certificate that was refused only because its issuer is unknown.
fn unknown(error: &DirectoryError) -> Option<Fingerprint> {
    match error.kind() {
        DirectoryErrorKind::Certificate(refused) => Some(refused.certificate()?.fingerprint),
        DirectoryErrorKind::AllFailed { failed } => failed.iter().find_map(unknown),
        _ => None,
    }
}

/// Paths in the options are relative to the working directory; in the settings, to the file's folder.
fn seen_from_the_file(directory: &mut Directory, out: &Path, here: &Path) {
    let elsewhere = out.parent().is_some_and(|parent| !parent.as_os_str().is_empty());
    if !elsewhere {
        return;
    }
    let absolute = |file: &PathBuf| here.join(file);
    if let Trust::Authority(file) = &mut directory.trust {
        *file = absolute(file);
    }
    if let Bind::Simple { password: Some(PasswordSource::File(file)), .. } = &mut directory.bind {
        *file = absolute(file);
    }
}

/// Asks a question on the terminal.
fn question(text: &str) -> io::Result<String> {
    let mut stderr = io::stderr().lock();
    write!(stderr, "{text}: ")?;
    stderr.flush()?;
    let mut answer = String::new();
    io::stdin().read_line(&mut answer)?;
    Ok(answer.trim().to_owned())
}
