//! The only place that prints. Answers go to standard output, remarks to standard error. Directory values are escaped
//! before they reach a terminal.

use crate::arguments::Color;
use crate::progress::Progress;
use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use miette::{Diagnostic, GraphicalReportHandler, GraphicalTheme};
use std::io::{self, IsTerminal as _, Write as _};
use std::sync::atomic::{AtomicBool, Ordering};
use webtaxon::model::ldap::name::Pasted;
pub(crate) use webtaxon::report::harmless;

/// Maximum line width if the terminal's is unknown.
const WIDTH: usize = 100;

pub(crate) struct Output {
    choice: ColorChoice,
    pub(crate) progress: Progress,
    begun: AtomicBool,
}

/// The meaning of a word, for its colour. The word is clear without it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Tone {
    Heading,
    Good,
    Warning,
    Bad,
    Quiet,
}

impl Output {
    pub(crate) fn new(color: Color) -> Self {
        let choice = match color {
            Color::Auto => ColorChoice::Auto,
            Color::Always => ColorChoice::AlwaysAnsi,
            Color::Never => ColorChoice::Never,
        };
        Self { choice, progress: Progress::default(), begun: AtomicBool::new(false) }
    }

    /// From here on something is being changed, and is finished before the program ends.
    pub(crate) fn begin(&self) {
        self.begun.store(true, Ordering::Relaxed);
    }

    pub(crate) fn has_begun(&self) -> bool {
        self.begun.load(Ordering::Relaxed)
    }

    /// Writes an answer. A closed pipe is not an error.
    pub(crate) fn answer(&self, text: &str) {
        self.progress.clear();
        let mut stream = AutoStream::new(io::stdout().lock(), self.choice);
        let _ = stream.write_all(text.as_bytes());
        let _ = stream.flush();
    }

    /// Writes a remark beside the answer.
    pub(crate) fn aside(&self, text: &str) {
        self.progress.clear();
        let mut stream = AutoStream::new(io::stderr().lock(), self.choice);
        let _ = stream.write_all(text.as_bytes());
    }

    pub(crate) fn warning(&self, text: &str) {
        self.aside(&format!("{} {}\n", paint(Tone::Warning, "warning:"), harmless(text)));
    }

    /// Reports how a non-standard name was understood.
    pub(crate) fn pasted(&self, name: &Pasted) {
        if !name.remarks.is_empty() {
            self.aside(&harmless(&format!("read as {}: {}\n", name.dn, name.remarks.join("; "))));
        }
    }

    pub(crate) fn error_text(&self, text: &str) {
        self.aside(&format!("{} {}\n", paint(Tone::Bad, "error:"), harmless(text)));
    }

    /// Writes an error with its position and remedy.
    pub(crate) fn error(&self, error: &dyn Diagnostic) {
        let colored = match self.choice {
            ColorChoice::Never => false,
            ColorChoice::Always | ColorChoice::AlwaysAnsi => true,
            ColorChoice::Auto => io::stderr().is_terminal() && std::env::var_os("NO_COLOR").is_none(),
        };
        let theme = if colored { GraphicalTheme::unicode() } else { GraphicalTheme::unicode_nocolor() };
        let handler =
            GraphicalReportHandler::new_themed(theme).with_width(width().min(WIDTH)).with_links(false);
        let mut text = String::new();
        if handler.render_report(&mut text, error).is_err() {
            text = format!("{error}\n");
        }
        // The report's own colours are kept; text from a file or a server is escaped.
        self.aside(&harmless_report(&text));
    }
}

/// The maximum line width.
pub(crate) fn width() -> usize {
    let columns = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    let terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    columns.or(terminal).unwrap_or(WIDTH).clamp(40, 160)
}

pub(crate) fn paint(tone: Tone, text: &str) -> String {
    let style = match tone {
        Tone::Heading => Style::new().bold(),
        Tone::Good => AnsiColor::Green.on_default(),
        Tone::Warning => AnsiColor::Yellow.on_default(),
        Tone::Bad => AnsiColor::Red.on_default().bold(),
        Tone::Quiet => Style::new().dimmed(),
    };
    format!("{style}{text}{style:#}")
}

/// Like [`harmless`], but keeps line breaks and the report's own colours.
fn harmless_report(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(character) = rest.chars().next() {
        let sgr = rest.strip_prefix("\u{1b}[").and_then(|tail| {
            let end = tail.find(|digit: char| !digit.is_ascii_digit() && digit != ';')?;
            (tail.get(end..=end) == Some("m")).then_some(end + 3)
        });
        let taken = sgr.unwrap_or(character.len_utf8());
        let piece = rest.get(..taken).unwrap_or("");
        if sgr.is_some() || character == '\n' {
            shown.push_str(piece);
        } else {
            shown.push_str(&harmless(piece));
        }
        rest = rest.get(taken..).unwrap_or("");
    }
    shown
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terminal_escapes_and_overrides_are_shown_not_obeyed() {
        for (text, shown) in [
            ("Ada\u{1b}[2J", "Ada\\u{1b}[2J"),
            ("a\u{202e}b", "a\\u{202e}b"),
            ("line\nbreak\u{7}", "line\\u{a}break\\u{7}"),
            ("نورا 林 ä", "نورا 林 ä"),
        ] {
            assert_eq!(harmless(text), shown);
        }
        assert_eq!(
            harmless_report("\u{1b}[31mred\u{1b}[0m\n\u{1b}[2Jx"),
            "\u{1b}[31mred\u{1b}[0m\n\\u{1b}[2Jx"
        );
    }
}
