//! `webtaxon demo`: the whole job on the museum's made-up data, with nothing installed.
//!
//! The files are those of `demo/` in the repository, compiled in, so that an installed binary can do this anywhere.

use super::{check, preview, sign_in};
use crate::arguments::{Common, Demo, Preview as PreviewOptions};
use crate::output::{Tone, paint};
use crate::session::{Exit, Failure, Session, create, until_interrupted};
use secrecy::SecretString;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use webtaxon_standin::{Application, ApplicationOptions, Directory, List, Options, Standin, StandinError};

const DIRECTORY: &str = include_str!("../../../../demo/directory.ldif");
const SETTINGS: &str = include_str!("../../../../demo/webtaxon.toml");
const GROUPS_TOO: &str = include_str!("../../../../demo/application-groups.toml");
const PROPOSED: &str = include_str!("../../../../demo/proposed.toml");
const ACCOUNTS: &str = include_str!("../../../../demo/accounts.csv");
const GROUPS: &str = include_str!("../../../../demo/groups.csv");
const PASSWORD: &str = include_str!("../../../../demo/museum-password.txt");
const README: &str = include_str!("../../../../demo/README.md");

/// The port in the settings; if it is taken, another is written into them.
const PORT: u16 = 6360;

/// The sign-ins that are shown, each with a remark.
const SIGN_INS: [(&str, &str); 2] =
    [("aibbotson", "  # her password is right"), ("dhawksworth", "  # and so is his")];

/// The port of the simulated application.
const APPLICATION_PORT: u16 = 6370;

/// The lines of the settings that locate the accounts, and their replacement for the simulated application.
const IN_A_FILE: &str = "store     = \"csv\"\npath      = \"accounts.csv\"";
const AT_A_SERVICE: &str = "store      = \"scim\"\nservice    = \"http://127.0.0.1:6370/scim/v2\"\nplain      = true                                # on this machine alone\nattributes = { room = \"urn:quillmere:loans:2.0:User:room\" }";

/// The folder of the files; a temporary one is deleted at the end.
enum Folder {
    Kept(PathBuf),
    Temporary(tempfile::TempDir),
}

impl Folder {
    fn path(&self) -> &Path {
        match self {
            Folder::Kept(path) => path,
            Folder::Temporary(folder) => folder.path(),
        }
    }
}

pub(crate) async fn run(options: &Demo, session: &Session<'_>) -> Result<Exit, Failure> {
    let standin = start().await.map_err(|error| Failure::told(Exit::Failed, error))?;
    let application = start_application().await.map_err(|error| Failure::told(Exit::Failed, error))?;
    let folder = write(options, &standin, &application).map_err(Failure::failed)?;
    let settings = folder.path().join("webtaxon.toml");
    let common = Common { settings: settings.clone(), ..session.common.clone() };
    let session = &Session { common: &common, output: session.output };
    let is_text = session.is_text();
    let say = |words: &str| {
        if is_text {
            session.output.answer(words);
        }
    };
    let headline = |words: &str| say(&format!("{}\n\n", paint(Tone::Heading, words)));

    headline("The Quillmere Museum fills its Loans Desk from the museum's directory. All data are invented.");
    say(&format!(
        "A simulated directory runs at {}; the files are in {}\n\n",
        standin.url(),
        folder.path().display()
    ));
    let command = |name: &str| format!("$ webtaxon {name} --settings {}", settings.display());
    if is_text {
        headline(&command("check"));
        let exit = check::run(Duration::ZERO, None, session).await?;
        if exit != Exit::Done {
            return Ok(exit);
        }
        say("\n");
        headline(&command("preview"));
    }
    let exit = preview::run(&PreviewOptions::default(), session).await?;
    if exit != Exit::Done {
        return Ok(exit);
    }
    sign_ins(&settings, session).await?;
    say(&format!("\n{}\n", paint(Tone::Heading, "What now?")));
    if options.stay {
        say(&format!(
            "The simulated directory keeps running. In another terminal, change {0} and type\n  webtaxon preview --settings {0}\nA simulated application keeps running, too: the same accounts behind a SCIM service, {1}:\n  webtaxon preview --settings {2}\nCtrl-C here stops both.\n",
            settings.display(),
            application.url(),
            folder.path().join("webtaxon-scim.toml").display(),
        ));
        until_interrupted().await;
        say("Stopped.\n");
        return Ok(Exit::Done);
    }
    match &folder {
        Folder::Kept(path) => say(&format!(
            "The files stay in {0}; {0}/README.md describes them. To try them, start the directory again:\n  webtaxon standin --ldif {0}/directory.ldif --listen {1} --authority {0}/museum-ca.pem --application {0}/accounts.csv\nand in another terminal:\n  webtaxon preview --settings {0}/webtaxon.toml\n",
            path.display(),
            standin.address()
        )),
        Folder::Temporary(_) => say(
            "The simulated directory has stopped, and the files are gone. To change them and look again:\n  webtaxon demo --keep museum --stay\n",
        ),
    }
    Ok(Exit::Done)
}

