//! The last steps: a reading like that of a preview, to its end, and what it shows beside what the last apply remembers.

use super::steps::{Finding, Steps, bad, good, warning};
use crate::setup::Setup;
use std::time::Instant;
use webtaxon_core::preview::{HeldReason, Preview};
use webtaxon_core::reading::{Fall, Footprint, Reading};
use webtaxon_core::words::counted;

/// Reads each intake; no step where nothing can be read, as other steps tell.
pub(super) async fn read(setup: &Setup, steps: &mut Steps<'_>) {
    let began = Instant::now();
    let Ok(memory) = setup.memory().await else { return };
    let Ok(mut found) = setup.find(&[], &memory).await else { return };
    for (intake, reading) in setup.settings.intakes.iter().zip(&found.readings) {
        steps.intake = (!setup.settings.intakes.is_single()).then(|| intake.name.clone());
        steps.end("reading", began, to_its_end(reading));
        if let Some((now, before)) = reading.footprint().zip(reading.footprint_before()) {
            let falls: Vec<Fall<'_>> = now.falls(before);
            let shrunk = setup.settings.brakes.shrunk;
            let far = falls.iter().filter(|fall| fall.is_to_nothing() || fall.is_beyond(shrunk));
            let far: Vec<String> = far.map(Fall::in_words).chain(now.views(before)).collect();
            steps.end("footprint", began, compared(now, before, &far));
        }
    }
    steps.intake = None;
    let whose = &setup.settings.accounts.whose;
    let store = setup.store();
    let preview = match found.preview(&setup.settings, &memory, &*store).await {
        Ok(preview) => preview,
        Err(error) => {
            steps.end("values", began, bad(&error));
            return;
        }
    };
    if store.judges_values() {
        steps.end("values", began, values(&preview));
    }
    if !whose.is_empty() {
        for word in &preview.idle_words {
            let remedy = "`webtaxon settle` offers the lines that work; remove the ones that do not";
            steps.end("whose", began, warning(word.message(), remedy));
        }
        let applied = whose.len().saturating_sub(preview.idle_words.len());
        if applied > 0 {
            steps.end("whose", began, good(counted(applied, "entry applies", "entries apply")));
        }
    }
}

/// Whether the store has room for every value that the directory has today.
fn values(preview: &Preview) -> Finding {
    let new = preview.held.iter().filter(|held| held.reason == HeldReason::Unfit);
    let new = new.filter_map(|held| Some(format!("{}: {}", held.login, held.about.as_ref()?)));
    let open = preview.open_fields.iter().filter(|open| open.is_unfit);
    let open = open.map(|open| format!("{}: {} {}", open.login, open.field, open.why));
    let all: Vec<String> = new.chain(open).collect();
    let Some(first) = all.first() else {
        return good("the application has room for every value that it would get today");
    };
    let more = all.len() - 1;
    let more = if more == 0 { String::new() } else { format!(", and {more} more") };
    let people = counted(all.len(), "value does", "values do");
    warning(
        format!("{people} not fit: {first}{more}"),
        "widen the column, or shorten the values by a rule: `map`, `before`, `cut_suffix`, or another attribute; a preview lists them all",
    )
}

fn to_its_end(reading: &Reading) -> Finding {
    let people = counted(reading.people().len(), "person", "people");
    let groups = counted(reading.graph().groups(), "group", "groups");
    let mut gaps = reading.gaps().iter().filter(|gap| !gap.is_fall);
    if let Some(first) = gaps.next() {
        let more = gaps.count();
        let more = if more > 0 { format!("; and {more} more") } else { String::new() };
        let remedy =
            "nobody is suspended or removed on such a reading: `webtaxon preview` lists all that is missing";
        return warning(format!("not read to the end: {first}{more}"), remedy);
    }
    match reading.doubts().first() {
        Some(doubt) => warning(
            doubt,
            "write the condition with an attribute and a comparison that the server has rules for",
        ),
        None => good(format!("{people} and {groups} read to the end")),
    }
}

fn compared(now: &Footprint, before: &Footprint, far: &[String]) -> Finding {
    let people = |footprint: &Footprint| usize::try_from(footprint.all_people()).unwrap_or(usize::MAX);
    let seen = format!(
        "{} seen, {} at the last apply; {} and {} compared",
        counted(people(now), "person", "people"),
        people(before),
        counted(now.groups.len(), "group", "groups"),
        counted(now.attributes.len(), "attribute", "attributes"),
    );
    if far.is_empty() {
        return good(seen);
    }
    let remedy = "find out whether the bind account may still see them; `webtaxon preview` shows what stays as it is because of it";
    warning(format!("{seen}; {}", far.join("; ")), remedy)
}
