//! Text for `members --since`: members gained and lost since a snapshot was taken.

use super::parts::{columns, heading, lines, some};
use crate::output::{Tone, harmless, paint};
use std::fmt::Write as _;
use webtaxon::model::graph::GroupDifference;
use webtaxon::model::membership::{Difference, Member, Nest};
use webtaxon::model::reading::Reading;
use webtaxon::model::words::counted;
use webtaxon::report::words::short;

/// The differences between a nest and its earlier state.
pub(crate) fn since(
    nest: &Nest<'_>,
    [then, now]: [&Reading; 2],
    difference: &Difference,
    width: usize,
    option: &str,
) -> String {
    let mut text = format!("{}\n", paint(Tone::Heading, &harmless(nest.group())));
    let taken = then.source().at.strftime("%Y-%m-%d at %H:%M UTC");
    let Difference { came, went, groups } = difference;
    let people = counted(nest.people().len(), "person is a member", "people are members");
    let _ = writeln!(text, "Since {taken}: {} joined, {} left. {people} now.", came.len(), went.len());
    for (reading, when) in [(then, "The snapshot"), (now, "The directory")] {
        let gaps = reading.gaps().iter().map(|gap| harmless(&gap.to_string()));
        let title = format!("{when} was not read to its end, so members may be missing:");
        some(&mut text, width, &title, gaps);
    }
    people_of(&mut text, "Joined", came, "through", width);
    people_of(&mut text, "Left", went, "was a member through", width);
    if !groups.is_empty() {
        heading(&mut text, &format!("Groups that differ ({})", groups.len()));
        let mut table = columns(width, &[Some(28), None]);
        for one in groups {
            table.add_row([short(&one.group), what(one)]);
        }
        text.push_str(&lines(&table));
    }
    let same = if came.is_empty() && went.is_empty() && groups.is_empty() { "No differences. " } else { "" };
    let _ = writeln!(text, "\n{same}Next: webtaxon members{option} shows all members.");
    text
}

fn people_of(text: &mut String, title: &str, people: &[Member], how: &str, width: usize) {
    if people.is_empty() {
        return;
    }
    heading(text, &format!("{title} ({})", people.len()));
    let mut table = columns(width, &[Some(28), None]);
    for member in people {
        table.add_row([harmless(&member.name), format!("{how} {}", member.path.told(short).join(" > "))]);
    }
    text.push_str(&lines(&table));
}

/// The differences in one group's own list.
fn what(group: &GroupDifference) -> String {
    let names = |title: &str, list: &[String]| {
        let names: Vec<String> = list.iter().map(|dn| short(dn)).collect();
        (!list.is_empty()).then(|| format!("{title}: {}", names.join(", ")))
    };
    let whole = match (group.was_there, group.is_there) {
        (false, true) => Some("new among the nested groups".to_owned()),
        (true, false) => Some("no longer among the nested groups".to_owned()),
        _ => None,
    };
    let parts = [whole, names("joined", &group.came), names("left", &group.went)];
    parts.into_iter().flatten().collect::<Vec<_>>().join("\n")
}
