//! `webtaxon code`: what a message means, from the chapter in the guide.

/// Every code with its chapter; the same file is part of the guide.
const CHAPTERS: &str = include_str!("../../../docs/messages.md");

/// The chapter of one code, without its heading's signs.
pub(crate) fn chapter(code: &str) -> Option<String> {
    let heading = format!("## {}", code.to_ascii_uppercase());
    let start = CHAPTERS.find(&format!("{heading} "))?;
    let chapter = CHAPTERS.get(start..)?;
    let end = chapter.get(3..)?.find("\n## ").map_or(chapter.len(), |at| at + 3);
    Some(format!("{}\n", chapter.get(3..end)?.trim_end()))
}
