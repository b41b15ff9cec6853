//! `webtaxon draft`: a first settings file, from what a directory shows.

use crate::arguments::{Common, Draft};
use crate::output::{Output, Tone, harmless, paint};
use crate::run::{Exit, ask, create, failed, settings_option};
use secrecy::SecretString;
use std::io::{self, IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};
use std::time::Duration;
use webtaxon::Error;
use webtaxon::core::settings::{
    Bind, Directory, Fingerprint, PasswordSource, References, Server, Servers, Settings, Trust,
};
use webtaxon::directory::survey::{self, DraftOptions};
use webtaxon::directory::{Access, Connection, DirectoryError, DirectoryErrorKind, password};

/// The directory's name in the settings.
const NAME: &str = "main";

pub(crate) async fn run(options: &Draft, common: &Common, output: &Output) -> Exit {
    if common.from.is_some() {
        output.error_text("draft asks a directory: a snapshot does not say how one is reached");
        output.aside(
            "  To do: leave --from out; `webtaxon fields --from FILE` shows what people have in a snapshot\n",
        );
        return Exit::Wrong;
    }
    let to_stdout = options.out == Path::new("-");
    if !to_stdout && options.out.exists() {
        let file = options.out.display();
        output.error_text(&format!("{file} exists already, and nothing is overwritten"));
        output.aside("  To do: name another file with --out FILE, or - to see the draft\n");
        return Exit::Failed;
    }
    let mut directory = match directory(options, output) {
        Ok(directory) => directory,
        Err(exit) => return exit,
    };
    let folder = std::env::current_dir().unwrap_or_default();
    let secret = match password(&directory, &folder, Some(&ask)).await {
        Ok(secret) => secret,
        Err(error) => return failed(&error.into(), output),
    };
    let mut connection = match connect(&mut directory, &folder, secret, options, output).await {
        Ok(connection) => connection,
        Err(error) => return failed(&error.into(), output),
    };
    // Only the server that answered goes into the file.
    if let Ok(server) = Server::parse(connection.server()) {
        directory.servers = Servers::Named(vec![server]);
    }
    seen_from_the_file(&mut directory, &options.out, &folder);
    let accounts = &options.accounts;
    let drafted = survey::draft(&mut connection, &DraftOptions { directory: &directory, accounts }).await;
    connection.close().await;
    let draft = match drafted {
        Ok(draft) => draft,
        Err(error) => return failed(&Error::from(error), output),
    };
    // What is handed over must be sound: a fault here is this program's own.
    if let Err(error) = Settings::parse("the draft", draft.text.as_bytes()) {
        return failed(&Error::Settings(error), output);
    }
    if to_stdout {
        output.answer(&draft.text);
        return Exit::Done;
    }
    if let Err(error) = create(&options.out, &draft.text, false) {
        output.error_text(&format!("{} cannot be written: {error}", options.out.display()));
        return Exit::Failed;
    }
    for line in &draft.found {
        output.answer(&format!("  {}\n", harmless(line)));
    }
    let list = options.out.parent().unwrap_or(Path::new("")).join(accounts);
    let header = format!("{},link,state\n", draft.fields.join(","));
    let made = !list.exists() && create(&list, &header, false).is_ok();
    output.answer(&format!("\n{} {}\n", paint(Tone::Good, "Written:"), options.out.display()));
    if made {
        output.answer(&format!(
            "{} {}, an empty list to begin with: put the application's accounts there\n",
            paint(Tone::Good, "Written:"),
            list.display()
        ));
    }
    let option = if options.out == common.settings { String::new() } else { settings_option(&options.out) };
    output.answer(&format!("Next: read the file, choose the groups, then webtaxon check{option}\n"));
    Exit::Done
}

/// The directory as the options name it; asks for the bind name if nobody gave it.
fn directory(options: &Draft, output: &Output) -> Result<Directory, Exit> {
    let wrong = |reason: &str| {
        output.error_text(reason);
        Exit::Wrong
    };
    // A host alone: with TLS, then with StartTLS.
    let addresses = match options.url.contains("://") {
        true => vec![options.url.clone()],
        false => vec![format!("ldaps://{}", options.url), format!("ldap://{}", options.url)],
    };
    let servers: Result<Vec<Server>, String> =
        addresses.iter().map(|address| Server::parse(address)).collect();
    let servers = servers.map_err(|reason| wrong(&format!("{}: {reason}", options.url)))?;
    let trust = match (&options.authority, &options.fingerprint) {
        (Some(file), _) => Trust::Authority(file.clone()),
        (None, Some(text)) => {
            let pin =
                Fingerprint::parse(text).map_err(|reason| wrong(&format!("--fingerprint: {reason}")))?;
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
    Ok(Directory {
        name: NAME.to_owned(),
        servers: Servers::Named(servers),
        trust,
        certificate: None,
        bind,
        references: References::Ignore,
        page: 500,
        connect_timeout: Duration::from_secs(10),
        timeout: Duration::from_secs(30),
        deadline: Duration::from_secs(600),
        plain: false,
    })
}

/// Connects; a certificate that nobody here knows is shown, and trusted if somebody at the terminal
/// has verified it.
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
            question("Is this fingerprint what somebody at the server has read to you? Type yes to trust it");
        if sure.is_ok_and(|sure| sure.trim().eq_ignore_ascii_case("yes")) {
            directory.trust = Trust::Pinned(vec![pin]);
        } else {
            return Err(error);
        }
    }
}

/// The fingerprint of a certificate that was refused only since nobody here knows who signed it.
fn unknown(error: &DirectoryError) -> Option<Fingerprint> {
    match error.kind() {
        DirectoryErrorKind::Certificate(refused) => Some(refused.certificate()?.fingerprint),
        DirectoryErrorKind::AllFailed { failed } => failed.iter().find_map(unknown),
        _ => None,
    }
}

/// Paths were given as seen from here; the settings see them from their own folder.
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

/// Asks at the terminal.
fn question(text: &str) -> io::Result<String> {
    let mut stderr = io::stderr().lock();
    write!(stderr, "{text}: ")?;
    stderr.flush()?;
    let mut answer = String::new();
    io::stdin().read_line(&mut answer)?;
    Ok(answer.trim().to_owned())
}
