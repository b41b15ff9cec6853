//! The command `webtaxon`: arguments in, text out, nothing else.

mod arguments;
mod commands;
mod output;
mod progress;
mod session;
mod text;
mod values;
mod wanted;

use clap::Parser as _;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments = arguments::Arguments::parse();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    match runtime {
        Ok(runtime) => {
            let exit = runtime.block_on(commands::run(arguments));
            // An unanswered prompt must not delay the exit.
            runtime.shutdown_background();
            exit.into()
        }
        Err(error) => {
            output::Output::new(arguments.common.color)
                .error_text(&format!("the program cannot start: {error}"));
            ExitCode::FAILURE
        }
    }
}