/// Shows a sign-in that works, and one that does not.
async fn sign_ins(settings: &Path, session: &Session<'_>) -> Result<(), Failure> {
    for (name, words) in SIGN_INS.into_iter().filter(|_| session.is_text()) {
        let command = format!("$ webtaxon sign-in {name} --settings {} {words}", settings.display());
        session.output.answer(&format!("\n{}\n\n", paint(Tone::Heading, &command)));
        let password = SecretString::from(format!("heron-{name}"));
        sign_in::examine(name, Some(&password), session).await?;
    }
    Ok(())
}

/// Starts the simulated directory on the settings' port, or on a free one.
async fn start() -> Result<Standin, StandinError> {
    // The file is compiled in, and a test reads it.
    let directory =
        Arc::new(Directory::from_ldif(DIRECTORY.as_bytes()).unwrap_or_else(|error| panic!("{error}")));
    let at = |port| Options { listen: SocketAddr::from(([127, 0, 0, 1], port)), ..Options::default() };
    match Standin::start(Arc::clone(&directory), at(PORT)).await {
        Ok(standin) => Ok(standin),
        Err(_) => Standin::start(directory, at(0)).await,
    }
}

/// Starts the simulated application in the same way.
async fn start_application() -> Result<Application, StandinError> {
    let mut list = List::from_csv(ACCOUNTS, false).unwrap_or_else(|error| panic!("{error}"));
    list.add_groups(GROUPS).unwrap_or_else(|error| panic!("{error}"));
    let at = |port| {
        let listen = SocketAddr::from(([127, 0, 0, 1], port));
        ApplicationOptions { listen, ..ApplicationOptions::default() }
    };
    match Application::start(list.clone(), at(APPLICATION_PORT)).await {
        Ok(application) => Ok(application),
        Err(_) => Application::start(list, at(0)).await,
    }
}

/// Writes the demo's files, with the ports in use.
fn write(options: &Demo, standin: &Standin, application: &Application) -> Result<Folder, String> {
    let folder = match &options.keep {
        Some(path) => {
            std::fs::create_dir_all(path)
                .map_err(|error| format!("the folder {} cannot be created: {error}", path.display()))?;
            Folder::Kept(path.clone())
        }
        None => {
            let made = tempfile::Builder::new().prefix("webtaxon-demo-").tempdir();
            Folder::Temporary(made.map_err(|error| format!("no temporary folder can be created: {error}"))?)
        }
    };
    let port = standin.address().port();
    let [settings, proposed] = [SETTINGS, PROPOSED]
        .map(|text| text.replace(&format!("localhost:{PORT}"), &format!("localhost:{port}")));
    let service =
        AT_A_SERVICE.replace(&APPLICATION_PORT.to_string(), &application.address().port().to_string());
    let at_a_service = settings.replace(IN_A_FILE, &service);
    let with_groups = format!("{settings}{GROUPS_TOO}");
    let files = [
        ("README.md", README, false),
        ("directory.ldif", DIRECTORY, false),
        ("webtaxon.toml", settings.as_str(), false),
        ("webtaxon-scim.toml", at_a_service.as_str(), false),
        ("webtaxon-groups.toml", with_groups.as_str(), false),
        ("proposed.toml", proposed.as_str(), false),
        ("accounts.csv", ACCOUNTS, false),
        ("groups.csv", GROUPS, false),
        ("museum-password.txt", PASSWORD, true),
        ("museum-ca.pem", standin.authority_pem(), false),
    ];
    // All or nothing: check before writing the first.
    if let Some((name, ..)) = files.iter().find(|(name, ..)| folder.path().join(name).exists()) {
        let file = folder.path().join(name);
        return Err(format!(
            "{} exists already, and nothing is overwritten; name another folder",
            file.display()
        ));
    }
    for (name, text, secret) in files {
        let file = folder.path().join(name);
        create(&file, text, secret)
            .map_err(|error| format!("{} cannot be written: {error}", file.display()))?;
    }
    Ok(folder)
}
