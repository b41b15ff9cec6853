//! Text for `check`: the steps, and the result.

use super::parts::{columns, lines};
use crate::output::{Tone, harmless, paint};
use std::fmt::Write as _;
use webtaxon::check::{CheckStep, StepOutcome};
use webtaxon::model::words::counted;

/// One step, with its remedy below it if it has one.
pub(crate) fn step(step: &CheckStep, width: usize) -> String {
    let (tone, word) = match step.outcome {
        StepOutcome::Good => (Tone::Good, "good"),
        StepOutcome::Warning => (Tone::Warning, "warning"),
        StepOutcome::Bad => (Tone::Bad, "bad"),
        StepOutcome::Skipped => (Tone::Quiet, "skipped"),
    };
    let time = if step.milliseconds > 0 { format!("{} ms", step.milliseconds) } else { String::new() };
    let remedy =
        if step.remedy.is_empty() { String::new() } else { format!("\nTo do: {}", harmless(&step.remedy)) };
    let mut table = columns(width, &[Some(8), Some(9), None, Some(8)]);
    let message = format!("{}{remedy}", harmless(&step.message));
    table.add_row([word.to_owned(), step.name.to_owned(), message, format!("{time:>8}")]);
    let text = lines(&table);
    // Only the word is coloured, so that the columns keep their widths.
    text.replacen(word, &paint(tone, word), 1)
}

/// The result of a check, and the next command.
pub(crate) fn checked(steps: &[CheckStep], settings: &str) -> String {
    let count = |outcome| steps.iter().filter(|step| step.outcome == outcome).count();
    let (bad, warnings) = (count(StepOutcome::Bad), count(StepOutcome::Warning));
    let mut text = String::from("\n");
    if bad > 0 {
        let _ = writeln!(
            text,
            "{}",
            paint(Tone::Bad, &format!("{} not in order.", counted(bad, "step is", "steps are")))
        );
        let _ = writeln!(text, "Next: follow the remedies above, then type the same command again.");
    } else {
        let with = if warnings > 0 {
            format!(", with {}", counted(warnings, "warning", "warnings"))
        } else {
            String::new()
        };
        let _ = writeln!(text, "{}", paint(Tone::Good, &format!("Everything is in order{with}.")));
        let _ = writeln!(text, "Next: webtaxon preview{settings}");
        let _ = writeln!(text, "      webtaxon sign-in NAME{settings} tries whether somebody can get in");
    }
    text
}
