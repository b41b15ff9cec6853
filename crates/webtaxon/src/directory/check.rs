//! Is everything in order? Each step that a run needs, tried one after the other.
//!
//! A step that fails stops what depends on it, which is then skipped; the rest goes on.

use super::connection::Connection;
use super::search::{Found, Query};
use super::{DirectoryError, password};
use crate::Workspace;
use miette::Diagnostic;
use serde::Serialize;
use std::time::Instant;
use webtaxon_core::filter::Filter;
use webtaxon_core::name::{self, Dn};
use webtaxon_core::reading::ServerKind;
use webtaxon_core::settings::{Intake, Scheme};
use webtaxon_wire::message::Scope;

/// How a step ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// As it should be.
    Good,
    /// It works, but the administrator should know something.
    Warning,
    /// A run cannot work like this.
    Bad,
    /// Not tried, since something before it failed.
    Skipped,
}

/// One step of a check.
#[derive(Clone, Debug, Serialize)]
pub struct CheckStep {
    /// Which step: `password`, `connect`, `bind`, `base`, `filter`, `group`, `accounts`.
    pub name: &'static str,
    /// How it ended.
    pub outcome: Outcome,
    /// What was found.
    pub message: String,
    /// What to do next; empty where nothing is to be done.
    pub remedy: String,
    /// How long it took, in milliseconds.
    pub milliseconds: u64,
}

/// What a step found: how it ended, in words, and what to do next.
type Finding = (Outcome, String, String);

fn good(message: impl Into<String>) -> Finding {
    (Outcome::Good, message.into(), String::new())
}

fn bad(error: &(impl Diagnostic + ?Sized)) -> Finding {
    (Outcome::Bad, error.to_string(), error.help().map(|help| help.to_string()).unwrap_or_default())
}

/// Runs the steps and reports each as it ends.
struct Steps<F> {
    report: F,
    steps: Vec<CheckStep>,
}

impl<F: FnMut(&CheckStep)> Steps<F> {
    fn end(&mut self, name: &'static str, began: Instant, (outcome, message, remedy): Finding) {
        let milliseconds = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
        let step = CheckStep { name, outcome, message, remedy, milliseconds };
        (self.report)(&step);
        self.steps.push(step);
    }

    fn skip(&mut self, name: &'static str, why: &str) {
        self.end(name, Instant::now(), (Outcome::Skipped, format!("not tried: {why}"), String::new()));
    }
}

/// Tries everything that a run needs.
pub async fn check(workspace: &Workspace, report: impl FnMut(&CheckStep)) -> Vec<CheckStep> {
    let mut steps = Steps { report, steps: Vec::new() };
    let intake = &workspace.settings().intake;
    match connect(workspace, &mut steps).await {
        Some(mut connection) => {
            let readable = bases(&mut connection, intake, &mut steps).await;
            if readable {
                filter(&mut connection, intake, &mut steps).await;
            } else {
                steps.skip("filter", "no base can be read");
            }
            groups(&mut connection, intake, &mut steps).await;
            connection.close().await;
        }
        None => {
            for name in ["base", "filter", "group"] {
                steps.skip(name, "there is no connection");
            }
        }
    }
    let began = Instant::now();
    let store = workspace.store();
    let fields: Vec<&str> = intake.fields.keys().map(String::as_str).collect();
    let finding = match store.accounts(&fields).await {
        Err(error) => bad(&error),
        Ok(accounts) => {
            let linked = accounts.iter().filter(|account| account.link.is_some()).count();
            good(format!("{}: {} accounts, {linked} of them linked", store.describe(), accounts.len()))
        }
    };
    steps.end("accounts", began, finding);
    steps.steps
}

/// Password, connection and bind; none if one of them fails.
async fn connect<F: FnMut(&CheckStep)>(workspace: &Workspace, steps: &mut Steps<F>) -> Option<Connection> {
    let began = Instant::now();
    let directory = match workspace.directory() {
        Ok(directory) => directory,
        Err(error) => {
            steps.end("connect", began, bad(&error));
            return None;
        }
    };
    let secret = match (password(directory, workspace.folder()), &directory.bind) {
        (Ok(secret), bind) => {
            if bind.is_some() {
                steps.end("password", began, good("found"));
            }
            Some(secret)
        }
        (Err(error), _) => {
            steps.end("password", began, bad(&error));
            None
        }
    };
    let began = Instant::now();
    let opened = Connection::open(directory, workspace.folder()).await;
    let mut connection = match opened {
        Ok(connection) => connection,
        Err(error) => {
            steps.end("connect", began, bad(&error));
            steps.skip("bind", "there is no connection");
            return None;
        }
    };
    let kind = match connection.root().kind {
        ServerKind::Controller => "a domain controller",
        _ => "an LDAP server",
    };
    let vendor = connection.root().vendor.as_ref().map(|vendor| format!(" ({vendor})")).unwrap_or_default();
    let answered = format!("{} answers, {kind}{vendor}", connection.server());
    let plain = directory
        .servers
        .iter()
        .any(|server| server.scheme == Scheme::Ldap && server.to_string() == connection.server());
    let finding = if plain {
        let remedy = "anybody on the way can read the password: use ldaps:// outside of tests";
        (Outcome::Warning, format!("{answered}, in plain text"), remedy.to_owned())
    } else {
        good(format!("{answered}; its certificate is trusted"))
    };
    steps.end("connect", began, finding);
    let Some(secret) = secret else {
        steps.skip("bind", "there is no password");
        return None;
    };
    let began = Instant::now();
    match connection.bind(directory, secret.as_ref()).await {
        Ok(()) => {
            let finding = match &directory.bind {
                Some(name) => good(format!("accepted as {name}")),
                None => good("anonymous, as the settings say"),
            };
            steps.end("bind", began, finding);
            Some(connection)
        }
        Err(error) => {
            steps.end("bind", began, bad(&error));
            None
        }
    }
}

