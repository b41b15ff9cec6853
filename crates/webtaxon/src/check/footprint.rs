//! What is seen today beside what the last apply remembers: a reading like that of a preview, held against it.

use super::steps::{Finding, Steps, good, warning};
use crate::setup::Setup;
use std::time::Instant;
use webtaxon_core::reading::{Fall, Footprint, Reading};
use webtaxon_core::words::counted;

/// Compares each intake with what the last apply remembers of it; no step where nothing is remembered, or nothing can
/// be read, as other steps tell.
pub(super) async fn as_before(setup: &Setup, steps: &mut Steps<'_>) {
    let began = Instant::now();
    let Ok(memory) = setup.memory().await else { return };
    if memory.footprints.is_empty() {
        return;
    }
    let Ok(found) = setup.find(&[], &memory).await else { return };
    for (intake, reading) in setup.settings.intakes.iter().zip(&found.readings) {
        steps.intake = (!setup.settings.intakes.is_single()).then(|| intake.name.clone());
        if let Some((now, before)) = reading.footprint().zip(reading.footprint_before()) {
            let falls: Vec<Fall<'_>> = now.falls(before);
            let far = falls
                .iter()
                .filter(|fall| fall.is_to_nothing() || fall.is_beyond(setup.settings.brakes.shrunk));
            let far: Vec<String> = far.map(Fall::in_words).chain(now.views(before)).collect();
            steps.end("footprint", began, compared(reading, now, before, &far));
        }
    }
    steps.intake = None;
}

fn compared(reading: &Reading, now: &Footprint, before: &Footprint, far: &[String]) -> Finding {
    let people = |footprint: &Footprint| usize::try_from(footprint.all_people()).unwrap_or(usize::MAX);
    let seen = format!(
        "{} seen, {} at the last apply; {} and {} compared",
        counted(people(now), "person", "people"),
        people(before),
        counted(now.groups.len(), "group", "groups"),
        counted(now.attributes.len(), "attribute", "attributes"),
    );
    if !far.is_empty() {
        let remedy = "find out whether the bind account may still see them; `webtaxon preview` shows what stays as it is because of it";
        return warning(format!("{seen}; {}", far.join("; ")), remedy);
    }
    match reading.gaps().first() {
        None => good(seen),
        Some(gap) => warning(format!("{seen}; not whole: {gap}"), "`webtaxon preview` shows what is missing"),
    }
}
