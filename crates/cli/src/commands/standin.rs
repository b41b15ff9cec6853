//! `webtaxon standin`: the simulated directory, with an optional simulated application.

use crate::arguments::Standin as Options;
use crate::output::Output;
use crate::session::{Exit, Failure, Session, until_interrupted};
use miette::Diagnostic as _;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use webtaxon::model::ldap::ldif;
use webtaxon_standin::{
    Application, ApplicationOptions, Directory, List, Options as StandinOptions, Standin,
};

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    let output = session.output;
    let directory = Arc::new(directory(options)?);
    let application = match &options.application {
        None => None,
        Some(file) => Some(application(file, options.application_listen).await?),
    };
    let settings = StandinOptions {
        listen: options.listen,
        tls: !options.plain,
        size_limit: options.size_limit,
        anonymous: options.anonymous,
        hidden: options.hidden.clone(),
        hidden_below: options.hidden_below.clone(),
        moments: moments(options, &directory)?,
        fault: options.fault,
        ..StandinOptions::default()
    };
    let count = directory.len();
    let standin =
        Standin::start(directory, settings).await.map_err(|error| Failure::told(Exit::Failed, error))?;
    if let Some(file) = &options.authority {
        std::fs::write(file, standin.authority_pem()).map_err(|error| {
            let file = file.display();
            Failure::failed(format!("the authority's certificate cannot be written to {file}: {error}"))
        })?;
    }
    output
        .answer(&format!("The simulated directory holds {count} entries and answers at {}\n", standin.url()));
    say_what_runs(options, application.as_ref(), output);
    output.answer("It stops with Ctrl-C.\n");
    until_interrupted().await;
    output.answer("Stopped.\n");
    Ok(Exit::Done)
}

/// The directory of the LDIF file, after the changes of the others.
fn directory(options: &Options) -> Result<Directory, Failure> {
    let first = from_file(&options.ldif, |text| Ok(Directory::of(&ldif::entries(text)?, options.manner)))?;
    options.changes.iter().try_fold(first, |directory, file| from_file(file, |text| directory.changed(text)))
}

/// The later states of the directory, each with the number of searches before it.
fn moments(options: &Options, first: &Arc<Directory>) -> Result<Vec<(u64, Arc<Directory>)>, Failure> {
    let mut later: Vec<_> = options.later.iter().collect();
    later.sort_by_key(|(_, searches)| *searches);
    let mut latest = Arc::clone(first);
    let moments = later.into_iter().map(|(file, searches)| {
        latest = Arc::new(from_file(file, |text| latest.changed(text))?);
        Ok((*searches, Arc::clone(&latest)))
    });
    moments.collect()
}

/// The result of reading an LDIF file.
fn from_file<T>(file: &Path, read: impl FnOnce(&[u8]) -> Result<T, ldif::LdifError>) -> Result<T, Failure> {
    let name = file.display();
    let text = std::fs::read(file)
        .map_err(|error| Failure::failed(format!("the LDIF file {name} cannot be read: {error}")))?;
    read(&text).map_err(|error| {
        let help = error.help().map(|help| format!("  To do: {help}\n")).unwrap_or_default();
        Failure::failed(format!("{name}, {error}")).with(help)
    })
}

fn say_what_runs(options: &Options, application: Option<&Application>, output: &Output) {
    match &options.authority {
        Some(file) => output.answer(&format!("Its certificate's authority: {}\n", file.display())),
        None if !options.plain => output
            .warning("a client needs the authority's certificate to trust this server: add --authority FILE"),
        None => {}
    }
    if let Some(application) = application {
        output.answer(&format!(
            "The simulated application holds {} users and answers at {}\n",
            application.list().users().len(),
            application.url()
        ));
    }
}

/// Starts a simulated application with the accounts of a file.
async fn application(file: &Path, listen: SocketAddr) -> Result<Application, Failure> {
    let name = file.display();
    let text = std::fs::read_to_string(file)
        .map_err(|error| Failure::failed(format!("the accounts file {name} cannot be read: {error}")))?;
    let list = List::from_csv(&text, false).map_err(|error| Failure::failed(format!("{name}: {error}")))?;
    let options = ApplicationOptions { listen, ..ApplicationOptions::default() };
    Application::start(list, options).await.map_err(|error| Failure::failed(error.to_string()))
}
