//! The command `webtaxon`: arguments in, text out, nothing else.

mod apply;
mod arguments;
mod code;
mod demo;
mod draft;
mod filter;
mod members;
mod output;
mod preview;
mod progress;
mod run;
mod survey;
mod text;
mod wanted;

use clap::Parser as _;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments = arguments::Arguments::parse();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    match runtime {
        Ok(runtime) => {
            let exit = runtime.block_on(run::run(arguments));
            // A question that nobody answers any more does not hold the end up.
            runtime.shutdown_background();
            exit
        }
        Err(error) => {
            output::Output::new(arguments.common.color)
                .error_text(&format!("the program cannot start: {error}"));
            ExitCode::FAILURE
        }
    }
}
