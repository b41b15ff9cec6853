//! The commands, one file each, and the choice of the one to run.

mod apply;
mod browse;
mod check;
mod code;
mod compare;
mod demo;
mod draft;
mod fields;
mod filter;
mod journal;
mod members;
mod preview;
mod settle;
mod sign_in;
mod snapshot;
mod standin;
mod why;

use crate::arguments::{Arguments, Command};
use crate::output::Output;
use crate::session::{Exit, Failure, Session, until_interrupted};

/// Runs the command; Ctrl-C ends it, unless something is being changed.
pub(crate) async fn run(arguments: Arguments) -> Exit {
    let output = Output::new(arguments.common.color);
    let session = Session { common: &arguments.common, output: &output };
    // These commands handle Ctrl-C themselves.
    let goes_on = matches!(arguments.command, Command::Demo(_) | Command::Standin(_));
    let command = async {
        dispatch(&arguments.command, &session).await.unwrap_or_else(|failure| failure.show(&output))
    };
    if goes_on {
        return command.await;
    }
    tokio::pin!(command);
    tokio::select! {
        biased;
        exit = &mut command => exit,
        () = until_interrupted() => {
            if output.has_begun() {
                output.aside("What was started is finished first.\n");
                return command.await;
            }
            let read = output.progress.in_words();
            output.aside(&format!("Stopped{read}. Nothing was changed.\n"));
            Exit::Failed
        }
    }
}

async fn dispatch(command: &Command, session: &Session<'_>) -> Result<Exit, Failure> {
    match command {
        Command::Demo(options) => demo::run(options, session).await,
        Command::Check(options) => check::run(options.wait, options.scratch.as_deref(), session).await,
        Command::Draft(options) => draft::run(options, session).await,
        Command::Browse(options) => browse::run(options, session).await,
        Command::Fields(options) => fields::run(options, session).await,
        Command::Filter(options) => filter::run(options, session).await,
        Command::Members(options) => members::run(options, session).await,
        Command::Preview(options) => preview::run(options, session).await,
        Command::Compare(options) => compare::run(options, session).await,
        Command::Why(options) => why::run(&options.person, session).await,
        Command::Settle => settle::run(session).await,
        Command::Apply(options) => apply::run(options, session).await,
        Command::Journal(options) => journal::run(options, session).await,
        Command::SignIn(options) => sign_in::run(options, session).await,
        Command::Snapshot(options) => snapshot::run(options, session).await,
        Command::Standin(options) => standin::run(options, session).await,
        Command::Code { code } => code::run(code, session),
    }
}
