//! `webtaxon why`: why one person is selected or not, and what would happen.

use crate::output::harmless;
use crate::session::{Exit, Failure, Session};
use crate::text;
use webtaxon::{Named, report};

/// Maximum names listed if several people match.
const LISTED: usize = 20;

pub(crate) async fn run(person: &str, session: &Session<'_>) -> Result<Exit, Failure> {
    let workspace = session.open()?;
    let why = match workspace.why(person).await? {
        Named::One(why) => why,
        Named::Several(names) => {
            let list: String =
                names.iter().take(LISTED).map(|name| format!("  {}\n", harmless(name))).collect();
            let count = names.len();
            let reason = format!("\"{person}\" may be any of {count}; give one of them in full:");
            return Err(Failure::failed(reason).with(list));
        }
        Named::Nothing => {
            let reason = format!("nobody in the directory or the application is called \"{person}\"");
            let option = session.same_options();
            return Err(Failure::failed(reason).with(format!(
                "  To do: webtaxon browse{option} --find PART searches for a part of a name, login or mail\n"
            )));
        }
    };
    session.answer(
        |width| text::why(&why, workspace.settings(), width, &session.same_options()),
        || report::why(&why),
    );
    Ok(Exit::by_whole(why.whole))
}
