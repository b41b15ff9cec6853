//! `webtaxon code`: what a message means, from the chapter in the guide.

use crate::session::{Exit, Failure, Session};

/// Every code with its chapter; the same file is part of the guide.
const CHAPTERS: &str = include_str!("../../../../docs/messages.md");

pub(crate) fn run(code: &str, session: &Session<'_>) -> Result<Exit, Failure> {
    let chapter = chapter(code)
        .ok_or_else(|| Failure::wrong(format!("there is no message {code}; codes look like WX0307")))?;
    session.output.answer(&chapter);
    Ok(Exit::Done)
}

/// The chapter of one code, without its heading.
fn chapter(code: &str) -> Option<String> {
    let heading = format!("## {}", code.to_ascii_uppercase());
    let start = CHAPTERS.find(&format!("{heading} "))?;
    let chapter = CHAPTERS.get(start..)?;
    let end = chapter.get(3..)?.find("\n## ").map_or(chapter.len(), |at| at + 3);
    Some(format!("{}\n", chapter.get(3..end)?.trim_end()))
}