async fn bases<F: FnMut(&CheckStep)>(
    connection: &mut Connection,
    intake: &Intake,
    steps: &mut Steps<F>,
) -> bool {
    let mut readable = true;
    for base in &intake.bases {
        let began = Instant::now();
        let finding = match one(connection, base, &["1.1"]).await {
            Ok(Some(_)) => good(format!("{base} is there")),
            Ok(None) => (
                Outcome::Bad,
                format!("{base}: the server shows nothing"),
                "the bind account may not read it: ask the directory's administrators for read access"
                    .to_owned(),
            ),
            Err(error) => bad(&error),
        };
        readable &= finding.0 != Outcome::Bad;
        steps.end("base", began, finding);
    }
    readable
}

/// The entry at `dn` with some of its attributes.
async fn one(connection: &mut Connection, dn: &Dn, wanted: &[&str]) -> Result<Option<Found>, DirectoryError> {
    let query = Query {
        base: dn.to_string(),
        scope: Scope::Base,
        filter: Filter::present("objectClass"),
        attributes: wanted.iter().map(|name| (*name).to_owned()).collect(),
    };
    let mut search = connection.search(query).await?;
    let mut first = None;
    while let Some(found) = search.next().await? {
        first = first.or(Some(found));
    }
    Ok(first)
}

async fn filter<F: FnMut(&CheckStep)>(connection: &mut Connection, intake: &Intake, steps: &mut Steps<F>) {
    let began = Instant::now();
    let mut count = 0_usize;
    let mut references = 0_usize;
    for base in &intake.bases {
        let query = Query {
            base: base.to_string(),
            scope: Scope::Subtree,
            filter: intake.filter.clone(),
            attributes: vec!["1.1".to_owned()],
        };
        let counted = async {
            let mut search = connection.search(query).await?;
            while let Some(found) = search.next().await? {
                match found {
                    Found::Entry(_) => count += 1,
                    Found::Reference(_) => references += 1,
                }
            }
            Ok::<_, DirectoryError>(())
        };
        if let Err(error) = counted.await {
            return steps.end("filter", began, bad(&error));
        }
    }
    let text = &intake.filter;
    let finding = match (count, references) {
        (0, _) => (
            Outcome::Warning,
            format!("{text} finds nobody"),
            "look at the spelling of attributes and values, and whether people sit under these bases"
                .to_owned(),
        ),
        (_, 1..) => (
            Outcome::Warning,
            format!(
                "{text} finds {count} entries, and {references} references to other servers that are not followed"
            ),
            "choose bases that one server keeps: with a part left out, nobody's account is taken away"
                .to_owned(),
        ),
        _ => good(format!("{text} finds {count} entries")),
    };
    steps.end("filter", began, finding);
}

async fn groups<F: FnMut(&CheckStep)>(connection: &mut Connection, intake: &Intake, steps: &mut Steps<F>) {
    for (key, group) in intake
        .groups
        .iter()
        .map(|dn| ("groups", dn))
        .chain(intake.not_in_group.iter().map(|dn| ("not_in_group", dn)))
    {
        let began = Instant::now();
        let shown = name::short(&group.to_string());
        let finding = match one(connection, group, &["member", "uniqueMember"]).await {
            Err(error) => bad(&error),
            Ok(Some(Found::Entry(entry))) => {
                let direct: usize = entry.attributes.iter().map(|attribute| attribute.values.len()).sum();
                let members = if direct == 1 { "member" } else { "members" };
                if direct == 0 {
                    let remedy = format!("nobody comes through it; `{key}` may mean another group");
                    (Outcome::Warning, format!("{shown} has no members"), remedy)
                } else {
                    good(format!("{shown} ({key}) has {direct} direct {members}"))
                }
            }
            Ok(_) => (
                Outcome::Bad,
                format!("{shown}: the server shows nothing of it"),
                "the bind account may not read it: ask the directory's administrators for read access"
                    .to_owned(),
            ),
        };
        steps.end("group", began, finding);
    }
}
